//! What a restore in place will do: which roots change hands and how, what goes on in the new state, what is stopped.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use gullet_store::listing::{Kind, ListingReader, ListingRef, PathName};
use gullet_store::{ChunkReader, Store, StoreError};
use serde::Serialize;

use super::journal::Asked;
use super::mounts::{self, How};
use super::swap::path_of;
use crate::restore::select::Selection;
use crate::restore::{RestoreError, RestorePart};
use gullet_capture::kinds::{DatabaseImport, postgres_programs, remaining};
use gullet_capture::part::{Why, name_of};
use gullet_capture::plan::{BESIDE_SQLITE, Plan};
use gullet_host::hook::Runner;
use gullet_host::world::World;
use gullet_logbook::logbook::{Logbook, Logged};
use gullet_model::definition::command_text;
use gullet_model::definition::{App, OneOrMany, PartKind, Probe, Reads, Require, RestoreHook, Running};
use gullet_model::outcome::Outcome;
use gullet_model::record::{Capture, Layout};

/// Paths named for one reason, at most.
const NAMED: usize = 5;
/// A run of the original host that is not older than this means that it is still alive, in hours.
const ALIVE: i64 = 48;

/// How a part comes back.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "snake_case", tag = "way")]
pub enum Way {
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
        /// The server.
        server: String,
    },
    /// It comes back with another part, which has all of it too.
    Within {
        /// That part.
        other: String,
    },
    /// It is put into a folder, and a person brings it back.
    ByHand,
}

