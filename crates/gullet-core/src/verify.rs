//! Reading back everything that runs stand on, and saying which runs, parts and paths a damage touches.

use std::collections::{BTreeMap, BTreeSet};

use gullet_store::listing::ListingReader;
use gullet_store::{Damage, Hash, PayloadFile, PayloadReport, Store, StoreError, Toc, check_payload};
use serde::Serialize;

use crate::logbook::{Logbook, Logged};
use crate::outcome::Outcome;
use crate::part::chain;
use crate::record::{Remark, RemarkKind};
use crate::run::add_remark;
use crate::world::World;

/// Paths named for a part, at most.
const NAMED: usize = 20;

/// What a verification found.
#[derive(Clone, Debug, Default, Serialize)]
pub struct VerifyReport {
    /// The runs that were looked at, oldest first.
    pub runs: Vec<RunVerdict>,
    /// Payload files read.
    pub files: u64,
    /// Stored bytes read.
    pub bytes: u64,
    /// Chunks proven by their ids.
    pub chunks: u64,
    /// What is wrong with single objects: name and reason.
    pub damaged: Vec<(String, String)>,
    /// Whether it was stopped before its end.
    pub stopped: bool,
}

/// What was found of one run.
#[derive(Clone, Debug, Serialize)]
pub struct RunVerdict {
    /// The run.
    pub run: String,
    /// The application.
    pub app: String,
    /// What is lost, part by part; empty when it is sound.
    pub lost: Vec<PartLoss>,
    /// What else is wrong with it.
    pub problems: Vec<String>,
}

impl RunVerdict {
    /// Whether everything of the run can be got back.
    pub fn is_sound(&self) -> bool {
        self.lost.is_empty() && self.problems.is_empty()
    }
}

/// What is lost of one part.
#[derive(Clone, Debug, Default, Serialize)]
pub struct PartLoss {
    /// The part.
    pub part: String,
    /// The first paths.
    pub paths: Vec<String>,
    /// How many paths.
    pub count: u64,
    /// Set when the listing itself cannot be read, so that paths cannot be named.
    pub listing: Option<String>,
}

impl VerifyReport {
    /// Whether everything is sound.
    pub fn is_sound(&self) -> bool {
        self.damaged.is_empty() && self.runs.iter().all(RunVerdict::is_sound)
    }
}

/// Verifies `runs` of a logbook in full: every stored byte of every payload file they stand on.
///
/// # Errors
/// Only when the store cannot be listed at all; what is damaged is in the report.
pub fn verify(
    store: &Store,
    book: &Logbook,
    runs: &[&Logged],
    world: &World<'_>,
    progress: &mut dyn FnMut(u64, u64),
) -> Result<VerifyReport, StoreError> {
    let mut report = VerifyReport::default();
    report.damaged.extend(book.unreadable.iter().cloned());
    let written: BTreeMap<&str, &PayloadFile> = book
        .runs
        .iter()
        .flat_map(|logged| &logged.record.holdings.wrote)
        .map(|file| (file.name.as_str(), file))
        .collect();
    let mut wanted: BTreeMap<String, u64> = BTreeMap::new();
    for logged in runs {
        let holdings = &logged.record.holdings;
        wanted.extend(holdings.wrote.iter().map(|file| (file.name.clone(), file.length)));
        wanted.extend(holdings.needs.iter().map(|need| (need.name.clone(), need.length)));
    }
    let mut bad: BTreeMap<String, PayloadReport> = BTreeMap::new();
    let total = wanted.values().sum();
    for (name, length) in &wanted {
        let stop = || world.stop.asked().is_some();
        let checked = match written.get(name.as_str()) {
            Some(file) => check_payload(store.location().as_ref(), file, &stop),
            None => Ok(orphan(store, name, *length)),
        };
        let Ok(checked) = checked else {
            report.stopped = true;
            return Ok(report);
        };
        report.files += 1;
        report.bytes += checked.bytes;
        report.chunks += checked.chunks;
        progress(report.bytes, total);
        if !checked.is_sound() {
            report.damaged.push((name.clone(), describe(&checked)));
            bad.insert(name.clone(), checked);
        }
    }
    let names: BTreeSet<&str> = book.runs.iter().map(|logged| logged.name.as_str()).collect();
    for logged in runs {
        report.runs.push(verdict(store, logged, &bad, &names));
    }
    Ok(report)
}

