//! The record of a run, and the remarks made about it later.
//!
//! A record is written last and never changed; the run exists when it does. Its schema is in `docs/schemas/`. Readers
//! pass over keys that they do not know, and refuse a newer version by its number.

mod remark;

use std::collections::BTreeMap;

use gullet_store::listing::{Entry, Kind, ListingRef};
use gullet_store::{Hash, Holdings};
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::definition::{App, Definition, Part, PartKind, When};
use crate::ids::RunId;
use crate::outcome::Outcome;
use crate::problem::ProblemKind;
use crate::step::{Facts, StepReport};
pub use remark::{Moved, Remark, RemarkKind};

/// The version of records that this program writes. History: 1, the first.
pub const RECORD_VERSION: u32 = 1;
/// What started a run, where nobody says something else.
pub const BY_HAND: &str = "by hand";

/// Everything about one run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Record {
    /// Version of this form.
    pub record: u32,
    /// The run's id.
    pub run: RunId,
    /// The application.
    pub app: String,
    /// What people call it.
    pub title: Option<String>,
    /// This machine's identity in the store.
    pub machine: String,
    /// The store's id.
    pub store: String,
    /// The BLAKE3 of `store.json`; none in a record that was never in a store.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store_json: Option<Hash>,
    /// The BLAKE3 of the machine's registration, `machines/MACHINE.json`; none in a record that never reached the store by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machine_json: Option<Hash>,
    /// The name of the record before this one, of the same application and machine; its hash is in it.
    pub previous: Option<String>,
    /// When the run began.
    #[schemars(with = "String")]
    pub started: Timestamp,
    /// When the record was written.
    #[schemars(with = "String")]
    pub ended: Timestamp,
    /// What started it: `by hand`, or what the command was told.
    pub trigger: String,
    /// Why, where somebody said so.
    pub reason: Option<String>,
    /// Whether it was narrowed to some parts.
    pub partial: bool,
    /// How it ended.
    pub outcome: Outcome,
    /// What made it worse than complete with warnings.
    pub causes: Vec<Problem>,
    /// What a person should look at.
    pub warnings: Vec<Problem>,
    /// The machine.
    pub host: Host,
    /// What the application said of itself before the run: its version and the like.
    #[serde(default, skip_serializing_if = "Facts::is_empty")]
    pub facts: Facts,
    /// The application's definition as it was, in TOML. Secrets are only named in it.
    pub definition: String,
    /// The hold.
    pub hold: HoldReport,
    /// Every step, in order.
    pub steps: Vec<StepReport>,
    /// What was captured, part by part.
    pub captures: Vec<Capture>,
    /// The payload that it wrote and that it needs.
    pub holdings: Holdings,
    /// Where the sensitive contents are encrypted: all of them; what is above is then only what may be known by anybody.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub encrypted: Option<EncryptedPart>,
}

/// A warning or a cause, with what it is about.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Problem {
    /// Which kind of problem it is.
    #[serde(default)]
    pub kind: ProblemKind,
    /// The part or step.
    pub about: Option<String>,
    /// In words.
    pub text: String,
    /// What a person should do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub advice: Option<String>,
}

/// How the application was held.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct HoldReport {
    /// Why it was not held at all; the parts are then not from one point in time.
    pub no_hold: Option<String>,
    /// Why it needed no hold: its one part is a native export that is consistent by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub self_consistent: Option<String>,
    /// When the first `enter` was called.
    #[schemars(with = "Option<String>")]
    pub began: Option<Timestamp>,
    /// From the first `enter` to the beginning of the leaving, waiting for `drained` apart, in milliseconds.
    pub held_ms: Option<u64>,
    /// From the first `enter` to the proof that it serves again, in milliseconds.
    pub away_ms: Option<u64>,
    /// The longest it was allowed to be held, in milliseconds.
    pub limit_ms: Option<u64>,
    /// Every step's probe said that it was held, before and after the captures.
    pub proven: bool,
    /// Every step's probe said that it serves again.
    pub released: bool,
}

