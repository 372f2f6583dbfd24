//! What all far places have in common: an object is sent whole in one request and read in pieces.
//!
//! A payload file has 72 MiB at most, so it is put together in memory and sent at once: nothing is ever half visible, and there are no
//! unfinished uploads that somebody would have to find. What is read is asked for in pieces that grow for as long as they follow one
//! another, so that one frame out of a large file costs one request and a whole file few.

use std::collections::HashSet;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::ops::Range;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use bytes::{Bytes, BytesMut};

use super::{INCOMING, Location, NewObject, ObjectInfo, SeekRead, Versioned, checked, flattened};
use crate::error::StoreError;
use crate::hash::Hash;

/// The first piece of an object that is asked for, in bytes; each that follows on it is twice as long.
const FIRST_PIECE: u64 = 128 << 10;
/// No piece is longer, in bytes, but where somebody wants more at once.
const LONGEST_PIECE: u64 = 8 << 20;
/// No object is longer, in bytes: it is put together in memory.
const LONGEST_OBJECT: usize = 256 << 20;
/// So many buffers of objects that were sent are kept for the next: fresh memory takes the kernel longer than the object is hashed.
const KEPT_BUFFERS: usize = 2;
/// Shorter buffers are not kept, in bytes.
const SHORTEST_KEPT: usize = 1 << 20;

/// A place that is reached by requests. Names are checked already.
pub(super) trait Requests: Send + Sync + 'static {
    /// As [`Location::describe`].
    fn describe(&self) -> String;
    /// As [`Location::address`].
    fn address(&self) -> String {
        self.describe()
    }
    /// As [`Location::list`], in any order.
    fn list(&self, prefix: &str) -> Result<Vec<ObjectInfo>, StoreError>;
    /// As [`Location::length`].
    fn length(&self, name: &str) -> Result<Option<u64>, StoreError>;
    /// These bytes of an object; the end lies within it.
    fn range(&self, name: &str, range: Range<u64>) -> Result<Vec<u8>, StoreError>;
    /// The length of an object, and so many of its last bytes, or all where it has less.
    fn tail(&self, name: &str, most: u64) -> Result<(u64, Vec<u8>), StoreError>;
    /// A whole object.
    fn whole(&self, name: &str) -> Result<Vec<u8>, StoreError>;
    /// Makes an object durable under a name that nothing has yet, in one step.
    fn put(&self, name: &str, bytes: &Bytes) -> Result<(), StoreError>;
    /// As [`Location::remove`].
    fn remove(&self, name: &str) -> Result<(), StoreError>;
    /// As [`Location::checks_what_arrives`].
    fn checks_what_arrives(&self) -> bool;
    /// As [`Location::versioned`].
    fn versioned(&self) -> Option<&dyn Versioned> {
        None
    }
    /// As [`Location::free_space`].
    fn free_space(&self) -> Result<Option<u64>, StoreError> {
        Ok(None)
    }
    /// As [`Location::prepare`].
    fn prepare(&self) -> Result<(), StoreError> {
        Ok(())
    }
    /// As [`Location::discard_unpublished`].
    fn discard_unpublished(&self, prefix: &str, is_dead: bool) -> Result<(), StoreError> {
        let _ = (prefix, is_dead);
        Ok(())
    }
}

/// The folders of a far place that are known to be there, so that each is made once.
#[derive(Default)]
pub(super) struct KnownFolders(Mutex<HashSet<String>>);

impl KnownFolders {
    fn names(&self) -> MutexGuard<'_, HashSet<String>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Makes the folders above a name that are not known yet, the outermost first.
    pub(super) fn make<E>(&self, name: &str, mut make: impl FnMut(&str) -> Result<(), E>) -> Result<(), E> {
        for folder in name.match_indices('/').map(|(at, _)| &name[..at]) {
            if !self.names().contains(folder) {
                make(folder)?;
                self.names().insert(folder.to_owned());
            }
        }
        Ok(())
    }

    /// Knows of none any more: somebody may have removed them.
    pub(super) fn forget(&self) {
        self.names().clear();
    }
}

/// A name of its own under which an object is sent, until it gets its name.
pub(super) fn incoming(name: &str) -> String {
    format!("{INCOMING}/{}.{:016x}", flattened(name), fastrand::u64(..))
}

