//! Objects as files on another machine, by SFTP.
//!
//! The system's own `ssh` makes the connection, with the account's configuration, agent and known hosts; `russh-sftp` has the
//! messages that are spoken over its pipes. An object is written under a name of its own, made durable, and renamed, which the plain
//! rename of the protocol does only where nothing has the name yet. One connection serves all threads; one that breaks is made anew.

use std::future::Future;
use std::io;
use std::ops::Range;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use bytes::Bytes;
use russh_sftp::protocol::{File, FileAttributes, StatusCode};

use super::remote::{KnownFolders, Remote, Requests, incoming};
use super::{INCOMING, Location, ObjectInfo, flattened};
use crate::error::{PathError, StoreError};

mod connection;
mod session;

use connection::{Connection, Trouble, in_words};

/// So often something is tried on a new connection when the one before broke.
const ATTEMPTS: u32 = 3;
/// Files and folders are the account's alone.
const PRIVATE_FILE: u32 = 0o600;
const PRIVATE_FOLDER: u32 = 0o700;

/// A folder of another machine, and how it is reached.
#[derive(Clone, Debug, Default)]
pub struct SshFolderPlace {
    /// The location as it is written.
    pub shown: String,
    /// The account there; by default what `ssh` would take.
    pub user: Option<String>,
    /// The machine, as `ssh` knows it.
    pub host: String,
    /// The port; by default what `ssh` would take.
    pub port: Option<u16>,
    /// The absolute path of the folder there.
    pub folder: String,
    /// The file of the key that signs in; by default those that `ssh` would try.
    pub key_file: Option<PathBuf>,
    /// The file of known hosts, in which the machine must be; by default those that `ssh` would look into.
    pub known_hosts: Option<PathBuf>,
    /// How long the machine may be silent.
    pub limit: Duration,
}

/// Objects in a folder of another machine. Nothing is asked yet.
pub fn ssh_folder(place: SshFolderPlace) -> Arc<dyn Location> {
    Arc::new(Remote::new(Arc::new(SshFolder { place, connection: Mutex::default(), folders: KnownFolders::default() })))
}

struct SshFolder {
    place: SshFolderPlace,
    connection: Mutex<Option<Arc<Connection>>>,
    folders: KnownFolders,
}

impl SshFolder {
    /// The connection, made where there is none.
    fn connection(&self) -> io::Result<Arc<Connection>> {
        let mut kept = self.connection.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(connection) = kept.as_ref() {
            return Ok(Arc::clone(connection));
        }
        let connection = Arc::new(Connection::open(&self.place)?);
        *kept = Some(Arc::clone(&connection));
        Ok(connection)
    }

    /// Forgets a connection that broke.
    fn forget(&self, broken: &Arc<Connection>) {
        let mut kept = self.connection.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.as_ref().is_some_and(|kept| Arc::ptr_eq(kept, broken)) {
            *kept = None;
        }
    }

    /// Does something over the connection; where that breaks, again over a new one. Gives whether that was so.
    fn ask<T, F: Future<Output = Result<T, Trouble>>>(
        &self,
        what: impl Fn(Arc<Connection>) -> F,
    ) -> (Result<T, Trouble>, bool) {
        let mut attempt = 1;
        loop {
            let connection = match self.connection() {
                Ok(connection) => connection,
                Err(error) => return (Err(Trouble::Broken(error)), attempt > 1),
            };
            match connection.runtime.block_on(what(Arc::clone(&connection))) {
                Err(Trouble::Broken(error)) => {
                    self.forget(&connection);
                    self.folders.forget();
                    if attempt == ATTEMPTS {
                        return (Err(Trouble::Broken(in_words(&connection.last_words(), error))), true);
                    }
                }
                outcome => return (outcome, attempt > 1),
            }
            attempt += 1;
        }
    }

    fn failed(&self, name: &str, trouble: Trouble) -> StoreError {
        if trouble.is_missing() && !name.is_empty() {
            return StoreError::Missing { name: name.to_owned() };
        }
        PathError::new(format!("{}/{name}", self.place.shown).trim_end_matches('/'), trouble.into_io()).into()
    }

