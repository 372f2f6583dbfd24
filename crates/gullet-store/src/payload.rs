//! Payload files: chunks in Zstandard frames, with a table of contents, in the Zstandard seekable format.
//!
//! Layout of one file (`FORMAT.md` has it in full):
//!
//! ```text
//! frame 0 … frame n-1      Zstandard frames; each holds one or more consecutive chunks, up to about 2 MiB
//! skippable frame          magic 0x184D2A5B: our table of contents, chunk id -> frame, offset, length
//! skippable frame          magic 0x184D2A5E: the seek table (zstd's contrib/seekable_format, without checksums)
//! ```
//!
//! The table of contents is listed as the last entry of the seek table with a decompressed size of 0, so that readers
//! of the seekable format step over it, and `zstd -dc` gives the chunks' bytes one after the other.
//!
//! Sealed, all of this is inside an age file, `NNNNNN.zst.age`. Lengths, offsets and ids are of what is inside.

use std::io::{self, Read, Seek, SeekFrom};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::chunk::LARGEST;
use crate::error::StoreError;
use crate::hash::Hash;
use crate::location::{Location, SeekRead};
use crate::seal::{Identities, SEALED};

/// Uncompressed size, in bytes, at which a frame is closed.
pub(crate) const FRAME_FULL: usize = 2 << 20;
/// No frame is larger than this when decompressed, in bytes; a reader refuses larger ones before it allocates. Contents are
/// cut far smaller; what may be so large is a block of a listing.
pub const FRAME_LIMIT: usize = 8 << 20;
const _: () = assert!(FRAME_FULL + LARGEST <= FRAME_LIMIT);
/// Chunks at which a frame is closed.
pub(crate) const FRAME_CHUNKS: usize = 16 << 10;
/// Chunks at which a payload file is closed.
pub(crate) const FILE_CHUNKS: usize = 64 << 10;
/// Chunks that a payload file has at most; a reader refuses more before it allocates.
const CHUNKS_LIMIT: usize = FILE_CHUNKS + FRAME_CHUNKS;
/// Frames that a payload file has at most.
const FRAMES_LIMIT: usize = 1 << 20;
const CONTENTS_MAGIC: u32 = 0x184D_2A5B;
const SEEK_MAGIC: u32 = 0x184D_2A5E;
const SEEKABLE_MAGIC: u32 = 0x8F92_EAB1;
const CONTENTS_MARK: &[u8; 8] = b"GULLTOC1";
/// Bytes of one chunk in the table of contents: id, frame, offset, length.
const CONTENTS_ENTRY: usize = 32 + 4 + 4 + 4;

/// One stored payload file, as a record names it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PayloadFile {
    /// The object's name in the store.
    pub name: String,
    /// Its length in bytes.
    pub length: u64,
    /// The BLAKE3 of its stored bytes.
    pub blake3: Hash,
    /// Frames of chunks in it.
    pub frames: u32,
    /// Chunks in it.
    pub chunks: u32,
}

/// Where a frame lies in its payload file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TocFrame {
    /// First byte of the frame in the file.
    pub offset: u64,
    /// Its stored length in bytes.
    pub stored: u32,
    /// Its decompressed length in bytes.
    pub length: u32,
}

/// Where a chunk lies in its payload file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TocChunk {
    /// The chunk's id, the BLAKE3 of its bytes.
    pub id: Hash,
    /// The frame that holds it.
    pub frame: u32,
    /// First byte of the chunk in the decompressed frame.
    pub offset: u32,
    /// Its length in bytes.
    pub length: u32,
}

/// The table of contents of one payload file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Toc {
    /// The frames, in order.
    pub frames: Vec<TocFrame>,
    /// The chunks, in order of place.
    pub chunks: Vec<TocChunk>,
}

fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    let four = bytes.get(at..at.checked_add(4)?)?;
    Some(u32::from_le_bytes(four.try_into().ok()?))
}

