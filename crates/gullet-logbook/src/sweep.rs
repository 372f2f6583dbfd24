//! Giving runs up, and removing what no run needs any more.
//!
//! *Thinning* is a remark: the run's captures are removed, its record stays. *Sweeping* removes payload files of this
//! machine's own machine that no run stands on, and rewrites those that are mostly dead. It has the store to itself on this
//! machine (runs share a lock that it takes alone), so nothing can begin to stand on what it removes. Whenever it is killed,
//! what is needed is there: remarks that payload moved are durable before the old files go.
//!
//! Payload of other machines is theirs; only that of a machine that was retired is removed by others, and with a delay, so that
//! a run that was going on when it was retired has long come to its end.

mod rebuild;

use std::collections::{BTreeMap, BTreeSet};

use gullet_store::{Cache, FrameCopier, Need, Recipients, Store, StoreError};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use crate::logbook::{Logbook, Logged};
use gullet_host::hook::{Call, Limits, Runner};
use gullet_host::state::{State, StateError, SweepLock};
use gullet_host::world::World;
use gullet_model::Reason;
use gullet_model::definition::App;
use gullet_model::ids::random_id;
use gullet_model::outcome::Outcome;
use gullet_model::record::{Moved, Remark, RemarkKind};
use gullet_model::words::chain;
pub use rebuild::{Rebuilt, rebuild};

/// A payload file of which less than this is needed is rewritten.
const MOSTLY_DEAD: f64 = 0.5;
/// Payload of a retired machine is removed so long after it was retired, where nobody says otherwise.
pub const DELAY: SignedDuration = SignedDuration::from_hours(7 * 24);

/// A run is not thinned, or nothing is swept.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SweepError {
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The state folder failed.
    #[error(transparent)]
    State(#[from] StateError),
    /// What a document says is not known, so nothing can be known to be unneeded.
    #[error("`{name}` cannot be read, so it is not known what it needs, and nothing is removed: {why}")]
    Unreadable {
        /// The document that could not be read.
        name: String,
        /// Why it could not be read, in words.
        why: String,
    },
    /// The run must stay.
    #[error("run {run} is not thinned: {why}")]
    Kept {
        /// The id of the run.
        run: String,
        /// Why the run must stay, in words.
        why: String,
    },
    /// It cannot be done as this machine, or to it.
    #[error("machine `{machine}`: {why}")]
    Machine {
        /// The id of the machine.
        machine: String,
        /// Why it cannot be done as this machine, or to it.
        why: String,
    },
}

/// `retired/MACHINE/TIME-HASH.json`: a machine is gone for good, and others may remove what it stored and nobody needs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Retired {
    /// The id of the machine that is gone for good.
    pub machine: String,
    /// When it was retired.
    pub at: Timestamp,
    /// The host that retired it.
    pub by: String,
}

/// Has what a thinned run left with another system removed there. Gives each id, and why it could not be.
pub fn remove_outside(logged: &Logged, app: &App, runner: &Runner<'_>) -> Vec<(String, Result<(), Reason>)> {
    let mut removed = Vec::new();
    for capture in &logged.record.captures {
        let Some(proof) = &capture.outside else { continue };
        let name = capture.defined_as();
        let part = app.part.iter().find(|part| part.name == *name);
        let remove = part.and_then(|part| part.outside.as_ref()).and_then(|outside| outside.remove.as_ref());
        let result = match remove {
            None => Err(Reason::new("the definition does not say how: give the part's `outside` a `remove`")),
            Some(remove) => {
                let values = BTreeMap::from([("id".to_owned(), proof.id.clone())]);
                let call = Call { values, moment: "thin", limit: Limits::HOOK, ..Call::default() };
                runner.run(remove, call).result
            }
        };
        removed.push((proof.id.clone(), result));
    }
    removed
}

/// Whether a machine was retired.
///
/// # Errors
/// When the store cannot be asked.
pub fn is_retired(store: &Store, machine: &str) -> Result<bool, StoreError> {
    Ok(!store.documents(&format!("retired/{machine}"))?.is_empty())
}

/// The machines that were retired; of one that was several times the first counts.
///
/// # Errors
/// When the store cannot be read.
pub(crate) fn retired(store: &Store) -> Result<Vec<Retired>, StoreError> {
    let mut found: Vec<Retired> = Vec::new();
    for name in store.documents("retired")? {
        let retired: Retired = store.document(&name)?.parse()?;
        if !found.iter().any(|known| known.machine == retired.machine) {
            found.push(retired);
        }
    }
    Ok(found)
}

