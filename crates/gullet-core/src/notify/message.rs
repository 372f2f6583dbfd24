//! A message to somebody, as data.

use gullet_model::notice::Notice;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{LONGEST_PAUSE, Report};

/// What a message tells.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "what")]
pub enum Content {
    /// How a run ended.
    Run(Notice),
    /// That a definition has errors.
    Definition(DefinitionFlaws),
    /// How all applications stand.
    Report(Report),
    /// That something else that was due did not happen.
    Missed {
        /// What, in words: `the drill of quaybook`.
        subject: String,
        /// When it was due.
        due: Timestamp,
        /// Why it did not happen, in words.
        why: String,
        /// The machine's name.
        host: String,
    },
    /// That something other than a run was begun, and could not be done.
    Failed {
        /// What, in words.
        subject: String,
        /// Why it could not be done, in words.
        why: String,
        /// The machine's name.
        host: String,
    },
    /// That a drill failed.
    DrillFailed {
        /// The name of the application.
        app: String,
        /// The run that was to be restored; none where none could be chosen or opened.
        run: Option<String>,
        /// Why it failed, in words.
        why: String,
        /// The machine's name.
        host: String,
    },
    /// That something in a store is damaged.
    Damaged {
        /// The place of the store, as people name it.
        store: String,
        /// What, each with its run or its name.
        damage: Vec<String>,
        /// The machine's name.
        host: String,
    },
    /// Nothing; somebody tries whether messages arrive.
    Test {
        /// The machine's name.
        host: String,
    },
}

/// What is wrong with a definition.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct DefinitionFlaws {
    /// The path of the definition's file.
    pub path: String,
    /// The machine's name.
    pub host: String,
    /// The application that does not run for it; none where it is not of one application.
    pub app: Option<String>,
    /// Whether nothing runs for it.
    pub is_all: bool,
    /// Each error with its place.
    pub flaws: Vec<String>,
}

/// A message to somebody.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Message {
    /// What it is about: the same for all whom the same is told.
    pub id: String,
    /// The name of whom it is for.
    pub to: String,
    /// Since when it waits.
    pub queued: Timestamp,
    /// What it tells.
    pub content: Content,
    /// How often it was tried.
    #[serde(default)]
    pub tries: u32,
    /// When it was tried last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tried: Option<Timestamp>,
    /// When it is tried next.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<Timestamp>,
    /// Why it could not be sent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
    /// The other side may have it at this moment.
    #[serde(default)]
    pub is_being_sent: bool,
    /// An earlier try was cut off where it is not known whether the other side has it. The message says so then.
    #[serde(default)]
    pub may_be_sent: bool,
}

impl Message {
    /// A message that was not tried yet.
    pub fn new(id: &str, to: &str, content: Content, now: Timestamp) -> Self {
        Self {
            id: id.to_owned(),
            to: to.to_owned(),
            queued: now,
            content,
            tries: 0,
            tried: None,
            next: None,
            problem: None,
            is_being_sent: false,
            may_be_sent: false,
        }
    }

    /// Whether it is to be tried now. What is further away than any pause was noted by a clock that was wrong.
    pub fn is_due(&self, now: Timestamp) -> bool {
        self.next.is_none_or(|next| next <= now || next.duration_since(now) > LONGEST_PAUSE)
    }
}
