//! Second copies: a store that has everything another one has, object by object under the same names, so that it is a store itself.
//!
//! Payload goes first, each file checked by the hash in the record that wrote it, then records, then remarks: a record is in the
//! copy only when everything that its run stands on is there. What was sent is proven to be there before a remark says that the run
//! has a second copy: by the server's own checksum, where it has one; else it is read back, of payload in a far place a sample. A copy
//! that was cut off goes on where it stopped. Nothing is removed from a copy here but objects of another length or contents than their
//! names and records say, which are sent anew.

mod damage;
mod sample;

use std::collections::{BTreeMap, BTreeSet};
use std::io::{Read, Write};
use std::sync::Arc;

use gullet_store::{
    DocumentName, Hash, Hasher, IoPath, Location, PROBES, PayloadFile, STORE_FILE, Store, StoreError, hash_of,
    is_unused,
};
use serde::Serialize;

use crate::locks::{LockReport, keep_locked};
use crate::logbook::{Logbook, Logged};
use crate::parallel;
use gullet_host::state::{ProvenDocuments, State, StateError, SweepLock};
use gullet_host::world::World;
use gullet_model::definition::Share;
use gullet_model::ids::RunId;
use gullet_model::outcome::Outcome;
use gullet_model::record::{Remark, RemarkKind};
use gullet_model::words::{chain, count};

pub use damage::{DamagedCopy, NotNoted};
use sample::Sample;
pub use sample::USUAL_SAMPLE;

