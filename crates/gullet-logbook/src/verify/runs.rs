//! What is wrong with a run: by the payload files that are damaged, and by a walk over all that its captures consist of.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use gullet_store::listing::ListingReader;
use gullet_store::{ChunkReader, Hash, PayloadReport, Store, StoreError};
use serde::Serialize;

use crate::logbook::Logged;
use gullet_model::words::chain;

/// Paths named for a part, at most.
const NAMED: usize = 20;

/// What was found of one run.
#[derive(Clone, Debug, Serialize)]
pub struct RunVerdict {
    /// The id of the run.
    pub run: String,
    /// The name of the application.
    pub app: String,
    /// Whether its captures were removed, so that only its record is left.
    pub thinned: bool,
    /// How many parts it captured.
    pub parts: u64,
    /// Whether all that it stands on has been read in full.
    pub read: bool,
    /// Whether it is encrypted and no key at hand opens it, so that its stored bytes were proven and nothing else.
    pub locked: bool,
    /// What is lost, part by part; empty when it is sound.
    pub lost: Vec<PartLoss>,
    /// Damaged payload files that it stands on.
    pub payload: Vec<String>,
    /// What else is wrong with it, or around it: the record before it, the store's own documents.
    pub problems: Vec<String>,
    /// Whether one of those is that payload of its own cannot be read.
    #[serde(skip)]
    is_unreadable: bool,
}

impl RunVerdict {
    /// Whether everything of the run can be got back, as far as it was looked.
    pub fn is_sound(&self) -> bool {
        self.problems.is_empty() && self.is_whole()
    }

    /// Whether what it captured is there, whatever is wrong around it. That a record before it is away says nothing against it, and
    /// may be over tomorrow.
    pub(super) fn is_whole(&self) -> bool {
        self.lost.is_empty() && self.payload.is_empty() && !self.is_unreadable
    }
}

/// What is lost of one part.
#[derive(Clone, Debug, Default, Serialize)]
pub struct PartLoss {
    /// The name of the part.
    pub part: String,
    /// The first paths.
    pub paths: Vec<String>,
    /// How many paths.
    pub count: u64,
    /// Set when the listing itself cannot be read, so that paths cannot be named.
    pub listing: Option<String>,
}

pub(super) fn verdict(
    store: &Store,
    logged: &Logged,
    bad: &BTreeMap<String, PayloadReport>,
    names: &BTreeSet<&str>,
) -> RunVerdict {
    let record = &logged.record;
    let mut verdict = RunVerdict {
        run: record.run.to_string(),
        app: record.app.clone(),
        thinned: logged.is_thinned(),
        parts: record.captures.iter().filter(|capture| capture.is_captured()).count() as u64,
        read: false,
        locked: logged.is_locked,
        lost: Vec::new(),
        payload: Vec::new(),
        problems: Vec::new(),
        is_unreadable: false,
    };
    if let Some(previous) = record.previous.as_deref().filter(|previous| !names.contains(previous)) {
        verdict.problems.push(format!("the record before it is missing or unreadable: {previous}"));
    }
    if logged.in_store && record.store_json.is_some_and(|hash| hash != store.info_hash()) {
        verdict.problems.push("`store.json` is not the one that it was written with".to_owned());
    }
    if let Some(expected) = record.machine_json {
        match store.machine_hash(&record.machine) {
            Ok(found) if found == Some(expected) => {}
            _ => verdict
                .problems
                .push("the registration of its machine is not the one that it was written with".to_owned()),
        }
    }
    if verdict.thinned {
        return verdict;
    }
    let holdings = logged.holdings();
    let stands_on = holdings.files().map(|(name, _)| name);
    verdict.payload = stands_on.filter(|name| bad.contains_key(*name)).map(str::to_owned).collect();
    if verdict.payload.is_empty() || logged.is_locked {
        return verdict;
    }
    let lost: BTreeSet<Hash> = bad.values().flat_map(|report| report.lost.iter().copied()).collect();
    let (mut chunks, failed) = store.chunks_that_can_be_read(&holdings);
    if failed.iter().any(|(_, error)| matches!(error, StoreError::Locked { .. })) {
        return verdict;
    }
    for capture in record.captures.iter().filter(|capture| capture.is_captured()) {
        let Some(listing) = &capture.listing else { continue };
        // A chunk in a damaged file may lie in a sound one too; what can be got is not lost.
        let loss = part_loss(&capture.part, &listing.root, &mut chunks, &mut |chunks, id| {
            chunks.places(id).iter().any(|place| !(bad.contains_key(&place.payload) && lost.contains(id)))
        });
        if loss.count > 0 || loss.listing.is_some() {
            verdict.lost.push(loss);
        }
    }
    verdict
}

