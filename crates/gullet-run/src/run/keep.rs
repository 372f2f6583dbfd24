//! Keeping a run: durable, read back, recorded, remarked upon.

use std::fs;

use gullet_store::{DocumentName, MachineInfo, Recipients, Store};

use gullet_model::Reason;
use gullet_model::step::{StepName, StepReport};

use crate::hold::{guard, notes_folder};
use crate::sequence::TaskResult;
use gullet_host::state::State;
use gullet_host::world::World;
use gullet_logbook::logbook::Logged;
use gullet_logbook::sealed::Draft;
use gullet_logbook::verify::read_all;
use gullet_model::definition::HookMoment;
use gullet_model::event::EventKind;
use gullet_model::outcome::Outcome;
use gullet_model::problem::ProblemKind;
use gullet_model::record::{RECORD_VERSION, Record, Remark, RemarkKind};
use gullet_model::words::{chain, count, millis, size};

use super::driver::{Committed, Driver, StepNotes};

impl Driver<'_, '_> {
    pub(super) fn finish(&mut self, done: &mut StepNotes) -> TaskResult {
        let Some(deposit) = self.deposit.take() else { return TaskResult::No };
        match deposit.finish() {
            Ok(deposited) => {
                let tally = deposited.tally;
                let stored: u64 = deposited.holdings.wrote.iter().map(|file| file.length).sum();
                let chunks = count(tally.chunks, "chunk");
                done.note = Some(format!("{} of {chunks} new, {} stored", tally.new_chunks, size(stored)));
                self.deposited = Some(deposited);
                TaskResult::Yes
            }
            Err(error) => {
                let advice = error.is_full().then(|| "make room in the store; earlier runs are untouched".to_owned());
                self.trouble(ProblemKind::Store, Some("store"), chain(&error), advice);
                TaskResult::No
            }
        }
    }

    pub(super) fn read_back(&mut self, done: &mut StepNotes) -> TaskResult {
        let Some(store) = self.store.clone() else { return TaskResult::No };
        let (mut bytes, mut chunks, mut locked) = (0, 0, 0);
        let mut wrong = None;
        let wrote = self.holdings().wrote;
        let files = wrote.iter().map(|file| (file.name.clone(), Some(file))).collect();
        let complete = read_all(&store, files, self.world.stop, &mut |name, report| {
            bytes += report.bytes;
            chunks += report.chunks;
            locked += u64::from(report.locked);
            if !report.is_sound() {
                wrong.get_or_insert_with(|| format!("{name} read back differently: {:?}", report.damage));
            }
        });
        if let Some(text) = wrong {
            self.trouble(
                ProblemKind::ReadBack,
                Some("store"),
                text,
                Some("the disk under the store is not to be trusted".to_owned()),
            );
            return TaskResult::No;
        }
        if !complete {
            return TaskResult::No;
        }
        let sealed = count(locked, "encrypted file");
        done.note = Some(match (locked, chunks) {
            (0, _) => format!("{} and {} verified", size(bytes), count(chunks, "chunk")),
            _ => format!("{} of {sealed} verified as they were stored", size(bytes)),
        });
        TaskResult::Yes
    }

    /// What the run wrote and needs.
    fn holdings(&self) -> gullet_store::Holdings {
        self.deposited.as_ref().map(|deposited| deposited.holdings.clone()).unwrap_or_default()
    }

    /// The record as far as the run has come.
    pub(super) fn record(&self) -> Record {
        let void = self.sequence.is_void();
        let mut hold = self.builder.hold.clone();
        hold.no_hold = self.plan.spec.no_hold.clone();
        hold.self_consistent = self.plan.spec.self_consistent.clone();
        hold.limit_ms = (!self.plan.spec.hold.is_empty()).then(|| millis(self.plan.longest_hold()));
        let mut warnings = self.builder.warnings.clone();
        warnings.dedup();
        // As the definition has them, whatever failed or was captured first.
        let mut captures = self.builder.captures.clone();
        captures.sort_by_key(|capture| self.plan.parts.iter().position(|part| part.name == capture.part));
        if void {
            for capture in &mut captures {
                capture.listing = None;
                capture.problem.get_or_insert_with(|| "void: the run failed".to_owned());
            }
        }
        Record {
            record: RECORD_VERSION,
            run: self.run.clone(),
            app: self.plan.app.clone(),
            title: self.plan.spec.title.clone(),
            machine: self.state.machine().to_owned(),
            store: self.store.as_ref().map_or(String::new(), |store| store.info().id.clone()),
            store_json: self.store.as_ref().map(Store::info_hash),
            machine_json: None,
            previous: self.previous.clone(),
            started: self.started,
            ended: self.world.clock.now(),
            trigger: self.plan.request.trigger().to_owned(),
            reason: self.plan.request.reason.clone(),
            partial: self.plan.is_partial(),
            outcome: self.sequence.outcome(),
            causes: self.builder.causes.clone(),
            warnings,
            host: self.world.host.clone(),
            facts: self.plan.facts.clone(),
            definition: self.plan.definition_text(),
            hold,
            steps: self.builder.steps.clone(),
            captures,
            holdings: if void { Default::default() } else { self.holdings() },
            encrypted: None,
        }
    }

