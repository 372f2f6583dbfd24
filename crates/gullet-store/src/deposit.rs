//! Putting chunks into a store, each only once.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cache::Cache;
use crate::error::StoreError;
use crate::hash::Hash;
use crate::location::Location;
use crate::payload::{PayloadFile, PayloadWriter};

/// What a run wrote and what it needs of earlier runs' payload; part of its record.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Holdings {
    /// Every payload file that this run wrote.
    pub wrote: Vec<PayloadFile>,
    /// The parts of earlier payload files that this run stands on.
    pub needs: Vec<Need>,
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
pub struct Tally {
    /// Chunks offered.
    pub chunks: u64,
    /// Chunks that were new to the store.
    pub new_chunks: u64,
    /// Bytes of the new chunks before compression.
    pub new_bytes: u64,
}

/// How a deposit compresses.
#[derive(Clone, Copy, Debug)]
pub struct DepositOptions {
    /// Zstandard level, 1 to 22.
    pub level: i32,
    /// Threads that compress.
    pub threads: usize,
}

impl Default for DepositOptions {
    fn default() -> Self {
        Self { level: 3, threads: 2 }
    }
}

struct Used {
    length: u64,
    frames: BTreeSet<u32>,
}

/// Takes the chunks of one run.
pub struct Deposit<'a> {
    location: Arc<dyn Location>,
    cache: &'a mut Cache,
    writer: PayloadWriter,
    /// Chunks taken by this deposit and not yet known to be durable.
    pending: HashMap<Hash, ()>,
    wrote: Vec<PayloadFile>,
    used: BTreeMap<String, Used>,
    /// Payload files of earlier runs, and whether they were found present.
    present: HashMap<String, bool>,
    prefix: String,
    tally: Tally,
}

impl<'a> Deposit<'a> {
    /// A deposit of `run` by `writer` into the store at `location`.
    pub fn new(
        location: Arc<dyn Location>,
        cache: &'a mut Cache,
        writer: &str,
        run: &str,
        options: DepositOptions,
    ) -> Self {
        let prefix = format!("payload/{writer}/{run}/");
        let payload = PayloadWriter::new(Arc::clone(&location), prefix.clone(), options.level, options.threads);
        Self {
            location,
            cache,
            writer: payload,
            pending: HashMap::new(),
            wrote: Vec::new(),
            used: BTreeMap::new(),
            present: HashMap::new(),
            prefix,
            tally: Tally::default(),
        }
    }

    /// What went in so far.
    pub fn tally(&self) -> Tally {
        self.tally
    }

