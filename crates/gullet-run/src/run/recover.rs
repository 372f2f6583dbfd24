//! Records of runs that died: folded from the events that they logged, written by the next command.

use std::fs;
use std::path::Path;
use std::time::Duration;

use gullet_store::{DocumentName, Hash, Recipients, Store};

use crate::hold::{HoldNote, notes_folder};
use gullet_host::hook::{end_found, marked};
use gullet_host::state::{AppLock, State};
use gullet_host::world::World;
use gullet_model::event::RecordBuilder;
use gullet_model::event::{Event, EventKind, Listener};
use gullet_model::ids::RunId;
use gullet_model::notice::Notice;
use gullet_model::outcome::Outcome;
use gullet_model::problem::ProblemKind;
use gullet_model::record::{BY_HAND, Problem as RecordNote, Record};

use super::keep::store_record;

/// How long a command waits for a guard that is leaving the hold of a run that died.
const GUARD_MAY_TAKE: Duration = Duration::from_secs(3);

/// Writes the records of runs of `app` that ended without one. Call it with the application's lock, when a forgotten
/// hold has been left.
///
/// Returns the ids of those runs.
pub fn recover(
    app: &str,
    state: &State,
    store: Option<&Store>,
    keys: &Recipients,
    world: World<'_>,
    _lock: &AppLock,
) -> Vec<String> {
    let mut recovered = Vec::new();
    for path in state.open_logs(app) {
        // A guard that is leaving the hold of a run that died is given a moment to come to its end.
        if !HoldNote::await_owner_gone(&notes_folder(state.folder()), app, GUARD_MAY_TAKE, world.clock) {
            // A record that said "not released" now would be wrong in a moment; a later command writes it.
            continue;
        }
        end_orphans(&path, world);
        let record = match fold(&path, app, state, store, world) {
            Folded::Died(record) => record,
            Folded::Recorded(run) => {
                // It came to its end, and died before it could note that there is something to tell.
                if !state.has_notice(&run)
                    && let Some((record, name)) = read_back(&run, app, state, store)
                {
                    let _ = state.note_notice(&Notice::of_run(&record, name.as_deref()));
                }
                let _ = state.close_log(&path);
                continue;
            }
            Folded::Nothing => {
                let _ = state.close_log(&path);
                continue;
            }
        };
        let stored = store.is_some_and(|store| store_record(&record, keys, store, state).is_ok());
        let kept = stored || {
            let clear = serde_json::to_vec_pretty(&record).unwrap_or_default();
            let name = format!("{}-{}.json", record.stem(), Hash::of(&clear));
            state.keep_waiting(app, &name, &clear).is_ok()
        };
        if kept {
            let _ = state.note_notice(&Notice::of_run(&record, None));
            let _ = state.close_log(&path);
            if let Some(store) = store {
                let prefix = format!("payload/{}/{}/", record.machine, record.run);
                let _ = store.location().discard_unpublished(&prefix, true);
            }
            // Told by the record, so what it left is not told again.
            let _ = fs::remove_dir_all(state.folder().join("scratch").join(app).join(record.run.as_str()));
            recovered.push(record.run.to_string());
        }
    }
    recovered
}

/// Ends what a dead run was running: captures, exports, probes. What follows the release, or releases, is left alone.
fn end_orphans(log: &Path, world: World<'_>) {
    let Some(run) = log.file_stem().and_then(|stem| stem.to_str()).filter(|run| !run.is_empty()) else { return };
    let goes_on = |moment: &str| matches!(moment, "release" | "released" | "succeeded" | "failed" | "finished");
    let _ = end_found(|| marked(&format!("{run}."), |moment| !goes_on(moment)), world.clock);
}

/// What a log that was not closed says.
enum Folded {
    /// The run died; this is its record.
    Died(Box<Record>),
    /// The run of this id is recorded already.
    Recorded(String),
    /// The log has nothing that could become a record.
    Nothing,
}

