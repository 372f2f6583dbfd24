//! What there is to tell, before it is known whom: one small file a run. It is written before the run's log is closed, so that a
//! run that came to its end has one, and who died before that is told by the command that writes its record.

use std::fs::{self, File};
use std::path::PathBuf;

use gullet_model::notice::Notice;
use gullet_store::IoPath;
use rustix::fs::FlockOperation;

use super::{OPEN_LOGS, State, StateError, write_whole};

/// The folder of the state folder in which everything about telling is.
const FOLDER: &str = "notify";

impl State {
    /// Notes what there is to tell of a run; of one run once.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn note_notice(&self, notice: &Notice) -> Result<(), StateError> {
        let folder = self.place(&[FOLDER, "ended"])?;
        let bytes = serde_json::to_vec(notice).unwrap_or_default();
        write_whole(&folder.join(format!("{}.json", notice.run)), &bytes)?;
        // The name is durable, too, when the run is over.
        File::open(&folder).and_then(|folder| folder.sync_all()).at(&folder)?;
        Ok(())
    }

    /// Whether there is something to tell of a run, and it was not queued yet.
    pub fn has_notice(&self, run: &str) -> bool {
        self.folder().join(FOLDER).join("ended").join(format!("{run}.json")).exists()
    }

    /// What there is to tell of runs that came to their end. A run whose log is open goes on, or died and is told by another command.
    pub fn notices(&self) -> Vec<(PathBuf, Notice)> {
        let entries = fs::read_dir(self.folder().join(FOLDER).join("ended")).into_iter().flatten().flatten();
        let paths = entries.map(|entry| entry.path()).filter(|path| path.extension().is_some_and(|e| e == "json"));
        let read = |path: PathBuf| Some((path.clone(), serde_json::from_slice(&fs::read(&path).ok()?).ok()?));
        let is_over = |notice: &Notice| {
            let log = self.folder().join("logs").join(&notice.app).join(OPEN_LOGS);
            !log.join(format!("{}.jsonl", notice.run)).exists()
        };
        let mut found: Vec<(PathBuf, Notice)> = paths.filter_map(read).filter(|(_, notice)| is_over(notice)).collect();
        found.sort_by_key(|(_, notice)| notice.ended);
        found
    }

    /// The folder of messages that wait.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn message_folder(&self) -> Result<PathBuf, StateError> {
        self.place(&[FOLDER, "queue"])
    }

    /// The file with one line for every message that was sent.
    ///
    /// # Errors
    /// When its folder cannot be made.
    pub fn sent_file(&self) -> Result<PathBuf, StateError> {
        Ok(self.place(&[FOLDER])?.join("sent.jsonl"))
    }

    /// Keeps others that send messages away for as long as it lives; `None` while one does.
    ///
    /// # Errors
    /// When the lock cannot be asked for.
    pub fn lock_notify(&self) -> Result<Option<File>, StateError> {
        self.named_lock("notify", FlockOperation::NonBlockingLockExclusive)
    }
}
