//! Reading back what runs stand on, and saying which runs, parts and paths a damage touches.
//!
//! *Full* reads every stored byte once; a *share* of it in turn, what was proven longest ago first; *quick* only asks whether
//! everything is there. What was read is noted in the local state, so that a full verification that was stopped goes on
//! where it was.

mod runs;

use std::collections::{BTreeMap, BTreeSet};
use std::convert::Infallible;

use gullet_store::{Damage, Hash, PayloadFile, PayloadReport, Store, StoreError, check_payload};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use crate::logbook::{Logbook, Logged, payload_needed};
use crate::parallel;
use gullet_host::state::{State, StateError, write_whole};
use gullet_host::world::{Stop, World};
use gullet_model::outcome::Outcome;
use gullet_model::record::{Remark, RemarkKind};
use gullet_model::words::chain;

pub use runs::{PartLoss, RunVerdict};
use runs::{Walked, verdict};

/// Payload files that are checked at once; each is kept in memory meanwhile.
const AT_ONCE: usize = 2;

/// How thoroughly it is looked.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Depth {
    /// Whether everything is there, with its length and name, and the records form a chain.
    Quick,
    /// Every stored byte.
    Full,
    /// So much of all stored bytes, from 0 to 1: those that were proven longest ago.
    Share(f64),
}

/// Which payload files were read in full, in which order; kept in the local state. A clock may be wrong, so what was read is
/// counted, not timed.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Proven {
    /// How many readings there have been.
    #[serde(default)]
    readings: u64,
    /// The full verification that was stopped before its end.
    #[serde(default)]
    open: Option<OpenVerification>,
    /// Which reading was the last one, by the names of payload files.
    #[serde(default)]
    files: BTreeMap<String, u64>,
    /// How many readings there had been when a run was last found to be wholly read, by the names of records.
    #[serde(default)]
    runs: BTreeMap<String, u64>,
}

/// A full verification that was stopped before its end.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
struct OpenVerification {
    /// How many readings there had been before.
    after: u64,
    /// When it began.
    began: Timestamp,
}

/// A full verification that was stopped is gone on with for so long; a later one begins anew.
const GOES_ON_WITHIN: SignedDuration = SignedDuration::from_hours(7 * 24);

impl Proven {
    /// Reads what is known of a store; nothing when that cannot be read.
    pub fn read(state: &State, store: &str) -> Self {
        let path = state.folder().join("stores").join(store).join("proven.json");
        std::fs::read(path).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok()).unwrap_or_default()
    }

    /// Keeps it.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn keep(&self, state: &State, store: &str) -> Result<(), StateError> {
        let path = state.place(&["stores", store])?.join("proven.json");
        Ok(write_whole(&path, &serde_json::to_vec(self).unwrap_or_default())?)
    }
}

/// What a verification found.
#[derive(Clone, Debug, Default, Serialize)]
pub struct VerifyReport {
    /// The runs that were looked at, oldest first.
    pub runs: Vec<RunVerdict>,
    /// Payload files read.
    pub files: u64,
    /// Of these, sealed ones that could not be opened: what is stored is proven, what is in it is not.
    pub locked: u64,
    /// Payload files that were read already by the verification that was stopped, and this one goes on from.
    pub read_before: u64,
    /// Payload files in all.
    pub of: u64,
    /// Stored bytes read.
    pub bytes: u64,
    /// Chunks proven by their ids.
    pub chunks: u64,
    /// What is wrong with single objects: name and reason.
    pub damaged: Vec<(String, String)>,
    /// What the hash that was kept elsewhere proves.
    pub anchor: Option<Anchor>,
    /// Whether it was stopped before its end.
    pub stopped: bool,
}

/// What a hash that was kept elsewhere proves: the record whose name ends in it, and all before that.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Anchor {
    /// The hash that was kept elsewhere.
    pub hash: Hash,
    /// The run whose record has it.
    pub run: Option<String>,
    /// Records that are proven by it: itself and all before it.
    pub proven: u64,
    /// What is wrong.
    pub problem: Option<String>,
}

