//! Entering, proving and leaving hold steps, and measuring the hold. No main process is needed for it.

use std::collections::BTreeMap;
use std::fs::{File, OpenOptions};
use std::os::unix::fs::OpenOptionsExt;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use rustix::fs::FlockOperation;

use super::note::{HoldNote, RunningCommand};
use super::old_state::OldState;
use super::protocol::{GuardAnswer, Op};
use super::session::HoldSession;
use gullet_host::hook::{Call, CallOutcome, Cancellation, Limits, Process, Runner};
use gullet_host::world::Stop;
use gullet_model::definition::{CommandSpec, HoldStep, OneOrMany, Probe};
use gullet_model::words::millis;
use gullet_model::{Reason, ReasonAbout};

/// Owns the hold of one application.
pub struct Keeper<'w> {
    runner: Runner<'w>,
    steps: Vec<HoldStep>,
    limit: Duration,
    note: Option<HoldNote>,
    /// Steps that were entered, or may have been, and are not proven to be left.
    entered: Vec<usize>,
    sessions: BTreeMap<usize, HoldSession>,
    /// Locks that applications share, held for as long as their steps are.
    locks: BTreeMap<usize, File>,
    /// When the first was entered.
    began: Option<Duration>,
    /// Since when the limit counts: that of a hold that was taken over begins anew.
    limit_from: Option<Duration>,
    settling: Duration,
    left_at: Option<Duration>,
    /// Whether, once a step is entered, its probes must tell that from serving. A restore asks only whether it stopped.
    must_tell_apart: bool,
    old_state: &'w dyn OldState,
}

impl<'w> Keeper<'w> {
    /// A keeper of these steps; `entered` are held already.
    pub fn new(
        runner: Runner<'w>,
        steps: Vec<HoldStep>,
        limit: Duration,
        note: Option<HoldNote>,
        entered: Vec<usize>,
        old_state: &'w dyn OldState,
    ) -> Self {
        let now = runner.world.clock.uptime();
        let noted = note.as_ref().and_then(|note| note.head().began_uptime()).filter(|began| *began <= now);
        let limit_from = (!entered.is_empty()).then_some(now);
        let began = limit_from.map(|now| noted.unwrap_or(now));
        Self {
            runner,
            steps,
            limit,
            note,
            entered,
            sessions: BTreeMap::new(),
            locks: BTreeMap::new(),
            began,
            limit_from,
            settling: Duration::ZERO,
            left_at: None,
            must_tell_apart: true,
            old_state,
        }
    }

    /// The same for a restore in place, which stops the application as a step is entered.
    #[must_use]
    pub fn of_restore(self, is_restore: bool) -> Self {
        Self { must_tell_apart: !is_restore, ..self }
    }

    /// Whether anything is held, or may be.
    pub fn holds(&self) -> bool {
        !self.entered.is_empty()
    }

    /// The steps that are held, or may be.
    pub fn entered(&self) -> &[usize] {
        &self.entered
    }

    /// The note, where there is one.
    pub fn note(&mut self) -> Option<&mut HoldNote> {
        self.note.as_mut()
    }

    /// The uptime at which leaving must begin.
    pub fn deadline(&self) -> Option<Duration> {
        self.limit_from.map(|from| from + self.settling + self.limit)
    }

    /// How long it has been held.
    pub fn held(&self) -> Duration {
        let until = self.left_at.unwrap_or_else(|| self.runner.world.clock.uptime());
        self.began.map_or(Duration::ZERO, |began| until.saturating_sub(began).saturating_sub(self.settling))
    }

    /// A session that ended by itself, so that its lock is lost.
    pub fn lost_session(&mut self) -> Option<String> {
        let mut ended = self.sessions.iter_mut().filter_map(|(step, session)| (!session.is_alive()).then_some(*step));
        let lost = ended.next()?;
        let name = self.steps[lost].name.clone();
        // Its lock is gone with it: nothing is left to leave but what its report may say.
        let _ = self.sessions.remove(&lost)?.end(self.runner.world.clock);
        self.forget(lost);
        Some(format!("the session of `{name}` ended by itself, and its lock with it"))
    }

