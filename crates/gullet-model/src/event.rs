//! The one event type of a run. Terminal, `--json`, stored log and record are its readers.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::ids::RunId;
use crate::outcome::Outcome;
use crate::problem::ProblemKind;
use crate::record::{Capture, HoldReport, Problem};
use crate::step::{StepName, StepReport};

/// Something that happened in a run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Event {
    /// When.
    #[schemars(with = "String")]
    pub at: Timestamp,
    /// What.
    #[serde(flatten)]
    pub what: EventKind,
}

/// What happened.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "event", rename_all = "snake_case")]
pub enum EventKind {
    /// The run has begun.
    RunStarted {
        /// The run.
        run: RunId,
        /// The application.
        app: String,
        /// What people call it.
        title: Option<String>,
        /// Why it was run, where somebody said so.
        reason: Option<String>,
        /// What started it, where that is not a person.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        trigger: Option<String>,
        /// The names of the parts that will be captured.
        parts: Vec<String>,
    },
    /// A step has begun.
    StepStarted {
        /// Which.
        step: StepName,
    },
    /// A step is over.
    StepEnded {
        /// Which, and how it went.
        report: StepReport,
    },
    /// How far the capture of a part is. Sent often; not kept.
    Progress {
        /// The part.
        part: String,
        /// Files seen so far.
        files: u64,
        /// Bytes read so far.
        bytes: u64,
    },
    /// The first `enter` is about to be called: from here on the hold is measured.
    HoldBegan,
    /// The application is proven to be held.
    Held {
        /// Whether every step has a probe that said so.
        proven: bool,
    },
    /// Leaving the hold has begun.
    LeavingBegan {
        /// Time held in milliseconds, waiting for `drained` apart.
        held_ms: u64,
    },
    /// The application serves again.
    Released {
        /// Whether every step has a probe that said so.
        proven: bool,
        /// From the first `enter` to the proof that it serves, in milliseconds.
        away_ms: u64,
    },
    /// A part is captured, or could not be.
    Captured {
        /// All about it.
        capture: Box<Capture>,
    },
    /// Something a person should look at.
    Warning {
        /// Which kind of problem it is.
        kind: ProblemKind,
        /// The part or step it is about.
        about: Option<String>,
        /// In words.
        text: String,
    },
    /// Something that makes the outcome worse than a warning does.
    Trouble {
        /// Which kind of problem it is.
        kind: ProblemKind,
        /// The part or step it is about.
        about: Option<String>,
        /// In words.
        text: String,
        /// What a person should do, where that is known.
        advice: Option<String>,
    },
    /// The record is written; the run exists from here on.
    Recorded {
        /// The record's name in the store, or its path where it waits for the store.
        record: String,
        /// Whether it is in the store.
        in_store: bool,
    },
    /// The run is over.
    RunEnded {
        /// How.
        outcome: Outcome,
        /// From start to end in milliseconds.
        took_ms: u64,
    },
}

/// Takes the events of a run as they happen.
pub trait Listener {
    /// One more event.
    fn hear(&mut self, event: &Event);

    /// A person must do something: shows it, waits until it is said to be done, and gives whether to ask the application
    /// again. Nobody is there unless this is implemented. It must come back soon after `over` says so.
    fn attend(&mut self, instruction: &Instruction, over: &dyn Fn() -> bool) -> bool {
        let _ = (instruction, over);
        false
    }
}

/// What a person is asked to do in the middle of a run.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Instruction {
    /// The hold step it is about; of a restore in place the application.
    pub about: String,
    /// What is not as it must be.
    pub problem: String,
    /// What to do.
    pub to_do: String,
    /// What the application is asked again afterwards, in words.
    pub then: &'static str,
    /// What happens when nobody does it.
    pub otherwise: String,
}

impl<F: FnMut(&Event)> Listener for F {
    fn hear(&mut self, event: &Event) {
        self(event);
    }
}

/// Folds the events of a run into the parts of its record.
#[derive(Clone, Debug, Default)]
pub struct RecordBuilder {
    /// Steps that are over.
    pub steps: Vec<StepReport>,
    /// Captures so far.
    pub captures: Vec<Capture>,
    /// Warnings so far.
    pub warnings: Vec<Problem>,
    /// Causes so far.
    pub causes: Vec<Problem>,
    /// The hold so far.
    pub hold: HoldReport,
}

impl Listener for RecordBuilder {
    fn hear(&mut self, event: &Event) {
        match &event.what {
            EventKind::StepEnded { report } => self.steps.push(report.clone()),
            EventKind::Captured { capture } => {
                self.captures.retain(|earlier| earlier.part != capture.part);
                self.captures.push(*capture.clone());
            }
            EventKind::Warning { kind, about, text } => {
                self.warnings.push(Problem { kind: *kind, about: about.clone(), text: text.clone(), advice: None });
            }
            EventKind::Trouble { kind, about, text, advice } => {
                let (about, text, advice) = (about.clone(), text.clone(), advice.clone());
                self.causes.push(Problem { kind: *kind, about, text, advice });
            }
            EventKind::HoldBegan => self.hold.began = Some(event.at),
            EventKind::Held { proven } => self.hold.proven = *proven,
            EventKind::LeavingBegan { held_ms } => self.hold.held_ms = Some(*held_ms),
            EventKind::Released { proven, away_ms } => {
                self.hold.released = *proven;
                self.hold.away_ms = Some(*away_ms);
            }
            EventKind::RunStarted { .. }
            | EventKind::StepStarted { .. }
            | EventKind::Progress { .. }
            | EventKind::Recorded { .. }
            | EventKind::RunEnded { .. } => {}
        }
    }
}
