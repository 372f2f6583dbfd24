//! Second copies: a store that has everything another one has, object by object under the same names, so that it is a store itself.
//!
//! Payload goes first, each file checked by the hash in the record that wrote it, then records, then remarks: a record is in the
//! copy only when everything that its run stands on is there. What was sent is read back there before a remark says that the run
//! has a second copy. A copy that was cut off goes on where it stopped. Nothing is removed from a copy here but objects of another
//! length or contents than their names and records say, which are sent anew.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{Read, Write};
use std::sync::Arc;

use gullet_store::{DocumentName, Hash, Hasher, Location, PayloadFile, Store, StoreError};
use serde::Serialize;

use crate::logbook::{Logbook, Logged};
use gullet_host::state::{State, StateError};
use gullet_host::world::World;
use gullet_model::ids::RunId;
use gullet_model::outcome::Outcome;
use gullet_model::record::{Remark, RemarkKind};
use gullet_model::words::{chain, count};

/// The object that says which store it is.
const STORE_FILE: &str = "store.json";
/// Bytes that are sent or read back at once.
const PIECE: usize = 1 << 20;

/// A copy could not be made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CopyError {
    /// One of the two places cannot be used.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The state folder cannot be used.
    #[error(transparent)]
    State(#[from] StateError),
    /// There is another store at the place of the copy.
    #[error("there is another store at {place}, so it cannot become a copy of this one")]
    OtherStore {
        /// The place.
        place: String,
    },
    /// There is something that is no store.
    #[error("{place} is not empty and no store, so nothing is copied there")]
    NotEmpty {
        /// The place.
        place: String,
    },
    /// There is nothing at the place, and nobody said that it is to be made.
    #[error("there is no copy at {place}")]
    NoCopy {
        /// The place.
        place: String,
    },
    /// A sweep is going on, which removes what is to be copied.
    #[error("a sweep is going on; try again when it is done")]
    Swept,
    /// Somebody asked to stop.
    #[error("stopped before everything was copied; the next one goes on from here")]
    Stopped,
}

/// What one call copied.
#[derive(Clone, Debug, Default, Serialize)]
pub struct CopyReport {
    /// Objects that were sent.
    pub objects: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Bytes that were there already and had not been read back yet.
    pub bytes_read_back: u64,
    /// Runs of this machine that have a second copy now and had none before.
    pub runs: Vec<RunId>,
    /// Objects that could not be copied, with the reason; what needs them has no second copy.
    pub problems: Vec<(String, String)>,
}

/// One store that is copied to a place.
pub struct Copying<'a> {
    /// The store that is copied.
    pub from: &'a Store,
    /// The place of the copy.
    pub to: Arc<dyn Location>,
    /// The name of the copy in the definition; none where no remark is to say that it was made.
    pub name: Option<&'a str>,
    /// Whether the place may be made the same store where nothing is there; else a missing mount would be taken for a new place.
    pub may_make: bool,
    /// The local state.
    pub state: &'a State,
    /// The outside world.
    pub world: World<'a>,
}