/// A far place as a location.
pub(super) struct Remote<R> {
    place: Arc<R>,
    buffers: Arc<Buffers>,
}

impl<R> Remote<R> {
    pub(super) fn new(place: Arc<R>) -> Self {
        Self { place, buffers: Arc::default() }
    }
}

/// Buffers of objects that were sent, for the next.
#[derive(Default)]
struct Buffers(Mutex<Vec<BytesMut>>);

impl Buffers {
    fn kept(&self) -> MutexGuard<'_, Vec<BytesMut>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// An empty buffer.
    fn take(&self) -> BytesMut {
        self.kept().pop().unwrap_or_default()
    }

    /// Keeps the buffer of an object, unless somebody still has it.
    fn give(&self, sent: Bytes) {
        let Ok(mut buffer) = sent.try_into_mut() else { return };
        buffer.clear();
        let mut kept = self.kept();
        if kept.len() < KEPT_BUFFERS && buffer.capacity() >= SHORTEST_KEPT {
            kept.push(buffer);
        }
    }
}

impl<R: Requests> Location for Remote<R> {
    fn describe(&self) -> String {
        self.place.describe()
    }

    fn address(&self) -> String {
        self.place.address()
    }

    fn list(&self, prefix: &str) -> Result<Vec<ObjectInfo>, StoreError> {
        let mut found = self.place.list(prefix)?;
        found.sort();
        Ok(found)
    }

    fn length(&self, name: &str) -> Result<Option<u64>, StoreError> {
        self.place.length(checked(name)?)
    }

    fn open(&self, name: &str) -> Result<Box<dyn SeekRead>, StoreError> {
        // Payload files have their tables at their ends, so that the length comes with what is read first.
        let (length, piece) = self.place.tail(checked(name)?, FIRST_PIECE)?;
        let (place, start) = (Arc::clone(&self.place), length.saturating_sub(piece.len() as u64));
        Ok(Box::new(Pieces { place, name: name.to_owned(), length, position: 0, start, piece }))
    }

    fn create(&self, name: &str) -> Result<Box<dyn NewObject>, StoreError> {
        // Whether it is there already is asked when it is published, in the same step.
        let name = checked(name)?.to_owned();
        let (place, buffers) = (Arc::clone(&self.place), Arc::clone(&self.buffers));
        Ok(Box::new(WholeObject { place, name, bytes: buffers.take(), buffers }))
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        self.place.remove(checked(name)?)
    }

    fn free_space(&self) -> Result<Option<u64>, StoreError> {
        self.place.free_space()
    }

    fn prepare(&self) -> Result<(), StoreError> {
        self.place.prepare()
    }

    fn discard_unpublished(&self, prefix: &str, is_dead: bool) -> Result<(), StoreError> {
        self.place.discard_unpublished(prefix, is_dead)
    }

    fn is_far(&self) -> bool {
        true
    }

    fn checks_what_arrives(&self) -> bool {
        self.place.checks_what_arrives()
    }

    fn versioned(&self) -> Option<&dyn Versioned> {
        self.place.versioned()
    }

    fn read(&self, name: &str) -> Result<Vec<u8>, StoreError> {
        self.place.whole(checked(name)?)
    }
}

/// An object that is put together before it is sent.
struct WholeObject<R> {
    place: Arc<R>,
    name: String,
    bytes: BytesMut,
    buffers: Arc<Buffers>,
}

impl<R: Requests> Write for WholeObject<R> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.bytes.len() + bytes.len() > LONGEST_OBJECT {
            let what = format!("an object of more than {LONGEST_OBJECT} bytes cannot be sent");
            return Err(io::Error::new(io::ErrorKind::FileTooLarge, what));
        }
        self.bytes.extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl<R: Requests> NewObject for WholeObject<R> {
    fn publish(self: Box<Self>, _: Hash) -> Result<(), StoreError> {
        let bytes = self.bytes.freeze();
        let put = self.place.put(&self.name, &bytes);
        self.buffers.give(bytes);
        put
    }
}