/// One part that is restored.
#[derive(Clone, Debug, Serialize)]
pub struct PlacePart {
    /// Its name.
    pub part: String,
    /// How it comes back.
    #[serde(flatten)]
    pub way: Way,
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
pub(super) struct Piece {
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
    /// Why.
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
pub struct Difference {
    /// Its name.
    pub name: &'static str,
    /// In words.
    pub text: String,
    /// Whether it was agreed to.
    pub accepted: bool,
}

/// What will be restored in place.
#[derive(Clone, Debug, Serialize)]
pub struct PlacePlan {
    /// The run.
    pub run: String,
    /// The application.
    pub app: String,
    /// The run's outcome.
    pub outcome: Outcome,
    /// Why the parts are not from one point in time, where they are not.
    pub no_hold: Option<String>,
    /// The parts.
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
    pub differences: Vec<Difference>,
    /// What is to be done by hand afterwards.
    pub after: Vec<After>,
    /// What was asked for.
    #[serde(skip)]
    pub asked: Asked,
    #[serde(skip)]
    pub(super) pieces: Vec<Piece>,
    /// The definition that the ways back are of.
    #[serde(skip)]
    pub(super) spec: App,
    /// The plan of the run, with paths as they are here.
    #[serde(skip)]
    then: Box<Plan>,
}

/// Something to do by hand after a restore.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct After {
    /// The part.
    pub part: String,
    /// What to do, or what the export does not carry.
    pub text: String,
    /// Whether it is something that the export does not carry.
    pub is_lack: bool,
    /// What its probe says, where there is one: whether it is done, and else why not.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub done: Option<Result<(), String>>,
}

/// What a plan is made of.
pub struct Ground<'a> {
    /// The run.
    pub logged: &'a Logged,
    /// All runs of its store.
    pub book: &'a Logbook,
    /// The store.
    pub store: &'a Store,
    /// The store's folder, where it is known.
    pub store_folder: &'a Path,
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
    pub fn make(ground: &Ground<'_>, asked: Asked) -> Result<Self, RestoreError> {
        let logged = ground.logged;
        let record = &logged.record;
        let selections: Vec<Selection> = asked.paths.iter().cloned().map(Selection::path).collect();
        let into = Path::new("/");
        let chosen = crate::restore::RestorePlan::of_parts(logged, into, &asked.parts, &selections)?;
        let mut then = Plan::of_record(record, ground.store_folder.to_path_buf(), ground.state.to_path_buf())
            .map_err(|error| refused(format!("the definition in the record cannot be read: {error}")))?;
        for part in &mut then.parts {
            part.move_sources(&|path| under(path, &asked.maps));
        }
        let spec = ground.spec.cloned().unwrap_or_else(|| then.spec.clone());
        let mut plan = Self {
            run: record.run.to_string(),
            app: record.app.clone(),
            outcome: logged.outcome(),
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

    /// Which roots change hands, and what comes below them.
    fn roots(
        &mut self,
        captures: &[Capture],
        chosen: &[RestorePart],
        chunks: &mut ChunkReader,
        ground: &Ground<'_>,
    ) -> Result<(), RestoreError> {
        let runner = Runner {
            world: ground.world,
            app: self.app.clone(),
            run: self.run.clone(),
            family: gullet_model::ids::random_id(ground.world.random, 12),
            folder: ground.state.join("scratch"),
            top: ground.state.to_path_buf(),
        };
        // (the path in the listing, the root here, part, whether it is a folder, what goes with it)
        let mut found: Vec<(PathName, PathBuf, usize, bool, &'static [&'static str])> = Vec::new();
        for part in chosen {
            let Some(capture) = captures.iter().find(|capture| capture.part == part.part) else { continue };
            let number = self.parts.len();
            let mut roots = Vec::new();
            if capture.layout == Layout::Source {
                let recorded = capture.roots.iter().map(|root| name_of(Path::new(&root.path)));
                // Of what was asked for by path only that changes hands.
                let wanted: Vec<PathName> = if self.asked.paths.is_empty() {
                    recorded.collect()
                } else {
                    let recorded: Vec<PathName> = recorded.collect();
                    let is_of = |path: &&PathName| recorded.iter().any(|root| *path == root || path.is_below(root));
                    self.asked.paths.iter().filter(is_of).cloned().collect()
                };
                for name in wanted {
                    let entry = ListingReader::new(chunks).find(&part.listing.root, &name);
                    let Some(entry) = entry.map_err(in_listing)? else { continue };
                    let original = Path::new("/").join(path_of(&name));
                    let here = under(&original, &self.asked.maps);
                    let beside: &'static [&'static str] =
                        if capture.kind == PartKind::Sqlite { &BESIDE_SQLITE } else { &[] };
                    roots.push(here.clone());
                    found.push((name, here, number, entry.kind == Kind::Folder, beside));
                }
                if roots.is_empty() && !self.asked.paths.is_empty() {
                    continue;
                }
            } else if !self.asked.paths.is_empty() {
                continue;
            }
            let spec = capture.defined_in(&self.spec);
            let back = spec.and_then(|spec| spec.restore.clone());
            let way = match (&capture.layout, &back) {
                (Layout::Source, _) => Way::Files { roots },
                (Layout::Export, Some(RestoreHook { within: Some(other), .. })) => Way::Within { other: other.clone() },
                (Layout::Export, Some(back)) => {
                    let stdin = if back.reads == Some(Reads::Stdin) { " < {its one file}" } else { "" };
                    Way::Command {
                        command: command_text(&back.command) + stdin,
                        stopped: back.when != Some(Running::Started),
                    }
                }
                (Layout::Export, None) => match spec.and_then(|spec| DatabaseImport::of(spec, &runner)) {
                    Some(Ok(server)) => Way::Import { server: server.describe() },
                    Some(Err(why)) => return Err(refused(format!("{}: {why}", part.part))),
                    None => Way::ByHand,
                },
            };
            self.parts.push(PlacePart {
                part: part.part.clone(),
                way,
                files: part.files,
                bytes: part.bytes,
                listing: part.listing,
                back,
            });
            for (texts, is_lack) in [(&part.omits, true), (&part.after_restore, false)] {
                let after = |text: &String| After { part: part.part.clone(), text: text.clone(), is_lack, done: None };
                self.after.extend(texts.iter().map(after));
            }
        }
        if self.parts.is_empty() {
            return Err(refused("none of these paths is in the run"));
        }
        let mut all = Vec::new();
        for (name, here, part, is_folder, beside) in found {
            all.push((resolved(&here)?, name, here, part, is_folder, beside));
        }
        // The outermost roots change hands; what lies within them goes with them.
        all.sort_by_key(|found| (found.0.as_os_str().len(), found.3));
        for (real, name, here, part, is_folder, beside) in all {
            let outer =
                self.targets.iter().position(|target| real == target.resolved || real.starts_with(&target.resolved));
            let target = match outer {
                Some(outer) => outer,
                None => {
                    self.targets.push(self.target(&real, &here, is_folder, beside, ground)?);
                    self.targets.len() - 1
                }
            };
            let below = real.strip_prefix(&self.targets[target].resolved).unwrap_or(Path::new(""));
            self.pieces.push(Piece { target, part, from: name, to: super::swap::kept(below) });
        }
        Ok(())
    }

