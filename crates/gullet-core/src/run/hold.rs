//! The hold, step by step: look, enter, settle, prove, prove again, leave, prove that it serves.

use crate::definition::{HoldStep, OneOrMany, Probe};
use crate::event::What;
use crate::hook::{Call, Limits, Patience};
use crate::machine::Reply;

use super::driver::{Done, Driver, millis};

impl<'a> Driver<'a, '_> {
    fn step(&self, number: usize) -> &'a HoldStep {
        &self.plan.spec.hold[number]
    }

    fn call(&self, moment: &'a str, limit: std::time::Duration, patience: Patience<'a>) -> Call<'a> {
        Call { moment, limit, patience, ..Call::default() }
    }

    /// Asks probes once; gives whether they hold.
    fn holds(&mut self, probes: &OneOrMany<Probe>, name: &str, done: &mut Done) -> Result<(), String> {
        let patience = Patience { stop: Some(self.world.stop), until: self.deadline() };
        let outcome = self.runner.ask(probes, &self.call("probe", Limits::PROBE, patience));
        self.took(outcome, name, done)
    }

    pub(super) fn look(&mut self, number: usize, done: &mut Done) -> Reply {
        let step = self.step(number);
        let serving = step.left.as_ref().map(|probes| self.holds(probes, &step.name, done));
        if let Some(Ok(())) = serving {
            done.note = Some("serving".to_owned());
            return Reply::Serving;
        }
        let held = step.entered.as_ref().map(|probes| self.holds(probes, &step.name, done));
        let (reply, note) = match (serving, held) {
            (_, Some(Ok(()))) => (Reply::Held, "held already".to_owned()),
            (None, Some(Err(_))) => (Reply::Serving, "not held".to_owned()),
            (None, None) => (Reply::Yes, "there is no probe to ask".to_owned()),
            (Some(why), _) => (Reply::Unknown, format!("neither serving nor held: {}", why.err().unwrap_or_default())),
        };
        done.note = Some(note.clone());
        let goes_on = step.found_held == Some(crate::definition::FoundHeld::GoOn);
        match reply {
            Reply::Held if !goes_on => {
                let advice = "find out who holds it; or say `found_held = \"go on\"`, and it is left as it was found";
                self.trouble(Some(&step.name), "the application is held already".to_owned(), Some(advice.to_owned()));
            }
            Reply::Unknown => {
                self.trouble(Some(&step.name), note, Some("is the application running?".to_owned()));
            }
            _ => {}
        }
        reply
    }

    pub(super) fn enter(&mut self, number: usize, done: &mut Done) -> Reply {
        let step = self.step(number);
        if self.hold_began.is_none() {
            self.hold_began = Some(self.world.clock.uptime());
            self.emit(What::HoldBegan);
        }
        let Some(enter) = &step.enter else { return Reply::Yes };
        let outcome = self.runner.run(enter, self.call("enter", Limits::HOOK, self.patience()));
        self.said(outcome, step, "cannot be entered", done)
    }

    fn said(&mut self, outcome: crate::hook::CallOutcome, step: &HoldStep, what: &str, done: &mut Done) -> Reply {
        match self.took(outcome, &step.name, done) {
            Ok(()) => Reply::Yes,
            Err(why) => {
                done.note = Some(why.clone());
                self.trouble(Some(&step.name), format!("{what}: {why}"), None);
                Reply::No
            }
        }
    }

    pub(super) fn settle(&mut self, number: usize, done: &mut Done) -> Reply {
        let step = self.step(number);
        let Some(probes) = &step.settled else { return Reply::Yes };
        let began = self.world.clock.uptime();
        let patience = Patience { stop: Some(self.world.stop), until: None };
        let outcome = self.runner.wait_for(probes, &self.call("settled", Limits::PROBE, patience), Limits::SETTLED);
        let waited = self.world.clock.uptime().saturating_sub(began);
        self.settling += waited;
        done.note = Some(format!("waited {:.1} s for the work in hand", waited.as_secs_f64()));
        self.said(outcome, step, "did not settle", done)
    }

    pub(super) fn prove(&mut self, number: usize, done: &mut Done) -> Reply {
        let step = self.step(number);
        let Some(probes) = &step.entered else { return Reply::Yes };
        let outcome =
            self.runner.wait_for(probes, &self.call("entered", Limits::PROBE, self.patience()), Limits::WITHIN);
        let reply = self.said(outcome, step, "is not held", done);
        if reply == Reply::Yes && number + 1 == self.plan.spec.hold.len() {
            let proven = self.plan.spec.hold.iter().all(|step| step.entered.is_some());
            self.emit(What::Held { proven });
        }
        reply
    }

    pub(super) fn prove_again(&mut self, number: usize, done: &mut Done) -> Reply {
        let step = self.step(number);
        let Some(probes) = &step.entered else { return Reply::Yes };
        let outcome = self.runner.ask(probes, &self.call("entered", Limits::PROBE, self.patience()));
        let reply = self.said(outcome, step, "is no longer held, so everything captured is void", done);
        if reply == Reply::No {
            self.builder.hold.proven = false;
        }
        reply
    }

    pub(super) fn leave(&mut self, number: usize, done: &mut Done) -> Reply {
        let step = self.step(number);
        if self.builder.hold.held_ms.is_none()
            && let Some(began) = self.hold_began
        {
            let held = self.world.clock.uptime().saturating_sub(began).saturating_sub(self.settling);
            self.emit(What::LeavingBegan { held_ms: millis(held) });
        }
        let Some(leave) = &step.leave else { return Reply::Yes };
        // Never cut short by a signal to Gullet, nor by the limit that made it necessary.
        let outcome = self.runner.run(leave, self.call("leave", Limits::HOOK, Patience::default()));
        match self.took(outcome, &step.name, done) {
            Ok(()) => Reply::Yes,
            Err(why) => {
                done.note = Some(why.clone());
                if step.left.is_some() {
                    self.warn(Some(&step.name), format!("leaving complained: {why}"));
                } else {
                    self.not_released(step, &why);
                }
                Reply::No
            }
        }
    }

    pub(super) fn prove_left(&mut self, number: usize, done: &mut Done) -> Reply {
        let step = self.step(number);
        let Some(probes) = &step.left else { return Reply::Yes };
        let call = self.call("left", Limits::PROBE, Patience::default());
        let outcome = self.runner.wait_for(probes, &call, Limits::WITHIN);
        match self.took(outcome, &step.name, done) {
            Ok(()) => Reply::Yes,
            Err(why) => {
                done.note = Some(why.clone());
                self.not_released(step, &why);
                Reply::No
            }
        }
    }

    fn not_released(&mut self, step: &HoldStep, why: &str) {
        let advice = step.by_hand.clone().or_else(|| {
            let leave = step.leave.as_ref().map(crate::plan::command_text)?;
            Some(format!("release it by hand: {leave}"))
        });
        self.trouble(Some(&step.name), format!("the application is not released: {why}"), advice);
    }

    /// Tells once that everything is left.
    pub(super) fn after_leaving(&mut self) {
        if self.machine.holds() || self.builder.hold.away_ms.is_some() || self.machine.is_proving_left() {
            return;
        }
        let Some(began) = self.hold_began else { return };
        let away_ms = millis(self.world.clock.uptime().saturating_sub(began));
        let proven = self.machine.outcome() < crate::outcome::Outcome::NotReleased
            && self.plan.spec.hold.iter().all(|step| step.left.is_some());
        self.emit(What::Released { proven, away_ms });
    }
}