/// Retires the machine of one that is gone for good.
///
/// # Errors
/// When it is this machine's own, unknown, or the store cannot take it.
pub fn retire(store: &Store, machine: &str, own: &str, world: World<'_>) -> Result<(), SweepError> {
    let refuse = |why: &str| SweepError::Machine { machine: machine.to_owned(), why: why.to_owned() };
    if machine == own {
        return Err(refuse("it is this machine's own"));
    }
    let known = store.location().length(&format!("machines/{machine}.json"));
    if !matches!(known, Ok(Some(_))) {
        return Err(refuse("the store does not know it"));
    }
    let note = Retired { machine: machine.to_owned(), at: world.clock.now(), by: world.host.name.clone() };
    let bytes = serde_json::to_vec_pretty(&note).unwrap_or_default();
    store.add_document(&format!("retired/{machine}"), &gullet_model::record::stem_time(note.at), &bytes)?;
    Ok(())
}

/// Whether a run may be thinned by a machine.
///
/// # Errors
/// [`SweepError::Kept`] with the reason why not.
pub fn may_thin(book: &Logbook, logged: &Logged, store: &Store, own: &str) -> Result<(), SweepError> {
    let record = &logged.record;
    let kept = |why: &str| SweepError::Kept { run: record.run.to_string(), why: why.to_owned() };
    if !logged.in_store {
        return Err(kept("its record waits for the store"));
    }
    if logged.is_thinned() {
        return Err(kept("it was thinned already"));
    }
    if record.machine != own && !is_retired(store, &record.machine)? {
        return Err(kept("another machine wrote it; that one may thin it, or anyone when it is retired"));
    }
    if logged.is_kept() {
        return Err(kept("it is marked to stay (`gullet keep RUN --undo`)"));
    }
    let same = |other: &&Logged| other.record.app == record.app && other.record.machine == record.machine;
    let mut runs = book.runs.iter().rev().filter(same);
    if runs.clone().find(|other| other.is_good()).is_some_and(|newest| newest.name == logged.name) {
        return Err(kept("it is the newest complete one of its application"));
    }
    let clean = runs.find(|other| other.is_good() && other.outcome() == Outcome::Complete);
    if clean.is_some_and(|newest| newest.name == logged.name) {
        return Err(kept("it is the newest one without warnings of its application"));
    }
    let proven = book.runs.iter().rev().filter(same).find(|other| other.proven().is_some() && !other.is_thinned());
    if proven.is_some_and(|newest| newest.name == logged.name) {
        return Err(kept("it is the newest one of its application that a drill has proven"));
    }
    Ok(())
}

/// Gives the captures of a run up. What only it needs is removed by the next sweep.
///
/// # Errors
/// When it must stay, or the store cannot take the remark.
pub fn thin(
    book: &Logbook,
    logged: &Logged,
    because: &str,
    store: &Store,
    state: &State,
    world: World<'_>,
) -> Result<(), SweepError> {
    may_thin(book, logged, store, state.machine())?;
    let remark = logged.remark(world.clock.now(), RemarkKind::Thinned, Outcome::Complete, because.to_owned());
    Ok(logged.store_remark(&remark, store, Some(state))?)
}

/// What a sweep removes, and what it came to.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Sweep {
    /// Payload files that no run needs, with their lengths in bytes.
    pub dead: Vec<(String, u64)>,
    /// Payload files that are mostly dead: name, length, share that is needed.
    pub mostly_dead: Vec<(String, u64, f64)>,
    /// Of these, rewritten ones, and the bytes that were written for them.
    pub rewritten: (u64, u64),
    /// Of these, ones that this machine cannot open: what is needed of them is stored anew by the next run.
    pub forgotten: u64,
    /// Bytes that were freed.
    pub freed: u64,
    /// What stands in the way of one file or another.
    pub problems: Vec<String>,
    /// Retired machines whose delay is not over yet, with the time when it is.
    pub delayed: Vec<(String, Timestamp)>,
}

/// A payload file that is mostly dead: name, length, and the frames that are needed.
type MostlyDead<'n> = (&'n str, u64, &'n BTreeSet<u32>);

/// What runs need of one payload file.
#[derive(Clone, Debug)]
enum NeededFrames {
    All,
    Frames(BTreeSet<u32>),
}

