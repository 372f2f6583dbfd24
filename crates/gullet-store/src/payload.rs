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
//!
//! Compressing runs on threads of its own, one thread writes in order, and one makes full files durable; all queues are
//! bounded.

use std::collections::BTreeMap;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::chunk::LARGEST;
use crate::error::{IoPath, StoreError};
use crate::hash::{Hash, Hasher};
use crate::location::{Location, NewObject, SeekRead};
use crate::seal::{Identities, Recipients, SEALED};

/// Uncompressed size, in bytes, at which a frame is closed.
const FRAME_FULL: usize = 2 << 20;
/// No frame is larger than this when decompressed, in bytes; a reader refuses larger ones before it allocates.
pub const FRAME_LIMIT: usize = FRAME_FULL + LARGEST;
/// Chunks at which a frame is closed.
const FRAME_CHUNKS: usize = 16 << 10;
/// Chunks at which a payload file is closed.
const FILE_CHUNKS: usize = 64 << 10;
/// Chunks that a payload file has at most; a reader refuses more before it allocates.
const CHUNKS_LIMIT: usize = FILE_CHUNKS + FRAME_CHUNKS;
/// Frames that a payload file has at most.
const FRAMES_LIMIT: usize = 1 << 20;
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
    /// When it is missing, cannot be opened with them, or its seal is broken.
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

/// An error of reading: of what is sealed it is damage, as is an early end.
fn unreadable(name: &str, error: io::Error) -> StoreError {
    match error.kind() {
        io::ErrorKind::UnexpectedEof => {
            StoreError::Damaged { name: name.to_owned(), what: "it is shorter than it must be".to_owned() }
        }
        io::ErrorKind::InvalidData => StoreError::Damaged { name: name.to_owned(), what: error.to_string() },
        _ => crate::PathError::new(name, error).into(),
    }
}

/// A payload file that is durable, with its contents for the local index.
#[derive(Debug)]
pub(crate) struct Durable {
    pub(crate) file: PayloadFile,
    pub(crate) chunks: Vec<TocChunk>,
}

/// What is done with a payload file as soon as it is durable.
pub(crate) type OnDurable = Box<dyn FnMut(&Durable) -> Result<(), StoreError> + Send>;

/// Consecutive chunks on their way into a frame. Offsets are within the frame.
#[derive(Default)]
struct Frame {
    number: u64,
    level: i32,
    bytes: Vec<u8>,
    chunks: Vec<(Hash, u32, u32)>,
}

/// A frame as it is stored, with its chunks: id, offset and length.
pub(crate) struct Packed {
    pub(crate) length: u32,
    pub(crate) chunks: Vec<(Hash, u32, u32)>,
    pub(crate) stored: Vec<u8>,
}

/// How payload is packed.
#[derive(Clone, Debug)]
pub(crate) struct Packing {
    /// Zstandard level where a chunk's part names none.
    pub(crate) level: i32,
    /// Threads that compress.
    pub(crate) threads: usize,
    /// Whom it is sealed for.
    pub(crate) seal: Recipients,
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
    /// A writer of files `PREFIX000000.zst` and on.
    pub(crate) fn new(location: Arc<dyn Location>, prefix: String, packing: &Packing, on_durable: OnDurable) -> Self {
        let threads = packing.threads.max(1);
        let (frames, frames_in) = sync_channel::<Frame>(threads);
        let (packed, packed_in) = sync_channel::<(u64, Result<Packed, StoreError>)>(threads);
        let (durable_out, durable) = std::sync::mpsc::channel();
        let frames_in = Arc::new(Mutex::new(frames_in));
        let threads = (0..threads)
            .map(|_| {
                let (frames_in, packed) = (Arc::clone(&frames_in), packed.clone());
                std::thread::spawn(move || compress_frames(&frames_in, &packed))
            })
            .collect();
        let seal = packing.seal.clone();
        let writer = std::thread::spawn(move || {
            let mut files = FileWriter::new(location, prefix, seal, durable_out, on_durable);
            let mut waiting = BTreeMap::new();
            let mut next = 0;
            for (number, frame) in packed_in {
                waiting.insert(number, frame?);
                while let Some(frame) = waiting.remove(&next) {
                    files.append(frame)?;
                    next += 1;
                }
            }
            files.finish()
        });
        let open = Frame { level: packing.level, ..Frame::default() };
        Self { frames: Some(frames), open, threads, writer: Some(writer), durable }
    }