impl Toc {
    /// The two closing frames: table of contents and seek table.
    pub(crate) fn encode(&self) -> Vec<u8> {
        let mut contents = Vec::with_capacity(16 + self.chunks.len() * CONTENTS_ENTRY);
        contents.extend_from_slice(CONTENTS_MARK);
        contents.extend_from_slice(&(self.chunks.len() as u32).to_le_bytes());
        for chunk in &self.chunks {
            contents.extend_from_slice(chunk.id.as_bytes());
            for number in [chunk.frame, chunk.offset, chunk.length] {
                contents.extend_from_slice(&number.to_le_bytes());
            }
        }
        let mut out = Vec::new();
        for number in [CONTENTS_MAGIC, contents.len() as u32] {
            out.extend_from_slice(&number.to_le_bytes());
        }
        out.extend_from_slice(&contents);
        let contents_frame = out.len() as u32;

        let entries = self.frames.len() as u32 + 1;
        out.extend_from_slice(&SEEK_MAGIC.to_le_bytes());
        out.extend_from_slice(&(entries * 8 + 9).to_le_bytes());
        let sizes = self.frames.iter().map(|frame| (frame.stored, frame.length)).chain([(contents_frame, 0)]);
        for (stored, length) in sizes {
            out.extend_from_slice(&stored.to_le_bytes());
            out.extend_from_slice(&length.to_le_bytes());
        }
        out.extend_from_slice(&entries.to_le_bytes());
        out.push(0);
        out.extend_from_slice(&SEEKABLE_MAGIC.to_le_bytes());
        out
    }

    /// Reads the table of contents of an opened payload file.
    ///
    /// # Errors
    /// [`StoreError::Damaged`] when anything in the closing frames does not add up; nothing is allocated by a number
    /// that the file's length does not bear out.
    fn read(file: &mut OpenPayload) -> Result<Self, StoreError> {
        let name = file.name.clone();
        let damaged = |what: &str| StoreError::Damaged { name: name.clone(), what: what.to_owned() };
        let footer_at = file.length.checked_sub(9).ok_or_else(|| damaged("it is too short for a payload file"))?;
        let footer = file.range(footer_at, 9)?;
        if u32_at(&footer, 5) != Some(SEEKABLE_MAGIC) || footer[4] != 0 {
            return Err(damaged("it does not end in a seek table"));
        }
        let entries = u32_at(&footer, 0).unwrap_or(0);
        if entries as usize > FRAMES_LIMIT {
            return Err(damaged("its seek table has too many entries"));
        }
        let table_length = u64::from(entries) * 8 + 9;
        let table_at =
            file.length.checked_sub(table_length + 8).ok_or_else(|| damaged("its seek table is too long"))?;
        let table = file.range(table_at, (table_length + 8) as usize)?;
        if u32_at(&table, 0) != Some(SEEK_MAGIC) || u32_at(&table, 4).map(u64::from) != Some(table_length) {
            return Err(damaged("its seek table has a wrong head"));
        }
        let mut toc = Self::default();
        let mut offset = 0u64;
        let mut contents = None;
        for entry in 0..entries as usize {
            let (Some(stored), Some(length)) = (u32_at(&table, 8 + entry * 8), u32_at(&table, 12 + entry * 8)) else {
                return Err(damaged("its seek table is cut short"));
            };
            if entry + 1 == entries as usize {
                contents = Some((offset, stored)).filter(|_| length == 0);
            } else if length == 0 || length as usize > FRAME_LIMIT {
                return Err(damaged("a frame has an impossible length"));
            } else {
                toc.frames.push(TocFrame { offset, stored, length });
            }
            offset += u64::from(stored);
        }
        let (at, stored) = contents.ok_or_else(|| damaged("it has no table of contents"))?;
        if offset != table_at || stored < 20 {
            return Err(damaged("the frames do not fill it"));
        }
        if stored as usize > 20 + CHUNKS_LIMIT * CONTENTS_ENTRY {
            return Err(damaged("its table of contents is too long"));
        }
        let bytes = file.range(at, stored as usize)?;
        let count = u32_at(&bytes, 16).unwrap_or(0) as usize;
        let right_head = u32_at(&bytes, 0) == Some(CONTENTS_MAGIC)
            && u32_at(&bytes, 4) == Some(stored - 8)
            && bytes.get(8..16) == Some(CONTENTS_MARK.as_slice())
            && bytes.len() as u64 == 20 + count as u64 * CONTENTS_ENTRY as u64;
        if !right_head {
            return Err(damaged("its table of contents has a wrong head"));
        }
        for entry in bytes[20..].chunks_exact(CONTENTS_ENTRY) {
            let id = Hash::from_slice(&entry[..32]).ok_or_else(|| damaged("a chunk has no id"))?;
            let number = |at| u32_at(entry, at).unwrap_or(u32::MAX);
            let chunk = TocChunk { id, frame: number(32), offset: number(36), length: number(40) };
            let end = u64::from(chunk.offset) + u64::from(chunk.length);
            let fits = toc.frames.get(chunk.frame as usize).is_some_and(|frame| end <= u64::from(frame.length));
            if !fits || chunk.length == 0 {
                return Err(damaged("its table of contents names a place outside the frames"));
            }
            toc.chunks.push(chunk);
        }
        Ok(toc)
    }
}

