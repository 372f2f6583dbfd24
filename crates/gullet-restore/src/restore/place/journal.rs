//! The journal of a restore in place: one an application, `restores/APP.json` in the state folder, from before anything is
//! made beside the old state until what is set aside is discarded.
//!
//! Whoever finds a swap that is open and has no living owner puts the old state back first: the guard, a later command, the
//! boot entry. What lies beside stays, so that the restore can be tried again.

use std::fs::{self, File, OpenOptions};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use gullet_store::{IoPath, PathError};
use jiff::Timestamp;
use rustix::fs::FlockOperation;
use serde::{Deserialize, Serialize};

use super::busy::wait_for_users;
use super::swap::{Swap, SwapError, SwapTarget, path_of};
use crate::restore::OwnerMap;
use gullet_host::state::{private_folder, write_whole};
use gullet_host::world::Clock;

/// How far a restore in place is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum JournalStage {
    /// The new state is being written beside the old one.
    Writing,
    /// It is there, whole and proven; nothing was swapped, or the old state was put back.
    Written,
    /// The swap has begun.
    Swapping,
    /// The new state is in place, and not proven yet.
    Swapped,
    /// The old state is being put back.
    GoingBack,
    /// The new state is in place and proven; the old one is kept.
    Done,
    /// The old state was put back after the application had been started on the new one, which did not prove good; what was
    /// written meanwhile is kept.
    Tried,
    /// The old state was put back after the new one was in use; that one is kept.
    Undone,
    /// The same, and the application did not start on the old state.
    UndoneStopped,
}

impl JournalStage {
    /// Whether the swap is open: neither the old state nor the new one can be relied on.
    pub fn is_open(self) -> bool {
        matches!(self, Self::Swapping | Self::Swapped | Self::GoingBack)
    }

    /// The stage as people read it.
    pub fn words(self) -> &'static str {
        match self {
            Self::Writing => "being written beside the old state",
            Self::Written => "ready beside the old state",
            Self::Swapping | Self::Swapped | Self::GoingBack => "in the middle of the swap",
            Self::Done => "in place; the old state is kept",
            Self::Tried => "undone after it was started; what was written meanwhile is kept",
            Self::Undone => "undone; what was in place is kept",
            Self::UndoneStopped => {
                "undone, and the application did not start on the old state; what was in place is kept"
            }
        }
    }
}

/// What was asked for, so that it can be asked for again.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlaceRequest {
    /// Only these parts.
    pub parts: Vec<String>,
    /// Only these paths.
    pub paths: Vec<gullet_store::listing::PathName>,
    /// Paths that come elsewhere: the old prefix and the new one.
    pub maps: Vec<(PathBuf, PathBuf)>,
    /// Who owns here what somebody else owned there.
    #[serde(default)]
    pub owners: OwnerMap,
    /// Nothing of the old state goes on in the new one.
    pub drop: bool,
    /// A run that is not complete is good enough.
    pub allow_incomplete: bool,
    /// Differences that were agreed to, by name.
    #[serde(default)]
    pub accepted: Vec<String>,
}

/// A restore in place.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Journal {
    /// Version of this form.
    pub journal: u32,
    /// The restore's id.
    pub id: String,
    /// The name of the application.
    pub app: String,
    /// The run that is restored.
    pub run: String,
    /// When it began.
    pub began: Timestamp,
    /// What was asked for.
    pub asked: PlaceRequest,
    /// How far it is.
    pub stage: JournalStage,
    /// What changes hands.
    pub(super) swap: Swap,
    /// Whether the application was, or is about to be, started on the new state.
    #[serde(default)]
    pub is_started: bool,
    /// Whether the new state was proven, and in use since.
    #[serde(default)]
    pub is_done: bool,
    /// Parts that were brought back other than by files: that is not undone.
    pub called: Vec<String>,
}

