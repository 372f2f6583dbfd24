//! All runs as a list shows them, read through an index in the state folder: a run that was read once is not read again.
//!
//! What the index says of a run may be believed for as long as the names of its record and its remarks are the same, because the
//! hash of a document's bytes is in its name, and documents are never changed. That a document is still intact the index cannot
//! say; `verify` can, and so can every command that reads the run itself. The index holds only what this machine can read without
//! being given an identity, and is made anew where it is missing, damaged or of another version.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs;
use std::path::{Path, PathBuf};

use gullet_store::{DocumentName, Store, StoreError};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::order::{self, Ordered};
use super::{Logbook, Logged, NotedBefore, each_document, read_remark, read_run};
use gullet_host::state::{State, file_name, write_whole};
use gullet_model::ids::RunId;
use gullet_model::outcome::Outcome;
use gullet_model::problem::ProblemKind;
use gullet_model::record::Remark;

/// The version of the index; one of another version is made anew.
const INDEX_VERSION: u32 = 1;

/// One run as a list shows it: drawn from its record and its remarks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RunLine {
    /// The run's id.
    pub run: RunId,
    /// The name of the application.
    pub app: String,
    /// The worse of the record and what was found out later.
    pub outcome: Outcome,
    /// When the run began.
    pub started: Timestamp,
    /// When its record was written.
    pub ended: Timestamp,
    /// How long the application was held, in milliseconds.
    pub held_ms: Option<u64>,
    /// How many parts were captured.
    pub parts: usize,
    /// Files in all captures.
    pub files: u64,
    /// Bytes in all captures.
    pub bytes: u64,
    /// Stored bytes that the run added to the store.
    pub bytes_stored: u64,
    /// Whether it was narrowed to some parts.
    pub partial: bool,
    /// Why, where somebody said so.
    pub reason: Option<String>,
    /// The first cause, in words.
    pub cause: Option<String>,
    /// The kinds of its causes.
    pub causes: Vec<ProblemKind>,
    /// The kinds of its warnings.
    pub warnings: Vec<ProblemKind>,
    /// What started it.
    pub trigger: String,
    /// Whether the record is in the store.
    pub in_store: bool,
    /// Whether its captures were removed.
    pub thinned: bool,
    /// When everything was last read back and found intact.
    pub verified: Option<Timestamp>,
    /// When it was last proven by a drill.
    pub proven: Option<Timestamp>,
    /// Whether it is marked to stay.
    pub kept: bool,
    /// The name of the machine's host.
    pub host: String,
    /// The id of the machine that ran it.
    pub machine: String,
    /// The record's name in the store, or its path where it waits for the store.
    pub record: String,
}

impl From<&Logged> for RunLine {
    fn from(logged: &Logged) -> Self {
        let record = &logged.record;
        Self {
            run: record.run.clone(),
            app: record.app.clone(),
            outcome: logged.outcome(),
            started: record.started,
            ended: record.ended,
            held_ms: record.hold.held_ms,
            parts: record.captures.iter().filter(|capture| capture.is_captured()).count(),
            files: record.files(),
            bytes: record.bytes(),
            bytes_stored: record.bytes_stored(),
            partial: record.partial,
            reason: record.reason.clone(),
            cause: record.causes.first().map(|cause| cause.text.clone()),
            causes: record.causes.iter().map(|cause| cause.kind).collect(),
            warnings: record.warnings.iter().map(|warning| warning.kind).collect(),
            trigger: record.trigger.clone(),
            in_store: logged.in_store,
            thinned: logged.is_thinned(),
            verified: logged.verified(),
            proven: logged.proven(),
            kept: logged.is_kept(),
            host: record.host.name.clone(),
            machine: record.machine.clone(),
            record: logged.name.clone(),
        }
    }
}

impl RunLine {
    /// Whether the run can stand for the application; as [`Logged::is_good`].
    pub fn is_good(&self) -> bool {
        self.in_store && !self.partial && !self.thinned && self.outcome.is_whole()
    }
}

/// What the index knows of a run.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct Indexed {
    line: RunLine,
    /// The record before it.
    previous: Option<String>,
    /// The remarks that it was drawn from: their names without the folder.
    remarks: Vec<String>,
}

impl Ordered for Indexed {
    fn name(&self) -> &str {
        &self.line.record
    }

    fn previous(&self) -> Option<&str> {
        self.previous.as_deref()
    }

    fn started(&self) -> Timestamp {
        self.line.started
    }

