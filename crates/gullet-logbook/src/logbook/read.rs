//! Reading records and remarks: each is believed only under the name that is its own.

use std::convert::Infallible;

use gullet_store::{Document, DocumentName, Store, StoreError};

use super::Logged;
use crate::parallel;
use crate::sealed::{self, OpenedDocument};
use gullet_host::state::State;
use gullet_model::record::{RECORD_VERSION, Record, Remark};

/// Documents of a far place that are read at the same time.
const AT_ONCE: usize = 8;

/// Reads documents, of a far place several at once; what `read` gives of each, in the order of the names.
pub(super) fn each_document<T: Sync, R: Send>(store: &Store, names: &[T], read: impl Fn(&T) -> R + Sync) -> Vec<R> {
    if !store.location().is_far() || names.len() < 2 {
        return names.iter().map(read).collect();
    }
    let mut found: Vec<Option<R>> = names.iter().map(|_| None).collect();
    let groups = names.iter().enumerate().map(|name| vec![name]).collect();
    let Ok(()) = parallel::each(
        AT_ONCE,
        groups,
        |(_, name)| read(name),
        |(at, _), result| {
            found[at] = Some(result);
            Ok::<(), Infallible>(())
        },
    );
    found.into_iter().flatten().collect()
}

/// Reads a run with the remarks about it, of which only the names are known.
pub(super) fn read_with_remarks(
    store: &Store,
    name: &DocumentName,
    remark_names: &[DocumentName],
    state: Option<&State>,
    unreadable: &mut Vec<(String, String)>,
) -> Option<Logged> {
    let logged = read_run(store, name, state, None, unreadable)?;
    Some(add_remarks(logged, store, remark_names, state, unreadable))
}

/// Reads the remarks about a run, of which only the names are known.
pub(super) fn add_remarks(
    logged: Logged,
    store: &Store,
    remark_names: &[DocumentName],
    state: Option<&State>,
    unreadable: &mut Vec<(String, String)>,
) -> Logged {
    let Record { app, machine, run, .. } = &logged.record;
    let folder = format!("remarks/{app}/{machine}/{run}");
    let names = remark_names.iter().filter(|name| name.folder() == folder);
    let remarks = names.filter_map(|name| read_remark(store, name, state, unreadable)).collect();
    logged.with_remarks(remarks)
}

/// Reads a remark; what cannot be read is noted.
pub(super) fn read_remark(
    store: &Store,
    name: &DocumentName,
    state: Option<&State>,
    unreadable: &mut Vec<(String, String)>,
) -> Option<Remark> {
    let read = sealed::read::<Remark>(store, name, state).and_then(|opened| {
        let remark = &opened.document;
        // `remarks/APP/MACHINE/RUN/…` is about `records/APP/MACHINE/…-RUN-HASH.json`.
        let about = DocumentName::parse(&remark.record);
        let folder =
            about.as_ref().and_then(|about| Some(format!("remarks/{}", about.folder().strip_prefix("records/")?)));
        let is_there = folder.is_some_and(|folder| name.folder() == format!("{folder}/{}", remark.run));
        if is_there && name.stem() == remark.stem() { Ok(opened) } else { Err(misplaced(name)) }
    });
    read.map_err(|error| unreadable.push((name.to_string(), error.to_string()))).ok().map(|opened| opened.document)
}

/// A document lies under a name that is not its own: somebody copied it there.
fn misplaced(name: &DocumentName) -> StoreError {
    let what = "it is a copy: its contents belong under another name".to_owned();
    StoreError::Damaged { name: name.to_string(), what }
}

/// Reads a run without the remarks about it; what cannot be read is noted. Where `kept` are the bytes of its record, which they are if
/// they have the hash in its name, the store is not asked for them.
pub(super) fn read_run(
    store: &Store,
    name: &DocumentName,
    state: Option<&State>,
    kept: Option<Vec<u8>>,
    unreadable: &mut Vec<(String, String)>,
) -> Option<Logged> {
    let kept = kept.and_then(|bytes| Document::proven(name, bytes));
    let read = kept.map_or_else(|| store.document(name), Ok).and_then(|document| {
        let opened = open_record(store, &document, state)?;
        let record = &opened.document;
        let own = name.folder() == format!("records/{}/{}", record.app, record.machine) && name.stem() == record.stem();
        if own { Ok(opened) } else { Err(misplaced(name)) }
    });
    let opened = read.map_err(|error| unreadable.push((name.to_string(), error.to_string()))).ok()?;
    let OpenedDocument { document: record, keys, is_locked } = opened;
    Some(Logged { name: name.to_string(), in_store: true, record, remarks: Vec::new(), keys, is_locked })
}

/// Opens a record and refuses one of a newer form.
fn open_record(
    store: &Store,
    document: &Document,
    state: Option<&State>,
) -> Result<OpenedDocument<Record>, StoreError> {
    let version: serde_json::Value = document.parse()?;
    let version = version.get("record").and_then(serde_json::Value::as_u64).unwrap_or(0);
    if version > u64::from(RECORD_VERSION) {
        let what = format!("it is a record of version {version}; this program knows versions up to {RECORD_VERSION}");
        return Err(StoreError::Damaged { name: document.name.to_string(), what });
    }
    sealed::open(store, document, state)
}