    fn path(&self, name: &str) -> String {
        let folder = self.place.folder.trim_end_matches('/');
        if name.is_empty() { format!("{folder}/") } else { format!("{folder}/{name}") }
    }

    /// Makes the folders above a name, those that were not made before.
    fn make_folders(&self, name: &str) -> Result<(), Trouble> {
        self.folders.make(name, |folder| self.make_folder(&self.path(folder)))
    }

    /// Makes a folder, where it is not there yet.
    fn make_folder(&self, path: &str) -> Result<(), Trouble> {
        let made = self.ask(|connection| {
            let path = path.to_owned();
            async move {
                let Err(error) = connection.session.make_folder(&path).await else {
                    return Ok(connection.session.set_mode(&path, PRIVATE_FOLDER).await?);
                };
                // The protocol has no word for what is there already.
                match connection.session.attributes(&path).await {
                    Ok(found) if found.is_dir() => Ok(()),
                    _ => Err(error.into()),
                }
            }
        });
        made.0
    }

    fn is_there(&self, name: &str) -> Result<Option<FileAttributes>, Trouble> {
        let path = self.path(name);
        let found = self.ask(|connection| {
            let path = path.clone();
            async move { Ok(connection.session.attributes(&path).await?) }
        });
        match found.0 {
            Ok(found) => Ok(Some(found)),
            Err(trouble) if trouble.is_missing() => Ok(None),
            Err(trouble) => Err(trouble),
        }
    }

    /// Writes a file that nobody reads yet.
    fn send(&self, path: &str, bytes: &Bytes) -> Result<(), Trouble> {
        let sent = self.ask(|connection| {
            let (path, bytes) = (path.to_owned(), bytes.clone());
            async move {
                // What an earlier attempt over a broken connection left is written over: the name is this object's alone.
                connection.session.write(&path, &bytes, PRIVATE_FILE).await?;
                let length = connection.session.attributes(&path).await?.size;
                if length == Some(bytes.len() as u64) {
                    return Ok(());
                }
                Err(Trouble::Broken(io::Error::other("the server has another length than was sent")))
            }
        });
        sent.0
    }
}

impl Requests for SshFolder {
    fn checks_what_arrives(&self) -> bool {
        false
    }

    fn describe(&self) -> String {
        self.place.shown.clone()
    }

    fn list(&self, prefix: &str) -> Result<Vec<ObjectInfo>, StoreError> {
        let mut found = Vec::new();
        let mut folders = vec![prefix.trim_end_matches('/').to_owned()];
        while let Some(folder) = folders.pop() {
            let path = self.path(&folder);
            let listed = self.ask(|connection| {
                let path = path.clone();
                async move { Ok(connection.session.entries(&path).await?) }
            });
            let entries = match listed.0 {
                Ok(entries) => entries,
                Err(trouble) if trouble.is_missing() => continue,
                Err(trouble) => return Err(self.failed(&folder, trouble)),
            };
            for File { filename, attrs: attributes, .. } in entries {
                if filename.starts_with('.') {
                    continue;
                }
                let name = if folder.is_empty() { filename } else { format!("{folder}/{filename}") };
                if attributes.is_dir() {
                    folders.push(name);
                } else if attributes.is_regular() {
                    found.push(ObjectInfo { name, length: attributes.size.unwrap_or(0) });
                }
            }
        }
        Ok(found)
    }

    fn length(&self, name: &str) -> Result<Option<u64>, StoreError> {
        let found = self.is_there(name).map_err(|trouble| self.failed(name, trouble))?;
        Ok(found.map(|found| found.size.unwrap_or(0)))
    }

    fn range(&self, name: &str, range: Range<u64>) -> Result<Vec<u8>, StoreError> {
        let path = self.path(name);
        let read = self.ask(|connection| {
            let (path, range) = (path.clone(), range.clone());
            async move { Ok(connection.session.read(&path, range).await?) }
        });
        read.0.map_err(|trouble| self.failed(name, trouble))
    }

    fn tail(&self, name: &str, most: u64) -> Result<(u64, Vec<u8>), StoreError> {
        let length = self.length(name)?.ok_or_else(|| StoreError::Missing { name: name.to_owned() })?;
        let bytes = self.range(name, length.saturating_sub(most)..length)?;
        Ok((length, bytes))
    }

