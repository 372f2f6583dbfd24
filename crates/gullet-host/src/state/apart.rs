//! Private folders for what a command makes beside the runs, which go with it.

use std::fs::{self, File};
use std::path::{Path, PathBuf};

use gullet_store::IoPath;
use rustix::fs::{FlockOperation, flock};

use super::{State, StateError, private_folder};
use gullet_model::ids::{Random, random_id};

/// A folder that is removed when it is dropped. It is locked for as long as it is used, so that what a command left that was
/// killed can be told from what is in use.
#[derive(Debug)]
pub struct ApartFolder {
    path: PathBuf,
    _lock: File,
}

impl ApartFolder {
    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }
}

impl Drop for ApartFolder {
    fn drop(&mut self) {
        // What cannot be removed now is removed by the next one.
        let _ = fs::remove_dir_all(&self.path);
    }
}

impl State {
    /// A new private folder for a command. Those that dead commands left are removed first.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn place_apart(&self, random: &dyn Random) -> Result<ApartFolder, StateError> {
        let above = self.place(&["apart"])?;
        // One command at a time looks for what dead ones left: a folder that was just made is not locked yet.
        let _alone = self.named_lock("apart", FlockOperation::LockExclusive)?;
        for entry in fs::read_dir(&above).at(&above)?.flatten() {
            let path = entry.path();
            if File::open(&path).is_ok_and(|file| flock(&file, FlockOperation::NonBlockingLockExclusive).is_ok()) {
                let _ = fs::remove_dir_all(&path);
            }
        }
        let path = above.join(random_id(random, 12));
        private_folder(&path)?;
        let lock = File::open(&path).at(&path)?;
        flock(&lock, FlockOperation::NonBlockingLockExclusive).map_err(std::io::Error::from).at(&path)?;
        Ok(ApartFolder { path, _lock: lock })
    }
}