/// Removes what nobody needs any more.
pub struct Sweeper<'a> {
    /// The store that is swept.
    pub store: &'a Store,
    /// The local state.
    pub state: &'a State,
    /// The outside world.
    pub world: World<'a>,
    /// Payload of retired machines is removed this long after they were.
    pub delay: SignedDuration,
}

impl Sweeper<'_> {
    /// Looks at what could be removed; with `lock` removes it.
    ///
    /// # Errors
    /// When it is not certain what is needed; nothing is removed then.
    pub fn sweep(&self, lock: Option<&SweepLock>) -> Result<Sweep, SweepError> {
        let book = Logbook::read(self.store, None, Some(self.state))?.with_waiting(self.state, None);
        let mut sweep = Sweep::default();
        let own = self.state.machine().to_owned();
        let mut machines = vec![own.clone()];
        for retired in retired(self.store)?.into_iter().filter(|retired| retired.machine != own) {
            let over = retired.at.checked_add(self.delay).unwrap_or(Timestamp::MAX);
            if over <= self.world.clock.now() {
                machines.push(retired.machine);
            } else {
                sweep.delayed.push((retired.machine, over));
            }
        }
        for machine in &machines {
            if let Some((name, why)) = book.unreadable.iter().find(|(name, _)| concerns(name, machine)) {
                return Err(SweepError::Unreadable { name: name.clone(), why: why.clone() });
            }
        }
        self.refuse_if_records_do_not_agree(&book)?;
        let needed = needed(&book);
        for machine in &machines {
            for object in self.store.location().list(&format!("payload/{machine}/"))? {
                match needed.get(&object.name) {
                    None => sweep.dead.push((object.name, object.length)),
                    Some(NeededFrames::Frames(frames)) if *machine == own => {
                        let of = frames_of(&book, &object.name).unwrap_or(0);
                        let share = frames.len() as f64 / f64::from(of.max(1));
                        if of > 0 && share < MOSTLY_DEAD {
                            sweep.mostly_dead.push((object.name, object.length, share));
                        }
                    }
                    Some(_) => {}
                }
            }
        }
        if let Some(lock) = lock {
            self.remove(&mut sweep, &book, &needed, lock)?;
        }
        Ok(sweep)
    }

    /// Another machine may be at work under the same id: then nothing is known of what it is about to stand on. And where a
    /// record is gone, what it needs looks unneeded.
    fn refuse_if_records_do_not_agree(&self, book: &Logbook) -> Result<(), SweepError> {
        let own = self.state.machine();
        let missing = book.missing.iter().find(|(name, _)| concerns(name, own));
        if let Some((name, why)) = missing {
            let why = format!("it is missing, and {why}");
            return Err(SweepError::Unreadable { name: name.clone(), why });
        }
        let id = &self.store.info().id;
        let mut written: BTreeMap<&str, gullet_host::state::WrittenDocuments> = BTreeMap::new();
        for logged in book.runs.iter().filter(|logged| logged.record.machine == own && logged.in_store) {
            let app = logged.record.app.as_str();
            let written = written.entry(app).or_insert_with(|| self.state.written(id, app));
            if !written.knows(&logged.name) {
                let why = format!(
                    "the store has runs of `{app}` by this machine that it does not know: it is a copy, or \
                                   its state is older than the store. Run first, or rebuild the state"
                );
                return Err(SweepError::Machine { machine: own.to_owned(), why });
            }
        }
        Ok(())
    }

    fn remove(
        &self,
        sweep: &mut Sweep,
        book: &Logbook,
        needed: &BTreeMap<String, NeededFrames>,
        _lock: &SweepLock,
    ) -> Result<(), SweepError> {
        let mut cache = Cache::open(&self.state.cache_path(&self.store.info().id)?)?;
        for (name, length) in &sweep.dead {
            if self.world.stop.asked().is_some() {
                return Ok(());
            }
            // Forgotten first: a cache that knows what is gone would be believed until it is looked at.
            cache.forget(name)?;
            match self.store.location().remove(name) {
                Ok(()) => sweep.freed += length,
                Err(StoreError::Missing { .. }) => {}
                Err(error) => sweep.problems.push(format!("{name}: {}", chain(&error))),
            }
        }
        // Where nothing can be removed, what is written anew would only be there twice.
        if sweep.problems.is_empty() { self.rewrite(sweep, book, needed, &mut cache) } else { Ok(()) }
    }

    /// Writes what is needed of mostly dead files into new ones.
    fn rewrite(
        &self,
        sweep: &mut Sweep,
        book: &Logbook,
        needed: &BTreeMap<String, NeededFrames>,
        cache: &mut Cache,
    ) -> Result<(), SweepError> {
        // Files that are sealed for different keys must not be mixed.
        let mut groups: BTreeMap<Vec<String>, Vec<MostlyDead<'_>>> = BTreeMap::new();
        for (name, length, _) in &sweep.mostly_dead {
            if let Some(NeededFrames::Frames(frames)) = needed.get(name) {
                groups.entry(keys_of(book, name)).or_default().push((name, *length, frames));
            }
        }
        for (keys, files) in groups {
            let seal = recipients(&keys)?;
            let id = format!("sweep-{}", random_id(self.world.random, 10));
            let prefix = format!("payload/{}/{id}/", self.state.machine());
            let mut copier = FrameCopier::new(self.store, prefix, seal.clone());
            let mut copied = Vec::new();
            for (name, length, frames) in files {
                if self.world.stop.asked().is_some() {
                    break;
                }
                match copier.copy(name, frames) {
                    Ok(()) => copied.push((name, length)),
                    Err(StoreError::Locked { .. }) => {
                        cache.forget(name)?;
                        sweep.forgotten += 1;
                    }
                    Err(error @ (StoreError::Damaged { .. } | StoreError::Missing { .. })) => {
                        // Earlier frames of it may have been copied; they are not spoken of, and swept later.
                        sweep.problems.push(format!("{name} is left as it is: {}", chain(&error)));
                    }
                    Err(error) => return Err(error.into()),
                }
            }
            let places = copier.finish(cache, &seal)?;
            for logged in book.runs.iter().filter(|logged| !logged.is_thinned()) {
                self.remark_moved(logged, &copied, &places)?;
            }
            for (name, length) in copied {
                cache.forget(name)?;
                self.store.location().remove(name)?;
                sweep.freed += length;
                sweep.rewritten.0 += 1;
            }
            sweep.rewritten.1 += places.files().iter().map(|file| file.length).sum::<u64>();
        }
        Ok(())
    }

    fn remark_moved(
        &self,
        logged: &Logged,
        copied: &[(&str, u64)],
        places: &gullet_store::CopiedFrames,
    ) -> Result<(), SweepError> {
        let mut moved = Vec::new();
        for Need { name, frames, .. } in logged.holdings().needs {
            if !copied.iter().any(|(copied, _)| *copied == name) {
                continue;
            }
            for (to, frames) in places.of(&name, &frames) {
                moved.push(Moved { from: name.clone(), to, frames });
            }
        }
        if moved.is_empty() {
            return Ok(());
        }
        let text = "payload that was mostly unneeded was written anew".to_owned();
        let remark = logged.remark(self.world.clock.now(), RemarkKind::Moved, Outcome::Complete, text);
        Ok(logged.store_remark(&Remark { moved, ..remark }, self.store, Some(self.state))?)
    }
}

