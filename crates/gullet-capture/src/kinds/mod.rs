//! The kinds of parts: one file or folder each.
//!
//! A kind is a struct of the definition ([`PartSource`]) and its `SourceKind` here: how it is described and planned, what can be
//! known of it beforehand, and how it is captured. `of` is the only place that tells them apart. `part` has what they
//! share. Those of database servers are in `engines`, one folder an engine.

mod command;
mod export;
mod files;
mod http;
mod outside;
mod sqlite;

use std::path::{Path, PathBuf};
use std::time::Duration;

use gullet_store::ChunkReader;
use gullet_store::listing::{ListingRef, PathName};

use crate::part::context::{CaptureContext, PartError};
use crate::part::staged::Staged;
use crate::part::walk::Walk;
use crate::part::{RemainingError, Staging, Survey, Why};
use crate::plan::{Plan, PlannedPart};
use gullet_host::hook::Runner;
use gullet_model::Reason;
use gullet_model::definition::{CommandSpec, OneOrMany, PartSource, Probe, When};
use gullet_model::record::{Capture, Layout};

pub use sqlite::examine as examine_sqlite;

/// What a kind of part must be able to do.
pub(crate) trait SourceKind {
    /// Where it comes from, in words.
    fn describe(&self, part: &PlannedPart) -> String;

    /// Whether its listing has paths of the source, or names within an export.
    fn layout(&self) -> Layout {
        Layout::Export
    }

    /// Whether it can be made anew at any time, beside the runs, to be compared with what a run has.
    fn can_be_made_anew(&self) -> bool {
        true
    }

    /// The paths that are captured as they stand, so that a snapshot or clones of them help.
    fn staged_paths(&self) -> Vec<&PathBuf> {
        Vec::new()
    }

    /// Its files as they lie there, where it is captured by those.
    fn walk(&self, part: &PlannedPart, plan: &Plan) -> Option<Walk> {
        let _ = (part, plan);
        None
    }

    /// What it would have, before a run; `None` where that is known only when it has run.
    fn survey(&self, part: &PlannedPart, plan: &Plan) -> Option<Survey> {
        self.walk(part, plan).map(|walk| crate::part::survey_of(&walk, false))
    }

    /// What capturing and storing it runs.
    fn steps(&self, part: &PlannedPart) -> KindSteps;

    /// The commands of the definition that must be there before a run; those of its probes too.
    fn commands(&self) -> Vec<CommandSpec> {
        Vec::new()
    }

    /// What can be known beforehand of the server behind it; `None` where there is none to ask. Gives what was found.
    fn check(&self, part: &PlannedPart, plan: &Plan, runner: &Runner<'_>) -> Option<Result<String, PartError>> {
        let _ = (part, plan, runner);
        None
    }

