//! What main and guard say to each other: JSON Lines over the guard's standard input and output.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use gullet_model::Reason;
use gullet_model::definition::HoldStep;
use gullet_model::problem::ProblemKind;
use gullet_model::record::Host;
use gullet_model::step::CommandReport;

/// The first line that a guard gets: everything that it needs to know.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Order {
    /// The name of the application.
    pub app: String,
    /// The run, or `by hand`.
    pub run: String,
    /// Random; who knows it speaks for this hold.
    pub token: String,
    /// The hold steps.
    pub steps: Vec<HoldStep>,
    /// How long it may be held, in milliseconds.
    pub limit_ms: u64,
    /// The folder of hold notes.
    pub notes: std::path::PathBuf,
    /// A private folder that commands may use.
    pub scratch: std::path::PathBuf,
    /// The machine that the run is on.
    pub host: Host,
    /// Whether the hold stays when main is gone, until its limit.
    pub by_hand: bool,
    /// Whether a hold by hand that is there already is taken over.
    pub take_over: bool,
    /// Whether it is a restore in place, which decides itself when the application is started again while it lives.
    pub is_restore: bool,
}

/// What main asks for. Numbers are of hold steps.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Op {
    /// Take the locks that all steps share with other applications, before anything is entered.
    Lock,
    /// Enter a step.
    Enter(usize),
    /// Wait until the work in hand is finished.
    Drain(usize),
    /// Ask until it is held.
    Prove(usize),
    /// Ask once whether it is still held.
    ProveAgain(usize),
    /// Put back the old state of a restore in place.
    GoBack,
    /// Leave a step.
    Release(usize),
    /// Ask until it serves.
    ProveReleased(usize),
}

/// One line from main to guard.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(super) enum FromMain {
    /// Do this, and answer.
    Do(Op),
    /// Cut short what is being done, unless it is leaving.
    Cancel,
    /// A hold by hand is complete: it stays when main ends.
    Stay,
}

/// What came of an operation.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct GuardAnswer {
    /// Whether it did what it should; else why not.
    pub result: Result<(), Reason>,
    /// Every process that was run.
    pub commands: Vec<CommandReport>,
    /// What the commands noted as warnings.
    pub warnings: Vec<String>,
    /// Time held so far, waiting for `drained` apart, in milliseconds.
    pub held_ms: u64,
    /// How long it waited for `drained` in this operation, in milliseconds.
    pub waited_ms: u64,
}

/// Why a hold is lost.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Loss {
    /// [`ProblemKind::HoldLimit`] or [`ProblemKind::HoldLost`].
    pub kind: ProblemKind,
    /// Why it was lost, in words.
    pub why: String,
}

impl Loss {
    /// A hold that was lost for another reason than its limit.
    pub(super) fn of_hold(why: impl Into<String>) -> Self {
        Self { kind: ProblemKind::HoldLost, why: why.into() }
    }
}

/// One line from guard to main.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(super) enum FromGuard {
    /// The guard has its note and its lock. Steps that it took over are named by number.
    Ready {
        /// Steps of a hold by hand that are held already.
        taken_over: Vec<usize>,
        /// How long they have been held, in milliseconds.
        held_ms: u64,
    },
    /// The guard lives; said every second, whatever it does meanwhile.
    Alive,
    /// What did not let go at first is released now.
    Released,
    /// It cannot be a guard.
    Refused {
        /// Why it does not begin, in words.
        why: String,
    },
    /// An operation is done.
    Done(Box<GuardAnswer>),
    /// The guard released by itself, or lost a session: whatever is captured is void.
    Lost {
        /// What took the hold away.
        loss: Loss,
        /// The moment at which it was lost.
        at: Timestamp,
    },
}
