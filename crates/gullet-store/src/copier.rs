//! Copying frames out of payload files into new ones, as they are: what a sweep does with files that are mostly dead.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::RangeInclusive;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};

use crate::cache::Cache;
use crate::error::StoreError;
use crate::hash::Hash;
use crate::packing::{Durable, FileWriter, Packed};
use crate::payload::{OpenPayload, PayloadFile};
use crate::seal::Recipients;
use crate::store::Store;

/// Copies frames into new payload files.
pub struct FrameCopier<'a> {
    store: &'a Store,
    writer: FileWriter,
    durable: Receiver<Durable>,
    /// Old file and frame of each frame that was copied, in order.
    order: Vec<(String, u32)>,
}

/// Where frames that were copied lie now.
#[derive(Debug, Default)]
pub struct CopiedFrames {
    files: Vec<PayloadFile>,
    places: BTreeMap<(String, u32), (usize, u32)>,
}

impl<'a> FrameCopier<'a> {
    /// A copier into files `PREFIX000000.zst` and on, encrypted to `seal`.
    pub fn new(store: &'a Store, prefix: String, seal: Recipients) -> Self {
        let (out, durable) = channel();
        let writer = FileWriter::new(Arc::clone(store.location()), prefix, seal, out, Box::new(|_| Ok(())));
        Self { store, writer, durable, order: Vec::new() }
    }

    /// Copies these frames of a payload file. Every chunk is proven first, so that no damage is carried on.
    ///
    /// # Errors
    /// When the file is missing, locked or damaged, or the new one cannot be written.
    pub fn copy(&mut self, name: &str, frames: &BTreeSet<u32>) -> Result<(), StoreError> {
        let location = self.store.location().as_ref();
        let mut payload = OpenPayload::open(location, self.store.identities(), name)?;
        let contents = payload.contents()?;
        let damaged = |what: String| StoreError::Damaged { name: name.to_owned(), what };
        for &number in frames {
            let frame =
                contents.frames.get(number as usize).ok_or_else(|| damaged(format!("it has no frame {number}")))?;
            let bytes = payload.frame(frame)?;
            let mut chunks = Vec::new();
            for chunk in contents.chunks.iter().filter(|chunk| chunk.frame == number) {
                let range = chunk.offset as usize..(chunk.offset + chunk.length) as usize;
                if bytes.get(range).map(Hash::of) != Some(chunk.id) {
                    return Err(damaged(format!("chunk {} has other bytes than its id says", chunk.id)));
                }
                chunks.push((chunk.id, chunk.offset, chunk.length));
            }
            let stored = payload.stored_frame(frame)?;
            self.writer.append(Packed { length: frame.length, chunks, stored })?;
            self.order.push((name.to_owned(), number));
        }
        Ok(())
    }

    /// Makes everything durable, and lets the cache know where it lies.
    ///
    /// # Errors
    /// When that fails.
    pub fn finish(mut self, cache: &mut Cache, seal: &Recipients) -> Result<CopiedFrames, StoreError> {
        self.writer.finish()?;
        drop(self.writer);
        let mut copied = CopiedFrames::default();
        let mut order = self.order.into_iter();
        for durable in self.durable {
            cache.learn(&durable.file.name, durable.file.length, seal, &durable.chunks)?;
            for (number, old) in order.by_ref().take(durable.file.frames as usize).enumerate() {
                copied.places.insert(old, (copied.files.len(), number as u32));
            }
            copied.files.push(durable.file);
        }
        Ok(copied)
    }
}

impl CopiedFrames {
    /// The new files.
    pub fn files(&self) -> &[PayloadFile] {
        &self.files
    }

    /// Where these frames of an old file lie now: new files, and ranges of frames in them.
    pub fn of(&self, name: &str, frames: &[[u32; 2]]) -> Vec<(PayloadFile, Vec<[u32; 2]>)> {
        let mut found: BTreeMap<usize, BTreeSet<u32>> = BTreeMap::new();
        let numbers = frames.iter().flat_map(|[first, last]| RangeInclusive::new(*first, *last));
        for (file, frame) in numbers.filter_map(|number| self.places.get(&(name.to_owned(), number))) {
            found.entry(*file).or_default().insert(*frame);
        }
        found.into_iter().map(|(file, frames)| (self.files[file].clone(), crate::deposit::ranges(&frames))).collect()
    }
}
