//! The local state folder: this machine's machine id, locks, scratch space, caches, and records that wait for the store.
//!
//! ```text
//! machine.json                     this machine's identity in stores
//! stores.json                     the id of the store found at each location
//! locks/sweep                     shared by runs, taken alone by a sweep
//! locks/APP.lock                  held while a run of the application lives; the kernel lets go when it dies
//! scratch/APP/RUN/                private; removed at the end, or by the next run
//! logs/APP/RUN.jsonl              the run's events as they happened; below logs/APP/open/ until its end
//! holds/APP.note                  what is held (see the module `hold`)
//! waiting/APP/STEM-HASH.json      records that the store could not take
//! apart/ID/                       private; what a command makes beside the runs, removed at its end
//! ended/HASH                       drills and verifications that were due and came to their end
//! notify/ended/RUN.json            what there is to tell of a run that ended
//! notify/queue/ID.json             messages that wait to be sent
//! notify/sent.jsonl                what was sent, one line a message
//! stores/ID/written/APP           the documents that this machine wrote there: `?` about to be, `=` written
//! stores/ID/cache.db              which chunks are in the store
//! stores/ID/clear/HASH.json       what is encrypted in records and remarks that this machine wrote, in clear
//! stores/ID/newest/APP.json       the newest record that this machine wrote, as it lies there
//! stores/ID/proven.json           when payload files were last read in full
//! stores/ID/index/APP.json        what lists of runs show of the records and remarks there
//! stores/ID/marks/APP/PART.marks  the last listing with the marks of its files
//! ```
//!
//! It holds chunk ids, marks and listings in clear, so it is private to its account (0700).

mod apart;
mod clear;
mod ended;
mod locked;
mod locks;
mod notices;
mod proven;

use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

use gullet_store::{IoPath, PathError};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::permissions::is_not_private;
use gullet_model::ids::Random;
use gullet_model::ids::random_id;

pub use apart::ApartFolder;
pub use locked::LockedObjects;
pub use locks::{AppLock, SweepLock};
pub use proven::ProvenDocuments;

/// Where the logs of runs are that have not come to their end; a folder of its own, for every command looks into it.
const OPEN_LOGS: &str = "open";

/// The state folder failed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StateError {
    /// It cannot be read or written.
    #[error("the state folder cannot be used")]
    Io(#[from] PathError),
    /// Others could change what is in it.
    #[error("the state folder `{}` cannot be trusted: {why}", path.display())]
    Open {
        /// The folder that others could change.
        path: PathBuf,
        /// Who could change it.
        why: String,
    },
    /// A file in it is not what it should be.
    #[error("`{}` in the state folder is damaged: {why}", path.display())]
    Damaged {
        /// The file that is damaged.
        path: PathBuf,
        /// What is wrong.
        why: String,
    },
    /// A run of the application is going on.
    #[error("a run of `{app}` is going on ({who})")]
    Busy {
        /// The name of the application.
        app: String,
        /// The run and process that the lock file names.
        who: String,
    },
    /// The store at a location is not the one that was there before.
    #[error("the store at `{location}` is another one than before: its id is {found}, not {expected}")]
    OtherStore {
        /// The location where another store was.
        location: String,
        /// The id remembered.
        expected: String,
        /// The id found.
        found: String,
    },
}

#[derive(Serialize, Deserialize)]
struct MachineFile {
    machine: String,
}

/// The documents about one application that this machine wrote into a store, as its state folder knows them.
#[derive(Clone, Debug, Default)]
pub struct WrittenDocuments {
    /// Those that were about to be written, in order; whether they were is told by the store alone.
    about: Vec<String>,
    /// Those that were written, in order.
    durable: Vec<String>,
    known: OnceCell<HashSet<String>>,
}

impl WrittenDocuments {
    /// Whether this machine wrote a document, or was about to.
    pub fn knows(&self, name: &str) -> bool {
        let known = || self.about.iter().chain(&self.durable).cloned().collect();
        self.known.get_or_init(known).contains(name)
    }

    /// Those that were written and are not among `there`. Gullet never removes a document.
    pub fn missing(&self, there: &HashSet<&str>) -> Vec<String> {
        let gone: BTreeSet<&String> = self.durable.iter().filter(|name| !there.contains(name.as_str())).collect();
        gone.into_iter().cloned().collect()
    }

    /// The record that was written last, whatever the clock said; one that is gone is named all the same.
    pub fn newest_record(&self, there: &HashSet<&str>) -> Option<String> {
        let is_record = |name: &&String| name.starts_with("records/");
        let about = self.about.iter().rev().find(is_record);
        let durable = self.durable.iter().rev().find(is_record);
        // A command may have died between writing it and noting that.
        about.filter(|name| there.contains(name.as_str()) || durable == Some(*name)).or(durable).cloned()
    }
}

