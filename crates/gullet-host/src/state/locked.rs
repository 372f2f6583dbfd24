//! Until when what a store has at a place is locked there, as far as this machine locked it. What is not noted is only locked once more.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use gullet_store::Hash;
use jiff::Timestamp;

use super::{State, StateError, private_folder, write_whole};

/// Until when objects of a store are locked at a place.
#[derive(Debug)]
pub struct LockedObjects {
    path: PathBuf,
    until: BTreeMap<String, Timestamp>,
}

impl State {
    /// What is known of the locks of a store at a place.
    pub fn locked_objects(&self, store: &str, place: &str) -> LockedObjects {
        let file = format!("{}.json", Hash::of(place.as_bytes()));
        let path = self.folder.join("stores").join(store).join("locked").join(file);
        let until = noted(&path);
        LockedObjects { path, until }
    }
}

/// What a file says. One that cannot be read says nothing, and everything is locked once more.
fn noted(path: &Path) -> BTreeMap<String, Timestamp> {
    fs::read(path).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok()).unwrap_or_default()
}

impl LockedObjects {
    /// Whether an object is known to be locked until then.
    pub fn is_locked_until(&self, name: &str, at: Timestamp) -> bool {
        self.until.get(name).is_some_and(|until| *until >= at)
    }

    /// Takes note of a lock.
    pub fn note(&mut self, name: &str, until: Timestamp) {
        self.until.insert(name.to_owned(), until);
    }

    /// Writes down what is known; locks that have ended are forgotten.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn write(mut self, now: Timestamp) -> Result<(), StateError> {
        // Other applications' runs may have noted theirs meanwhile.
        for (name, until) in noted(&self.path) {
            let known = self.until.entry(name).or_insert(until);
            *known = until.max(*known);
        }
        self.until.retain(|_, until| *until > now);
        self.path.parent().map_or(Ok(()), private_folder)?;
        Ok(write_whole(&self.path, serde_json::to_string(&self.until).unwrap_or_default().as_bytes())?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_two_runs_note_at_the_same_time_is_kept_and_what_has_ended_is_not() {
        let folder = tempfile::tempdir().unwrap();
        let at = |second| Timestamp::from_second(second).unwrap();
        let path = folder.path().join("locked/far.json");
        let known = || LockedObjects { path: path.clone(), until: noted(&path) };
        let (mut one, mut other) = (known(), known());
        one.note("store.json", at(90));
        one.note("records/one", at(50));
        other.note("store.json", at(80));
        other.note("records/other", at(60));
        one.write(at(10)).unwrap();
        other.write(at(10)).unwrap();
        let both = known();
        assert!(both.is_locked_until("store.json", at(90)) && !both.is_locked_until("store.json", at(91)));
        assert!(both.is_locked_until("records/one", at(50)) && both.is_locked_until("records/other", at(60)));
        both.write(at(55)).unwrap();
        assert!(!known().is_locked_until("records/one", at(1)), "it has ended");
        fs::write(&path, "{").unwrap();
        assert!(!known().is_locked_until("store.json", at(1)), "what cannot be read says nothing");
    }
}
