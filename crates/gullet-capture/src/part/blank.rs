//! A capture of which nothing is known yet.

use jiff::Timestamp;

use crate::plan::PlannedPart;
use gullet_model::record::{Capture, Counts, Layout};

/// The capture of a part before anything was captured.
pub(crate) fn blank(part: &PlannedPart, layout: Layout, started: Timestamp) -> Capture {
    let spec = &part.spec;
    Capture {
        part: part.name.clone(),
        each_of: part.each_of.clone(),
        each: part.values.clone(),
        kind: part.source.kind(),
        required: spec.required,
        problem: None,
        started,
        when: spec.when.unwrap_or_default(),
        secured: None,
        took_ms: 0,
        layout,
        roots: Vec::new(),
        listing: None,
        counts: Counts::default(),
        facts: Default::default(),
        omits: spec.omits.clone(),
        after_restore: spec.after_restore.clone(),
        users: Vec::new(),
        groups: Vec::new(),
        outside: None,
        warnings: Vec::new(),
        left_out: Vec::new(),
        unreadable: 0,
    }
}

/// A capture of which nothing is known but what the definition of its part says, for tests.
#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "a test that cannot go on should panic")]
pub(crate) fn blank_of(toml: &str, started: Timestamp) -> Capture {
    let spec: gullet_model::definition::Part = toml::from_str(&format!("name = \"bookings\"\n{toml}")).unwrap();
    blank(&PlannedPart::of(spec).unwrap(), Layout::Source, started)
}