    pub(super) fn commit(&mut self, step: StepName) -> TaskResult {
        // A deposit that was not finished is given up here; its threads end and leave nothing under a final name that
        // a record would speak of.
        self.deposit = None;
        self.emit(EventKind::StepStarted { step });
        let unproven: Vec<String> = self
            .plan
            .spec
            .hold
            .iter()
            .filter(|step| step.entered.is_none())
            .map(|step| {
                format!("the hold step `{}` has no `entered` probe: nothing proves that it was held", step.name)
            })
            .collect();
        if !self.sequence.is_void() {
            for text in unproven {
                self.warn(ProblemKind::NotProven, Some("hold"), text);
            }
        }
        self.ask_the_note();
        let record = self.record();
        let written = self.write_record(&record);
        let (name, in_store) = match written {
            Ok(name) => (Some(name), true),
            // Why there is no store was the reason to refuse the run, and is told.
            Err(_) if self.store.is_none() && record.outcome == Outcome::Refused => {
                (self.keep_record_here(&record), false)
            }
            Err(error) => {
                self.trouble(
                    ProblemKind::Record,
                    Some("record"),
                    format!("the record could not be stored: {error}"),
                    None,
                );
                (self.keep_record_here(&record), false)
            }
        };
        if in_store && !self.sequence.is_void() {
            self.keep_marks();
        }
        let _ = serde_json::to_vec_pretty(&record).map(|bytes| fs::write(self.scratch.join("record.json"), bytes));
        // What could be kept nowhere is told as trouble.
        if let Some(name) = &name {
            self.emit(EventKind::Recorded { record: name.clone(), in_store });
        }
        let refused = record.outcome == Outcome::Refused;
        self.committed = Some(Committed { record, name: name.unwrap_or_default(), in_store });
        if in_store || refused { TaskResult::Yes } else { TaskResult::No }
    }

    /// A run that was stopped and goes on later must not commit what its guard has let go meanwhile.
    fn ask_the_note(&mut self) {
        let Some(token) = self.guard.as_ref().map(|guard| guard.token.clone()) else { return };
        let notes = notes_folder(&self.plan.state);
        if self.sequence.is_void() || self.hold_began.is_none() {
            return;
        }
        if !guard::was_left_as_asked(&notes, &self.plan.app, &token) {
            self.sequence.distrust();
            let text = "the guard left the hold by itself, so everything captured is void";
            self.trouble(ProblemKind::HoldLost, Some("hold"), text.to_owned(), None);
        }
    }

    fn write_record(&mut self, record: &Record) -> Result<String, Reason> {
        let store = self.store.clone().ok_or_else(|| Reason::new("the store cannot be used"))?;
        store.confirm()?;
        let machine = MachineInfo {
            machine: record.machine.clone(),
            host: record.host.name.clone(),
            since: record.started.to_string(),
        };
        let machine_json = match self.registered(&store, &record.machine) {
            Some(known) => known,
            None => store.register(&machine)?,
        };
        if gullet_logbook::sweep::is_retired(&store, &record.machine)? {
            return Err(Reason::new("this machine was retired as a machine of the store meanwhile"));
        }
        let previous = self.send_waiting(&store, record.previous.clone());
        let record = &Record { machine_json: Some(machine_json), previous, ..record.clone() };
        let name = store_record(record, &self.plan.seal, &store, self.state)?;
        Ok(name.to_string())
    }

