//! What a restore in place will do: which roots change hands and how, what goes on in the new state, what is stopped.

mod differences;
mod roots;

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use gullet_store::listing::{ListingRef, PathName};
use gullet_store::{Store, StoreError};
use jiff::Timestamp;
use serde::Serialize;

use super::journal::PlaceRequest;
use crate::restore::RestoreError;
use crate::restore::select::Selection;
use gullet_capture::plan::{Plan, PlannedCopy};
use gullet_host::world::World;
use gullet_logbook::logbook::{Logged, RunLine};
use gullet_model::Reason;
use gullet_model::definition::command_text;
use gullet_model::definition::{App, OneOrMany, Probe, Require, RestoreHook};
use gullet_model::outcome::Outcome;

/// Paths named for one reason, at most.
const NAMED: usize = 5;
/// A run of the original host that is not older than this means that it is still alive, in hours.
const ALIVE: i64 = 48;

/// How a part comes back.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "snake_case", tag = "way")]
pub enum RestoreMethod {
    /// Its files change hands.
    Files {
        /// The roots, as they are here.
        roots: Vec<PathBuf>,
    },
    /// A command brings it back; that cannot be undone.
    Command {
        /// The command, as it will be executed.
        command: String,
        /// Whether the application is stopped then.
        stopped: bool,
    },
    /// The server's own client brings it into the server, where it must not be yet.
    Import {
        /// The server, as people name it.
        server: String,
    },
    /// It comes back with another part, which has all of it too.
    Within {
        /// The other part.
        other: String,
    },
    /// It is put into a folder, and a person brings it back.
    ByHand,
}

/// One part that is restored.
#[derive(Clone, Debug, Serialize)]
pub struct PlacePart {
    /// The name of the part.
    pub part: String,
    /// How it comes back.
    #[serde(flatten)]
    pub way: RestoreMethod,
    /// Files that it has.
    pub files: u64,
    /// Bytes that it has.
    pub bytes: u64,
    #[serde(skip)]
    pub(super) listing: ListingRef,
    #[serde(skip)]
    pub(super) back: Option<RestoreHook>,
}

/// A root that changes hands.
#[derive(Clone, Debug, Serialize)]
pub struct PlannedTarget {
    /// The root, as it is here.
    pub root: PathBuf,
    /// The same with no link in it.
    pub resolved: PathBuf,
    /// Why what is in it changes hands, and not the root itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub inside: Option<String>,
    /// Whether there is anything now.
    pub is_there: bool,
    /// Whether it is a folder.
    pub is_folder: bool,
    #[serde(skip)]
    pub(super) seen_at: Vec<PathBuf>,
    /// Other names in the same folder that go with it, such as a database's log.
    #[serde(skip)]
    pub(super) beside: &'static [&'static str],
}

/// What of the parts comes below one root.
#[derive(Clone, Debug)]
pub(super) struct PlacePiece {
    pub(super) target: usize,
    pub(super) part: usize,
    /// The path in the listing.
    pub(super) from: PathName,
    /// Where it comes, below the root; empty for the root itself.
    pub(super) to: PathName,
}

/// What is in the old place and not in the new state.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Leftover {
    /// Why it is not in the new state, in words.
    pub why: String,
    /// How many; of a folder only the folder.
    pub count: u64,
    /// The first of them.
    pub paths: Vec<PathBuf>,
    /// Whether it goes on in the new state; else it is set aside with the old one.
    pub carried: bool,
}

/// Something that is not as it was, or not as it should be; it is agreed to by its name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct LiveDifference {
    /// The word by which it is agreed to.
    pub name: String,
    /// The difference in words.
    pub text: String,
    /// Whether it was agreed to.
    pub accepted: bool,
}