    /// Performs an operation. Leaving is never cut short; all else ends when `stop` asks for it, or at the limit.
    pub fn perform(&mut self, op: Op, stop: &Stop) -> GuardAnswer {
        let patience = Cancellation { stop: Some(stop), until: self.deadline(), ..Cancellation::default() };
        match op {
            Op::Lock => {
                let taken = self.take_locks(patience);
                self.answer(CallOutcome::new(taken))
            }
            Op::Enter(step) => self.enter(step, stop),
            Op::Drain(step) => self.settle(step, Cancellation { until: None, ..patience }),
            Op::Prove(step) => {
                let probes = self.steps[step].entered.clone();
                let answer = self.asked(step, probes.as_ref(), Some(Limits::WITHIN), patience);
                let asks = answer.result.is_ok() && self.must_tell_apart;
                if asks { self.tells_apart(step, answer, patience) } else { answer }
            }
            Op::ProveAgain(step) => {
                let probes = self.steps[step].entered.clone();
                self.asked(step, probes.as_ref(), None, patience)
            }
            Op::GoBack => {
                let result = self.go_back();
                self.answer(CallOutcome::new(result))
            }
            Op::Release(step) => self.leave(step),
            Op::ProveReleased(step) => self.prove_released(step, Cancellation::default()),
        }
    }

    fn prove_released(&mut self, step: usize, patience: Cancellation<'_>) -> GuardAnswer {
        let probes = self.steps[step].released.clone();
        let answer = self.asked(step, probes.as_ref(), Some(Limits::WITHIN), patience);
        if answer.result.is_ok() {
            self.forget(step);
        }
        answer
    }

    fn answer(&self, outcome: CallOutcome) -> GuardAnswer {
        GuardAnswer {
            result: outcome.result,
            commands: outcome.tries,
            warnings: outcome.notes.warnings,
            held_ms: millis(self.held()),
            waited_ms: 0,
        }
    }

    /// Whether sessions are open; they cannot be given to another process.
    pub fn has_sessions(&self) -> bool {
        !self.sessions.is_empty()
    }

    fn enter(&mut self, step: usize, stop: &Stop) -> GuardAnswer {
        if self.entered.contains(&step) {
            // Taken over from a hold by hand.
            return self.answer(CallOutcome::new(Ok(())));
        }
        // All of them were, before the first was entered; nothing is waited for while something is held.
        if self.steps[step].lock.is_some() && !self.locks.contains_key(&step) {
            let taken =
                self.take_locks(Cancellation { stop: Some(stop), until: self.deadline(), ..Cancellation::default() });
            if let Err(why) = taken {
                return self.answer(CallOutcome::new(Err(why)));
            }
        }
        let (now, uptime) = (self.runner.world.clock.now(), self.runner.world.clock.uptime());
        let noted = self.note.as_mut().map_or(Ok(()), |note| note.entering(step, now, uptime));
        if let Err(error) = noted {
            // Nothing may be entered that nobody could find again.
            let why = format!("the hold could not be noted: {}", gullet_model::words::chain(&error));
            return GuardAnswer {
                result: Err(Reason::new(why)),
                commands: Vec::new(),
                warnings: Vec::new(),
                held_ms: 0,
                waited_ms: 0,
            };
        }
        self.entered.retain(|entered| *entered != step);
        self.entered.push(step);
        self.began.get_or_insert(uptime);
        self.limit_from.get_or_insert(uptime);
        let patience = Cancellation { stop: Some(stop), until: self.deadline(), ..Cancellation::default() };
        let spec = &self.steps[step];
        if let Some(session) = spec.session.clone() {
            return self.start_session(step, &session, patience);
        }
        let Some(enter) = spec.enter.clone() else { return self.answer(CallOutcome::new(Ok(()))) };
        let outcome = self.run_noted(&enter, call("enter", patience));
        self.answer(outcome)
    }

    /// Runs a command, and notes which process it is while it runs: whoever releases a forgotten hold ends it first.
    fn run_noted(&mut self, command: &CommandSpec, call: Call<'_>) -> CallOutcome {
        let (note, moment) = (Mutex::new(self.note.as_mut()), call.moment);
        let started = |process: Option<Process>| {
            if let Some(note) = note.lock().unwrap_or_else(PoisonError::into_inner).as_mut() {
                note.running(process.map(|process| RunningCommand { process, moment: moment.to_owned() }));
            }
        };
        self.runner.run(command, Call { started: Some(&started), ..call })
    }

