//! A restore in place, step by step: written beside, stopped, swapped, started, checked, and undone where that fails.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use gullet_store::listing::PathName;
use gullet_store::{IoPath, PathError, Store};
use jiff::Timestamp;
use serde::Serialize;

use super::arena_name;
use super::back::order;
use super::busy::{users_of, wait_for_users};
use super::journal::{Hands, Journal, JournalError, Stage};
use super::plan::{After, PlacePart, PlacePlan, PlannedTarget, Way};
use super::swap::{Carried, FolderTime, NEW, Name, OLD, Swap, Target, Tick, kept, path_of};
use crate::definition::{OneOrMany, Probe, Reads, Require, RestoreSpec, Running};
use crate::hold::{Answer, Guarded, Op};
use crate::hook::{Call, Limits, Patience, Runner};
use crate::ids::random_id;
use crate::logbook::Logged;
use crate::outcome::Outcome;
use crate::part::{Importer, chain};
use crate::record::RemarkKind;
use crate::restore::writing::{Writing, Written};
use crate::restore::{PartResult, RestoreError, Selection, write};
use crate::state::{State, file_name, private_folder};
use crate::words::{count, size};
use crate::world::{Stop, World};

/// One thing that was done.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct PlaceStep {
    /// What.
    pub what: String,
    /// Whether it went well.
    pub ok: bool,
    /// More about it, or why not.
    pub note: String,
    /// How long it took, in milliseconds.
    pub took_ms: u64,
}

/// What came of a restore in place.
#[derive(Clone, Debug, Serialize)]
pub struct PlaceReport {
    /// The restore's id.
    pub id: String,
    /// How it ended. Complete only when all that was asked for is in place and proven.
    pub outcome: Outcome,
    /// What was written, part by part.
    pub parts: Vec<PartResult>,
    /// What was done.
    pub steps: Vec<PlaceStep>,
    /// Why it is not in place.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
    /// Whether the old state was put back after the swap had begun.
    pub went_back: bool,
    /// Whether the new state lies ready beside the old one, for `--continue`.
    pub is_ready: bool,
    /// Where what is set aside is kept.
    pub kept_in: Vec<PathBuf>,
    /// Where the parts lie that a person brings back.
    pub by_hand: Vec<(String, PathBuf)>,
    /// What a person should look at.
    pub warnings: Vec<String>,
    /// What to do afterwards, ticked off where a probe says so.
    pub after: Vec<After>,
    /// How long the application was stopped, in milliseconds.
    pub stopped_ms: Option<u64>,
}

/// What a restore in place stands on.
pub struct Applying<'a> {
    /// The outside world.
    pub world: World<'a>,
    /// The local state.
    pub state: &'a State,
    /// The store.
    pub store: &'a Store,
    /// The run.
    pub logged: &'a Logged,
    /// The commands that start a guard.
    pub guard: &'a [Vec<OsString>],
    /// Told of each step as it is done.
    pub tell: &'a mut dyn FnMut(&PlaceStep),
    /// Told how far the writing is: part, files, bytes.
    pub progress: &'a mut dyn FnMut(&str, u64, u64),
    /// Told before each change on the disk.
    pub tick: Tick<'a>,
}

/// Why it does not go on.
enum Failure {
    /// Nothing changed hands, or all of it was put back.
    Before(String),
    /// Somebody asked for it.
    Stopped,
    /// The application is stopped and does not start; in words why.
    NotReleased(String),
}

impl From<JournalError> for Failure {
    fn from(error: JournalError) -> Self {
        Self::Before(chain(&error))
    }
}

impl From<PathError> for Failure {
    fn from(error: PathError) -> Self {
        Self::Before(chain(&error))
    }
}

impl From<RestoreError> for Failure {
    fn from(error: RestoreError) -> Self {
        Self::Before(chain(&error))
    }
}

struct Apply<'p, 'a> {
    with: Applying<'a>,
    plan: &'p PlacePlan,
    spec: RestoreSpec,
    journal: Journal,
    runner: Runner<'a>,
    report: PlaceReport,
    guard: Option<Guarded>,
    lost: Arc<Stop>,
    stopped_at: Option<Duration>,
    hands: Option<Hands>,
    /// Databases that were brought into their servers, by part.
    imported: Vec<(String, Vec<String>)>,
}