impl Copying<'_> {
    /// Sends everything that the copy does not have. `progress` is told the bytes that are done, and how many there are.
    ///
    /// # Errors
    /// When one of the places cannot be used. Single objects that cannot be copied are in the report.
    pub fn copy(&self, progress: &mut dyn FnMut(u64, u64)) -> Result<CopyReport, CopyError> {
        let _lock = self.state.keep_sweeps_away()?.ok_or(CopyError::Swept)?;
        self.prepare()?;
        self.state.recognise_store(&self.to.describe(), &self.from.info().id)?;
        let mut report = CopyReport::default();
        let book = Logbook::read(self.from, None, Some(self.state))?;
        let bad = self.payload(&book, &mut report, progress)?;
        self.documents(&book, &bad, &mut report)?;
        if let Some(name) = self.name {
            for logged in book.own_copied(&bad, name, self.state.machine()) {
                self.remark(logged, name)?;
                report.runs.push(logged.record.run.clone());
            }
            if !report.runs.is_empty() {
                self.documents(&book, &bad, &mut report)?;
            }
        }
        Ok(report)
    }

    /// Makes the place of the copy the same store, where nothing is there yet.
    fn prepare(&self) -> Result<(), CopyError> {
        let info = self.from.location().read(STORE_FILE)?;
        let place = self.to.describe();
        match self.to.read(STORE_FILE) {
            Ok(there) if there == info => Ok(()),
            Ok(_) => Err(CopyError::OtherStore { place }),
            Err(StoreError::Missing { .. }) if !self.to.names("")?.is_empty() => Err(CopyError::NotEmpty { place }),
            Err(StoreError::Missing { .. }) if !self.may_make => Err(CopyError::NoCopy { place }),
            Err(StoreError::Missing { .. }) => {
                self.to.prepare()?;
                Ok(self.to.write(STORE_FILE, &info)?)
            }
            Err(error) => Err(error.into()),
        }
    }

    /// Sends the payload that runs stand on; gives the names of what is not there.
    fn payload(
        &self,
        book: &Logbook,
        report: &mut CopyReport,
        progress: &mut dyn FnMut(u64, u64),
    ) -> Result<BTreeSet<String>, CopyError> {
        let there: BTreeMap<String, u64> =
            self.to.list("payload/")?.into_iter().map(|object| (object.name, object.length)).collect();
        let known = book.payload_files();
        let needed = book.payload_needed(|logged| !logged.is_thinned());
        // What a run with a second copy stands on was read back when that was said.
        let proven = self.name.map(|name| book.payload_needed(|logged| logged.is_copied(name))).unwrap_or_default();
        let is_done = |name: &String, length: &u64| there.get(name) == Some(length) && proven.contains_key(name);
        let left: Vec<(&String, &u64)> = needed.iter().filter(|(name, length)| !is_done(name, length)).collect();
        let total = left.iter().map(|(_, length)| **length).sum();
        let (mut bad, mut done) = (BTreeSet::new(), 0);
        for (name, length) in left {
            if self.world.stop.asked().is_some() {
                return Err(CopyError::Stopped);
            }
            progress(done, total);
            let copied = match known.get(name.as_str()) {
                Some(file) if file.length == *length => self.payload_file(file, there.get(name).copied(), report),
                _ => Err(StoreError::Damaged {
                    name: name.clone(),
                    what: "no record says what its bytes are".to_owned(),
                }),
            };
            if let Err(error) = copied {
                // Where the copy itself cannot be written it makes no sense to go on.
                self.to.confirm()?;
                if error.is_full() {
                    return Err(error.into());
                }
                report.problems.push((name.clone(), chain(&error)));
                bad.insert(name.clone());
            }
            done += length;
        }
        progress(total, total);
        Ok(bad)
    }

    fn payload_file(&self, file: &PayloadFile, there: Option<u64>, report: &mut CopyReport) -> Result<(), StoreError> {
        if there == Some(file.length) && self.read_back(&file.name)? == file.blake3 {
            report.bytes_read_back += file.length;
            return Ok(());
        }
        if there.is_some() {
            self.to.remove(&file.name)?;
        }
        self.send(&file.name, Some(file.blake3), report)
    }

    /// Sends one object, and reads it back. An object that is there already is left as it is.
    fn send(&self, name: &str, blake3: Option<Hash>, report: &mut CopyReport) -> Result<(), StoreError> {
        let mut source = self.from.location().open(name)?;
        let mut object = match self.to.create(name) {
            Err(StoreError::Exists { .. }) => return Ok(()),
            other => other?,
        };
        let (mut hasher, mut piece, mut length) = (Hasher::default(), vec![0; PIECE], 0);
        let failed = |error: std::io::Error| StoreError::Damaged { name: name.to_owned(), what: error.to_string() };
        loop {
            let read = source.read(&mut piece).map_err(failed)?;
            if read == 0 {
                break;
            }
            hasher.update(&piece[..read]);
            object
                .write_all(&piece[..read])
                .map_err(|error| StoreError::from(gullet_store::PathError::new(self.to.describe(), error)))?;
            length += read as u64;
        }
        let found = hasher.finish();
        // What is damaged here does not spread.
        if blake3.is_some_and(|wanted| wanted != found) {
            let what = "its bytes are not those that its record or its name says: it is not copied".to_owned();
            return Err(StoreError::Damaged { name: name.to_owned(), what });
        }
        match object.publish(found) {
            Err(StoreError::Exists { .. }) => return Ok(()),
            other => other?,
        }
        if self.read_back(name)? != found {
            self.to.remove(name)?;
            let what = "it was read back differently from the copy, and removed there".to_owned();
            return Err(StoreError::Damaged { name: name.to_owned(), what });
        }
        report.objects += 1;
        report.bytes += length;
        Ok(())
    }

    /// The hash of an object as the copy has it.
    fn read_back(&self, name: &str) -> Result<Hash, StoreError> {
        let (mut object, mut hasher, mut piece) = (self.to.open(name)?, Hasher::default(), vec![0; PIECE]);
        loop {
            let read = object.read(&mut piece).map_err(|error| StoreError::Damaged {
                name: name.to_owned(),
                what: format!("it cannot be read back from the copy: {error}"),
            })?;
            if read == 0 {
                return Ok(hasher.finish());
            }
            hasher.update(&piece[..read]);
        }
    }

    /// Sends what is no payload; a record only when all that its run stands on is there.
    fn documents(&self, book: &Logbook, bad: &BTreeSet<String>, report: &mut CopyReport) -> Result<(), CopyError> {
        let there: BTreeSet<String> = self.to.names("")?.into_iter().collect();
        let lacking: BTreeSet<&str> = book.lacking(bad).map(|logged| logged.name.as_str()).collect();
        for name in self.from.location().names("")? {
            if name.starts_with("payload/") || lacking.contains(name.as_str()) {
                continue;
            }
            let hash = DocumentName::parse(&name).and_then(|document| document.hash());
            let sent = match there.contains(&name) {
                true if self.is_damaged_there(&name, hash) => {
                    self.to.remove(&name).and_then(|()| self.send(&name, hash, report))
                }
                true => continue,
                false => self.send(&name, hash, report),
            };
            if let Err(error) = sent {
                self.to.confirm()?;
                if error.is_full() {
                    return Err(error.into());
                }
                if !report.problems.iter().any(|(known, _)| *known == name) {
                    report.problems.push((name, chain(&error)));
                }
            }
        }
        Ok(())
    }

    /// Whether a document has other bytes in the place than its name says. Asked where a store is made anew or mended from a copy:
    /// every other time it would cost reading all of them.
    fn is_damaged_there(&self, name: &str, hash: Option<Hash>) -> bool {
        self.name.is_none() && hash.is_some_and(|hash| self.read_back(name).is_ok_and(|found| found != hash))
    }

    /// Says of a run that it has a second copy.
    fn remark(&self, logged: &Logged, name: &str) -> Result<(), CopyError> {
        let files = count(logged.payload_names().count() as u64, "payload file");
        let text = format!("copied to {name} at {}: {files}, every byte read back there", self.to.describe());
        let remark = logged.remark(self.world.clock.now(), RemarkKind::Copied, Outcome::Complete, text);
        let remark = Remark { copy: Some(name.to_owned()), ..remark };
        Ok(logged.store_remark(&remark, self.from, Some(self.state))?)
    }
}