/// The state folder of this machine.
#[derive(Clone, Debug)]
pub struct State {
    folder: PathBuf,
    machine: String,
}

/// Makes a private folder and all above it.
pub fn private_folder(path: &Path) -> Result<(), PathError> {
    fs::DirBuilder::new().recursive(true).mode(0o700).create(path).at(path)
}

/// Writes a file so that it is there whole or not at all.
pub fn write_whole(path: &Path, bytes: &[u8]) -> Result<(), PathError> {
    // Several commands may write at once, and several runs of one command: each has its own temporary file.
    static NUMBER: AtomicU64 = AtomicU64::new(0);
    let number = NUMBER.fetch_add(1, Ordering::Relaxed);
    let temporary = path.with_extension(format!("{}-{number}.new", std::process::id()));
    let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&temporary);
    let written = file.as_mut().map_err(|error| std::io::Error::from(error.kind())).and_then(|file| {
        file.write_all(bytes)?;
        file.sync_all()
    });
    written.at(&temporary)?;
    fs::rename(&temporary, path).at(path)
}

impl State {
    /// Opens the state folder, making it and its machine id where they are missing.
    ///
    /// # Errors
    /// When this account cannot use it.
    pub fn open(folder: &Path, random: &dyn Random) -> Result<Self, StateError> {
        private_folder(folder)?;
        if let Some(why) = is_not_private(folder) {
            // Commands are read from it, and executed with the rights of this account.
            return Err(StateError::Open { path: folder.to_path_buf(), why });
        }
        let path = folder.join("machine.json");
        let machine = match fs::read(&path) {
            Ok(bytes) => {
                let file: MachineFile = serde_json::from_slice(&bytes)
                    .map_err(|error| StateError::Damaged { path: path.clone(), why: error.to_string() })?;
                file.machine
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => first_writer(&path, random)?,
            Err(error) => return Err(PathError::new(&path, error).into()),
        };
        // A folder that can be read but not written (an account without rights, a filesystem mounted read-only) is
        // found here, not in the middle of a hold.
        private_folder(&folder.join("holds"))?;
        let probe = folder.join(format!("probe.{}", std::process::id()));
        write_whole(&probe, b"")?;
        fs::remove_file(&probe).at(&probe)?;
        Ok(Self { folder: folder.to_path_buf(), machine })
    }

    /// The identity in stores of the machine whose state is in a folder, where it has one; nothing is made.
    pub fn machine_of(folder: &Path) -> Option<String> {
        let file: MachineFile = serde_json::from_slice(&fs::read(folder.join("machine.json")).ok()?).ok()?;
        Some(file.machine)
    }

    /// This machine's identity in stores.
    pub fn machine(&self) -> &str {
        &self.machine
    }

    /// The state folder itself.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// A private folder below the state folder, made where it is missing.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn place(&self, parts: &[&str]) -> Result<PathBuf, StateError> {
        let path = parts.iter().fold(self.folder.clone(), |path, part| path.join(part));
        private_folder(&path)?;
        Ok(path)
    }

    /// Whether a store was found at a location before.
    pub fn knows_store(&self, location: &str) -> bool {
        let file = fs::read(self.folder.join("stores.json")).ok();
        let known = file.and_then(|bytes| serde_json::from_slice::<BTreeMap<String, String>>(&bytes).ok());
        known.is_some_and(|known| known.contains_key(location))
    }

    /// Checks the id of the store at a location against the one that was there before, and remembers it.
    ///
    /// # Errors
    /// [`StateError::OtherStore`].
    pub fn recognise_store(&self, location: &str, id: &str) -> Result<(), StateError> {
        let path = self.folder.join("stores.json");
        let mut known: BTreeMap<String, String> = match fs::read(&path) {
            Ok(bytes) => serde_json::from_slice(&bytes)
                .map_err(|error| StateError::Damaged { path: path.clone(), why: error.to_string() })?,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => BTreeMap::new(),
            Err(error) => return Err(PathError::new(&path, error).into()),
        };
        match known.get(location) {
            Some(expected) if expected == id => Ok(()),
            Some(expected) => Err(StateError::OtherStore {
                location: location.to_owned(),
                expected: expected.clone(),
                found: id.to_owned(),
            }),
            None => {
                known.insert(location.to_owned(), id.to_owned());
                let json = serde_json::to_vec_pretty(&known).unwrap_or_default();
                Ok(write_whole(&path, &json)?)
            }
        }
    }