/// A journal failed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum JournalError {
    /// It cannot be read or written.
    #[error("the journal of the restore cannot be used")]
    Io(#[from] PathError),
    /// It is not what it should be.
    #[error("the journal of the restore, {}, is damaged: {why}", path.display())]
    Damaged {
        /// The journal's file.
        path: PathBuf,
        /// What is wrong.
        why: String,
    },
    /// Somebody still uses what would change hands.
    #[error("{0}")]
    Used(String),
    /// The swap cannot go on.
    #[error(transparent)]
    Swap(#[from] SwapError),
}

/// Nobody else changes hands while this lives.
#[derive(Debug)]
pub(super) struct SwapLock {
    _file: File,
}

fn folder(state: &Path) -> PathBuf {
    state.join("restores")
}

impl Journal {
    fn path(state: &Path, app: &str) -> PathBuf {
        folder(state).join(format!("{app}.json"))
    }

    /// The journal of an application; `None` where there is no restore of it.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn load(state: &Path, app: &str) -> Result<Option<Self>, JournalError> {
        let path = Self::path(state, app);
        let bytes = match fs::read(&path) {
            Ok(bytes) => bytes,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(PathError::new(&path, error).into()),
        };
        let journal: Self =
            serde_json::from_slice(&bytes).map_err(|error| JournalError::Damaged { path, why: error.to_string() })?;
        Ok(Some(journal))
    }

    /// Writes it, durable before this returns.
    ///
    /// # Errors
    /// When that fails.
    pub(super) fn save(&self, state: &Path) -> Result<(), JournalError> {
        let folder = folder(state);
        private_folder(&folder)?;
        let bytes = serde_json::to_vec(self).unwrap_or_default();
        write_whole(&Self::path(state, &self.app), &bytes)?;
        Ok(File::open(&folder).and_then(|folder| folder.sync_all()).at(&folder)?)
    }

    pub(super) fn stage(&mut self, stage: JournalStage, state: &Path) -> Result<(), JournalError> {
        self.stage = stage;
        self.is_done |= stage == JournalStage::Done;
        self.save(state)
    }

    /// Waits until nobody else changes hands, and keeps others from it.
    pub(super) fn hands(state: &Path, app: &str) -> Result<SwapLock, JournalError> {
        let folder = folder(state);
        private_folder(&folder)?;
        let path = folder.join(format!("{app}.lock"));
        let file = OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(&path).at(&path)?;
        rustix::fs::flock(&file, FlockOperation::LockExclusive).at(&path)?;
        Ok(SwapLock { _file: file })
    }

    /// Where exports are put that come back by a command or by hand.
    pub(super) fn exports(&self, state: &Path) -> PathBuf {
        folder(state).join(format!("{}-{}", self.app, self.id))
    }

    /// The folders that have what is not in place.
    pub fn arenas(&self) -> Vec<PathBuf> {
        let mut arenas: Vec<PathBuf> = self.swap.targets.iter().map(SwapTarget::arena).collect();
        arenas.sort();
        arenas.dedup();
        arenas
    }

    /// The roots that change hands.
    pub fn roots(&self) -> Vec<PathBuf> {
        self.swap.targets.iter().map(|target| path_of(&target.root)).collect()
    }

    /// The folders in which nobody may have anything open when they change hands.
    pub(super) fn used_places(&self) -> Vec<PathBuf> {
        let seen_at = self.swap.targets.iter().flat_map(|target| &target.seen_at).map(path_of);
        self.roots().into_iter().chain(self.arenas()).chain(seen_at).collect()
    }

    /// What is said of parts that commands or clients brought back.
    pub fn stays_brought_back(&self) -> String {
        format!("what was brought back other than by files stays as it is: {}", self.called.join(", "))
    }

    /// Removes what is set aside, and the journal last.
    ///
    /// # Errors
    /// When something cannot be removed; it can be tried again.
    pub fn discard(self, state: &Path) -> Result<(), JournalError> {
        let _hands = Self::hands(state, &self.app)?;
        if self.stage.is_open() {
            // The old state may lie in what would be removed.
            return Err(JournalError::Used("the swap is still open: nothing is removed".to_owned()));
        }
        // A folder that has one of ours in it is to be as it was before, where the old state was never away from it; else as it
        // is now, but for the one that goes.
        let was_never_away = matches!(self.stage, JournalStage::Writing | JournalStage::Written);
        let look_of = |target: &SwapTarget| {
            let now = || crate::restore::write::look(&target.place()).ok();
            let look = if was_never_away { target.old_root.clone() } else { None };
            Some((target.place(), look.or_else(now)?))
        };
        let inside = self.swap.targets.iter().filter(|target| target.inside.is_some());
        let place_looks: Vec<_> = inside.filter_map(look_of).collect();
        for path in self.arenas().iter().chain([&self.exports(state)]) {
            match fs::remove_dir_all(path) {
                Ok(()) => {}
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
                Err(error) => return Err(PathError::new(path, error).into()),
            }
        }
        for (place, look) in place_looks {
            let _ = crate::restore::write::set_attributes(&place, &look);
        }
        let path = Self::path(state, &self.app);
        Ok(fs::remove_file(&path).at(&path)?)
    }
}

/// Whether a swap of the application is open.
pub fn is_open(state: &Path, app: &str) -> bool {
    match Journal::load(state, app) {
        Ok(journal) => journal.is_some_and(|journal| journal.stage.is_open()),
        // What cannot be read may be anything.
        Err(_) => true,
    }
}

/// Puts the old state back where a swap of the application is open. Whether one was.
///
/// # Errors
/// When it cannot be put back; then the application must not start.
pub(crate) fn go_back(state: &Path, app: &str, clock: &dyn Clock) -> Result<bool, JournalError> {
    let _hands = Journal::hands(state, app)?;
    let Some(mut journal) = Journal::load(state, app)?.filter(|journal| journal.stage.is_open()) else {
        return Ok(false);
    };
    // What is still written would come to lie in both.
    let users = wait_for_users(&journal.used_places(), clock);
    if users.count > 0 {
        return Err(JournalError::Used(users.words()));
    }
    journal.stage(JournalStage::GoingBack, state)?;
    journal.swap.back(&mut |_| {})?;
    // Only what nobody has worked on since it was written can be put in place again as it is.
    let stage = match (journal.is_done, journal.is_started) {
        (true, _) => JournalStage::Undone,
        (false, true) => JournalStage::Tried,
        (false, false) => JournalStage::Written,
    };
    journal.stage(stage, state)?;
    Ok(true)
}

