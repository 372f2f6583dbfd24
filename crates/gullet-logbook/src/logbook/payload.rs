//! The payload that runs wrote and stand on.

use std::collections::BTreeMap;

use gullet_store::PayloadFile;

use super::{Logbook, Logged};

/// The payload that runs stand on whose captures were not removed, with its lengths.
pub(crate) fn payload_needed<'b>(runs: impl Iterator<Item = &'b Logged>) -> BTreeMap<String, u64> {
    let mut needed = BTreeMap::new();
    for logged in runs.filter(|logged| !logged.is_thinned()) {
        needed.extend(logged.holdings().files().map(|(name, length)| (name.to_owned(), length)));
    }
    needed
}

impl Logbook {
    /// The payload that those of its runs stand on which are meant.
    pub(crate) fn payload_needed(&self, is_meant: impl Fn(&Logged) -> bool) -> BTreeMap<String, u64> {
        payload_needed(self.runs.iter().filter(|logged| is_meant(logged)))
    }

    /// Every payload file that records and remarks speak of as written, with the run that does.
    pub(crate) fn payload_written(&self) -> impl Iterator<Item = (&PayloadFile, &Logged)> {
        self.runs.iter().flat_map(|logged| {
            let moved = logged.remarks.iter().flat_map(|remark| &remark.moved).map(|moved| &moved.to);
            logged.record.holdings.wrote.iter().chain(moved).map(move |file| (file, logged))
        })
    }

    /// The same by name.
    pub(crate) fn payload_files(&self) -> BTreeMap<&str, &PayloadFile> {
        self.payload_written().map(|(file, _)| (file.name.as_str(), file)).collect()
    }
}