/// Proves that what captures consist of can be put together from chunks that are there. Most runs have most listings in common.
#[derive(Default)]
pub(super) struct Walked {
    /// Listings that were walked and found whole, each with the payload that it was looked for in.
    whole: HashSet<(Hash, Hash)>,
}

impl Walked {
    pub(super) fn walk(&mut self, store: &Store, logged: &Logged, verdict: &mut RunVerdict) {
        if logged.is_locked {
            return;
        }
        let holdings = logged.holdings();
        let captures = || logged.record.captures.iter().filter(|capture| capture.is_captured());
        let of_holdings = Hash::of(&serde_json::to_vec(&holdings).unwrap_or_default());
        let is_known = |root: &Hash| self.whole.contains(&(*root, of_holdings));
        if captures().filter_map(|capture| capture.listing.as_ref()).all(|listing| is_known(&listing.root)) {
            return;
        }
        let (mut chunks, failed) = store.chunks_that_can_be_read(&holdings);
        if failed.iter().any(|(_, error)| matches!(error, StoreError::Locked { .. })) {
            verdict.locked = true;
            return;
        }
        verdict.is_unreadable |= !failed.is_empty();
        verdict.problems.extend(failed.iter().map(|(name, error)| format!("{name}: {}", chain(error))));
        let named = NamedFrames::of(&holdings);
        for capture in captures() {
            let Some(listing) = &capture.listing else { continue };
            let loss = part_loss(&capture.part, &listing.root, &mut chunks, &mut |chunks, id| {
                chunks.places(id).iter().any(|place| named.has(place))
            });
            if loss.count > 0 || loss.listing.is_some() {
                verdict.lost.push(loss);
            } else {
                self.whole.insert((listing.root, of_holdings));
            }
        }
    }
}

/// The frames that a run names: what lies in others may be removed, for no record says that it is needed.
struct NamedFrames<'h> {
    wrote: HashSet<&'h str>,
    needs: HashMap<&'h str, Vec<[u32; 2]>>,
}

impl<'h> NamedFrames<'h> {
    fn of(holdings: &'h gullet_store::Holdings) -> Self {
        let mut needs: HashMap<&str, Vec<[u32; 2]>> = HashMap::new();
        for need in &holdings.needs {
            needs.entry(&need.name).or_default().extend(&need.frames);
        }
        Self { wrote: holdings.wrote.iter().map(|file| file.name.as_str()).collect(), needs }
    }

    fn has(&self, place: &gullet_store::Place) -> bool {
        let within =
            |ranges: &Vec<[u32; 2]>| ranges.iter().any(|[first, last]| (*first..=*last).contains(&place.frame));
        self.wrote.contains(place.payload.as_str()) || self.needs.get(place.payload.as_str()).is_some_and(within)
    }
}

/// What is lost of one part: every path of which a chunk is not `there`.
fn part_loss(
    part: &str,
    root: &Hash,
    chunks: &mut ChunkReader,
    there: &mut dyn FnMut(&mut ChunkReader, &Hash) -> bool,
) -> PartLoss {
    let mut loss = PartLoss { part: part.to_owned(), ..PartLoss::default() };
    let walked = ListingReader::new(chunks).for_each(root, |entry, chunks| {
        let mut is_gone = false;
        let read = entry.each_chunk(chunks, |id, chunks| {
            is_gone |= !there(chunks, id);
            Ok::<_, StoreError>(())
        });
        if is_gone || read.is_err() {
            loss.count += 1;
            if loss.paths.len() < NAMED {
                loss.paths.push(entry.path.to_string());
            }
        }
        Ok::<_, StoreError>(())
    });
    loss.listing = walked.err().map(|error| chain(&error));
    loss
}
