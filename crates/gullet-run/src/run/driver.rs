//! One run, task by task.

mod checks;

use std::ffi::OsString;
use std::fs::{self, File};
use std::io::Write;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use gullet_store::{Cache, Deposit, DepositOptions, Deposited, Store, StoreError};
use jiff::Timestamp;

use super::group::{GroupStage, Member, MissedHold};
use crate::hold::{Guarded, Loss, OldState};
use crate::preflight::{StoreTrouble, cannot_open};
use crate::sequence::{Sequence, Shape, Task, TaskResult};
use gullet_capture::capture::CapturedPart;
use gullet_capture::part::{Filesystems, Staging, WarmCopy};
use gullet_capture::plan::Plan;
use gullet_host::hook::{CallOutcome, Cancellation, Runner};
use gullet_host::state::{AppLock, State};
use gullet_host::world::{Stop, World};
use gullet_logbook::logbook::Logged;
use gullet_model::Reason;
use gullet_model::definition::HookMoment;
use gullet_model::event::RecordBuilder;
use gullet_model::event::{Event, EventKind, Listener};
use gullet_model::ids::RunId;
use gullet_model::notice::Notice;
use gullet_model::outcome::Outcome;
use gullet_model::problem::ProblemKind;
use gullet_model::record::Record;
use gullet_model::step::{CommandReport, Facts, StepName, StepReport};
use gullet_model::words::{chain, millis};

/// Everything that a run stands on.
pub struct Setup<'a> {
    /// The outside world.
    pub world: World<'a>,
    /// The local state.
    pub state: &'a State,
    /// The run's id.
    pub run: RunId,
    /// The plan to execute.
    pub plan: &'a Plan,
    /// The application's lock.
    pub lock: AppLock,
    /// The store, or why it cannot be opened.
    pub store: Result<Store, StoreError>,
    /// The last good run of the application.
    pub last_good: Option<&'a Logged>,
    /// The name of the last record of the application by this machine.
    pub previous: Option<String>,
    /// The commands that start a guard (this program, told to be one), tried in this order.
    pub guard: &'a [Vec<OsString>],
    /// What puts back the old state of a restore in place.
    pub old_state: &'a dyn OldState,
    /// Payload files that are known to be damaged: what lies in them is stored anew.
    pub damaged: Vec<String>,
    /// The group that it is a run of.
    pub member: Option<Member<'a>>,
}

/// A run that is over.
#[derive(Debug)]
pub struct Ended {
    /// Its outcome, with that of the hooks after the record.
    pub outcome: Outcome,
    /// The record as it was written, or as it waits.
    pub record: Record,
    /// The record's name in the store, or its path where it waits.
    pub name: String,
    /// Whether the record is in the store.
    pub in_store: bool,
}

/// The wish to stop of a run that is not done by the time that its schedule says; the number of no signal.
pub const FINISH_BY: i32 = 1000;

/// What this machine knows to be in the store; else why the store cannot be used.
fn open_cache(setup: &Setup<'_>) -> (Option<Cache>, Option<StoreTrouble>) {
    let store = match &setup.store {
        Ok(store) => store,
        Err(error) => return (None, Some(cannot_open(error, &setup.plan.store_name))),
    };
    let path = setup.state.cache_path(&store.info().id).map_err(|error| chain(&error));
    match path.and_then(|path| Cache::open(&path).map_err(|error| chain(&error))) {
        Ok(cache) => (Some(cache), None),
        Err(text) => (None, Some((text, None))),
    }
}

