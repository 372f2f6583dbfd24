//! Reading a listing: all of it, or only what one path needs.

use super::{Child, Entry, LEVELS_MAX, LISTING_VERSION, Node, PathName, unsound};
use crate::error::StoreError;
use crate::hash::Hash;
use crate::reader::ChunkReader;

/// Reads a listing from its root.
pub struct ListingReader<'a> {
    chunks: &'a mut ChunkReader,
}

impl<'a> ListingReader<'a> {
    /// A reader of listings whose chunks `chunks` can find.
    pub fn new(chunks: &'a mut ChunkReader) -> Self {
        Self { chunks }
    }

    pub(super) fn node(&mut self, id: &Hash, below: u32) -> Result<Node, StoreError> {
        let bytes = self.chunks.get(id)?;
        let node: Node = serde_json::from_slice(&bytes).map_err(|error| unsound(error.to_string()))?;
        if node.listing != LISTING_VERSION || node.level >= below {
            return Err(unsound(format!("a node of version {} and level {}", node.listing, node.level)));
        }
        // Only the top of an empty listing has nothing below it. Nodes that lead nowhere would cost without end.
        if node.children.is_empty() && below != LEVELS_MAX {
            return Err(unsound("a node with nothing below it".to_owned()));
        }
        Ok(node)
    }

    pub(super) fn block(&mut self, id: &Hash) -> Result<Vec<Entry>, StoreError> {
        let bytes = self.chunks.get(id)?;
        let lines = bytes.split(|b| *b == b'\n').filter(|line| !line.is_empty());
        lines.map(|line| serde_json::from_slice(line).map_err(|error| unsound(error.to_string()))).collect()
    }

    /// Hands every entry to `each` in order, with the means to read chunks. Entries whose order or path cannot be
    /// right are refused.
    ///
    /// # Errors
    /// When the listing is damaged or cannot be read, or what `each` gives.
    pub fn for_each<E: From<StoreError>>(
        &mut self,
        root: &Hash,
        each: impl FnMut(Entry, &mut ChunkReader) -> Result<(), E>,
    ) -> Result<(), E> {
        self.for_each_below(root, None, each)
    }

    /// As [`ListingReader::for_each`], for one path and all that is below it; reads only the nodes and blocks that can hold
    /// them.
    ///
    /// # Errors
    /// As [`ListingReader::for_each`].
    pub fn for_each_below<E: From<StoreError>>(
        &mut self,
        root: &Hash,
        below: Option<&PathName>,
        mut each: impl FnMut(Entry, &mut ChunkReader) -> Result<(), E>,
    ) -> Result<(), E> {
        // Each child with the share of the whole that lies before its end.
        let within = |node: Node, (from, share): (f64, f64)| {
            let step = share / node.children.len().max(1) as f64;
            let numbered = |(number, child)| (from + step * number as f64, step, child);
            let mut children: Vec<(f64, f64, Child)> = node.children.into_iter().enumerate().map(numbered).collect();
            if let Some(path) = below {
                // The last child that begins at the path or before it may hold it; those after it only what is below.
                let end = children.partition_point(|(_, _, child)| child.first <= *path || child.first.is_below(path));
                children.truncate(end);
                let first = children.partition_point(|(_, _, child)| child.first <= *path).saturating_sub(1);
                children.drain(..first.min(end));
            }
            children.into_iter()
        };
        self.chunks.expect_near(1.0);
        let top = self.node(root, LEVELS_MAX)?;
        let mut last: Option<PathName> = None;
        let mut stack = vec![(top.level, within(top, (0.0, 1.0)))];
        while let Some((level, children)) = stack.last_mut() {
            let level = *level;
            let Some((from, share, child)) = children.next() else {
                stack.pop();
                continue;
            };
            // A node and a block are written when all is captured that is in them.
            self.chunks.expect_near(from + share);
            if level > 0 {
                let node = self.node(&child.chunk, level)?;
                let (level, children) = (node.level, within(node, (from, share)));
                stack.push((level, children));
                continue;
            }
            let block = self.block(&child.chunk)?;
            if block.is_empty() {
                return Err(unsound("a block with nothing in it".to_owned()).into());
            }
            for entry in block {
                if !entry.path.is_plain() || last.as_ref().is_some_and(|last| *last >= entry.path) {
                    return Err(unsound(format!("`{}` cannot stand where it does", entry.path)).into());
                }
                last = Some(entry.path.clone());
                if below.is_none_or(|path| entry.path == *path || entry.path.is_below(path)) {
                    each(entry, self.chunks)?;
                }
            }
        }
        Ok(())
    }

    /// The entry of one path, reading only the nodes and the block that can hold it.
    ///
    /// # Errors
    /// When the listing is damaged or cannot be read.
    pub fn find(&mut self, root: &Hash, path: &PathName) -> Result<Option<Entry>, StoreError> {
        self.chunks.expect_near(1.0);
        let mut node = self.node(root, LEVELS_MAX)?;
        let (mut from, mut share) = (0.0, 1.0);
        loop {
            let after = node.children.partition_point(|child| child.first <= *path);
            let Some(child) = after.checked_sub(1).and_then(|at| node.children.get(at)) else { return Ok(None) };
            let chunk = child.chunk;
            share /= node.children.len() as f64;
            from += share * (after - 1) as f64;
            self.chunks.expect_near(from + share);
            if node.level == 0 {
                return Ok(self.block(&chunk)?.into_iter().find(|entry| entry.path == *path));
            }
            node = self.node(&chunk, node.level)?;
        }
    }
}