/// A payload file that is open for reading: its bytes as they were before they were sealed.
pub struct OpenPayload {
    name: String,
    bytes: Box<dyn SeekRead>,
    length: u64,
}

impl OpenPayload {
    /// Opens a payload file; a sealed one with one of `identities`.
    ///
    /// # Errors
    /// When it is missing, cannot be opened with them, or its encryption is broken.
    pub fn open(location: &dyn Location, identities: &Identities, name: &str) -> Result<Self, StoreError> {
        Self::look_into(identities, name, location.open(name)?)
    }

    /// As [`OpenPayload::open`], when all stored bytes are at hand.
    pub(crate) fn of_bytes(identities: &Identities, name: &str, stored: Vec<u8>) -> Result<Self, StoreError> {
        Self::look_into(identities, name, Box::new(io::Cursor::new(stored)))
    }

    fn look_into(identities: &Identities, name: &str, mut bytes: Box<dyn SeekRead>) -> Result<Self, StoreError> {
        if name.ends_with(SEALED) {
            bytes = identities.look_into(name, bytes)?;
        }
        let length = bytes.seek(SeekFrom::End(0)).map_err(|error| unreadable(name, error))?;
        Ok(Self { name: name.to_owned(), bytes, length })
    }

    /// The file's table of contents.
    ///
    /// # Errors
    /// When it is damaged or cannot be read.
    pub fn contents(&mut self) -> Result<Toc, StoreError> {
        Toc::read(self)
    }

    /// `length` bytes from `offset`; they are read before so much is allocated.
    fn range(&mut self, offset: u64, length: usize) -> Result<Vec<u8>, StoreError> {
        if offset.checked_add(length as u64).is_none_or(|end| end > self.length) {
            let what = "it is shorter than it must be".to_owned();
            return Err(StoreError::Damaged { name: self.name.clone(), what });
        }
        let mut bytes = vec![0; length];
        let read = self.bytes.seek(SeekFrom::Start(offset)).and_then(|_| self.bytes.read_exact(&mut bytes));
        read.map_err(|error| unreadable(&self.name, error))?;
        Ok(bytes)
    }

    /// The stored bytes of one frame.
    pub(crate) fn stored_frame(&mut self, frame: &TocFrame) -> Result<Vec<u8>, StoreError> {
        if frame.stored as usize > zstd::zstd_safe::compress_bound(FRAME_LIMIT) {
            let what = "a frame has an impossible length".to_owned();
            return Err(StoreError::Damaged { name: self.name.clone(), what });
        }
        self.range(frame.offset, frame.stored as usize)
    }

