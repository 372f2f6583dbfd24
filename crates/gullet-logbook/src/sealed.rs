//! Records and remarks as they lie in a store: as they are, or with their sensitive contents sealed.
//!
//! A encrypted document has two parts. What anybody must know who keeps the store in order stays in clear: which run of which
//! application and machine, when, with what outcome, on which payload it stands. Everything else (the definition, steps and
//! what they printed, parts, facts, warnings, host) is in `sealed`: the whole document as JSON, as an age file in base64.
//! The machine that wrote it keeps it in clear in its own state folder, which is private.

use data_encoding::BASE64;
use gullet_store::{Document, DocumentName, Recipients, Store, StoreError};
use serde::Serialize;
use serde::de::DeserializeOwned;

use gullet_host::state::State;
use gullet_model::record::{EncryptedPart, HoldReport, Host, Record, Remark};
use gullet_model::step::Facts;

/// A document that can be encrypted.
pub trait Sealable: Serialize + DeserializeOwned + Clone {
    /// Only what may be known by anybody.
    fn in_public(&self) -> Self;
    /// The place of the encrypted part.
    fn sealed(&mut self) -> &mut Option<EncryptedPart>;
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
            facts: Facts::new(),
            definition: String::new(),
            hold: HoldReport { no_hold: None, self_consistent: None, ..self.hold.clone() },
            steps: Vec::new(),
            captures: Vec::new(),
            ..self.clone()
        }
    }

    fn sealed(&mut self) -> &mut Option<EncryptedPart> {
        &mut self.encrypted
    }

    fn is_of(&self, public: &Self) -> bool {
        self.in_public() == *public
    }
}

impl Sealable for Remark {
    fn in_public(&self) -> Self {
        Self { text: String::new(), steps: Vec::new(), ..self.clone() }
    }

    fn sealed(&mut self) -> &mut Option<EncryptedPart> {
        &mut self.encrypted
    }

    fn is_of(&self, public: &Self) -> bool {
        self.in_public() == *public
    }
}

/// The bytes of a document as they are stored, encrypted to `keys` if there are any.
///
/// # Errors
/// When it cannot be encrypted.
pub fn document<T: Sealable>(document: &T, keys: &Recipients) -> Result<Vec<u8>, StoreError> {
    let failed = |error: serde_json::Error| StoreError::Seal(error.to_string());
    if keys.is_empty() {
        return serde_json::to_vec_pretty(document).map_err(failed);
    }
    let age = BASE64.encode(&keys.seal(&serde_json::to_vec(document).map_err(failed)?)?);
    let mut public = document.in_public();
    *public.sealed() = Some(EncryptedPart { keys: keys.texts(), age });
    serde_json::to_vec_pretty(&public).map_err(failed)
}

/// A document on its way into a store.
pub struct Draft {
    folder: String,
    stem: String,
    bytes: Vec<u8>,
    /// What this machine keeps of it, where it is encrypted.
    clear: Option<Vec<u8>>,
}

impl Draft {
    /// A record, encrypted to `keys` if there are any.
    ///
    /// # Errors
    /// When it cannot be encrypted.
    pub fn of_record(record: &Record, keys: &Recipients) -> Result<Self, StoreError> {
        Self::new(format!("records/{}/{}", record.app, record.machine), record.stem(), record, keys)
    }

    /// A remark about the run of a record.
    ///
    /// # Errors
    /// When it cannot be encrypted.
    pub fn of_remark(remark: &Remark, about: &Record, keys: &Recipients) -> Result<Self, StoreError> {
        let folder = format!("remarks/{}/{}/{}", about.app, about.machine, about.run);
        Self::new(folder, remark.stem(), remark, keys)
    }

    fn new<T: Sealable>(folder: String, stem: String, document: &T, keys: &Recipients) -> Result<Self, StoreError> {
        let clear = if keys.is_empty() { None } else { serde_json::to_vec(document).ok() };
        Ok(Self { folder, stem, bytes: self::document(document, keys)?, clear })
    }

