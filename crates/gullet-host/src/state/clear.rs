//! Documents in clear that lie encrypted in a store: this machine wrote them, and looks them up in its own logbook.

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

    /// What was kept in clear.
    pub fn clear(&self, store: &str, hash: &Hash) -> Option<Vec<u8>> {
        fs::read(self.clear_path(store, hash)).ok()
    }
}
