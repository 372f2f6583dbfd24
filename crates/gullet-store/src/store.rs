//! A store as a whole: its identity, its machines, its documents.

use std::sync::Arc;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::document::{Document, DocumentName};
use crate::error::StoreError;
use crate::hash::Hash;
use crate::location::Location;
use crate::probe::is_unused;
use crate::reader::ChunkReader;
use crate::seal::{Identities, Recipients};
use crate::{Holdings, OpenPayload, Toc};

/// The store's format version that this program writes. History: 1, the first.
pub const FORMAT: u32 = 1;
/// The object that says which store it is.
pub const STORE_FILE: &str = "store.json";

/// `store.json`: what a store says about itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StoreInfo {
    /// Version of the format.
    pub format: u32,
    /// The store's own random id.
    pub id: String,
    /// When it was made (RFC 3339).
    pub created: String,
    /// The public keys that its contents are encrypted to; none in a store that is not encrypted.
    #[serde(default)]
    pub keys: Vec<String>,
}

/// `machines/MACHINE.json`: one machine's identity in a store.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct MachineInfo {
    /// The machine's random id.
    pub machine: String,
    /// The host's name when it was registered.
    pub host: String,
    /// When it was registered (RFC 3339).
    pub since: String,
}

/// An opened store.
#[derive(Clone)]
pub struct Store {
    location: Arc<dyn Location>,
    info: StoreInfo,
    info_hash: Hash,
    identities: Identities,
}

impl Store {
    /// Makes a store at an empty place; with `keys` everything in it will be encrypted.
    ///
    /// # Errors
    /// [`StoreError::NotEmpty`] when anything is there already but what the place was tried with.
    pub fn create(
        location: Arc<dyn Location>,
        id: String,
        created: String,
        keys: &Recipients,
    ) -> Result<Self, StoreError> {
        if !is_unused(location.as_ref())? {
            return Err(StoreError::NotEmpty { place: location.describe() });
        }
        location.prepare()?;
        let info = StoreInfo { format: FORMAT, id, created, keys: keys.texts() };
        let mut bytes = serde_json::to_vec_pretty(&info)
            .map_err(|error| StoreError::Damaged { name: STORE_FILE.to_owned(), what: error.to_string() })?;
        bytes.push(b'\n');
        location.write(STORE_FILE, &bytes)?;
        Self::open(location)
    }

    /// Opens the store at a place.
    ///
    /// # Errors
    /// [`StoreError::NoStore`] when there is none; [`StoreError::Format`] when it is newer than this program.
    pub fn open(location: Arc<dyn Location>) -> Result<Self, StoreError> {
        let bytes = match location.read(STORE_FILE) {
            Err(StoreError::Missing { .. }) => return Err(StoreError::NoStore { place: location.describe() }),
            other => other?,
        };
        let info: StoreInfo = serde_json::from_slice(&bytes)
            .map_err(|error| StoreError::Damaged { name: STORE_FILE.to_owned(), what: error.to_string() })?;
        if info.format > FORMAT {
            return Err(StoreError::Format { place: location.describe(), found: info.format, known: FORMAT });
        }
        Ok(Self { location, info, info_hash: Hash::of(&bytes), identities: Identities::default() })
    }

    /// Opens encrypted contents with these identities from now on.
    #[must_use]
    pub fn with_identities(mut self, identities: Identities) -> Self {
        self.identities = identities;
        self
    }

    /// The identities that encrypted contents are opened with.
    pub fn identities(&self) -> &Identities {
        &self.identities
    }

    /// Whether what is in it is encrypted.
    pub fn is_sealed(&self) -> bool {
        !self.info.keys.is_empty()
    }

    /// What the store says about itself.
    pub fn info(&self) -> &StoreInfo {
        &self.info
    }

    /// The BLAKE3 of `store.json`, which every record names.
    pub fn info_hash(&self) -> Hash {
        self.info_hash
    }

    /// Where the store lies.
    pub fn location(&self) -> &Arc<dyn Location> {
        &self.location
    }

    /// Proves that the place is still the one that was opened, and has this store in it.
    ///
    /// # Errors
    /// [`StoreError::Moved`] when it does not.
    pub fn confirm(&self) -> Result<(), StoreError> {
        self.location.confirm()?;
        match self.location.read(STORE_FILE) {
            Ok(bytes) if Hash::of(&bytes) == self.info_hash => Ok(()),
            Ok(_) | Err(StoreError::Missing { .. }) => Err(StoreError::Moved { place: self.location.describe() }),
            Err(error) => Err(error),
        }
    }

    /// Registers a machine unless it is registered already; gives the hash of its registration.
    ///
    /// # Errors
    /// When the place cannot be written.
    pub fn register(&self, machine: &MachineInfo) -> Result<Hash, StoreError> {
        let name = format!("machines/{}.json", machine.machine);
        match self.location.read(&name) {
            Ok(bytes) => return Ok(Hash::of(&bytes)),
            Err(StoreError::Missing { .. }) => {}
            Err(error) => return Err(error),
        }
        let bytes = serde_json::to_vec_pretty(machine)
            .map_err(|error| StoreError::Damaged { name: name.clone(), what: error.to_string() })?;
        match self.location.write(&name, &bytes) {
            // Another command of the same machine was faster.
            Err(StoreError::Exists { .. }) => Ok(Hash::of(&self.location.read(&name)?)),
            Ok(()) => Ok(Hash::of(&bytes)),
            Err(error) => Err(error),
        }
    }

