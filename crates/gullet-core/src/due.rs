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
use jiff::Timestamp;

pub use ledger::{Entry, Ledger, MissedWhy, Stage};

/// A schedule of an application.
#[derive(Clone, Debug)]
pub struct Scheduled {
    /// The application.
    pub app: String,
    /// What it means.
    pub rule: Rule,
}

impl Scheduled {
    /// The schedule's name.
    pub fn name(&self) -> &str {
        &self.rule.spec().name
    }
}

/// How a call of `due` reaches the world.
pub trait Hands {
    /// What may go wrong.
    type Error;
    /// The time.
    fn now(&self) -> Timestamp;
    /// Whether it was asked to stop. What runs goes on; the next call follows it up.
    fn is_stopped(&self) -> bool;
    /// Keeps the ledger, durably.
    ///
    /// # Errors
    /// When it cannot be written: nothing is started then.
    fn keep(&mut self, ledger: &Ledger) -> Result<(), Self::Error>;
    /// Starts a run.
    ///
    /// # Errors
    /// When it cannot be started.
    fn start(&mut self, entry: &Entry, scheduled: &Scheduled) -> Result<Process, Self::Error>;
    /// The process of an entry that an earlier call was about to start; `None` where there is none.
    fn find(&mut self, entry: &Entry) -> Option<Process>;
    /// Whether a process is over.
    fn is_over(&mut self, process: Process) -> bool;
    /// Whether there is a record of it.
    ///
    /// # Errors
    /// When that cannot be known, such as while the store is away.
    fn has_record(&mut self, entry: &Entry) -> Result<bool, Self::Error>;
    /// Writes the record that it was missed.
    ///
    /// # Errors
    /// When it cannot be written.
    fn miss(&mut self, entry: &Entry, why: &MissedWhy) -> Result<(), Self::Error>;
    /// Waits a moment.
    fn wait(&mut self, time: Duration);
}

/// How often running processes are looked at.
const TICK: Duration = Duration::from_millis(500);

/// Does what is due, and waits for what it started. Gives how many runs were started, and how many were missed.
///
/// # Errors
/// When the ledger cannot be kept; what it has is followed up by the next call.
pub fn serve<H: Hands>(
    ledger: &mut Ledger,
    schedules: &[Scheduled],
    at_once: usize,
    hands: &mut H,
) -> Result<(u64, u64), H::Error> {
    let (mut started, mut missed) = (0, 0);
    ledger.follow_up(&mut |entry| hands.find(entry));
    loop {
        let now = hands.now();
        ledger.look(now, schedules);
        ledger.give_up(now, schedules);
        hands.keep(ledger)?;
        for entry in ledger.take_over(&mut |process| hands.is_over(process)) {
            match hands.has_record(&entry) {
                Ok(true) => ledger.close(&entry),
                Ok(false) => ledger.set(&entry, Stage::Missed(MissedWhy::Died)),
                // It is asked again by the next call.
                Err(_) => {}
            }
        }
        for entry in ledger.missed() {
            let Stage::Missed(why) = entry.stage.clone() else { continue };
            // One that an earlier call had may have been told by it.
            if entry.is_old && hands.has_record(&entry).unwrap_or(false) {
                ledger.close(&entry);
            } else if hands.miss(&entry, &why).is_ok() {
                missed += 1;
                ledger.close(&entry);
            }
        }
        hands.keep(ledger)?;
        while let Some(entry) = ledger.next(at_once).filter(|_| !hands.is_stopped()) {
            let scheduled = schedules.iter().find(|one| one.app == entry.app && one.name() == entry.schedule);
            let Some(scheduled) = scheduled else {
                ledger.set(&entry, Stage::Missed(MissedWhy::Gone));
                continue;
            };
            ledger.set(&entry, Stage::Starting);
            hands.keep(ledger)?;
            match hands.start(&entry, scheduled) {
                Ok(process) => {
                    started += 1;
                    ledger.set(&entry, Stage::Running(process));
                }
                Err(_) => ledger.set(&entry, Stage::Missed(MissedWhy::NotStarted)),
            }
            hands.keep(ledger)?;
        }
        if hands.is_stopped() || !ledger.has_work() {
            return Ok((started, missed));
        }
        hands.wait(TICK);
    }
}
