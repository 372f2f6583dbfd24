//! What there is to tell of something that ended, as data: messages are made of it.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::outcome::Outcome;
use crate::record::{Problem, Record};

/// What there is to tell of a run, from its record.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Notice {
    /// The id of the run.
    pub run: String,
    /// The name of the application.
    pub app: String,
    /// What people call it.
    pub title: Option<String>,
    /// The machine's name.
    pub host: String,
    /// How it ended.
    pub outcome: Outcome,
    /// When the run began.
    #[schemars(with = "String")]
    pub started: Timestamp,
    /// When it ended.
    #[schemars(with = "String")]
    pub ended: Timestamp,
    /// What started it.
    pub trigger: String,
    /// Why, where somebody said so.
    pub reason: Option<String>,
    /// What made it worse than complete with warnings.
    pub causes: Vec<Problem>,
    /// What a person should look at.
    pub warnings: Vec<Problem>,
    /// How long the application was held, in milliseconds.
    pub held_ms: Option<u64>,
    /// How many parts were captured.
    pub parts_captured: usize,
    /// How many parts there are.
    pub parts: usize,
    /// The captured bytes.
    pub bytes: u64,
    /// Those of them that were new in the store, as they are stored.
    pub bytes_stored: u64,
    /// The name of its record, which has its hash; kept elsewhere it shows whether the logbook was changed.
    pub record: Option<String>,
}

impl Notice {
    /// What there is to tell of a run; `record` is the name of its record in the store.
    pub fn of_run(record: &Record, name: Option<&str>) -> Self {
        Self {
            run: record.run.to_string(),
            app: record.app.clone(),
            title: record.title.clone(),
            host: record.host.name.clone(),
            outcome: record.outcome,
            started: record.started,
            ended: record.ended,
            trigger: record.trigger.clone(),
            reason: record.reason.clone(),
            causes: record.causes.clone(),
            warnings: record.warnings.clone(),
            held_ms: record.hold.held_ms,
            parts_captured: record.captures.iter().filter(|capture| capture.is_captured()).count(),
            parts: record.captures.len(),
            bytes: record.bytes(),
            bytes_stored: record.bytes_stored(),
            record: name.filter(|name| !name.is_empty()).map(str::to_owned),
        }
    }
}