impl VerifyReport {
    /// Whether everything is sound, as far as it was looked.
    pub fn is_sound(&self) -> bool {
        self.damaged.is_empty()
            && self.runs.iter().all(RunVerdict::is_sound)
            && self.anchor.as_ref().is_none_or(|anchor| anchor.problem.is_none())
    }
}

/// What is verified.
pub struct Verification<'a> {
    /// The store that is verified.
    pub store: &'a Store,
    /// The logbook of the store.
    pub book: &'a Logbook,
    /// The runs to look at.
    pub runs: &'a [&'a Logged],
    /// How much of each run is read.
    pub depth: Depth,
    /// A hash that was kept elsewhere.
    pub anchor: Option<Hash>,
    /// Whether to begin anew instead of going on from where an earlier one was stopped.
    pub all_again: bool,
}

/// A payload file that is wanted.
struct WantedFrames<'a> {
    name: String,
    length: u64,
    file: Option<&'a PayloadFile>,
}

impl Verification<'_> {
    /// Verifies.
    ///
    /// # Errors
    /// Only when the store cannot be listed at all; what is damaged is in the report.
    pub fn verify(
        &self,
        proven: &mut Proven,
        world: &World<'_>,
        progress: &mut dyn FnMut(u64, u64),
    ) -> Result<VerifyReport, StoreError> {
        let mut report = VerifyReport::default();
        report.damaged.extend(self.book.unreadable.iter().cloned());
        let missing = self.book.missing.iter();
        report.damaged.extend(missing.map(|(name, why)| (name.clone(), format!("it is missing, and {why}"))));
        if let Err(error) = crate::sweep::retired(self.store) {
            report.damaged.push(("retired".to_owned(), chain(&error)));
        }
        report.anchor = self.anchor.map(|hash| anchor(self.book, hash));
        let mut bad: BTreeMap<String, PayloadReport> = BTreeMap::new();
        let wanted = self.wanted();
        report.of = wanted.len() as u64;
        let chosen = match self.depth {
            Depth::Quick => {
                self.quick(&wanted, &mut bad)?;
                Vec::new()
            }
            Depth::Full => self.left_to_read(wanted, proven, &mut report, world),
            Depth::Share(share) => oldest(wanted, share, proven),
        };
        let complete = self.read(chosen, &mut bad, proven, &mut report, world, progress);
        report.damaged.extend(bad.iter().map(|(name, found)| (name.clone(), describe(found))));
        if !complete {
            report.stopped = true;
            return Ok(report);
        }
        let names: BTreeSet<&str> = self.book.runs.iter().map(|logged| logged.name.as_str()).collect();
        let mut walked = Walked::default();
        for logged in self.runs {
            let mut verdict = verdict(self.store, logged, &bad, &names);
            if verdict.is_sound() && !verdict.thinned && self.depth == Depth::Full {
                if world.stop.asked().is_some() {
                    report.stopped = true;
                    return Ok(report);
                }
                walked.walk(self.store, logged, &mut verdict);
            }
            let holdings = logged.holdings();
            let mut all = holdings.files().map(|(name, _)| name);
            let since = proven.runs.get(&logged.name).copied().unwrap_or(0);
            verdict.read = match self.depth {
                Depth::Quick => false,
                Depth::Full => true,
                Depth::Share(_) => all.all(|name| proven.files.get(name).is_some_and(|reading| *reading > since)),
            };
            if verdict.read {
                proven.runs.insert(logged.name.clone(), proven.readings);
            }
            report.runs.push(verdict);
        }
        if self.depth == Depth::Full {
            proven.open = None;
        }
        Ok(report)
    }

    /// The payload files that the runs stand on, with what the records of those that wrote them say.
    fn wanted(&self) -> Vec<WantedFrames<'_>> {
        let written = self.book.payload_files();
        let wanted = payload_needed(self.runs.iter().copied()).into_iter();
        wanted.map(|(name, length)| WantedFrames { file: written.get(name.as_str()).copied(), name, length }).collect()
    }

    fn quick(&self, wanted: &[WantedFrames<'_>], bad: &mut BTreeMap<String, PayloadReport>) -> Result<(), StoreError> {
        let there: BTreeMap<String, u64> =
            self.store.location().list("payload/")?.into_iter().map(|object| (object.name, object.length)).collect();
        for WantedFrames { name, length, .. } in wanted {
            let damage = match there.get(name) {
                None => Damage::Missing,
                Some(found) if found != length => Damage::Length { expected: *length, found: *found },
                Some(_) => continue,
            };
            bad.insert(name.clone(), PayloadReport { damage: vec![damage], ..PayloadReport::default() });
        }
        Ok(())
    }

    /// What a full verification has to read: all, or what one that was stopped left.
    fn left_to_read<'w>(
        &self,
        mut wanted: Vec<WantedFrames<'w>>,
        proven: &mut Proven,
        report: &mut VerifyReport,
        world: &World<'_>,
    ) -> Vec<WantedFrames<'w>> {
        let now = world.clock.now();
        let goes_on = |open: &OpenVerification| {
            let age = now.duration_since(open.began);
            !self.all_again && !age.is_negative() && age <= GOES_ON_WITHIN
        };
        let anew = OpenVerification { after: proven.readings, began: now };
        let open = *proven.open.insert(proven.open.filter(goes_on).unwrap_or(anew));
        let before = wanted.len();
        wanted.retain(|file| proven.files.get(&file.name).is_none_or(|reading| *reading <= open.after));
        report.read_before = (before - wanted.len()) as u64;
        wanted
    }

    /// Reads payload files, several at once; `false` when it was stopped.
    fn read(
        &self,
        chosen: Vec<WantedFrames<'_>>,
        bad: &mut BTreeMap<String, PayloadReport>,
        proven: &mut Proven,
        report: &mut VerifyReport,
        world: &World<'_>,
        progress: &mut dyn FnMut(u64, u64),
    ) -> bool {
        let total = chosen.iter().map(|file| file.length).sum();
        let chosen = chosen.into_iter().map(|file| (file.name, file.file)).collect();
        read_all(self.store, chosen, world.stop, &mut |name, checked| {
            report.files += 1;
            report.bytes += checked.bytes;
            report.chunks += checked.chunks;
            report.locked += u64::from(checked.locked);
            progress(report.bytes, total);
            if checked.is_sound() {
                proven.readings += 1;
                proven.files.insert(name, proven.readings);
            } else {
                proven.files.remove(&name);
                bad.insert(name, checked);
            }
        })
    }
}