    /// Takes all locks that the steps share with other applications, in the order of their names, so that no two applications
    /// wait for each other; before the first step is entered, so that nobody waits while something is held.
    fn take_locks(&mut self, patience: Cancellation<'_>) -> Result<(), Reason> {
        let wanted = self.steps.iter().enumerate().filter_map(|(number, step)| Some((step.lock.clone()?, number)));
        let mut wanted: Vec<(String, usize)> = wanted.filter(|(_, number)| !self.locks.contains_key(number)).collect();
        wanted.sort();
        for (name, step) in wanted {
            let file = self.shared_lock(&name, patience)?;
            self.locks.insert(step, file);
        }
        Ok(())
    }

    /// A probe that says `serving` of an application that is held proves nothing, nor does the other one then.
    fn tells_apart(&mut self, step: usize, answer: GuardAnswer, patience: Cancellation<'_>) -> GuardAnswer {
        let (Some(_), Some(left)) = (&self.steps[step].entered, self.steps[step].released.clone()) else {
            return answer;
        };
        let serving = self.runner.ask(&left, &probe_call("probe", patience));
        let mut commands = answer.commands;
        commands.extend(serving.tries);
        let why = "its `released` probe says that it serves, and its `entered` probe that it is held: they cannot tell";
        let result = if serving.result.is_ok() { Err(Reason::new(why)) } else { Ok(()) };
        GuardAnswer { result, commands, ..answer }
    }

