//! The hold, step by step: look, enter, settle, prove, prove again, leave, prove that it serves.

use std::sync::Arc;
use std::time::Duration;

use crate::hold::{
    FoundNote, GuardAnswer, GuardError, Guarded, HoldNote, InitialState, NoteHead, Op, Order, forgotten, guard,
    initial_state, notes_folder,
};
use crate::sequence::TaskResult;
use gullet_host::hook::{Call, Cancellation, Limits};
use gullet_model::Reason;
use gullet_model::definition::{HoldStep, OneOrMany, Probe};
use gullet_model::event::{EventKind, Instruction};
use gullet_model::ids::random_id;
use gullet_model::problem::ProblemKind;
use gullet_model::words::{duration, millis};

use super::driver::{Driver, StepNotes};

/// A hold that lasts twice as long as last time, and longer by this much in milliseconds, is worth a look; a machine that is busy
/// for a while is not.
const UNUSUAL_MS: u64 = 30_000;

/// Whether a hold lasted so much longer than the one before that people should know, both in milliseconds.
fn is_unusually_long(before: u64, now: u64) -> bool {
    now > before.saturating_mul(2) && now - before > UNUSUAL_MS
}

/// What kind of problem it is when something of the hold fails, and how that is told.
type Failure = (ProblemKind, &'static str);

/// How long a guard that is gone may take to let go of its note.
const DYING: Duration = Duration::from_secs(5);

impl<'a> Driver<'a, '_> {
    fn step(&self, number: usize) -> &'a HoldStep {
        &self.plan.spec.hold[number]
    }

    fn call(&self, moment: &'a str, limit: Duration, patience: Cancellation<'a>) -> Call<'a> {
        Call { moment, limit, patience, ..Call::default() }
    }

    /// Asks probes once; gives whether they hold.
    fn holds(&mut self, probes: &OneOrMany<Probe>, name: &str, done: &mut StepNotes) -> Result<(), Reason> {
        let patience = Cancellation { stop: Some(self.world.stop), until: self.deadline(), ..Cancellation::default() };
        let outcome = self.runner.ask(probes, &self.call("probe", Limits::PROBE, patience));
        self.took(outcome, name, done)
    }

    pub(super) fn look(&mut self, number: usize, done: &mut StepNotes) -> TaskResult {
        let step = self.step(number);
        if let Some(head) = self.hold_by_hand().filter(|head| head.entered.contains(&number)) {
            done.note = Some(format!("{}; this run takes the hold over", head.describe()));
            return TaskResult::Serving;
        }
        let state = initial_state(step, &mut |probes| self.holds(probes, &step.name, done));
        let (reply, note) = match state {
            InitialState::Serving => (TaskResult::Serving, "serving".to_owned()),
            InitialState::Held => (TaskResult::Held, "held already".to_owned()),
            InitialState::NotAsked => (TaskResult::Yes, "there is no probe to ask".to_owned()),
            InitialState::Unknown(why) => (TaskResult::Unknown, why),
        };
        done.note = Some(note.clone());
        let goes_on = step.if_held == Some(gullet_model::definition::FoundHeld::GoOn);
        match reply {
            TaskResult::Held if !goes_on => {
                let advice = "find out who holds it; or say `if_held = \"continue\"`, and it is left as it was found";
                self.trouble(
                    ProblemKind::HeldAlready,
                    Some(&step.name),
                    "the application is held already".to_owned(),
                    Some(advice.to_owned()),
                );
            }
            TaskResult::Unknown => {
                let advice = "is the application running? and do its probes tell `held` from `serving`?";
                self.trouble(ProblemKind::StateUnknown, Some(&step.name), note, Some(advice.to_owned()));
            }
            _ => {}
        }
        reply
    }

    /// The hold by hand that this run takes over: of the same account, and still owned by its guard.
    fn hold_by_hand(&self) -> Option<NoteHead> {
        let notes = notes_folder(&self.plan.state);
        match HoldNote::look(&notes, &self.plan.app) {
            Ok(FoundNote::Alive(Some(head))) if head.by_hand && head.account == self.world.host.account => Some(*head),
            _ => None,
        }
    }

    /// Starts the guard before anything is entered.
    fn start_guard(&mut self) -> Result<(), Reason> {
        if self.guard.is_some() {
            return Ok(());
        }
        let by_hand = self.hold_by_hand();
        let order = Order {
            app: self.plan.app.clone(),
            run: self.run.to_string(),
            token: random_id(self.world.random, 20),
            steps: self.plan.spec.hold.clone(),
            limit_ms: millis(self.plan.longest_hold()),
            notes: notes_folder(&self.plan.state),
            scratch: self.scratch.clone(),
            host: self.world.host.clone(),
            by_hand: false,
            take_over: by_hand.is_some(),
            is_restore: false,
        };
        let guard = Guarded::start(self.guard_command, &order, self.lost)?;
        self.guard = Some(guard);
        Ok(())
    }

    /// Has an operation performed by the guard, and takes its processes and warnings into the step.
    fn ask(&mut self, op: Op, about: &str, done: &mut StepNotes) -> Result<GuardAnswer, Reason> {
        let stop = self.world.stop;
        let Some(guard) = self.guard.as_mut() else { return Err(Reason::new(GuardError::Gone.to_string())) };
        let answer = guard.ask(op, stop)?;
        for report in &answer.commands {
            if !report.escaped.is_empty() {
                let text = format!("processes that could not be ended: {}", report.escaped.join(", "));
                self.warn(ProblemKind::Process, Some(about), text);
            }
        }
        done.commands.extend(answer.commands.iter().cloned());
        for warning in &answer.warnings {
            self.warn(ProblemKind::Noted, Some(about), warning.clone());
        }
        Ok(answer)
    }

    fn asked(&mut self, op: Op, step: &HoldStep, what: Failure, done: &mut StepNotes) -> TaskResult {
        let result = self.ask(op, &step.name, done).and_then(|answer| answer.result);
        self.judged(result, step, what, done)
    }

    fn judged(
        &mut self,
        result: Result<(), Reason>,
        step: &HoldStep,
        (kind, what): Failure,
        done: &mut StepNotes,
    ) -> TaskResult {
        match result {
            Ok(()) => TaskResult::Yes,
            Err(why) => {
                done.note = Some(why.to_string());
                // A wish to stop, the limit and a lost hold are told by themselves.
                if self.world.stop.asked().is_none() && !self.is_lost() && !self.is_over() {
                    self.trouble(kind, Some(&step.name), format!("{what}: {why}"), None);
                }
                TaskResult::No
            }
        }
    }

    fn is_lost(&mut self) -> bool {
        self.guard.as_mut().is_some_and(|guard| guard.lost().is_some())
    }

    fn is_over(&self) -> bool {
        self.deadline().is_some_and(|at| self.world.clock.uptime() >= at)
    }

    pub(super) fn enter(&mut self, number: usize, done: &mut StepNotes) -> TaskResult {
        let step = self.step(number);
        if let Err(why) = self.start_guard() {
            done.note = Some(why.to_string());
            self.trouble(ProblemKind::Enter, Some(&step.name), why, None);
            return TaskResult::No;
        }
        if self.hold_began.is_none() {
            // Locks that applications share are waited for before anything is held, and count as no time of the hold.
            if self.plan.spec.hold.iter().any(|step| step.lock.is_some()) {
                let locked = self.ask(Op::Lock, &step.name, done).and_then(|answer| answer.result);
                if let Err(why) = locked {
                    return self.judged(Err(why), step, (ProblemKind::Enter, "cannot be entered"), done);
                }
            }
            let now = self.world.clock.uptime();
            let before = self.guard.as_ref().map_or(Duration::ZERO, |guard| guard.held);
            self.hold_began = Some(now.saturating_sub(before));
            self.limit_from = Some(now);
            self.emit(EventKind::HoldBegan);
        }
        let answer = self.ask(Op::Enter(number), &step.name, done);
        let result = answer.and_then(|answer| answer.result);
        if let Err(why) = &result
            && self.entered_by_hand(step, Op::Prove(number), &format!("cannot be entered: {why}"), done)
        {
            return TaskResult::Yes;
        }
        self.judged(result, step, (ProblemKind::Enter, "cannot be entered"), done)
    }

    /// Has a person put the application into backup mode, where one is there and it can be asked whether it is.
    fn entered_by_hand(&mut self, step: &HoldStep, prove: Op, problem: &str, done: &mut StepNotes) -> bool {
        if step.entered.is_none() {
            return false;
        }
        let to_do = step.manual_enter.clone().or_else(|| {
            let enter = step.enter.as_ref().map(gullet_model::definition::command_text)?;
            Some(format!("put it into backup mode by hand: {enter}"))
        });
        let limit = gullet_model::definition::Span(self.plan.longest_hold());
        let mut problem = problem.to_owned();
        loop {
            if self.world.stop.asked().is_some() || self.is_lost() || self.is_over() {
                return false;
            }
            let instruction = Instruction {
                about: step.name.clone(),
                problem,
                to_do: to_do.clone().unwrap_or_else(|| "put it into backup mode by hand".to_owned()),
                then: "whether it is in backup mode",
                otherwise: format!("nothing is captured, and it is left again; {limit} after entering at the latest"),
            };
            if !self.attend(&instruction) {
                return false;
            }
            match self.ask(prove, &step.name, done).and_then(|answer| answer.result) {
                Ok(()) => {
                    done.note = Some("by hand".to_owned());
                    return true;
                }
                Err(why) => problem = format!("is not held: {why}"),
            }
        }
    }

    /// Shows an instruction and waits, for as long as the hold may last.
    fn attend(&mut self, instruction: &Instruction) -> bool {
        let (world, until, lost) = (self.world, self.deadline(), Arc::clone(self.lost));
        let over = move || {
            let late = until.is_some_and(|until| world.clock.uptime() >= until);
            late || world.stop.asked().is_some() || lost.asked().is_some()
        };
        self.listener.attend(instruction, &over)
    }

    pub(super) fn settle(&mut self, number: usize, done: &mut StepNotes) -> TaskResult {
        let step = self.step(number);
        let began = self.world.clock.uptime();
        // While work in hand is waited for, the limit stands still, here as in the guard.
        self.is_settling = true;
        let reply = self.asked(Op::Drain(number), step, (ProblemKind::Drain, "did not drain"), done);
        self.is_settling = false;
        let waited = self.world.clock.uptime().saturating_sub(began);
        self.settling += waited;
        let text = format!("waited {:.1} s for the work in hand", waited.as_secs_f64());
        done.note = Some(done.note.take().map_or(text.clone(), |why| format!("{text}: {why}")));
        reply
    }

    pub(super) fn prove(&mut self, number: usize, done: &mut StepNotes) -> TaskResult {
        let step = self.step(number);
        if let Err(why) = self.start_guard() {
            self.trouble(ProblemKind::Enter, Some(&step.name), why, None);
            return TaskResult::No;
        }
        let result = self.ask(Op::Prove(number), &step.name, done).and_then(|answer| answer.result);
        let by_hand = match &result {
            Err(why) => self.entered_by_hand(step, Op::Prove(number), &format!("is not held: {why}"), done),
            Ok(()) => false,
        };
        let reply = if by_hand {
            TaskResult::Yes
        } else {
            self.judged(result, step, (ProblemKind::NotHeld, "is not held"), done)
        };
        if reply == TaskResult::Yes && number + 1 == self.plan.spec.hold.len() {
            let proven = self.plan.spec.hold.iter().all(|step| step.entered.is_some());
            self.emit(EventKind::Held { proven });
        }
        reply
    }

    pub(super) fn prove_again(&mut self, number: usize, done: &mut StepNotes) -> TaskResult {
        let step = self.step(number);
        let mut reply = self.asked(
            Op::ProveAgain(number),
            step,
            (ProblemKind::NotHeld, "is no longer held, so everything captured is void"),
            done,
        );
        let notes = notes_folder(&self.plan.state);
        let token = self.guard.as_ref().map(|guard| guard.token.clone()).unwrap_or_default();
        // Where this run entered nothing (all was found held), the note never came to be held.
        let ours = self.hold_began.is_some();
        if reply == TaskResult::Yes && ours && !guard::still_stands(&notes, &self.plan.app, &token) {
            let text = "the hold note is no longer this run's, so everything captured is void";
            self.trouble(ProblemKind::HoldLost, Some(&step.name), text.to_owned(), None);
            reply = TaskResult::No;
        }
        if reply == TaskResult::No {
            self.builder.hold.proven = false;
        }
        reply
    }

    pub(super) fn leave(&mut self, number: usize, done: &mut StepNotes) -> TaskResult {
        let step = self.step(number);
        if self.builder.hold.held_ms.is_none()
            && let Some(began) = self.hold_began
        {
            let held = self.world.clock.uptime().saturating_sub(began).saturating_sub(self.settling);
            self.emit(EventKind::LeavingBegan { held_ms: millis(held) });
        }
        if self.guard.is_none() {
            done.note = Some("nothing was entered, so there is nothing to release".to_owned());
            return TaskResult::Yes;
        }
        // Never cut short by a signal to Gullet, nor by the limit that made it necessary.
        let result = match self.ask(Op::Release(number), &step.name, done) {
            Ok(answer) => answer.result,
            Err(_) => self.leave_without_guard(done),
        };
        match result {
            Ok(()) => TaskResult::Yes,
            Err(why) => {
                done.note = Some(why.to_string());
                if step.released.is_some() {
                    self.warn(ProblemKind::Release, Some(&step.name), format!("the release command failed: {why}"));
                } else {
                    self.not_released(step, &why);
                }
                TaskResult::No
            }
        }
    }

    /// The guard is gone: leave what its note says is held.
    fn leave_without_guard(&mut self, done: &mut StepNotes) -> Result<(), Reason> {
        let notes = notes_folder(&self.plan.state);
        // A process that dies closes its pipe before it lets go of the note's lock.
        HoldNote::await_owner_gone(&notes, &self.plan.app, DYING, self.world.clock);
        let left = forgotten::leave(&notes, &self.plan.app, self.world, &self.scratch, self.old_state);
        done.note = Some("the guard is gone; left by the run itself".to_owned());
        match left {
            Ok(Some(found)) => found.left,
            Ok(None) => Ok(()),
            Err(error) => Err(Reason::new(gullet_model::words::chain(&error))),
        }
    }

    pub(super) fn prove_left(&mut self, number: usize, done: &mut StepNotes) -> TaskResult {
        let step = self.step(number);
        loop {
            let Err(why) = self.ask_left(number, step, done) else { return TaskResult::Yes };
            let instruction = Instruction {
                about: step.name.clone(),
                problem: format!("is not released: {why}"),
                to_do: by_hand(step).unwrap_or_else(|| "release it by hand".to_owned()),
                then: "whether it serves",
                otherwise: "the run ends as not released, and releasing is tried again and again".to_owned(),
            };
            // Leaving has no limit, and the guard goes on with it; the question ends when that has worked, or with one more signal.
            let (stop, times) = (self.world.stop, self.world.stop.times());
            let (notes, app) = (notes_folder(&self.plan.state), self.plan.app.clone());
            let over = move || {
                let released = HoldNote::peek(&notes, &app).is_some_and(|head| head.state.is_over());
                released || stop.times() > times
            };
            if self.guard.is_some() && step.released.is_some() && self.listener.attend(&instruction, &over) {
                continue;
            }
            if over() && self.ask_left(number, step, done).is_ok() {
                return TaskResult::Yes;
            }
            done.note = Some(why.to_string());
            self.not_released(step, &why);
            return TaskResult::No;
        }
    }

    fn ask_left(&mut self, number: usize, step: &HoldStep, done: &mut StepNotes) -> Result<(), Reason> {
        let (true, Some(probes)) = (self.guard.is_some(), &step.released) else { return Ok(()) };
        match self.ask(Op::ProveReleased(number), &step.name, done) {
            Ok(answer) => answer.result,
            Err(_) => {
                let call = self.call("released", Limits::PROBE, Cancellation::default());
                let outcome = self.runner.wait_for(probes, &call, Limits::WITHIN);
                self.took(outcome, &step.name, done)
            }
        }
    }

    fn not_released(&mut self, step: &HoldStep, why: &Reason) {
        self.trouble(
            ProblemKind::NotReleased,
            Some(&step.name),
            format!("the application is not released: {why}"),
            by_hand(step),
        );
    }

    /// Tells once that everything is left.
    pub(super) fn after_leaving(&mut self) {
        if self.sequence.holds() || self.builder.hold.away_ms.is_some() || self.sequence.is_proving_left() {
            return;
        }
        let Some(began) = self.hold_began else { return };
        let away_ms = millis(self.world.clock.uptime().saturating_sub(began));
        let before = self.last_good.and_then(|last| last.record.hold.held_ms);
        if let (Some(before), Some(now)) = (before, self.builder.hold.held_ms)
            && is_unusually_long(before, now)
        {
            let (now, before) = (duration(now), duration(before));
            self.warn(ProblemKind::LongHold, Some("hold"), format!("held for {now}, and {before} last time"));
        }
        let proven = self.sequence.outcome() < gullet_model::outcome::Outcome::NotReleased
            && self.plan.spec.hold.iter().all(|step| step.released.is_some());
        self.emit(EventKind::Released { proven, away_ms });
    }
}

/// What a person is told to do when leaving fails.
fn by_hand(step: &HoldStep) -> Option<String> {
    step.manual_release.clone().or_else(|| {
        let leave = step.release.as_ref().map(gullet_model::definition::command_text)?;
        Some(format!("release it by hand: {leave}"))
    })
}

#[cfg(test)]
mod tests {
    use super::is_unusually_long;

    #[test]
    fn a_hold_is_unusually_long_by_its_share_and_by_its_length() {
        assert!(is_unusually_long(1_000, 31_001));
        assert!(!is_unusually_long(1_000, 31_000), "a busy machine");
        assert!(!is_unusually_long(40_000, 80_000), "twice as long, and no more");
        assert!(is_unusually_long(40_000, 80_001));
        assert!(!is_unusually_long(u64::MAX, u64::MAX));
    }
}
