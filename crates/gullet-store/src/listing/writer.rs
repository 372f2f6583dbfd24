//! Building a listing: blocks, and the nodes above them.

use super::{Child, Entry, LISTING_VERSION, ListingRef, Node, PathName, unsound};
use crate::error::StoreError;
use crate::hash::Hash;

/// Size, in bytes, from which a block may end.
const BLOCK_MIN: usize = 64 << 10;
/// Size, in bytes, at which a block ends in any case.
pub(super) const BLOCK_MAX: usize = 512 << 10;
/// Children of a node at most.
const NODE_MAX: usize = 2000;
/// Bytes of paths in a node at which it is closed.
const NODE_PATHS: usize = 512 << 10;
/// A line may not be longer than this, in bytes, so that a block fits a frame.
pub(super) const LINE_MAX: usize = 6 << 20;

/// A block of a listing that was just closed.
#[derive(Clone, Debug)]
pub struct ClosedBlock {
    /// Its first path.
    pub first: PathName,
    /// Its last path.
    pub last: PathName,
    /// The id of the chunk that has the block.
    pub chunk: Hash,
    /// Entries in it.
    pub entries: u64,
    /// Its bytes: one entry a line.
    pub lines: Vec<u8>,
    /// Whether it ends where its own contents say so; else only because the listing ends.
    pub natural: bool,
}

/// The children of a node that is being made.
#[derive(Default)]
struct TreeLevel {
    children: Vec<Child>,
    /// Bytes of their paths.
    paths: usize,
}

/// Builds a listing from entries in ascending order.
#[derive(Default)]
pub struct ListingWriter {
    block: Vec<u8>,
    first: Option<PathName>,
    last: Option<PathName>,
    in_block: u64,
    levels: Vec<TreeLevel>,
    entries: u64,
    bytes: u64,
}

impl ListingWriter {
    /// Adds an entry; `put` stores a chunk. Gives the block that it closes.
    ///
    /// # Errors
    /// What `put` gives; [`StoreError::Damaged`] when the entry is not after the one before it, or could not be read again.
    pub fn push(
        &mut self,
        entry: &Entry,
        put: &mut impl FnMut(&[u8]) -> Result<Hash, StoreError>,
    ) -> Result<Option<ClosedBlock>, StoreError> {
        // What could not be read again is not written.
        if !entry.path.is_plain() {
            return Err(unsound(format!("`{}` cannot stand in it: it is no plain path", entry.path)));
        }
        self.push_any(entry, put)
    }

    /// The same of an entry with any path, as a hostile store could have it.
    pub(super) fn push_any(
        &mut self,
        entry: &Entry,
        put: &mut impl FnMut(&[u8]) -> Result<Hash, StoreError>,
    ) -> Result<Option<ClosedBlock>, StoreError> {
        if self.last.as_ref().is_some_and(|last| *last >= entry.path) {
            return Err(unsound(format!("`{}` is out of order", entry.path)));
        }
        let line = serde_json::to_vec(entry).map_err(|error| unsound(error.to_string()))?;
        if line.len() > LINE_MAX {
            return Err(unsound(format!("`{}` has more attributes than a listing can take", entry.path)));
        }
        self.first.get_or_insert_with(|| entry.path.clone());
        self.last = Some(entry.path.clone());
        self.block.extend_from_slice(&line);
        self.block.push(b'\n');
        self.in_block += 1;
        self.entries += 1;
        self.bytes += line.len() as u64 + 1;
        if self.block.len() >= BLOCK_MAX || (self.block.len() >= BLOCK_MIN && is_boundary(&entry.path)) {
            return self.close_block(true, put);
        }
        Ok(None)
    }

    /// Whether the next entry begins a block.
    pub fn is_at_start(&self) -> bool {
        self.first.is_none()
    }