/// Reads payload files in full, several at once, and hands over what was found of each; `false` when it was stopped.
pub fn read_all(
    store: &Store,
    files: Vec<(String, Option<&PayloadFile>)>,
    stop: &Stop,
    each: &mut dyn FnMut(String, PayloadReport),
) -> bool {
    let stopped = || stop.asked().is_some();
    let check = |(name, file): &(String, Option<&PayloadFile>)| {
        check_payload(store.location().as_ref(), store.identities(), name, *file, &stopped)
    };
    let mut complete = true;
    let files = files.into_iter().map(|file| vec![file]).collect();
    let Ok(()) = parallel::each(AT_ONCE, files, check, |(name, _), checked| {
        match checked {
            Ok(checked) => each(name, checked),
            Err(_) => complete = false,
        }
        Ok::<(), Infallible>(())
    });
    complete
}

/// The files that were proven longest ago, at least so much of all bytes and at least one.
fn oldest<'w>(mut wanted: Vec<WantedFrames<'w>>, share: f64, proven: &Proven) -> Vec<WantedFrames<'w>> {
    let total: u64 = wanted.iter().map(|file| file.length).sum();
    let enough = (total as f64 * share).ceil() as u64;
    wanted.sort_by_key(|file| (proven.files.get(&file.name).copied(), file.name.clone()));
    let mut so_far = 0;
    wanted
        .into_iter()
        .take_while(|file| {
            let more = so_far < enough.max(1);
            so_far += file.length;
            more
        })
        .collect()
}