    /// Notes that a document is about to be written into a store, or was. That it is about to be is durable when this returns.
    ///
    /// # Errors
    /// When it cannot be noted.
    pub fn note_document(&self, store: &str, app: &str, name: &str, written: bool) -> Result<(), PathError> {
        let folder = self.folder.join("stores").join(store).join("written");
        private_folder(&folder)?;
        let path = folder.join(file_name(app));
        let mut file = OpenOptions::new().append(true).create(true).mode(0o600).open(&path).at(&path)?;
        let mark = if written { '=' } else { '?' };
        // One write, so that lines of commands at the same time do not mix.
        file.write_all(format!("\n{mark}{name}\n").as_bytes()).at(&path)?;
        if !written && name.starts_with("records/") {
            file.sync_data().at(&path)?;
        }
        Ok(())
    }

    /// The documents about an application that this machine wrote into a store.
    pub fn written(&self, store: &str, app: &str) -> WrittenDocuments {
        let path = self.folder.join("stores").join(store).join("written").join(file_name(app));
        let mut written = WrittenDocuments::default();
        for line in fs::read_to_string(path).unwrap_or_default().lines() {
            if let Some(name) = line.strip_prefix('?') {
                written.about.push(name.to_owned());
            } else if let Some(name) = line.strip_prefix('=') {
                written.durable.push(name.to_owned());
            }
        }
        written
    }

    /// The applications that this machine wrote documents about.
    pub fn written_apps(&self, store: &str) -> Vec<String> {
        let folder = self.folder.join("stores").join(store).join("written");
        let entries = fs::read_dir(folder).into_iter().flatten().flatten();
        let mut apps: Vec<String> = entries.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
        apps.sort();
        apps
    }

