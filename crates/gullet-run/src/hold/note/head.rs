//! What a hold note says: its head, and in which state it is.

use std::time::Duration;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::boot_id;
use gullet_host::hook::Process;
use gullet_model::words::time;

/// How far a hold is. It only moves forward.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum NoteState {
    /// Nothing is entered yet.
    Preparing,
    /// Something is held, or may be.
    Held,
    /// Leaving has begun.
    Leaving,
    /// Everything is left.
    Left,
    /// A person declared that it is left.
    Declared,
}

impl NoteState {
    /// Whether nothing is held any more.
    pub fn is_over(self) -> bool {
        matches!(self, Self::Left | Self::Declared)
    }
}

/// The head of a note.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct NoteHead {
    /// Version of this form.
    pub note: u32,
    /// How far it is.
    pub state: NoteState,
    /// The name of the application.
    pub app: String,
    /// The run, or `by hand`.
    pub run: String,
    /// The random token of the hold.
    pub token: String,
    /// The guard's process number, true for as long as somebody has the lock.
    pub pid: u32,
    /// The kernel's id of this boot.
    pub boot: String,
    /// The account of the guard.
    pub account: String,
    /// Numbers of the steps that were entered, or were about to be, and are not left.
    pub entered: Vec<usize>,
    /// When the first was entered.
    pub began: Option<Timestamp>,
    /// How long it may be held, in milliseconds.
    pub limit_ms: u64,
    /// Whether it is a hold by hand, which stays when its command ends.
    pub by_hand: bool,
    /// Why it was left, where not at main's request; or what is in the way of leaving.
    pub why: Option<String>,
    /// When the guard's process started, so that its number is not taken for another one's.
    #[serde(default)]
    pub started: u64,
    /// The machine's uptime in milliseconds when the first was entered, by a clock that includes suspend; of this boot only.
    #[serde(default)]
    pub began_up_ms: Option<u64>,
    /// The command that the guard is running.
    #[serde(default)]
    pub running: Option<RunningCommand>,
    /// Whether its guard, which lives, has let go of the lock for another one that takes the hold over.
    #[serde(default)]
    pub is_handed_over: bool,
    /// How many requests to release the guard had heeded when it last tried to leave.
    #[serde(default)]
    pub heeded: u32,
}

/// A command that a guard is running.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RunningCommand {
    /// The process that the command runs as.
    pub process: Process,
    /// What it is run for: `enter`, `release`, `probe`, `drained`.
    pub moment: String,
}

impl NoteHead {
    /// The guard's process, where it is one of this boot.
    pub fn owner(&self) -> Option<Process> {
        let pid = i32::try_from(self.pid).ok().filter(|pid| *pid > 0)?;
        (self.boot == boot_id()).then_some(Process { pid, started: self.started })
    }

    /// Whether the first was entered since this boot, and at which uptime.
    pub fn began_uptime(&self) -> Option<Duration> {
        self.began_up_ms.filter(|_| self.boot == boot_id()).map(Duration::from_millis)
    }

    /// Who holds, and since when.
    pub fn describe(&self) -> String {
        let since = self.began.map(|at| format!(" since {}", time(at))).unwrap_or_default();
        let who = if self.by_hand { "by hand".to_owned() } else { format!("by run {}", self.run) };
        let stuck = self.why.as_ref().filter(|_| self.state == NoteState::Leaving);
        let stuck = stuck.map(|why| format!("; it is being released, and is still held: {why}")).unwrap_or_default();
        format!("{who}{since}, process {}{stuck}", self.pid)
    }
}

/// A text of at most so many bytes.
pub(super) fn shortened(text: &str, most: usize) -> String {
    if text.len() <= most {
        return text.to_owned();
    }
    let end = (0..=most).rev().find(|end| text.is_char_boundary(*end)).unwrap_or(0);
    format!("{}…", &text[..end])
}

/// What a note says, looked at without taking it over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NoteStatus {
    /// There is none.
    Nothing,
    /// A living process owns it.
    Owned(NoteHead),
    /// Nobody owns it, and something is held, or may be.
    Forgotten(NoteHead),
    /// What was held is released.
    Over(NoteHead),
    /// It is there and cannot be read, so something may be held.
    Unreadable,
}

impl NoteStatus {
    /// The note's head, where it could be read.
    pub fn head(&self) -> Option<&NoteHead> {
        match self {
            Self::Owned(head) | Self::Forgotten(head) | Self::Over(head) => Some(head),
            Self::Nothing | Self::Unreadable => None,
        }
    }
}