/// An object that is read piece by piece.
struct Pieces<R> {
    place: Arc<R>,
    name: String,
    length: u64,
    position: u64,
    /// Where the piece at hand begins.
    start: u64,
    piece: Vec<u8>,
}

impl<R: Requests> Pieces<R> {
    /// Asks for the piece at the position, at least so many bytes where there are so many.
    fn fetch(&mut self, wanted: u64) -> io::Result<()> {
        let had = self.piece.len() as u64;
        let goes_on = had > 0 && self.position == self.start + had;
        let usual = if goes_on { (had * 2).clamp(FIRST_PIECE, LONGEST_PIECE) } else { FIRST_PIECE };
        let end = self.length.min(self.position.saturating_add(usual.max(wanted)));
        let piece = self.place.range(&self.name, self.position..end).map_err(io_error)?;
        if piece.len() as u64 != end - self.position {
            let what = format!("{} of {} bytes came", piece.len(), end - self.position);
            return Err(io::Error::new(io::ErrorKind::UnexpectedEof, what));
        }
        (self.start, self.piece) = (self.position, piece);
        Ok(())
    }
}

impl<R: Requests> Read for Pieces<R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        if into.is_empty() || self.position >= self.length {
            return Ok(0);
        }
        if !(self.start..self.start + self.piece.len() as u64).contains(&self.position) {
            self.fetch((into.len() as u64).min(LONGEST_PIECE))?;
        }
        let at = (self.position - self.start) as usize;
        let some = into.len().min(self.piece.len() - at);
        into[..some].copy_from_slice(&self.piece[at..at + some]);
        self.position += some as u64;
        Ok(some)
    }
}

impl<R: Requests> Seek for Pieces<R> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let position = match to {
            SeekFrom::Start(position) => Some(position),
            SeekFrom::End(offset) => self.length.checked_add_signed(offset),
            SeekFrom::Current(offset) => self.position.checked_add_signed(offset),
        };
        self.position = position.ok_or_else(|| io::Error::from(io::ErrorKind::InvalidInput))?;
        Ok(self.position)
    }
}

/// A store's error in a place where only one of input and output can go.
fn io_error(error: StoreError) -> io::Error {
    let kind = match &error {
        StoreError::Io(error) => error.source.kind(),
        StoreError::Missing { .. } => io::ErrorKind::NotFound,
        _ => io::ErrorKind::Other,
    };
    io::Error::new(kind, error)
}

/// A far place in memory that counts how often it was asked for a length and for a list, and keeps which ranges were read.
#[cfg(test)]
pub(super) struct Counted {
    objects: std::collections::BTreeMap<String, Vec<u8>>,
    counts: Arc<[std::sync::atomic::AtomicU32; 2]>,
    ranges: Mutex<Vec<Range<u64>>>,
}

#[cfg(test)]
impl Counted {
    pub(super) fn place(names: &[&str], counts: Arc<[std::sync::atomic::AtomicU32; 2]>) -> Arc<dyn Location> {
        let objects = names.iter().map(|name| ((*name).to_owned(), vec![1])).collect();
        Arc::new(Remote::new(Arc::new(Self { objects, counts, ranges: Mutex::default() })))
    }

    fn count(&self, what: usize) {
        self.counts[what].fetch_add(1, std::sync::atomic::Ordering::Relaxed);
    }
}

#[cfg(test)]
impl Requests for Counted {
    fn describe(&self) -> String {
        "far".to_owned()
    }

    fn list(&self, prefix: &str) -> Result<Vec<ObjectInfo>, StoreError> {
        self.count(1);
        let all = self.objects.iter().filter(|(name, _)| name.starts_with(prefix));
        Ok(all.map(|(name, bytes)| ObjectInfo { name: name.clone(), length: bytes.len() as u64 }).collect())
    }

    fn length(&self, name: &str) -> Result<Option<u64>, StoreError> {
        self.count(0);
        Ok(self.objects.get(name).map(|bytes| bytes.len() as u64))
    }

    fn range(&self, name: &str, range: Range<u64>) -> Result<Vec<u8>, StoreError> {
        self.ranges.lock().unwrap_or_else(PoisonError::into_inner).push(range.clone());
        Ok(self.objects[name][range.start as usize..range.end as usize].to_vec())
    }

