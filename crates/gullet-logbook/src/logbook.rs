//! The logbook: all records and remarks of a store, and finding one run among them.

use std::collections::{BTreeMap, HashSet};
use std::fs;

use gullet_store::{DocumentName, Holdings, Need, Recipients, Store, StoreError};
use jiff::Timestamp;

use crate::sealed::Draft;
use gullet_host::state::State;
use gullet_host::world::World;
use gullet_model::outcome::Outcome;
use gullet_model::record::{Record, Remark, RemarkKind, stem_time};

/// So many drills are looked back at for the last one that passed.
const DRILLS_LOOKED_AT: usize = 10;

/// One run as the logbook knows it: its record and what was said about it later.
#[derive(Clone, Debug)]
pub struct Logged {
    /// The record's name in the store, or its path where it waits for the store.
    pub name: String,
    /// Whether the record is in the store.
    pub in_store: bool,
    /// What the run wrote about itself.
    pub record: Record,
    /// The remarks, oldest first.
    pub remarks: Vec<Remark>,
    /// The public keys that it is encrypted to.
    pub keys: Vec<String>,
    /// Whether it is encrypted and no identity at hand opens it: then only what is in clear is known of it.
    pub is_locked: bool,
}

impl Logged {
    /// The same run with what was said about it later.
    fn with_remarks(self, mut remarks: Vec<Remark>) -> Self {
        remarks.sort_by_key(|remark| (remark.number, remark.at));
        Self { remarks, ..self }
    }

    /// What is shown: the worse of the record and its remarks, but for what a later remark has answered anew. Damage stands until
    /// everything was opened and found whole; a drill stands until the next one.
    pub fn outcome(&self) -> Outcome {
        let standing = self.remarks.iter().enumerate().filter(|(at, remark)| {
            let mut later = self.remarks[at + 1..].iter();
            match remark.what {
                RemarkKind::Damaged => !later.any(|later| later.what == RemarkKind::Verified && later.opened),
                RemarkKind::Drilled => !later.any(|later| later.what == RemarkKind::Drilled),
                _ => true,
            }
        });
        standing.fold(self.record.outcome, |worst, (_, remark)| worst.combine(remark.outcome))
    }

    /// When everything was last read back and found intact; `None` when it never was, or damage was found since.
    pub fn verified(&self) -> Option<Timestamp> {
        let kinds = [RemarkKind::Verified, RemarkKind::Damaged];
        let last = self.remarks.iter().rev().find(|remark| kinds.contains(&remark.what))?;
        (last.what == RemarkKind::Verified).then_some(last.at)
    }

    /// The public keys that it is encrypted to; what is said about it is encrypted to them too.
    ///
    /// # Errors
    /// When one of them is not a public key: a record that was tampered with must not make what follows readable to all.
    pub fn recipients(&self) -> Result<Recipients, StoreError> {
        Recipients::parse(&self.keys).map_err(|error| StoreError::Damaged {
            name: self.name.clone(),
            what: format!("it is encrypted for what is not a public key: {error}"),
        })
    }

    /// A statement about it, to be stored with [`Logged::store_remark`].
    pub fn remark(&self, at: Timestamp, what: RemarkKind, outcome: Outcome, text: String) -> Remark {
        let number = self.remarks.iter().map(|remark| remark.number).max().unwrap_or(0).saturating_add(1);
        Remark { number, ..Remark::new(&self.record.run, &self.name, at, what, outcome, text) }
    }

    /// When it was last drilled to restore, by a drill; `None` when it never was, or the last drill failed.
    pub fn proven(&self) -> Option<Timestamp> {
        let last = self.remarks.iter().rev().find(|remark| remark.what == RemarkKind::Drilled)?;
        (last.outcome == Outcome::Complete).then_some(last.at)
    }

    /// Whether it is marked to stay.
    pub fn is_kept(&self) -> bool {
        let kinds = [RemarkKind::Kept, RemarkKind::NotKept];
        self.remarks
            .iter()
            .rev()
            .find(|remark| kinds.contains(&remark.what))
            .is_some_and(|r| r.what == RemarkKind::Kept)
    }

    /// Says something about it, now and for as long as its record is kept.
    ///
    /// # Errors
    /// When the store cannot take it.
    pub fn say(
        &self,
        what: RemarkKind,
        outcome: Outcome,
        text: String,
        store: &Store,
        state: Option<&State>,
        world: World<'_>,
    ) -> Result<(), StoreError> {
        self.store_remark(&self.remark(world.clock.now(), what, outcome, text), store, state)
    }