/// Executes a run.
pub fn execute(setup: Setup<'_>, listener: &mut dyn Listener) -> Ended {
    let (mut cache, trouble) = open_cache(&setup);
    let store = setup.store.as_ref().ok().cloned();
    for name in &setup.damaged {
        // Where that fails the damaged file is stood on once more, and found again by the next verification.
        let _ = cache.as_mut().map(|cache| cache.forget(name));
    }
    let deposit = store.as_ref().zip(cache.as_mut()).map(|(store, cache)| {
        let seal = setup.plan.seal.clone();
        let options = DepositOptions { level: setup.plan.level, seal, ..DepositOptions::default() };
        let location = Arc::clone(store.location());
        Deposit::new(location, cache, setup.state.machine(), setup.run.as_str(), &options)
    });
    let (deposit, trouble) = match deposit.transpose() {
        Ok(deposit) => (deposit, trouble),
        Err(error) => (None, trouble.or(Some((chain(&error), None)))),
    };
    let (scratch, leftovers) = match setup.state.scratch(&setup.plan.app, setup.run.as_str(), &setup.lock) {
        Ok((scratch, leftovers)) => (scratch, Ok(leftovers)),
        Err(error) => (PathBuf::from("/nonexistent"), Err(chain(&error))),
    };
    let runner = Runner {
        world: setup.world,
        app: setup.plan.app.clone(),
        run: setup.run.to_string(),
        family: setup.run.to_string(),
        folder: scratch.clone(),
        top: setup.state.folder().to_path_buf(),
    };
    let started = setup.world.clock.now();
    let lost = Arc::new(Stop::default());
    let driver = Driver {
        lost: &lost,
        world: setup.world,
        plan: setup.plan,
        state: setup.state,
        run: setup.run.clone(),
        last_good: setup.last_good,
        previous: setup.previous.clone(),
        log: setup.state.log(&setup.plan.app, setup.run.as_str()).ok(),
        runner: &runner,
        sequence: Sequence::new(Shape::of(setup.plan)),
        builder: RecordBuilder::default(),
        secured: setup.plan.parts.iter().map(|_| None).collect(),
        warm: setup.plan.parts.iter().map(|_| None).collect(),
        grounds: Filesystems::default(),
        staging: Staging::new(setup.state, &setup.plan.app, setup.run.as_str()),
        store,
        store_trouble: trouble.or(leftovers.as_ref().err().map(|text| (text.clone(), None))),
        leftovers: leftovers.unwrap_or_default(),
        deposit,
        deposited: None,
        scratch,
        started,
        began: setup.world.clock.uptime(),
        hold_began: None,
        limit_from: None,
        settling: Duration::ZERO,
        is_settling: false,
        guard: None,
        guard_command: setup.guard,
        old_state: setup.old_state,
        member: setup.member,
        steps: 0,
        told: false,
        committed: None,
        listener,
    };
    driver.run()
}

/// What to do about a hold that takes too long.
const TOO_LONG: &str = "see with `gullet show` which step took so long, or raise `max_hold`";

/// Where the record went.
pub(super) struct Committed {
    pub(super) record: Record,
    pub(super) name: String,
    pub(super) in_store: bool,
}

pub(super) struct Driver<'a, 'd> {
    pub(super) world: World<'a>,
    pub(super) plan: &'a Plan,
    pub(super) state: &'a State,
    pub(super) run: RunId,
    pub(super) last_good: Option<&'a Logged>,
    pub(super) previous: Option<String>,
    log: Option<(PathBuf, File)>,
    pub(super) runner: &'a Runner<'a>,
    pub(super) sequence: Sequence,
    pub(super) builder: RecordBuilder,
    pub(super) secured: Vec<Option<CapturedPart>>,
    /// Copies of parts that were made before the hold.
    pub(super) warm: Vec<Option<WarmCopy>>,
    pub(super) grounds: Filesystems,
    pub(super) staging: Staging,
    pub(super) store: Option<Store>,
    store_trouble: Option<StoreTrouble>,
    leftovers: Vec<String>,
    pub(super) deposit: Option<Deposit<'d>>,
    pub(super) deposited: Option<Deposited>,
    pub(super) scratch: PathBuf,
    pub(super) started: Timestamp,
    began: Duration,
    pub(super) hold_began: Option<Duration>,
    /// Since when the limit counts; later than the hold began where it was taken over.
    pub(super) limit_from: Option<Duration>,
    pub(super) settling: Duration,
    /// Whether work in hand is being waited for, so that the limit stands still.
    pub(super) is_settling: bool,
    pub(super) guard: Option<Guarded>,
    /// Set when the hold is lost, so that what is being captured ends at once.
    pub(super) lost: &'a Arc<Stop>,
    pub(super) guard_command: &'a [Vec<OsString>],
    pub(super) old_state: &'a dyn OldState,
    member: Option<Member<'a>>,
    steps: u32,
    /// Whether the reason for going out early was told.
    told: bool,
    pub(super) committed: Option<Committed>,
    pub(super) listener: &'a mut dyn Listener,
}