/// Why the state of an application is not one to be captured: a restore in place is not over.
pub fn why_not_whole(state: &Path, app: &str) -> Option<String> {
    match Journal::load(state, app) {
        Ok(None) => None,
        Ok(Some(journal)) if journal.stage.is_open() || journal.stage == JournalStage::UndoneStopped => {
            Some(format!("a restore of run {} in place is {}", journal.run, journal.stage.words()))
        }
        Ok(Some(_)) => None,
        Err(error) => Some(format!("it is not known whether a restore in place is over: {error}")),
    }
}

/// The applications that have a journal.
pub fn all(state: &Path) -> Vec<String> {
    let entries = fs::read_dir(folder(state)).into_iter().flatten().flatten();
    let mut names: Vec<String> =
        entries.filter_map(|entry| Some(entry.file_name().to_str()?.strip_suffix(".json")?.to_owned())).collect();
    names.sort();
    names
}

#[cfg(test)]
mod tests {
    use super::super::swap::{NEW, Name, OLD, kept};
    use super::*;

    struct Still;

    impl Clock for Still {
        fn now(&self) -> Timestamp {
            Timestamp::UNIX_EPOCH
        }

        fn uptime(&self) -> std::time::Duration {
            std::time::Duration::ZERO
        }

        fn sleep(&self, _: std::time::Duration) {}
    }

    /// A restore of one folder whose swap is open, and done.
    fn swapped(state: &Path, is_started: bool, is_done: bool) -> Journal {
        let (place, arena) = (state.join("place"), state.join("place/arena"));
        for (folder, text) in [(place.join("data"), "old"), (arena.join(NEW).join("data"), "new")] {
            fs::create_dir_all(&folder).unwrap();
            fs::write(folder.join("a"), text).unwrap();
        }
        fs::create_dir_all(arena.join(OLD)).unwrap();
        let target = SwapTarget {
            root: kept(&place.join("data")),
            place: kept(&place),
            names: vec![Name::of(Path::new("data"), &place, &arena.join(NEW)).unwrap()],
            arena: kept(&arena),
            inside: None,
            stays: Vec::new(),
            seen_at: Vec::new(),
            old_root: None,
            new_root: None,
        };
        let journal = Journal {
            journal: 1,
            id: "x".to_owned(),
            app: "desk".to_owned(),
            run: "r".to_owned(),
            began: Timestamp::UNIX_EPOCH,
            asked: PlaceRequest::default(),
            stage: JournalStage::Swapped,
            swap: Swap { targets: vec![target], ..Swap::default() },
            is_started,
            is_done,
            called: Vec::new(),
        };
        journal.swap.forward(&mut |_| {}).unwrap();
        journal.save(state).unwrap();
        journal
    }

    #[test]
    fn what_was_worked_on_is_never_taken_for_what_was_written() {
        for (is_started, is_done, expected) in [
            (false, false, JournalStage::Written),
            (true, false, JournalStage::Tried),
            (true, true, JournalStage::Undone),
        ] {
            let state = tempfile::tempdir().unwrap();
            swapped(state.path(), is_started, is_done);
            assert!(is_open(state.path(), "desk") && all(state.path()) == ["desk"]);
            assert!(go_back(state.path(), "desk", &Still).unwrap());
            assert_eq!(Journal::load(state.path(), "desk").unwrap().unwrap().stage, expected);
            assert_eq!(fs::read_to_string(state.path().join("place/data/a")).unwrap(), "old");
            // Once is enough.
            assert!(!go_back(state.path(), "desk", &Still).unwrap() && !is_open(state.path(), "desk"));
        }
    }

    #[test]
    fn while_a_swap_is_open_nothing_is_removed_and_a_journal_that_cannot_be_read_is_open() {
        let state = tempfile::tempdir().unwrap();
        let journal = swapped(state.path(), false, false);
        assert!(matches!(journal.discard(state.path()), Err(JournalError::Used(_))));
        assert_eq!(fs::read_to_string(state.path().join("place/arena/old/data/a")).unwrap(), "old");
        go_back(state.path(), "desk", &Still).unwrap();
        Journal::load(state.path(), "desk").unwrap().unwrap().discard(state.path()).unwrap();
        assert!(!state.path().join("place/arena").exists() && all(state.path()).is_empty());
        fs::write(Journal::path(state.path(), "desk"), "{\"journal\":1,").unwrap();
        assert!(is_open(state.path(), "desk"));
        assert!(matches!(go_back(state.path(), "desk", &Still), Err(JournalError::Damaged { .. })));
    }
}
