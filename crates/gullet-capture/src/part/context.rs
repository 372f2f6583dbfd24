//! What capturing a part needs, and how it can fail.

use std::path::PathBuf;

use gullet_store::{Deposit, PathError, StoreError, free_space};

use super::files::PriorState;
use super::marks::{Filesystems, Marks};
use super::staging::Staging;
use crate::plan::Plan;
use gullet_host::hook::{Cancellation, Notes, Runner};
use gullet_host::world::World;
use gullet_model::Reason;
use gullet_model::definition::CaptureMethod;
use gullet_model::record::{Capture, Counts};
use gullet_model::step::CommandReport;
use gullet_model::words::chain;

/// With `capture_method = "auto"` so many bytes of a part are copied privately while the application is held, at most. Up to there a
/// copy stays in memory and is quicker than storing at once; beyond it is not, and would have to be written twice.
const MOST_COPIED: u64 = 1 << 30;
/// A part could not be captured.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PartError {
    /// A source or the private folder cannot be accessed.
    #[error("{}: {}", .0.path.display(), .0.source)]
    Path(#[from] PathError),
    /// The store failed.
    #[error("the store: {}", chain(.0))]
    Store(#[from] StoreError),
    /// The database engine failed.
    #[error("the database `{}`: {}", path.display(), explain(source))]
    Sqlite {
        /// The path of the database file.
        path: PathBuf,
        /// What the engine said.
        source: rusqlite::Error,
    },
    /// The marks of the last capture are damaged.
    #[error(
        "this machine's own notes of the last capture were damaged; they are removed, and the next run reads everything"
    )]
    MarksGone,
    /// The run was asked to stop, or the hold must be left.
    #[error("stopped before it was done")]
    Stopped,
    /// A command, a server or a check of the part failed.
    #[error("{0}")]
    Failed(Reason),
}

impl PartError {
    /// A command, a server or a check of the part failed, in these words.
    pub fn failed(words: impl Into<String>) -> Self {
        Self::Failed(Reason::new(words))
    }
}

/// What the engine said, with what it means where it is known to puzzle.
fn explain(error: &rusqlite::Error) -> String {
    use rusqlite::ErrorCode;
    match error.sqlite_error_code() {
        Some(ErrorCode::NotADatabase) => format!("{error} (it is encrypted, or not an SQLite database at all)"),
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
            format!("{error} (somebody holds a lock on it and did not let go)")
        }
        _ => error.to_string(),
    }
}

/// What a part needs to be secured.
pub struct CaptureContext<'a, 'd> {
    /// The outside world.
    pub world: World<'a>,
    /// The plan that is being executed.
    pub plan: &'a Plan,
    /// Runs the commands of the definition, with their limits.
    pub runner: &'a Runner<'a>,
    /// What may end it early.
    pub patience: Cancellation<'a>,
    /// Takes the chunks of what is captured, and stores those that are new.
    pub deposit: &'a mut Deposit<'d>,
    /// Told how many files and bytes were seen.
    pub progress: &'a mut dyn FnMut(u64, u64),
    /// A private folder for this part alone.
    pub scratch: PathBuf,
    /// Where the marks of this part's last capture are.
    pub marks: PathBuf,
    /// Which filesystems the sources lie on, and what their change times are worth.
    pub grounds: &'a mut Filesystems,
    /// Snapshots and clones.
    pub staging: &'a mut Staging,
    /// Whether the application is held meanwhile.
    pub in_hold: bool,
    /// Whether the source is written to meanwhile, and something else makes what is captured fit together.
    pub is_live: bool,
    /// The copy of the part that was made before the hold.
    pub warm: Option<&'a WarmCopy>,
    /// The part's capture in the last good run.
    pub last: Option<&'a Capture>,
    /// Whether marks are distrusted.
    pub reread: bool,
    /// Every process that was run.
    pub commands: Vec<CommandReport>,
    /// What those processes noted.
    pub notes: Notes,
}

impl CaptureContext<'_, '_> {
    /// # Errors
    /// [`PartError::Stopped`] when it is time to stop.
    pub(crate) fn check_stop(&self) -> Result<(), PartError> {
        if self.patience.is_over(self.world.clock) { Err(PartError::Stopped) } else { Ok(()) }
    }

    /// What earlier captures know of the part's files.
    pub(crate) fn known(&self) -> PriorState {
        PriorState { last: Marks::open(&self.marks), warm: self.warm.map(|warm| warm.marks.clone()), by_one: false }
    }

    /// Whether sources may be cloned rather than read at once: it saves time of the hold.
    pub(crate) fn may_clone(&self) -> bool {
        self.in_hold && self.plan.secure() != CaptureMethod::Stream
    }

    /// How much may be copied privately.
    pub(crate) fn may_copy(&self) -> u64 {
        match self.plan.secure() {
            _ if !self.in_hold => 0,
            CaptureMethod::Copy => u64::MAX,
            CaptureMethod::Stream => 0,
            CaptureMethod::Auto | CaptureMethod::Snapshot => {
                let free = free_space(&self.scratch).unwrap_or(0);
                // What is not copied is read into the store at once; over a network that would prolong the hold.
                if self.plan.is_far { free / 2 } else { MOST_COPIED.min(free / 2) }
            }
        }
    }
}

/// The copy of a part that was made before the hold.
pub struct WarmCopy {
    /// The marks of its files: how each looked when it was read.
    pub(crate) marks: Marks,
    /// What it read and stored.
    pub(crate) counts: Counts,
}

impl WarmCopy {
    /// Files seen and bytes read.
    pub fn amount(&self) -> (u64, u64) {
        (self.counts.files, self.counts.bytes_read)
    }
}
