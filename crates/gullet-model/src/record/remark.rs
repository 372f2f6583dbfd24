//! A later statement about a run.

use gullet_store::PayloadFile;
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{EncryptedPart, stem_time};
use crate::ids::RunId;
use crate::outcome::Outcome;
use crate::step::StepReport;

/// A later statement about a run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Remark {
    /// Version of this form.
    pub remark: u32,
    /// The run it is about.
    pub run: RunId,
    /// The name of the run's record.
    pub record: String,
    /// When it was made.
    #[schemars(with = "String")]
    pub at: Timestamp,
    /// One more than that of every remark about the run that was known then: remarks are read in this order, and by time only
    /// where two have the same number.
    #[serde(default)]
    pub number: u32,
    /// What it states.
    pub what: RemarkKind,
    /// How bad it is; shown is the worse of record and remarks.
    pub outcome: Outcome,
    /// In words.
    pub text: String,
    /// The steps that led to it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<StepReport>,
    /// Of `verified`: that the contents were opened, so that every path of every part was found whole, and not the stored bytes alone.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub opened: bool,
    /// Payload files that are damaged: what lies in them must be stored anew.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub payload: Vec<String>,
    /// Payload that lies elsewhere now, for this run.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub moved: Vec<Moved>,
    /// Of `copied` and `copy_damaged`: the name of the copy in the definition.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub copy: Option<String>,
    /// Where the sensitive contents are encrypted: all of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub encrypted: Option<EncryptedPart>,
}

impl Remark {
    /// The remark's stem: time and kind.
    pub fn stem(&self) -> String {
        format!("{}-{}", stem_time(self.at), self.what.word())
    }

    /// A statement about a run, whose record has this name.
    pub fn new(run: &RunId, record: &str, at: Timestamp, what: RemarkKind, outcome: Outcome, text: String) -> Self {
        Self {
            remark: 1,
            run: run.clone(),
            record: record.to_owned(),
            at,
            number: 1,
            what,
            outcome,
            text,
            steps: Vec::new(),
            opened: false,
            payload: Vec::new(),
            moved: Vec::new(),
            copy: None,
            encrypted: None,
        }
    }
}

/// What a run stood on in one payload file lies in another one now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Moved {
    /// The payload file that it lay in.
    pub from: String,
    /// The one it lies in.
    pub to: PayloadFile,
    /// The frames of that one which the run stands on, as ranges of first and last.
    pub frames: Vec<[u32; 2]>,
}

/// What a remark states.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum RemarkKind {
    /// How the `succeeded` or `failed` hooks went.
    Hooks,
    /// How the `finished` hooks went.
    Finished,
    /// Everything was read back and is intact.
    Verified,
    /// Something is damaged.
    Damaged,
    /// A person declared that the application is no longer held.
    Declared,
    /// Its captures were removed; the record stays.
    Thinned,
    /// Some of its payload lies elsewhere now.
    Moved,
    /// It was restored somewhere, or was to be.
    Restored,
    /// It was restored to a scratch place and checked: proven, or not.
    Drilled,
    /// It was restored to a scratch place and is intact, and nobody opened it: neither proven nor not.
    RestoredIntact,
    /// It is to stay.
    Kept,
    /// It need not stay any more.
    NotKept,
    /// All that it stands on is in a second copy, and was read back there.
    Copied,
    /// Some of what it stands on was found damaged in a second copy.
    CopyDamaged,
    /// A kind that this version does not know.
    #[serde(other)]
    Unknown,
}

impl RemarkKind {
    /// In words; part of the remark's name.
    pub fn word(self) -> &'static str {
        match self {
            Self::Hooks => "hooks",
            Self::Finished => "finished",
            Self::Verified => "verified",
            Self::Damaged => "damaged",
            Self::Declared => "declared",
            Self::Thinned => "thinned",
            Self::Moved => "moved",
            Self::Restored => "restored",
            Self::Drilled => "drilled",
            Self::RestoredIntact => "restored-intact",
            Self::Kept => "kept",
            Self::NotKept => "not-kept",
            Self::Copied => "copied",
            Self::CopyDamaged => "copy-damaged",
            Self::Unknown => "unknown",
        }
    }
}