    /// The hash of this machine's registration in a far store, which need not be asked for it: this machine's last good run, which
    /// was found there, names it. Nothing of this program removes or replaces a registration.
    fn registered(&self, store: &Store, machine: &str) -> Option<gullet_store::Hash> {
        let last = &self.last_good.filter(|_| store.location().is_far())?.record;
        last.machine_json.filter(|_| last.machine == machine && last.store == store.info().id)
    }

    /// Sends the records that waited for the store; one that it still cannot take goes on waiting. Each becomes a link of the
    /// chain now, behind `previous`; gives the name of the last one.
    fn send_waiting(&self, store: &Store, mut previous: Option<String>) -> Option<String> {
        for (_, path) in self.state.waiting(Some(&self.plan.app)) {
            let Ok(bytes) = fs::read(&path) else { continue };
            let Ok(mut record) = serde_json::from_slice::<Record>(&bytes) else { continue };
            // One that was written before this machine took a new id stays in the chain of no machine.
            record.machine = self.state.machine().to_owned();
            record.store = store.info().id.clone();
            record.store_json = Some(store.info_hash());
            record.previous.clone_from(&previous);
            if let Ok(name) = store_record(&record, &self.plan.seal, store, self.state) {
                previous = Some(name.to_string());
                let _ = fs::remove_file(&path);
            }
        }
        previous
    }

    /// A record that the store cannot take is kept in the local state, as failed. Gives where, if it could be.
    fn keep_record_here(&mut self, record: &Record) -> Option<String> {
        let mut record = record.clone();
        record.outcome = record.outcome.combine(match record.outcome {
            Outcome::Refused => Outcome::Refused,
            _ => Outcome::Failed,
        });
        record.causes = self.builder.causes.clone();
        let bytes = serde_json::to_vec_pretty(&record).unwrap_or_default();
        let name = format!("{}-{}.json", record.stem(), gullet_store::Hash::of(&bytes));
        match self.state.keep_waiting(&record.app, &name, &bytes) {
            Ok(path) => Some(path.display().to_string()),
            Err(error) => {
                self.trouble(
                    ProblemKind::Record,
                    Some("record"),
                    format!("nor kept in the state folder: {}", chain(&error)),
                    None,
                );
                None
            }
        }
    }

    fn keep_marks(&mut self) {
        let Some(deposited) = &self.deposited else { return };
        for secured in self.secured.iter_mut().flatten() {
            // Losing marks costs reading everything again, nothing else.
            let _ = secured.keep_marks(deposited);
        }
    }

    /// Keeps what came of hooks that ran after the record was written.
    pub(super) fn remark_hooks(&mut self, moment: HookMoment, reply: TaskResult, report: StepReport) {
        let (Some(store), Some(committed)) = (&self.store, &self.committed) else { return };
        if !committed.in_store {
            return;
        }
        let ok = reply != TaskResult::No;
        let what = if moment == HookMoment::Finished { RemarkKind::Finished } else { RemarkKind::Hooks };
        let outcome = if ok { Outcome::Complete } else { Outcome::Warnings };
        let text = format!("`{}` hooks {}", moment.word(), if ok { "succeeded" } else { "failed" });
        let remark = Remark::new(&self.run, &committed.name, self.world.clock.now(), what, outcome, text);
        // The `finished` hooks follow those of the outcome.
        let number = if moment == HookMoment::Finished { 2 } else { 1 };
        let remark = Remark { steps: vec![report], number, ..remark };
        let stored = Draft::of_remark(&remark, &committed.record, &self.plan.seal)
            .and_then(|draft| draft.store(store, Some(self.state)));
        if let Err(error) = stored {
            self.warn(
                ProblemKind::Record,
                Some("record"),
                format!("the hooks' result could not be stored: {}", chain(&error)),
            );
        }
    }
}

/// Remarks that a person declared the application of a run to be no longer held.
///
/// # Errors
/// When the store cannot take it.
pub fn remark_declared(
    store: &Store,
    logged: &Logged,
    text: &str,
    world: World<'_>,
    state: &State,
) -> Result<(), gullet_store::StoreError> {
    let remark = logged.remark(world.clock.now(), RemarkKind::Declared, Outcome::Complete, text.to_owned());
    logged.store_remark(&remark, store, Some(state))
}

/// Stores the record of a run that was made now.
pub(super) fn store_record(
    record: &Record,
    keys: &Recipients,
    store: &Store,
    state: &State,
) -> Result<DocumentName, Reason> {
    let draft = Draft::of_record(record, keys)?;
    Ok(draft.store(store, Some(state))?)
}