    /// Says that what the store has of these parts is damaged, as somebody found who read it: a restore, a drill.
    ///
    /// # Errors
    /// When the store cannot take it.
    pub fn say_damaged(
        &self,
        parts: &[&str],
        by: &str,
        store: &Store,
        state: Option<&State>,
        world: World<'_>,
    ) -> Result<(), StoreError> {
        let text = format!("damaged: {} (found by {by})", parts.join(", "));
        self.say(RemarkKind::Damaged, Outcome::Incomplete, text, store, state, world)
    }

    /// Stores a remark about it, encrypted to whom it is encrypted.
    ///
    /// # Errors
    /// When the store cannot take it.
    pub fn store_remark(&self, remark: &Remark, store: &Store, state: Option<&State>) -> Result<(), StoreError> {
        Draft::of_remark(remark, &self.record, &self.recipients()?)?.store(store, state).map(drop)
    }

    /// What it stands on now: as its record says, but for what was moved since.
    pub fn holdings(&self) -> Holdings {
        let mut holdings = self.record.holdings.clone();
        for moved in self.remarks.iter().flat_map(|remark| &remark.moved) {
            holdings.wrote.retain(|file| file.name != moved.from);
            holdings.needs.retain(|need| need.name != moved.from);
            let frames = moved.frames.clone();
            holdings.needs.push(Need { name: moved.to.name.clone(), length: moved.to.length, frames });
        }
        holdings
    }

    /// Whether its captures were removed.
    pub fn is_thinned(&self) -> bool {
        self.remarks.iter().any(|remark| remark.what == RemarkKind::Thinned)
    }

    /// Whether the run can stand for the application: whole, not narrowed, in the store, not damaged.
    pub fn is_good(&self) -> bool {
        self.in_store && !self.record.partial && !self.is_thinned() && self.outcome().is_whole()
    }
}

/// All runs, oldest first, and what could not be read.
#[derive(Debug, Default)]
pub struct Logbook {
    /// The runs, oldest first: by the chain of records, whatever the clock said.
    pub runs: Vec<Logged>,
    /// Documents that are damaged or cannot be read, with the reason.
    pub unreadable: Vec<(String, String)>,
    /// Documents that must be there and are not, with what knows of them.
    pub missing: Vec<(String, String)>,
    /// The machine that reads; the newest run of an application is its own, never another machine's. `None` on a machine that
    /// has no state folder for the store.
    pub machine: Option<String>,
}

/// What a run must know of the runs before it, by the same machine; reading it takes no longer the more runs there are.
#[derive(Debug, Default)]
pub struct Recent {
    /// The newest run that can stand for the application.
    pub last_good: Option<Logged>,
    /// The name of the newest record.
    pub previous: Option<String>,
    /// A record under this machine's id that this machine did not write.
    pub unknown: Option<String>,
    /// Documents that this machine wrote and that are not there any more.
    pub missing: Vec<String>,
    /// Payload files that were found damaged.
    pub damaged: Vec<String>,
    /// Documents that are damaged or cannot be read, with the reason.
    pub unreadable: Vec<(String, String)>,
}

impl Recent {
    /// Looks from the newest run of `app` by `machine` back to the first good one.
    ///
    /// # Errors
    /// When the store cannot be listed.
    pub fn read(store: &Store, app: &str, machine: &str, state: &State) -> Result<Self, StoreError> {
        let mut recent = Self::default();
        let before = state.written(&store.info().id, app);
        let names = store.documents(&format!("records/{app}/{machine}"))?;
        let remark_names = store.documents(&format!("remarks/{app}/{machine}"))?;
        let written = state.written(&store.info().id, app);
        let all: HashSet<&str> = names.iter().chain(&remark_names).map(DocumentName::as_str).collect();
        recent.missing = before.missing(&all);
        recent.previous = written.newest_record(&all).or_else(|| names.last().map(ToString::to_string));
        recent.unknown = names.iter().find(|name| !written.knows(name.as_str())).map(ToString::to_string);
        let damaged = format!("-{}", RemarkKind::Damaged.word());
        for name in remark_names.iter().filter(|name| name.stem().ends_with(&damaged)) {
            let remark = read_remark(store, name, Some(state), &mut recent.unreadable);
            recent.damaged.extend(remark.into_iter().flat_map(|remark| remark.payload));
        }
        let mut along = AlongChain::new(&names, recent.previous.clone());
        // That its name was listed says that it is there.
        let mut kept = store.location().is_far().then(|| state.newest_record(&store.info().id, app)).flatten();
        while let Some(name) = along.name() {
            let logged = read_run(store, name, Some(state), kept.take(), &mut recent.unreadable);
            let Some(logged) = logged else { continue };
            let logged = add_remarks(logged, store, &remark_names, Some(state), &mut recent.unreadable);
            if logged.is_good() {
                recent.last_good = Some(logged);
                break;
            }
            along.go_on(&logged);
        }
        Ok(recent)
    }
}