/// What will be restored in place.
#[derive(Clone, Debug, Serialize)]
pub struct PlacePlan {
    /// The id of the run that is restored.
    pub run: String,
    /// The name of the application.
    pub app: String,
    /// The run's outcome.
    pub outcome: Outcome,
    /// When its state is from: when the hold began, or the run where there was none. What was written later is not in it.
    pub as_of: Timestamp,
    /// Why the parts are not from one point in time, where they are not.
    pub no_hold: Option<String>,
    /// What happens to each part.
    pub parts: Vec<PlacePart>,
    /// Parts that the run does not have, with the reason.
    pub missing: Vec<(String, String)>,
    /// Parts whose bytes are kept by another system: part and id.
    pub outside: Vec<(String, String)>,
    /// The roots that change hands.
    pub targets: Vec<PlannedTarget>,
    /// What is in the old place and not in the new state.
    pub leftovers: Vec<Leftover>,
    /// What happens to the application: when, and the command or probe.
    pub steps: Vec<(String, String)>,
    /// What is to be agreed to by name.
    pub differences: Vec<LiveDifference>,
    /// What is to be done by hand afterwards.
    pub after: Vec<AfterRestore>,
    /// What was asked for.
    #[serde(skip)]
    pub asked: PlaceRequest,
    #[serde(skip)]
    pub(super) pieces: Vec<PlacePiece>,
    /// The definition that the ways back are of.
    #[serde(skip)]
    pub(super) spec: App,
    /// The plan of the run, with paths as they are here.
    #[serde(skip)]
    then: Box<Plan>,
}

/// Something to do by hand after a restore.
#[derive(Clone, Debug, Serialize)]
pub struct AfterRestore {
    /// The name of the part.
    pub part: String,
    /// What to do, or what the export does not carry.
    pub text: String,
    /// Whether it is something that the export does not carry.
    pub is_lack: bool,
    /// What its probe says, where there is one: whether it is done, and else why not.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub done: Option<Result<(), Reason>>,
}

/// What a plan is made of.
pub struct PlaceContext<'a> {
    /// The run that is restored.
    pub logged: &'a Logged,
    /// All runs that are known, oldest first.
    pub runs: &'a [&'a RunLine],
    /// The store that the run is in.
    pub store: &'a Store,
    /// The store's folder, where it is known.
    pub store_folder: &'a Path,
    /// All stores of the definition: wherever they lie, they belong to no part.
    pub stores: Vec<PlannedCopy>,
    /// The state folder.
    pub state: &'a Path,
    /// The application as the definition of this machine says it; that of the record where it says nothing.
    pub spec: Option<&'a App>,
    /// The outside world.
    pub world: World<'a>,
}

fn refused(text: impl Into<String>) -> RestoreError {
    RestoreError::Place(text.into())
}

fn under(path: &Path, maps: &[(PathBuf, PathBuf)]) -> PathBuf {
    let longest = maps.iter().filter(|(from, _)| path.starts_with(from)).max_by_key(|(from, _)| from.as_os_str().len());
    match longest {
        Some((from, to)) => to.join(path.strip_prefix(from).unwrap_or(Path::new(""))),
        None => path.to_path_buf(),
    }
}

/// The path with every link in it followed; the last component need not be there.
fn resolved(path: &Path) -> Result<PathBuf, RestoreError> {
    if let Ok(path) = fs::canonicalize(path) {
        return Ok(path);
    }
    let (Some(above), Some(name)) = (path.parent(), path.file_name()) else {
        return Err(refused(format!("`{}` cannot be restored in place", path.display())));
    };
    let above = fs::canonicalize(above).map_err(|_| {
        refused(format!("the folder that `{}` lies in is not there: make it, or say `--map`", path.display()))
    })?;
    Ok(above.join(name))
}