    fn whole(&self, name: &str) -> Result<Vec<u8>, StoreError> {
        let path = self.path(name);
        let read = self.ask(|connection| {
            let path = path.clone();
            async move { Ok(connection.session.read_whole(&path).await?) }
        });
        read.0.map_err(|trouble| self.failed(name, trouble))
    }

    fn put(&self, name: &str, bytes: &Bytes) -> Result<(), StoreError> {
        let failed = |trouble| self.failed(name, trouble);
        if self.is_there(name).map_err(failed)?.is_some() {
            return Err(StoreError::Exists { name: name.to_owned() });
        }
        let incoming = incoming(name);
        let (from, to) = (self.path(&incoming), self.path(name));
        let sent =
            self.make_folders(&incoming).and_then(|()| self.send(&from, bytes)).and_then(|()| self.make_folders(name));
        let renamed = sent.map(|()| {
            self.ask(|connection| {
                let (from, to) = (from.clone(), to.clone());
                async move { Ok(connection.session.rename(&from, &to).await?) }
            })
        });
        let (trouble, was_repeated) = match renamed {
            Ok((Ok(()), _)) => return Ok(()),
            Ok((Err(trouble), was_repeated)) => (trouble, was_repeated),
            Err(trouble) => (trouble, false),
        };
        // The answer to an earlier attempt was lost: then it is there, and it is ours.
        if was_repeated && trouble.is_missing() && self.whole(name).is_ok_and(|there| there == *bytes) {
            return Ok(());
        }
        self.folders.forget();
        let _ = self.ask(|connection| {
            let from = from.clone();
            async move { Ok(connection.session.remove(&from).await?) }
        });
        // The protocol has no word for a name that is taken, and none for a disk that is full.
        if self.is_there(name).is_ok_and(|found| found.is_some()) {
            return Err(StoreError::Exists { name: name.to_owned() });
        }
        let has_no_room = matches!(trouble, Trouble::Said(StatusCode::Failure, _))
            && self.free_space().is_ok_and(|free| free.is_some_and(|free| free < bytes.len() as u64));
        if has_no_room {
            let full = io::Error::new(io::ErrorKind::StorageFull, "there is no room left on the server");
            return Err(PathError::new(format!("{}/{name}", self.place.shown), full).into());
        }
        Err(failed(trouble))
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        let path = self.path(name);
        let removed = self.ask(|connection| {
            let path = path.clone();
            async move { Ok(connection.session.remove(&path).await?) }
        });
        match removed {
            (Err(trouble), true) if trouble.is_missing() => Ok(()),
            (removed, _) => removed.map_err(|trouble| self.failed(name, trouble)),
        }
    }

    fn free_space(&self) -> Result<Option<u64>, StoreError> {
        let path = self.path("");
        let asked = self.ask(|connection| {
            let path = path.clone();
            async move { Ok(connection.session.room(&path).await?) }
        });
        let found = asked.0.map_err(|trouble| self.failed("", trouble))?;
        Ok(found.map(|found| found.blocks_avail.saturating_mul(found.fragment_size)))
    }

    fn prepare(&self) -> Result<(), StoreError> {
        self.make_folder(self.path("").trim_end_matches('/')).map_err(|trouble| self.failed("", trouble))
    }

    fn discard_unpublished(&self, prefix: &str, is_dead: bool) -> Result<(), StoreError> {
        // How old something is only the server's clock knows; what is just being sent stays.
        if !is_dead {
            return Ok(());
        }
        let (folder, prefix) = (self.path(INCOMING), flattened(prefix));
        let removed = self.ask(|connection| {
            let (folder, prefix) = (folder.clone(), prefix.clone());
            async move {
                for entry in connection.session.entries(&folder).await? {
                    if entry.filename.starts_with(&prefix) {
                        connection.session.remove(&format!("{folder}/{}", entry.filename)).await?;
                    }
                }
                Ok(())
            }
        });
        match removed.0 {
            Err(trouble) if !trouble.is_missing() => Err(self.failed(INCOMING, trouble)),
            _ => Ok(()),
        }
    }
}
