//! Cutting bytes into chunks.
//!
//! Ordinary contents are cut where their own bytes say so (FastCDC, Xia et al., USENIX ATC 2016, in its 2020 form),
//! so that an insertion moves no boundary but the nearest ones. Page files such as SQLite databases never insert,
//! only rewrite pages in place: they are cut at fixed multiples of 32 KiB, which hold whole pages of every usual size.

use std::io::{self, Read};

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

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::HashSet;
    use std::convert::Infallible;

    fn pieces(bytes: &[u8], cut: Cut) -> Vec<Vec<u8>> {
        let mut found = Vec::new();
        let total = cut_all(
            bytes,
            cut,
            |e| panic!("{e}"),
            |piece| {
                found.push(piece.to_vec());
                Ok::<_, Infallible>(())
            },
        );
        assert_eq!(total, Ok(bytes.len() as u64));
        found
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