    /// Takes one chunk, which must be new to this writer, and gives the number of its frame: they are counted through all
    /// files, in order.
    pub(crate) fn add(&mut self, id: Hash, bytes: &[u8]) -> Result<u64, StoreError> {
        let number = self.open.number;
        let offset = self.open.bytes.len() as u32;
        self.open.bytes.extend_from_slice(bytes);
        self.open.chunks.push((id, offset, bytes.len() as u32));
        if self.open.bytes.len() >= FRAME_FULL || self.open.chunks.len() >= FRAME_CHUNKS {
            self.close_frame()?;
        }
        Ok(number)
    }

    /// Compresses what comes from now on at this level.
    pub(crate) fn set_level(&mut self, level: i32) -> Result<(), StoreError> {
        if level != self.open.level {
            self.close_frame()?;
            self.open.level = level;
        }
        Ok(())
    }

    fn close_frame(&mut self) -> Result<(), StoreError> {
        if self.open.bytes.is_empty() {
            return Ok(());
        }
        let next = Frame { number: self.open.number + 1, level: self.open.level, ..Frame::default() };
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

fn compress_frames(frames: &Mutex<Receiver<Frame>>, packed: &SyncSender<(u64, Result<Packed, StoreError>)>) {
    let mut compressor = zstd::bulk::Compressor::default();
    let mut level = None;
    loop {
        let frame = frames.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(frame) = frame else { return };
        let length = frame.bytes.len() as u32;
        let set = if level == Some(frame.level) { Ok(()) } else { compressor.set_compression_level(frame.level) };
        level = Some(frame.level);
        let result = set
            .and_then(|()| compressor.compress(&frame.bytes))
            .at("a frame being compressed")
            .map(|stored| Packed { length, chunks: frame.chunks, stored })
            .map_err(StoreError::from);
        if packed.send((frame.number, result)).is_err() {
            return;
        }
    }
}

/// What goes into an object, hashed and counted on its way.
struct Stored {
    object: Box<dyn NewObject>,
    hasher: Hasher,
    length: u64,
}

impl Write for Stored {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.object.write(bytes)?;
        self.hasher.update(&bytes[..written]);
        self.length += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.object.flush()
    }
}

/// As it is, or sealed.
enum Out {
    Plain(Box<Stored>),
    Sealed(Box<age::stream::StreamWriter<Stored>>),
}

impl Out {
    fn write_all(&mut self, bytes: &[u8]) -> io::Result<()> {
        match self {
            Self::Plain(out) => out.write_all(bytes),
            Self::Sealed(out) => out.write_all(bytes),
        }
    }

    fn finish(self) -> io::Result<Stored> {
        match self {
            Self::Plain(out) => Ok(*out),
            Self::Sealed(out) => out.finish(),
        }
    }
}

struct OpenFile {
    name: String,
    out: Out,
    /// Bytes before sealing.
    length: u64,
    toc: Toc,
}

impl OpenFile {
    fn write(&mut self, bytes: &[u8]) -> Result<(), StoreError> {
        self.out.write_all(bytes).at(&self.name)?;
        self.length += bytes.len() as u64;
        Ok(())
    }
}

/// A file that is written and not yet durable.
struct Full {
    name: String,
    stored: Stored,
    toc: Toc,
}

/// The end of the pipeline: writes frames in order and closes full files, which a thread of its own makes durable.
pub(crate) struct FileWriter {
    location: Arc<dyn Location>,
    prefix: String,
    seal: Recipients,
    number: u32,
    open: Option<OpenFile>,
    full: Option<SyncSender<Full>>,
    publisher: Option<JoinHandle<Result<(), StoreError>>>,
}

impl FileWriter {
    pub(crate) fn new(
        location: Arc<dyn Location>,
        prefix: String,
        seal: Recipients,
        durable: std::sync::mpsc::Sender<Durable>,
        mut on_durable: OnDurable,
    ) -> Self {
        let (full, full_in) = sync_channel(1);
        let publisher = std::thread::spawn(move || {
            for file in full_in {
                let file = publish(file)?;
                on_durable(&file)?;
                // The receiver is gone only when the run was given up; the file is then left for the sweep.
                let _ = durable.send(file);
            }
            Ok(())
        });
        Self { location, prefix, seal, number: 0, open: None, full: Some(full), publisher: Some(publisher) }
    }

