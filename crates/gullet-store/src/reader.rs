//! Getting chunks back, each proven by its id before it is handed out.

use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

use crate::error::StoreError;
use crate::hash::Hash;
use crate::location::Location;
use crate::payload::{OpenPayload, TocFrame};
use crate::seal::Identities;

/// How many decompressed frames are kept at hand; small files that follow one another share frames.
const FRAMES_AT_HAND: usize = 4;
/// How many payload files are kept open.
const OPEN_AT_ONCE: usize = 8;

/// Of two files at the same place of their runs that of the newer run is read first, and later ones only when they are so much nearer.
const RANK: f64 = 0.02;

/// Where a chunk lies in the store.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// The payload file.
    pub payload: String,
    /// The frame in it.
    pub frame: u32,
    /// First byte of the chunk in the decompressed frame.
    pub offset: u32,
    /// The chunk's length in bytes.
    pub length: u32,
}

/// A payload file's number in the reader, and a frame's in it.
type FrameKey = (u32, u32);

struct File {
    name: String,
    frames: Vec<TocFrame>,
    spots: Vec<FrameRef>,
}

#[derive(Clone, Copy)]
struct FrameRef {
    frame: u32,
    offset: u32,
    length: u32,
}

/// The beginning of a chunk's id, and where it stands: file and number in it. What a beginning leads to is proven by the
/// whole id, so ids need not be kept.
type Pointer = (u64, u32, u32);

/// What all readers of a set of payload files share.
struct KnownChunk {
    location: Arc<dyn Location>,
    identities: Identities,
    files: Vec<File>,
    index: Vec<Pointer>,
    is_sorted: bool,
    unread: Unread,
}

/// Payload files whose contents are read only when a chunk is looked for that no other has.
///
/// A run writes what it captures in the order of its listing, and each block of the listing right behind what is in it. So a path's
/// place in the listing says about where its block is among the files of a run, and the contents are beside it.
#[derive(Default)]
struct Unread {
    /// The files, each with its place among those of its run, from 0 to 1, and how many runs come before.
    files: Vec<(f64, u32, String)>,
    /// Where what is looked for is expected.
    near: f64,
}

impl Unread {
    fn of(names: &[String]) -> Self {
        let run_of = |name: &str| name.rsplit_once('/').map_or(String::new(), |(run, _)| run.to_owned());
        let mut runs: Vec<(String, Vec<String>)> = Vec::new();
        for name in names {
            match runs.iter_mut().find(|(run, _)| *run == run_of(name)) {
                Some((_, files)) => files.push(name.clone()),
                None => runs.push((run_of(name), vec![name.clone()])),
            }
        }
        let mut all = Vec::new();
        for (rank, (_, mut files)) in runs.into_iter().enumerate() {
            files.sort();
            let last = files.len().saturating_sub(1).max(1) as f64;
            let is_alone = files.len() == 1;
            let place = |at: usize| if is_alone { 0.5 } else { at as f64 / last };
            all.extend(files.into_iter().enumerate().map(|(at, name)| (place(at), rank as u32, name)));
        }
        Self { files: all, near: 1.0 }
    }

    /// The file that is to be read next.
    fn next(&mut self) -> Option<String> {
        let far = |(place, rank, _): &(f64, u32, String)| (place - self.near).abs() + f64::from(*rank) * RANK;
        let (at, _) = self.files.iter().enumerate().min_by(|(_, a), (_, b)| far(a).total_cmp(&far(b)))?;
        Some(self.files.remove(at).2)
    }
}

impl KnownChunk {
    /// Adds a payload file with its table of contents.
    fn add(&mut self, name: &str) -> Result<(u32, OpenPayload), StoreError> {
        let mut payload = OpenPayload::open(self.location.as_ref(), &self.identities, name)?;
        let toc = payload.contents()?;
        let file = self.files.len() as u32;
        self.index.reserve(toc.chunks.len());
        let mut spots = Vec::with_capacity(toc.chunks.len());
        for (number, chunk) in toc.chunks.iter().enumerate() {
            spots.push(FrameRef { frame: chunk.frame, offset: chunk.offset, length: chunk.length });
            self.index.push((chunk.id.prefix(), file, number as u32));
        }
        self.is_sorted = false;
        self.files.push(File { name: name.to_owned(), frames: toc.frames, spots });
        Ok((file, payload))
    }

