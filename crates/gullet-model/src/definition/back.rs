//! The way back: how an application is restored in place, and how it is proven that it restores.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::schedule::CalendarSpec;
use super::types::{App, CommandSpec, OneOrMany, Probe, Require};

/// How the application is restored in place.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "the restore", deny_unknown_fields)]
pub struct RestoreSpec {
    /// The order in which parts that come back by a command are brought back; those not named come after them.
    /// Without it they come in the order of the definition.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub order: Vec<String>,
    /// Instead of `stop`, `stopped`, `start` and `started`: the hold step whose `enter`, `entered`, `release` and
    /// `released` stop and start the service. Without it these keys say it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub like_hold: Option<String>,
    /// Stops the application before its files are swapped. Without it the application must be stopped by hand,
    /// which `--accept running` says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stop: Option<CommandSpec>,
    /// Passes when the application is stopped. Without it nothing proves that it is stopped but the exit code of
    /// `stop`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stopped: Option<OneOrMany<Probe>>,
    /// What must hold of the new state before the application is started on it; else the old one comes back.
    /// Without it the application is started on what was restored without a look.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub before_start: Vec<Require>,
    /// Starts the application on the restored state. Without it the application must be started by hand.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<CommandSpec>,
    /// Passes when the application serves. Without it nothing proves that it serves but the exit code of `start`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub started: Option<OneOrMany<Probe>>,
    /// What must hold of the restored application; when one does not, the old state comes back. Without it a
    /// restore has succeeded when the application serves.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub checks: Vec<Require>,
    /// What a person is told to do when it does not start. Without it the command of `start` is named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub manual_start: Option<String>,
    /// What the application does at a boot in the middle of a restore. Without it a restore must be told `--accept
    /// boot`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_boot: Option<AtBoot>,
}

impl App {
    /// Writes out how the application is stopped and started where the restore says `like_hold`, in the place of that key: a
    /// record keeps what was executed, and what it keeps is a definition that passes the checks.
    pub(super) fn fill_like_hold(&mut self) {
        let Some(restore) = &mut self.restore else { return };
        let Some(name) = restore.like_hold.take() else { return };
        let Some(step) = self.hold.iter().find(|step| step.name == name) else { return };
        restore.stop.clone_from(&step.enter);
        restore.stopped.clone_from(&step.entered);
        restore.start.clone_from(&step.release);
        restore.started.clone_from(&step.released);
        if restore.manual_start.is_none() {
            restore.manual_start.clone_from(&step.manual_release);
        }
    }

    /// The commands and probes of a restore in place.
    pub fn commands_of_restore(&self) -> Vec<&CommandSpec> {
        let ways = self.part.iter().filter_map(|part| part.restore.as_ref()).filter(|back| back.within.is_none());
        let ways = ways.map(|back| &back.command);
        let Some(restore) = &self.restore else { return ways.collect() };
        let probes =
            restore.stopped.iter().chain(&restore.started).flat_map(OneOrMany::all).map(|probe| &probe.command);
        let checks = restore.before_start.iter().chain(&restore.checks).map(|check| &check.probe.command);
        ways.chain(&restore.stop).chain(&restore.start).chain(probes).chain(checks).collect()
    }

    /// The commands and probes of a drill.
    pub fn commands_of_drill(&self) -> Vec<&CommandSpec> {
        let Some(drill) = &self.drill else { return Vec::new() };
        let checks = drill.checks.iter().map(|check| &check.probe.command);
        checks.chain(&drill.start).chain(&drill.stop).collect()
    }
}

/// What an application does at a boot that comes in the middle of a restore.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub enum AtBoot {
    /// It stays stopped: `stop` survives a boot.
    #[serde(rename = "stay stopped")]
    StaysStopped,
    /// It starts only after Gullet's boot entry, which puts the old state back.
    #[serde(rename = "start")]
    StartsAfterGullet,
}

/// How a part that is an export comes back: by a command, or with another part.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "`restore` of a part", deny_unknown_fields)]
pub struct RestoreHook {
    /// The command; `{folder}` is where the capture lies, and it runs there.
    #[serde(flatten)]
    pub command: CommandSpec,
    /// Instead of a command: the part that has all of it too, so that it comes back with that one. Without it there
    /// must be a command.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub within: Option<String>,
    /// What the command reads: the capture's one file on its standard input, or the folder (the default).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reads: Option<Reads>,
    /// Whether the application is stopped then (the default), or started.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub when: Option<Running>,
}

/// What a command that restores reads.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Reads {
    /// The capture's one file, on standard input.
    Stdin,
    /// The folder that the capture lies in.
    Folder,
}

/// Whether the application runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Running {
    /// While it is stopped.
    Stopped,
    /// When it is started.
    Started,
}

/// How `gullet drill` proves that a run restores.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "the drill", deny_unknown_fields)]
pub struct DrillSpec {
    /// When it is done by itself.
    #[serde(flatten)]
    pub calendar: CalendarSpec,
    /// The folder to restore into, absolute; below the state folder by default. It is always cleared again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub scratch: Option<PathBuf>,
    /// Which run: the newest complete one (the default), or one of them by chance.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pick: Option<Pick>,
    /// Only these parts are restored and checked; all by default.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<String>,
    /// Starts something on what was restored, apart from the live application; `{files}` and `{exports}` are its
    /// folders. Without it nothing is started but the engines of databases.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<CommandSpec>,
    /// What must hold of what was restored; `{files}`, `{exports}` and `{fact.PART.NAME}` are filled in, in
    /// `prints` too. Without it files and exports are restored, and nobody opens them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub checks: Vec<Require>,
    /// Stops what `start` started; always called. Without it what `start` started goes on when the drill is over.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stop: Option<CommandSpec>,
}

/// Which run a drill takes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Pick {
    /// The newest complete one.
    #[default]
    Newest,
    /// One of the complete ones by chance.
    Random,
}