    /// The name that it will have.
    pub fn name(&self) -> DocumentName {
        DocumentName::of(&self.folder, &self.stem, &self.bytes)
    }

    /// Adds it to a store; this machine keeps what is encrypted in clear, and notes what it wrote: before, so that a record under
    /// its id that is noted nowhere means another machine; and after, so that one that is gone is missed.
    ///
    /// # Errors
    /// When the store cannot take it, or it cannot be noted.
    pub fn store(&self, store: &Store, state: Option<&State>) -> Result<DocumentName, StoreError> {
        let app = self.folder.split('/').nth(1).unwrap_or_default();
        if let Some(state) = state {
            state.note_document(&store.info().id, app, self.name().as_str(), false)?;
        }
        let name = store.add_document(&self.folder, &self.stem, &self.bytes)?;
        if let Some(state) = state {
            // Where that cannot be noted, it is still noted as about to be written.
            let _ = state.note_document(&store.info().id, app, name.as_str(), true);
        }
        if let Some(state) = state.filter(|_| store.location().is_far() && self.folder.starts_with("records/")) {
            // Where it cannot be kept it is read from the store.
            let _ = state.keep_newest_record(&store.info().id, app, &self.bytes);
        }
        if let (Some(state), Some(hash), Some(clear)) = (state, name.hash(), &self.clear) {
            // Without it this machine needs an identity to look at its own logbook, and nothing else.
            let _ = state.keep_clear(&store.info().id, &hash, clear);
        }
        Ok(name)
    }
}

/// A document as it was read.
pub(crate) struct OpenedDocument<T> {
    /// The document; only what is in clear of it when it is locked.
    pub(crate) document: T,
    /// The keys that it is encrypted to.
    pub(crate) keys: Vec<String>,
    /// Whether it is encrypted and could not be opened.
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
) -> Result<OpenedDocument<T>, StoreError> {
    open(store, &store.document(name)?, state)
}

