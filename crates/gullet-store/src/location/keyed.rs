//! What places have in common that `object_store` knows: objects by their keys below one base.

use std::io;
use std::ops::Range;

use futures_executor::block_on;
use object_store::path::Path as Key;
use object_store::{GetOptions, GetRange, ObjectStore, ObjectStoreExt};

use super::web::failure_in;
use crate::error::{PathError, StoreError};

/// Objects of a server, below a base that is not part of their names.
pub(super) struct Keyed<S> {
    pub(super) store: S,
    /// What all keys begin with; empty for the whole server.
    base: String,
    /// The place as a person would write it.
    shown: String,
}

impl<S: ObjectStore> Keyed<S> {
    pub(super) fn new(store: S, base: String, shown: String) -> Self {
        Self { store, base, shown }
    }

    /// The place as a person would write it.
    pub(super) fn shown(&self) -> &str {
        &self.shown
    }

    /// The key of an object, or of a folder.
    pub(super) fn key(&self, name: &str) -> Key {
        if self.base.is_empty() { Key::from(name) } else { Key::from(format!("{}/{name}", self.base)) }
    }

    /// The name of an object, or of a folder, that was listed.
    pub(super) fn name_of(&self, key: &Key) -> String {
        let name = key.as_ref().strip_prefix(self.base.as_str()).unwrap_or(key.as_ref());
        name.trim_matches('/').to_owned()
    }

    /// What went wrong with an object.
    pub(super) fn failed(&self, name: &str, error: object_store::Error) -> StoreError {
        match error {
            object_store::Error::NotFound { .. } => StoreError::Missing { name: name.to_owned() },
            object_store::Error::AlreadyExists { .. } | object_store::Error::Precondition { .. } => {
                StoreError::Exists { name: name.to_owned() }
            }
            error => self.unanswered(name, error),
        }
    }

    /// A request about an object that was not answered as it should have been.
    pub(super) fn unanswered(&self, name: &str, error: impl std::error::Error + Send + Sync + 'static) -> StoreError {
        match failure_in(&error) {
            Some(failure) => self.in_words(name, io::Error::new(failure.kind(), failure.to_string())),
            None => self.in_words(name, io::Error::other(error)),
        }
    }

    /// What went wrong with an object, where the place itself knows the words.
    pub(super) fn in_words(&self, name: &str, error: io::Error) -> StoreError {
        let path = if name.is_empty() { self.shown.clone() } else { format!("{}/{name}", self.shown) };
        PathError::new(path, error).into()
    }

    /// As [`super::Location::length`].
    pub(super) fn length(&self, name: &str) -> Result<Option<u64>, StoreError> {
        match block_on(self.store.head(&self.key(name))) {
            Ok(object) => Ok(Some(object.size)),
            Err(object_store::Error::NotFound { .. }) => Ok(None),
            // Some servers say no length of an object without a byte.
            Err(error) if failure_in(&error).is_none() => Ok(Some(self.whole(name)?.len() as u64)),
            Err(error) => Err(self.failed(name, error)),
        }
    }

    /// These bytes of an object.
    pub(super) fn range(&self, name: &str, range: Range<u64>) -> Result<Vec<u8>, StoreError> {
        let bytes = block_on(self.store.get_range(&self.key(name), range));
        bytes.map(Into::into).map_err(|error| self.failed(name, error))
    }

    /// The length of an object, and its last bytes.
    pub(super) fn tail(&self, name: &str, most: u64) -> Result<(u64, Vec<u8>), StoreError> {
        let answer = match self.get(name, Some(GetRange::Suffix(most))) {
            // There is no range in an object without a byte, and some servers know none of this kind.
            Err(object_store::Error::Generic { .. } | object_store::Error::NotSupported { .. }) => self.get(name, None),
            answer => answer,
        };
        answer.map_err(|error| self.failed(name, error))
    }

    /// A whole object.
    pub(super) fn whole(&self, name: &str) -> Result<Vec<u8>, StoreError> {
        self.get(name, None).map(|(_, bytes)| bytes).map_err(|error| self.failed(name, error))
    }

    /// The length of an object, and what was asked for of it.
    fn get(&self, name: &str, range: Option<GetRange>) -> object_store::Result<(u64, Vec<u8>)> {
        block_on(async {
            let options = GetOptions { range, ..GetOptions::default() };
            let answer = self.store.get_opts(&self.key(name), options).await?;
            Ok((answer.meta.size, answer.bytes().await?.into()))
        })
    }

    /// As [`super::Location::remove`].
    pub(super) fn remove(&self, name: &str) -> Result<(), StoreError> {
        block_on(self.store.delete(&self.key(name))).map_err(|error| self.failed(name, error))
    }
}
