//! What a capture must have, compared with what it asks for and with the last good run.

use crate::definition::Part;
use crate::record::Capture;

/// What is wrong with a capture: failures and warnings.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct Judgement {
    pub(super) failures: Vec<String>,
    pub(super) warnings: Vec<String>,
}

/// A fact of a capture as a number; `bytes` and `files` are facts of every capture.
fn number(capture: &Capture, fact: &str) -> Option<f64> {
    match capture.facts.get(fact) {
        Some(value) => value.as_f64().or_else(|| value.as_str()?.trim().parse().ok()),
        None if fact == "bytes" => Some(capture.counts.bytes as f64),
        None if fact == "files" => Some(capture.counts.files as f64),
        None => None,
    }
}

/// Judges `capture` by the part's `least` and `shrinks`.
pub(super) fn judge(spec: &Part, capture: &Capture, last: Option<&Capture>) -> Judgement {
    let mut judgement = Judgement::default();
    for (fact, least) in &spec.least {
        match number(capture, fact) {
            None => judgement.failures.push(format!("there is no number `{fact}` to compare with `least`")),
            Some(value) if value < *least => {
                judgement.failures.push(format!("`{fact}` is {value}, and at least {least} is wanted"));
            }
            Some(_) => {}
        }
    }
    for (fact, share) in &spec.shrinks {
        let Some(before) = last.and_then(|last| number(last, fact)) else { continue };
        let Some(now) = number(capture, fact) else {
            judgement.warnings.push(format!("there is no number `{fact}` any more; it was {before}"));
            continue;
        };
        if now < before * (1.0 - share.0 / 100.0) {
            judgement.warnings.push(format!("`{fact}` fell from {before} to {now}, by more than {share}"));
        }
    }
    judgement
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::definition::PartKind;
    use crate::record::{Counts, Layout};

    fn capture(rows: Option<i64>, bytes: u64) -> Capture {
        Capture {
            part: "bookings".to_owned(),
            each_of: None,
            kind: PartKind::Sqlite,
            must: false,
            problem: None,
            when: Default::default(),
            secured: None,
            started: jiff::Timestamp::UNIX_EPOCH,
            took_ms: 0,
            layout: Layout::Source,
            roots: Vec::new(),
            listing: None,
            counts: Counts { bytes, ..Counts::default() },
            facts: rows.map(|rows| ("rows".to_owned(), rows.into())).into_iter().collect(),
            lacks: Vec::new(),
            after_restore: Vec::new(),
            warnings: Vec::new(),
            left_out: Vec::new(),
        }
    }

    fn part(toml: &str) -> Part {
        toml::from_str(&format!("name = \"bookings\"\n{toml}")).unwrap()
    }

    #[test]
    fn shrinking_is_a_warning_beyond_its_share_only() {
        let spec = part("shrinks = { rows = \"10%\", bytes = \"50%\" }");
        let last = capture(Some(1000), 1000);
        let warnings = |rows, bytes| judge(&spec, &capture(rows, bytes), Some(&last)).warnings.len();
        assert_eq!(warnings(Some(900), 500), 0);
        assert_eq!(warnings(Some(899), 500), 1);
        assert_eq!(warnings(Some(899), 499), 2);
        assert_eq!(warnings(Some(5000), 5000), 0);
        assert_eq!(warnings(None, 1000), 1, "a fact that is gone");
        assert_eq!(judge(&spec, &capture(Some(1), 1), None), Judgement::default());
    }

    #[test]
    fn less_than_the_least_is_a_failure_and_so_is_no_number() {
        let spec = part("least = { rows = 1 }");
        assert_eq!(judge(&spec, &capture(Some(1), 0), None), Judgement::default());
        assert_eq!(judge(&spec, &capture(Some(0), 0), None).failures.len(), 1);
        assert_eq!(judge(&spec, &capture(None, 0), None).failures.len(), 1);
    }
}