    /// Takes a new machine id, and forgets what it knew of a store: a machine reuses its own payload only.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn renew_writer(&mut self, store: &str, random: &dyn Random) -> Result<(), StateError> {
        let known = self.place(&["stores", store])?;
        fs::remove_dir_all(&known).at(&known)?;
        self.machine = new_machine(&self.folder.join("machine.json"), random)?;
        Ok(())
    }

    /// Goes on as a machine that a store knows, in a state folder that never wrote to that store.
    ///
    /// # Errors
    /// When it has written there under another id, or cannot be written.
    pub fn adopt_machine(&mut self, machine: &str, store: &str) -> Result<(), StateError> {
        if self.machine == machine {
            return Ok(());
        }
        let path = self.folder.join("machine.json");
        if self.folder.join("stores").join(store).join("written").exists() {
            let why = format!("this machine has written to the store already, as {}", self.machine);
            return Err(StateError::Damaged { path, why });
        }
        write_whole(&path, serde_json::json!({ "machine": machine }).to_string().as_bytes())?;
        self.machine = machine.to_owned();
        Ok(())
    }

    /// The cache of a store.
    ///
    /// # Errors
    /// When its folder cannot be made.
    pub fn cache_path(&self, store: &str) -> Result<PathBuf, StateError> {
        Ok(self.place(&["stores", store])?.join("cache.db"))
    }

    /// Where the index of an application's runs in a store is kept.
    ///
    /// # Errors
    /// When the folder cannot be made.
    pub fn index_path(&self, store: &str, app: &str) -> Result<PathBuf, StateError> {
        Ok(self.index_folder(store)?.join(format!("{}.json", file_name(app))))
    }

    /// The folder of the indexes of a store.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn index_folder(&self, store: &str) -> Result<PathBuf, StateError> {
        self.place(&["stores", store, "index"])
    }

    /// Where the marks of a part's files are kept.
    ///
    /// # Errors
    /// When the folder cannot be made.
    pub fn marks_path(&self, store: &str, app: &str, part: &str) -> Result<PathBuf, StateError> {
        Ok(self.place(&["stores", store, "marks", app])?.join(format!("{}.marks", file_name(part))))
    }

    /// Private space for one run. Whatever an earlier run of the application left behind is removed first; the names
    /// of those runs are given back. Call it only with the application's lock.
    ///
    /// # Errors
    /// When it cannot be made or cleared.
    pub fn scratch(&self, app: &str, run: &str, _lock: &AppLock) -> Result<(PathBuf, Vec<String>), StateError> {
        let folder = self.place(&["scratch", app])?;
        let mut left = Vec::new();
        for entry in fs::read_dir(&folder).at(&folder)? {
            let path = entry.at(&folder)?.path();
            left.extend(path.file_name().map(|name| name.to_string_lossy().into_owned()));
            fs::remove_dir_all(&path).at(&path)?;
        }
        let scratch = folder.join(run);
        private_folder(&scratch)?;
        Ok((scratch, left))
    }

    /// The log of a run's events, open for appending. It lies in a folder of its own until [`State::close_log`].
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn log(&self, app: &str, run: &str) -> Result<(PathBuf, File), StateError> {
        let path = self.place(&["logs", app, OPEN_LOGS])?.join(format!("{run}.jsonl"));
        let file = OpenOptions::new().append(true).create(true).mode(0o600).open(&path).at(&path)?;
        Ok((path, file))
    }

    /// The logs of runs that have not come to their end.
    pub fn open_logs(&self, app: &str) -> Vec<PathBuf> {
        let entries = fs::read_dir(self.folder.join("logs").join(app).join(OPEN_LOGS)).into_iter().flatten().flatten();
        let mut paths: Vec<PathBuf> = entries.map(|entry| entry.path()).collect();
        paths.sort();
        paths
    }

    /// Marks a log as one of a run that has come to its end.
    ///
    /// # Errors
    /// When it cannot be renamed.
    pub fn close_log(&self, path: &Path) -> Result<(), StateError> {
        let above = path.parent().and_then(Path::parent).unwrap_or(Path::new("/"));
        let closed = above.join(path.file_name().unwrap_or_default());
        Ok(fs::rename(path, closed).at(path)?)
    }

    /// Removes the logs of runs that came to their end before a time.
    ///
    /// # Errors
    /// When one cannot be removed.
    pub fn remove_logs(&self, app: &str, before: Timestamp) -> Result<(), StateError> {
        for entry in fs::read_dir(self.folder.join("logs").join(app)).into_iter().flatten().flatten() {
            let (path, metadata) = (entry.path(), entry.metadata());
            let is_log = path.extension().is_some_and(|extension| extension == "jsonl");
            let ended = metadata.and_then(|metadata| metadata.modified()).ok();
            let ended = ended.and_then(|at| Timestamp::try_from(at).ok());
            if is_log && ended.is_some_and(|ended| ended < before) {
                fs::remove_file(&path).at(&path)?;
            }
        }
        Ok(())
    }

    /// Keeps a record that the store could not take.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn keep_waiting(&self, app: &str, name: &str, bytes: &[u8]) -> Result<PathBuf, StateError> {
        let path = self.place(&["waiting", app])?.join(name);
        write_whole(&path, bytes)?;
        Ok(path)
    }

    /// The records of an application, or of all, that wait for the store: application, file name, bytes.
    pub fn waiting(&self, app: Option<&str>) -> Vec<(String, PathBuf)> {
        let folders = fs::read_dir(self.folder.join("waiting")).into_iter().flatten().flatten();
        let mut found = Vec::new();
        for folder in folders {
            let name = folder.file_name().to_string_lossy().into_owned();
            if app.is_some_and(|app| app != name) {
                continue;
            }
            let files = fs::read_dir(folder.path()).into_iter().flatten().flatten().map(|entry| entry.path());
            let json = files.filter(|path| path.extension().is_some_and(|extension| extension == "json"));
            found.extend(json.map(|path| (name.clone(), path)));
        }
        found.sort();
        found
    }
}

/// Makes the first machine id of a state folder. Of several commands that do so at once one wins, and all go on with its.
fn first_writer(path: &Path, random: &dyn Random) -> Result<String, StateError> {
    let temporary = path.with_extension(format!("{}.first", std::process::id()));
    let machine = new_machine(&temporary, random)?;
    let cwd = rustix::fs::CWD;
    match rustix::fs::renameat_with(cwd, &temporary, cwd, path, rustix::fs::RenameFlags::NOREPLACE) {
        Ok(()) => Ok(machine),
        Err(rustix::io::Errno::EXIST) => {
            fs::remove_file(&temporary).at(&temporary)?;
            let bytes = fs::read(path).at(path)?;
            let file: MachineFile = serde_json::from_slice(&bytes)
                .map_err(|error| StateError::Damaged { path: path.to_path_buf(), why: error.to_string() })?;
            Ok(file.machine)
        }
        Err(errno) => Err(PathError::new(path, errno).into()),
    }
}

fn new_machine(path: &Path, random: &dyn Random) -> Result<String, PathError> {
    let machine = random_id(random, 8);
    write_whole(path, serde_json::json!({ "machine": machine }).to_string().as_bytes())?;
    Ok(machine)
}

/// A part's name as a file name: everything but letters, digits, `-`, `_` and `.` is percent-encoded.
pub fn file_name(part: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_' | b'.');
    let encode = |byte| if plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") };
    part.bytes().map(encode).collect()
}

#[cfg(test)]
mod tests;
