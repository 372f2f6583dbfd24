//! What is due by the schedules, and what becomes of it: every due moment ends as one run, or as one record that it was missed.
//!
//! The ledger is a small file of the state folder. A moment is in it before anything is started or told for it, and leaves it when
//! a record of it is known to be there; who is killed in between leaves an entry that the next call follows up. What was about to be
//! started and left neither a process nor a record is missed, never started once more.

mod ledger;
#[cfg(test)]
mod tests;

use std::time::Duration;

use gullet_host::hook::Process;
use gullet_model::definition::calendar::Rule;
use gullet_model::definition::{Definition, ScheduleSpec};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

pub use ledger::{DueEntry, Ledger, MissedWhy, Stage};

/// What is done when it is due.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Job {
    /// A run of an application.
    #[default]
    Run,
    /// A run of the applications of a group, together.
    Group,
    /// A drill of an application.
    Drill,
    /// A verification of a store.
    Verify,
    /// A report that is to be sent.
    Report,
}

impl Job {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Run => "run",
            Self::Group => "group",
            Self::Drill => "drill",
            Self::Verify => "verify",
            Self::Report => "report",
        }
    }
}

/// A schedule of an application, or of something else.
#[derive(Clone, Debug)]
pub struct Scheduled {
    /// What is done.
    pub job: Job,
    /// The application; otherwise the group, store or report.
    pub app: String,
    /// What it means.
    pub rule: Rule,
}

/// What a rule means for a job. Rules were checked when the definition was read.
fn scheduled(job: Job, app: &str, spec: &ScheduleSpec) -> Option<Scheduled> {
    Rule::new(spec).ok().map(|rule| Scheduled { job, app: app.to_owned(), rule })
}

/// Everything that a definition has done by itself.
pub fn schedules(definition: &Definition) -> Vec<Scheduled> {
    let mut all = Vec::new();
    for (name, app) in &definition.app {
        all.extend(app.schedule.iter().filter_map(|spec| scheduled(Job::Run, name, spec)));
        let drill = app.drill.as_ref().and_then(|drill| drill.calendar.schedule("drill"));
        all.extend(drill.and_then(|spec| scheduled(Job::Drill, name, &spec)));
    }
    for (name, group) in &definition.group {
        all.extend(group.schedule.iter().filter_map(|spec| scheduled(Job::Group, name, spec)));
    }
    for (name, store) in &definition.store {
        let verify = store.verify.as_ref().and_then(|verify| verify.calendar.schedule("verify"));
        all.extend(verify.and_then(|spec| scheduled(Job::Verify, name, &spec)));
    }
    all.extend(definition.report.iter().filter_map(|report| scheduled(Job::Report, &report.name, &report.schedule())));
    all
}

/// The schedules by which an application is run: its own, and those of its groups.
pub fn runs_of(definition: &Definition, app: &str) -> Vec<Scheduled> {
    let own = definition.app.get(app).into_iter().flat_map(|spec| &spec.schedule);
    let own = own.filter_map(|spec| scheduled(Job::Run, app, spec));
    let groups = definition.group.iter().filter(|(_, group)| group.apps.iter().any(|one| one == app));
    let of_groups =
        groups.flat_map(|(name, group)| group.schedule.iter().filter_map(|spec| scheduled(Job::Group, name, spec)));
    own.chain(of_groups).collect()
}

/// Whether any application is run by a schedule.
pub fn has_runs(definition: &Definition) -> bool {
    definition.app.values().any(|app| !app.schedule.is_empty())
        || definition.group.values().any(|group| !group.schedule.is_empty())
}

impl Scheduled {
    /// The schedule's name.
    pub fn name(&self) -> &str {
        &self.rule.spec().name
    }

    fn is_of(&self, entry: &DueEntry) -> bool {
        self.job == entry.job && self.app == entry.app && self.name() == entry.schedule
    }
}

