//! Runs that are recorded while a store is listed: what is not in the list yet is not missing.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on should panic")]

use std::path::Path;
use std::sync::{Arc, Mutex};

use gullet_host::state::State;
use gullet_logbook::logbook::{Logbook, Recent, RunList};
use gullet_model::ids::Random;
use gullet_model::record::Record;
use gullet_model::{Outcome, RunId};
use gullet_store::{Location, Memory, NewObject, ObjectInfo, SeekRead, Store, StoreError};
use jiff::Timestamp;

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
struct Busy {
    memory: Memory,
    state: State,
    runs: Mutex<u32>,
}

impl Location for Busy {
    fn describe(&self) -> String {
        self.memory.describe()
    }

    fn list(&self, prefix: &str) -> Result<Vec<ObjectInfo>, StoreError> {
        let listed = self.memory.list(prefix);
        if prefix.starts_with("records") {
            let mut runs = self.runs.lock().unwrap();
            *runs += 1;
            record_run(&self.memory, &self.state, &format!("run{runs}"));
        }
        listed
    }

    fn length(&self, name: &str) -> Result<Option<u64>, StoreError> {
        self.memory.length(name)
    }

    fn open(&self, name: &str) -> Result<Box<dyn SeekRead>, StoreError> {
        self.memory.open(name)
    }

    fn create(&self, name: &str) -> Result<Box<dyn NewObject>, StoreError> {
        self.memory.create(name)
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        self.memory.remove(name)
    }

    fn free_space(&self) -> Result<Option<u64>, StoreError> {
        Ok(None)
    }
}

fn busy(folder: &Path) -> (Store, State, Memory) {
    let state = State::open(&folder.join("state"), &Sevens).unwrap();
    let memory = Memory::default();
    Store::create(Arc::new(memory.clone()), "s".to_owned(), "now".to_owned(), &Default::default()).unwrap();
    record_run(&memory, &state, "first");
    let busy = Busy { memory: memory.clone(), state: state.clone(), runs: Mutex::new(0) };
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
