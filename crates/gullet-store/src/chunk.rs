//! Cutting bytes into chunks.
//!
//! Ordinary contents are cut where their own bytes say so (FastCDC, Xia et al., USENIX ATC 2016, in its 2020 form),
//! so that an insertion moves no boundary but the nearest ones. Page files such as SQLite databases never insert,
//! only rewrite pages in place: they are cut at fixed multiples of 32 KiB, which hold whole pages of every usual size.

use std::io::{self, Read};
use std::sync::mpsc::{Receiver, SyncSender, channel, sync_channel};

/// Smallest chunk of ordinary contents, in bytes, except for the last of a file.
const SMALLEST: usize = 384 << 10;
/// Aimed-at size of a chunk of ordinary contents, in bytes.
const USUAL: usize = 512 << 10;
/// Largest chunk, in bytes.
pub(crate) const LARGEST: usize = 1 << 20;
/// Size of a piece of a page file, in bytes.
const PAGES: usize = 32 << 10;

/// How bytes are cut into chunks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Cut {
    /// Where the contents say so.
    Contents,
    /// At multiples of 32 KiB.
    Pages,
}

impl Cut {
    fn first(self, bytes: &[u8]) -> usize {
        match self {
            Self::Pages => bytes.len().min(PAGES),
            Self::Contents if bytes.len() <= SMALLEST => bytes.len(),
            Self::Contents => fastcdc::v2020::FastCDC::new(bytes, SMALLEST, USUAL, LARGEST).cut(0, bytes.len()).1,
        }
    }
}

/// Reads `source` to its end and hands every chunk to `each`, in order. An empty source has no chunks.
///
/// # Errors
/// The first error of `source` (through `wrap`) or of `each`; chunks handed out before stay handed out.
pub fn cut_all<E>(
    mut source: impl Read,
    cut: Cut,
    wrap: impl Fn(io::Error) -> E,
    mut each: impl FnMut(&[u8]) -> Result<(), E>,
) -> Result<u64, E> {
    let mut buffer = Vec::new();
    let mut start = 0;
    let mut total = 0;
    let mut ended = false;
    loop {
        if !ended && buffer.len() - start < LARGEST {
            buffer.drain(..start);
            start = 0;
            let wanted = 2 * LARGEST - buffer.len();
            ended = source.by_ref().take(wanted as u64).read_to_end(&mut buffer).map_err(&wrap)? < wanted;
        }
        let rest = &buffer[start..];
        if rest.is_empty() {
            return Ok(total);
        }
        let length = cut.first(rest);
        each(&rest[..length])?;
        start += length;
        total += length as u64;
    }
}

/// Bytes that are read at once where that runs ahead.
const AHEAD: usize = 4 << 20;
/// So many stretches wait between two threads, at most.
const STRETCHES: usize = 2;

/// Bytes that were read, with room in front of them for what is left of the stretch before; and the lengths of the chunks they
/// are cut into, from `start` on.
struct Stretch {
    bytes: Vec<u8>,
    start: usize,
    end: usize,
    lengths: Vec<usize>,
}

/// As [`cut_all`], with reading and cutting each on a thread of its own, ahead of what `each` does: each takes about as long as
/// hashing. Worth it for large sources.
///
/// # Errors
/// As [`cut_all`].
pub fn cut_ahead<E>(
    source: impl Read + Send,
    cut: Cut,
    wrap: impl Fn(io::Error) -> E,
    mut each: impl FnMut(&[u8]) -> Result<(), E>,
) -> Result<u64, E> {
    let (read, to_cut) = sync_channel(STRETCHES);
    let (out, stretches) = sync_channel(STRETCHES);
    let (give_back, spare) = channel();
    std::thread::scope(|scope| {
        let reading = scope.spawn(move || read_ahead(source, &read, &spare));
        scope.spawn(move || cut_stretches(&to_cut, cut, &out));
        let mut total = 0;
        for stretch in stretches {
            let mut start = stretch.start;
            for length in stretch.lengths {
                each(&stretch.bytes[start..start + length])?;
                start += length;
                total += length as u64;
            }
            // Where nobody reads any more nobody needs it.
            let _ = give_back.send(stretch.bytes);
        }
        let read = reading.join().unwrap_or_else(|_| Err(io::Error::other("reading ended early")));
        read.map(|()| total).map_err(wrap)
    })
}

