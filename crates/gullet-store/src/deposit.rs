//! Putting chunks into a store, each only once.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::Arc;
use std::time::Duration;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cache::{Cache, CachedPayload};
use crate::error::StoreError;
use crate::hash::Hash;
use crate::location::{Lengths, Location};
use crate::packing::{Durable, Packing, PayloadWriter};
use crate::payload::PayloadFile;
use crate::seal::Recipients;

/// What a run wrote and what it needs of earlier runs' payload; part of its record.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Holdings {
    /// Every payload file that this run wrote.
    pub wrote: Vec<PayloadFile>,
    /// The parts of earlier payload files that this run stands on.
    pub needs: Vec<Need>,
}

impl Holdings {
    /// Every payload file that the run stands on, its own and earlier ones, with its length.
    pub fn files(&self) -> impl Iterator<Item = (&str, u64)> {
        let needs = self.needs.iter().map(|need| (need.name.as_str(), need.length));
        self.wrote.iter().map(|file| (file.name.as_str(), file.length)).chain(needs)
    }
}

/// Frames of an earlier payload file that a run stands on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Need {
    /// The payload file.
    pub name: String,
    /// Its length in bytes.
    pub length: u64,
    /// The frames needed, as ranges `[first, last]`.
    pub frames: Vec<[u32; 2]>,
}

/// What went into a deposit so far.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct DepositTally {
    /// Chunks that were put in, known or new.
    pub chunks: u64,
    /// Chunks that were new to the store.
    pub new_chunks: u64,
    /// Bytes of the new chunks before compression.
    pub new_bytes: u64,
}

/// How a deposit compresses, and whom it seals for.
#[derive(Clone, Debug)]
pub struct DepositOptions {
    /// Zstandard level, 1 to 22.
    pub level: i32,
    /// Threads that compress.
    pub threads: usize,
    /// The public keys that what is stored is encrypted to; none means not encrypted.
    pub seal: Recipients,
}

impl Default for DepositOptions {
    fn default() -> Self {
        Self { level: 3, threads: 2, seal: Recipients::default() }
    }
}

/// So many chunks that are not in the cache are looked up one by one; then all ids that it has are read at once.
const LOOKED_UP: u32 = 256;

/// A far place that said that a payload file is there is asked again only when that was longer ago.
const STILL_THERE: Duration = Duration::from_secs(60);

/// Where a chunk of a deposit is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum StoredFrame {
    /// In a payload file of an earlier run: its number in the cache, and the frame.
    Earlier(i64, u32),
    /// In a frame of this run; they are counted through all its files.
    Own(u64),
}

/// The frames that something stands on, gathered between [`Deposit::note`] and [`Deposit::noted`].
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FrameSet(BTreeSet<StoredFrame>);

/// Frames by the names of their payload files; the same as a part of [`Holdings`], whoever wrote them.
pub type Frames = BTreeMap<String, Vec<[u32; 2]>>;

/// What a finished deposit comes to.
#[derive(Debug)]
pub struct Deposited {
    /// What the run wrote and what it needs.
    pub holdings: Holdings,
    /// How much went in.
    pub tally: DepositTally,
    earlier: HashMap<i64, CachedPayload>,
    /// First frame, counted through all files, of each file that was written.
    own: Vec<(u64, String)>,
}

impl Deposited {
    /// Which frames of which payload files were noted.
    pub fn frames(&self, uses: &FrameSet) -> Frames {
        let mut found: BTreeMap<&str, BTreeSet<u32>> = BTreeMap::new();
        for spot in &uses.0 {
            match spot {
                StoredFrame::Earlier(payload, frame) => {
                    if let Some(payload) = self.earlier.get(payload) {
                        found.entry(&payload.name).or_default().insert(*frame);
                    }
                }
                StoredFrame::Own(frame) => {
                    let after = self.own.partition_point(|(first, _)| first <= frame);
                    if let Some((first, name)) = after.checked_sub(1).map(|at| &self.own[at]) {
                        found.entry(name).or_default().insert((frame - first) as u32);
                    }
                }
            }
        }
        found.into_iter().map(|(name, frames)| (name.to_owned(), ranges(&frames))).collect()
    }
}

/// Takes the chunks of one run.
pub struct Deposit<'a> {
    location: Arc<dyn Location>,
    cache: &'a mut Cache,
    writer: PayloadWriter,
    seal: Vec<String>,
    /// Chunks taken by this deposit, and not yet known to be in the cache.
    pending: HashMap<Hash, u64>,
    /// Beginnings of the ids of chunks of this deposit that are in the cache.
    learned: HashSet<u64>,
    wrote: Vec<PayloadFile>,
    used: BTreeMap<i64, BTreeSet<u32>>,
    /// Payload files that were looked up in the cache.
    payloads: HashMap<i64, CachedPayload>,
    /// Their numbers by their names; none for one that is not known.
    numbers: HashMap<String, Option<i64>>,
    /// Payload files of earlier runs, and whether they can be stood on.
    present: HashMap<i64, bool>,
    /// The lengths of earlier payload files, as they were asked for.
    lengths: Lengths,
    /// The uptime when the first of them was asked for.
    asked: Option<Duration>,
    /// Beginnings of the ids of all chunks that the cache knew, once it is worth the reading.
    known: Option<Vec<u64>>,
    looked_up: u32,
    note: Option<BTreeSet<StoredFrame>>,
    tally: DepositTally,
}

