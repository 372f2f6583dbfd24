//! Records and remarks as they lie in a store: as they are, or with their sensitive contents sealed.
//!
//! A sealed document has two parts. What anybody must know who keeps the store in order stays in clear: which run of which
//! application and writer, when, with what outcome, on which payload it stands. Everything else (the definition, steps and
//! what they printed, parts, facts, warnings, host) is in `sealed`: the whole document as JSON, as an age file in base64.
//! The machine that wrote it keeps it in clear in its own state folder, which is private.

use std::fs;

use data_encoding::BASE64;
use gullet_store::{DocumentName, Recipients, Store, StoreError};
use schemars::JsonSchema;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::record::{HoldReport, Record, Remark};
use crate::state::State;
use crate::world::Host;

/// The sealed part of a document.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Sealed {
    /// The public keys that it is sealed for; each of their identities opens it.
    pub keys: Vec<String>,
    /// The whole document as JSON, as an age file, in base64.
    pub age: String,
}

/// A document that can be sealed.
pub(crate) trait Sealable: Serialize + DeserializeOwned + Clone {
    /// Only what may be known by anybody.
    fn in_public(&self) -> Self;
    /// The place of the sealed part.
    fn sealed(&mut self) -> &mut Option<Sealed>;
    /// Whether the opened document is the one that the public part speaks of.
    fn is_of(&self, public: &Self) -> bool;
}

impl Sealable for Record {
    fn in_public(&self) -> Self {
        Self {
            title: None,
            reason: None,
            causes: Vec::new(),
            warnings: Vec::new(),
            host: Host::default(),
            definition: String::new(),
            hold: HoldReport { no_hold: None, ..self.hold.clone() },
            steps: Vec::new(),
            captures: Vec::new(),
            ..self.clone()
        }
    }

    fn sealed(&mut self) -> &mut Option<Sealed> {
        &mut self.sealed
    }

    fn is_of(&self, public: &Self) -> bool {
        self.in_public() == *public
    }
}

impl Sealable for Remark {
    fn in_public(&self) -> Self {
        Self { text: String::new(), steps: Vec::new(), ..self.clone() }
    }

    fn sealed(&mut self) -> &mut Option<Sealed> {
        &mut self.sealed
    }

    fn is_of(&self, public: &Self) -> bool {
        self.in_public() == *public
    }
}

/// The bytes of a document, sealed for `keys` if there are any.
///
/// # Errors
/// When it cannot be sealed.
pub(crate) fn write<T: Sealable>(document: &T, keys: &Recipients) -> Result<Vec<u8>, StoreError> {
    let json = |value: &T, pretty: bool| {
        let bytes = if pretty { serde_json::to_vec_pretty(value) } else { serde_json::to_vec(value) };
        bytes.map_err(|error| StoreError::Seal(error.to_string()))
    };
    if keys.is_empty() {
        return json(document, true);
    }
    let age = BASE64.encode(&keys.seal(&json(document, false)?)?);
    let mut public = document.in_public();
    *public.sealed() = Some(Sealed { keys: keys.texts(), age });
    json(&public, true)
}

impl Record {
    /// Its bytes as they are stored, sealed for `keys` if there are any.
    ///
    /// # Errors
    /// When it cannot be sealed.
    pub fn document(&self, keys: &Recipients) -> Result<Vec<u8>, StoreError> {
        write(self, keys)
    }
}

impl Remark {
    /// Its bytes as they are stored, sealed for `keys` if there are any.
    ///
    /// # Errors
    /// When it cannot be sealed.
    pub fn document(&self, keys: &Recipients) -> Result<Vec<u8>, StoreError> {
        write(self, keys)
    }
}

/// Adds a document to a store, sealed for `keys` if there are any; this machine keeps what is sealed in clear.
///
/// # Errors
/// When it cannot be sealed, or the store cannot take it.
pub(crate) fn add<T: Sealable>(
    store: &Store,
    (folder, stem): (&str, &str),
    document: &T,
    bytes: &[u8],
    state: Option<&State>,
) -> Result<DocumentName, StoreError> {
    let name = store.add_document(folder, stem, bytes)?;
    if let (Some(state), Some(hash)) = (state, name.hash())
        && serde_json::from_slice::<T>(bytes).is_ok_and(|mut written| written.sealed().is_some())
        && let Ok(clear) = serde_json::to_vec(document)
    {
        // Without it this machine needs an identity to look at its own logbook, and nothing else.
        let _ = state.keep_clear(&store.info().id, &hash, &clear);
    }
    Ok(name)
}