    /// Puts a chunk in, unless the store has it, and gives its id.
    ///
    /// # Errors
    /// When writing fails; the deposit cannot be continued then.
    pub fn put(&mut self, bytes: &[u8]) -> Result<Hash, StoreError> {
        let id = Hash::of(bytes);
        self.tally.chunks += 1;
        if self.reuse_one(&id)? {
            return Ok(id);
        }
        self.tally.new_chunks += 1;
        self.tally.new_bytes += bytes.len() as u64;
        self.pending.insert(id, ());
        self.writer.add(id, bytes)?;
        self.learn()?;
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

    fn reuse_one(&mut self, id: &Hash) -> Result<bool, StoreError> {
        if self.pending.contains_key(id) {
            return Ok(true);
        }
        let Some((place, length)) = self.cache.find(id)? else { return Ok(false) };
        if place.payload.starts_with(&self.prefix) {
            return Ok(true);
        }
        // What is reused must be proven present: a payload file that is gone or has another length is forgotten.
        let present = match self.present.get(&place.payload) {
            Some(present) => *present,
            None => {
                let present = self.location.length(&place.payload)? == Some(length);
                self.present.insert(place.payload.clone(), present);
                if !present {
                    self.cache.forget(&place.payload)?;
                }
                present
            }
        };
        if present {
            let used = self.used.entry(place.payload).or_insert(Used { length, frames: BTreeSet::new() });
            used.frames.insert(place.frame);
        }
        Ok(present)
    }

    fn learn(&mut self) -> Result<(), StoreError> {
        for durable in self.writer.durable() {
            self.cache.learn(&durable.file.name, durable.file.length, &durable.chunks)?;
            for chunk in &durable.chunks {
                self.pending.remove(&chunk.id);
            }
            self.wrote.push(durable.file);
        }
        Ok(())
    }

    /// Writes what is left; when this returns, all that was put in is durable.
    ///
    /// # Errors
    /// When writing failed, or earlier payload that this run stands on has gone missing since.
    pub fn finish(mut self) -> Result<(Holdings, Tally), StoreError> {
        self.writer.finish()?;
        self.learn()?;
        let mut needs = Vec::new();
        for (name, used) in self.used {
            if self.location.length(&name)? != Some(used.length) {
                self.cache.forget(&name)?;
                return Err(StoreError::Missing { name });
            }
            needs.push(Need { name, length: used.length, frames: ranges(&used.frames) });
        }
        Ok((Holdings { wrote: self.wrote, needs }, self.tally))
    }
}

/// Numbers in order as ranges of first and last.
fn ranges(numbers: &BTreeSet<u32>) -> Vec<[u32; 2]> {
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
mod tests {
    use super::*;
    use crate::location::Memory;
    use crate::reader::ChunkReader;

    fn deposit(memory: &Memory, cache: &mut Cache, run: &str, chunks: &[&[u8]]) -> (Holdings, Tally) {
        let mut deposit = Deposit::new(Arc::new(memory.clone()), cache, "w", run, DepositOptions::default());
        for chunk in chunks {
            deposit.put(chunk).unwrap();
        }
        deposit.finish().unwrap()
    }

    #[test]
    fn a_chunk_is_stored_once_and_the_second_run_names_what_it_needs() {
        let folder = tempfile::tempdir().unwrap();
        let (memory, mut cache) = (Memory::default(), Cache::open(&folder.path().join("cache.db")).unwrap());
        let (first, tally) = deposit(&memory, &mut cache, "one", &[b"alpha", b"beta", b"alpha"]);
        assert_eq!((tally.chunks, tally.new_chunks, first.wrote.len(), first.needs.len()), (3, 2, 1, 0));
        let (second, tally) = deposit(&memory, &mut cache, "two", &[b"beta", b"alpha"]);
        assert_eq!((tally.new_chunks, second.wrote.len()), (0, 0));
        assert_eq!(second.needs[0].name, first.wrote[0].name);
        assert_eq!(second.needs[0].frames, [[0, 0]]);

        let mut reader = ChunkReader::new(Arc::new(memory));
        reader.add(&second.needs[0].name, second.needs[0].length).unwrap();
        assert_eq!(reader.get(&Hash::of(b"beta")).unwrap(), b"beta");
        assert!(matches!(reader.get(&Hash::of(b"gamma")), Err(StoreError::NoChunk { .. })));
    }

    #[test]
    fn payload_that_is_gone_is_stored_anew() {
        let folder = tempfile::tempdir().unwrap();
        let (memory, mut cache) = (Memory::default(), Cache::open(&folder.path().join("cache.db")).unwrap());
        let (first, _) = deposit(&memory, &mut cache, "one", &[b"alpha"]);
        memory.remove(&first.wrote[0].name).unwrap();
        let (second, tally) = deposit(&memory, &mut cache, "two", &[b"alpha"]);
        assert_eq!((tally.new_chunks, second.wrote.len(), second.needs.len()), (1, 1, 0));
    }

    #[test]
    fn changed_bytes_are_never_handed_out() {
        let folder = tempfile::tempdir().unwrap();
        let (memory, mut cache) = (Memory::default(), Cache::open(&folder.path().join("cache.db")).unwrap());
        let (first, _) = deposit(&memory, &mut cache, "one", &[b"a passenger list that is long enough"]);
        let file = &first.wrote[0];
        let whole = memory.read(&file.name).unwrap();
        for at in 0..whole.len() {
            memory.tamper(&file.name, |bytes| bytes[at] ^= 0x10);
            let mut reader = ChunkReader::new(Arc::new(memory.clone()));
            let got = reader
                .add(&file.name, file.length)
                .and_then(|()| reader.get(&Hash::of(b"a passenger list that is long enough")));
            if let Ok(bytes) = got {
                assert_eq!(bytes, b"a passenger list that is long enough", "flip at {at}");
            }
            memory.tamper(&file.name, |bytes| bytes[at] ^= 0x10);
        }
    }

    #[test]
    fn ranges_join_neighbours() {
        assert_eq!(ranges(&BTreeSet::from([0, 1, 2, 5, 7, 8])), [[0, 2], [5, 5], [7, 8]]);
    }
}
