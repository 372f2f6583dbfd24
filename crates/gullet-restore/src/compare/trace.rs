//! One path, or one part, through all runs.

use std::collections::HashMap;

use gullet_store::listing::{Difference, Entry, ListingReader, PathName, compare as compare_listings};
use gullet_store::{ChunkReader, Store, StoreError};
use jiff::Timestamp;
use serde::Serialize;

use super::{ChangeKind, CompareError, wanted};
use gullet_logbook::logbook::Logged;
use gullet_model::outcome::Outcome;
use gullet_model::record::Capture;

/// A path or a part in one run.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct TracedRun {
    /// The id of the run.
    pub run: String,
    /// The name of the application.
    pub app: String,
    /// When the run began.
    pub started: Timestamp,
    /// The run's outcome.
    pub outcome: Outcome,
    /// The name of the part that has the path.
    pub part: String,
    /// What of it: its path, where a path is traced.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub entry: Option<Entry>,
    /// How it differs from the run before that has the part; `None` where it is the same.
    pub what: Option<ChangeKind>,
    /// Bytes: of the file, or of the whole part.
    pub bytes: u64,
    /// Files of the part.
    pub files: u64,
}

/// In which runs a path was captured, oldest first, with what became of it. A run that has the part and not the path counts
/// as one in which it is gone, where it was there before. Runs whose captures were removed, or that are encrypted to others,
/// are passed over.
///
/// # Errors
/// When a listing cannot be read.
pub fn trace_path(
    runs: &[(&Logged, &Store)],
    path: &PathName,
    only: &[String],
) -> Result<Vec<TracedRun>, CompareError> {
    let mut found = Vec::new();
    let mut last: HashMap<(String, String), Option<Entry>> = HashMap::new();
    for (logged, store) in readable(runs) {
        let (mut chunks, _) = store.chunks_that_can_be_read(&logged.holdings());
        for capture in wanted(logged, only) {
            let Some(listing) = capture.listing.filter(|_| capture.is_captured()) else { continue };
            let entry = ListingReader::new(&mut chunks)
                .find(&listing.root, path)
                .map_err(CompareError::listing(&logged.record.run, &capture.part))?;
            let before = last.entry((logged.record.app.clone(), capture.part.clone())).or_default();
            let what = match (&*before, &entry) {
                (None, None) => continue,
                (None, Some(_)) => Some(ChangeKind::Added),
                (Some(_), None) => Some(ChangeKind::Gone),
                (Some(one), Some(other)) if !one.same_contents(other) => Some(ChangeKind::Changed),
                (Some(one), Some(other)) if one != other => Some(ChangeKind::Touched),
                (Some(_), Some(_)) => None,
            };
            *before = entry.clone();
            let bytes = entry.as_ref().map_or(0, |entry| entry.size);
            found.push(TracedRun { entry, what, bytes, ..of_part(logged, capture) });
        }
    }
    Ok(found)
}

/// In which runs a part was captured, oldest first, and whether it differs from the run before.
///
/// # Errors
/// When a listing cannot be read.
pub fn trace_part(runs: &[(&Logged, &Store)], part: &str) -> Result<Vec<TracedRun>, CompareError> {
    let mut found = Vec::new();
    let mut last: HashMap<String, (gullet_store::Hash, ChunkReader)> = HashMap::new();
    for (logged, store) in readable(runs) {
        for capture in logged.record.captures.iter().filter(|capture| capture.part == part && capture.is_captured()) {
            let Some(root) = capture.listing.map(|listing| listing.root) else { continue };
            let (mut chunks, _) = store.chunks_that_can_be_read(&logged.holdings());
            let what = match last.get_mut(&logged.record.app) {
                None => Some(ChangeKind::Added),
                Some((before, _)) if *before == root => None,
                Some((before, of_before)) => {
                    let mut what = ChangeKind::Touched;
                    let compared = compare_listings((of_before, before), (&mut chunks, &root), |difference| {
                        let same = matches!(&difference, Difference::Changed(one, other) if one.same_contents(other));
                        if same {
                            return Ok(());
                        }
                        what = ChangeKind::Changed;
                        // One is enough.
                        Err(StoreError::Seal(String::new()))
                    });
                    if what == ChangeKind::Touched {
                        compared.map_err(CompareError::listing(&logged.record.run, part))?;
                    }
                    Some(what)
                }
            };
            last.insert(logged.record.app.clone(), (root, chunks));
            found.push(TracedRun { what, ..of_part(logged, capture) });
        }
    }
    Ok(found)
}

pub(super) fn readable<'r>(runs: &[(&'r Logged, &'r Store)]) -> impl Iterator<Item = (&'r Logged, &'r Store)> {
    let open = runs.iter().filter(|(logged, _)| logged.in_store && !logged.is_thinned() && !logged.is_locked);
    open.copied().collect::<Vec<_>>().into_iter()
}

pub(super) fn of_part(logged: &Logged, capture: &Capture) -> TracedRun {
    TracedRun {
        run: logged.record.run.to_string(),
        app: logged.record.app.clone(),
        started: logged.record.started,
        outcome: logged.outcome(),
        part: capture.part.clone(),
        entry: None,
        what: None,
        bytes: capture.counts.bytes,
        files: capture.counts.files,
    }
}
