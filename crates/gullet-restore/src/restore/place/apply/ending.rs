//! The end of a restore in place: started and proven, or undone.

use std::time::Duration;

use super::super::attended::WantedState;
use super::super::journal::{Journal, JournalStage};
use super::{Apply, Applying, Failure, probe_call};
use gullet_host::hook::Limits;
use gullet_model::Reason;
use gullet_model::definition::{OneOrMany, Probe, Require};
use gullet_model::outcome::Outcome;
use gullet_model::record::RemarkKind;
use gullet_model::words::{chain, millis};
use gullet_run::hold::Op;

impl<'a> Apply<'_, 'a> {
    /// Brings back what commands bring back, starts, checks.
    pub(super) fn prove(&mut self) -> Result<(), Failure> {
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
            let started = self.ask_guard(Op::Release(0)).and_then(|answer| answer.result);
            let proven = self
                .spec
                .started
                .clone()
                .map(|probes| self.runner.wait_for(&probes, &probe_call(), Limits::WITHIN).result);
            let note = if proven.is_some() { "proven" } else { "not proven: there is no `started` probe" };
            // Where there is a probe it decides, not what the command said of itself.
            let (result, by_hand) = self.or_by_hand(WantedState::Started, proven.unwrap_or(started));
            self.step(
                "start",
                began,
                result.clone().map(|()| if by_hand { format!("by hand, {note}") } else { note.to_owned() }),
            );
            result.map_err(|why| Failure::Before(format!("it does not start on the new state: {why}")))?;
        }
        self.ways_back(false)?;
        for check in self.spec.checks.clone() {
            self.check(&check)?;
        }
        self.check_stop()
    }

    pub(super) fn check(&mut self, check: &Require) -> Result<(), Failure> {
        let began = self.now();
        let probes: OneOrMany<Probe> = OneOrMany::One(Box::new(check.probe.clone()));
        let outcome = self.runner.wait_for(&probes, &probe_call(), Duration::ZERO);
        self.step(&format!("check: {}", check.name), began, outcome.result.clone().map(|()| String::new()));
        outcome.result.map_err(|why| Failure::Before(format!("the check `{}` does not hold: {why}", check.name)))
    }

    /// Puts the old state back and starts the application on it. Gives why, with what is in the way of that.
    pub(super) fn undo(&mut self, failure: Failure) -> Failure {
        let began = self.now();
        let top = self.top();
        self.hands = None;
        let was_open = super::super::journal::is_open(&top, &self.plan.app);
        (self.with.tick)("roll back");
        let back = match self.guard {
            Some(_) => self.ask_guard(Op::GoBack).and_then(|answer| answer.result),
            None => super::super::journal::go_back(&top, &self.plan.app, self.with.world.clock)
                .map(drop)
                .map_err(Reason::from),
        };
        self.take_imports_back();
        self.report.went_back = was_open && back.is_ok();
        if was_open {
            self.step("roll back", began, back.clone().map(|()| "the old state is in place again".to_owned()));
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
    pub(super) fn start_again(&mut self) -> Result<(), Reason> {
        if self.guard.is_none() {
            return Ok(());
        }
        let began = self.now();
        let started = self.ask_guard(Op::Release(0)).and_then(|answer| answer.result);
        let result = match self.spec.started {
            Some(_) => self.ask_guard(Op::ProveReleased(0)).and_then(|answer| answer.result),
            None => started,
        };
        let (result, by_hand) = self.or_by_hand(WantedState::StartedAgain, result);
        self.step(
            "start again",
            began,
            result.clone().map(|()| if by_hand { "by hand".to_owned() } else { String::new() }),
        );
        self.count_stopped();
        result
    }

    /// The new state is in place and proven.
    pub(super) fn done(&mut self) -> Result<(), Failure> {
        self.count_stopped();
        let top = self.top();
        let hands = Journal::hands(&top, &self.plan.app)?;
        // A guard that was told to let go has put the old state back.
        let stage = Journal::load(&top, &self.plan.app)?.map(|journal| journal.stage);
        if stage != Some(JournalStage::Swapped) {
            self.report.went_back = true;
            return Err(Failure::Before("the guard was told to release it, and has put the old state back".to_owned()));
        }
        (self.with.tick)("note that it is done");
        self.journal.stage(JournalStage::Done, &top)?;
        drop(hands);
        (self.with.tick)("let the guard go");
        if self.guard.is_some() && self.spec.started.is_some() {
            let _ = self.ask_guard(Op::ProveReleased(0));
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
    pub(super) fn remark(&mut self) {
        let host = &self.with.world.host.name;
        let text = match &self.report.failed {
            None => format!("restored in place on {host} ({})", self.report.outcome),
            Some(why) if self.report.went_back => format!("a restore in place on {host} was undone: {why}"),
            Some(why) => format!("a restore in place on {host} did not come about: {why}"),
        };
        let Applying { logged, store, state, world, .. } = &self.with;
        // That it could not be restored somewhere says nothing of the run itself.
        if let Err(error) = logged.say(RemarkKind::Restored, Outcome::Complete, text, store, Some(state), *world) {
            self.report.warnings.push(format!("the logbook could not be told: {}", chain(&error)));
        }
    }

    pub(super) fn count_stopped(&mut self) {
        let stopped = self.stopped_at.map(|at| self.now().saturating_sub(at));
        self.report.stopped_ms = stopped.map(millis);
    }
}
