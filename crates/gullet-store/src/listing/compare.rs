//! What differs between two listings, reading only the blocks that differ.
//!
//! Blocks end where an entry's own path says so, so that two listings have the same blocks wherever they have the same
//! entries; and the same block has the same id. Where both come to the same block, or to the same node above many, it is
//! passed over unread.

use std::cmp::Ordering;
use std::collections::VecDeque;

use super::{Child, Entry, LEVELS_MAX, ListingReader};
use crate::error::StoreError;
use crate::hash::Hash;
use crate::reader::ChunkReader;

/// What differs between two listings at one path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Difference {
    /// Only the first listing has it.
    Gone(Box<Entry>),
    /// Only the second one has it.
    Added(Box<Entry>),
    /// Both have the path, and not the same there.
    Changed(Box<Entry>, Box<Entry>),
}

struct Cursor<'c> {
    chunks: &'c mut ChunkReader,
    /// The children that are still to come, of each level; the lowest last.
    stack: Vec<(u32, VecDeque<Child>)>,
    at_hand: VecDeque<Entry>,
}

impl<'c> Cursor<'c> {
    fn new(chunks: &'c mut ChunkReader, root: &Hash) -> Result<Self, StoreError> {
        let node = ListingReader::new(chunks).node(root, LEVELS_MAX)?;
        Ok(Self { chunks, stack: vec![(node.level, node.children.into())], at_hand: VecDeque::new() })
    }

    /// The level and the id of what comes next.
    fn next(&mut self) -> Option<(u32, Hash)> {
        while self.stack.last().is_some_and(|(_, children)| children.is_empty()) {
            self.stack.pop();
        }
        let (level, children) = self.stack.last()?;
        children.front().map(|child| (*level, child.chunk))
    }

    fn skip(&mut self) {
        if let Some((_, children)) = self.stack.last_mut() {
            children.pop_front();
        }
    }

    /// Reads what comes next: a node, or a block of entries.
    fn descend(&mut self) -> Result<(), StoreError> {
        let Some((level, chunk)) = self.next() else { return Ok(()) };
        self.skip();
        let mut reader = ListingReader::new(self.chunks);
        if level > 0 {
            let node = reader.node(&chunk, level)?;
            self.stack.push((node.level, node.children.into()));
        } else {
            self.at_hand = reader.block(&chunk)?.into();
        }
        Ok(())
    }
}

/// Hands over every difference between two listings, in the order of their paths.
///
/// # Errors
/// When a listing is damaged or cannot be read, or what `each` gives.
pub fn compare<E: From<StoreError>>(
    first: (&mut ChunkReader, &Hash),
    second: (&mut ChunkReader, &Hash),
    mut each: impl FnMut(Difference) -> Result<(), E>,
) -> Result<(), E> {
    if first.1 == second.1 {
        return Ok(());
    }
    let (mut a, mut b) = (Cursor::new(first.0, first.1)?, Cursor::new(second.0, second.1)?);
    loop {
        if a.at_hand.is_empty() || b.at_hand.is_empty() {
            let both = a.at_hand.is_empty() && b.at_hand.is_empty();
            match (a.next().filter(|_| a.at_hand.is_empty()), b.next().filter(|_| b.at_hand.is_empty())) {
                (None, None) if both => return Ok(()),
                (Some(one), Some(other)) if one == other => {
                    a.skip();
                    b.skip();
                    continue;
                }
                // The one that stands higher may come to where the other one is.
                (Some((one, _)), Some((other, _))) => {
                    if one >= other {
                        a.descend()?;
                    }
                    if other >= one {
                        b.descend()?;
                    }
                    continue;
                }
                (Some(_), None) => {
                    a.descend()?;
                    continue;
                }
                (None, Some(_)) => {
                    b.descend()?;
                    continue;
                }
                // One is at its end.
                (None, None) => {}
            }
        }
        let order = match (a.at_hand.front(), b.at_hand.front()) {
            (Some(one), Some(other)) => one.path.cmp(&other.path),
            (Some(_), None) => Ordering::Less,
            (None, Some(_)) => Ordering::Greater,
            (None, None) => continue,
        };
        let one = if order.is_le() { a.at_hand.pop_front() } else { None };
        let other = if order.is_ge() { b.at_hand.pop_front() } else { None };
        match (one, other) {
            (Some(one), Some(other)) if one == other => {}
            (Some(one), Some(other)) => each(Difference::Changed(Box::new(one), Box::new(other)))?,
            (Some(one), None) => each(Difference::Gone(Box::new(one)))?,
            (None, Some(other)) => each(Difference::Added(Box::new(other)))?,
            (None, None) => {}
        }
    }
}
