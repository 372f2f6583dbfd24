//! The tasks of a run that are about its parts: made ready, copied before the hold, secured, looked at again, stored.

use std::time::Duration;

use jiff::Timestamp;

use super::driver::{Driver, StepNotes};
use crate::sequence::TaskResult;
use gullet_capture::part::{CaptureContext, PartError, SourceChange};
use gullet_capture::plan::PlannedPart;
use gullet_capture::{capture, kinds};
use gullet_host::hook::{Call, Cancellation, Limits};
use gullet_model::Reason;
use gullet_model::definition::CaptureMethod;
use gullet_model::event::{Event, EventKind};
use gullet_model::problem::ProblemKind;
use gullet_model::record::Capture;
use gullet_model::words::{count, size};

/// How often progress is told, at most.
const PROGRESS: Duration = Duration::from_millis(100);

impl<'a> Driver<'a, '_> {
    pub(super) fn last_capture(&self, number: usize) -> Option<&'a Capture> {
        self.last_good.and_then(|last| last.record.capture(&self.plan.parts[number].name))
    }

    /// Does something with a part that reads or stores it.
    fn with_part<T>(
        &mut self,
        number: usize,
        done: &mut StepNotes,
        act: impl FnOnce(&PlannedPart, &mut CaptureContext<'_, '_>) -> T,
    ) -> Option<T> {
        let planned = &self.plan.parts[number];
        let mut deposit = self.deposit.take()?;
        let in_hold = self.sequence.holds() || self.sequence.is_in_found_hold();
        let patience =
            if in_hold { self.patience() } else { Cancellation { until: None, lost: None, ..self.patience() } };
        let store = self.store.as_ref().map_or(String::new(), |store| store.info().id.clone());
        let marks = self.state.marks_path(&store, &self.plan.app, &planned.name).unwrap_or_default();
        let (world, last, mut told) = (self.world, self.last_capture(number), self.world.clock.uptime());
        let name = planned.name.clone();
        // What fails here fails again with the first chunk, and is told then.
        let _ = deposit.set_level(planned.spec.zstd_level.unwrap_or(self.plan.level));
        let listener = &mut *self.listener;
        let mut progress = |files: u64, bytes: u64| {
            let now = world.clock.uptime();
            if now.saturating_sub(told) >= PROGRESS {
                told = now;
                let what = EventKind::Progress { part: name.clone(), files, bytes };
                listener.hear(&Event { at: world.clock.now(), what });
            }
        };
        let mut context = CaptureContext {
            world,
            plan: self.plan,
            runner: self.runner,
            patience,
            deposit: &mut deposit,
            progress: &mut progress,
            scratch: self.scratch.join(format!("part-{number}")),
            marks,
            grounds: &mut self.grounds,
            staging: &mut self.staging,
            in_hold,
            is_live: false,
            warm: self.warm[number].as_ref(),
            last,
            reread: self.plan.request.reread,
            commands: Vec::new(),
            notes: Default::default(),
        };
        let acted = act(planned, &mut context);
        done.commands.append(&mut context.commands);
        drop(context);
        self.deposit = Some(deposit);
        Some(acted)
    }

    /// Before the hold: what would cost time of it.
    pub(super) fn ready(&mut self, done: &mut StepNotes) -> TaskResult {
        self.grounds.look_at_all(self.plan, self.world.clock);
        match kinds::prepare(&mut self.staging, self.plan) {
            Ok(found) => {
                done.note = Some(found);
                TaskResult::Yes
            }
            Err(why) => {
                let advice = "say `capture_method = \"auto\"`, and the best that is possible is done";
                self.trouble(ProblemKind::CaptureMethod, None, why, Some(advice.to_owned()));
                TaskResult::No
            }
        }
    }

    pub(super) fn warm(&mut self, number: usize, done: &mut StepNotes) -> TaskResult {
        match self.with_part(number, done, capture::warm) {
            Some(Ok(copy)) => {
                let (files, bytes) = copy.amount();
                done.note = Some(format!("{}, {} read", count(files, "file"), size(bytes)));
                self.warm[number] = Some(copy);
                TaskResult::Yes
            }
            Some(Err(PartError::Stopped)) => TaskResult::Yes,
            Some(Err(error)) => {
                let name = self.plan.parts[number].name.clone();
                self.warn(
                    ProblemKind::Precopy,
                    Some(&name),
                    format!("it could not be copied before the hold: {error}"),
                );
                TaskResult::Warned
            }
            None => TaskResult::No,
        }
    }

    pub(super) fn snapshot(&mut self, done: &mut StepNotes) -> TaskResult {
        let by_hook = self.plan.spec.snapshot.as_ref();
        let made = match by_hook {
            Some(hooks) => {
                let call = Call {
                    moment: "snapshot",
                    limit: Limits::HOOK,
                    patience: self.patience(),
                    notes: true,
                    ..Call::default()
                };
                let outcome = self.runner.run(&hooks.make, call);
                self.took(outcome, "snapshot", done).and_then(|()| {
                    let shows = hooks.shows.iter().map(|(from, to)| (from.clone(), to.clone()));
                    self.staging.show(shows).map_err(Reason::from)
                })
            }
            None => self.staging.snapshot().map(drop).map_err(Reason::from),
        };
        match made {
            Ok(()) => TaskResult::Yes,
            Err(why) if self.plan.secure() == CaptureMethod::Snapshot => {
                done.note = Some(why.to_string());
                self.trouble(ProblemKind::Snapshot, Some("snapshot"), why, None);
                TaskResult::No
            }
            Err(why) => {
                done.note = Some(why.to_string());
                self.warn(
                    ProblemKind::Snapshot,
                    Some("snapshot"),
                    format!("none could be made, so the parts are copied: {why}"),
                );
                TaskResult::Warned
            }
        }
    }

    pub(super) fn clear(&mut self, done: &mut StepNotes) -> TaskResult {
        match self.staging.clear(self.runner) {
            Ok(()) => TaskResult::Yes,
            Err(why) => {
                done.note = Some(why.to_string());
                self.warn(ProblemKind::Leftover, Some("staging"), why.to_string());
                TaskResult::Warned
            }
        }
    }

    pub(super) fn capture(&mut self, number: usize, done: &mut StepNotes) -> TaskResult {
        let started = self.world.clock.now();
        match self.with_part(number, done, capture::secure) {
            Some(Ok(secured)) => {
                done.note = secured.capture.secured.map(|by| format!("by a {}", by.words()));
                self.secured[number] = Some(secured);
                TaskResult::Yes
            }
            Some(Err(error)) => self.part_failed(number, &error, started, done),
            None => TaskResult::No,
        }
    }

    fn part_failed(
        &mut self,
        number: usize,
        error: &PartError,
        started: Timestamp,
        done: &mut StepNotes,
    ) -> TaskResult {
        let planned = &self.plan.parts[number];
        let text = error.to_string();
        self.secured[number] = None;
        let capture = capture::failed_capture(planned, text.clone(), started);
        self.emit(EventKind::Captured { capture: Box::new(capture) });
        // Why it was stopped is told by itself.
        if !matches!(error, PartError::Stopped) {
            self.trouble(ProblemKind::Capture, Some(&planned.name), text.clone(), None);
        }
        done.note = Some(text);
        TaskResult::No
    }

    pub(super) fn quiet(&mut self, number: usize, done: &mut StepNotes) -> TaskResult {
        let planned = &self.plan.parts[number];
        let Some(secured) = &self.secured[number] else { return TaskResult::Yes };
        match secured.source_change() {
            Ok(SourceChange::None) => {
                done.note = Some("nothing was written to it while held".to_owned());
                TaskResult::Yes
            }
            Ok(SourceChange::Instant) => {
                done.note = Some("it was captured in an instant".to_owned());
                TaskResult::Yes
            }
            Ok(SourceChange::Engine) => {
                done.note = Some("its engine keeps it consistent".to_owned());
                TaskResult::Yes
            }
            Ok(SourceChange::Unknown) => {
                done.note = Some("cannot be told from outside".to_owned());
                TaskResult::Yes
            }
            Ok(SourceChange::FilesChanged(named, count)) => {
                let (files, named) = (gullet_model::words::count(count, "file"), named.join(", "));
                let text = format!("{files} changed while the application said that it was held: {named}");
                done.note = Some(text.clone());
                self.warn(ProblemKind::Written, Some(&planned.name), text);
                TaskResult::Warned
            }
            Ok(SourceChange::Written) => {
                let text = "the database was written to while the application said that it was held";
                done.note = Some(text.to_owned());
                self.trouble(
                    ProblemKind::Written,
                    Some(&planned.name),
                    text.to_owned(),
                    Some("the application was not held: nothing that was captured can be relied on".to_owned()),
                );
                self.sequence.lose_hold();
                TaskResult::No
            }
            Err(error) => self.part_failed(number, &error, self.world.clock.now(), done),
        }
    }

    pub(super) fn store_part(&mut self, number: usize, done: &mut StepNotes) -> TaskResult {
        let name = self.plan.parts[number].name.clone();
        let Some(mut secured) = self.secured[number].take() else { return TaskResult::No };
        match self.with_part(number, done, |planned, context| secured.store(planned, context)) {
            Some(Ok(())) => {
                let warned = !secured.capture.warnings.is_empty();
                let warnings = secured.capture.warnings.clone();
                self.emit(EventKind::Captured { capture: Box::new(secured.capture.clone()) });
                for text in warnings {
                    self.warn(ProblemKind::Part, Some(&name), text);
                }
                let unreadable = secured.capture.unreadable;
                if unreadable > 0 && self.plan.parts[number].spec.unreadable.is_none() {
                    self.sequence.lack_part();
                    let text = format!("{} could not be read, so the part is incomplete", count(unreadable, "path"));
                    let advice = "say `unreadable = \"ok\"` in the part if that may be";
                    self.trouble(ProblemKind::Unreadable, Some(&name), text, Some(advice.to_owned()));
                }
                self.secured[number] = Some(secured);
                if warned { TaskResult::Warned } else { TaskResult::Yes }
            }
            Some(Err(error)) => self.part_failed(number, &error, secured.capture.started, done),
            None => TaskResult::No,
        }
    }
}