/// What is no document: payload goes before, and what a store is tried with goes again at once.
const NO_DOCUMENTS: [&str; 2] = ["payload/", PROBES];
/// Payload files that are sent to a far place at the same time: each is in memory as a whole.
const PAYLOAD_AT_ONCE: usize = 2;
/// The same of documents.
const DOCUMENTS_AT_ONCE: usize = 8;
/// Bytes that are sent at once.
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
        /// The place that has another store.
        place: String,
    },
    /// There is something that is no store.
    #[error("{place} is not empty and no store, so nothing is copied there")]
    NotEmpty {
        /// The place that has something else.
        place: String,
    },
    /// There is nothing at the place, and nobody said that it is to be made.
    #[error("there is no copy at {place}")]
    NoCopy {
        /// The place that has nothing.
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
    /// The bytes that were sent.
    pub bytes: u64,
    /// Bytes that were there already and had not been read back yet.
    pub bytes_read_back: u64,
    /// Runs of this machine that have a second copy now and had none before.
    pub runs: Vec<RunId>,
    /// Objects that could not be copied, with the reason; what needs them has no second copy.
    pub problems: Vec<(String, String)>,
    /// What was locked at a place that locks.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub locks: Option<LockReport>,
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
    /// How much of a payload file is read back at a far place that does not say by itself what arrived.
    pub sample: Share,
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
        // The documents before the logbook: what is written meanwhile is sent by the next call, with the payload that it needs.
        let documents = self.from.location().names("")?;
        let book = Logbook::read(self.from, None, Some(self.state))?;
        let proven = self.state.proven_documents(&self.from.info().id, &self.to.address());
        let there = &self.there()?;
        let mut sending = Sending { proven, bad: BTreeSet::new(), report: CopyReport::default() };
        self.payload(&book, there, &mut sending, progress)?;
        // A record that cannot be read may stand on anything.
        for (name, why) in book.unreadable.iter().filter(|(name, _)| name.starts_with("records/")) {
            sending.report.problems.push((name.clone(), why.clone()));
            sending.bad.insert(name.clone());
        }
        let lacking = lacking(&book, &documents, &sending.bad);
        // The store's own file was compared when the place was looked at.
        let is_sendable = |name: &&String| {
            let is_document = *name != STORE_FILE && !NO_DOCUMENTS.iter().any(|folder| name.starts_with(folder));
            is_document && !lacking.contains(name.as_str())
        };
        self.documents(documents.iter().filter(is_sendable), there, &mut sending)?;
        if let Some(name) = self.name {
            for logged in own_runs(&book, self.state.machine()).filter(|logged| !logged.is_copied(name)) {
                if lacking.contains(logged.name.as_str()) || !self.has(&logged.name, &mut sending)? {
                    continue;
                }
                self.remark(logged, name)?;
                let folder = format!("remarks/{}/{}/{}/", logged.record.app, logged.record.machine, logged.record.run);
                let said = self.from.location().names(&folder)?;
                let is_of_this = |name: &&String| is_remark(name, RemarkKind::Copied);
                self.documents(said.iter().filter(is_of_this), there, &mut sending)?;
                sending.report.runs.push(logged.record.run.clone());
            }
        }
        let copied = |logged: &&Logged| sending.report.runs.contains(&logged.record.run);
        let copied: Vec<_> =
            book.runs.iter().filter(copied).map(|logged| (logged.name.as_str(), logged.holdings())).collect();
        let (store, now) = (&self.from.info().id, self.world.clock.now());
        sending.report.locks = keep_locked(self.to.as_ref(), store, &copied, self.state, now)?;
        Ok(sending.report)
    }

    /// What the copy has, with its lengths.
    fn there(&self) -> Result<BTreeMap<String, u64>, CopyError> {
        Ok(self.to.list("")?.into_iter().map(|object| (object.name, object.length)).collect())
    }

    fn is_over(&self) -> bool {
        self.world.stop.asked().is_some()
    }

    /// Makes the place of the copy the same store, where nothing is there yet.
    fn prepare(&self) -> Result<(), CopyError> {
        let info = self.from.location().read(STORE_FILE)?;
        let place = self.to.describe();
        match self.to.read(STORE_FILE) {
            Ok(there) if there == info => Ok(()),
            Ok(_) => Err(CopyError::OtherStore { place }),
            Err(StoreError::Missing { .. }) if !is_unused(self.to.as_ref())? => Err(CopyError::NotEmpty { place }),
            Err(StoreError::Missing { .. }) if !self.may_make => Err(CopyError::NoCopy { place }),
            Err(StoreError::Missing { .. }) => {
                self.to.prepare()?;
                Ok(self.to.write(STORE_FILE, &info)?)
            }
            Err(error) => Err(error.into()),
        }
    }

    /// Sends the payload that runs stand on.
    fn payload(
        &self,
        book: &Logbook,
        there: &BTreeMap<String, u64>,
        sending: &mut Sending,
        progress: &mut dyn FnMut(u64, u64),
    ) -> Result<(), CopyError> {
        let known = book.payload_files();
        let needed = book.payload_needed(|logged| logged.in_store);
        // What a run with a second copy stands on was read back when that was said.
        let proven = self.name.map(|name| book.payload_needed(|logged| logged.is_copied(name))).unwrap_or_default();
        let is_done = |name: &String, length: &u64| there.get(name) == Some(length) && proven.contains_key(name);
        let left: Vec<(&String, u64)> = needed
            .iter()
            .filter(|(name, length)| !is_done(name, length))
            .map(|(name, length)| (name, *length))
            .collect();
        let (total, mut done) = (left.iter().map(|(_, length)| length).sum(), 0);
        progress(done, total);
        let send = |(name, length): &(&String, u64)| match known.get(name.as_str()) {
            Some(file) if file.length == *length => self.payload_file(file, there),
            _ => Err(damaged(name, "no record says what its bytes are")),
        };
        let threads = if self.to.is_far() { PAYLOAD_AT_ONCE } else { 1 };
        parallel::each(threads, left.into_iter().map(|file| vec![file]).collect(), send, |(name, length), sent| {
            self.note(name, sent, sending)?;
            done += length;
            progress(done, total);
            Ok(())
        })
    }

    /// Notes of an object that it could not be sent. Where the copy itself cannot be written it makes no sense to go on.
    fn note(&self, name: &str, sent: Result<SentObject, StoreError>, sending: &mut Sending) -> Result<(), CopyError> {
        let error = match sent {
            Ok(sent) => {
                sending.report.objects += sent.objects;
                sending.report.bytes += sent.bytes;
                sending.report.bytes_read_back += sent.bytes_read_back;
                return Ok(());
            }
            Err(error) => error,
        };
        if matches!(error, StoreError::Stopped) {
            return Err(CopyError::Stopped);
        }
        self.to.confirm()?;
        if error.is_full() {
            return Err(error.into());
        }
        sending.report.problems.push((name.to_owned(), chain(&error)));
        sending.bad.insert(name.to_owned());
        Ok(())
    }

    fn payload_file(&self, file: &PayloadFile, there: &BTreeMap<String, u64>) -> Result<SentObject, StoreError> {
        let there = there.get(&file.name).copied();
        if there == Some(file.length) && self.read_back(&file.name)? == file.blake3 {
            return Ok(SentObject { bytes_read_back: file.length, ..SentObject::default() });
        }
        if there.is_some() {
            self.to.remove(&file.name)?;
        }
        let sample = self.is_sampled().then(|| Sample::new(file.length, self.sample));
        self.send(&file.name, Some(file.blake3), sample)
    }

    /// Whether of a payload file only a part is read back.
    fn is_sampled(&self) -> bool {
        self.to.is_far() && !self.to.checks_what_arrives() && self.sample.0 < 100.0
    }

    /// Sends one object, and where the place does not check what arrives reads it back, or the sample of it. One that another sender
    /// brought there meanwhile is left as it is, and must be the same.
    fn send(&self, name: &str, blake3: Option<Hash>, mut sample: Option<Sample>) -> Result<SentObject, StoreError> {
        let mut source = self.from.location().open(name)?;
        let mut object = match self.to.create(name) {
            Err(StoreError::Exists { .. }) => {
                let found = hash_of(self.from.location().as_ref(), name, &|| self.is_over())?;
                return self.brought_meanwhile(name, found);
            }
            other => other?,
        };
        let (mut hasher, mut piece, mut length) = (Hasher::default(), vec![0; PIECE], 0);
        loop {
            if self.is_over() {
                return Err(StoreError::Stopped);
            }
            let read = source.read(&mut piece).at(name)?;
            if read == 0 {
                break;
            }
            hasher.update(&piece[..read]);
            if let Some(sample) = &mut sample {
                sample.hear(length, &piece[..read]);
            }
            object.write_all(&piece[..read]).at(self.to.describe())?;
            length += read as u64;
        }
        let found = hasher.finish();
        // What is damaged here does not spread.
        if blake3.is_some_and(|wanted| wanted != found) {
            return Err(damaged(name, "its bytes are not those that its record or its name says: it is not copied"));
        }
        match object.publish(found) {
            Err(StoreError::Exists { .. }) => return self.brought_meanwhile(name, found),
            other => other?,
        }
        let arrived = match &sample {
            _ if self.to.checks_what_arrives() => true,
            Some(sample) => sample.is_at(self.to.as_ref(), name, &|| self.is_over())?,
            None => self.read_back(name)? == found,
        };
        if !arrived {
            self.to.remove(name)?;
            return Err(damaged(name, "it was read back differently from the copy, and removed there"));
        }
        Ok(SentObject { objects: 1, bytes: length, bytes_read_back: 0 })
    }

    fn brought_meanwhile(&self, name: &str, wanted: Hash) -> Result<SentObject, StoreError> {
        if self.read_back(name)? == wanted {
            return Ok(SentObject::default());
        }
        Err(damaged(name, "the copy has it with other bytes"))
    }

    /// The hash of an object as the copy has it.
    fn read_back(&self, name: &str) -> Result<Hash, StoreError> {
        hash_of(self.to.as_ref(), name, &|| self.is_over())
    }

    /// Sends documents that the copy does not have. What another stands on goes first: records before remarks, and those of one
    /// machine or of one run in their order.
    fn documents<'n>(
        &self,
        names: impl Iterator<Item = &'n String>,
        there: &BTreeMap<String, u64>,
        sending: &mut Sending,
    ) -> Result<(), CopyError> {
        // Where a store is made anew or mended from a copy, all of it is read.
        let is_done = |name: &str| self.name.is_some() && there.contains_key(name) && sending.proven.has(name);
        let mut kinds: BTreeMap<&str, BTreeMap<&str, Vec<&String>>> = BTreeMap::new();
        for name in names.filter(|name| !is_done(name)) {
            let kind = name.split('/').next().unwrap_or_default();
            let folder = name.rsplit_once('/').map_or("", |(folder, _)| folder);
            kinds.entry(kind).or_default().entry(folder).or_default().push(name);
        }
        let threads = if self.to.is_far() { DOCUMENTS_AT_ONCE } else { 1 };
        for folders in kinds.into_values() {
            let send = |name: &&String| self.document(name, there);
            parallel::each(threads, folders.into_values().collect(), send, |name, sent| {
                if sent.is_ok() {
                    sending.proven.note(name).map_err(StoreError::from)?;
                }
                self.note(name, sent, sending)
            })?;
        }
        Ok(())
    }

    /// Sends one document, or reads back what is there under its name: an earlier call may have been stopped before it could remove
    /// what had arrived damaged.
    fn document(&self, name: &str, there: &BTreeMap<String, u64>) -> Result<SentObject, StoreError> {
        let hash = hash_in(name);
        if let Some(length) = there.get(name) {
            let found = self.read_back(name)?;
            if hash.is_none_or(|hash| hash == found) {
                return Ok(SentObject { bytes_read_back: *length, ..SentObject::default() });
            }
            self.to.remove(name)?;
        }
        self.send(name, hash, None)
    }

    /// Whether the copy has a record, read back.
    fn has(&self, record: &str, sending: &mut Sending) -> Result<bool, CopyError> {
        if sending.bad.contains(record) {
            return Ok(false);
        }
        let found = self.read_back(record).and_then(|found| match hash_in(record) == Some(found) {
            true => Ok(SentObject::default()),
            false => Err(damaged(record, "the copy has it with other bytes")),
        });
        let is_there = found.is_ok();
        self.note(record, found, sending)?;
        Ok(is_there)
    }

    /// Says of a run that it has a second copy.
    fn remark(&self, logged: &Logged, name: &str) -> Result<(), CopyError> {
        let files = count(logged.holdings().files().count() as u64, "payload file");
        let proven = match self.to.checks_what_arrives() {
            true => "every byte checked there".to_owned(),
            false if self.is_sampled() => format!("about {} of each read back there", self.sample),
            false => "every byte read back there".to_owned(),
        };
        let text = format!("copied to {name} at {}: {files}, {proven}", self.to.describe());
        let remark = logged.remark(self.world.clock.now(), RemarkKind::Copied, Outcome::Complete, text);
        let remark = Remark { copy: Some(name.to_owned()), ..remark };
        Ok(logged.store_remark(&remark, self.from, Some(self.state))?)
    }
}

