//! How all applications of all machines stand, by a store alone: on any machine that can read it.

use std::convert::Infallible;

use gullet_logbook::logbook::{Logbook, MachineRuns};
use gullet_logbook::parallel;
use gullet_model::definition::calendar::Rule;
use gullet_run::hold::NoteStatus;
use gullet_store::{Store, StoreError};
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

use super::{AppStatus, CalendarState, Circumstances, payload_gone, status};

/// So many of the newest runs of each are read: enough to know how often they come.
const READ: usize = 8;
/// So many applications of a far store are looked at at the same time.
const AT_ONCE: usize = 8;

/// How an application of a machine stands.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct MachineStatus {
    /// The machine's id in the store.
    pub machine: String,
    /// The name of its host, by its newest record.
    pub host: String,
    /// How the application stands.
    #[serde(flatten)]
    pub status: AppStatus,
}

/// How everything stands that a store has, the worst first and among those who was silent for longest. What was expected is taken from
/// the newest record: its schedules, `expected_every`, or how often runs came so far.
///
/// # Errors
/// When the store cannot be listed. An application whose records cannot be read is in the answer.
pub fn of_store(store: &Store, machine: Option<&str>, now: Timestamp) -> Result<Vec<MachineStatus>, StoreError> {
    let runs = MachineRuns::list(store)?;
    let look = |(app, of): &(&str, &str)| of_pair(store, &runs.newest(store, app, of, READ), (app, of), now);
    let threads = if store.location().is_far() { AT_ONCE } else { 1 };
    let mut found = Vec::new();
    let Ok(()) = parallel::each(threads, runs.pairs().map(|pair| vec![pair]).collect(), look, |_, one| {
        found.push(one);
        Ok::<(), Infallible>(())
    });
    found.retain(|one| machine.is_none_or(|wanted| one.machine == wanted || one.host == wanted));
    let silent_since = |one: &MachineStatus| one.status.last_good.as_ref().map(|good| good.started);
    found.sort_by(|a, b| {
        let by_level = b.status.level.cmp(&a.status.level).then_with(|| silent_since(a).cmp(&silent_since(b)));
        by_level.then_with(|| (&a.status.app, &a.machine).cmp(&(&b.status.app, &b.machine)))
    });
    Ok(found)
}

fn of_pair(store: &Store, book: &Logbook, (app, machine): (&str, &str), now: Timestamp) -> MachineStatus {
    let last = book.last(app);
    let spec = last.and_then(|last| last.record.defined().ok()).unwrap_or_default();
    let rules = spec.schedule.iter().filter(|spec| spec.parts.is_empty()).filter_map(|spec| Rule::new(spec).ok());
    let due = rules.filter_map(|rule| rule.last_over(now)).max();
    let expected_every = spec.expected_every.and_then(|span| SignedDuration::try_from(span.0).ok());
    let gone = book.last_good(app).map(|good| payload_gone(store, good)).transpose();
    let payload_gone = gone.unwrap_or_else(|error| Some(vec![error.to_string()])).unwrap_or_default();
    let calendar = due.map(|due| CalendarState::Elsewhere { due });
    let about = Circumstances { now, expected_every, payload_gone, calendar, ..Circumstances::default() };
    // Whether it is held only its own machine knows.
    let status = status(app, book, &NoteStatus::Nothing, &about);
    let host = last.map(|last| last.record.host.name.clone()).unwrap_or_default();
    MachineStatus { machine: machine.to_owned(), host, status }
}