    fn run(&self) -> &RunId {
        &self.line.run
    }
}

#[derive(Serialize, Deserialize)]
struct IndexFile {
    index: u32,
    runs: Vec<Indexed>,
}

/// All runs of a store as a list shows them.
#[derive(Debug, Default)]
pub struct RunList {
    /// The runs, oldest first, in the order of a [`Logbook`].
    pub runs: Vec<RunLine>,
    /// Documents that are damaged or cannot be read, with the reason.
    pub unreadable: Vec<(String, String)>,
    /// Documents that must be there and are not, with what knows of them.
    pub missing: Vec<(String, String)>,
    /// How many of the runs are encrypted, and no identity at hand opens them.
    pub locked: u64,
    /// The machine that reads.
    pub machine: Option<String>,
}

impl RunList {
    /// Reads the list of a store's runs, and of those that wait for the store. Where there is no state folder every record is
    /// read.
    ///
    /// # Errors
    /// When the store cannot be listed. Documents that cannot be read are listed, not fatal.
    pub fn read(store: &Store, app: Option<&str>, state: Option<&State>) -> Result<Self, StoreError> {
        let below = |folder: &str| app.map_or(folder.to_owned(), |app| format!("{folder}/{app}"));
        let written = NotedBefore::read(store, app, state);
        // Remarks first: of a record that is written meanwhile there is none yet.
        let (documents, mut indexes) = std::thread::scope(|scope| {
            let indexes = scope.spawn(|| RunIndex::read_all(store, app, state));
            let remarks = store.documents(&below("remarks"));
            let documents = remarks.and_then(|remarks| Ok((remarks, store.documents(&below("records"))?)));
            (documents, indexes.join().unwrap_or_default())
        });
        let (remark_names, names) = documents?;
        let all: HashSet<&str> = names.iter().chain(&remark_names).map(DocumentName::as_str).collect();
        let mut list = Self { machine: state.map(|state| state.machine().to_owned()), ..Self::default() };
        let mut remarks: HashMap<&str, Vec<&DocumentName>> = HashMap::new();
        for name in &remark_names {
            remarks.entry(name.folder()).or_default().push(name);
        }
        let mut apps: BTreeMap<&str, Vec<&DocumentName>> = BTreeMap::new();
        for name in &names {
            apps.entry(name.as_str().split('/').nth(1).unwrap_or_default()).or_default().push(name);
        }
        let mut runs = Vec::with_capacity(names.len());
        for (app, names) in apps {
            let known = indexes.remove(&file_name(app)).unwrap_or_default();
            let index = RunIndex::of(store, app, state);
            list.read_app((store, state), (&index, known), &names, &mut remarks, &mut runs);
        }
        for name in remarks.into_values().flatten() {
            let about = read_remark(store, name, state, &mut list.unreadable);
            list.missing.extend(about.map(|remark| (remark.record, "a remark is about it".to_owned())));
        }
        list.missing.dedup();
        written.add_missing(&mut list.missing, &all);
        if let Some(state) = state {
            let waiting = Logbook::default().with_waiting(state, app);
            list.unreadable.extend(waiting.unreadable);
            runs.extend(waiting.runs.iter().map(|logged| Indexed::of(logged, Vec::new())));
        }
        order::by_chain(&mut runs);
        list.runs = runs.into_iter().map(|indexed| indexed.line).collect();
        Ok(list)
    }

    /// Reads the runs of one application: what the index has, from there, and the others from the store.
    fn read_app(
        &mut self,
        (store, state): (&Store, Option<&State>),
        (index, mut known): (&RunIndex, HashMap<String, Indexed>),
        names: &[&DocumentName],
        remarks: &mut HashMap<&str, Vec<&DocumentName>>,
        runs: &mut Vec<Indexed>,
    ) {
        let before = known.len();
        let (mut found, mut is_new) = (Vec::with_capacity(names.len()), false);
        let (mut unindexed, mut unknown) = (Vec::new(), Vec::new());
        for name in names {
            let own = remark_folder(name).and_then(|folder| remarks.remove(folder.as_str())).unwrap_or_default();
            let is_same = |known: &Indexed| own.iter().map(|name| last_of(name)).eq(known.remarks.iter());
            match known.remove(name.as_str()).filter(is_same) {
                Some(known) => found.push(known),
                None => unknown.push((*name, own)),
            }
        }
        for read in each_document(store, &unknown, |(name, remarks)| NewRun::read(store, name, remarks, state)) {
            let NewRun { logged, remarks, unreadable, missing } = read;
            let is_unreadable = !unreadable.is_empty();
            self.unreadable.extend(unreadable);
            self.missing.extend(missing);
            let Some(logged) = logged else { continue };
            self.locked += u64::from(logged.is_locked);
            let indexed = Indexed::of(&logged, remarks);
            // What could not be read is told each time, and an identity may come that opens what is locked.
            if logged.is_locked || is_unreadable {
                unindexed.push(indexed);
            } else {
                is_new = true;
                found.push(indexed);
            }
        }
        if is_new || before > found.len() {
            found = index.write(found);
        }
        runs.extend(found);
        runs.extend(unindexed);
    }
}