/// A payload file that no readable record describes: its stored bytes have no hash to compare, its chunks have.
fn orphan(store: &Store, name: &str, length: u64) -> PayloadReport {
    let mut report = PayloadReport { bytes: length, ..PayloadReport::default() };
    let mut reader = gullet_store::ChunkReader::new(std::sync::Arc::clone(store.location()));
    let added = store.contents(name, length).and_then(|toc: Toc| reader.add(name, length).map(|()| toc));
    match added {
        Ok(toc) => {
            report.contents_known = true;
            for chunk in toc.chunks {
                if reader.get(&chunk.id).is_ok() {
                    report.chunks += 1;
                } else {
                    report.lost.insert(chunk.id);
                }
            }
        }
        Err(StoreError::Missing { .. }) => report.damage.push(Damage::Missing),
        Err(error) => report.damage.push(Damage::Contents(chain(&error))),
    }
    report
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

fn verdict(
    store: &Store,
    logged: &Logged,
    bad: &BTreeMap<String, PayloadReport>,
    names: &BTreeSet<&str>,
) -> RunVerdict {
    let record = &logged.record;
    let mut verdict =
        RunVerdict { run: record.run.to_string(), app: record.app.clone(), lost: Vec::new(), problems: Vec::new() };
    if let Some(previous) = record.previous.as_deref().filter(|previous| !names.contains(previous)) {
        verdict.problems.push(format!("the record before it is missing or unreadable: {previous}"));
    }
    if logged.in_store && record.store_json != store.info_hash() {
        verdict.problems.push("`store.json` is not the one that it was written with".to_owned());
    }
    let holdings = &record.holdings;
    let mut stands_on =
        holdings.wrote.iter().map(|file| &file.name).chain(holdings.needs.iter().map(|need| &need.name));
    if !stands_on.any(|name| bad.contains_key(name)) {
        return verdict;
    }
    let lost: BTreeSet<Hash> = bad.values().flat_map(|report| report.lost.iter().copied()).collect();
    let (mut chunks, _) = store.chunks_that_can_be_read(holdings);
    for capture in record.captures.iter().filter(|capture| capture.is_captured()) {
        let Some(listing) = &capture.listing else { continue };
        let mut loss = PartLoss { part: capture.part.clone(), ..PartLoss::default() };
        let walked = ListingReader::new(&mut chunks).for_each(&listing.root, |entry, chunks| {
            // A chunk in a damaged file may lie in a sound one too; what can be got is not lost.
            let gone =
                |id: &Hash| chunks.place(id).is_none_or(|place| bad.contains_key(&place.payload) && lost.contains(id));
            if entry.chunks.iter().any(gone) {
                loss.count += 1;
                if loss.paths.len() < NAMED {
                    loss.paths.push(entry.path.to_string());
                }
            }
            Ok::<_, StoreError>(())
        });
        loss.listing = walked.err().map(|error| chain(&error));
        if loss.count > 0 || loss.listing.is_some() {
            verdict.lost.push(loss);
        }
    }
    verdict
}

/// Adds a remark with the result to every run that was verified.
///
/// # Errors
/// When the store cannot take it.
pub fn remark(store: &Store, runs: &[&Logged], report: &VerifyReport, world: &World<'_>) -> Result<(), StoreError> {
    for (logged, verdict) in runs.iter().zip(&report.runs).filter(|(logged, _)| logged.in_store) {
        let (what, outcome, text) = if verdict.is_sound() {
            (RemarkKind::Verified, Outcome::Complete, "everything was read back and is sound".to_owned())
        } else {
            let parts: Vec<&str> = verdict.lost.iter().map(|loss| loss.part.as_str()).collect();
            let text =
                format!("damaged: {}", if parts.is_empty() { verdict.problems.join("; ") } else { parts.join(", ") });
            (RemarkKind::Damaged, Outcome::Incomplete, text)
        };
        let remark = Remark {
            remark: 1,
            run: logged.record.run.clone(),
            record: logged.name.clone(),
            at: world.clock.now(),
            what,
            outcome,
            text,
            steps: Vec::new(),
        };
        add_remark(store, &logged.record, &remark)?;
    }
    Ok(())
}