impl Logged {
    /// Whether a remark says that the run has a copy of this name.
    pub fn is_copied(&self, copy: &str) -> bool {
        let is_meant = |remark: &Remark| remark.what == RemarkKind::Copied && remark.copy.as_deref() == Some(copy);
        self.remarks.iter().any(is_meant)
    }

    /// The payload files that it stands on.
    fn payload_names(&self) -> impl Iterator<Item = (String, u64)> {
        let holdings = self.holdings();
        let needs = holdings.needs.into_iter().map(|need| (need.name, need.length));
        holdings.wrote.into_iter().map(|file| (file.name, file.length)).chain(needs)
    }

    fn has_captures(&self) -> bool {
        self.record.captures.iter().any(|capture| capture.listing.is_some()) || self.payload_names().next().is_some()
    }
}

impl Logbook {
    /// Every payload file that a record or a remark describes.
    fn payload_files(&self) -> BTreeMap<&str, &PayloadFile> {
        let moved = self.runs.iter().flat_map(|logged| &logged.remarks).flat_map(|remark| &remark.moved);
        let wrote = self.runs.iter().flat_map(|logged| &logged.record.holdings.wrote);
        wrote.chain(moved.map(|moved| &moved.to)).map(|file| (file.name.as_str(), file)).collect()
    }

    /// The payload that certain runs stand on, with its lengths.
    fn payload_needed(&self, which: impl Fn(&Logged) -> bool) -> BTreeMap<String, u64> {
        let standing = self.runs.iter().filter(|logged| logged.in_store && !logged.is_thinned() && which(logged));
        standing.flat_map(Logged::payload_names).collect()
    }

    /// Runs that stand on payload which is not in the copy.
    fn lacking<'b>(&'b self, bad: &'b BTreeSet<String>) -> impl Iterator<Item = &'b Logged> {
        let lacks =
            |logged: &&Logged| !logged.is_thinned() && logged.payload_names().any(|(name, _)| bad.contains(&name));
        self.runs.iter().filter(lacks)
    }

    /// Runs of a machine that are in the copy now and are not said to be.
    fn own_copied<'b>(
        &'b self,
        bad: &'b BTreeSet<String>,
        name: &'b str,
        machine: &'b str,
    ) -> impl Iterator<Item = &'b Logged> {
        let lacking: BTreeSet<&str> = self.lacking(bad).map(|logged| logged.name.as_str()).collect();
        self.runs.iter().filter(move |logged| {
            logged.in_store
                && logged.record.machine == machine
                && !logged.is_thinned()
                && logged.has_captures()
                && !logged.is_copied(name)
                && !lacking.contains(logged.name.as_str())
        })
    }
}

/// Payload of a machine in a copy that no run there stands on any more: by the copy's own records and remarks, never because
/// the first store lacks it.
///
/// # Errors
/// When the copy cannot be read whole; nothing is to be removed then.
pub fn unneeded(copy: &Store, machine: &str) -> Result<Vec<(String, u64)>, StoreError> {
    let book = Logbook::read(copy, None, None)?;
    if let Some((name, why)) = book.unreadable.first() {
        return Err(StoreError::Damaged { name: name.clone(), what: why.clone() });
    }
    let needed = book.payload_needed(|_| true);
    // Of a run whose record is not there the payload may be on its way.
    let recorded: BTreeSet<String> =
        book.runs.iter().map(|logged| format!("payload/{}/{}/", logged.record.machine, logged.record.run)).collect();
    let objects = copy.location().list(&format!("payload/{machine}/"))?;
    let is_recorded = |name: &str| name.rfind('/').is_some_and(|at| recorded.contains(&name[..=at]));
    let unneeded = objects.into_iter().filter(|object| !needed.contains_key(&object.name) && is_recorded(&object.name));
    Ok(unneeded.map(|object| (object.name, object.length)).collect())
}
