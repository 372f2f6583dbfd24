//! What this machine keeps of documents that it wrote: in clear those that lie encrypted in a store, and the newest record as it lies
//! there, so that a far store need not be asked for it.

use std::fs;
use std::path::PathBuf;

use gullet_store::Hash;

use super::{State, StateError, write_whole};

impl State {
    fn clear_path(&self, store: &str, hash: &Hash) -> PathBuf {
        self.folder().join("stores").join(store).join("clear").join(format!("{hash}.json"))
    }

    /// Keeps in clear what is encrypted in a store, by the hash of what lies there.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn keep_clear(&self, store: &str, hash: &Hash, bytes: &[u8]) -> Result<(), StateError> {
        self.place(&["stores", store, "clear"])?;
        Ok(write_whole(&self.clear_path(store, hash), bytes)?)
    }

    fn newest_path(&self, store: &str, app: &str) -> PathBuf {
        self.folder().join("stores").join(store).join("newest").join(format!("{app}.json"))
    }

    /// Keeps the newest record of an application as it lies in a store.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn keep_newest_record(&self, store: &str, app: &str, bytes: &[u8]) -> Result<(), StateError> {
        self.place(&["stores", store, "newest"])?;
        Ok(write_whole(&self.newest_path(store, app), bytes)?)
    }

    /// The bytes of a record that was kept. They prove nothing: whoever uses them compares them with its name.
    pub fn newest_record(&self, store: &str, app: &str) -> Option<Vec<u8>> {
        fs::read(self.newest_path(store, app)).ok()
    }

    /// What was kept in clear.
    pub fn clear(&self, store: &str, hash: &Hash) -> Option<Vec<u8>> {
        fs::read(self.clear_path(store, hash)).ok()
    }
}