    fn sort(&mut self) {
        if !self.is_sorted {
            self.index.sort_unstable();
            self.is_sorted = true;
        }
    }

    /// Everywhere that a chunk may lie, as far as is known.
    fn pointers(&self, id: &Hash) -> Vec<Pointer> {
        let first = self.index.partition_point(|pointer| pointer.0 < id.prefix());
        self.index[first..].iter().take_while(|pointer| pointer.0 == id.prefix()).copied().collect()
    }
}

/// Reads chunks out of a set of payload files.
pub struct ChunkReader {
    known: Arc<RwLock<KnownChunk>>,
    open: Vec<(u32, OpenPayload)>,
    /// Decompressed frames, by file and number.
    at_hand: Vec<(FrameKey, Arc<Vec<u8>>)>,
}

impl ChunkReader {
    /// A reader that knows no payload yet; sealed payload is opened with `identities`.
    pub fn new(location: Arc<dyn Location>, identities: Identities) -> Self {
        Self::lazy(location, identities, &[])
    }

    /// A reader of these payload files, those of the newest run first, that reads the contents of one only when a chunk is looked for
    /// that it has found in none so far. One that cannot be read has no chunks.
    pub fn lazy(location: Arc<dyn Location>, identities: Identities, names: &[String]) -> Self {
        let (files, index, unread) = (Vec::new(), Vec::new(), Unread::of(names));
        Self::of(Arc::new(RwLock::new(KnownChunk { location, identities, files, index, is_sorted: true, unread })))
    }

    fn of(known: Arc<RwLock<KnownChunk>>) -> Self {
        Self { known, open: Vec::new(), at_hand: Vec::new() }
    }