/// Whether a document is of a machine: `records/APP/MACHINE/…` or `remarks/APP/MACHINE/…`; one that waits is this machine's.
fn concerns(name: &str, machine: &str) -> bool {
    name.starts_with('/') || name.split('/').nth(2) == Some(machine)
}

/// What the runs that are not given up stand on.
fn needed(book: &Logbook) -> BTreeMap<String, NeededFrames> {
    let mut needed: BTreeMap<String, NeededFrames> = BTreeMap::new();
    for logged in book.runs.iter().filter(|logged| !logged.is_thinned()) {
        let holdings = logged.holdings();
        for file in holdings.wrote {
            needed.insert(file.name, NeededFrames::All);
        }
        for need in holdings.needs {
            let more = need.frames.iter().flat_map(|[first, last]| *first..=*last);
            match needed.entry(need.name).or_insert_with(|| NeededFrames::Frames(BTreeSet::new())) {
                NeededFrames::All => {}
                NeededFrames::Frames(frames) => frames.extend(more),
            }
        }
    }
    needed
}

fn frames_of(book: &Logbook, name: &str) -> Option<u32> {
    book.payload_written().find(|(file, _)| file.name == name).map(|(file, _)| file.frames)
}

fn keys_of(book: &Logbook, name: &str) -> Vec<String> {
    let written = book.payload_written().find(|(file, _)| file.name == name);
    written.map(|(_, logged)| logged.keys.clone()).unwrap_or_default()
}

/// Keys that a record names. What is no key must never mean "not encrypted".
fn recipients(keys: &[String]) -> Result<Recipients, StoreError> {
    Recipients::parse(keys).map_err(|error| StoreError::Seal(error.to_string()))
}
