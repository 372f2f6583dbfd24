//! The shape of a definition. Doc comments here are what the schema, and so an editor, tells the administrator;
//! the titles are how error messages name a table.

mod command;

use std::collections::BTreeMap;
use std::path::PathBuf;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::back::{DrillSpec, RestoreSpec};
use super::notify::{NotifyRule, NotifySpec, ReportSpec};
use super::part::Part;
use super::place::Credentials;
use super::schedule::{KeepSpec, ScheduleSpec, VerifySpec};
use super::values::{Share, Span};
pub use command::{CommandSpec, EnvValue, ExitWanted, OneOrMany, Probe, Require, SecretFile, SecretRun};

/// A file that says which applications to protect, where to, and how.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "the definition", deny_unknown_fields)]
pub struct Definition {
    /// Further files, relative to this one; `*` and `?` match names. Without it this one file is all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub include: Vec<String>,
    /// The local state folder; `/var/lib/gullet` by default. One a machine, on a local filesystem.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub state: Option<PathBuf>,
    /// How much is done at the same time. Without it the defaults of its keys hold.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limits: Option<LimitsSpec>,
    /// Where captures and records are kept. Without one no application has a place to go to.
    #[serde(default)]
    pub store: BTreeMap<String, StoreSpec>,
    /// The applications to protect. Without one there is nothing to protect.
    #[serde(default)]
    pub app: BTreeMap<String, App>,
    /// Applications that belong together. Without it every application is held by itself, and two that belong
    /// together are captured at different moments.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub group: BTreeMap<String, GroupSpec>,
    /// What `gullet status` warns of. Without it the defaults of its keys hold.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub status: Option<StatusSpec>,
    /// Who may be told of what happens. Without it nobody is told, and whoever wants to know must ask `gullet
    /// status`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub notify: BTreeMap<String, NotifySpec>,
    /// Lists of all applications that are sent by a schedule. Without it no list is sent.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub report: Vec<ReportSpec>,
}

/// What `gullet status` warns of.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "the limits of status", deny_unknown_fields)]
pub struct StatusSpec {
    /// Warn when the last complete run was not read back in full for so long, or never was; without it that is only said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub verified_within: Option<Span>,
    /// Warn when no run was proven by a drill for so long, or never was; without it that is only said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drilled_within: Option<Span>,
    /// It is critical when `gullet due` was not called for so long; ten minutes by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub due_within: Option<Span>,
    /// Warn when the last complete run lacks a second copy that its store should have for so long; one day by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub copied_within: Option<Span>,
    /// Warn of messages that could not be sent for so long; one hour by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub told_within: Option<Span>,
}

/// How much is done at the same time.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "the limits", deny_unknown_fields)]
pub struct LimitsSpec {
    /// How many runs that are due go on at the same time; 1 by default. Of one application never more than one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(min = 1, max = 64))]
    pub at_once: Option<u8>,
}

/// Applications that belong together: entered in order, captured while all are held, released in reverse.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "a group", deny_unknown_fields)]
pub struct GroupSpec {
    /// What people call it, in messages and reports. Without it they say its name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// When to run its applications together. Without it the group runs by hand only.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub schedule: Vec<ScheduleSpec>,
    /// The applications, in the order in which they are entered.
    pub apps: Vec<String>,
}

impl Definition {
    /// The store of an application, with its name: the one that it says, or else the only one there is.
    pub fn store_of(&self, app: &str) -> Option<(&String, &StoreSpec)> {
        let said = self.app.get(app).and_then(|app| app.store.as_ref());
        said.and_then(|name| self.store.get_key_value(name)).or_else(|| self.first_stores().next())
    }

    /// The store that another one is a copy of.
    pub fn copied_from(&self, copy: &str) -> Option<(&String, &StoreSpec)> {
        self.store.iter().find(|(_, spec)| spec.copies.iter().any(|name| name == copy))
    }

