//! A restore in place, step by step: written beside, stopped, swapped, started, checked, and undone where that fails.

mod ending;

use std::ffi::OsString;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use gullet_store::{PathError, Store};
use serde::Serialize;

use super::attended::{Attend, WantedState, by_hand};
use super::back::order;
use super::busy::{users_of, wait_for_users};
use super::journal::{Journal, JournalError, JournalStage, SwapLock};
use super::plan::{AfterRestore, PlacePlan};
use super::swap::{Swap, Tick, kept};
use crate::restore::{PartResult, RestoreError};
use gullet_host::hook::{Call, Limits, Runner};
use gullet_host::state::{State, private_folder};
use gullet_host::world::{Stop, World};
use gullet_logbook::logbook::Logged;
use gullet_model::Reason;
use gullet_model::definition::RestoreSpec;
use gullet_model::ids::random_id;
use gullet_model::outcome::Outcome;
use gullet_model::words::{chain, count, millis};
use gullet_run::hold::{GuardAnswer, Guarded, Op};

/// One thing that was done.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct PlaceStep {
    /// The step, in words.
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
    pub after: Vec<AfterRestore>,
    /// How long the application was stopped, in milliseconds.
    pub stopped_ms: Option<u64>,
}

/// What a restore in place stands on.
pub struct Applying<'a> {
    /// The outside world.
    pub world: World<'a>,
    /// The local state.
    pub state: &'a State,
    /// The store that the run is in.
    pub store: &'a Store,
    /// The run that is restored.
    pub logged: &'a Logged,
    /// The commands that start a guard.
    pub guard: &'a [Vec<OsString>],
    /// Told of each step as it is done.
    pub tell: &'a mut dyn FnMut(&PlaceStep),
    /// Told how far the writing is: part, files, bytes.
    pub progress: &'a mut dyn FnMut(&str, u64, u64),
    /// Has a person do what a command could not; gives false where nobody is there.
    pub attend: Attend<'a>,
    /// Told before each change on the disk.
    pub tick: Tick<'a>,
}

/// Why it does not go on.
pub(super) enum Failure {
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

pub(super) struct Apply<'p, 'a> {
    pub(super) with: Applying<'a>,
    pub(super) plan: &'p PlacePlan,
    pub(super) spec: RestoreSpec,
    pub(super) journal: Journal,
    pub(super) runner: Runner<'a>,
    pub(super) report: PlaceReport,
    pub(super) guard: Option<Guarded>,
    pub(super) lost: Arc<Stop>,
    pub(super) stopped_at: Option<Duration>,
    pub(super) hands: Option<SwapLock>,
    /// Databases that were brought into their servers, by part.
    pub(super) imported: Vec<(String, Vec<String>)>,
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
        stage: JournalStage::Writing,
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
    let stage = if journal.stage == JournalStage::Written { JournalStage::Written } else { JournalStage::Writing };
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
        family: journal.id.clone(),
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
    pub(super) fn top(&self) -> PathBuf {
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
        self.report.is_ready = stage == Some(JournalStage::Written);
        if stage == Some(JournalStage::Writing) {
            // Half of a state is of no use to anybody.
            if let Err(error) = self.journal.clone().discard(&self.top()) {
                self.report.warnings.push(format!("what was written beside could not be removed: {}", chain(&error)));
            }
        }
        if stage.is_some_and(|stage| stage != JournalStage::Writing) {
            self.report.kept_in = self.journal.arenas();
        }
        self.remark();
        self.report
    }

    pub(super) fn step(&mut self, what: &str, began: Duration, result: Result<String, Reason>) {
        let took = self.with.world.clock.uptime().saturating_sub(began);
        let (ok, note) = match result {
            Ok(note) => (true, note),
            Err(why) => (false, why.into()),
        };
        let took_ms = millis(took);
        let step = PlaceStep { what: what.to_owned(), ok, note, took_ms };
        (self.with.tell)(&step);
        self.report.steps.push(step);
    }

    pub(super) fn now(&self) -> Duration {
        self.with.world.clock.uptime()
    }

    pub(super) fn check_stop(&self) -> Result<(), Failure> {
        if self.with.world.stop.asked().is_some() { Err(Failure::Stopped) } else { Ok(()) }
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

    fn ask_guard(&mut self, op: Op) -> Result<GuardAnswer, Reason> {
        let guard = self.guard.as_mut().ok_or_else(|| Reason::new("there is no guard"))?;
        Ok(guard.ask(op, self.with.world.stop)?)
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
        let (proven, by_hand) = self.or_by_hand(WantedState::Stopped, proven);
        let note = if self.spec.stopped.is_some() { "proven" } else { "not proven: there is no `stopped` probe" };
        self.step(
            "stop",
            began,
            proven.clone().map(|()| if by_hand { format!("by hand, {note}") } else { note.to_owned() }),
        );
        match proven {
            Ok(()) => Ok(()),
            Err(why) => Err(self.undo(Failure::Before(format!("it does not stop: {why}")))),
        }
    }

    /// What came of it, or of the hand of a person where it did not go well; and whether that was asked for.
    fn or_by_hand(&mut self, wanted: WantedState, result: Result<(), Reason>) -> (Result<(), Reason>, bool) {
        let Err(why) = result else { return (result, false) };
        let op = match wanted {
            WantedState::Stopped => Op::Prove(0),
            WantedState::Started | WantedState::StartedAgain => Op::ProveReleased(0),
        };
        let (guard, runner, started) = (&mut self.guard, &self.runner, &self.spec.started);
        let done = by_hand(&mut self.with, &self.spec, wanted, why, &mut |with| match (wanted, started) {
            // As when it was started: not the guard is asked, which would let go.
            (WantedState::Started, Some(probes)) => runner.wait_for(probes, &probe_call(), Limits::WITHIN).result,
            _ => match guard {
                Some(guard) => guard.ask(op, with.world.stop).map_err(Reason::from).and_then(|answer| answer.result),
                None => Err(Reason::new("there is no guard")),
            },
        });
        (done, true)
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
            self.report.warnings.push(text);
        }
        if users.count == 0 {
            return Ok(());
        }
        let why = users.words();
        self.step("nobody uses it", began, Err(Reason::new(why.clone())));
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
        self.journal.stage(JournalStage::Swapping, &top)?;
        let swapped = self.journal.swap.forward(self.with.tick).map_err(JournalError::from);
        (self.with.tick)("note that it is swapped");
        let swapped = swapped.and_then(|()| self.journal.stage(JournalStage::Swapped, &top));
        let note = format!("{} swapped", count(self.plan.targets.len() as u64, "path"));
        self.step("swap", began, swapped.as_ref().map(|()| note).map_err(Reason::from));
        Ok(swapped?)
    }
}

fn probe_call<'c>() -> Call<'c> {
    Call { moment: "restored", limit: Limits::PROBE, ..Call::default() }
}