impl PlacePlan {
    /// Plans the restore of a run, or of some of it, in the place of what is there now.
    ///
    /// # Errors
    /// When the run does not have what is asked for, or it cannot be done here.
    pub fn make(ground: &PlaceContext<'_>, asked: PlaceRequest) -> Result<Self, RestoreError> {
        let logged = ground.logged;
        let record = &logged.record;
        let selections: Vec<Selection> = asked.paths.iter().cloned().map(Selection::path).collect();
        let into = Path::new("/");
        let chosen = crate::restore::RestorePlan::of_parts(logged, into, &asked.parts, &selections)?;
        let own = (ground.store_folder.to_path_buf(), ground.stores.clone());
        let mut then = Plan::of_record(record, own, ground.state.to_path_buf())
            .map_err(|error| refused(format!("the definition in the record cannot be read: {error}")))?;
        for part in &mut then.parts {
            part.move_sources(&|path| under(path, &asked.maps));
        }
        let spec = ground.spec.cloned().unwrap_or_else(|| then.spec.clone());
        let mut plan = Self {
            run: record.run.to_string(),
            app: record.app.clone(),
            outcome: logged.outcome(),
            as_of: record.hold.began.unwrap_or(record.started),
            no_hold: record.hold.no_hold.clone(),
            parts: Vec::new(),
            missing: chosen.missing,
            outside: chosen.outside.into_iter().map(|(part, proof)| (part, proof.id)).collect(),
            targets: Vec::new(),
            leftovers: Vec::new(),
            steps: Vec::new(),
            differences: Vec::new(),
            after: Vec::new(),
            asked,
            pieces: Vec::new(),
            spec,
            then: Box::new(then),
        };
        let (mut chunks, _) = ground.store.chunks_that_can_be_read(&logged.holdings());
        plan.roots(record.captures.as_slice(), &chosen.parts, &mut chunks, ground)?;
        plan.look_at_the_old(&mut chunks)?;
        plan.application();
        plan.differ(ground);
        plan.order();
        Ok(plan)
    }

    /// What happens to the application.
    fn application(&mut self) {
        let spec = self.spec.restore.clone().unwrap_or_default();
        let mut steps = Vec::new();
        let probes = |probes: &Option<OneOrMany<Probe>>| {
            probes
                .iter()
                .flat_map(OneOrMany::all)
                .map(|probe| command_text(&probe.command))
                .collect::<Vec<_>>()
                .join("; ")
        };
        if let Some(stop) = &spec.stop {
            steps.push(("stop".to_owned(), command_text(stop)));
            steps.push(("stopped".to_owned(), probes(&spec.stopped)));
        }
        let ways = |stopped: bool| {
            self.in_order().into_iter().filter_map(move |part| match &part.way {
                RestoreMethod::Command { command, stopped: when } if *when == stopped => {
                    Some((format!("bring back {}", part.part), command.clone()))
                }
                RestoreMethod::Import { server } if stopped => {
                    Some((format!("bring back {}", part.part), format!("into {server}")))
                }
                _ => None,
            })
        };
        steps.push(("swap".to_owned(), String::new()));
        steps.extend(ways(true));
        let check = |check: &Require| (format!("check: {}", check.name), command_text(&check.probe.command));
        steps.extend(spec.before_start.iter().map(check));
        if let Some(start) = &spec.start {
            steps.push(("start".to_owned(), command_text(start)));
            steps.push(("started".to_owned(), probes(&spec.started)));
        }
        steps.extend(ways(false));
        steps.extend(spec.checks.iter().map(check));
        steps.retain(|(when, what)| when == "swap" || !what.is_empty());
        self.steps = steps;
    }

    /// What a person is told to do when the application does not start.
    pub fn by_hand(&self) -> Option<&str> {
        self.spec.restore.as_ref()?.manual_start.as_deref()
    }

    /// Why it may not be applied as it is: what was not agreed to, or a run that is not complete.
    pub fn objections(&self) -> Vec<String> {
        let mut found = Vec::new();
        if !self.outcome.is_whole() && !self.asked.allow_incomplete {
            found.push(format!("run {} is {} (`--allow-incomplete` takes it all the same)", self.run, self.outcome));
        }
        // Found now, not when the application is stopped already.
        let missing = self.spec.commands_of_restore().into_iter().filter_map(gullet_run::preflight::missing_program);
        found.extend(missing.collect::<BTreeSet<_>>());
        for difference in self.differences.iter().filter(|difference| !difference.accepted) {
            found.push(format!("{} (`--accept {}`)", difference.text, difference.name));
        }
        found
    }
}

fn in_listing(error: StoreError) -> RestoreError {
    refused(format!("the listing cannot be read: {}", gullet_model::words::chain(&error)))
}
