//! Getting chunks back, each proven by its id before it is handed out.

use std::collections::HashMap;
use std::sync::Arc;

use crate::error::{IoPath, StoreError};
use crate::hash::Hash;
use crate::location::Location;
use crate::payload::{FRAME_LIMIT, Toc, TocFrame};

/// How many decompressed frames are kept at hand; small files that follow one another share frames.
const FRAMES_AT_HAND: usize = 4;

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
}

#[derive(Clone, Copy)]
struct Spot {
    file: u32,
    frame: u32,
    offset: u32,
    length: u32,
}

/// Reads chunks out of a set of payload files.
pub struct ChunkReader {
    location: Arc<dyn Location>,
    files: Vec<File>,
    spots: HashMap<Hash, Spot>,
    /// Decompressed frames, by file and number.
    at_hand: Vec<(FrameKey, Arc<Vec<u8>>)>,
    read: u64,
}

impl ChunkReader {
    /// A reader that knows no payload yet.
    pub fn new(location: Arc<dyn Location>) -> Self {
        Self { location, files: Vec::new(), spots: HashMap::new(), at_hand: Vec::new(), read: 0 }
    }

    /// Adds a payload file with its table of contents. The first place that holds a chunk is used.
    ///
    /// # Errors
    /// When the file is missing or its closing frames are damaged.
    pub fn add(&mut self, name: &str, length: u64) -> Result<(), StoreError> {
        let toc = Toc::read(self.location.as_ref(), name, length)?;
        let file = self.files.len() as u32;
        self.files.push(File { name: name.to_owned(), frames: toc.frames });
        for chunk in toc.chunks {
            let spot = Spot { file, frame: chunk.frame, offset: chunk.offset, length: chunk.length };
            self.spots.entry(chunk.id).or_insert(spot);
        }
        Ok(())
    }

    /// Where a chunk lies, if one of the files holds it.
    pub fn place(&self, id: &Hash) -> Option<Place> {
        self.spots.get(id).map(|spot| Place {
            payload: self.files[spot.file as usize].name.clone(),
            frame: spot.frame,
            offset: spot.offset,
            length: spot.length,
        })
    }

    /// Stored bytes read so far.
    pub fn bytes_read(&self) -> u64 {
        self.read
    }

    /// The bytes of a chunk, proven against its id.
    ///
    /// # Errors
    /// [`StoreError::NoChunk`] when no file holds it, [`StoreError::Damaged`] when its bytes are not what they were.
    pub fn get(&mut self, id: &Hash) -> Result<Vec<u8>, StoreError> {
        let spot = *self.spots.get(id).ok_or(StoreError::NoChunk { id: *id })?;
        let frame = self.frame(spot.file, spot.frame)?;
        let range = spot.offset as usize..spot.offset as usize + spot.length as usize;
        let bytes = frame.get(range).filter(|bytes| Hash::of(bytes) == *id);
        bytes.map(<[u8]>::to_vec).ok_or_else(|| StoreError::Damaged {
            name: self.files[spot.file as usize].name.clone(),
            what: format!("chunk {id} has other bytes than its id says"),
        })
    }

    fn frame(&mut self, file: u32, number: u32) -> Result<Arc<Vec<u8>>, StoreError> {
        let key = (file, number);
        if let Some((_, bytes)) = self.at_hand.iter().find(|(at, _)| *at == key) {
            return Ok(Arc::clone(bytes));
        }
        let File { name, frames } = &self.files[file as usize];
        let bytes = read_frame(self.location.as_ref(), name, &frames[number as usize])?;
        self.read += u64::from(frames[number as usize].stored);
        let bytes = Arc::new(bytes);
        if self.at_hand.len() == FRAMES_AT_HAND {
            self.at_hand.remove(0);
        }
        self.at_hand.push((key, Arc::clone(&bytes)));
        Ok(bytes)
    }
}

/// Reads and decompresses one frame; never allocates more than [`FRAME_LIMIT`] for it.
pub(crate) fn read_frame(location: &dyn Location, name: &str, frame: &TocFrame) -> Result<Vec<u8>, StoreError> {
    let stored = location.read_range(name, frame.offset, frame.stored as usize)?;
    let length = (frame.length as usize).min(FRAME_LIMIT);
    let bytes = zstd::bulk::decompress(&stored, length).at(name).map_err(|_| StoreError::Damaged {
        name: name.to_owned(),
        what: format!("the frame at byte {} does not decompress", frame.offset),
    })?;
    if bytes.len() == frame.length as usize {
        Ok(bytes)
    } else {
        Err(StoreError::Damaged {
            name: name.to_owned(),
            what: format!("the frame at byte {} has another length than its seek table says", frame.offset),
        })
    }
}