    /// The copies of a store.
    pub fn copies_of<'d>(&'d self, store: &'d StoreSpec) -> impl Iterator<Item = (&'d String, &'d StoreSpec)> {
        store.copies.iter().filter_map(|name| self.store.get_key_value(name))
    }

    /// The stores that are no copies.
    pub fn first_stores(&self) -> impl Iterator<Item = (&String, &StoreSpec)> {
        self.store.iter().filter(|(name, _)| self.copied_from(name).is_none())
    }

    /// All applications: those of each group together, every other one by itself.
    pub fn sets(&self) -> Vec<Vec<String>> {
        let in_group = |app: &String| self.group.values().any(|group| group.apps.contains(app));
        let groups = self.group.values().map(|group| group.apps.clone());
        let alone = self.app.keys().filter(|app| !in_group(app)).map(|app| vec![app.clone()]);
        groups.chain(alone).collect()
    }
}

/// A place where captures and records are kept.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "a store", deny_unknown_fields)]
pub struct StoreSpec {
    /// An absolute folder, `s3://BUCKET/PREFIX`, `sftp://USER@HOST/FOLDER`, or `https://HOST/FOLDER` of a WebDAV server.
    pub location: String,
    /// Of a bucket: the URL of its server, such as `https://objects.skerry.example`. A bucket without it is an
    /// error.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub endpoint: Option<String>,
    /// Of a bucket: its region; `us-east-1` by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub region: Option<String>,
    /// What signs in at a far place: a file or what a command prints, with lines `NAME=VALUE`. For a bucket `AWS_ACCESS_KEY_ID`,
    /// `AWS_SECRET_ACCESS_KEY` and, where there is one, `AWS_SESSION_TOKEN`; without it they come from the environment. For WebDAV
    /// `WEBDAV_USER` and `WEBDAV_PASSWORD`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credentials: Option<Credentials>,
    /// A file with the certificate (PEM) of the authority that the server's certificate comes from, where it is a
    /// private one. Without it only authorities that the program knows are believed, and a server with a private
    /// one is refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub authority: Option<PathBuf>,
    /// By SFTP: the file of the private key that signs in; by default those that `ssh` tries.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_file: Option<PathBuf>,
    /// By SFTP: the file of known hosts in which the machine must be (`ssh-keyscan` prints its lines); by default those of `ssh`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub known_hosts: Option<PathBuf>,
    /// How long the server of a far place may be silent before it is given up; 60 s by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<Span>,
    /// Of a bucket: for how long what is written is locked, so that nobody can remove or replace it before, whatever credentials he
    /// has. What later runs reuse is locked anew. The bucket must be one that can lock. Without it whoever takes over the machine
    /// can remove what the machine can remove.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub locked_for: Option<Span>,
    /// The folder must be a mount point, so that the root disk is never filled by mistake. Without it only the
    /// missing `store.json` tells that a disk is not there.
    #[serde(default, skip_serializing_if = "is_false")]
    pub must_be_mounted: bool,
    /// Zstandard level, 1 to 19; 3 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(min = 1, max = 19))]
    pub zstd_level: Option<i32>,
    /// Public keys (`age1…`, or lines of SSH public keys): what is stored opens only with one of their identities.
    /// Without it everything lies in clear, and whoever can read the place can read the data.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub encrypt_to: Vec<String>,
    /// By SFTP, where the server has no checksum to give: how much of each payload file is read back after it was sent, in pieces that
    /// are drawn, the first and the last always; 10 % by default. The rest is proven by the length, by what guards the connection, and by `verify` later.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub read_back: Option<Share>,
    /// The names of stores that are copies of this one: after each run they get what they do not have yet. Without
    /// it there is one copy of everything, which goes when its disk goes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub copies: Vec<String>,
    /// When the store is read back by itself: the keys of a schedule, and `share`. Without it damage is found only
    /// when somebody calls `gullet verify`, or by a restore.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub verify: Option<VerifySpec>,
}

