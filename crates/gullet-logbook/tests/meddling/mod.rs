//! A place in memory that does something of its own while it is used.

use gullet_store::{Location, Memory, NewObject, ObjectInfo, SeekRead, StoreError};

/// What is done with the name of an object before it is begun.
pub type Before = dyn Fn(&str) -> Result<(), StoreError> + Send + Sync;
/// What is done with a prefix after it was listed.
pub type After = dyn Fn(&str) + Send + Sync;

/// A place that does something before each object is begun, and after each list.
pub struct Meddling {
    pub memory: Memory,
    pub before: Box<Before>,
    pub after: Box<After>,
}

impl Location for Meddling {
    fn describe(&self) -> String {
        self.memory.describe()
    }

    fn list(&self, prefix: &str) -> Result<Vec<ObjectInfo>, StoreError> {
        let listed = self.memory.list(prefix);
        (self.after)(prefix);
        listed
    }

    fn length(&self, name: &str) -> Result<Option<u64>, StoreError> {
        self.memory.length(name)
    }

    fn open(&self, name: &str) -> Result<Box<dyn SeekRead>, StoreError> {
        self.memory.open(name)
    }

    fn create(&self, name: &str) -> Result<Box<dyn NewObject>, StoreError> {
        (self.before)(name)?;
        self.memory.create(name)
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        self.memory.remove(name)
    }

    fn free_space(&self) -> Result<Option<u64>, StoreError> {
        Ok(None)
    }
}
