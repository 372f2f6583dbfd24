//! The locks of the state folder: of an application, of sweeps, of what is due. The system lets go of them when a process dies.

use std::fs::{File, OpenOptions};
use std::io::{Read, Seek, Write};
use std::os::unix::fs::OpenOptionsExt;

use gullet_store::{IoPath, PathError};
use rustix::fs::FlockOperation;

use super::{State, StateError};

/// The lock of an application; let go when dropped, or when the process dies.
#[derive(Debug)]
pub struct AppLock {
    _file: File,
}

/// Runs share it, a sweep has it alone.
#[derive(Debug)]
pub struct SweepLock {
    _file: File,
}

impl State {
    /// Takes the application's lock.
    ///
    /// # Errors
    /// [`StateError::Busy`] when a living run has it.
    pub fn lock(&self, app: &str, who: &str) -> Result<AppLock, StateError> {
        let path = self.place(&["locks"])?.join(format!("{app}.lock"));
        let mut options = OpenOptions::new();
        let mut file = options.read(true).write(true).create(true).truncate(false).mode(0o600).open(&path).at(&path)?;
        match rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => {}
            Err(rustix::io::Errno::WOULDBLOCK) => {
                let mut who = String::new();
                let _ = file.read_to_string(&mut who);
                return Err(StateError::Busy { app: app.to_owned(), who: who.trim().to_owned() });
            }
            Err(errno) => return Err(PathError::new(&path, errno).into()),
        }
        file.set_len(0).at(&path)?;
        file.rewind().at(&path)?;
        file.write_all(who.as_bytes()).at(&path)?;
        Ok(AppLock { _file: file })
    }

    /// Keeps other calls that do what is due away for as long as it lives; `None` while one is going on.
    ///
    /// # Errors
    /// When the lock cannot be asked for.
    pub fn lock_due(&self) -> Result<Option<File>, StateError> {
        self.named_lock("due", FlockOperation::NonBlockingLockExclusive)
    }

    fn sweep_lock(&self, how: FlockOperation) -> Result<Option<SweepLock>, StateError> {
        Ok(self.named_lock("sweep", how)?.map(|file| SweepLock { _file: file }))
    }

    pub(super) fn named_lock(&self, name: &str, how: FlockOperation) -> Result<Option<File>, StateError> {
        let path = self.place(&["locks"])?.join(name);
        let file = OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(&path).at(&path)?;
        match rustix::fs::flock(&file, how) {
            Ok(()) => Ok(Some(file)),
            Err(rustix::io::Errno::WOULDBLOCK) => Ok(None),
            Err(errno) => Err(PathError::new(&path, errno).into()),
        }
    }

    /// Keeps sweeps away for as long as it lives; `None` while one is going on.
    ///
    /// # Errors
    /// When the lock cannot be asked for.
    pub fn keep_sweeps_away(&self) -> Result<Option<SweepLock>, StateError> {
        self.sweep_lock(FlockOperation::NonBlockingLockShared)
    }

    /// Keeps runs and other sweeps away for as long as it lives; `None` while one is going on.
    ///
    /// # Errors
    /// When the lock cannot be asked for.
    pub fn lock_for_sweep(&self) -> Result<Option<SweepLock>, StateError> {
        self.sweep_lock(FlockOperation::NonBlockingLockExclusive)
    }
}