/// An application to protect.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "an application", deny_unknown_fields)]
pub struct App {
    /// What people call it, in messages and reports. Without it they say its name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// The name of the store that its runs go to. Without it that is the only store there is; with several it is an error.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// How long the application may be held: from the first `enter` until releasing begins, without the time spent waiting
    /// for `drained`. At this limit it is released, and the run fails. 5 minutes by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_hold: Option<Span>,
    /// How parts are captured while the application is held; `auto` by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub capture_method: Option<CaptureMethod>,
    /// Commands that make an atomic snapshot where the filesystem itself cannot: of a volume manager, of an
    /// appliance. Without it only what the filesystem can do by itself is made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub snapshot: Option<SnapshotHooks>,
    /// Why the application is never held. The parts are then not from one point in time, and every record says so.
    /// Without it there must be `hold` or `self_consistent`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub no_hold: Option<String>,
    /// Why the application needs no hold: its one part is a native export that is consistent by itself. No warning
    /// follows from it. Without it there must be `hold` or `no_hold`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub self_consistent: Option<String>,
    /// What a run does to the application's own logs; said in the plan and with each run. Without it nothing is
    /// said of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub log: Option<LogEffect>,
    /// Commands that print facts of the application: its version, its schema, its licence, its role. They are asked
    /// before each run and kept with it; a restore in place asks for agreement where they differ. Without them
    /// nobody notices that what is restored is of another version than the application that is there.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub facts: BTreeMap<String, CommandSpec>,
    /// Harmless probes that must pass before anything is touched. Without it only what preflight knows to look at
    /// is looked at.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub require: Vec<Require>,
    /// How the application is put into backup mode: steps that are entered in order and released in reverse.
    /// Without it `no_hold` or `self_consistent` must say why.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub hold: Vec<HoldStep>,
    /// The pieces of the application's state. An application without one is an error.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub part: Vec<Part>,
    /// Your commands at stated moments of a run; `gullet explain hooks` says more. Without it nothing more is
    /// called.
    #[serde(default, skip_serializing_if = "Hooks::is_empty")]
    pub hooks: Hooks,
    /// How the application is restored in place, by `gullet restore NAME --in-place`. Without it the application
    /// must be stopped by hand before a restore in place, and started after it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub restore: Option<RestoreSpec>,
    /// How `gullet drill` proves that a run restores. Without it only databases are proven, by their own engines;
    /// of files and exports a drill can say no more than that they are restored intact.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drill: Option<DrillSpec>,
    /// How old the last complete run may be before `gullet status` calls the application unprotected. By default twice the usual
    /// time between its complete runs, and two days at least.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expected_every: Option<Span>,
    /// When to run it. Without it runs are made by hand only, and `status` says so.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub schedule: Vec<ScheduleSpec>,
    /// Why it has no schedule: then nobody is warned that it has none. Without it an application with no schedule
    /// is warned of.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub no_schedule: Option<String>,
    /// Which runs keep what they captured. Without it all of them do, and the store grows for ever.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keep: Option<KeepSpec>,
    /// Who is told of its runs, and of which. Without it nobody is told of them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notify: Vec<NotifyRule>,
}

/// What a run does to the application's own logs, as its administrator knows it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum LogEffect {
    /// They stay as they are.
    Untouched,
    /// What is captured of them is removed.
    Truncated,
}

impl LogEffect {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Untouched => "untouched",
            Self::Truncated => "truncated",
        }
    }
}

/// A moment at which the administrator's hooks run.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum HookMoment {
    /// After preflight, before the application is touched.
    Before,
    /// The application is held.
    Held,
    /// It serves again.
    Released,
    /// The run is complete, durable, read back and recorded.
    Succeeded,
    /// It is not.
    Failed,
    /// Last of all, whatever happened.
    Finished,
}

impl HookMoment {
    /// The definition's word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Before => "before",
            Self::Held => "held",
            Self::Released => "released",
            Self::Succeeded => "succeeded",
            Self::Failed => "failed",
            Self::Finished => "finished",
        }
    }
}

impl Hooks {
    /// The hooks of a moment.
    pub fn at(&self, moment: HookMoment) -> &[Hook] {
        match moment {
            HookMoment::Before => &self.before,
            HookMoment::Held => &self.held,
            HookMoment::Released => &self.released,
            HookMoment::Succeeded => &self.succeeded,
            HookMoment::Failed => &self.failed,
            HookMoment::Finished => &self.finished,
        }
    }
}

/// How parts are secured while the application is held.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum CaptureMethod {
    /// The first that the filesystem can do.
    Auto,
    /// Read into the store while held.
    Stream,
    /// An atomic snapshot: of a btrfs subvolume, or by the commands of `snapshot`.
    Snapshot,
    /// A private copy first: a clone where the filesystem can (btrfs, xfs), else byte by byte.
    Copy,
}

