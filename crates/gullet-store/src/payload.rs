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
//! Compressing runs on threads of its own and one thread writes in order; all queues are bounded.

use std::collections::BTreeMap;
use std::io::Write;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::chunk::LARGEST;
use crate::error::{IoPath, StoreError};
use crate::hash::{Hash, Hasher};
use crate::location::{Location, NewObject};

/// Uncompressed size, in bytes, at which a frame is closed.
const FRAME_FULL: usize = 2 << 20;
/// No frame is larger than this when decompressed, in bytes; a reader refuses larger ones before it allocates.
pub const FRAME_LIMIT: usize = FRAME_FULL + LARGEST;
/// Stored size, in bytes, at which a payload file is closed and the next one begun.
const FILE_FULL: u64 = 64 << 20;
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
    fn encode(&self) -> Vec<u8> {
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

    /// Reads the table of contents of the payload file `name`, whose length in bytes is known.
    ///
    /// # Errors
    /// [`StoreError::Damaged`] when anything in the closing frames does not add up; nothing is allocated by a number
    /// that the file's length does not bear out.
    pub fn read(location: &dyn Location, name: &str, length: u64) -> Result<Self, StoreError> {
        let damaged = |what: &str| StoreError::Damaged { name: name.to_owned(), what: what.to_owned() };
        let footer_at = length.checked_sub(9).ok_or_else(|| damaged("it is too short for a payload file"))?;
        let footer = location.read_range(name, footer_at, 9)?;
        if u32_at(&footer, 5) != Some(SEEKABLE_MAGIC) || footer[4] != 0 {
            return Err(damaged("it does not end in a seek table"));
        }
        let entries = u32_at(&footer, 0).unwrap_or(0);
        let table_length = u64::from(entries) * 8 + 9;
        let table_at = length.checked_sub(table_length + 8).ok_or_else(|| damaged("its seek table is too long"))?;
        let table = location.read_range(name, table_at, (table_length + 8) as usize)?;
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
        let bytes = location.read_range(name, at, stored as usize)?;
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

/// A payload file that is durable, with its contents for the local index.
#[derive(Debug)]
pub(crate) struct Durable {
    pub(crate) file: PayloadFile,
    pub(crate) chunks: Vec<TocChunk>,
}

/// Consecutive chunks on their way into a frame. Offsets are within the frame.
#[derive(Default)]
struct Frame {
    number: u64,
    bytes: Vec<u8>,
    chunks: Vec<(Hash, u32, u32)>,
}

struct Packed {
    length: u32,
    chunks: Vec<(Hash, u32, u32)>,
    stored: Vec<u8>,
}

/// Packs chunks into payload files.
pub(crate) struct PayloadWriter {
    frames: Option<SyncSender<Frame>>,
    open: Frame,
    threads: Vec<JoinHandle<()>>,
    writer: Option<JoinHandle<Result<(), StoreError>>>,
    durable: Receiver<Durable>,
}

impl PayloadWriter {
    /// A writer of files `PREFIX000000.zst` and on, compressing at `level` on `threads` threads.
    pub(crate) fn new(location: Arc<dyn Location>, prefix: String, level: i32, threads: usize) -> Self {
        let (frames, frames_in) = sync_channel::<Frame>(threads);
        let (packed, packed_in) = sync_channel::<(u64, Result<Packed, StoreError>)>(threads);
        let (durable_out, durable) = std::sync::mpsc::channel();
        let frames_in = Arc::new(Mutex::new(frames_in));
        let threads = (0..threads.max(1))
            .map(|_| {
                let (frames_in, packed) = (Arc::clone(&frames_in), packed.clone());
                std::thread::spawn(move || compress_frames(&frames_in, &packed, level))
            })
            .collect();
        let writer = std::thread::spawn(move || {
            let mut files = FileWriter { location, prefix, number: 0, open: None, durable: durable_out };
            let mut waiting = BTreeMap::new();
            let mut next = 0;
            for (number, frame) in packed_in {
                waiting.insert(number, frame?);
                while let Some(frame) = waiting.remove(&next) {
                    files.append(frame)?;
                    next += 1;
                }
            }
            files.close()
        });
        Self { frames: Some(frames), open: Frame::default(), threads, writer: Some(writer), durable }
    }

    /// Takes one chunk, which must be new to this writer.
    pub(crate) fn add(&mut self, id: Hash, bytes: &[u8]) -> Result<(), StoreError> {
        let offset = self.open.bytes.len() as u32;
        self.open.bytes.extend_from_slice(bytes);
        self.open.chunks.push((id, offset, bytes.len() as u32));
        if self.open.bytes.len() >= FRAME_FULL { self.close_frame() } else { Ok(()) }
    }

    fn close_frame(&mut self) -> Result<(), StoreError> {
        if self.open.bytes.is_empty() {
            return Ok(());
        }
        let next = Frame { number: self.open.number + 1, ..Frame::default() };
        let frame = std::mem::replace(&mut self.open, next);
        let sent = self.frames.as_ref().is_some_and(|frames| frames.send(frame).is_ok());
        if sent { Ok(()) } else { Err(self.join().err().unwrap_or(StoreError::Stopped)) }
    }

    fn join(&mut self) -> Result<(), StoreError> {
        self.frames = None;
        for thread in self.threads.drain(..) {
            let _ = thread.join();
        }
        match self.writer.take().map(JoinHandle::join) {
            Some(Ok(result)) => result,
            Some(Err(_)) | None => Err(StoreError::Stopped),
        }
    }

    /// The files that have become durable since the last call.
    pub(crate) fn durable(&self) -> impl Iterator<Item = Durable> + '_ {
        self.durable.try_iter()
    }

    /// Writes what is left. Afterwards everything is durable.
    pub(crate) fn finish(&mut self) -> Result<(), StoreError> {
        self.close_frame()?;
        self.join()
    }
}

fn compress_frames(
    frames: &Mutex<Receiver<Frame>>,
    packed: &SyncSender<(u64, Result<Packed, StoreError>)>,
    level: i32,
) {
    let compressor = zstd::bulk::Compressor::new(level);
    let Ok(mut compressor) = compressor else { return };
    loop {
        let frame = frames.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(frame) = frame else { return };
        let length = frame.bytes.len() as u32;
        let result = compressor
            .compress(&frame.bytes)
            .at("a frame being compressed")
            .map(|stored| Packed { length, chunks: frame.chunks, stored })
            .map_err(StoreError::from);
        if packed.send((frame.number, result)).is_err() {
            return;
        }
    }
}

struct OpenFile {
    name: String,
    object: Box<dyn NewObject>,
    hasher: Hasher,
    length: u64,
    toc: Toc,
}

impl OpenFile {
    fn write(&mut self, bytes: &[u8]) -> Result<(), StoreError> {
        self.object.write_all(bytes).at(&self.name)?;
        self.hasher.update(bytes);
        self.length += bytes.len() as u64;
        Ok(())
    }
}

/// The end of the pipeline: writes frames in order and closes full files.
struct FileWriter {
    location: Arc<dyn Location>,
    prefix: String,
    number: u32,
    open: Option<OpenFile>,
    durable: std::sync::mpsc::Sender<Durable>,
}

impl FileWriter {
    fn append(&mut self, frame: Packed) -> Result<(), StoreError> {
        let file = match &mut self.open {
            Some(file) => file,
            closed => {
                let name = format!("{}{:06}.zst", self.prefix, self.number);
                self.number += 1;
                let object = self.location.create(&name)?;
                closed.insert(OpenFile { name, object, hasher: Hasher::default(), length: 0, toc: Toc::default() })
            }
        };
        let number = file.toc.frames.len() as u32;
        let place = TocFrame { offset: file.length, stored: frame.stored.len() as u32, length: frame.length };
        file.toc.frames.push(place);
        let chunks = frame.chunks.into_iter();
        file.toc.chunks.extend(chunks.map(|(id, offset, length)| TocChunk { id, frame: number, offset, length }));
        file.write(&frame.stored)?;
        if file.length >= FILE_FULL { self.close() } else { Ok(()) }
    }

    fn close(&mut self) -> Result<(), StoreError> {
        let Some(mut file) = self.open.take() else { return Ok(()) };
        let tail = file.toc.encode();
        file.write(&tail)?;
        file.object.publish()?;
        let payload = PayloadFile {
            name: file.name,
            length: file.length,
            blake3: file.hasher.finish(),
            frames: file.toc.frames.len() as u32,
            chunks: file.toc.chunks.len() as u32,
        };
        // The receiver is gone only when the run was given up; the file is then left for the sweep.
        let _ = self.durable.send(Durable { file: payload, chunks: file.toc.chunks });
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::location::Memory;

    pub(super) fn written(chunks: &[Vec<u8>]) -> (Memory, Vec<PayloadFile>) {
        let memory = Memory::default();
        let mut writer = PayloadWriter::new(Arc::new(memory.clone()), "payload/w/r/".to_owned(), 3, 2);
        for chunk in chunks {
            writer.add(Hash::of(chunk), chunk).unwrap();
        }
        writer.finish().unwrap();
        let files = writer.durable().map(|durable| durable.file).collect();
        (memory, files)
    }

    #[test]
    fn chunks_come_back_in_order_through_a_plain_zstd_reader() {
        let chunks: Vec<Vec<u8>> = (0..40u8).map(|n| vec![n; 150_000 + usize::from(n)]).collect();
        let (memory, files) = written(&chunks);
        assert_eq!(files.len(), 1);
        assert!(files[0].frames > 1, "several frames were meant to be written");
        let plain = zstd::stream::decode_all(memory.open(&files[0].name).unwrap()).unwrap();
        assert_eq!(plain, chunks.concat());
    }

    #[test]
    fn the_table_of_contents_reads_back() {
        let chunks: Vec<Vec<u8>> = (0..9u8).map(|n| vec![n; 700_000]).collect();
        let (memory, files) = written(&chunks);
        let toc = Toc::read(&memory, &files[0].name, files[0].length).unwrap();
        assert_eq!(
            toc.chunks.iter().map(|c| c.id).collect::<Vec<_>>(),
            chunks.iter().map(|c| Hash::of(c)).collect::<Vec<_>>()
        );
        assert_eq!(toc.frames.len() as u32, files[0].frames);
        assert_eq!(files[0].blake3, Hash::of(&memory.read(&files[0].name).unwrap()));
    }

    #[test]
    fn a_cut_or_flipped_tail_is_damage_and_never_a_panic() {
        let (memory, files) = written(&[vec![1; 1000], vec![2; 2000]]);
        let name = &files[0].name;
        let whole = memory.read(name).unwrap();
        for length in 0..whole.len() {
            memory.tamper(name, |bytes| bytes.truncate(length));
            let read = Toc::read(&memory, name, length as u64);
            assert!(read.is_err(), "cut at {length}");
            memory.tamper(name, |bytes| *bytes = whole.clone());
        }
        let tail = whole.len() - Toc::read(&memory, name, whole.len() as u64).unwrap().encode().len();
        for at in tail..whole.len() {
            memory.tamper(name, |bytes| bytes[at] ^= 0xFF);
            // A flipped id cannot be seen here; everything else must be refused or lead to places inside the file.
            if let Ok(toc) = Toc::read(&memory, name, whole.len() as u64) {
                assert!(toc.chunks.iter().all(|chunk| toc.frames.len() > chunk.frame as usize));
            }
            memory.tamper(name, |bytes| *bytes = whole.clone());
        }
    }
}
