//! Filling a lost state folder anew from a store.

use gullet_store::{Cache, DocumentName, Store, StoreError};
use serde::Serialize;

use super::{SweepError, keys_of, recipients};
use crate::logbook::{Logbook, Logged};
use gullet_host::state::{State, StateError};
use gullet_host::world::World;
use gullet_model::record::Remark;

/// What came back of a state folder that was lost.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Rebuilt {
    /// The machine that this machine goes on as.
    pub machine: String,
    /// Runs of it.
    pub runs: u64,
    /// Chunks that are known again.
    pub chunks: u64,
    /// Payload files that could not be opened: what lies in them is stored anew when it is captured again.
    pub locked: u64,
    /// Payload files that are damaged.
    pub damaged: Vec<String>,
    /// Records and remarks that this machine can look at again.
    pub documents: u64,
}

/// Fills the local state anew from the store: the machine, the last records, which chunks are where. What only ever was in the
/// state does not come back: marks (the next run reads every file), and logs.
///
/// # Errors
/// When the store cannot be read or the state not written.
pub fn rebuild(
    store: &Store,
    state: &mut State,
    machine: &str,
    world: World<'_>,
    progress: &mut dyn FnMut(u64, u64),
) -> Result<Rebuilt, SweepError> {
    let mut rebuilt = Rebuilt { machine: machine.to_owned(), ..Rebuilt::default() };
    let id = store.info().id.clone();
    state.adopt_machine(machine, &id)?;
    let book = Logbook::read(store, None, None)?;
    for logged in book.runs.iter().filter(|logged| logged.record.machine == machine) {
        rebuilt.runs += 1;
        let app = &logged.record.app;
        state.note_document(&id, app, &logged.name, true).map_err(StateError::Io)?;
        for name in store.documents(&format!("remarks/{app}/{machine}/{}", logged.record.run))? {
            state.note_document(&id, app, name.as_str(), true).map_err(StateError::Io)?;
        }
        if !logged.is_locked && !logged.keys.is_empty() {
            rebuilt.documents += keep_opened(store, logged, state);
        }
    }
    let mut cache = Cache::open(&state.cache_path(&id)?)?;
    let objects = store.location().list(&format!("payload/{machine}/"))?;
    let all = objects.len() as u64;
    for (number, object) in objects.into_iter().enumerate() {
        if world.stop.asked().is_some() {
            break;
        }
        progress(number as u64, all);
        let seal = recipients(&keys_of(&book, &object.name))?;
        match cache.learn_of(store, &object.name, object.length, &seal) {
            Ok(chunks) => rebuilt.chunks += chunks,
            Err(StoreError::Locked { .. }) => rebuilt.locked += 1,
            Err(StoreError::Damaged { name, what }) => rebuilt.damaged.push(format!("{name}: {what}")),
            Err(error) => return Err(error.into()),
        }
    }
    Ok(rebuilt)
}

/// Keeps in clear what was opened of a run with an identity: its record and remarks. Gives how many documents.
pub(super) fn keep_opened(store: &Store, logged: &Logged, state: &State) -> u64 {
    let mut kept = 0;
    let id = &store.info().id;
    let clear = serde_json::to_vec(&logged.record).ok();
    if let (Some(bytes), Some(hash)) = (clear, DocumentName::parse(&logged.name).and_then(|name| name.hash())) {
        kept += u64::from(state.keep_clear(id, &hash, &bytes).is_ok());
    }
    let record = &logged.record;
    let folder = format!("remarks/{}/{}/{}", record.app, record.machine, record.run);
    for name in store.documents(&folder).unwrap_or_default() {
        let opened = crate::sealed::read::<Remark>(store, &name, None).ok().filter(|opened| !opened.is_locked);
        let bytes = opened.and_then(|opened| serde_json::to_vec(&opened.document).ok());
        if let (Some(bytes), Some(hash)) = (bytes, name.hash()) {
            kept += u64::from(state.keep_clear(id, &hash, &bytes).is_ok());
        }
    }
    kept
}