    /// The hash of a machine's registration; `None` when it is not registered.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn machine_hash(&self, machine: &str) -> Result<Option<Hash>, StoreError> {
        match self.location.read(&format!("machines/{machine}.json")) {
            Ok(bytes) => Ok(Some(Hash::of(&bytes))),
            Err(StoreError::Missing { .. }) => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// The machines that are registered.
    ///
    /// # Errors
    /// When the place cannot be read, or what is there is damaged.
    pub fn machines(&self) -> Result<Vec<MachineInfo>, StoreError> {
        let names = self.location.list("machines/")?.into_iter().map(|object| object.name);
        let read = names.map(|name| {
            let bytes = self.location.read(&name)?;
            serde_json::from_slice(&bytes).map_err(|error| StoreError::Damaged { name, what: error.to_string() })
        });
        read.collect()
    }

    /// The names of all documents below `folder`, sorted; objects of other names are passed over.
    ///
    /// # Errors
    /// When the place cannot be listed.
    pub fn documents(&self, folder: &str) -> Result<Vec<DocumentName>, StoreError> {
        let names = self.location.names(&format!("{folder}/"))?;
        Ok(names.iter().filter_map(|name| DocumentName::parse(name)).collect())
    }

    /// Writes a document under `FOLDER/STEM-HASH.json`. The same bytes under the same stem are written once.
    ///
    /// # Errors
    /// When the place cannot be written.
    pub fn add_document(&self, folder: &str, stem: &str, bytes: &[u8]) -> Result<DocumentName, StoreError> {
        let name = DocumentName::of(folder, stem, bytes);
        match self.location.write(name.as_str(), bytes) {
            Ok(()) => Ok(name),
            Err(StoreError::Exists { .. }) => match self.document(&name) {
                Ok(_) => Ok(name),
                // Only these bytes have that name: what is there is of no use to anybody.
                Err(StoreError::Damaged { .. }) => {
                    self.location.remove(name.as_str())?;
                    self.location.write(name.as_str(), bytes).map(|()| name)
                }
                Err(error) => Err(error),
            },
            Err(error) => Err(error),
        }
    }

    /// Reads a document and proves it by its name.
    ///
    /// # Errors
    /// When it is missing or damaged.
    pub fn document(&self, name: &DocumentName) -> Result<Document, StoreError> {
        Document::read(self.location.as_ref(), name)
    }

    /// A reader of all chunks that a run stands on.
    ///
    /// # Errors
    /// When a payload file is missing or its table of contents is damaged.
    pub fn chunks(&self, holdings: &Holdings) -> Result<ChunkReader, StoreError> {
        let (reader, mut failed) = self.chunks_that_can_be_read(holdings);
        if failed.is_empty() { Ok(reader) } else { Err(failed.swap_remove(0).1) }
    }

    /// A reader of the chunks that can still be found, and which payload files failed, by name.
    pub fn chunks_that_can_be_read(&self, holdings: &Holdings) -> (ChunkReader, Vec<(String, StoreError)>) {
        let mut reader = ChunkReader::new(Arc::clone(&self.location), self.identities.clone());
        let own = holdings.wrote.iter().map(|file| &file.name);
        let earlier = holdings.needs.iter().map(|need| &need.name);
        let failed = own.chain(earlier).filter_map(|name| Some((name.clone(), reader.add(name).err()?)));
        let failed = failed.collect();
        (reader, failed)
    }

    /// A reader for a few of the chunks that a run stands on. Of a far store it reads the contents of a payload file only when what is
    /// looked for is in no other, so that what is missing shows only where it is needed.
    pub fn few_chunks(&self, holdings: &Holdings) -> ChunkReader {
        if !self.location.is_far() {
            return self.chunks_that_can_be_read(holdings).0;
        }
        let names: Vec<String> = holdings.files().map(|(name, _)| name.to_owned()).collect();
        ChunkReader::lazy(Arc::clone(&self.location), self.identities.clone(), &names)
    }

    /// The table of contents of one payload file.
    ///
    /// # Errors
    /// When it is missing, locked or damaged.
    pub fn contents(&self, name: &str) -> Result<Toc, StoreError> {
        OpenPayload::open(self.location.as_ref(), &self.identities, name)?.contents()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::location::Memory;

    #[test]
    fn a_store_is_made_once_and_opened_again() {
        let memory: Arc<dyn Location> = Arc::new(Memory::default());
        assert!(matches!(Store::open(Arc::clone(&memory)), Err(StoreError::NoStore { .. })));
        let made =
            Store::create(Arc::clone(&memory), "abc".into(), "2026-11-25T01:00:00Z".into(), &Recipients::default())
                .unwrap();
        assert_eq!(Store::open(Arc::clone(&memory)).unwrap().info(), made.info());
        let again = Store::create(memory, "def".into(), "2026-11-25T02:00:00Z".into(), &Recipients::default());
        assert!(matches!(again, Err(StoreError::NotEmpty { .. })));
    }

    #[test]
    fn a_newer_store_is_refused_with_both_versions() {
        let memory = Memory::default();
        memory.write(STORE_FILE, br#"{"format":9,"id":"a","created":"x"}"#).unwrap();
        assert!(matches!(Store::open(Arc::new(memory)), Err(StoreError::Format { found: 9, known: FORMAT, .. })));
    }

    #[test]
    fn a_changed_document_shows() {
        let memory = Memory::default();
        let store =
            Store::create(Arc::new(memory.clone()), "abc".into(), "now".into(), &Recipients::default()).unwrap();
        let name = store.add_document("records/quaybook/w", "20261125T010000Z-r", b"{\"a\":1}").unwrap();
        assert_eq!(store.documents("records").unwrap(), std::slice::from_ref(&name));
        assert_eq!(name.stem(), "20261125T010000Z-r");
        store.document(&name).unwrap();
        memory.tamper(name.as_str(), |bytes| bytes[5] = b'2');
        assert!(matches!(store.document(&name), Err(StoreError::Damaged { .. })));
    }
}