/// Applies a plan. The application's lock must be held by the caller for as long as this takes.
///
/// # Errors
/// When not even the journal can be written; nothing was touched then.
pub fn apply(plan: &PlacePlan, with: Applying<'_>) -> Result<PlaceReport, JournalError> {
    let journal = Journal {
        journal: 1,
        id: random_id(with.world.random, 10),
        app: plan.app.clone(),
        run: plan.run.clone(),
        began: with.world.clock.now(),
        asked: plan.asked.clone(),
        stage: Stage::Writing,
        swap: Swap::default(),
        is_started: false,
        is_done: false,
        called: Vec::new(),
    };
    start(plan, journal, with)
}

/// Goes on with a restore that was cut off or did not succeed, from what lies ready.
///
/// # Errors
/// As [`apply`].
pub fn go_on(plan: &PlacePlan, journal: Journal, with: Applying<'_>) -> Result<PlaceReport, JournalError> {
    let there = plan.targets.iter().map(|target| (kept(&target.resolved), target.inside.is_some()));
    let then = journal.swap.targets.iter().map(|target| (target.root.clone(), target.inside.is_some()));
    if journal.stage.is_open() {
        // The old state may lie where the new one would be written.
        return Err(JournalError::Used("the swap is still open: the old state has to be put back first".to_owned()));
    }
    if !journal.swap.targets.is_empty() && !there.eq(then) {
        let text = "the roots are not what they were when it was begun: `--undo` it, and restore anew";
        return Err(JournalError::Used(text.to_owned()));
    }
    // What was started on is not what was proven when it was written.
    let stage = if journal.stage == Stage::Written { Stage::Written } else { Stage::Writing };
    start(plan, Journal { stage, is_started: false, called: Vec::new(), ..journal }, with)
}

fn start(plan: &PlacePlan, journal: Journal, with: Applying<'_>) -> Result<PlaceReport, JournalError> {
    journal.save(with.state.folder())?;
    let scratch = with.state.folder().join("scratch");
    let _ = private_folder(&scratch);
    let runner = Runner {
        world: with.world,
        app: plan.app.clone(),
        run: plan.run.clone(),
        folder: scratch,
        top: with.state.folder().to_path_buf(),
    };
    let report = PlaceReport {
        id: journal.id.clone(),
        outcome: Outcome::Complete,
        parts: Vec::new(),
        steps: Vec::new(),
        failed: None,
        went_back: false,
        is_ready: false,
        kept_in: Vec::new(),
        by_hand: Vec::new(),
        warnings: Vec::new(),
        after: plan.after.clone(),
        stopped_ms: None,
    };
    let spec = plan.spec.restore.clone().unwrap_or_default();
    let apply = Apply {
        with,
        plan,
        spec,
        journal,
        runner,
        report,
        guard: None,
        lost: Arc::default(),
        stopped_at: None,
        hands: None,
        imported: Vec::new(),
    };
    Ok(apply.all())
}