/// A document as it was read.
pub(crate) struct Opened<T> {
    /// The document; only what is in clear of it when it is locked.
    pub(crate) document: T,
    /// The keys that it is sealed for.
    pub(crate) keys: Vec<String>,
    /// Whether it is sealed and could not be opened.
    pub(crate) is_locked: bool,
}

/// Reads a document: a sealed one from what this machine kept of it, or with the store's identities.
///
/// # Errors
/// When it is missing or damaged. That no identity opens it is no error.
pub(crate) fn read<T: Sealable>(
    store: &Store,
    name: &DocumentName,
    state: Option<&State>,
) -> Result<Opened<T>, StoreError> {
    let mut public: T = store.document(name)?.parse()?;
    let Some(Sealed { keys, age }) = public.sealed().take() else {
        return Ok(Opened { document: public, keys: Vec::new(), is_locked: false });
    };
    let kept = state.zip(name.hash()).and_then(|(state, hash)| state.clear(&store.info().id, &hash));
    if let Some(document) = kept.and_then(|bytes| serde_json::from_slice::<T>(&bytes).ok()) {
        return Ok(Opened { document, keys, is_locked: false });
    }
    let damaged = |what: &str| StoreError::Damaged { name: name.to_string(), what: what.to_owned() };
    let age = BASE64.decode(age.as_bytes()).map_err(|_| damaged("its sealed part is not base64"))?;
    match store.identities().open(name.as_str(), &age) {
        Err(StoreError::Locked { .. }) => Ok(Opened { document: public, keys, is_locked: true }),
        Err(error) => Err(error),
        Ok(bytes) => {
            let document: T = serde_json::from_slice(&bytes).map_err(|error| damaged(&error.to_string()))?;
            if !document.is_of(&public) {
                return Err(damaged("what is sealed in it is of another document"));
            }
            Ok(Opened { document, keys, is_locked: false })
        }
    }
}

/// Keeps in clear what was opened of a run with an identity: its record and remarks. Gives how many documents.
pub(crate) fn keep_opened(store: &Store, logged: &crate::logbook::Logged, state: &State) -> u64 {
    let mut kept = 0;
    let id = &store.info().id;
    let clear = serde_json::to_vec(&logged.record).ok();
    if let (Some(bytes), Some(hash)) = (clear, DocumentName::parse(&logged.name).and_then(|name| name.hash())) {
        kept += u64::from(state.keep_clear(id, &hash, &bytes).is_ok());
    }
    let record = &logged.record;
    let folder = format!("remarks/{}/{}/{}", record.app, record.writer, record.run);
    for name in store.documents(&folder).unwrap_or_default() {
        let opened = read::<Remark>(store, &name, None).ok().filter(|opened| !opened.is_locked);
        let bytes = opened.and_then(|opened| serde_json::to_vec(&opened.document).ok());
        if let (Some(bytes), Some(hash)) = (bytes, name.hash()) {
            kept += u64::from(state.keep_clear(id, &hash, &bytes).is_ok());
        }
    }
    kept
}

/// Keeps what is sealed in clear, for looking at the own logbook; see [`add`].
impl State {
    fn clear_path(&self, store: &str, hash: &gullet_store::Hash) -> std::path::PathBuf {
        self.folder().join("stores").join(store).join("clear").join(format!("{hash}.json"))
    }

    pub(crate) fn keep_clear(
        &self,
        store: &str,
        hash: &gullet_store::Hash,
        bytes: &[u8],
    ) -> Result<(), crate::state::StateError> {
        self.place(&["stores", store, "clear"])?;
        Ok(crate::state::write_whole(&self.clear_path(store, hash), bytes)?)
    }

    fn clear(&self, store: &str, hash: &gullet_store::Hash) -> Option<Vec<u8>> {
        fs::read(self.clear_path(store, hash)).ok()
    }
}
