//! Until when what a store has at a place is locked there, as far as this machine locked it. What is not noted is only locked once more.

use std::collections::BTreeMap;
use std::fs;
use std::path::PathBuf;

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
        // A file that cannot be read says nothing, and everything is locked once more.
        let until = fs::read(&path).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok()).unwrap_or_default();
        LockedObjects { path, until }
    }
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
        self.until.retain(|_, until| *until > now);
        self.path.parent().map_or(Ok(()), private_folder)?;
        Ok(write_whole(&self.path, serde_json::to_string(&self.until).unwrap_or_default().as_bytes())?)
    }
}