impl Logged {
    /// Whether the run has a copy of this name, by what was said of it last.
    pub fn is_copied(&self, copy: &str) -> bool {
        let kinds = [RemarkKind::Copied, RemarkKind::CopyDamaged];
        let is_meant = |remark: &&Remark| kinds.contains(&remark.what) && remark.copy.as_deref() == Some(copy);
        self.remarks.iter().rfind(is_meant).is_some_and(|remark| remark.what == RemarkKind::Copied)
    }
}

/// What became of one object.
#[derive(Default)]
struct SentObject {
    /// Objects that were sent: it, or none.
    objects: u64,
    bytes: u64,
    bytes_read_back: u64,
}

/// What is known while a copy is made.
struct Sending {
    /// Documents that were read back there.
    proven: ProvenDocuments,
    /// What could not be sent.
    bad: BTreeSet<String>,
    report: CopyReport,
}

fn damaged(name: &str, what: &str) -> StoreError {
    StoreError::Damaged { name: name.to_owned(), what: what.to_owned() }
}

/// The hash that a document's name ends in.
fn hash_in(name: &str) -> Option<Hash> {
    DocumentName::parse(name)?.hash()
}

/// Whether a name is one of a remark of a kind.
fn is_remark(name: &str, kind: RemarkKind) -> bool {
    let end = format!("-{}", kind.word());
    DocumentName::parse(name).is_some_and(|name| name.as_str().starts_with("remarks/") && name.stem().ends_with(&end))
}