/// Whether a machine has a record of an application in a store that names this as its trigger, among those that began since. What
/// triggered a run stands in clear, also where the record is encrypted.
///
/// # Errors
/// When the store cannot be listed, or a record cannot be read: it may be the one.
pub fn has_trigger(
    store: &Store,
    (app, machine): (&str, &str),
    trigger: &str,
    since: Timestamp,
) -> Result<bool, StoreError> {
    let since = stem_time(since);
    for name in store.documents(&format!("records/{app}/{machine}"))?.iter().rev() {
        if name.stem() < since.as_str() {
            break;
        }
        let record: serde_json::Value = store.document(name)?.parse()?;
        if record["trigger"] == trigger {
            return Ok(true);
        }
    }
    Ok(false)
}

mod find;
mod list;
mod machines;
mod noted;
mod order;
mod payload;
mod read;

pub use find::{FindError, MachineName, Moment, RunSpec, Which};
pub use list::{RunLine, RunList};
pub use machines::MachineRuns;
use noted::NotedBefore;
pub(crate) use payload::payload_needed;
use read::{add_remarks, each_document, read_remark, read_run, read_with_remarks};

impl Logbook {
    /// Reads the logbook of a store. What is encrypted is opened with what this machine kept in its `state`, or with the
    /// store's identities.
    ///
    /// # Errors
    /// When the store cannot be listed. Documents that cannot be read are listed, not fatal.
    pub fn read(store: &Store, app: Option<&str>, state: Option<&State>) -> Result<Self, StoreError> {
        let mut book = Self { machine: state.map(|state| state.machine().to_owned()), ..Self::default() };
        let below = |folder: &str| app.map_or(folder.to_owned(), |app| format!("{folder}/{app}"));
        let mut remarks: BTreeMap<String, Vec<Remark>> = BTreeMap::new();
        let written = NotedBefore::read(store, app, state);
        let remark_names = store.documents(&below("remarks"))?;
        let names = store.documents(&below("records"))?;
        for (remark, mut unreadable) in each_document(store, &remark_names, |name| {
            let mut unreadable = Vec::new();
            (read_remark(store, name, state, &mut unreadable), unreadable)
        }) {
            book.unreadable.append(&mut unreadable);
            if let Some(remark) = remark {
                remarks.entry(remark.record.clone()).or_default().push(remark);
            }
        }
        let runs = each_document(store, &names, |name| {
            let mut unreadable = Vec::new();
            (read_run(store, name, state, None, &mut unreadable), unreadable)
        });
        for (name, (logged, mut unreadable)) in names.iter().zip(runs) {
            book.unreadable.append(&mut unreadable);
            let remarks = remarks.remove(name.as_str()).unwrap_or_default();
            book.runs.extend(logged.map(|logged| logged.with_remarks(remarks)));
        }
        let all: HashSet<&str> = names.iter().chain(&remark_names).map(DocumentName::as_str).collect();
        let known = remarks.into_keys().filter(|record| !all.contains(record.as_str()));
        book.missing.extend(known.map(|record| (record, "a remark is about it".to_owned())));
        written.add_missing(&mut book.missing, &all);
        order::by_chain(&mut book.runs);
        Ok(book)
    }

    /// Reads the newest runs of an application by this machine, `most` of them, and those that were drilled last; reading it
    /// takes no longer the more runs there are.
    ///
    /// # Errors
    /// When the store cannot be listed.
    pub fn read_newest(store: &Store, app: &str, state: &State, most: usize) -> Result<Self, StoreError> {
        let machine = state.machine();
        let mut book = Self { machine: Some(machine.to_owned()), ..Self::default() };
        let before = NotedBefore::read(store, Some(app), Some(state));
        let names = store.documents(&format!("records/{app}/{machine}"))?;
        let remark_names = store.documents(&format!("remarks/{app}/{machine}"))?;
        let all: HashSet<&str> = names.iter().chain(&remark_names).map(DocumentName::as_str).collect();
        let written = state.written(&store.info().id, app);
        before.add_missing(&mut book.missing, &all);
        if !book.missing.is_empty() {
            // What this machine remarked upon runs of others lies in their folders.
            let elsewhere = store.documents(&format!("remarks/{app}"))?;
            let there: HashSet<&str> = elsewhere.iter().map(DocumentName::as_str).collect();
            book.missing.retain(|(name, _)| !there.contains(name.as_str()));
        }
        let newest = written.newest_record(&all).or_else(|| names.last().map(ToString::to_string));
        let mut along = AlongChain::new(&names, newest);
        while let Some(name) = along.name().filter(|_| book.runs.len() < most) {
            let logged = read_with_remarks(store, name, &remark_names, Some(state), &mut book.unreadable);
            if let Some(logged) = logged {
                along.go_on(&logged);
                book.runs.push(logged);
            }
        }
        for run in drilled_last(&remark_names) {
            let of_run = names.iter().find(|name| name.stem().ends_with(&format!("-{run}")));
            let Some(name) = of_run.filter(|name| book.runs.iter().all(|known| known.name != name.as_str())) else {
                continue;
            };
            book.runs.extend(read_with_remarks(store, name, &remark_names, Some(state), &mut book.unreadable));
        }
        order::by_chain(&mut book.runs);
        Ok(book)
    }