    /// Captures the source, as far as that must be done while the application is held; gives what waits to be stored.
    ///
    /// # Errors
    /// When it could not be captured.
    fn capture(
        &self,
        part: &PlannedPart,
        capture: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Box<dyn Staged>, PartError>;
}

/// The kind of a source.
pub(crate) fn of(source: &PartSource) -> &dyn SourceKind {
    match source {
        PartSource::Files(source) => source,
        PartSource::Sqlite(source) => source,
        PartSource::Command(source) => source,
        PartSource::Export(source) => source,
        PartSource::Postgres(source) => source,
        PartSource::Mariadb(source) => source,
        PartSource::Http(source) => source,
        PartSource::Outside(source) => source,
    }
}

/// Where a part comes from, in words.
pub fn source_text(part: &PlannedPart) -> String {
    of(&part.source).describe(part)
}

/// Whether a part can be made anew at any time, beside the runs: an export or a copy that its engine makes.
pub fn can_be_made_anew(part: &PlannedPart) -> bool {
    of(&part.source).can_be_made_anew()
}

/// What capturing and storing a part runs.
pub fn steps(part: &PlannedPart) -> KindSteps {
    of(&part.source).steps(part)
}

/// Looks at what a part would have; `None` where that is known only when it has run.
pub fn survey(part: &PlannedPart, plan: &Plan) -> Option<Survey> {
    of(&part.source).survey(part, plan)
}

/// What can be known beforehand of the server that a part stands for: that it answers, that its version is known, that the
/// user may do what is needed, that the export program is not older. `None` where it stands for none. Gives what was found.
pub fn check_service(part: &PlannedPart, plan: &Plan, runner: &Runner<'_>) -> Option<Result<String, Reason>> {
    of(&part.source).check(part, plan, runner).map(|found| found.map_err(Reason::from))
}

/// Finds out by which method each source of a plan can be captured in the hold: a snapshot, clones or copies.
///
/// # Errors
/// When the note of what will be staged cannot be written, or the definition asks for a snapshot that cannot be made.
pub fn prepare(staging: &mut Staging, plan: &Plan) -> Result<String, Reason> {
    let held = plan.parts.iter().filter(|part| part.spec.when.unwrap_or_default() == When::Held);
    let sources = held.flat_map(|part| {
        of(&part.source).staged_paths().into_iter().map(|path| (path.as_path(), part.spec.cross_mounts))
    });
    staging.ready(plan, &sources.collect::<Vec<_>>())
}

/// Finds the paths that exist now at the sources of a part and are not in the listing of a capture of it.
///
/// # Errors
/// When the listing or a folder cannot be read. That a source is not there is none.
pub fn remaining(
    part: &PlannedPart,
    plan: &Plan,
    listing: &ListingRef,
    chunks: &mut ChunkReader,
    here: &dyn Fn(&PathName) -> PathName,
) -> Result<Vec<(PathBuf, Why)>, RemainingError> {
    match of(&part.source).walk(part, plan) {
        Some(walk) => crate::part::remaining(walk, listing, chunks, here),
        None => Ok(Vec::new()),
    }
}

/// Every command that a run would execute.
pub fn commands(plan: &Plan) -> Vec<CommandSpec> {
    let spec = &plan.spec;
    let mut found: Vec<&CommandSpec> = spec.require.iter().map(|require| &require.probe.command).collect();
    for step in &spec.hold {
        found.extend([&step.enter, &step.release, &step.session].into_iter().flatten());
        let probes = [&step.drained, &step.entered, &step.released].into_iter().flatten();
        found.extend(probes.flat_map(OneOrMany::all).map(|probe| &probe.command));
    }
    found.extend(spec.snapshot.iter().flat_map(|hooks| [&hooks.make, &hooks.remove]));
    for part in &spec.part {
        found.extend(part.each.as_ref().map(|each| &each.command));
        found.extend(part.stable.as_ref().map(|steady| &steady.command));
        found.extend(part.facts.values());
    }
    let hooks = &spec.hooks;
    let moments = [&hooks.before, &hooks.held, &hooks.released, &hooks.succeeded, &hooks.failed, &hooks.finished];
    found.extend(moments.into_iter().flatten().map(|hook| &hook.command));
    let sources = spec.part.iter().filter_map(|part| part.source().ok());
    let of_sources = sources.flat_map(|source| of(&source).commands());
    found.into_iter().cloned().chain(of_sources).collect()
}

/// What capturing and storing a part runs, for a plan.
#[derive(Clone, Debug, Default)]
pub struct KindSteps {
    /// The command that gives the capture itself, with its limit, where it is one.
    pub command: Option<(CommandSpec, Duration)>,
    /// The source, or what is collected, in words.
    pub detail: Option<String>,
    /// What capturing it runs besides.
    pub capture: Vec<KindStep>,
    /// What storing it runs.
    pub store: Vec<KindStep>,
    /// Whether a server is asked before the run.
    pub asks_server: bool,
}

/// One command or probe of a kind.
#[derive(Clone, Debug)]
pub struct KindStep {
    /// The purpose of the command, in words for the plan.
    pub what: &'static str,
    /// What it runs.
    pub runs: KindCommand,
}

/// A command with its limit, or probes with the time for which they are asked again.
#[derive(Clone, Debug)]
pub enum KindCommand {
    /// A command that is executed once, or as often as its `tries` say.
    Run(Box<CommandSpec>, Duration),
    /// Probes that are asked until all of them pass.
    Ask(OneOrMany<Probe>, Duration),
}

impl KindSteps {
    /// A kind that runs no command of the definition.
    pub(crate) fn of_source(text: String) -> Self {
        Self { detail: Some(text), ..Self::default() }
    }
}

impl KindStep {
    fn run(what: &'static str, command: &CommandSpec, limit: Duration) -> Self {
        Self { what, runs: KindCommand::Run(Box::new(command.clone()), limit) }
    }

    fn ask(what: &'static str, probes: &OneOrMany<Probe>, within: Duration) -> Self {
        Self { what, runs: KindCommand::Ask(probes.clone(), within) }
    }
}

/// The commands of probes.
fn probed<'p>(probes: impl IntoIterator<Item = &'p OneOrMany<Probe>>) -> Vec<CommandSpec> {
    probes.into_iter().flat_map(OneOrMany::all).map(|probe| probe.command.clone()).collect()
}

/// Paths in words.
fn paths_text<P: AsRef<Path>>(paths: &[P]) -> String {
    paths.iter().map(|path| path.as_ref().display().to_string()).collect::<Vec<_>>().join(", ")
}