    /// Adds a whole block that is stored already, of so many bytes. The last entry must have closed a block.
    ///
    /// # Errors
    /// What `put` gives; [`StoreError::Damaged`] when it is not after what was added before.
    pub fn push_block(
        &mut self,
        (first, last): (&PathName, &PathName),
        chunk: Hash,
        (entries, bytes): (u64, u64),
        put: &mut impl FnMut(&[u8]) -> Result<Hash, StoreError>,
    ) -> Result<(), StoreError> {
        if self.first.is_some() || self.last.as_ref().is_some_and(|before| before >= first) {
            return Err(unsound(format!("the block from `{first}` is out of order")));
        }
        self.last = Some(last.clone());
        self.entries += entries;
        self.bytes += bytes;
        self.add_child(0, Child { first: first.clone(), chunk, entries }, put)
    }

    fn close_block(
        &mut self,
        natural: bool,
        put: &mut impl FnMut(&[u8]) -> Result<Hash, StoreError>,
    ) -> Result<Option<ClosedBlock>, StoreError> {
        let Some(first) = self.first.take() else { return Ok(None) };
        let lines = std::mem::take(&mut self.block);
        let chunk = put(&lines)?;
        let entries = std::mem::take(&mut self.in_block);
        self.add_child(0, Child { first: first.clone(), chunk, entries }, put)?;
        let last = self.last.clone().unwrap_or_default();
        Ok(Some(ClosedBlock { first, last, chunk, entries, lines, natural }))
    }

    fn add_child(
        &mut self,
        level: usize,
        child: Child,
        put: &mut impl FnMut(&[u8]) -> Result<Hash, StoreError>,
    ) -> Result<(), StoreError> {
        if self.levels.len() <= level {
            self.levels.push(TreeLevel::default());
        }
        let here = &mut self.levels[level];
        here.paths += child.first.as_bytes().len();
        here.children.push(child);
        if here.children.len() == NODE_MAX || here.paths >= NODE_PATHS {
            let node = self.close_node(level, put)?;
            self.add_child(level + 1, node, put)?;
        }
        Ok(())
    }

    fn close_node(
        &mut self,
        level: usize,
        put: &mut impl FnMut(&[u8]) -> Result<Hash, StoreError>,
    ) -> Result<Child, StoreError> {
        let children = std::mem::take(&mut self.levels[level]).children;
        let first = children.first().map(|child| child.first.clone()).unwrap_or_default();
        let entries = children.iter().map(|child| child.entries).sum();
        let node = Node { listing: LISTING_VERSION, level: level as u32, children };
        let bytes = serde_json::to_vec(&node).map_err(|error| unsound(error.to_string()))?;
        Ok(Child { first, chunk: put(&bytes)?, entries })
    }

    /// Closes the last block, if it is not empty.
    ///
    /// # Errors
    /// What `put` gives.
    pub fn close(
        &mut self,
        put: &mut impl FnMut(&[u8]) -> Result<Hash, StoreError>,
    ) -> Result<Option<ClosedBlock>, StoreError> {
        self.close_block(false, put)
    }

    /// Stores what is left and the topmost node.
    ///
    /// # Errors
    /// What `put` gives.
    pub fn finish(mut self, put: &mut impl FnMut(&[u8]) -> Result<Hash, StoreError>) -> Result<ListingRef, StoreError> {
        self.close_block(false, put)?;
        if self.levels.is_empty() {
            self.levels.push(TreeLevel::default());
        }
        let mut level = 0;
        loop {
            let top = level + 1 == self.levels.len();
            let node = self.close_node(level, put)?;
            if top {
                return Ok(ListingRef { root: node.chunk, entries: self.entries, bytes: self.bytes });
            }
            level += 1;
            self.levels[level].children.push(node);
        }
    }
}

/// Whether a block may end with a path: with about one in 1024.
pub(super) fn is_boundary(path: &PathName) -> bool {
    let start = hash_start(path);
    u16::from_le_bytes([start[0], start[1]]) & 0x3FF == 0
}

fn hash_start(path: &PathName) -> [u8; 32] {
    *Hash::of(path.as_bytes()).as_bytes()
}