/// What a call of `due` asks of the machine.
pub trait DueWorld {
    /// What may go wrong.
    type Error;
    /// The time of the system's clock.
    fn now(&self) -> Timestamp;
    /// Whether it was asked to stop. What runs goes on; the next call follows it up.
    fn is_stopped(&self) -> bool;
    /// Keeps the ledger, durably.
    ///
    /// # Errors
    /// When it cannot be written: nothing is started then.
    fn keep(&mut self, ledger: &Ledger) -> Result<(), Self::Error>;
    /// Starts what is due; `None` where it is done when this returns.
    ///
    /// # Errors
    /// When it cannot be started.
    fn start(&mut self, entry: &DueEntry, scheduled: &Scheduled) -> Result<Option<Process>, Self::Error>;
    /// The process of an entry that an earlier call was about to start; `None` where there is none.
    fn find(&mut self, entry: &DueEntry) -> Option<Process>;
    /// Whether a process is over.
    fn is_over(&mut self, process: Process) -> bool;
    /// Whether there is a record of it, or it is known otherwise that it came to its end.
    ///
    /// # Errors
    /// When that cannot be known, such as while the store is away.
    fn has_record(&mut self, entry: &DueEntry) -> Result<bool, Self::Error>;
    /// Writes the record that it was missed, or tells it otherwise.
    ///
    /// # Errors
    /// When it cannot be written.
    fn miss(&mut self, entry: &DueEntry, why: &MissedWhy) -> Result<(), Self::Error>;
    /// Waits a moment.
    fn wait(&mut self, time: Duration);
}

/// How often running processes are looked at.
const TICK: Duration = Duration::from_millis(500);
/// How often it is looked at what came due meanwhile, and noted that this goes on.
const LOOKED_EVERY: SignedDuration = SignedDuration::from_secs(20);

/// Does what is due, and waits for what it started.
///
/// # Errors
/// When the ledger cannot be kept; what it has is followed up by the next call.
pub fn serve<W: DueWorld>(
    ledger: &mut Ledger,
    schedules: &[Scheduled],
    at_once: usize,
    world: &mut W,
) -> Result<(), W::Error> {
    ledger.follow_up(&mut |entry| world.find(entry));
    let mut looked: Option<Timestamp> = None;
    loop {
        let now = world.now();
        // A clock that was set is a reason to look, too.
        if looked.is_none_or(|at| now.duration_since(at).abs() >= LOOKED_EVERY) {
            looked = Some(now);
            ledger.look(now, schedules);
            ledger.give_up(now, schedules);
            world.keep(ledger)?;
        }
        close_what_is_over(ledger, world)?;
        while let Some((entry, scheduled)) = ledger.next(at_once, schedules).filter(|_| !world.is_stopped()) {
            if entry.may_be_told && world.has_record(&entry).unwrap_or(false) {
                ledger.close(&entry);
                continue;
            }
            ledger.set(&entry, Stage::Starting);
            world.keep(ledger)?;
            match world.start(&entry, scheduled) {
                Ok(Some(process)) => ledger.set(&entry, Stage::Running(process)),
                Ok(None) => ledger.close(&entry),
                Err(_) => ledger.set(&entry, Stage::Missed(MissedWhy::NotStarted)),
            }
            world.keep(ledger)?;
        }
        if world.is_stopped() || !ledger.has_work() {
            return Ok(());
        }
        world.wait(TICK);
    }
}

/// Closes what has left a record, and tells what was missed.
fn close_what_is_over<W: DueWorld>(ledger: &mut Ledger, world: &mut W) -> Result<(), W::Error> {
    let before = ledger.open.clone();
    for entry in ledger.take_over(&mut |process| world.is_over(process)) {
        match world.has_record(&entry) {
            Ok(true) => ledger.close(&entry),
            Ok(false) => ledger.set(&entry, Stage::Missed(MissedWhy::Died)),
            // It is asked again by the next call.
            Err(_) => {}
        }
    }
    for entry in ledger.missed() {
        let Stage::Missed(why) = entry.stage.clone() else { continue };
        // Where it is not known whether it was told already, that is asked again by the next call.
        let is_told = if entry.may_be_told { world.has_record(&entry) } else { Ok(false) };
        match is_told {
            Ok(true) => ledger.close(&entry),
            Ok(false) if world.miss(&entry, &why).is_ok() => ledger.close(&entry),
            _ => {}
        }
    }
    if ledger.open == before { Ok(()) } else { world.keep(ledger) }
}