/// A run that the index does not know as it is now.
struct NewRun {
    logged: Option<Logged>,
    /// The names of the remarks about it, without their folder.
    remarks: Vec<String>,
    unreadable: Vec<(String, String)>,
    missing: Vec<(String, String)>,
}

impl NewRun {
    fn read(store: &Store, name: &DocumentName, remarks: &[&DocumentName], state: Option<&State>) -> Self {
        let (mut unreadable, mut missing) = (Vec::new(), Vec::new());
        let read = remarks.iter().filter_map(|remark| read_remark(store, remark, state, &mut unreadable));
        // One about another record is about one that is not there.
        let (own, others): (Vec<Remark>, Vec<Remark>) = read.partition(|remark| remark.record == name.as_str());
        missing.extend(others.into_iter().map(|remark| (remark.record, "a remark is about it".to_owned())));
        let logged = read_run(store, name, state, None, &mut unreadable).map(|logged| logged.with_remarks(own));
        Self { logged, remarks: remarks.iter().map(|name| last_of(name).to_owned()).collect(), unreadable, missing }
    }
}

impl Indexed {
    fn of(logged: &Logged, remarks: Vec<String>) -> Self {
        Self { line: RunLine::from(logged), previous: logged.record.previous.clone(), remarks }
    }
}

/// The folder of the remarks about a run: `records/APP/MACHINE/TIME-RUN-HASH.json` has them in `remarks/APP/MACHINE/RUN`.
fn remark_folder(record: &DocumentName) -> Option<String> {
    let run = record.stem().rsplit_once('-')?.1;
    Some(format!("remarks/{}/{run}", record.folder().strip_prefix("records/")?))
}

/// A document's name without its folder.
fn last_of(name: &DocumentName) -> &str {
    name.as_str().rsplit('/').next().unwrap_or_default()
}

/// The index of an application's runs in a store; nowhere where there is no state folder.
struct RunIndex {
    path: Option<PathBuf>,
    may_write: bool,
}

impl RunIndex {
    fn of(store: &Store, app: &str, state: Option<&State>) -> Self {
        let path = state.and_then(|state| state.index_path(&store.info().id, app).ok());
        // What only an identity opens that somebody gave for this once stays off this machine's disk.
        Self { path, may_write: store.identities().is_empty() }
    }

    /// The indexes of an application, or of all of them, by the names of their files.
    fn read_all(store: &Store, app: Option<&str>, state: Option<&State>) -> HashMap<String, HashMap<String, Indexed>> {
        let folder = state.and_then(|state| state.index_folder(&store.info().id).ok());
        let files = folder.iter().filter_map(|folder| fs::read_dir(folder).ok()).flatten().flatten();
        let named = files.filter_map(|file| Some((file.path(), file.path().file_stem()?.to_str()?.to_owned())));
        let wanted = named.filter(|(_, name)| app.is_none_or(|app| *name == file_name(app)));
        wanted.map(|(path, name)| (name, Self::read(&path))).collect()
    }

    fn read(path: &Path) -> HashMap<String, Indexed> {
        let file = fs::read(path).ok().and_then(|bytes| serde_json::from_slice::<IndexFile>(&bytes).ok());
        let runs = file.filter(|file| file.index == INDEX_VERSION).map(|file| file.runs).unwrap_or_default();
        runs.into_iter().map(|known| (known.line.record.clone(), known)).collect()
    }

    /// Writes the index. Where that fails it is made anew the next time.
    fn write(&self, runs: Vec<Indexed>) -> Vec<Indexed> {
        let file = IndexFile { index: INDEX_VERSION, runs };
        if let Some(path) = self.path.as_ref().filter(|_| self.may_write) {
            let _ = serde_json::to_vec(&file).map(|bytes| write_whole(path, &bytes));
        }
        file.runs
    }
}