/// What one run stored of one part.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Capture {
    /// The part's name.
    pub part: String,
    /// The name of the definition's part that it comes from, where `each` made several of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub each_of: Option<String>,
    /// What `each` printed of it.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub each: BTreeMap<String, String>,
    /// Which kind.
    pub kind: PartKind,
    /// Whether the run fails without it.
    pub required: bool,
    /// Why it could not be captured; `None` when it was.
    pub problem: Option<String>,
    /// When it was begun.
    #[schemars(with = "String")]
    pub started: Timestamp,
    /// When it was captured; a part that was not captured in the hold is not of the same moment as the others.
    #[serde(default, skip_serializing_if = "is_held")]
    pub when: When,
    /// How its bytes were secured, where that is not by reading them into the store at once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secured: Option<SecuredBy>,
    /// How long it took to secure, in milliseconds.
    pub took_ms: u64,
    /// Whether paths in the listing are those of the source, or names within an export.
    pub layout: Layout,
    /// Where it was read from.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub roots: Vec<Root>,
    /// The users that own something in it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub users: Vec<Owner>,
    /// The groups that own something in it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub groups: Vec<Owner>,
    /// What it consists of.
    pub listing: Option<ListingRef>,
    /// How many.
    pub counts: Counts,
    /// Facts.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub facts: Facts,
    /// What the export is known not to carry.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub omits: Vec<String>,
    /// What to do by hand after a restore.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub after_restore: Vec<String>,
    /// Where its bytes are kept by another system: by which id, since when, and what proves it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outside: Option<OutsideProof>,
    /// What a person should look at.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub warnings: Vec<String>,
    /// What was left out, and why.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<LeftOut>,
    /// Paths that are there and could not be read, so that they are missing; the first of them are among the warnings.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub unreadable: u64,
}

fn is_zero(number: &u64) -> bool {
    *number == 0
}

impl Capture {
    /// The name of the definition's part that it comes from.
    pub fn defined_as(&self) -> &str {
        self.each_of.as_deref().unwrap_or(&self.part)
    }

    /// The part of an application's definition that it is of.
    pub fn defined_in<'a>(&self, app: &'a App) -> Option<&'a Part> {
        app.part.iter().find(|part| part.name == self.defined_as())
    }

    /// Whether the part was captured.
    pub fn is_captured(&self) -> bool {
        self.problem.is_none() && (self.listing.is_some() || self.outside.as_ref().is_some_and(|o| o.done.is_some()))
    }
}

/// A user or a group that owns something in a capture.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Owner {
    /// Its number, as listings have it.
    pub id: u32,
    /// Its name on the machine that captured it; none where it had none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
}

/// What is known of bytes that are kept by another system.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct OutsideProof {
    /// The id by which that machinery knows them.
    pub id: String,
    /// When it had been asked to begin.
    #[schemars(with = "String")]
    pub requested_at: Timestamp,
    /// When their moment was fixed.
    #[schemars(with = "String")]
    pub fixed_at: Timestamp,
    /// When they were complete.
    #[schemars(with = "Option<String>")]
    pub done: Option<Timestamp>,
    /// What the check printed.
    pub proof: Option<String>,
}

fn is_held(when: &When) -> bool {
    *when == When::Held
}

/// How a part's bytes were secured while the application was held.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum SecuredBy {
    /// By an atomic snapshot.
    Snapshot,
    /// By cloning, which shares the blocks with the source.
    Clone,
    /// By a private copy.
    Copy,
    /// By the engine's own view from one point in time, which it keeps for as long as the export takes.
    View,
}

impl SecuredBy {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Snapshot => "snapshot",
            Self::Clone => "clone",
            Self::Copy => "copy",
            Self::View => "view of the engine's own",
        }
    }
}

/// What the paths of a listing mean.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Layout {
    /// They are the source's absolute paths, without the first `/`.
    Source,
    /// They are names within what an export gave.
    Export,
}

/// Where a part was read from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Root {
    /// The path in the definition.
    pub path: String,
    /// The filesystem it was on, by type and id.
    pub filesystem: String,
}