/// The record of a run that is recorded already, and its name in the store; without what is encrypted in it.
fn read_back(run: &str, app: &str, state: &State, store: Option<&Store>) -> Option<(Record, Option<String>)> {
    let waiting = state
        .waiting(Some(app))
        .into_iter()
        .filter_map(|(_, path)| serde_json::from_slice::<Record>(&fs::read(path).ok()?).ok());
    if let Some(record) = waiting.into_iter().find(|record| record.run.as_str() == run) {
        return Some((record, None));
    }
    let store = store?;
    let names = store.documents(&format!("records/{app}")).ok()?;
    let name = names.into_iter().find(|name| name.stem().ends_with(&format!("-{run}")))?;
    let record = store.document(&name).ok()?.parse().ok()?;
    Some((record, Some(name.to_string())))
}

/// What a log says of its run.
fn fold(path: &Path, app: &str, state: &State, store: Option<&Store>, world: World<'_>) -> Folded {
    fold_events(path, app, state, store, world).unwrap_or(Folded::Nothing)
}

fn fold_events(path: &Path, app: &str, state: &State, store: Option<&Store>, world: World<'_>) -> Option<Folded> {
    let text = fs::read_to_string(path).ok()?;
    // A last line that was cut off in the middle of being written is passed over.
    let events: Vec<Event> = text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect();
    let (first, last) = (events.first()?, events.last()?);
    let EventKind::RunStarted { run, title, reason, trigger, .. } = &first.what else { return None };
    if events.iter().any(|event| matches!(event.what, EventKind::Recorded { .. })) || is_recorded(store, app, run) {
        return Some(Folded::Recorded(run.to_string()));
    }
    let mut builder = RecordBuilder::default();
    for event in &events {
        builder.hear(event);
    }
    let mut outcome = Outcome::Interrupted;
    let mut text = "the run died before its end, and its record was written by a later command".to_owned();
    if let Some(head) = HoldNote::peek(&notes_folder(state.folder()), app).filter(|head| head.run == run.as_str()) {
        builder.hold.released = head.state.is_over();
        if !head.state.is_over() {
            outcome = Outcome::NotReleased;
        }
        if let Some(why) = head.why {
            text = format!("{text}; the hold was left: {why}");
        }
    }
    builder.hold.proven = false;
    builder.causes.push(RecordNote { kind: ProblemKind::Died, about: None, text, advice: None });
    for capture in &mut builder.captures {
        capture.listing = None;
        capture.problem.get_or_insert_with(|| "void: the run died".to_owned());
    }
    Some(Folded::Died(Box::new(Record {
        title: title.clone(),
        store: store.map_or(String::new(), |store| store.info().id.clone()),
        store_json: store.map(Store::info_hash),
        previous: store.and_then(|store| newest(store, app, state)),
        ended: last.at,
        trigger: trigger.clone().unwrap_or_else(|| BY_HAND.to_owned()),
        reason: reason.clone(),
        causes: builder.causes,
        warnings: builder.warnings,
        host: world.host.clone(),
        hold: builder.hold,
        steps: builder.steps,
        captures: builder.captures,
        ..Record::bare(run.clone(), app, state.machine(), first.at, outcome)
    })))
}

fn is_recorded(store: Option<&Store>, app: &str, run: &RunId) -> bool {
    let names = store.and_then(|store| store.documents(&format!("records/{app}")).ok()).unwrap_or_default();
    names.iter().any(|name| name.stem().ends_with(&format!("-{run}")))
}

/// The record at the end of the chain.
fn newest(store: &Store, app: &str, state: &State) -> Option<String> {
    let names = store.documents(&format!("records/{app}/{}", state.machine())).ok()?;
    let there = names.iter().map(DocumentName::as_str).collect();
    let newest = state.written(&store.info().id, app).newest_record(&there);
    newest.or_else(|| names.last().map(ToString::to_string))
}