/// What a task's execution gives besides its reply.
#[derive(Default)]
pub(super) struct StepNotes {
    pub(super) note: Option<String>,
    pub(super) commands: Vec<CommandReport>,
    /// What its commands noted.
    pub(super) facts: Facts,
    pub(super) omits: Vec<String>,
}

impl<'a> Driver<'a, '_> {
    fn run(mut self) -> Ended {
        self.emit(EventKind::RunStarted {
            run: self.run.clone(),
            app: self.plan.app.clone(),
            title: self.plan.spec.title.clone(),
            reason: self.plan.request.reason.clone(),
            trigger: self.plan.request.trigger.clone(),
            parts: self.plan.parts.iter().map(|part| part.name.clone()).collect(),
        });
        for left in std::mem::take(&mut self.leftovers) {
            self.warn(
                ProblemKind::Leftover,
                None,
                format!("run {left} died before its end; what it left in its private folder was removed"),
            );
        }
        loop {
            self.look_outside();
            let Some(task) = self.sequence.next_task() else { break };
            let reply = self.perform(task);
            self.look_outside();
            self.sequence.reply(task, reply);
            if matches!(task, Task::Release(_) | Task::ProveReleased(_)) {
                self.after_leaving();
            }
        }
        if let Some(guard) = self.guard.take() {
            guard.finish(self.world.clock);
        }
        let outcome = self.sequence.outcome();
        let took = self.world.clock.uptime().saturating_sub(self.began);
        self.emit(EventKind::RunEnded { outcome, took_ms: millis(took) });
        // What cannot be removed now stays noted, and a later command tries again and says so.
        let _ = self.staging.clear(self.runner);
        let _ = fs::remove_dir_all(&self.scratch);
        let committed = self.committed.take();
        self.note_notice(outcome, committed.as_ref());
        if let Some((path, _)) = self.log.take() {
            // A log that stays open means that the run has no record: the next command writes it.
            let _ = self.state.close_log(&path);
        }
        match committed {
            Some(Committed { record, name, in_store }) => Ended { outcome, record, name, in_store },
            None => {
                let record = self.record();
                Ended { outcome, record, name: String::new(), in_store: false }
            }
        }
    }

    /// Notes what there is to tell, before the log is closed: who dies in between is told by the command that finds the log.
    fn note_notice(&mut self, outcome: Outcome, committed: Option<&Committed>) {
        let record = committed.map_or_else(|| self.record(), |committed| committed.record.clone());
        let name = committed.filter(|committed| committed.in_store).map(|committed| committed.name.as_str());
        let (causes, warnings) = (self.builder.causes.clone(), self.builder.warnings.clone());
        let notice = Notice::of_run(&Record { outcome, causes, warnings, ..record }, name);
        if let Err(error) = self.state.note_notice(&notice) {
            let text = format!("nobody can be told of this run: {}", chain(&error));
            self.warn(ProblemKind::Record, None, text);
        }
    }

    pub(super) fn emit(&mut self, what: EventKind) {
        let event = Event { at: self.world.clock.now(), what };
        self.builder.hear(&event);
        if !matches!(event.what, EventKind::Progress { .. })
            && let Some((_, log)) = &mut self.log
            && let Ok(line) = serde_json::to_string(&event)
        {
            // The log is for looking back; a full disk under it must not hinder a run that can still be recorded.
            let _ = log.write_all(format!("{line}\n").as_bytes());
        }
        self.listener.hear(&event);
    }

    pub(super) fn warn(&mut self, kind: ProblemKind, about: Option<&str>, text: impl Into<String>) {
        self.sequence.warn();
        let text = text.into();
        self.emit(EventKind::Warning { kind, about: about.map(str::to_owned), text });
    }

    pub(super) fn trouble(
        &mut self,
        kind: ProblemKind,
        about: Option<&str>,
        text: impl Into<String>,
        advice: Option<String>,
    ) {
        let text = text.into();
        self.emit(EventKind::Trouble { kind, about: about.map(str::to_owned), text, advice });
    }

    /// The uptime at which leaving must begin.
    pub(super) fn deadline(&self) -> Option<Duration> {
        let from = self.limit_from.filter(|_| !self.is_settling)?;
        Some(from + self.settling + self.plan.longest_hold())
    }

    /// What may end a task of the hold early.
    pub(super) fn patience(&self) -> Cancellation<'a> {
        Cancellation { stop: Some(self.world.stop), until: self.deadline(), lost: Some(self.lost), once_more: None }
    }

    /// Lets the sequence know what happened outside.
    fn look_outside(&mut self) {
        if let Some(signal) = self.world.stop.asked()
            && !self.told
            && !self.sequence.is_settled()
        {
            self.told = true;
            self.sequence.interrupt();
            let name = match signal {
                1 => "stopped by SIGHUP",
                2 => "stopped by SIGINT",
                15 => "stopped by SIGTERM",
                FINISH_BY => "it was not done by the time that its schedule says (`finish_by`), so it was ended",
                _ => "stopped by a signal",
            };
            self.trouble(ProblemKind::Stopped, None, name.to_owned(), None);
        }
        let lost = self.guard.as_mut().and_then(Guarded::lost).filter(|_| self.sequence.is_in_hold());
        if let Some(Loss { kind, why }) = lost {
            self.sequence.lose_hold();
            let advice = (kind == ProblemKind::HoldLimit).then(|| TOO_LONG.to_owned());
            self.trouble(kind, None, format!("{why}, so everything captured is void"), advice);
        }
        let over = self.deadline().is_some_and(|at| self.world.clock.uptime() >= at);
        if over && self.sequence.is_in_hold() {
            self.sequence.lose_hold();
            let limit = gullet_model::definition::Span(self.plan.longest_hold());
            let text = format!("the hold reached its limit of {limit}, so the application is released");
            self.trouble(ProblemKind::HoldLimit, None, text, Some(TOO_LONG.to_owned()));
        }
    }

    /// Waits for the other runs of the group. A reply where the run cannot go on.
    fn meet(&mut self, task: Task) -> Option<TaskResult> {
        let member = self.member.take()?;
        let (patience, clock) = (self.patience(), self.world.clock);
        let over = || patience.is_over(clock);
        let never_held = self.plan.spec.hold.is_empty();
        let met = match task {
            Task::ProbeInitialState(0) => member.wait_for_turn(&over),
            // An application that is never held is captured while the others are.
            Task::Capture(_) | Task::Hooks(HookMoment::Held) if never_held => {
                member.wait_for_turn(&over).and_then(|()| member.wait_for_all(&over))
            }
            Task::Hooks(HookMoment::Held) => member.wait_for_all(&over),
            Task::Release(_) => {
                // The others may be slow; the limit of this hold stands all the same.
                member.wait_to_leave(&over);
                Ok(())
            }
            Task::Hooks(HookMoment::Released) | Task::Store(_) | Task::CleanUp | Task::Finish | Task::Commit => {
                if never_held {
                    member.wait_to_leave(&over);
                }
                member.reach(GroupStage::Left);
                Ok(())
            }
            _ => Ok(()),
        };
        self.member = Some(member);
        let MissedHold { app } = met.err()?;
        let text =
            format!("`{app}`, which belongs to the same group, could not be held, so nothing of the group is captured");
        self.trouble(ProblemKind::Group, None, text, None);
        self.sequence.lose_hold();
        Some(if task == Task::ProbeInitialState(0) { TaskResult::Unknown } else { TaskResult::No })
    }

    fn perform(&mut self, task: Task) -> TaskResult {
        if let Some(reply) = self.meet(task) {
            return reply;
        }
        let (kind, about) = crate::steps::name(self.plan, task);
        self.steps += 1;
        let step = StepName { number: self.steps, kind, about };
        let nothing = match task {
            Task::Hooks(moment) => self.plan.spec.hooks.at(moment).is_empty(),
            Task::Snapshot => !self.staging.wants_snapshot(),
            Task::CleanUp => self.staging.is_clear(),
            _ => false,
        };
        if nothing {
            // Nothing to do is no step worth telling.
            self.steps -= 1;
            return TaskResult::Yes;
        }
        self.emit(EventKind::StepStarted { step: step.clone() });
        let started = self.world.clock.now();
        let began = self.world.clock.uptime();
        let mut done = StepNotes::default();
        let reply = match task {
            Task::Preflight => self.preflight(&mut done),
            Task::Hooks(moment) => self.hooks(moment, &mut done),
            Task::Prepare => self.ready(&mut done),
            Task::Precopy(number) => self.warm(number, &mut done),
            Task::ProbeInitialState(number) => self.look(number, &mut done),
            Task::Enter(number) => self.enter(number, &mut done),
            Task::Drain(number) => self.settle(number, &mut done),
            Task::Prove(number) => self.prove(number, &mut done),
            Task::Snapshot => self.snapshot(&mut done),
            Task::Capture(number) => self.capture(number, &mut done),
            Task::CheckNoWrites(number) => self.quiet(number, &mut done),
            Task::ProveAgain(number) => self.prove_again(number, &mut done),
            Task::Release(number) => self.leave(number, &mut done),
            Task::ProveReleased(number) => self.prove_left(number, &mut done),
            Task::Store(number) => self.store_part(number, &mut done),
            Task::CleanUp => self.clear(&mut done),
            Task::Finish => self.finish(&mut done),
            Task::ReadBack => self.read_back(&mut done),
            Task::Commit => {
                // The record cannot hold the end of its own writing; it does hold every step before.
                return self.commit(step);
            }
        };
        let took_ms = millis(self.world.clock.uptime().saturating_sub(began));
        let ok = !matches!(reply, TaskResult::No | TaskResult::Unknown);
        let report = StepReport {
            step,
            started,
            took_ms,
            ok,
            note: done.note,
            commands: done.commands,
            facts: done.facts,
            omits: done.omits,
        };
        self.emit(EventKind::StepEnded { report: report.clone() });
        if let Task::Hooks(moment) = task
            && self.committed.is_some()
        {
            self.remark_hooks(moment, reply, report);
        }
        reply
    }

    /// Takes the processes and notes of a call into the step, and gives its result.
    pub(super) fn took(&mut self, outcome: CallOutcome, about: &str, done: &mut StepNotes) -> Result<(), Reason> {
        for report in &outcome.tries {
            if !report.escaped.is_empty() {
                let text = format!("processes that could not be ended: {}", report.escaped.join(", "));
                self.warn(ProblemKind::Process, Some(about), text);
            }
        }
        done.commands.extend(outcome.tries);
        for warning in outcome.notes.warnings {
            self.warn(ProblemKind::Noted, Some(about), warning);
        }
        done.facts.extend(outcome.notes.facts);
        done.omits.extend(outcome.notes.omits);
        outcome.result
    }
}
