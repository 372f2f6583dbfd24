//! That something which was due came to its end, where no record says so: a small file for each trigger.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use gullet_store::Hash;

use super::{State, StateError, write_whole};

/// For so long it is known; nobody asks after a day.
const KNOWN_FOR: Duration = Duration::from_secs(30 * 24 * 3600);

impl State {
    fn ended_file(&self, subject: &str, trigger: &str) -> Result<PathBuf, StateError> {
        let name = Hash::of(format!("{subject}: {trigger}").as_bytes()).to_string();
        Ok(self.place(&["ended"])?.join(name))
    }

    /// Notes that what a trigger started has come to its end.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn note_ended(&self, subject: &str, trigger: &str) -> Result<(), StateError> {
        let path = self.ended_file(subject, trigger)?;
        write_whole(&path, format!("{subject}: {trigger}\n").as_bytes())?;
        // The time of the file that was written a moment ago is now, by the same clock as that of the others.
        let now = modified(&path).unwrap_or(SystemTime::UNIX_EPOCH);
        for entry in fs::read_dir(path.parent().unwrap_or(&path)).into_iter().flatten().flatten() {
            let age = modified(&entry.path()).and_then(|at| now.duration_since(at).ok());
            if age.is_some_and(|age| age > KNOWN_FOR) {
                let _ = fs::remove_file(entry.path());
            }
        }
        Ok(())
    }

    /// Whether what a trigger started is noted to have come to its end.
    pub fn has_ended(&self, subject: &str, trigger: &str) -> bool {
        self.ended_file(subject, trigger).is_ok_and(|path| path.exists())
    }
}

fn modified(path: &Path) -> Option<SystemTime> {
    fs::metadata(path).and_then(|metadata| metadata.modified()).ok()
}