    fn known(&self) -> RwLockReadGuard<'_, KnownChunk> {
        self.known.read().unwrap_or_else(PoisonError::into_inner)
    }

    fn to_change(&self) -> RwLockWriteGuard<'_, KnownChunk> {
        self.known.write().unwrap_or_else(PoisonError::into_inner)
    }

    /// Another reader of the same files, for another thread.
    #[must_use]
    pub fn another(&self) -> Self {
        Self::of(Arc::clone(&self.known))
    }

    /// Says where what is looked for next is expected: its place in the order in which the newest run was captured, from 0 to 1.
    pub fn expect_near(&mut self, place: f64) {
        if !self.known().unread.files.is_empty() {
            self.to_change().unread.near = place;
        }
    }

    /// Adds a payload file with its table of contents. Of several places that hold a chunk any sound one is used.
    ///
    /// # Errors
    /// When the file is missing, locked, or its closing frames are damaged.
    pub fn add(&mut self, name: &str) -> Result<(), StoreError> {
        let (file, payload) = self.to_change().add(name)?;
        self.keep_open(file, payload);
        Ok(())
    }

    /// Keeps a payload file open, instead of the one that was opened first.
    fn keep_open(&mut self, file: u32, payload: OpenPayload) {
        if self.open.len() == OPEN_AT_ONCE {
            self.open.remove(0);
        }
        self.open.push((file, payload));
    }

    /// Everywhere that a chunk may lie.
    fn pointers(&mut self, id: &Hash) -> Vec<Pointer> {
        loop {
            {
                let known = self.known();
                if known.is_sorted {
                    let found = known.pointers(id);
                    if !found.is_empty() || known.unread.files.is_empty() {
                        return found;
                    }
                }
            }
            let mut known = self.to_change();
            known.sort();
            // Another thread may have read what it is in meanwhile.
            let next = if known.pointers(id).is_empty() { known.unread.next() } else { None };
            let read = next.and_then(|name| known.add(&name).ok());
            known.sort();
            drop(known);
            if let Some((file, payload)) = read {
                self.keep_open(file, payload);
            }
        }
    }

    fn spot(&self, (_, file, number): Pointer) -> FrameRef {
        self.known().files[file as usize].spots[number as usize]
    }

    /// Where a chunk lies, if one of the files holds it.
    pub fn place(&mut self, id: &Hash) -> Option<Place> {
        let pointer = *self.pointers(id).first()?;
        Some(self.place_of(pointer))
    }

    /// Everywhere that a chunk lies.
    pub fn places(&mut self, id: &Hash) -> Vec<Place> {
        self.pointers(id).into_iter().map(|pointer| self.place_of(pointer)).collect()
    }

    fn place_of(&self, pointer: Pointer) -> Place {
        let spot = self.spot(pointer);
        let payload = self.known().files[pointer.1 as usize].name.clone();
        Place { payload, frame: spot.frame, offset: spot.offset, length: spot.length }
    }

    /// The bytes of a chunk, proven against its id.
    ///
    /// # Errors
    /// [`StoreError::NoChunk`] when no file holds it, [`StoreError::Damaged`] when its bytes are not what they were.
    pub fn get(&mut self, id: &Hash) -> Result<Vec<u8>, StoreError> {
        let mut failed = StoreError::NoChunk { id: *id };
        for pointer in self.pointers(id) {
            match self.get_at(pointer, id) {
                Ok(bytes) => return Ok(bytes),
                Err(error) => failed = error,
            }
        }
        Err(failed)
    }

    fn get_at(&mut self, pointer: Pointer, id: &Hash) -> Result<Vec<u8>, StoreError> {
        let spot = self.spot(pointer);
        let frame = self.frame(pointer.1, spot.frame)?;
        let range = spot.offset as usize..spot.offset as usize + spot.length as usize;
        let bytes = frame.get(range).filter(|bytes| Hash::of(bytes) == *id);
        bytes.map(<[u8]>::to_vec).ok_or_else(|| StoreError::Damaged {
            name: self.known().files[pointer.1 as usize].name.clone(),
            what: format!("chunk {id} has other bytes than its id says"),
        })
    }

    fn frame(&mut self, file: u32, number: u32) -> Result<Arc<Vec<u8>>, StoreError> {
        let key = (file, number);
        if let Some((_, bytes)) = self.at_hand.iter().find(|(at, _)| *at == key) {
            return Ok(Arc::clone(bytes));
        }
        let frame = self.known().files[file as usize].frames[number as usize];
        let bytes = Arc::new(self.opened(file)?.frame(&frame)?);
        if self.at_hand.len() == FRAMES_AT_HAND {
            self.at_hand.remove(0);
        }
        self.at_hand.push((key, Arc::clone(&bytes)));
        Ok(bytes)
    }

    fn opened(&mut self, file: u32) -> Result<&mut OpenPayload, StoreError> {
        let at = match self.open.iter().position(|(number, _)| *number == file) {
            Some(at) => at,
            None => {
                let payload = {
                    let known = self.known();
                    let name = &known.files[file as usize].name;
                    OpenPayload::open(known.location.as_ref(), &known.identities, name)?
                };
                self.keep_open(file, payload);
                self.open.len() - 1
            }
        };
        Ok(&mut self.open[at].1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn order(near: f64, names: &[&str]) -> Vec<String> {
        let names: Vec<String> = names.iter().map(|name| format!("payload/w/{name}.zst")).collect();
        let mut unread = Unread { near, ..Unread::of(&names) };
        let short = |name: String| name["payload/w/".len()..name.len() - ".zst".len()].to_owned();
        std::iter::from_fn(|| unread.next().map(short)).collect()
    }

    #[test]
    fn payload_files_are_read_from_where_a_chunk_is_expected() {
        let names = ["new/0", "old/0", "old/1", "old/2", "old/3", "old/4"];
        assert_eq!(order(1.0, &names), ["old/4", "old/3", "new/0", "old/2", "old/1", "old/0"]);
        assert_eq!(order(0.0, &names), ["old/0", "old/1", "new/0", "old/2", "old/3", "old/4"]);
        assert_eq!(order(0.5, &names), ["new/0", "old/2", "old/1", "old/3", "old/0", "old/4"]);
        // Of two runs that are alike the newer one comes first.
        assert_eq!(order(1.0, &["b/1", "b/0", "a/0", "a/1"]), ["b/1", "a/1", "b/0", "a/0"]);
    }
}