/// Reads to the end, or until nobody takes any more.
fn read_ahead(mut source: impl Read, out: &SyncSender<Stretch>, spare: &Receiver<Vec<u8>>) -> io::Result<()> {
    loop {
        // What is given back is full of bytes, which need not be cleared: that takes longer than reading.
        let mut bytes = spare.try_recv().unwrap_or_else(|_| vec![0; LARGEST + AHEAD]);
        let mut end = LARGEST;
        let mut ended = false;
        while end < bytes.len() && !ended {
            match source.read(&mut bytes[end..]) {
                Ok(read) => (end, ended) = (end + read, read == 0),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        let sent = out.send(Stretch { bytes, start: LARGEST, end, lengths: Vec::new() });
        // Nobody takes any more when `each` failed, which tells it.
        if sent.is_err() || ended {
            return Ok(());
        }
    }
}

/// Cuts what was read. A stretch that is not full is the last.
fn cut_stretches(read: &Receiver<Stretch>, cut: Cut, out: &SyncSender<Stretch>) {
    let mut rest: Vec<u8> = Vec::new();
    for mut stretch in read {
        let is_last = stretch.end < stretch.bytes.len();
        stretch.start = LARGEST - rest.len();
        stretch.bytes[stretch.start..LARGEST].copy_from_slice(&rest);
        let mut start = stretch.start;
        while stretch.end - start >= LARGEST || (is_last && start < stretch.end) {
            let length = cut.first(&stretch.bytes[start..stretch.end]);
            stretch.lengths.push(length);
            start += length;
        }
        rest.clear();
        rest.extend_from_slice(&stretch.bytes[start..stretch.end]);
        if out.send(stretch).is_err() {
            return;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::HashSet;
    use std::convert::Infallible;

    fn pieces(bytes: &[u8], cut: Cut) -> Vec<Vec<u8>> {
        let (mut found, mut ahead) = (Vec::new(), Vec::new());
        let keep = |pieces: &mut Vec<Vec<u8>>, piece: &[u8]| {
            pieces.push(piece.to_vec());
            Ok::<_, Infallible>(())
        };
        let total = cut_all(bytes, cut, |e| panic!("{e}"), |piece| keep(&mut found, piece));
        assert_eq!(total, Ok(bytes.len() as u64));
        let total = cut_ahead(bytes, cut, |e| panic!("{e}"), |piece| keep(&mut ahead, piece));
        assert_eq!(total, Ok(bytes.len() as u64));
        assert!(ahead == found, "the same, whoever cuts");
        found
    }

    #[test]
    fn errors_of_either_side_come_through() {
        struct Broken(usize);
        impl Read for Broken {
            fn read(&mut self, bytes: &mut [u8]) -> io::Result<usize> {
                let length = self.0.min(bytes.len());
                self.0 -= length;
                if length == 0 { Err(io::Error::other("a bad sector")) } else { Ok(length) }
            }
        }
        let read = cut_ahead(Broken(9 << 20), Cut::Contents, |error| error.to_string(), |_| Ok(()));
        assert_eq!(read, Err("a bad sector".to_owned()));
        let taken = cut_ahead(io::repeat(7), Cut::Pages, |error| error.to_string(), |_| Err("full".to_owned()));
        assert_eq!(taken, Err("full".to_owned()));
    }

    /// Bytes without a pattern, the same for the same seed (xorshift64*, Vigna 2016).
    fn noise(length: usize, seed: u64) -> Vec<u8> {
        let mut state = seed | 1;
        let mut next = || {
            state ^= state >> 12;
            state ^= state << 25;
            state ^= state >> 27;
            state.wrapping_mul(0x2545_F491_4F6C_DD1D).to_le_bytes()
        };
        let mut bytes: Vec<u8> = (0..length / 8 + 1).flat_map(|_| next()).collect();
        bytes.truncate(length);
        bytes
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn the_pieces_are_the_whole_and_within_bounds(length in 0usize..5_000_000, seed: u64, paged: bool) {
            let bytes = noise(length, seed);
            let cut = if paged { Cut::Pages } else { Cut::Contents };
            let found = pieces(&bytes, cut);
            prop_assert_eq!(found.concat(), bytes);
            prop_assert!(found.iter().all(|piece| !piece.is_empty() && piece.len() <= LARGEST));
            let all_but_last = &found[..found.len().saturating_sub(1)];
            match cut {
                Cut::Contents => prop_assert!(all_but_last.iter().all(|piece| piece.len() >= SMALLEST)),
                Cut::Pages => prop_assert!(all_but_last.iter().all(|piece| piece.len() == PAGES)),
            }
        }
    }

    #[test]
    fn an_insertion_in_front_changes_few_chunks() {
        let bytes = noise(20 << 20, 7);
        let before: HashSet<_> = pieces(&bytes, Cut::Contents).into_iter().collect();
        let moved = [b"a little more".as_slice(), &bytes].concat();
        let new = pieces(&moved, Cut::Contents).into_iter().filter(|piece| !before.contains(piece)).count();
        assert!(new <= 3, "{new} chunks are new");
    }

    #[test]
    fn one_changed_page_changes_one_piece() {
        let mut bytes = noise(1 << 20, 9);
        let before = pieces(&bytes, Cut::Pages);
        bytes[5 * PAGES + 77] ^= 1;
        let after = pieces(&bytes, Cut::Pages);
        assert_eq!(before.iter().zip(&after).filter(|(a, b)| a != b).count(), 1);
    }
}