/// What a hash that was kept elsewhere proves.
fn anchor(book: &Logbook, hash: Hash) -> Anchor {
    let by_name: BTreeMap<&str, &Logged> = book.runs.iter().map(|logged| (logged.name.as_str(), logged)).collect();
    let end = format!("-{hash}.json");
    let Some(found) = book.runs.iter().find(|logged| logged.in_store && logged.name.ends_with(&end)) else {
        let problem =
            "no record has this hash: it was removed or rewritten, or the hash is of another store".to_owned();
        return Anchor { hash, run: None, proven: 0, problem: Some(problem) };
    };
    let (mut at, mut count) = (found, 1);
    let mut problem = None;
    while let Some(previous) = &at.record.previous {
        match by_name.get(previous.as_str()) {
            Some(before) => {
                (at, count) = (before, count + 1);
            }
            None => {
                problem = Some(format!("the chain behind it is broken: {previous} is missing"));
                break;
            }
        }
    }
    Anchor { hash, run: Some(found.record.run.to_string()), proven: count, problem }
}

fn describe(report: &PayloadReport) -> String {
    let mut texts: Vec<String> = report
        .damage
        .iter()
        .map(|damage| match damage {
            Damage::Missing => "it is missing".to_owned(),
            Damage::Length { expected, found } => format!("it has {found} bytes instead of {expected}"),
            Damage::Bytes => "its bytes are not those that were stored".to_owned(),
            Damage::Contents(why) => format!("its table of contents cannot be read: {why}"),
            Damage::Unreadable(why) => format!("it cannot be read: {why}"),
        })
        .collect();
    if report.contents_known && !report.lost.is_empty() {
        texts.push(format!("{} chunks in it are lost", report.lost.len()));
    }
    texts.join("; ")
}
/// Adds a remark with the result to every run that was verified in full, or is damaged.
///
/// # Errors
/// When the store cannot take it.
pub fn remark(
    store: &Store,
    runs: &[&Logged],
    report: &VerifyReport,
    world: &World<'_>,
    state: Option<&State>,
) -> Result<(), StoreError> {
    let pairs = runs.iter().zip(&report.runs).filter(|(logged, _)| logged.in_store);
    for (logged, verdict) in pairs.filter(|(_, verdict)| !verdict.thinned && (verdict.read || !verdict.is_whole())) {
        let (what, outcome, text) = if verdict.is_whole() {
            let text = if verdict.locked {
                "every stored byte was read back and is intact; it was not opened, for no key was at hand"
            } else {
                "every stored byte was read back, and every path of every part can be restored from it"
            };
            (RemarkKind::Verified, Outcome::Complete, text.to_owned())
        } else {
            let parts: Vec<&str> = verdict.lost.iter().map(|loss| loss.part.as_str()).collect();
            let what = [parts.join(", "), verdict.problems.join("; "), verdict.payload.join(", ")];
            let what = what.into_iter().find(|text| !text.is_empty()).unwrap_or_default();
            (RemarkKind::Damaged, Outcome::Incomplete, format!("damaged: {what}"))
        };
        let remark = logged.remark(world.clock.now(), what, outcome, text);
        let opened = verdict.is_whole() && !verdict.locked;
        logged.store_remark(&Remark { opened, payload: verdict.payload.clone(), ..remark }, store, state)?;
    }
    Ok(())
}

#[cfg(test)]
mod tests;