    fn tail(&self, name: &str, most: u64) -> Result<(u64, Vec<u8>), StoreError> {
        let whole = &self.objects[name];
        Ok((whole.len() as u64, whole[whole.len() - whole.len().min(most as usize)..].to_vec()))
    }

    fn whole(&self, name: &str) -> Result<Vec<u8>, StoreError> {
        Ok(self.objects[name].clone())
    }

    fn put(&self, _: &str, _: &Bytes) -> Result<(), StoreError> {
        Ok(())
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        Err(StoreError::Missing { name: name.to_owned() })
    }

    fn checks_what_arrives(&self) -> bool {
        true
    }

    fn free_space(&self) -> Result<Option<u64>, StoreError> {
        Ok(Some(7))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn place(bytes: Vec<u8>) -> (Arc<Counted>, Remote<Counted>) {
        let objects = [("one".to_owned(), bytes)].into();
        let place = Arc::new(Counted { objects, counts: Arc::default(), ranges: Mutex::default() });
        (Arc::clone(&place), Remote::new(place))
    }

    #[test]
    fn a_place_says_what_its_requests_say() {
        let (_, remote) = place(vec![1]);
        assert!(remote.is_far() && remote.checks_what_arrives() && remote.versioned().is_none());
        assert_eq!((remote.free_space().unwrap(), remote.describe()), (Some(7), "far".to_owned()));
        assert!(matches!(remote.remove("one"), Err(StoreError::Missing { .. })));
        assert!(remote.length("../one").is_err() && remote.create("/one").is_err());
    }

    #[test]
    fn the_buffer_of_an_object_that_was_sent_serves_the_next() {
        let buffers = Buffers::default();
        let sent = || BytesMut::zeroed(SHORTEST_KEPT).freeze();
        buffers.give(Bytes::from_static(b"a short one"));
        let still_had = sent();
        buffers.give(still_had.clone());
        assert!(buffers.kept().is_empty());
        let all = [sent(), sent(), sent()];
        let places = all.each_ref().map(|bytes| bytes.as_ptr());
        all.into_iter().for_each(|bytes| buffers.give(bytes));
        assert_eq!(buffers.kept().len(), KEPT_BUFFERS);
        let next = buffers.take();
        assert!(next.is_empty() && next.capacity() >= SHORTEST_KEPT && next.as_ptr() == places[1]);
    }

    #[test]
    fn what_is_read_on_comes_in_growing_pieces_and_what_is_looked_up_in_small_ones() {
        let bytes: Vec<u8> = (0..3_000_000_u32).map(|number| (number / 7) as u8).collect();
        let (counted, remote) = place(bytes.clone());
        let mut open = remote.open("one").unwrap();
        let mut all = Vec::new();
        open.read_to_end(&mut all).unwrap();
        assert!(all == bytes);
        let ranges = std::mem::take(&mut *counted.ranges.lock().unwrap());
        let lengths: Vec<u64> = ranges.iter().map(|range| range.end - range.start).collect();
        assert_eq!(lengths[..4], [FIRST_PIECE, 2 * FIRST_PIECE, 4 * FIRST_PIECE, 8 * FIRST_PIECE]);
        assert!(ranges.windows(2).all(|pair| pair[0].end == pair[1].start));
        // Somewhere else it begins small again; the end was there with the length.
        let mut some = [0; 10];
        for at in [1_000_000, 17] {
            open.seek(SeekFrom::Start(at)).unwrap();
            open.read_exact(&mut some).unwrap();
            assert_eq!(some, bytes[at as usize..at as usize + 10]);
        }
        let wanted = [1_000_000..1_000_000 + FIRST_PIECE, 17..17 + FIRST_PIECE];
        assert_eq!(std::mem::take(&mut *counted.ranges.lock().unwrap()), wanted);
        let mut again = remote.open("one").unwrap();
        again.seek(SeekFrom::End(-5)).unwrap();
        assert_eq!(again.read(&mut some).unwrap(), 5);
        assert!(again.seek(SeekFrom::Current(-4_000_000)).is_err());
        assert!(counted.ranges.lock().unwrap().is_empty(), "what came with the length is not asked for again");
    }
}