    /// Takes a lock that applications share; the kernel lets it go when this process dies.
    fn shared_lock(&self, name: &str, patience: Cancellation<'_>) -> Result<File, Reason> {
        let path = self.runner.top.join("locks").join(format!("shared-{name}.lock"));
        let folder = path.parent().unwrap_or(&self.runner.top);
        let about = format!("the lock `{name}`: {}", path.display());
        std::fs::create_dir_all(folder).about(&about)?;
        let file = OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(&path).about(&about)?;
        let clock = self.runner.world.clock;
        let began = clock.uptime();
        loop {
            match rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive) {
                Ok(()) => return Ok(file),
                Err(rustix::io::Errno::WOULDBLOCK) => {}
                Err(errno) => return Err(Reason::from(errno).at(about)),
            }
            if patience.is_over(clock) || clock.uptime().saturating_sub(began) >= Limits::SETTLED {
                return Err(Reason::new(format!(
                    "the lock `{name}` is held by another application, and did not become free in time"
                )));
            }
            clock.sleep(Duration::from_millis(20));
        }
    }

    fn start_session(&mut self, step: usize, spec: &CommandSpec, patience: Cancellation<'_>) -> GuardAnswer {
        let mut outcome = CallOutcome::new(Ok(()));
        match self.runner.prepare(spec, &Call { notes: false, ..call("enter", patience) }) {
            Err(error) => outcome.result = Err(error.into()),
            Ok(invocation) => match HoldSession::start(invocation, self.runner.world.clock, patience) {
                Ok(session) => {
                    self.sessions.insert(step, session);
                }
                Err(failed) => {
                    outcome.result = Err(Reason::new(failed.why));
                    outcome.tries.push(failed.report);
                    // It may have the lock: it is ended as one that holds.
                    self.sessions.extend(failed.lives_on.map(|session| (step, session)));
                }
            },
        }
        self.answer(outcome)
    }

    fn settle(&mut self, step: usize, patience: Cancellation<'_>) -> GuardAnswer {
        let Some(probes) = self.steps[step].drained.clone() else { return self.answer(CallOutcome::new(Ok(()))) };
        let began = self.runner.world.clock.uptime();
        let outcome = self.runner.wait_for(&probes, &probe_call("drained", patience), Limits::SETTLED);
        let waited = self.runner.world.clock.uptime().saturating_sub(began);
        self.settling += waited;
        GuardAnswer { waited_ms: millis(waited), ..self.answer(outcome) }
    }

    fn asked(
        &mut self,
        step: usize,
        probes: Option<&OneOrMany<Probe>>,
        within: Option<Duration>,
        patience: Cancellation<'_>,
    ) -> GuardAnswer {
        if self.steps[step].session.is_some()
            && patience.until.is_some()
            && !self.sessions.get_mut(&step).is_some_and(HoldSession::is_alive)
        {
            return self.answer(CallOutcome::new(Err(Reason::new("its session has ended, and its lock with it"))));
        }
        let Some(probes) = probes else { return self.answer(CallOutcome::new(Ok(()))) };
        let call = probe_call("probe", patience);
        let outcome = match within {
            Some(within) => self.runner.wait_for(probes, &call, within),
            None => self.runner.ask(probes, &call),
        };
        self.answer(outcome)
    }

    fn leave(&mut self, step: usize) -> GuardAnswer {
        self.left_at.get_or_insert_with(|| self.runner.world.clock.uptime());
        if !self.entered.contains(&step) {
            return self.answer(CallOutcome::new(Ok(())));
        }
        let ended = self.sessions.get_mut(&step).map(|session| session.end(self.runner.world.clock));
        let outcome = match ended {
            Some(Ok(report)) => {
                self.sessions.remove(&step);
                let mut outcome = CallOutcome::new(Ok(()));
                outcome.tries.push(report);
                outcome
            }
            Some(Err(why)) => CallOutcome::new(Err(why)),
            None => match self.steps[step].release.clone() {
                Some(leave) => {
                    self.run_noted(&leave, Call { notes: false, ..call("release", Cancellation::default()) })
                }
                None => CallOutcome::new(Ok(())),
            },
        };
        if self.steps[step].released.is_none() && outcome.result.is_ok() {
            self.forget(step);
        }
        self.answer(outcome)
    }

    /// A step is left. Leave first, write afterwards.
    fn forget(&mut self, step: usize) {
        self.entered.retain(|entered| *entered != step);
        self.locks.remove(&step);
        let entered = self.entered.clone();
        if let Some(note) = &mut self.note {
            let _ = note.leaving(&entered, None);
        }
    }

    /// Puts the old state of the application back where a restore in place is in the middle of its swap. It is stopped once
    /// more first: it may have been started on the new one.
    fn go_back(&mut self) -> Result<(), Reason> {
        let (top, app) = (self.runner.top.clone(), self.runner.app.clone());
        if !self.old_state.is_away(&top, &app) {
            return Ok(());
        }
        for step in self.entered.clone() {
            if let Some(enter) = self.steps[step].enter.clone() {
                // Its probe decides; stopping what is stopped may fail.
                let _ = self.runner.run(&enter, Call { notes: false, ..call("enter", Cancellation::default()) });
            }
            let probes = self.steps[step].entered.clone();
            let answer = self.asked(step, probes.as_ref(), Some(Limits::WITHIN), Cancellation::default());
            answer.result.about("it does not stop, so the old state cannot be put back")?;
        }
        let back = self.old_state.put_back(&top, &app, self.runner.world.clock);
        back.about("the old state cannot be put back")
    }

    /// Leaves everything that is held, in reverse, and proves it; a failing step never stops the others. A restore that is
    /// in the middle of its swap is undone first, and the application stays stopped where that fails. Waiting for an application to
    /// serve ends early when `told` is asked once more: then all of it is to be tried anew.
    ///
    /// # Errors
    /// What is still held, and why.
    pub fn leave_all(&mut self, why: &str, told: &Stop) -> Result<(), Reason> {
        let heeded = told.times();
        if let Err(error) = self.go_back() {
            let entered = self.entered.clone();
            if let Some(note) = &mut self.note {
                let _ = note.left_as_told(&entered, format!("{why}; {error}"), heeded);
            }
            return Err(error);
        }
        let stop = Stop::default();
        let patience = Cancellation { once_more: Some((told, heeded)), ..Cancellation::default() };
        let mut failed = Vec::new();
        for step in self.entered.clone().into_iter().rev() {
            let left = self.perform(Op::Release(step), &stop);
            let has_probe = self.steps[step].released.is_some() && !self.sessions.contains_key(&step);
            let result = if has_probe { self.prove_released(step, patience).result } else { left.result };
            if let Err(error) = result {
                failed.push(format!("{}: {error}", self.steps[step].name));
            }
        }
        let entered = self.entered.clone();
        // What was cut short by another request answers none: it is tried anew.
        let heeded = if told.times() > heeded { 0 } else { heeded };
        let text = if failed.is_empty() { why.to_owned() } else { format!("{why}; {}", failed.join("; ")) };
        if let Some(note) = &mut self.note {
            let _ = note.left_as_told(&entered, text, heeded);
        }
        if failed.is_empty() { Ok(()) } else { Err(Reason::new(failed.join("; "))) }
    }
}

fn call<'a>(moment: &'a str, patience: Cancellation<'a>) -> Call<'a> {
    Call { moment, limit: Limits::HOOK, patience, notes: true, ..Call::default() }
}

fn probe_call<'a>(moment: &'a str, patience: Cancellation<'a>) -> Call<'a> {
    Call { limit: Limits::PROBE, notes: false, ..call(moment, patience) }
}