    /// Reads and decompresses one frame; never allocates more than [`FRAME_LIMIT`] for it.
    pub(crate) fn frame(&mut self, frame: &TocFrame) -> Result<Vec<u8>, StoreError> {
        let stored = self.stored_frame(frame)?;
        let damaged = |what: &str| StoreError::Damaged {
            name: self.name.clone(),
            what: format!("the frame at byte {} {what}", frame.offset),
        };
        let length = (frame.length as usize).min(FRAME_LIMIT);
        let bytes = zstd::bulk::decompress(&stored, length).map_err(|_| damaged("does not decompress"))?;
        if bytes.len() == frame.length as usize {
            Ok(bytes)
        } else {
            Err(damaged("has another length than its seek table says"))
        }
    }
}

/// An error of reading: of what is encrypted it is damage, as is an early end.
fn unreadable(name: &str, error: io::Error) -> StoreError {
    match error.kind() {
        io::ErrorKind::UnexpectedEof => {
            StoreError::Damaged { name: name.to_owned(), what: "it is shorter than it must be".to_owned() }
        }
        io::ErrorKind::InvalidData => StoreError::Damaged { name: name.to_owned(), what: error.to_string() },
        _ => crate::PathError::new(name, error).into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::location::Memory;

    /// A payload file with one frame, whatever the seek table and the table of contents say of it.
    fn made(frame: &[u8], length: u32, chunks: &[TocChunk]) -> Memory {
        let toc =
            Toc { frames: vec![TocFrame { offset: 0, stored: frame.len() as u32, length }], chunks: chunks.to_vec() };
        let memory = Memory::default();
        memory.write("payload/w/r/000000.zst", &[frame, &toc.encode()].concat()).unwrap();
        memory
    }

    #[test]
    fn a_frame_that_swells_is_never_unpacked_beyond_what_is_promised() {
        let bomb = zstd::bulk::compress(&vec![0; 200 << 20], 3).unwrap();
        assert!(bomb.len() < 100_000);
        let open =
            |memory: &Memory| OpenPayload::open(memory, &Identities::default(), "payload/w/r/000000.zst").unwrap();
        for said in [1000, FRAME_LIMIT as u32] {
            let memory = made(&bomb, said, &[]);
            let mut payload = open(&memory);
            let toc = payload.contents().unwrap();
            assert!(matches!(payload.frame(&toc.frames[0]), Err(StoreError::Damaged { .. })), "{said}");
        }
        for said in [FRAME_LIMIT as u32 + 1, u32::MAX, 0] {
            assert!(open(&made(&bomb, said, &[])).contents().is_err(), "{said}");
        }
    }

    #[test]
    fn places_outside_of_frames_and_endless_tables_are_refused() {
        let frame = zstd::bulk::compress(&[7; 100], 3).unwrap();
        let chunk = |frame, offset, length| TocChunk { id: Hash::of(b"x"), frame, offset, length };
        let contents = |chunk: TocChunk| {
            let memory = made(&frame, 100, &[chunk]);
            OpenPayload::open(&memory, &Identities::default(), "payload/w/r/000000.zst").unwrap().contents()
        };
        assert!(contents(chunk(0, 0, 100)).is_ok());
        for (number, offset, length) in [(1, 0, 1), (0, 1, 100), (0, u32::MAX, 1), (0, 0, u32::MAX), (0, 0, 0)] {
            assert!(contents(chunk(number, offset, length)).is_err(), "{number} {offset} {length}");
        }
        // A seek table that says it has more entries than could ever be is not believed.
        let memory = made(&frame, 100, &[]);
        memory.tamper("payload/w/r/000000.zst", |bytes| {
            let at = bytes.len() - 9;
            bytes[at..at + 4].copy_from_slice(&u32::MAX.to_le_bytes());
        });
        let read = OpenPayload::open(&memory, &Identities::default(), "payload/w/r/000000.zst").unwrap().contents();
        assert!(matches!(read, Err(StoreError::Damaged { .. })));
    }
}