impl<'a> Deposit<'a> {
    /// A deposit of `run` by `machine` into the store at `location`.
    ///
    /// # Errors
    /// When the cache cannot be read.
    pub fn new(
        location: Arc<dyn Location>,
        cache: &'a mut Cache,
        machine: &str,
        run: &str,
        options: &DepositOptions,
    ) -> Result<Self, StoreError> {
        let prefix = format!("payload/{machine}/{run}/");
        let packing = Packing { level: options.level, threads: options.threads, seal: options.seal.clone() };
        let (mut librarian, seal) = (cache.again()?, options.seal.clone());
        let learn = Box::new(move |durable: &Durable| {
            librarian.learn(&durable.file.name, durable.file.length, &seal, &durable.chunks)
        });
        Ok(Self {
            writer: PayloadWriter::new(Arc::clone(&location), prefix, &packing, learn),
            location,
            cache,
            seal: options.seal.texts(),
            pending: HashMap::new(),
            learned: HashSet::new(),
            wrote: Vec::new(),
            used: BTreeMap::new(),
            payloads: HashMap::new(),
            numbers: HashMap::new(),
            present: HashMap::new(),
            lengths: Lengths::default(),
            asked: None,
            known: None,
            looked_up: 0,
            note: None,
            tally: DepositTally::default(),
        })
    }

    /// What went in so far.
    pub fn tally(&self) -> DepositTally {
        self.tally
    }

    /// Compresses what comes from now on at this level.
    ///
    /// # Errors
    /// When writing fails.
    pub fn set_level(&mut self, level: i32) -> Result<(), StoreError> {
        self.writer.set_level(level)
    }

    /// Notes from now on which frames hold what goes in.
    pub fn note(&mut self) {
        self.note = Some(BTreeSet::new());
    }

    fn note_spot(&mut self, spot: StoredFrame) {
        if let Some(note) = &mut self.note {
            note.insert(spot);
        }
    }

    /// What was noted since the last call.
    pub fn noted(&mut self) -> FrameSet {
        self.note.as_mut().map(std::mem::take).map(FrameSet).unwrap_or_default()
    }

    /// Puts a chunk in, unless the store has it, and gives its id.
    ///
    /// # Errors
    /// When writing fails; the deposit cannot be continued then.
    pub fn put(&mut self, bytes: &[u8]) -> Result<Hash, StoreError> {
        self.put_known(Hash::of(bytes), bytes)
    }

    /// As [`Deposit::put`], with the id that the bytes are known to have.
    ///
    /// # Errors
    /// As [`Deposit::put`].
    pub fn put_known(&mut self, id: Hash, bytes: &[u8]) -> Result<Hash, StoreError> {
        self.tally.chunks += 1;
        if self.reuse_one(&id)? {
            return Ok(id);
        }
        self.tally.new_chunks += 1;
        self.tally.new_bytes += bytes.len() as u64;
        let frame = self.writer.add(id, bytes)?;
        self.pending.insert(id, frame);
        self.note_spot(StoredFrame::Own(frame));
        self.hear_of_durable();
        Ok(id)
    }

    /// Whether all chunks are in the store already; if so this run stands on them from now on.
    ///
    /// # Errors
    /// When the local cache or the place cannot be asked.
    pub fn reuse(&mut self, ids: &[Hash]) -> Result<bool, StoreError> {
        for id in ids {
            if !self.reuse_one(id)? {
                return Ok(false);
            }
        }
        self.tally.chunks += ids.len() as u64;
        Ok(true)
    }

    /// Notes once more what was noted by this deposit before.
    pub fn note_again(&mut self, uses: &FrameSet) {
        if let Some(note) = &mut self.note {
            note.extend(&uses.0);
        }
    }

