//! Getting chunks back, each proven by its id before it is handed out.

use std::sync::Arc;

use crate::error::StoreError;
use crate::hash::Hash;
use crate::location::Location;
use crate::payload::{OpenPayload, TocFrame};
use crate::seal::Identities;

/// How many decompressed frames are kept at hand; small files that follow one another share frames.
const FRAMES_AT_HAND: usize = 4;
/// How many payload files are kept open.
const OPEN_AT_ONCE: usize = 8;

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
}

/// Reads chunks out of a set of payload files.
pub struct ChunkReader {
    known: Arc<KnownChunk>,
    open: Vec<(u32, OpenPayload)>,
    /// Decompressed frames, by file and number.
    at_hand: Vec<(FrameKey, Arc<Vec<u8>>)>,
}

impl ChunkReader {
    /// A reader that knows no payload yet; sealed payload is opened with `identities`.
    pub fn new(location: Arc<dyn Location>, identities: Identities) -> Self {
        let known = KnownChunk { location, identities, files: Vec::new(), index: Vec::new(), is_sorted: true };
        Self::of(Arc::new(known))
    }

    fn of(known: Arc<KnownChunk>) -> Self {
        Self { known, open: Vec::new(), at_hand: Vec::new() }
    }

    /// Another reader of the same files, for another thread. No file can be added to either from then on.
    #[must_use]
    pub fn another(&mut self) -> Self {
        self.sort();
        Self::of(Arc::clone(&self.known))
    }

    fn sort(&mut self) {
        if let Some(known) = Arc::get_mut(&mut self.known).filter(|known| !known.is_sorted) {
            known.index.sort_unstable();
            known.is_sorted = true;
        }
    }

    /// Adds a payload file with its table of contents. Of several places that hold a chunk any sound one is used.
    ///
    /// # Errors
    /// When the file is missing, locked, or its closing frames are damaged, or there is another reader of the same files.
    pub fn add(&mut self, name: &str) -> Result<(), StoreError> {
        let known = Arc::get_mut(&mut self.known).ok_or(StoreError::Stopped)?;
        let mut payload = OpenPayload::open(known.location.as_ref(), &known.identities, name)?;
        let toc = payload.contents()?;
        let file = known.files.len() as u32;
        known.index.reserve(toc.chunks.len());
        let mut spots = Vec::with_capacity(toc.chunks.len());
        for (number, chunk) in toc.chunks.iter().enumerate() {
            spots.push(FrameRef { frame: chunk.frame, offset: chunk.offset, length: chunk.length });
            known.index.push((chunk.id.prefix(), file, number as u32));
        }
        known.is_sorted = false;
        known.files.push(File { name: name.to_owned(), frames: toc.frames, spots });
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
        self.sort();
        let index = &self.known.index;
        let first = index.partition_point(|pointer| pointer.0 < id.prefix());
        index[first..].iter().take_while(|pointer| pointer.0 == id.prefix()).copied().collect()
    }

    fn spot(&self, (_, file, number): Pointer) -> FrameRef {
        self.known.files[file as usize].spots[number as usize]
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
        let payload = self.known.files[pointer.1 as usize].name.clone();
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
            name: self.known.files[pointer.1 as usize].name.clone(),
            what: format!("chunk {id} has other bytes than its id says"),
        })
    }

    fn frame(&mut self, file: u32, number: u32) -> Result<Arc<Vec<u8>>, StoreError> {
        let key = (file, number);
        if let Some((_, bytes)) = self.at_hand.iter().find(|(at, _)| *at == key) {
            return Ok(Arc::clone(bytes));
        }
        let frame = self.known.files[file as usize].frames[number as usize];
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
                let known = &self.known;
                let name = &known.files[file as usize].name;
                let payload = OpenPayload::open(known.location.as_ref(), &known.identities, name)?;
                self.keep_open(file, payload);
                self.open.len() - 1
            }
        };
        Ok(&mut self.open[at].1)
    }
}
