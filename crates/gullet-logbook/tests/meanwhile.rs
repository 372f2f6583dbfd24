//! Runs that are recorded while a store is listed: what is not in the list yet is not missing.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on should panic")]

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};

use gullet_host::state::State;
use gullet_logbook::logbook::{Logbook, Recent, RunList};
use gullet_model::ids::Random;
use gullet_model::record::Record;
use gullet_model::{Outcome, RunId};
use gullet_store::{Location, Memory, Store};
use jiff::Timestamp;

mod meddling;

use meddling::Meddling;

struct Sevens;

impl Random for Sevens {
    fn fill(&self, bytes: &mut [u8]) {
        bytes.fill(7);
    }
}

/// Writes a run's record and notes that, as a run of this machine does.
fn record_run(memory: &Memory, state: &State, run: &str) {
    let store = Store::open(Arc::new(memory.clone())).unwrap();
    let record = Record::bare(RunId::from(run), "desk", state.machine(), Timestamp::UNIX_EPOCH, Outcome::Complete);
    let bytes = serde_json::to_vec(&record).unwrap();
    let folder = format!("records/desk/{}", state.machine());
    let name = store.add_document(&folder, &record.stem(), &bytes).unwrap().to_string();
    state.note_document(&store.info().id, "desk", &name, false).unwrap();
    state.note_document(&store.info().id, "desk", &name, true).unwrap();
}

/// A place where another run is recorded as soon as the records were listed.
fn busy(folder: &Path) -> (Store, State, Memory) {
    let state = State::open(&folder.join("state"), &Sevens).unwrap();
    let memory = Memory::default();
    Store::create(Arc::new(memory.clone()), "s".to_owned(), "now".to_owned(), &Default::default()).unwrap();
    record_run(&memory, &state, "first");
    let (runs, kept, own) = (AtomicU32::new(0), memory.clone(), state.clone());
    let after = move |prefix: &str| {
        if prefix.starts_with("records") {
            record_run(&kept, &own, &format!("run{}", runs.fetch_add(1, Ordering::SeqCst)));
        }
    };
    let busy = Meddling { memory: memory.clone(), before: Box::new(|_| Ok(())), after: Box::new(after) };
    (Store::open(Arc::new(busy)).unwrap(), state, memory)
}

#[test]
fn a_run_that_is_recorded_while_the_store_is_listed_is_not_missing() {
    let folder = tempfile::tempdir().unwrap();
    let (store, state, memory) = busy(folder.path());
    for app in [None, Some("desk")] {
        assert_eq!(Logbook::read(&store, app, Some(&state)).unwrap().missing, []);
        assert_eq!(RunList::read(&store, app, Some(&state)).unwrap().missing, []);
    }
    assert_eq!(Logbook::read_newest(&store, "desk", &state, 10).unwrap().missing, []);
    assert_eq!(Recent::read(&store, "desk", state.machine(), &state).unwrap().missing, Vec::<String>::new());
    // One that is gone is missing, all the same.
    let record = memory.names("records/").unwrap().into_iter().find(|name| name.contains("-first-")).unwrap();
    memory.remove(&record).unwrap();
    let gone = vec![(record.clone(), "this machine wrote it".to_owned())];
    assert_eq!(Logbook::read(&store, None, Some(&state)).unwrap().missing, gone);
    assert_eq!(RunList::read(&store, None, Some(&state)).unwrap().missing, gone);
    assert_eq!(Logbook::read_newest(&store, "desk", &state, 10).unwrap().missing, gone);
    assert_eq!(Recent::read(&store, "desk", state.machine(), &state).unwrap().missing, [record]);
}