/// The same of a document that was read already.
pub(crate) fn open<T: Sealable>(
    store: &Store,
    document: &Document,
    state: Option<&State>,
) -> Result<OpenedDocument<T>, StoreError> {
    let name = &document.name;
    let mut public: T = document.parse()?;
    let Some(EncryptedPart { keys, age }) = public.sealed().take() else {
        return Ok(OpenedDocument { document: public, keys: Vec::new(), is_locked: false });
    };
    let kept = state.zip(name.hash()).and_then(|(state, hash)| state.clear(&store.info().id, &hash));
    let kept = kept.and_then(|bytes| serde_json::from_slice::<T>(&bytes).ok());
    // What is kept here is not proven by the document's name, so it must agree with what is.
    if let Some(document) = kept.filter(|kept| kept.is_of(&public)) {
        return Ok(OpenedDocument { document, keys, is_locked: false });
    }
    let damaged = |what: &str| StoreError::Damaged { name: name.to_string(), what: what.to_owned() };
    let age = BASE64.decode(age.as_bytes()).map_err(|_| damaged("its encrypted part is not base64"))?;
    match store.identities().open(name.as_str(), &age) {
        Err(StoreError::Locked { .. }) => Ok(OpenedDocument { document: public, keys, is_locked: true }),
        Err(error) => Err(error),
        Ok(bytes) => {
            let document: T = serde_json::from_slice(&bytes).map_err(|error| damaged(&error.to_string()))?;
            if !document.is_of(&public) {
                return Err(damaged("what is encrypted in it is of another document"));
            }
            Ok(OpenedDocument { document, keys, is_locked: false })
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use gullet_store::{Identities, Location, Memory, new_identity};
    use jiff::Timestamp;

    use super::*;
    use gullet_model::ids::Random;
    use gullet_model::ids::RunId;
    use gullet_model::outcome::Outcome;
    use gullet_model::record::RemarkKind;

    struct Sevens;

    impl Random for Sevens {
        fn fill(&self, bytes: &mut [u8]) {
            bytes.fill(7);
        }
    }

    struct Sealing {
        memory: Memory,
        keys: Recipients,
        identities: Identities,
        state: State,
        _folder: tempfile::TempDir,
    }

    fn sealing() -> Sealing {
        let (file, public) = new_identity("today", None).unwrap();
        let folder = tempfile::tempdir().unwrap();
        let state = State::open(&folder.path().join("state"), &Sevens).unwrap();
        let keys = Recipients::parse(&[public]).unwrap();
        let memory = Memory::default();
        Store::create(Arc::new(memory.clone()), "s".to_owned(), "now".to_owned(), &keys).unwrap();
        Sealing { memory, keys, identities: Identities::read(&file, &|| None).unwrap(), state, _folder: folder }
    }

    impl Sealing {
        fn store(&self) -> Store {
            Store::open(Arc::new(self.memory.clone())).unwrap()
        }

        fn opened(&self) -> Store {
            self.store().with_identities(self.identities.clone())
        }

        /// Stores a remark under a name of its own; gives the name and the encrypted part.
        fn remark(&self, run: &str, text: &str) -> (DocumentName, Remark) {
            let (run, text) = (RunId::from(run), text.to_owned());
            let at = Timestamp::UNIX_EPOCH;
            let remark = Remark::new(&run, "records/x", at, RemarkKind::Verified, Outcome::Complete, text);
            let folder = format!("remarks/desk/w/{run}");
            let draft = Draft::new(folder, "t".to_owned(), &remark, &self.keys).unwrap();
            (draft.store(&self.store(), Some(&self.state)).unwrap(), remark)
        }
    }

    #[test]
    fn it_opens_with_an_identity_or_with_what_this_machine_kept() {
        let sealing = sealing();
        let (name, remark) = sealing.remark("one", "Una Tangle, berth 14");
        let read = |store: &Store, state| read::<Remark>(store, &name, state).unwrap();
        let locked = read(&sealing.store(), None);
        assert!(locked.is_locked && locked.document.text.is_empty() && locked.document.run == remark.run);
        assert_eq!(locked.keys, sealing.keys.texts());
        for opened in [read(&sealing.opened(), None), read(&sealing.store(), Some(&sealing.state))] {
            assert!(!opened.is_locked && opened.document == remark);
        }
        let stored = String::from_utf8(sealing.memory.read(name.as_str()).unwrap()).unwrap();
        assert!(!stored.contains("Tangle"), "{stored}");
    }

    #[test]
    fn a_sealed_part_of_another_document_is_damage() {
        let sealing = sealing();
        let (name, _) = sealing.remark("one", "of one");
        let (other, _) = sealing.remark("two", "of two");
        let public = |name: &DocumentName| sealing.store().document(name).unwrap().parse::<Remark>().unwrap();
        let mut mixed = public(&name);
        *mixed.sealed() = public(&other).sealed().take();
        let mixed = serde_json::to_vec(&mixed).unwrap();
        let name = sealing.store().add_document("remarks/desk/w/one", "mixed", &mixed).unwrap();
        assert!(matches!(read::<Remark>(&sealing.opened(), &name, None), Err(StoreError::Damaged { .. })));
    }

    #[test]
    fn what_this_machine_kept_is_believed_only_where_it_agrees() {
        let sealing = sealing();
        let (name, remark) = sealing.remark("one", "of one");
        let hash = name.hash().unwrap();
        let others = Remark { moved: Vec::new(), payload: vec!["payload/w/x".to_owned()], ..remark.clone() };
        for kept in [serde_json::to_vec(&others).unwrap(), b"{\"cut off".to_vec()] {
            sealing.state.keep_clear("s", &hash, &kept).unwrap();
            assert!(read::<Remark>(&sealing.store(), &name, Some(&sealing.state)).unwrap().is_locked);
            assert_eq!(read::<Remark>(&sealing.opened(), &name, Some(&sealing.state)).unwrap().document, remark);
        }
    }
}
