//! Documents: small JSON objects whose name ends in the BLAKE3 of their bytes, so that a changed one shows.

use std::fmt;

use serde::de::DeserializeOwned;

use crate::error::StoreError;
use crate::hash::Hash;
use crate::location::Location;

/// Documents are not longer than this, in bytes; a longer one is not read at all.
const LONGEST: u64 = 64 << 20;

/// The full name of a document: `FOLDER/STEM-HASH.json`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct DocumentName(String);

impl DocumentName {
    /// The name that `bytes` must have in `folder` with this stem.
    pub fn of(folder: &str, stem: &str, bytes: &[u8]) -> Self {
        Self(format!("{folder}/{stem}-{}.json", Hash::of(bytes)))
    }

    /// Takes an object's name if it has the form of a document's.
    pub fn parse(name: &str) -> Option<Self> {
        let body = name.strip_suffix(".json")?;
        body.rsplit_once('-')?.1.parse::<Hash>().ok()?;
        body.contains('/').then(|| Self(name.to_owned()))
    }

    /// The name in the store.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The folder it lies in.
    pub fn folder(&self) -> &str {
        self.0.rsplit_once('/').map_or("", |(folder, _)| folder)
    }

    /// What stands before the hash.
    pub fn stem(&self) -> &str {
        let file = self.0.rsplit_once('/').map_or(self.0.as_str(), |(_, file)| file);
        file.rsplit_once('-').map_or(file, |(stem, _)| stem)
    }

    /// The hash in the name.
    pub fn hash(&self) -> Option<Hash> {
        self.0.strip_suffix(".json")?.rsplit_once('-')?.1.parse().ok()
    }
}

impl fmt::Display for DocumentName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// A document's bytes, proven by its name.
#[derive(Clone, Debug)]
pub struct Document {
    /// The name that proves its bytes.
    pub name: DocumentName,
    /// Its bytes as stored.
    pub bytes: Vec<u8>,
}

impl Document {
    /// Reads a document and proves it.
    ///
    /// # Errors
    /// [`StoreError::Missing`], [`StoreError::Damaged`] when its bytes do not have the hash in its name.
    pub fn read(location: &dyn Location, name: &DocumentName) -> Result<Self, StoreError> {
        Self::proven(name, location.read_at_most(name.as_str(), LONGEST)?).ok_or_else(|| StoreError::Damaged {
            name: name.to_string(),
            what: "its bytes do not have the hash in its name".to_owned(),
        })
    }

    /// These bytes as the document of a name, where they have the hash in it.
    pub fn proven(name: &DocumentName, bytes: Vec<u8>) -> Option<Self> {
        (Some(Hash::of(&bytes)) == name.hash()).then(|| Self { name: name.clone(), bytes })
    }

    /// The document as a value.
    ///
    /// # Errors
    /// [`StoreError::Damaged`] when it is not of that form.
    pub fn parse<T: DeserializeOwned>(&self) -> Result<T, StoreError> {
        serde_json::from_slice(&self.bytes)
            .map_err(|error| StoreError::Damaged { name: self.name.to_string(), what: error.to_string() })
    }
}
