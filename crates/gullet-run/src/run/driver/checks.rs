//! What a run looks at before it touches anything, and its hooks.

use std::collections::BTreeMap;
use std::time::Duration;

use gullet_store::DocumentName;

use super::{Driver, StepNotes};
use crate::preflight::{StoreTrouble, check_identity, check_store, known_beforehand};
use crate::sequence::TaskResult;
use gullet_capture::kinds::check_service;
use gullet_host::hook::{Call, Cancellation, Limits};
use gullet_model::definition::{Drift, HookMoment, OneOrMany};
use gullet_model::outcome::Outcome;
use gullet_model::problem::ProblemKind;
use gullet_model::record::stem_time;

impl<'a> Driver<'a, '_> {
    pub(super) fn preflight(&mut self, done: &mut StepNotes) -> TaskResult {
        let mut refused = false;
        if let Err((text, advice)) = self.check_store() {
            self.trouble(ProblemKind::Store, Some("store"), text, advice);
            refused = true;
        }
        self.check_clock();
        let plan = self.plan;
        for check in known_beforehand(plan, self.store.as_ref(), self.last_good) {
            self.trouble(ProblemKind::Missing, Some(&check.what), check.found, check.advice);
            refused = true;
        }
        for require in &plan.spec.require {
            let probes = OneOrMany::One(Box::new(require.probe.clone()));
            let call = Call {
                moment: "preflight",
                limit: Limits::PROBE,
                patience: Cancellation { stop: Some(self.world.stop), until: None, ..Cancellation::default() },
                ..Call::default()
            };
            let outcome = self.runner.wait_for(&probes, &call, Duration::ZERO);
            if let Err(why) = self.took(outcome, &require.name, done) {
                self.trouble(ProblemKind::Requirement, Some(&require.name), why, require.advice.clone());
                refused = true;
            }
        }
        for part in &plan.parts {
            if let Some(Err(why)) = check_service(part, plan, self.runner) {
                self.trouble(ProblemKind::Missing, Some(&part.name), why, None);
                refused = true;
            }
        }
        for drift in &plan.drift {
            match drift.drift {
                Drift::Ok => {}
                Drift::Warn => self.warn(ProblemKind::Parts, None, drift.text.clone()),
                Drift::Fail => {
                    self.sequence.lack_part();
                    self.trouble(ProblemKind::Parts, None, drift.text.clone(), None);
                }
            }
        }
        let count = plan.spec.require.len();
        done.note = Some(match count {
            0 => "the store can be written".to_owned(),
            1 => "the store can be written, 1 requirement holds".to_owned(),
            _ => format!("the store can be written, {count} requirements hold"),
        })
        .filter(|_| !refused);
        if refused { TaskResult::No } else { TaskResult::Yes }
    }

    /// The order of runs does not depend on the clock, but much that people read does.
    pub(super) fn check_clock(&mut self) {
        let previous = self.previous.as_deref().and_then(DocumentName::parse);
        let Some(began) = previous.as_ref().and_then(|name| name.stem().split_once('-')).map(|(time, _)| time) else {
            return;
        };
        let now = stem_time(self.started);
        if now.as_str() < began {
            let text =
                format!("the clock says {now}, and the run before this one began at {began}: one of them is wrong");
            self.warn(ProblemKind::Clock, Some("clock"), text);
        }
    }

    pub(super) fn check_store(&mut self) -> Result<(), StoreTrouble> {
        let missing = format!("cannot open the store at {}", self.plan.store.display());
        let store = match (&self.store, &self.store_trouble) {
            (_, Some(trouble)) => Err(trouble.clone()),
            (Some(store), None) => Ok(store),
            (None, None) => Err((missing, None)),
        };
        match check_identity(store, self.plan, self.state) {
            Ok(store) => check_store(store, self.plan, self.run.as_str()),
            Err(trouble) => {
                // It is not the store that is meant, so it does not even get the record.
                self.store = None;
                self.deposit = None;
                Err(trouble)
            }
        }
    }

    /// Facts as placeholders: `fact.PART.NAME`.
    pub(super) fn fact_values(&self) -> BTreeMap<String, String> {
        let captures = self.builder.captures.iter().filter(|capture| capture.is_captured());
        let facts = captures.flat_map(|capture| {
            capture.facts.iter().map(|(name, value)| {
                let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
                (format!("fact.{}.{name}", capture.part), text)
            })
        });
        facts.collect()
    }

    pub(super) fn hooks(&mut self, moment: HookMoment, done: &mut StepNotes) -> TaskResult {
        let plan = self.plan;
        let outcome = self.sequence.outcome();
        let record = self.scratch.join("record.json");
        let mut failed = false;
        let mut skipped = 0;
        for (number, hook) in plan.spec.hooks.at(moment).iter().enumerate() {
            let with_warnings = moment != HookMoment::Succeeded || hook.with_warnings || outcome == Outcome::Complete;
            let captured = |part: &String| {
                let meant = |capture: &&gullet_model::record::Capture| {
                    capture.part == *part || capture.each_of.as_ref() == Some(part)
                };
                let mut of_part = self.builder.captures.iter().filter(meant).peekable();
                of_part.peek().is_some() && of_part.all(gullet_model::record::Capture::is_captured)
            };
            // Before the captures there is nothing that a hook could need.
            if !with_warnings || !hook.needs.iter().all(captured) {
                skipped += 1;
                continue;
            }
            let mut env = BTreeMap::from([("GULLET_OUTCOME".to_owned(), outcome.words().to_owned())]);
            if self.committed.is_some() {
                env.insert("GULLET_RECORD".to_owned(), record.display().to_string());
            }
            let patience = match moment {
                HookMoment::Held => self.patience(),
                HookMoment::Before => {
                    Cancellation { stop: Some(self.world.stop), until: None, ..Cancellation::default() }
                }
                _ => Cancellation::default(),
            };
            let call = Call {
                values: self.fact_values(),
                moment: moment.word(),
                limit: Limits::HOOK,
                patience,
                scratch: Some(self.scratch.clone()),
                env,
                notes: true,
                ..Call::default()
            };
            let outcome = self.runner.run(&hook.command, call);
            let about = format!("{} hook {}", moment.word(), number + 1);
            if let Err(why) = self.took(outcome, &about, done) {
                failed = true;
                match moment {
                    HookMoment::Before | HookMoment::Held => self.trouble(ProblemKind::Hook, Some(&about), why, None),
                    _ => self.warn(ProblemKind::Hook, Some(&about), why.to_string()),
                }
            }
        }
        if skipped > 0 {
            done.note = Some(format!("{skipped} not run: their conditions do not hold"));
        }
        if failed { TaskResult::No } else { TaskResult::Yes }
    }
}