impl<'a> Apply<'_, 'a> {
    fn top(&self) -> PathBuf {
        self.with.state.folder().to_path_buf()
    }

    fn all(mut self) -> PlaceReport {
        let result = self.write().and_then(|()| self.switch());
        if let Some(guard) = self.guard.take() {
            guard.finish(self.with.world.clock);
        }
        match result {
            Ok(()) => {}
            Err(Failure::Stopped) => {
                self.report.outcome = Outcome::Interrupted;
                self.report.failed = Some("stopped by a signal".to_owned());
            }
            Err(Failure::Before(why)) => {
                self.report.outcome = Outcome::Failed;
                self.report.failed = Some(why);
            }
            Err(Failure::NotReleased(why)) => {
                self.report.outcome = Outcome::NotReleased;
                self.report.failed = Some(why);
            }
        }
        let stage = Journal::load(&self.top(), &self.plan.app).ok().flatten().map(|journal| journal.stage);
        self.report.is_ready = stage == Some(Stage::Written);
        if stage == Some(Stage::Writing) {
            // Half of a state is of no use to anybody.
            if let Err(error) = self.journal.clone().discard(&self.top()) {
                self.report.warnings.push(format!("what was written beside could not be removed: {}", chain(&error)));
            }
        }
        if stage.is_some_and(|stage| stage != Stage::Writing) {
            self.report.kept_in = self.journal.arenas();
        }
        self.remark();
        self.report
    }

    fn step(&mut self, what: &str, began: Duration, result: Result<String, String>) {
        let took = self.with.world.clock.uptime().saturating_sub(began);
        let (ok, note) = match result {
            Ok(note) => (true, note),
            Err(why) => (false, why),
        };
        let took_ms = u64::try_from(took.as_millis()).unwrap_or(u64::MAX);
        let step = PlaceStep { what: what.to_owned(), ok, note, took_ms };
        (self.with.tell)(&step);
        self.report.steps.push(step);
    }

    fn now(&self) -> Duration {
        self.with.world.clock.uptime()
    }

    fn check_stop(&self) -> Result<(), Failure> {
        if self.with.world.stop.asked().is_some() { Err(Failure::Stopped) } else { Ok(()) }
    }

    /// Writes the new state beside the old one.
    fn write(&mut self) -> Result<(), Failure> {
        if self.journal.stage == Stage::Written {
            self.step("write beside", self.now(), Ok("it lies ready".to_owned()));
            return Ok(());
        }
        let began = self.now();
        let swap = self.arenas();
        // They are noted before they are made.
        self.journal.swap = swap;
        self.journal.save(&self.top())?;
        self.space()?;
        for arena in self.journal.arenas() {
            match fs::remove_dir_all(&arena) {
                Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                    return Err(PathError::new(&arena, error).into());
                }
                _ => {}
            }
            for folder in [&arena, &arena.join(NEW), &arena.join(OLD)] {
                (self.with.tick)(&format!("make {}", folder.display()));
                fs::DirBuilder::new().mode(0o700).create(folder).at(folder)?;
            }
        }
        for target in self.journal.swap.targets.iter().filter(|target| target.inside.is_some()) {
            if let Some(look) = &target.old_root {
                let _ = write::set_attributes(&target.place(), look);
            }
        }
        let problems = self.pieces()? + self.exports()?;
        self.check_stop()?;
        let (files, bytes) = self.report.parts.iter().fold((0, 0), |(f, b), part| (f + part.files, b + part.bytes));
        let written = format!("{}, {}, every byte proven", count(files, "file"), size(bytes));
        if problems > 0 {
            let why = format!("{} could not be restored, so nothing was touched", count(problems, "path"));
            self.step("write beside", began, Err(why.clone()));
            return Err(Failure::Before(why));
        }
        self.step("write beside", began, Ok(written));
        self.journal.stage(Stage::Written, &self.top())?;
        Ok(())
    }

    /// The folders beside the roots, nothing in them yet.
    fn arenas(&self) -> Swap {
        let arena = arena_name(&self.journal.id);
        let targets = self.plan.targets.iter().map(|target| {
            let place = match (&target.inside, target.resolved.parent()) {
                (None, Some(parent)) => parent,
                _ => &target.resolved,
            };
            Target {
                root: kept(&target.resolved),
                place: kept(place),
                arena: kept(&place.join(&arena)),
                names: Vec::new(),
                inside: target.inside.clone(),
                stays: Vec::new(),
                seen_at: target.seen_at.iter().map(|path| kept(path)).collect(),
                // As it is before anything of ours is made in it: as an earlier try found it.
                old_root: target.inside.as_ref().and_then(|_| {
                    let earlier = self.journal.swap.targets.iter().find(|known| known.root == kept(&target.resolved));
                    earlier.and_then(|known| known.old_root.clone()).or_else(|| write::look(&target.resolved).ok())
                }),
                new_root: None,
            }
        });
        Swap { targets: targets.collect(), ..Swap::default() }
    }

    /// Whether there is room for all of it.
    fn space(&self) -> Result<(), Failure> {
        let mut wanted: BTreeMap<u64, (PathBuf, u64)> = BTreeMap::new();
        for (number, part) in self.plan.parts.iter().enumerate() {
            let of_part = self.plan.pieces.iter().find(|piece| piece.part == number);
            let place = of_part.map_or_else(|| self.top(), |piece| self.journal.swap.targets[piece.target].place());
            let device = fs::metadata(&place).map_or(0, |meta| std::os::unix::fs::MetadataExt::dev(&meta));
            wanted.entry(device).or_insert((place, 0)).1 += part.bytes;
        }
        for (place, bytes) in wanted.values() {
            let stat = rustix::fs::statvfs(place).at(place)?;
            let free = stat.f_bavail.saturating_mul(stat.f_frsize);
            if free < *bytes {
                let (free, bytes) = (size(free), size(*bytes));
                let text = format!(
                    "{free} free at {}, and the new state, which is written beside the old one, has {bytes}",
                    place.display()
                );
                return Err(Failure::Before(text));
            }
        }
        Ok(())
    }

    /// Where a target's new root is while it is beside.
    fn staged(target: &PlannedTarget, swapped: &Target) -> PathBuf {
        let new = swapped.arena().join(NEW);
        match (&target.inside, target.resolved.file_name()) {
            (None, Some(name)) => new.join(name),
            _ => new,
        }
    }

    /// Writes what comes below the roots; gives how many paths could not be.
    fn pieces(&mut self) -> Result<u64, Failure> {
        let plan = self.plan;
        let (mut chunks, _) = self.with.store.chunks_that_can_be_read(&self.with.logged.holdings());
        let mut problems = 0;
        for (number, target) in plan.targets.iter().enumerate() {
            let swapped = self.journal.swap.targets[number].clone();
            let new = swapped.arena().join(NEW);
            let staged = Self::staged(target, &swapped);
            let top = staged.strip_prefix(&new).unwrap_or(Path::new("")).as_os_str().as_bytes().to_vec();
            let mut written = Written::default();
            for piece in plan.pieces.iter().filter(|piece| piece.target == number) {
                let part = &plan.parts[piece.part];
                let joint: &[u8] = if top.is_empty() || piece.to.as_bytes().is_empty() { b"" } else { b"/" };
                let to = PathName::new([top.as_slice(), joint, piece.to.as_bytes()].concat());
                (self.with.tick)(&format!("write {} of {}", piece.from, part.part));
                let only = [Selection::path(piece.from.clone())];
                let writing = Writing {
                    part: &part.part,
                    listing: &part.listing,
                    to: &new,
                    only: &only,
                    moved: Some((piece.from.clone(), to)),
                    owners: &plan.asked.owners,
                };
                let result = writing.run(&mut chunks, &mut written, self.with.world.stop, self.with.progress)?;
                if let Some(top) = written.top.take() {
                    // Of the parts that share a root the outermost one says what the root itself is like.
                    self.journal.swap.targets[number].new_root.get_or_insert(top);
                }
                problems += result.problem_count;
                match self.report.parts.iter_mut().find(|known| known.part == result.part) {
                    Some(known) => known.merge(result),
                    None => self.report.parts.push(result),
                }
            }
            let mut result = PartResult::default();
            written.finish(&new, &mut result)?;
            if let Some(known) = self.report.parts.last_mut() {
                known.merge(result);
            }
            let folder = fs::File::open(&new).at(&new)?;
            rustix::fs::syncfs(&folder).at(&new)?;
        }
        for part in &self.report.parts {
            for (what, (number, first)) in &part.not_set {
                self.report.warnings.push(format!(
                    "{}: {what} could not be set on {}: {first}",
                    part.part,
                    count(*number, "path")
                ));
            }
        }
        Ok(problems)
    }

    /// Writes the parts that a command or a person brings back into a folder of the state.
    fn exports(&mut self) -> Result<u64, Failure> {
        let folder = self.journal.exports(&self.top());
        // An earlier try may have left half of them.
        match fs::remove_dir_all(&folder) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                return Err(PathError::new(&folder, error).into());
            }
            _ => {}
        }
        let (mut chunks, _) = self.with.store.chunks_that_can_be_read(&self.with.logged.holdings());
        let mut problems = 0;
        let plan = self.plan;
        for part in
            plan.parts.iter().filter(|part| matches!(part.way, Way::Command { .. } | Way::Import { .. } | Way::ByHand))
        {
            private_folder(&folder)?;
            let to = folder.join(file_name(&part.part));
            let mut written = Written::default();
            let writing = Writing {
                part: &part.part,
                listing: &part.listing,
                to: &to,
                only: &[],
                moved: None,
                owners: &plan.asked.owners,
            };
            let mut result = writing.run(&mut chunks, &mut written, self.with.world.stop, self.with.progress)?;
            written.finish(&to, &mut result)?;
            problems += result.problem_count;
            self.report.parts.push(result);
        }
        Ok(problems)
    }

    /// Stops, swaps, starts, checks.
    fn switch(&mut self) -> Result<(), Failure> {
        self.check_stop()?;
        self.stop()?;
        if let Err(failure) = self.fill_and_swap() {
            return Err(self.undo(failure));
        }
        match self.prove() {
            Ok(()) => self.done(),
            Err(failure) => Err(self.undo(failure)),
        }
    }

    fn ask_guard(&mut self, op: Op) -> Result<Answer, String> {
        let guard = self.guard.as_mut().ok_or("there is no guard")?;
        guard.ask(op, self.with.world.stop).map_err(|error| error.to_string())
    }

    /// Has the guard stop the application.
    fn stop(&mut self) -> Result<(), Failure> {
        if self.spec.stop.is_none() {
            return Ok(());
        }
        let began = self.now();
        let order = order(&self.journal, &self.spec, self.with.state, self.with.world);
        let guard = Guarded::start(self.with.guard, &order, &self.lost);
        self.guard = Some(guard.map_err(|error| Failure::Before(chain(&error)))?);
        self.stopped_at = Some(began);
        let stopped = self.ask_guard(Op::Enter(0)).and_then(|answer| answer.result);
        let proven = stopped.and_then(|()| self.ask_guard(Op::Prove(0)).and_then(|answer| answer.result));
        let note = if self.spec.stopped.is_some() { "proven" } else { "not proven: there is no `stopped` probe" };
        self.step("stop", began, proven.clone().map(|()| note.to_owned()));
        match proven {
            Ok(()) => Ok(()),
            Err(why) => Err(self.undo(Failure::Before(format!("it does not stop: {why}")))),
        }
    }

    /// What of the old state nobody may have open any more.
    fn used_places(&self) -> Vec<PathBuf> {
        let targets = self.plan.targets.iter();
        targets.flat_map(|target| target.seen_at.iter().chain([&target.resolved])).cloned().collect()
    }

    fn nobody_uses_it(&mut self) -> Result<(), Failure> {
        let began = self.now();
        let places = self.used_places();
        let users = match self.spec.stop {
            Some(_) => wait_for_users(&places, self.with.world.clock),
            None => users_of(&places),
        };
        if users.unseen > 0 {
            let text = format!("{} could not be looked into for open files", count(users.unseen as u64, "process"));
            self.report.warnings.push(text.replace("processs", "processes"));
        }
        if users.count == 0 {
            return Ok(());
        }
        let why = users.words();
        self.step("nobody uses it", began, Err(why.clone()));
        Err(Failure::Before(why))
    }

    fn fill_and_swap(&mut self) -> Result<(), Failure> {
        self.check_stop()?;
        self.nobody_uses_it()?;
        let began = self.now();
        self.fill()?;
        let top = self.top();
        // Kept until the application is started: nobody puts the old state back while something is brought into the new one.
        self.hands = Some(Journal::hands(&top, &self.plan.app)?);
        // The guard may have let go meanwhile; it would have said so in the journal, had the swap been open.
        if self.guard.as_mut().is_some_and(|guard| guard.lost().is_some()) {
            return Err(Failure::Before("the guard has started the application again".to_owned()));
        }
        (self.with.tick)("note that the swap begins");
        self.journal.stage(Stage::Swapping, &top)?;
        let swapped = self.journal.swap.forward(self.with.tick).map_err(JournalError::from);
        (self.with.tick)("note that it is swapped");
        let swapped = swapped.and_then(|()| self.journal.stage(Stage::Swapped, &top));
        let note = format!("{} changed hands", count(self.plan.targets.len() as u64, "root"));
        self.step("swap", began, swapped.as_ref().map(|()| note).map_err(|error| chain(error)));
        Ok(swapped?)
    }

    /// Finds out, now that nothing changes any more, which names change hands and what is carried over.
    fn fill(&mut self) -> Result<(), Failure> {
        let (mut chunks, _) = self.with.store.chunks_that_can_be_read(&self.with.logged.holdings());
        let left = self.plan.left_over(&mut chunks)?;
        let carried: Vec<PathBuf> = left.into_iter().filter(|(.., carried)| *carried).map(|(path, ..)| path).collect();
        let mut swap = std::mem::take(&mut self.journal.swap);
        (swap.carried, swap.old_times, swap.new_times) = (Vec::new(), Vec::new(), Vec::new());
        for (target, planned) in swap.targets.iter_mut().zip(&self.plan.targets) {
            let (place, arena) = (target.place(), target.arena());
            let mut names: Vec<OsString> = Vec::new();
            if planned.inside.is_some() {
                for folder in [&place, &arena.join(NEW)] {
                    for entry in fs::read_dir(folder).at(folder)? {
                        names.push(entry.at(folder)?.file_name());
                    }
                }
                let stays = |name: &OsString| carried.contains(&place.join(name));
                target.stays = names.iter().filter(|name| stays(name)).map(|n| PathName::new(n.as_bytes())).collect();
                names.retain(|name| !stays(name) && !super::is_arena(&place.join(name)));
            } else if let Some(name) = planned.resolved.file_name() {
                names.push(name.to_owned());
                names.extend(planned.beside.iter().map(|suffix| {
                    let mut beside = name.to_owned();
                    beside.push(suffix);
                    beside
                }));
            }
            names.sort();
            names.dedup();
            let new = arena.join(NEW);
            let names = names.iter().map(|name| Name::of(Path::new(name), &place, &new));
            target.names = names.collect::<Result<_, _>>()?;
        }
        for path in carried {
            self.carry(&mut swap, &path)?;
        }
        self.journal.swap = swap;
        Ok(())
    }

    /// Notes that something of the old state goes on in the new one.
    fn carry(&self, swap: &mut Swap, path: &Path) -> Result<(), PathError> {
        let found = self.plan.targets.iter().position(|target| path.starts_with(&target.resolved));
        let Some(number) = found else { return Ok(()) };
        let planned = &self.plan.targets[number];
        let below = path.strip_prefix(&planned.resolved).unwrap_or(path);
        if planned.inside.is_some() && below.components().count() == 1 {
            // It stays where it is.
            return Ok(());
        }
        let to = Self::staged(planned, &swap.targets[number]).join(below);
        let note = |times: &mut Vec<FolderTime>, folder: Option<&Path>| {
            if let Some(folder) = folder.filter(|folder| folder.is_dir())
                && !times.iter().any(|time| path_of(&time.folder) == folder)
            {
                times.push(FolderTime::of(folder)?);
            }
            Ok::<_, PathError>(())
        };
        note(&mut swap.old_times, path.parent())?;
        // The nearest folder that is there gets something, the others are made.
        note(&mut swap.new_times, to.ancestors().skip(1).find(|folder| folder.is_dir()))?;
        swap.carried.extend(Carried::of(path, &to)?);
        Ok(())
    }

    /// Brings back what commands bring back, starts, checks.
    fn prove(&mut self) -> Result<(), Failure> {
        self.ways_back(true)?;
        for check in self.spec.before_start.clone() {
            self.check(&check)?;
        }
        self.hands = None;
        if self.spec.start.is_some() {
            let began = self.now();
            self.journal.is_started = true;
            self.journal.save(&self.top())?;
            (self.with.tick)("start");
            let started = self.ask_guard(Op::Leave(0)).and_then(|answer| answer.result);
            let proven = self
                .spec
                .started
                .clone()
                .map(|probes| self.runner.wait_for(&probes, &probe_call(), Limits::WITHIN).result);
            let note = if proven.is_some() { "proven" } else { "not proven: there is no `started` probe" };
            // Where there is a probe it decides, not what the command said of itself.
            let result = proven.unwrap_or(started);
            self.step("start", began, result.clone().map(|()| note.to_owned()));
            result.map_err(|why| Failure::Before(format!("it does not start on the new state: {why}")))?;
        }
        self.ways_back(false)?;
        for check in self.spec.checks.clone() {
            self.check(&check)?;
        }
        self.check_stop()
    }

    fn check(&mut self, check: &Require) -> Result<(), Failure> {
        let began = self.now();
        let probes: OneOrMany<Probe> = OneOrMany::One(Box::new(check.probe.clone()));
        let outcome = self.runner.wait_for(&probes, &probe_call(), Duration::ZERO);
        self.step(&format!("check: {}", check.name), began, outcome.result.clone().map(|()| String::new()));
        outcome.result.map_err(|why| Failure::Before(format!("the check `{}` does not hold: {why}", check.name)))
    }

    fn ways_back(&mut self, is_stopped: bool) -> Result<(), Failure> {
        let plan = self.plan;
        for part in plan.in_order() {
            match &part.way {
                Way::Command { stopped, .. } if *stopped == is_stopped => self.way_back(part)?,
                // A server that is stopped with the application takes it when it is started.
                Way::Import { .. } => {
                    let is_done = self.imported.iter().any(|(name, _)| *name == part.part);
                    let answers =
                        || matches!(self.importer(&part.part), Some(Ok(server)) if server.answers(&self.runner));
                    if !is_done && (!is_stopped || answers()) {
                        self.import(part)?;
                    }
                }
                Way::ByHand if is_stopped => {
                    let folder = self.journal.exports(&self.top()).join(file_name(&part.part));
                    self.report.by_hand.push((part.part.clone(), folder));
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Notes that a part is brought back, before it is: a restore that is cut off does not take it back.
    fn note_called(&mut self, part: &PlacePart) -> Result<(), Failure> {
        self.journal.called.push(part.part.clone());
        Ok(self.journal.save(&self.top())?)
    }

    /// Brings exported databases into their server.
    fn import(&mut self, part: &PlacePart) -> Result<(), Failure> {
        let began = self.now();
        let folder = self.journal.exports(&self.top()).join(file_name(&part.part));
        let what = format!("bring back {}", part.part);
        (self.with.tick)(&what);
        self.note_called(part)?;
        let mut made = Vec::new();
        let result = match self.importer(&part.part) {
            Some(Ok(server)) => server.bring(&folder, &self.runner, &mut made),
            Some(Err(why)) => Err(why),
            None => Err("the definition does not name its server any more".to_owned()),
        };
        self.imported.push((part.part.clone(), made));
        self.step(&what, began, result.clone().map(|()| String::new()));
        result.map_err(|why| Failure::Before(format!("{} could not be brought back: {why}", part.part)))
    }

    fn importer(&self, part: &str) -> Option<Result<Importer, String>> {
        let capture = self.with.logged.record.capture(part)?;
        let of = capture.each_of.as_ref().unwrap_or(&capture.part);
        let spec = self.plan.spec.part.iter().find(|spec| spec.name == *of)?;
        Importer::of(spec, &self.runner)
    }

    /// Removes the databases that were brought in.
    fn take_imports_back(&mut self) {
        for (part, made) in std::mem::take(&mut self.imported) {
            if made.is_empty() {
                continue;
            }
            let removed = match self.importer(&part) {
                Some(Ok(server)) => server.take_back(&made, &self.runner),
                Some(Err(why)) => Err(why),
                None => Ok(()),
            };
            let text = match removed {
                Ok(()) => {
                    self.journal.called.retain(|called| *called != part);
                    format!("{part}: what was brought into the server was removed again: {}", made.join(", "))
                }
                Err(why) => {
                    format!("{part}: what was brought into the server is still there ({}): {why}", made.join(", "))
                }
            };
            self.report.warnings.push(text);
        }
    }

    fn way_back(&mut self, part: &PlacePart) -> Result<(), Failure> {
        let Some(back) = &part.back else { return Ok(()) };
        let began = self.now();
        let folder = self.journal.exports(&self.top()).join(file_name(&part.part));
        let what = format!("bring back {}", part.part);
        let stdin = match back.reads {
            Some(Reads::Stdin) => match only_file(&folder) {
                Ok(file) => Some(file),
                Err(why) => {
                    self.step(&what, began, Err(why.clone()));
                    return Err(Failure::Before(format!("{}: {why}", part.part)));
                }
            },
            Some(Reads::Folder) | None => None,
        };
        self.note_called(part)?;
        (self.with.tick)(&what);
        let values = BTreeMap::from([("folder".to_owned(), folder.display().to_string())]);
        let moment = if back.when == Some(Running::Started) { "restored" } else { "restore" };
        let call = Call {
            values,
            moment,
            limit: Limits::EXPORT,
            stdin,
            dir: Some(folder.clone()),
            scratch: Some(folder),
            notes: true,
            patience: Patience { stop: Some(self.with.world.stop), ..Patience::default() },
            ..Call::default()
        };
        let outcome = self.runner.run(&back.command, call);
        self.report.warnings.extend(outcome.notes.warnings.iter().map(|text| format!("{}: {text}", part.part)));
        self.step(&what, began, outcome.result.clone().map(|()| String::new()));
        outcome.result.map_err(|why| Failure::Before(format!("{} could not be brought back: {why}", part.part)))
    }

    /// Puts the old state back and starts the application on it. Gives why, with what is in the way of that.
    fn undo(&mut self, failure: Failure) -> Failure {
        let began = self.now();
        let top = self.top();
        self.hands = None;
        let was_open = super::journal::is_open(&top, &self.plan.app);
        (self.with.tick)("go back");
        let back = match self.guard {
            Some(_) => self.ask_guard(Op::GoBack).and_then(|answer| answer.result),
            None => super::journal::go_back(&top, &self.plan.app, self.with.world.clock)
                .map(drop)
                .map_err(|error| chain(&error)),
        };
        self.take_imports_back();
        self.report.went_back = was_open && back.is_ok();
        if was_open {
            self.step("go back", began, back.clone().map(|()| "the old state is in place again".to_owned()));
        }
        if !self.journal.called.is_empty() {
            self.report.warnings.push(self.journal.stays_brought_back());
        }
        let why = match &failure {
            Failure::Before(why) | Failure::NotReleased(why) => why.clone(),
            Failure::Stopped => "stopped by a signal".to_owned(),
        };
        if let Err(stuck) = back {
            return Failure::NotReleased(format!("{why}; {stuck}"));
        }
        match self.start_again() {
            Ok(()) => failure,
            Err(stuck) => Failure::NotReleased(format!("{why}; it does not start again: {stuck}")),
        }
    }

    /// Has the guard start the application on the state that is in place, and let go.
    fn start_again(&mut self) -> Result<(), String> {
        if self.guard.is_none() {
            return Ok(());
        }
        let began = self.now();
        let started = self.ask_guard(Op::Leave(0)).and_then(|answer| answer.result);
        let result = match self.spec.started {
            Some(_) => self.ask_guard(Op::ProveLeft(0)).and_then(|answer| answer.result),
            None => started,
        };
        self.step("start again", began, result.clone().map(|()| String::new()));
        self.count_stopped();
        result
    }

    fn count_stopped(&mut self) {
        let stopped = self.stopped_at.map(|at| self.now().saturating_sub(at));
        self.report.stopped_ms = stopped.map(|time| u64::try_from(time.as_millis()).unwrap_or(u64::MAX));
    }

    /// The new state is in place and proven.
    fn done(&mut self) -> Result<(), Failure> {
        self.count_stopped();
        let top = self.top();
        let hands = Journal::hands(&top, &self.plan.app)?;
        // A guard that was told to let go has put the old state back.
        let stage = Journal::load(&top, &self.plan.app)?.map(|journal| journal.stage);
        if stage != Some(Stage::Swapped) {
            self.report.went_back = true;
            return Err(Failure::Before("the guard was told to let go, and has put the old state back".to_owned()));
        }
        (self.with.tick)("note that it is done");
        self.journal.stage(Stage::Done, &top)?;
        drop(hands);
        (self.with.tick)("let the guard go");
        if self.guard.is_some() && self.spec.started.is_some() {
            let _ = self.ask_guard(Op::ProveLeft(0));
        }
        for after in &mut self.report.after {
            let probe = self
                .plan
                .spec
                .part
                .iter()
                .filter(|part| part.name == after.part)
                .find_map(|p| p.done_when.get(&after.text));
            if let Some(probe) = probe {
                let probes = OneOrMany::One(Box::new(probe.clone()));
                after.done = Some(self.runner.ask(&probes, &probe_call()).result);
            }
        }
        let incomplete =
            !self.plan.missing.is_empty() || !self.plan.outside.is_empty() || !self.report.by_hand.is_empty();
        let warned = !self.report.warnings.is_empty() || !self.plan.outcome.is_whole();
        self.report.outcome = match (incomplete, warned) {
            (true, _) => Outcome::Incomplete,
            (false, true) => Outcome::Warnings,
            (false, false) => Outcome::Complete,
        };
        Ok(())
    }

    /// Says in the logbook what became of it.
    fn remark(&mut self) {
        let host = &self.with.world.host.name;
        let text = match &self.report.failed {
            None => format!("restored in place on {host} ({})", self.report.outcome),
            Some(why) if self.report.went_back => format!("a restore in place on {host} was undone: {why}"),
            Some(why) => format!("a restore in place on {host} did not come about: {why}"),
        };
        let at: Timestamp = self.with.world.clock.now();
        // That it could not be restored somewhere says nothing of the run itself.
        let remark = self.with.logged.remark(at, RemarkKind::Restored, Outcome::Complete, text);
        if let Err(error) = self.with.logged.store_remark(&remark, self.with.store, Some(self.with.state)) {
            self.report.warnings.push(format!("the logbook could not be told: {}", chain(&error)));
        }
    }
}

/// The one file in the folder of a capture.
pub(crate) fn only_file(folder: &Path) -> Result<PathBuf, String> {
    let mut files: Vec<PathBuf> =
        fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
    match (files.pop(), files.is_empty()) {
        (Some(file), true) if file.is_file() => Ok(file),
        _ => Err("it does not consist of one file, so there is none to read on standard input".to_owned()),
    }
}

fn probe_call<'c>() -> Call<'c> {
    Call { moment: "restored", limit: Limits::PROBE, ..Call::default() }
}
