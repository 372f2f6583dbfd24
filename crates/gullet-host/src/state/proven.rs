//! Which documents a copy of a store was proven to have: sent there and read back, byte by byte.

use std::collections::HashSet;
use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::PathBuf;

use gullet_store::{Hash, IoPath, PathError};

use super::{State, StateError, private_folder};

/// The documents that a copy was proven to have. What is not noted is only read back once more.
#[derive(Debug)]
pub struct ProvenDocuments {
    path: PathBuf,
    names: HashSet<String>,
    file: Option<File>,
}

impl State {
    fn proven_path(&self, store: &str, place: &str) -> PathBuf {
        let file = format!("{}.txt", Hash::of(place.as_bytes()));
        self.folder.join("stores").join(store).join("copied").join(file)
    }

    /// Forgets what is known of the copy of a store at a place, so that all of it is read back again.
    ///
    /// # Errors
    /// When it cannot be removed.
    pub fn forget_proven_documents(&self, store: &str, place: &str) -> Result<(), StateError> {
        let path = self.proven_path(store, place);
        match fs::remove_file(&path) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error).at(&path)?,
            _ => Ok(()),
        }
    }

    /// What is known of the copy of a store at a place.
    pub fn proven_documents(&self, store: &str, place: &str) -> ProvenDocuments {
        let path = self.proven_path(store, place);
        // A line that was cut off is no name, and its document is read back again.
        let names = fs::read_to_string(&path).unwrap_or_default().lines().map(str::to_owned).collect();
        ProvenDocuments { path, names, file: None }
    }
}

impl ProvenDocuments {
    /// Whether the copy was proven to have it.
    pub fn has(&self, name: &str) -> bool {
        self.names.contains(name)
    }

    /// Notes that it was.
    ///
    /// # Errors
    /// When it cannot be noted.
    pub fn note(&mut self, name: &str) -> Result<(), PathError> {
        if !self.names.insert(name.to_owned()) {
            return Ok(());
        }
        if self.file.is_none() {
            self.path.parent().map_or(Ok(()), private_folder)?;
            let file = OpenOptions::new().append(true).create(true).mode(0o600).open(&self.path).at(&self.path)?;
            self.file = Some(file);
        }
        // One write; a line begins anew where the one before was cut off.
        let line = format!("\n{name}\n");
        self.file.as_mut().map_or(Ok(()), |file| file.write_all(line.as_bytes())).at(&self.path)
    }
}