/// Commands that make an atomic snapshot and remove it again.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "the snapshot", deny_unknown_fields)]
pub struct SnapshotHooks {
    /// Makes it, while the application is held, and makes it visible at the paths of `shows`.
    pub make: CommandSpec,
    /// Removes it, when what it shows is stored, or a later command finds that the run died. It may be called when there
    /// is none.
    pub remove: CommandSpec,
    /// Where the snapshot shows the application's data: a path of the application, and the path at which the snapshot shows
    /// it.
    pub shows: BTreeMap<PathBuf, PathBuf>,
}

/// One step of the hold: how the application enters backup mode, how it is asked, and how it is released.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "a hold step", deny_unknown_fields)]
pub struct HoldStep {
    /// Its name, by which plans, records and messages mean it.
    pub name: String,
    /// Puts the application into backup mode. Without it there must be `session`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub enter: Option<CommandSpec>,
    /// Passes when the work in hand is finished; the waiting does not count as time held. Without it nothing is
    /// waited for, and work in hand may be captured half done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drained: Option<OneOrMany<Probe>>,
    /// Passes when the application is held. Without it a run is never more than complete with warnings.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub entered: Option<OneOrMany<Probe>>,
    /// Takes the application out of backup mode. The guard repeats it until `released` passes. Without it there
    /// must be `session`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub release: Option<CommandSpec>,
    /// Passes when the application serves again. Before a run exactly one of `entered` and `released` must pass.
    /// Without it nothing proves that it serves again but the exit code of `release`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub released: Option<OneOrMany<Probe>>,
    /// What to do when the application is held already: refuse (the default), or go on and leave it as it was found.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub if_held: Option<FoundHeld>,
    /// What a person is told to do when `release` fails. Without it the command of `release` is named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub manual_release: Option<String>,
    /// What a person at the terminal is told to do when entering fails; then the application is asked again.
    /// Without it the command of `enter` is named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub manual_enter: Option<String>,
    /// The name of a lock that applications share: only one of them is in such a step at a time. It is waited for
    /// before anything is entered. Without it nothing keeps two applications from being held at the same time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lock: Option<String>,
    /// Instead of `enter` and `release`: a process that prints `held` when it owns the lock, keeps it while it
    /// lives, and lets go when its standard input closes. Without it there must be `enter` and `release`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub session: Option<CommandSpec>,
}

/// What to do when the application is held already.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub enum FoundHeld {
    /// Refuse the run.
    #[serde(rename = "refuse")]
    Refuse,
    /// Capture, and leave it as it was found.
    #[serde(rename = "continue")]
    GoOn,
}

/// Your commands at stated moments of a run; `gullet explain hooks` says more.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "the hooks", deny_unknown_fields)]
pub struct Hooks {
    /// After preflight, before the application is touched. Without it nothing is called then.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub before: Vec<Hook>,
    /// When the application is held. Without it nothing is called then.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub held: Vec<Hook>,
    /// When it serves again. Without it nothing is called then.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub released: Vec<Hook>,
    /// After a complete run is durable, read back and recorded; the place for clean-up. Without it nothing is
    /// called then.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub succeeded: Vec<Hook>,
    /// After every other run, also one that was refused or missed. Without it nothing is called then.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub failed: Vec<Hook>,
    /// Last of all, whatever happened. Without it nothing is called then.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub finished: Vec<Hook>,
}

impl Hooks {
    fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

/// A command at a stated moment.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "a hook", deny_unknown_fields)]
pub struct Hook {
    /// The command.
    #[serde(flatten)]
    pub command: CommandSpec,
    /// Parts that must have been captured, else it does not run. Without it the hook runs whatever was captured.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<String>,
    /// A `succeeded` hook that also runs when the run is complete with warnings. Without it a warning keeps such a
    /// hook from running.
    #[serde(default, skip_serializing_if = "is_false")]
    pub with_warnings: bool,
}

pub(super) fn is_false(value: &bool) -> bool {
    !*value
}
