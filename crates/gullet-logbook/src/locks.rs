//! Locks of what runs stand on, at a place that locks what is written there.
//!
//! A run stands on payload that earlier runs wrote, whose locks end earlier. So whenever a run has come to such a place, all that it
//! stands on is locked anew, for as long as the definition says and a quarter more: then that need not be done for each run. Whether
//! the server really locks is asked of the run's own record each time.

use std::collections::BTreeSet;
use std::time::Duration;

use gullet_host::state::{State, StateError};
use gullet_model::Reason;
use gullet_model::words::chain;
use gullet_store::{Holdings, Location, STORE_FILE, StoreError, Versioned, with_margin};
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

use crate::parallel;

/// Objects that are locked at the same time.
const AT_ONCE: usize = 8;

/// A run at a place that locks: its record's name, and what it holds.
pub type LockedRun<'a> = (&'a str, Holdings);

/// What was locked.
#[derive(Clone, Debug, Default, Serialize)]
pub struct LockReport {
    /// Objects that were locked anew.
    pub objects: u64,
    /// Until when everything that the runs stand on is locked at least.
    pub until: Option<Timestamp>,
    /// What could not be locked, with the reason.
    pub problems: Vec<(String, String)>,
}

fn after(now: Timestamp, time: Duration) -> Timestamp {
    now.saturating_add(SignedDuration::try_from(time).unwrap_or(SignedDuration::MAX)).unwrap_or(Timestamp::MAX)
}

/// Locks everything that runs stand on which have just come to a place, where it is one that locks. `store` is the store's id.
///
/// # Errors
/// When it cannot be noted in the state folder.
pub fn keep_locked(
    place: &dyn Location,
    store: &str,
    runs: &[LockedRun<'_>],
    state: &State,
    now: Timestamp,
) -> Result<Option<LockReport>, StateError> {
    let Some(locked_for) = place.versioned().and_then(Versioned::locked_for).filter(|_| !runs.is_empty()) else {
        return Ok(None);
    };
    let (wanted, until) = (after(now, locked_for), after(now, with_margin(locked_for)));
    let mut known = state.locked_objects(store, &place.address());
    let mut report = LockReport::default();
    // What the runs wrote was locked as it was written, if their records were. A server that does not lock may take the request for
    // a longer lock for another object under that name: it is not made there.
    let unlocked =
        |(record, _): &LockedRun<'_>| Some(((*record).to_owned(), checked(place, record, wanted).err()?.into()));
    report.problems.extend(runs.iter().filter_map(unlocked));
    if !report.problems.is_empty() {
        return Ok(Some(report));
    }
    let wrote: BTreeSet<&str> =
        runs.iter().flat_map(|(_, holdings)| &holdings.wrote).map(|file| file.name.as_str()).collect();
    let mut needed: BTreeSet<String> = [STORE_FILE.to_owned(), format!("machines/{}.json", state.machine())].into();
    needed.extend(runs.iter().flat_map(|(_, holdings)| &holdings.needs).map(|need| need.name.clone()));
    let is_left = |name: &String| !wrote.contains(name.as_str()) && !known.is_locked_until(name, wanted);
    let left: Vec<Vec<String>> = needed.into_iter().filter(is_left).map(|name| vec![name]).collect();
    let lock = |name: &String| locked(place, name, until, wanted);
    parallel::each(AT_ONCE, left, lock, |name, outcome| {
        match outcome {
            Ok(()) => {
                known.note(&name, until);
                report.objects += 1;
            }
            Err(error) => report.problems.push((name, chain(&error))),
        }
        Ok::<(), StateError>(())
    })?;
    if report.problems.is_empty() {
        report.until = Some(wanted);
        // Of a run that is noted everything is locked.
        runs.iter().for_each(|(record, _)| known.note(record, wanted));
    }
    known.write(now)?;
    Ok(Some(report))
}

/// Locks an object. A server refuses to shorten a lock, so one that is long enough already will do.
fn locked(place: &dyn Location, name: &str, until: Timestamp, wanted: Timestamp) -> Result<(), StoreError> {
    let Some(versioned) = place.versioned() else { return Ok(()) };
    let Err(error) = versioned.lock(name, until) else { return Ok(()) };
    match versioned.locked_until(name) {
        Ok(Some(there)) if there >= wanted => Ok(()),
        _ => Err(error),
    }
}

/// Whether an object is locked for long enough; else why not.
fn checked(place: &dyn Location, name: &str, wanted: Timestamp) -> Result<(), Reason> {
    match place.versioned().map(|versioned| versioned.locked_until(name)) {
        Some(Ok(Some(until))) if until >= wanted => Ok(()),
        Some(Ok(Some(until))) => Err(Reason::new(format!("it is locked until {until} only"))),
        Some(Ok(None)) | None => Err(Reason::new("the server did not lock it: can the bucket lock (object lock)?")),
        Some(Err(error)) => Err(error.into()),
    }
}
