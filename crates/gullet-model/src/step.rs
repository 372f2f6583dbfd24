//! Steps, and the processes that they ran: what events tell of them and records keep.

use std::collections::BTreeMap;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What a step does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum StepKind {
    /// Probes that touch nothing.
    Preflight,
    /// The administrator's hooks of a moment.
    Hooks,
    /// Syncs the sources and finds out how they can be captured.
    Prepare,
    /// Copies a part before the hold.
    Precopy,
    /// Asks the state that the application is found in.
    ProbeInitialState,
    /// Enters a hold step.
    Enter,
    /// Waits until the work in hand is finished.
    Drain,
    /// Asks whether the application is held.
    Prove,
    /// Makes the snapshot.
    Snapshot,
    /// Captures a part.
    Capture,
    /// Looks whether a part changed since it was captured.
    CheckNoWrites,
    /// Asks again, before leaving, whether it is still held.
    ProveAgain,
    /// Leaves a hold step.
    Release,
    /// Asks whether the application serves.
    ProveReleased,
    /// Stores a part that was secured in the hold.
    Store,
    /// Removes snapshots and staged copies.
    CleanUp,
    /// Makes everything durable.
    Finish,
    /// Reads back what was stored.
    ReadBack,
    /// Writes the record.
    Commit,
}

impl StepKind {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Preflight => "preflight",
            Self::Hooks => "hooks",
            Self::Prepare => "prepare",
            Self::Precopy => "precopy",
            Self::ProbeInitialState => "initial state",
            Self::Enter => "enter",
            Self::Drain => "drain",
            Self::Prove => "prove held",
            Self::Snapshot => "snapshot",
            Self::Capture => "capture",
            Self::CheckNoWrites => "no writes during hold",
            Self::ProveAgain => "prove still held",
            Self::Release => "release",
            Self::ProveReleased => "prove serving",
            Self::Store => "store",
            Self::CleanUp => "clean up",
            Self::Finish => "make durable",
            Self::ReadBack => "read back",
            Self::Commit => "record",
        }
    }
}

/// Which step.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StepName {
    /// Its number in the run, from 1.
    pub number: u32,
    /// What it does.
    pub kind: StepKind,
    /// The hold step, the part or the moment it is about.
    pub about: Option<String>,
}

/// How a step went.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct StepReport {
    /// Which step.
    #[serde(flatten)]
    pub step: StepName,
    /// When it began.
    #[schemars(with = "String")]
    pub started: Timestamp,
    /// How long it took, in milliseconds.
    pub took_ms: u64,
    /// Whether it did what it should.
    pub ok: bool,
    /// What came of it, in words.
    pub note: Option<String>,
    /// Every process that it ran.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub commands: Vec<CommandReport>,
    /// Facts that these noted in `GULLET_NOTES`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub facts: Facts,
    /// What they noted to be omitted.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub omits: Vec<String>,
}

/// One process of the administrator's: exactly what was run, and all that came of it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct CommandReport {
    /// Program and arguments as executed.
    pub argv: Vec<String>,
    /// The script that an interpreter was given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub script: Option<String>,
    /// The folder it ran in.
    pub dir: String,
    /// The account it ran as.
    pub account: String,
    /// When it was started.
    #[schemars(with = "String")]
    pub started: Timestamp,
    /// How long it took, in milliseconds.
    pub took_ms: u64,
    /// How it ended.
    pub exit: ProcessExit,
    /// What it printed, in order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub output: Vec<OutputPiece>,
    /// Bytes of output from the middle that were not kept.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub dropped_bytes: u64,
    /// Processes that were still there after it was killed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub escaped: Vec<String>,
}

fn is_zero(number: &u64) -> bool {
    *number == 0
}

/// How a process ended.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum ProcessExit {
    /// With this code.
    Code(i32),
    /// By this signal, which Gullet did not send.
    Signal(i32),
    /// Killed at its limit of so many milliseconds.
    Limit(u64),
    /// Killed because the run was asked to stop, or the hold had to be left.
    Stopped,
    /// It could not be started.
    NotStarted(String),
}

impl std::fmt::Display for ProcessExit {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Code(code) => write!(f, "exit code {code}"),
            Self::Signal(signal) => write!(f, "killed by signal {signal}"),
            Self::Limit(ms) => {
                write!(f, "killed at its limit of {}", crate::definition::Span(std::time::Duration::from_millis(*ms)))
            }
            Self::Stopped => f.write_str("stopped"),
            Self::NotStarted(why) => write!(f, "not started: {why}"),
        }
    }
}

/// Some output.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct OutputPiece {
    /// When it came, in milliseconds since the process was started.
    pub at_ms: u64,
    /// From which stream.
    pub stream: Stream,
    /// What; bytes that are not UTF-8 are replaced.
    pub text: String,
}

/// A standard stream.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Stream {
    /// Standard output.
    Out,
    /// Standard error.
    Err,
}

/// Facts by name. Numbers are kept as such; everything else is text.
pub type Facts = BTreeMap<String, serde_json::Value>;

/// What a command printed as a fact: a number where the text is one, else the text.
pub fn fact_value(text: &str) -> serde_json::Value {
    let text = text.trim();
    text.parse::<i64>().map(Into::into).or_else(|_| text.parse::<f64>().map(Into::into)).unwrap_or_else(|_| text.into())
}