    fn begin(&mut self) -> Result<OpenFile, StoreError> {
        let sealed = if self.seal.is_empty() { "" } else { SEALED };
        let name = format!("{}{:06}.zst{sealed}", self.prefix, self.number);
        self.number += 1;
        let stored = Stored { object: self.location.create(&name)?, hasher: Hasher::default(), length: 0 };
        let out = if self.seal.is_empty() {
            Out::Plain(Box::new(stored))
        } else {
            Out::Sealed(Box::new(self.seal.wrap(stored).at(&name)?))
        };
        Ok(OpenFile { name, out, length: 0, toc: Toc::default() })
    }

    pub(crate) fn append(&mut self, frame: Packed) -> Result<(), StoreError> {
        let mut file = match self.open.take() {
            Some(file) => file,
            None => self.begin()?,
        };
        let number = file.toc.frames.len() as u32;
        let place = TocFrame { offset: file.length, stored: frame.stored.len() as u32, length: frame.length };
        file.toc.frames.push(place);
        let chunks = frame.chunks.into_iter();
        file.toc.chunks.extend(chunks.map(|(id, offset, length)| TocChunk { id, frame: number, offset, length }));
        file.write(&frame.stored)?;
        let is_full = file.length >= FILE_FULL || file.toc.chunks.len() >= FILE_CHUNKS;
        self.open = Some(file);
        if is_full { self.close() } else { Ok(()) }
    }

    fn close(&mut self) -> Result<(), StoreError> {
        let Some(mut file) = self.open.take() else { return Ok(()) };
        let tail = file.toc.encode();
        file.write(&tail)?;
        let stored = file.out.finish().at(&file.name)?;
        let full = Full { name: file.name, stored, toc: file.toc };
        let sent = self.full.as_ref().is_some_and(|out| out.send(full).is_ok());
        if sent { Ok(()) } else { self.join() }
    }

    fn join(&mut self) -> Result<(), StoreError> {
        self.full = None;
        match self.publisher.take().map(JoinHandle::join) {
            Some(Ok(result)) => result,
            Some(Err(_)) | None => Err(StoreError::Stopped),
        }
    }

