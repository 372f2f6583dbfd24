//! What can go wrong with a store, and the extension that gives every file-system call its path.

use std::io;
use std::path::{Path, PathBuf};

/// An input or output error with the path it happened at.
#[derive(Debug, thiserror::Error)]
#[error("cannot access `{}`", path.display())]
pub struct PathError {
    /// The path that was accessed.
    pub path: PathBuf,
    /// What the system said.
    #[source]
    pub source: io::Error,
}

impl PathError {
    /// What the system said about `path`.
    pub fn new(path: impl AsRef<Path>, source: impl Into<io::Error>) -> Self {
        Self { path: path.as_ref().to_path_buf(), source: source.into() }
    }
}

/// Adds the path to an `io::Result`.
pub trait IoPath<T> {
    /// Wraps the error together with `path`.
    fn at(self, path: impl AsRef<Path>) -> Result<T, PathError>;
}

impl<T> IoPath<T> for io::Result<T> {
    fn at(self, path: impl AsRef<Path>) -> Result<T, PathError> {
        self.map_err(|source| PathError::new(path, source))
    }
}

impl<T> IoPath<T> for rustix::io::Result<T> {
    fn at(self, path: impl AsRef<Path>) -> Result<T, PathError> {
        self.map_err(|errno| PathError::new(path, errno))
    }
}

/// An operation on a store failed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// The place or an object in it could not be read or written.
    #[error(transparent)]
    Io(#[from] PathError),
    /// There is no store at the place: `store.json` is missing.
    #[error("there is no store at `{place}` (no `store.json`)")]
    NoStore {
        /// The location, as it describes itself.
        place: String,
    },
    /// A store was to be created where something is already.
    #[error("`{place}` is not empty, so no store is made there")]
    NotEmpty {
        /// The location, as it describes itself.
        place: String,
    },
    /// The store is of a newer format than this program knows.
    #[error("the store at `{place}` has format {found}; this program knows formats up to {known}")]
    Format {
        /// The location, as it describes itself.
        place: String,
        /// The format version found.
        found: u32,
        /// The newest format version known.
        known: u32,
    },
    /// An object that must be there is not.
    #[error("object `{name}` is missing")]
    Missing {
        /// The object's name in the store.
        name: String,
    },
    /// The place is not the one that was opened.
    #[error(
        "the folder at `{place}` is not the one that was opened: it is not there, or something else was mounted or put there"
    )]
    Moved {
        /// The location, as it describes itself.
        place: String,
    },
    /// A chunk is larger than a frame may be.
    #[error("a chunk of {length} bytes is larger than a frame may be")]
    TooLarge {
        /// Its length in bytes.
        length: usize,
    },
    /// An object with this name is there already; nothing is ever overwritten.
    #[error("object `{name}` is there already and is not overwritten")]
    Exists {
        /// The object's name in the store.
        name: String,
    },
    /// An object's bytes are not what they must be.
    #[error("object `{name}` is damaged: {what}")]
    Damaged {
        /// The object's name in the store.
        name: String,
        /// What is wrong with it.
        what: String,
    },
    /// A chunk is in none of the payload files that should hold it.
    #[error("chunk {id} is in none of the payload files that should hold it")]
    NoChunk {
        /// The chunk's id.
        id: crate::Hash,
    },
    /// It is encrypted, and none of the identities at hand opens it.
    #[error("`{name}` is encrypted, and no identity at hand opens it")]
    Locked {
        /// The object's name in the store.
        name: String,
    },
    /// Something could not be encrypted.
    #[error("it could not be encrypted: {0}")]
    Seal(String),
    /// A name that must not be used for an object.
    #[error("`{0}` cannot be the name of an object")]
    Name(String),
    /// The local cache failed.
    #[error("the local cache `{}` failed", path.display())]
    Cache {
        /// The cache's file.
        path: PathBuf,
        /// What the database said.
        #[source]
        source: rusqlite::Error,
    },
    /// The threads that compress and write have ended early; the cause was reported before.
    #[error("writing to the store stopped early")]
    Stopped,
}

impl StoreError {
    /// Whether it means that something stored is lost: not there, or not what it was.
    pub fn is_damage(&self) -> bool {
        matches!(self, Self::Missing { .. } | Self::Damaged { .. } | Self::NoChunk { .. })
    }

    /// Whether this account may not do it.
    pub fn is_forbidden(&self) -> bool {
        matches!(self, Self::Io(error) if error.source.kind() == io::ErrorKind::PermissionDenied)
    }

    /// Whether the cause is a full disk or an exhausted quota.
    pub fn is_full(&self) -> bool {
        matches!(self, Self::Io(error) if matches!(error.source.kind(), io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded))
    }
}