    fn target(
        &self,
        real: &Path,
        here: &Path,
        is_folder: bool,
        beside: &'static [&'static str],
        ground: &Ground<'_>,
    ) -> Result<PlannedTarget, RestoreError> {
        let shown = here.display();
        for (own, what) in [(ground.store_folder, "the store"), (ground.state, "Gullet's state folder")] {
            let own = fs::canonicalize(own).unwrap_or_else(|_| own.to_path_buf());
            if own.starts_with(real) {
                return Err(refused(format!("{what} lies in `{shown}`, which would change hands")));
            }
        }
        let meta = fs::symlink_metadata(real).ok();
        if let Some(meta) = &meta
            && meta.is_dir() != is_folder
        {
            let (is, was) = if is_folder { ("a file", "a folder") } else { ("a folder", "a file") };
            return Err(refused(format!("`{shown}` is {is} here and was {was}: move it away first")));
        }
        let how = match &meta {
            Some(_) => {
                mounts::look(real)?.map_err(|why| refused(format!("`{shown}` cannot be restored in place: {why}")))?
            }
            None => How::Rename,
        };
        let (inside, seen_at) = match how {
            How::Rename => (None, Vec::new()),
            How::Inside(why, _) if !is_folder => {
                return Err(refused(format!("`{shown}` is a file, and cannot be swapped: {why}")));
            }
            How::Inside(why, points) => (Some(why), points),
        };
        Ok(PlannedTarget {
            root: here.to_path_buf(),
            resolved: real.to_path_buf(),
            inside,
            is_there: meta.is_some(),
            is_folder,
            seen_at,
            beside,
        })
    }

    /// Everything in the old place that the new state does not have, by reason.
    pub(super) fn left_over(&self, chunks: &mut ChunkReader) -> Result<Vec<(PathBuf, String, bool)>, RestoreError> {
        let restored: BTreeSet<&str> = self.parts.iter().map(|part| part.part.as_str()).collect();
        let here = |name: &PathName| name_of(&under(&Path::new("/").join(path_of(name)), &self.asked.maps));
        let mut all = Vec::new();
        for part in &self.parts {
            let Some(spec) = self.then.parts.iter().find(|spec| spec.name == part.part) else { continue };
            if !matches!(part.way, Way::Files { .. }) {
                continue;
            }
            let found = remaining(spec, &self.then, &part.listing, chunks, &here).map_err(|error| {
                refused(format!("what is there now cannot be looked at: {}", gullet_model::words::chain(&error)))
            })?;
            for (path, why) in found {
                let real = fs::canonicalize(path.parent().unwrap_or(&path)).unwrap_or_else(|_| path.clone());
                let real = path.file_name().map_or(real.clone(), |name| real.join(name));
                let is_ours =
                    self.targets.iter().any(|target| real != target.resolved && real.starts_with(&target.resolved));
                if !is_ours {
                    continue;
                }
                let of_another = |why: &str| {
                    why.strip_prefix("belongs to the part `").and_then(|rest| rest.strip_suffix('`')).map(str::to_owned)
                };
                match why {
                    Why::Since => all.push((real, "made since".to_owned(), false)),
                    Why::LeftOut(why) => match of_another(&why) {
                        Some(other) if restored.contains(other.as_str()) => {}
                        Some(_) => all.push((real, why, !self.asked.drop)),
                        None if why.starts_with("excluded by") || why == "not in `include`" => {
                            all.push((real, why, !self.asked.drop));
                        }
                        None if why.starts_with("another filesystem") => {
                            return Err(refused(format!("`{}` is on another filesystem", path.display())));
                        }
                        None => all.push((real, why, false)),
                    },
                }
            }
        }
        Ok(all)
    }

    fn look_at_the_old(&mut self, chunks: &mut ChunkReader) -> Result<(), RestoreError> {
        let mut by_reason: BTreeMap<(bool, String), Leftover> = BTreeMap::new();
        for (path, why, carried) in self.left_over(chunks)? {
            let entry = by_reason.entry((carried, why.clone()));
            let leftover = entry.or_insert(Leftover { why, count: 0, paths: Vec::new(), carried });
            leftover.count += 1;
            if leftover.paths.len() < NAMED {
                leftover.paths.push(path);
            }
        }
        self.leftovers = by_reason.into_values().collect();
        Ok(())
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
                Way::Command { command, stopped: when } if *when == stopped => {
                    Some((format!("bring back {}", part.part), command.clone()))
                }
                Way::Import { server } if stopped => {
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

    /// The parts in the order in which they are brought back.
    pub(super) fn in_order(&self) -> Vec<&PlacePart> {
        let order = self.spec.restore.as_ref().map(|spec| spec.order.as_slice()).unwrap_or_default();
        let rank = |part: &str| order.iter().position(|name| name == part).unwrap_or(order.len());
        let mut parts: Vec<&PlacePart> = self.parts.iter().collect();
        parts.sort_by_key(|part| rank(&part.part));
        parts
    }

    fn order(&mut self) {
        // What comes into a folder comes after the folder.
        self.pieces.sort_by_key(|piece| (piece.target, piece.to.as_bytes().len()));
    }

    /// What is not as it was.
    fn differ(&mut self, ground: &Ground<'_>) {
        let record = &ground.logged.record;
        let (then, now) = (&record.host, ground.world.host);
        let mut found: Vec<(&'static str, String)> = Vec::new();
        if then.name != now.name {
            found.push(("host", format!("the run is of the host {}; this is {}", then.name, now.name)));
            let clock = ground.world.clock.now();
            let is_alive = |logged: &&Logged| {
                let hours = clock.duration_since(logged.record.started).as_hours();
                logged.record.app == record.app && logged.record.host.name == then.name && hours < ALIVE
            };
            if let Some(last) = ground.book.runs.iter().rev().find(is_alive) {
                let text = format!("{} ran it at {}: it is still alive there", then.name, last.record.started);
                found.push(("alive", text));
            }
        }
        let kind = |host: &gullet_model::record::Host| {
            format!("{} on {}", host.system.split(' ').next().unwrap_or(""), host.architecture)
        };
        if kind(then) != kind(now) {
            found.push(("system", format!("the run is of {}; this is {}", kind(then), kind(now))));
        }
        for part in &self.then.parts {
            let version = record.capture(&part.name).and_then(|capture| capture.facts.get("server_version")?.as_u64());
            let cluster = part.spec.postgres.as_ref().filter(|spec| spec.cluster.is_some());
            if let (Some(spec), Some(major)) = (cluster, version)
                && !gullet_capture::engine::program(
                    &postgres_programs(spec, u32::try_from(major).unwrap_or(0)),
                    &["postgres"],
                )
                .is_absolute()
            {
                let text = format!("{} is of PostgreSQL {major}, and no such server is installed here", part.name);
                found.push(("engine", text));
            }
        }
        let strangers = self.asked.owners.strangers(&record.captures);
        if !strangers.is_empty() {
            let more = if strangers.len() > NAMED { ", …" } else { "" };
            let text = strangers.into_iter().take(NAMED).collect::<Vec<_>>().join("; ");
            found.push(("accounts", format!("{text}{more} (`--owners-by-name`, or `--map-owner OLD=NEW`)")));
        }
        let new: Vec<String> =
            self.targets.iter().filter(|t| !t.is_there).map(|target| target.root.display().to_string()).collect();
        if !new.is_empty() {
            found.push(("paths", format!("there is nothing at {} now", new.join(", "))));
        }
        let spec = self.spec.restore.clone().unwrap_or_default();
        match spec.stop {
            None => {
                let text = "the definition does not say how the application is stopped (`stop` and `start` in \
                            `[app.NAME.restore]`): it must be stopped already";
                found.push(("running", text.to_owned()));
            }
            Some(_) if spec.at_boot.is_none() => {
                let text = "after a boot in the middle of the swap the application could start on a mixture: say `at_boot` \
                            in `[app.NAME.restore]`";
                found.push(("boot", text.to_owned()));
            }
            Some(_) => {}
        }
        self.differences = found
            .into_iter()
            .map(|(name, text)| Difference {
                name,
                text,
                accepted: self.asked.accepted.iter().any(|word| word == name),
            })
            .collect();
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