    /// Whether all these frames are in the store, so that this run can stand on them.
    ///
    /// # Errors
    /// When the place cannot be asked.
    pub fn can_reuse(&mut self, frames: &Frames) -> Result<bool, StoreError> {
        for name in frames.keys() {
            let Some(number) = self.number(name)? else { return Ok(false) };
            if !self.can_stand_on(number)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Whether all these frames are in the store; if so this run stands on them from now on.
    ///
    /// # Errors
    /// When the place cannot be asked.
    pub fn reuse_frames(&mut self, frames: &Frames) -> Result<bool, StoreError> {
        if !self.can_reuse(frames)? {
            return Ok(false);
        }
        for (name, ranges) in frames {
            let Some(number) = self.number(name)? else { return Ok(false) };
            for frame in ranges.iter().flat_map(|[first, last]| *first..=*last) {
                self.used.entry(number).or_default().insert(frame);
                self.note_spot(StoredFrame::Earlier(number, frame));
            }
        }
        Ok(true)
    }

    fn reuse_one(&mut self, id: &Hash) -> Result<bool, StoreError> {
        if let Some(frame) = self.pending.get(id) {
            let frame = *frame;
            self.note_spot(StoredFrame::Own(frame));
            return Ok(true);
        }
        if !self.learned.contains(&id.prefix()) {
            if let Some(known) = &self.known {
                if known.binary_search(&id.prefix()).is_err() {
                    return Ok(false);
                }
            } else if self.looked_up == LOOKED_UP {
                self.known = Some(self.cache.prefixes()?);
            }
        }
        let Some((number, frame)) = self.cache.find(id)? else {
            self.looked_up = (self.looked_up + 1).min(LOOKED_UP);
            return Ok(false);
        };
        if !self.can_stand_on(number)? {
            return Ok(false);
        }
        self.used.entry(number).or_default().insert(frame);
        self.note_spot(StoredFrame::Earlier(number, frame));
        Ok(true)
    }

    /// Whether a payload file is there whole and opens with every key of this run. What is reused must be proven present:
    /// one that is gone or has another length is forgotten.
    fn can_stand_on(&mut self, number: i64) -> Result<bool, StoreError> {
        if let Some(present) = self.present.get(&number) {
            return Ok(*present);
        }
        let Some(payload) = self.cache.payload(number)? else { return Ok(false) };
        let mut can =
            self.seal.iter().all(|key| payload.seal.contains(key)) && self.seal.is_empty() == payload.seal.is_empty();
        self.asked.get_or_insert_with(uptime);
        if can && self.lengths.of(self.location.as_ref(), &payload.name)? != Some(payload.length) {
            self.cache.forget(&payload.name)?;
            can = false;
        }
        self.present.insert(number, can);
        self.payloads.insert(number, payload);
        Ok(can)
    }

    fn number(&mut self, name: &str) -> Result<Option<i64>, StoreError> {
        if let Some(known) = self.numbers.get(name) {
            return Ok(*known);
        }
        let number = self.cache.number(name)?;
        self.numbers.insert(name.to_owned(), number);
        Ok(number)
    }

    fn hear_of_durable(&mut self) {
        for durable in self.writer.durable() {
            for chunk in &durable.chunks {
                self.pending.remove(&chunk.id);
                self.learned.insert(chunk.id.prefix());
            }
            self.wrote.push(durable.file);
        }
    }

    /// Writes what is left; when this returns, all that was put in is durable.
    ///
    /// # Errors
    /// When writing failed, or earlier payload that this run stands on has gone missing since.
    pub fn finish(mut self) -> Result<Deposited, StoreError> {
        self.writer.finish()?;
        self.hear_of_durable();
        let own: HashSet<&str> = self.wrote.iter().map(|file| file.name.as_str()).collect();
        let (mut needs, mut there) = (Vec::new(), Lengths::default());
        let is_fresh = self.location.is_far() && self.asked.is_some_and(|at| uptime().saturating_sub(at) < STILL_THERE);
        for (number, frames) in &self.used {
            let Some(payload) = self.payloads.get(number).filter(|payload| !own.contains(payload.name.as_str())) else {
                continue;
            };
            // Asked anew: somebody may have removed it since.
            if !is_fresh && there.of(self.location.as_ref(), &payload.name)? != Some(payload.length) {
                self.cache.forget(&payload.name)?;
                return Err(StoreError::Missing { name: payload.name.clone() });
            }
            needs.push(Need { name: payload.name.clone(), length: payload.length, frames: ranges(frames) });
        }
        needs.sort_by(|a, b| a.name.cmp(&b.name));
        let mut first = 0;
        let mut own = Vec::new();
        for file in &self.wrote {
            own.push((first, file.name.clone()));
            first += u64::from(file.frames);
        }
        let holdings = Holdings { wrote: self.wrote, needs };
        Ok(Deposited { holdings, tally: self.tally, earlier: self.payloads, own })
    }
}

/// The time since the machine was started, which goes on while it is suspended.
fn uptime() -> Duration {
    let time = rustix::time::clock_gettime(rustix::time::ClockId::Boottime);
    Duration::new(time.tv_sec.unsigned_abs(), u32::try_from(time.tv_nsec).unwrap_or(0))
}

/// Numbers in order as ranges of first and last.
pub(crate) fn ranges(numbers: &BTreeSet<u32>) -> Vec<[u32; 2]> {
    let mut found: Vec<[u32; 2]> = Vec::new();
    for &number in numbers {
        match found.last_mut() {
            Some([_, last]) if *last + 1 == number => *last = number,
            _ => found.push([number, number]),
        }
    }
    found
}

#[cfg(test)]
mod tests;
