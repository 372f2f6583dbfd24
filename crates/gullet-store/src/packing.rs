//! Packing chunks into payload files: frames are compressed on threads of their own, sealed and written in order by one, and
//! made durable by one more. All queues between them are bounded. The format is described in [`crate::payload`].

use std::collections::BTreeMap;
use std::io::{self, Write};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;

use crate::error::{IoPath, StoreError};
use crate::hash::{Hash, Hasher};
use crate::location::{Location, NewObject};
use crate::payload::{FILE_CHUNKS, FRAME_CHUNKS, FRAME_FULL, FRAME_LIMIT, PayloadFile, Toc, TocChunk, TocFrame};
use crate::seal::{Recipients, SEALED};

/// Stored size, in bytes, at which a payload file is closed and the next one begun.
const FILE_FULL: u64 = 64 << 20;

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
    /// Whom it is encrypted to.
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
        if bytes.len() > FRAME_LIMIT {
            return Err(StoreError::TooLarge { length: bytes.len() });
        }
        if self.open.bytes.len() + bytes.len() > FRAME_LIMIT {
            self.close_frame()?;
        }
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
    let blake3 = file.stored.hasher.finish();
    file.stored.object.publish(blake3)?;
    let payload = PayloadFile {
        name: file.name,
        length: file.stored.length,
        blake3,
        frames: file.toc.frames.len() as u32,
        chunks: file.toc.chunks.len() as u32,
    };
    Ok(Durable { file: payload, chunks: file.toc.chunks })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::location::Memory;
    use crate::payload::OpenPayload;
    use crate::seal::Identities;

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
    fn no_frame_is_larger_than_a_reader_takes() {
        let sizes = [FRAME_FULL - 1, FRAME_LIMIT, 1, FRAME_LIMIT - 1, FRAME_FULL - 1, FRAME_LIMIT - FRAME_FULL + 1];
        let chunks: Vec<Vec<u8>> = sizes.iter().zip(0u8..).map(|(size, byte)| vec![byte; *size]).collect();
        let (memory, files) = written(&chunks, &Recipients::default());
        let toc = contents(&memory, &Identities::default(), &files[0].name).unwrap();
        assert_eq!(toc.chunks.len(), chunks.len());
        let packing = Packing { level: 3, threads: 1, seal: Recipients::default() };
        let mut writer =
            PayloadWriter::new(Arc::new(memory), "payload/w/s/".to_owned(), &packing, Box::new(|_: &Durable| Ok(())));
        let beyond = vec![0; FRAME_LIMIT + 1];
        assert!(matches!(writer.add(Hash::of(&beyond), &beyond), Err(StoreError::TooLarge { .. })));
    }

    #[test]
    fn many_small_chunks_make_several_files_with_bounded_tables() {
        let chunks: Vec<Vec<u8>> = (0..90_000u32).map(|n| n.to_le_bytes().to_vec()).collect();
        let (memory, files) = written(&chunks, &Recipients::default());
        assert_eq!(files.len(), 2);
        for file in &files {
            let toc = contents(&memory, &Identities::default(), &file.name).unwrap();
            assert!(toc.chunks.len() <= (FILE_CHUNKS + FRAME_CHUNKS) && toc.chunks.len() == file.chunks as usize);
        }
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
