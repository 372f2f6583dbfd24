//! One part of an application, as the definition says it, and what kind it is.

use std::collections::BTreeMap;
use std::path::PathBuf;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::back::RestoreHook;
use super::engines::{HttpExport, Mariadb, Outside, Postgres};
use super::types::{CommandSpec, Probe, is_false};
use super::values::{Share, Span};

/// A piece of the application's state. Exactly one of `files`, `sqlite`, `command`, `export`, `postgres`, `mariadb`, `http` and
/// `outside` says which kind.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "a part", deny_unknown_fields)]
pub struct Part {
    /// Its name; with `each` it contains `{each.…}`.
    pub name: String,
    /// The run fails when this part could not be captured. Without it such a run goes on, and is incomplete.
    #[serde(default, skip_serializing_if = "is_false")]
    pub required: bool,
    /// Files and folders, absolute. Without it another key must say what the part is.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub files: Vec<PathBuf>,
    /// An SQLite database, absolute; copied through the engine's online backup. Without it another key must say
    /// what the part is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sqlite: Option<PathBuf>,
    /// A command whose standard output is the capture: `{ run = […], … }` as every other command, or program and
    /// arguments alone. Without it another key must say what the part is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub command: Option<PartCommand>,
    /// A command that writes the capture into `{scratch}`, or to the paths in `collect`. Without it another key
    /// must say what the part is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub export: Option<CommandSpec>,
    /// A PostgreSQL server: databases, or its whole cluster. Without it another key must say what the part is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub postgres: Option<Postgres>,
    /// A MariaDB server: databases, or its data folder. Without it another key must say what the part is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mariadb: Option<Mariadb>,
    /// An application with a web interface. Without it another key must say what the part is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub http: Option<HttpExport>,
    /// What is kept by another system: never counted as stored. Without it another key must say what the part is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outside: Option<Outside>,
    /// What `command` prints: bytes, or a tar that is listed file by file. Without it they are bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub output: Option<OutputForm>,
    /// Files that `export` writes outside `{scratch}`; must be newer than its start. Without it the export must
    /// write into `{scratch}`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub collect: Vec<PathBuf>,
    /// How long `command` may take where it is program and arguments alone; an hour by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<Span>,
    /// Only files that match one of these; a pattern without `/` matches names at any depth. Without it all files
    /// are meant.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub include: Vec<String>,
    /// No files that match one of these, and nothing below such folders. Without it nothing is left out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub exclude: Vec<String>,
    /// Paths below a root that must be in the capture; where one is missing the part fails. Without it nobody
    /// notices that a folder is captured without what matters in it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub must_contain: Vec<String>,
    /// Other filesystems mounted below a root are captured too. Without it they are left out, which is said.
    #[serde(default, skip_serializing_if = "is_false")]
    pub cross_mounts: bool,
    /// `"ok"`: a root with nothing in it, or on another filesystem than last time, is not a failure. Without it
    /// such a part fails, since most often a disk is not mounted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub empty: Option<Tolerance>,
    /// `"ok"`: paths that cannot be read are a warning; without it they make the run incomplete.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unreadable: Option<Tolerance>,
    /// Copied once before the hold, so that only what changed since then is copied during it. Without it all of it is read while the application is
    /// held, where there is no snapshot.
    #[serde(default, skip_serializing_if = "is_false")]
    pub precopy: bool,
    /// Zstandard level, 1 to 19, where it is not the store's. Without it the store's holds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(min = 1, max = 19))]
    pub zstd_level: Option<i32>,
    /// When it is captured: while the application is held (the default), before, or after. A part that is not captured in
    /// the hold is not of the same moment as the others.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub when: Option<When>,
    /// A command that prints names; the part is captured once for each of them. Without it the part is captured
    /// once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub each: Option<Each>,
    /// A fact that must be the same before and after the capture; otherwise the capture is repeated. Without it
    /// nobody notices that something changed in the middle of the capture.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stable: Option<StableFact>,
    /// Commands whose output becomes a fact. Without them only what Gullet counts by itself is kept with the
    /// capture.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub facts: BTreeMap<String, CommandSpec>,
    /// How far a fact may be below the last good run's before it is a warning; `bytes` and `files` are facts too. By
    /// default half of a database's `rows`, three quarters of the `bytes` of a database or an export, nine tenths of a folder's `files`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub max_shrink: BTreeMap<String, Share>,
    /// The least that a fact may be; below it the part has failed. Without it a small capture is a warning at most.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub min: BTreeMap<String, f64>,
    /// What the export is known not to contain. Every restore says it again. Without it whoever restores it must
    /// know by himself.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub omits: Vec<String>,
    /// How an export is restored: the command that reads it. Without it a restore in place puts the export into a
    /// folder, and a person brings it back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub restore: Option<RestoreHook>,
    /// What to do by hand after a restore; where there is a probe, it says whether that is done. Without it nothing
    /// more is asked for.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub after_restore: Vec<String>,
    /// Probes of what is to be done by hand after a restore, by the words of `after_restore`. Without it nobody
    /// looks whether it was done.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub done_when: BTreeMap<String, Probe>,
}