/// How many things a capture has, and how they differ from the last capture of the part.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Counts {
    /// Regular files.
    pub files: u64,
    /// Folders.
    pub folders: u64,
    /// Links, pipes, sockets, devices.
    pub others: u64,
    /// Bytes in all files.
    pub bytes: u64,
    /// Files that the last capture did not have.
    pub new: u64,
    /// Files with other contents than last time.
    pub changed: u64,
    /// Files with the same contents.
    pub unchanged: u64,
    /// Files that only the last capture had.
    pub vanished: u64,
    /// Bytes that were read from the source.
    pub bytes_read: u64,
    /// Bytes that were new to the store, before compression.
    pub bytes_new: u64,
}

impl Counts {
    /// One more thing.
    pub fn see(&mut self, entry: &Entry) {
        match entry.kind {
            Kind::File => {
                self.files += 1;
                self.bytes += entry.size;
            }
            Kind::Folder => self.folders += 1,
            _ => self.others += 1,
        }
    }

    /// As many things more as `all` has; what is new about them is not taken over.
    pub fn see_all(&mut self, all: &Self) {
        self.files += all.files;
        self.folders += all.folders;
        self.others += all.others;
        self.bytes += all.bytes;
    }
}

/// Something that was not captured.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LeftOut {
    /// Why.
    pub why: String,
    /// How many.
    pub count: u64,
    /// The first of them.
    pub paths: Vec<String>,
}

impl Record {
    /// The application as it was defined when the run began.
    ///
    /// # Errors
    /// When the definition in the record cannot be read.
    pub fn defined(&self) -> Result<App, toml::de::Error> {
        let mut definition: Definition = toml::from_str(&self.definition)?;
        Ok(definition.app.remove(&self.app).unwrap_or_default())
    }

    /// The record of a run of which nothing more is known: nothing captured, started by hand, over at once, in no store yet.
    pub fn bare(run: RunId, app: &str, machine: &str, at: Timestamp, outcome: Outcome) -> Self {
        Self {
            record: RECORD_VERSION,
            run,
            app: app.to_owned(),
            title: None,
            machine: machine.to_owned(),
            store: String::new(),
            store_json: None,
            machine_json: None,
            previous: None,
            started: at,
            ended: at,
            trigger: BY_HAND.to_owned(),
            reason: None,
            partial: false,
            outcome,
            causes: Vec::new(),
            warnings: Vec::new(),
            host: Host::default(),
            facts: Facts::new(),
            definition: String::new(),
            hold: HoldReport::default(),
            steps: Vec::new(),
            captures: Vec::new(),
            holdings: Holdings::default(),
            encrypted: None,
        }
    }

    /// Stored bytes that the run added to the store.
    pub fn bytes_stored(&self) -> u64 {
        self.holdings.wrote.iter().map(|file| file.length).sum()
    }

    /// Bytes in all captures.
    pub fn bytes(&self) -> u64 {
        self.captures.iter().map(|capture| capture.counts.bytes).sum()
    }

    /// Files in all captures.
    pub fn files(&self) -> u64 {
        self.captures.iter().map(|capture| capture.counts.files).sum()
    }

    /// The capture of a part.
    pub fn capture(&self, part: &str) -> Option<&Capture> {
        self.captures.iter().find(|capture| capture.part == part)
    }

    /// The record's stem: time and run.
    pub fn stem(&self) -> String {
        format!("{}-{}", stem_time(self.started), self.run)
    }
}

/// A point in time as the names of documents begin with it: UTC, to the millisecond, so that names sort by time.
pub fn stem_time(at: Timestamp) -> String {
    at.strftime("%Y%m%dT%H%M%S%.3fZ").to_string()
}

/// The machine that a run happens on, as its record names it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Host {
    /// Its name.
    pub name: String,
    /// The operating system with its release.
    pub system: String,
    /// The processor's architecture.
    pub architecture: String,
    /// The account that Gullet runs as, `name (uid)`.
    pub account: String,
    /// Gullet's own version.
    pub gullet: String,
}

/// The encrypted part of a document.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct EncryptedPart {
    /// The public keys that it is encrypted to; each of their identities opens it.
    pub keys: Vec<String>,
    /// The whole document as JSON, as an age file, in base64.
    pub age: String,
}
