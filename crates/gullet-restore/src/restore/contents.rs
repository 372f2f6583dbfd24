//! The bytes of a captured file, read as a stream.

use std::io::{self, Read};

use gullet_store::listing::Entry;
use gullet_store::{ChunkReader, StoreError};

use gullet_model::words::chain;

/// The bytes of a file's chunks, one after another, each proven. A reader gets what is there; what cannot be had is an error.
pub(crate) struct Contents<'c> {
    ids: std::vec::IntoIter<gullet_store::Hash>,
    chunks: &'c mut ChunkReader,
    at_hand: io::Cursor<Vec<u8>>,
}

impl<'c> Contents<'c> {
    /// # Errors
    /// When its chunks cannot be listed.
    pub fn of(entry: &Entry, chunks: &'c mut ChunkReader) -> Result<Self, StoreError> {
        let mut ids = Vec::new();
        entry.each_chunk(chunks, |id, _| {
            ids.push(*id);
            Ok::<_, StoreError>(())
        })?;
        Ok(Self { ids: ids.into_iter(), chunks, at_hand: io::Cursor::default() })
    }

    /// The same for a stream that nothing can be taken back from: a file that lost its first byte or its last is found
    /// before anything of it is written.
    ///
    /// # Errors
    /// As for [`Contents::of`], and when its first or last chunk cannot be had.
    pub(super) fn with_its_ends(entry: &Entry, chunks: &'c mut ChunkReader) -> Result<Self, StoreError> {
        let contents = Self::of(entry, chunks)?;
        let ids = contents.ids.as_slice();
        for id in ids.first().into_iter().chain(ids.last()) {
            contents.chunks.get(id)?;
        }
        Ok(contents)
    }
}

impl Read for Contents<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        loop {
            let read = self.at_hand.read(buffer)?;
            if read > 0 || buffer.is_empty() {
                return Ok(read);
            }
            let Some(id) = self.ids.next() else { return Ok(0) };
            let bytes = self.chunks.get(&id).map_err(|error| io::Error::other(chain(&error)))?;
            self.at_hand = io::Cursor::new(bytes.to_vec());
        }
    }
}

/// A file as a reader of the restored one sees it: what is stored, and zeros where it has holes.
pub(crate) struct WholeFile<R> {
    stored: R,
    /// Stretches that are stored, as offset and length in bytes: sorted, and not touching.
    ranges: std::vec::IntoIter<(u64, u64)>,
    range: (u64, u64),
    at: u64,
    size: u64,
}

impl<R> WholeFile<R> {
    /// A file of which this is stored.
    pub fn of(entry: &Entry, stored: R) -> Self {
        Self::new(stored, entry.data.clone().unwrap_or_else(|| vec![(0, entry.size)]), entry.size)
    }

    fn new(stored: R, ranges: Vec<(u64, u64)>, size: u64) -> Self {
        Self { stored, ranges: ranges.into_iter(), range: (0, 0), at: 0, size }
    }
}

impl<R: Read> Read for WholeFile<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.at >= self.range.0 + self.range.1 && self.at < self.size {
            // After the last of them there is a hole up to the end.
            self.range = self.ranges.next().unwrap_or((self.size, 0));
        }
        let (from, length) = self.range;
        let (is_hole, until) = if self.at < from { (true, from) } else { (false, from + length) };
        let wanted = usize::try_from(until.min(self.size).saturating_sub(self.at)).unwrap_or(usize::MAX);
        let wanted = wanted.min(buffer.len());
        if wanted == 0 {
            return Ok(0);
        }
        let read = if is_hole {
            buffer[..wanted].fill(0);
            wanted
        } else {
            self.stored.read(&mut buffer[..wanted])?
        };
        if read == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        self.at += read as u64;
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(ranges: &[(u64, u64)], size: u64, stored: &[u8]) -> io::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        WholeFile::new(stored, ranges.to_vec(), size).read_to_end(&mut bytes).map(|_| bytes)
    }

    #[test]
    fn holes_are_zeros_wherever_they_are() {
        assert_eq!(read(&[(0, 3)], 3, b"abc").unwrap(), b"abc");
        assert_eq!(read(&[], 4, b"").unwrap(), b"\0\0\0\0");
        assert_eq!(read(&[(0, 0)], 0, b"").unwrap(), b"");
        assert_eq!(read(&[(2, 2), (6, 1)], 8, b"abc").unwrap(), b"\0\0ab\0\0c\0");
        assert_eq!(read(&[(0, 1), (3, 2), (6, 0)], 6, b"abc").unwrap(), b"a\0\0bc\0");
    }

    #[test]
    fn what_is_not_stored_is_an_error_and_no_shorter_file() {
        for (ranges, size, stored) in
            [(&[(0, 4)][..], 4, &b"abc"[..]), (&[(2, 2), (5, 1)], 6, b"ab"), (&[(1, 1)], 2, b"")]
        {
            assert_eq!(read(ranges, size, stored).unwrap_err().kind(), io::ErrorKind::UnexpectedEof, "{ranges:?}");
        }
    }
}