/// A command whose standard output is a capture.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum PartCommand {
    /// Program and arguments alone.
    Words(Vec<String>),
    /// As every other command.
    Spec(Box<CommandSpec>),
}

impl PartCommand {
    /// The command; `limit` is the part's.
    pub fn spec(&self, limit: Option<Span>) -> CommandSpec {
        match self {
            Self::Words(run) => CommandSpec { run: Some(run.clone()), limit, ..CommandSpec::default() },
            Self::Spec(spec) => CommandSpec { limit: spec.limit.or(limit), ..spec.as_ref().clone() },
        }
    }
}

/// When a part is captured.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum When {
    /// Before the application is held.
    Before,
    /// While it is held.
    #[default]
    Held,
    /// When it serves again.
    After,
}

/// What a command's standard output is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum OutputForm {
    /// Bytes, kept as one file.
    Bytes,
    /// A tar, kept file by file.
    Tar,
}

/// Whether something that is most likely a mishap may be: an empty root, or paths that cannot be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Tolerance {
    /// It is no failure.
    Ok,
}

/// A command that prints what there is: a name or a JSON object a line.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "`each`", deny_unknown_fields)]
pub struct Each {
    /// The command.
    #[serde(flatten)]
    pub command: CommandSpec,
    /// Fewer than this is a failure; 0 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub min: Option<u32>,
    /// One that the last good run did not have: `"ok"`, `"warn"` (the default) or `"fail"`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub new: Option<Drift>,
    /// One that only the last good run had: `"ok"`, `"warn"` or `"fail"` (the default).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gone: Option<Drift>,
}

/// What a difference from the last good run is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Drift {
    /// It is not mentioned.
    Ok,
    /// A warning.
    Warn,
    /// A failure.
    Fail,
}

/// A fact that is asked for before and after a capture.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "`stable`", deny_unknown_fields)]
pub struct StableFact {
    /// The name of the fact.
    pub fact: String,
    /// The command that prints it.
    #[serde(flatten)]
    pub command: CommandSpec,
}

/// Which kind a part is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum PartKind {
    /// Files and folders.
    Files,
    /// An SQLite database.
    Sqlite,
    /// A command's standard output.
    Command,
    /// What a command writes.
    Export,
    /// A PostgreSQL server: databases, or its whole cluster.
    Postgres,
    /// A MariaDB server: databases, or its data folder.
    Mariadb,
    /// What an application gives over its web interface.
    Http,
    /// What is kept by another system.
    Outside,
}

/// What a kind of part is for those who only read captures: drills, comparisons and tables ask this, so that a new kind needs no
/// arm in them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Nature {
    /// Files as they were.
    Files,
    /// A database that an engine can open.
    Database,
    /// An export that only its application understands.
    Export,
    /// Nothing here: another system has it.
    Elsewhere,
}

impl PartKind {
    /// What it is for those who only read captures.
    pub fn nature(self) -> Nature {
        match self {
            Self::Files => Nature::Files,
            Self::Sqlite | Self::Postgres | Self::Mariadb => Nature::Database,
            Self::Command | Self::Export | Self::Http => Nature::Export,
            Self::Outside => Nature::Elsewhere,
        }
    }

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Files => "files",
            Self::Sqlite => "sqlite",
            Self::Command => "command",
            Self::Export => "export",
            Self::Postgres => "postgres",
            Self::Mariadb => "mariadb",
            Self::Http => "http",
            Self::Outside => "outside",
        }
    }
}

impl Part {
    /// The kinds that the part's keys say; a sound part has exactly one.
    pub fn kinds(&self) -> Vec<PartKind> {
        let said = [
            (!self.files.is_empty(), PartKind::Files),
            (self.sqlite.is_some(), PartKind::Sqlite),
            (self.command.is_some(), PartKind::Command),
            (self.export.is_some(), PartKind::Export),
            (self.postgres.is_some(), PartKind::Postgres),
            (self.mariadb.is_some(), PartKind::Mariadb),
            (self.http.is_some(), PartKind::Http),
            (self.outside.is_some(), PartKind::Outside),
        ];
        said.into_iter().filter_map(|(said, kind)| said.then_some(kind)).collect()
    }
}