    /// Reads one run of a list as a whole.
    ///
    /// # Errors
    /// When its record, or a remark about it, is missing or damaged.
    pub fn read_run(store: &Store, line: &RunLine, state: Option<&State>) -> Result<Logged, StoreError> {
        let missing = || StoreError::Missing { name: line.record.clone() };
        if !line.in_store {
            let waiting = state.map(|state| Self::default().with_waiting(state, Some(&line.app))).unwrap_or_default();
            return waiting.runs.into_iter().find(|logged| logged.name == line.record).ok_or_else(missing);
        }
        let name = DocumentName::parse(&line.record).ok_or_else(missing)?;
        let remarks = store.documents(&format!("remarks/{}/{}/{}", line.app, line.machine, line.run))?;
        let mut unreadable = Vec::new();
        let logged = read_with_remarks(store, &name, &remarks, state, &mut unreadable);
        match (logged, unreadable.into_iter().next()) {
            (Some(logged), None) => Ok(logged),
            (_, Some((name, what))) => Err(StoreError::Damaged { name, what }),
            (None, None) => Err(missing()),
        }
    }

    /// Adds the records of this machine that wait for the store.
    #[must_use]
    pub fn with_waiting(mut self, state: &State, app: Option<&str>) -> Self {
        for (_, path) in state.waiting(app) {
            let record = fs::read(&path).map_err(|error| error.to_string());
            match record.and_then(|bytes| serde_json::from_slice(&bytes).map_err(|error| error.to_string())) {
                Ok(record) => {
                    let name = path.display().to_string();
                    let (remarks, keys) = (Vec::new(), Vec::new());
                    self.runs.push(Logged { name, in_store: false, record, remarks, keys, is_locked: false });
                }
                Err(error) => self.unreadable.push((path.display().to_string(), error)),
            }
        }
        order::by_chain(&mut self.runs);
        self
    }

    /// The runs of an application by the machine that reads, oldest first.
    pub fn own_runs<'a, 'n>(&'a self, app: &'n str) -> impl DoubleEndedIterator<Item = &'a Logged> + use<'a, 'n> {
        self.runs.iter().filter(move |logged| logged.record.app == app && self.may_be_own(logged))
    }

    /// Whether a run is of the machine that reads; of a machine that is not known every run may be.
    pub fn may_be_own(&self, logged: &Logged) -> bool {
        self.machine.as_ref().is_none_or(|own| logged.record.machine == *own)
    }

    /// The newest run that can stand for an application of the machine that reads.
    pub fn last_good(&self, app: &str) -> Option<&Logged> {
        self.own_runs(app).rev().find(|logged| logged.is_good())
    }

    /// The newest run of an application by the machine that reads, whatever its outcome.
    pub fn last(&self, app: &str) -> Option<&Logged> {
        self.own_runs(app).next_back()
    }
}

/// The names of records along the chain, newest first, whatever the clock said; where it is broken, on by the names that are left.
struct AlongChain<'n> {
    left: BTreeMap<&'n str, &'n DocumentName>,
    next: Option<String>,
}

impl<'n> AlongChain<'n> {
    fn new(names: &'n [DocumentName], newest: Option<String>) -> Self {
        Self { left: names.iter().map(|name| (name.as_str(), name)).collect(), next: newest }
    }

    fn name(&mut self) -> Option<&'n DocumentName> {
        let along = self.next.take().and_then(|name| self.left.remove(name.as_str()));
        along.or_else(|| self.left.pop_last().map(|(_, name)| name))
    }

    fn go_on(&mut self, logged: &Logged) {
        self.next.clone_from(&logged.record.previous);
    }
}

/// The runs that were drilled last, by the names of the remarks about them.
fn drilled_last(remarks: &[DocumentName]) -> Vec<&str> {
    let end = format!("-{}", RemarkKind::Drilled.word());
    let mut drilled: Vec<&DocumentName> = remarks.iter().filter(|name| name.stem().ends_with(&end)).collect();
    drilled.sort_by_key(|name| std::cmp::Reverse(name.stem()));
    drilled.iter().take(DRILLS_LOOKED_AT).filter_map(|name| name.folder().rsplit('/').next()).collect()
}