    pub(crate) fn finish(&mut self) -> Result<(), StoreError> {
        self.close()?;
        self.join()
    }
}

fn publish(file: Full) -> Result<Durable, StoreError> {
    file.stored.object.publish()?;
    let payload = PayloadFile {
        name: file.name,
        length: file.stored.length,
        blake3: file.stored.hasher.finish(),
        frames: file.toc.frames.len() as u32,
        chunks: file.toc.chunks.len() as u32,
    };
    Ok(Durable { file: payload, chunks: file.toc.chunks })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::location::Memory;

    fn written(chunks: &[Vec<u8>], seal: &Recipients) -> (Memory, Vec<PayloadFile>) {
        let memory = Memory::default();
        let packing = Packing { level: 3, threads: 2, seal: seal.clone() };
        let done = Box::new(|_: &Durable| Ok(()));
        let mut writer = PayloadWriter::new(Arc::new(memory.clone()), "payload/w/r/".to_owned(), &packing, done);
        for chunk in chunks {
            writer.add(Hash::of(chunk), chunk).unwrap();
        }
        writer.finish().unwrap();
        let files = writer.durable().map(|durable| durable.file).collect();
        (memory, files)
    }

    fn contents(memory: &Memory, identities: &Identities, name: &str) -> Result<Toc, StoreError> {
        OpenPayload::open(memory, identities, name)?.contents()
    }

    #[test]
    fn chunks_come_back_in_order_through_a_plain_zstd_reader() {
        let chunks: Vec<Vec<u8>> = (0..40u8).map(|n| vec![n; 150_000 + usize::from(n)]).collect();
        let (memory, files) = written(&chunks, &Recipients::default());
        assert_eq!(files.len(), 1);
        assert!(files[0].frames > 1, "several frames were meant to be written");
        let plain = zstd::stream::decode_all(memory.open(&files[0].name).unwrap()).unwrap();
        assert_eq!(plain, chunks.concat());
    }

    #[test]
    fn the_table_of_contents_reads_back_sealed_or_not() {
        let (file, public) = crate::seal::new_identity("today", None).unwrap();
        let identity = Identities::read(&file, &|| None).unwrap();
        let chunks: Vec<Vec<u8>> = (0..9u8).map(|n| vec![n; 700_000]).collect();
        for (seal, end) in [(Recipients::default(), ".zst"), (Recipients::parse(&[public]).unwrap(), ".zst.age")] {
            let (memory, files) = written(&chunks, &seal);
            assert!(files[0].name.ends_with(end), "{}", files[0].name);
            let toc = contents(&memory, &identity, &files[0].name).unwrap();
            assert!(toc.chunks.iter().map(|c| c.id).eq(chunks.iter().map(|c| Hash::of(c))));
            assert_eq!(toc.frames.len() as u32, files[0].frames);
            let stored = memory.read(&files[0].name).unwrap();
            assert_eq!((files[0].blake3, files[0].length), (Hash::of(&stored), stored.len() as u64));
            if end == ".zst.age" {
                let plain = identity.open("x", &stored).unwrap();
                assert_eq!(zstd::stream::decode_all(plain.as_slice()).unwrap(), chunks.concat());
                let without = contents(&memory, &Identities::default(), &files[0].name);
                assert!(matches!(without, Err(StoreError::Locked { .. })));
            }
        }
    }

    #[test]
    fn many_small_chunks_make_several_files_with_bounded_tables() {
        let chunks: Vec<Vec<u8>> = (0..90_000u32).map(|n| n.to_le_bytes().to_vec()).collect();
        let (memory, files) = written(&chunks, &Recipients::default());
        assert_eq!(files.len(), 2);
        for file in &files {
            let toc = contents(&memory, &Identities::default(), &file.name).unwrap();
            assert!(toc.chunks.len() <= CHUNKS_LIMIT && toc.chunks.len() == file.chunks as usize);
        }
    }

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

    #[test]
    fn a_cut_or_flipped_tail_is_damage_and_never_a_panic() {
        let (memory, files) = written(&[vec![1; 1000], vec![2; 2000]], &Recipients::default());
        let name = &files[0].name;
        let whole = memory.read(name).unwrap();
        for length in 0..whole.len() {
            memory.tamper(name, |bytes| bytes.truncate(length));
            assert!(contents(&memory, &Identities::default(), name).is_err(), "cut at {length}");
            memory.tamper(name, |bytes| *bytes = whole.clone());
        }
        let tail = whole.len() - contents(&memory, &Identities::default(), name).unwrap().encode().len();
        for at in tail..whole.len() {
            memory.tamper(name, |bytes| bytes[at] ^= 0xFF);
            // A flipped id cannot be seen here; everything else must be refused or lead to places inside the file.
            if let Ok(toc) = contents(&memory, &Identities::default(), name) {
                assert!(toc.chunks.iter().all(|chunk| toc.frames.len() > chunk.frame as usize));
            }
            memory.tamper(name, |bytes| *bytes = whole.clone());
        }
    }
}