/// Records that must not be sent now: of runs whose payload is not all in the copy, of those that were given up since the documents
/// were listed, so that the copy would not hear of it, and of those that came since.
fn lacking<'n>(book: &'n Logbook, documents: &'n [String], bad: &BTreeSet<String>) -> BTreeSet<&'n str> {
    let listed_thinned: BTreeSet<&str> = documents
        .iter()
        .filter(|name| is_remark(name, RemarkKind::Thinned))
        .filter_map(|name| name.strip_prefix("remarks/")?.rsplit_once('/').map(|(folder, _)| folder))
        .collect();
    let lacks = |logged: &&Logged| match logged.is_thinned() {
        true => {
            let record = &logged.record;
            !listed_thinned.contains(format!("{}/{}/{}", record.app, record.machine, record.run).as_str())
        }
        false => logged.holdings().files().any(|(name, _)| bad.contains(name)),
    };
    let listed: BTreeSet<&str> = documents.iter().map(String::as_str).collect();
    let lacks = |logged: &&Logged| !listed.contains(logged.name.as_str()) || lacks(logged);
    let of_runs = book.runs.iter().filter(lacks).map(|logged| logged.name.as_str());
    of_runs.chain(documents.iter().map(String::as_str).filter(|name| bad.contains(*name))).collect()
}

/// Runs of a machine in the store that have something to copy.
fn own_runs<'b>(book: &'b Logbook, machine: &'b str) -> impl Iterator<Item = &'b Logged> {
    book.runs.iter().filter(move |logged| {
        logged.in_store
            && logged.record.machine == machine
            && !logged.is_thinned()
            && logged.record.captures.iter().any(|capture| capture.listing.is_some())
    })
}

/// Finds the payload of a machine in a copy that no run there stands on any more; with `lock` removes it. The copy's own records and
/// remarks say so, never that the first store lacks it. The lock keeps copying away, which counts on what is there.
///
/// # Errors
/// When the copy cannot be read whole, and nothing is removed then; or an object cannot be removed.
pub fn sweep(copy: &Store, machine: &str, lock: Option<&SweepLock>) -> Result<Vec<(String, u64)>, StoreError> {
    let book = Logbook::read(copy, None, None)?;
    if let Some((name, why)) = book.unreadable.first() {
        return Err(StoreError::Damaged { name: name.clone(), what: why.clone() });
    }
    let needed = book.payload_needed(|logged| logged.in_store);
    // What no document there speaks of may be on its way.
    let known = book.payload_files();
    let objects = copy.location().list(&format!("payload/{machine}/"))?.into_iter();
    let unneeded =
        objects.filter(|object| known.contains_key(object.name.as_str()) && !needed.contains_key(&object.name));
    let unneeded: Vec<(String, u64)> = unneeded.map(|object| (object.name, object.length)).collect();
    if lock.is_some() {
        for (name, _) in &unneeded {
            copy.location().remove(name)?;
        }
    }
    Ok(unneeded)
}
