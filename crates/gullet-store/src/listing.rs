//! Listings: what a capture consists of, path by path.
//!
//! A listing is JSON Lines, one [`Entry`] a line, sorted by path. It is cut into blocks of whole lines which are stored
//! as chunks; nodes above them name the first path and the id of each block, so that one path or a comparison reads
//! only what it needs. Blocks are cut where an entry's own path says so: a changed entry changes one block, and an
//! unchanged listing stores nothing.
//!
//! The order of paths is by components: bytes are compared with `/` below every other byte, so that a folder is
//! followed by all that is in it.

use std::cmp::Ordering;
use std::collections::BTreeMap;
use std::fmt;

use serde::{Deserialize, Serialize};

use crate::error::StoreError;
use crate::hash::Hash;
use crate::reader::ChunkReader;

/// Size, in bytes, from which a block may end.
const BLOCK_MIN: usize = 64 << 10;
/// Size, in bytes, at which a block ends in any case.
const BLOCK_MAX: usize = 512 << 10;
/// Children of a node at most.
const NODE_MAX: usize = 2000;
/// Nodes above one another at most; enough for 2000^4 blocks.
const LEVELS_MAX: u32 = 4;

/// A path as the system gives it: bytes. In JSON a string where it is UTF-8, else `{"base64": "…"}`.
#[derive(Clone, PartialEq, Eq, Hash, Default)]
pub struct PathName(Vec<u8>);

impl PathName {
    /// A path of these bytes.
    pub fn new(bytes: impl Into<Vec<u8>>) -> Self {
        Self(bytes.into())
    }

    /// The bytes.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// Whether it lies somewhere below `folder`.
    pub fn is_below(&self, folder: &Self) -> bool {
        self.0.strip_prefix(folder.as_bytes()).is_some_and(|rest| rest.first() == Some(&b'/'))
    }

    /// The folders above it, the topmost first.
    pub fn above(&self) -> impl Iterator<Item = Self> + '_ {
        let ends = self.0.iter().enumerate().filter(|(_, byte)| **byte == b'/').map(|(at, _)| at);
        ends.map(|end| Self(self.0[..end].to_vec()))
    }

    /// Whether it is relative, not empty, and every component is a plain name: then it cannot lead out of the folder it
    /// is joined to (links in that folder apart).
    pub fn is_plain(&self) -> bool {
        self.0.split(|b| *b == b'/').all(|part| !part.is_empty() && part != b"." && part != b".." && !part.contains(&0))
    }
}

impl Ord for PathName {
    fn cmp(&self, other: &Self) -> Ordering {
        let key = |b: &u8| if *b == b'/' { 0 } else { *b };
        self.0.iter().map(key).cmp(other.0.iter().map(key))
    }
}

impl PartialOrd for PathName {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl fmt::Display for PathName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&String::from_utf8_lossy(&self.0))
    }
}

impl fmt::Debug for PathName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", String::from_utf8_lossy(&self.0))
    }
}

#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum PathForm {
    Text(String),
    Bytes { base64: String },
}

impl Serialize for PathName {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match std::str::from_utf8(&self.0) {
            Ok(text) => serializer.serialize_str(text),
            Err(_) => PathForm::Bytes { base64: data_encoding::BASE64.encode(&self.0) }.serialize(serializer),
        }
    }
}

impl<'de> Deserialize<'de> for PathName {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        match PathForm::deserialize(deserializer)? {
            PathForm::Text(text) => Ok(Self(text.into_bytes())),
            PathForm::Bytes { base64 } => {
                data_encoding::BASE64.decode(base64.as_bytes()).map(Self).map_err(serde::de::Error::custom)
            }
        }
    }
}

/// What kind of thing an entry is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Kind {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Symlink,
    /// A named pipe.
    Fifo,
    /// A Unix socket; only its place is kept.
    Socket,
    /// A character device.
    CharDevice,
    /// A block device.
    BlockDevice,
}

/// One thing in a capture.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Entry {
    /// Its path within the capture; relative, plain components.
    pub path: PathName,
    /// What it is.
    pub kind: Kind,
    /// Permission bits with set-uid, set-gid and sticky (`st_mode & 0o7777`).
    pub mode: u32,
    /// Numeric owner.
    pub uid: u32,
    /// Numeric group.
    pub gid: u32,
    /// Time of last modification: seconds since 1970 and nanoseconds.
    pub mtime: (i64, u32),
    /// Length in bytes; files only.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub size: u64,
    /// The chunks of its contents in order; for a sparse file those of its data alone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub chunks: Vec<Hash>,
    /// Where a sparse file has data: offset and length in bytes. Everything else reads as zeros.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub data: Option<Vec<(u64, u64)>>,
    /// Where a symbolic link points.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<PathName>,
    /// The path, earlier in this listing, of the same file under another name (hard link).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub same_as: Option<PathName>,
    /// Major and minor number of a device.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<(u32, u32)>,
    /// Extended attributes, ACLs among them; values in base64.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub xattrs: BTreeMap<String, String>,
}

fn is_zero(number: &u64) -> bool {
    *number == 0
}

impl Entry {
    /// Whether what can be restored from both is the same, times and owners included.
    pub fn same_contents(&self, other: &Self) -> bool {
        self.kind == other.kind
            && self.size == other.size
            && self.chunks == other.chunks
            && self.data == other.data
            && self.target == other.target
    }
}

/// Where a listing begins, as a record names it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct ListingRef {
    /// The id of the topmost node.
    pub root: Hash,
    /// Entries in the listing.
    pub entries: u64,
    /// Length of the listing in bytes.
    pub bytes: u64,
}

#[derive(Clone, Serialize, Deserialize)]
struct Child {
    first: PathName,
    chunk: Hash,
    entries: u64,
}

#[derive(Serialize, Deserialize)]
struct Node {
    listing: u32,
    level: u32,
    children: Vec<Child>,
}

/// Version of the listing's nodes.
const LISTING_VERSION: u32 = 1;

/// A block of a listing that was just closed.
#[derive(Clone, Debug)]
pub struct ClosedBlock {
    /// Its first path.
    pub first: PathName,
    /// Its last path.
    pub last: PathName,
    /// Its id.
    pub chunk: Hash,
    /// Entries in it.
    pub entries: u64,
    /// Its bytes: one entry a line.
    pub lines: Vec<u8>,
    /// Whether it ends where its own contents say so; else only because the listing ends.
    pub natural: bool,
}

/// Builds a listing from entries in ascending order.
#[derive(Default)]
pub struct ListingWriter {
    block: Vec<u8>,
    first: Option<PathName>,
    last: Option<PathName>,
    in_block: u64,
    levels: Vec<Vec<Child>>,
    entries: u64,
    bytes: u64,
}

impl ListingWriter {
    /// Adds an entry; `put` stores a chunk. Gives the block that it closes.
    ///
    /// # Errors
    /// What `put` gives; [`StoreError::Damaged`] when the entry is not after the one before it.
    pub fn push(
        &mut self,
        entry: &Entry,
        put: &mut impl FnMut(&[u8]) -> Result<Hash, StoreError>,
    ) -> Result<Option<ClosedBlock>, StoreError> {
        if self.last.as_ref().is_some_and(|last| *last >= entry.path) {
            return Err(unsound(format!("`{}` is out of order", entry.path)));
        }
        let line = serde_json::to_vec(entry).map_err(|error| unsound(error.to_string()))?;
        self.first.get_or_insert_with(|| entry.path.clone());
        self.last = Some(entry.path.clone());
        self.block.extend_from_slice(&line);
        self.block.push(b'\n');
        self.in_block += 1;
        self.entries += 1;
        self.bytes += line.len() as u64 + 1;
        // About one path in 1024 is a boundary.
        let boundary = || u16::from_le_bytes([hash_start(&entry.path)[0], hash_start(&entry.path)[1]]) & 0x3FF == 0;
        if self.block.len() >= BLOCK_MAX || (self.block.len() >= BLOCK_MIN && boundary()) {
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
            self.levels.push(Vec::new());
        }
        self.levels[level].push(child);
        if self.levels[level].len() == NODE_MAX {
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
        let children = std::mem::take(&mut self.levels[level]);
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
            self.levels.push(Vec::new());
        }
        let mut level = 0;
        loop {
            let top = level + 1 == self.levels.len();
            let node = self.close_node(level, put)?;
            if top {
                return Ok(ListingRef { root: node.chunk, entries: self.entries, bytes: self.bytes });
            }
            level += 1;
            self.levels[level].push(node);
        }
    }
}

fn hash_start(path: &PathName) -> [u8; 32] {
    *Hash::of(path.as_bytes()).as_bytes()
}

fn unsound(what: String) -> StoreError {
    StoreError::Damaged { name: "a listing".to_owned(), what }
}

/// Reads a listing from its root.
pub struct ListingReader<'a> {
    chunks: &'a mut ChunkReader,
}

impl<'a> ListingReader<'a> {
    /// A reader of listings whose chunks `chunks` can find.
    pub fn new(chunks: &'a mut ChunkReader) -> Self {
        Self { chunks }
    }

    fn node(&mut self, id: &Hash, below: u32) -> Result<Node, StoreError> {
        let bytes = self.chunks.get(id)?;
        let node: Node = serde_json::from_slice(&bytes).map_err(|error| unsound(error.to_string()))?;
        if node.listing != LISTING_VERSION || node.level >= below {
            return Err(unsound(format!("a node of version {} and level {}", node.listing, node.level)));
        }
        Ok(node)
    }

    fn block(&mut self, id: &Hash) -> Result<Vec<Entry>, StoreError> {
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
        let within = |node: Node| match below {
            None => node.children.into_iter(),
            Some(path) => {
                // The last child that begins at the path or before it may hold it; those after it only what is below.
                let mut children = node.children;
                let end = children.partition_point(|child| child.first <= *path || child.first.is_below(path));
                children.truncate(end);
                let first = children.partition_point(|child| child.first <= *path).saturating_sub(1);
                children.drain(..first.min(end));
                children.into_iter()
            }
        };
        let top = self.node(root, LEVELS_MAX)?;
        let mut last: Option<PathName> = None;
        let mut stack = vec![(top.level, within(top))];
        while let Some((level, children)) = stack.last_mut() {
            let level = *level;
            let Some(child) = children.next() else {
                stack.pop();
                continue;
            };
            if level > 0 {
                let node = self.node(&child.chunk, level)?;
                let (level, children) = (node.level, within(node));
                stack.push((level, children));
                continue;
            }
            for entry in self.block(&child.chunk)? {
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
        let mut node = self.node(root, LEVELS_MAX)?;
        loop {
            let after = node.children.partition_point(|child| child.first <= *path);
            let Some(child) = after.checked_sub(1).and_then(|at| node.children.get(at)) else { return Ok(None) };
            let chunk = child.chunk;
            if node.level == 0 {
                return Ok(self.block(&chunk)?.into_iter().find(|entry| entry.path == *path));
            }
            node = self.node(&chunk, node.level)?;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cache::Cache;
    use crate::deposit::{Deposit, DepositOptions};
    use crate::location::Memory;
    use std::sync::Arc;

    pub(crate) fn file(path: &str, size: u64) -> Entry {
        Entry {
            path: PathName::new(path),
            kind: Kind::File,
            mode: 0o640,
            uid: 7,
            gid: 8,
            mtime: (1_795_000_000, 5),
            size,
            chunks: vec![Hash::of(path.as_bytes())],
            data: None,
            target: None,
            same_as: None,
            device: None,
            xattrs: BTreeMap::new(),
        }
    }

    fn stored(entries: &[Entry]) -> (ChunkReader, ListingRef, u64) {
        let folder = tempfile::tempdir().unwrap();
        let memory = Memory::default();
        let mut cache = Cache::open(&folder.path().join("cache.db")).unwrap();
        let options = DepositOptions::default();
        let mut deposit = Deposit::new(Arc::new(memory.clone()), &mut cache, "w", "r", &options).unwrap();
        let mut listing = ListingWriter::default();
        let mut put = |bytes: &[u8]| deposit.put(bytes);
        for entry in entries {
            listing.push(entry, &mut put).unwrap();
        }
        let root = listing.finish(&mut put).unwrap();
        let done = deposit.finish().unwrap();
        let mut reader = ChunkReader::new(Arc::new(memory), crate::Identities::default());
        for file in &done.holdings.wrote {
            reader.add(&file.name).unwrap();
        }
        (reader, root, done.tally.new_chunks)
    }

    #[test]
    fn what_is_listed_is_read_and_found_again() {
        let mut entries: Vec<Entry> = (0..5000).map(|n| file(&format!("lists/{n:05}.json"), n + 1)).collect();
        entries.push(file("lists/a-b", 1));
        entries.push(file("lists/a/b", 1));
        entries.sort_by(|a, b| a.path.cmp(&b.path));
        let (mut reader, root, _) = stored(&entries);
        let mut seen = Vec::new();
        let mut listing = ListingReader::new(&mut reader);
        listing
            .for_each(&root.root, |entry, _| {
                seen.push(entry);
                Ok::<_, StoreError>(())
            })
            .unwrap();
        assert_eq!(seen, entries);
        assert_eq!(root.entries, 5002);
        for path in ["lists/00000.json", "lists/03217.json", "lists/a-b", "lists/a/b"] {
            assert_eq!(listing.find(&root.root, &PathName::new(path)).unwrap().unwrap().path, PathName::new(path));
        }
        for (below, expected) in [("lists/a", 1), ("lists", 5002), ("lists/03217.json", 1), ("li", 0), ("z", 0)] {
            let mut count = 0;
            listing
                .for_each_below(&root.root, Some(&PathName::new(below)), |_, _| {
                    count += 1;
                    Ok::<_, StoreError>(())
                })
                .unwrap();
            assert_eq!(count, expected, "{below}");
        }
        assert_eq!(listing.find(&root.root, &PathName::new("lists")).unwrap(), None);
        assert_eq!(listing.find(&root.root, &PathName::new("z")).unwrap(), None);
    }

    #[test]
    fn an_empty_listing_has_a_root() {
        let (mut reader, root, _) = stored(&[]);
        let mut listing = ListingReader::new(&mut reader);
        listing.for_each(&root.root, |entry, _| -> Result<(), StoreError> { panic!("{entry:?}") }).unwrap();
        assert_eq!(root.entries, 0);
    }

    #[test]
    fn a_folder_is_followed_by_all_that_is_in_it() {
        let mut paths: Vec<PathName> = ["a-b", "a/c", "a", "a.b", "b"].map(PathName::new).into();
        paths.sort();
        assert_eq!(paths, ["a", "a/c", "a-b", "a.b", "b"].map(PathName::new));
    }

    #[test]
    fn names_that_are_not_text_survive_json() {
        for bytes in [&b"caf\xe9"[..], b"new\nline", b"\xff\xfe", "ferry-\u{1f6a2}".as_bytes()] {
            let path = PathName::new(bytes);
            let json = serde_json::to_string(&path).unwrap();
            assert!(!json.contains('\n'));
            assert_eq!(serde_json::from_str::<PathName>(&json).unwrap(), path);
        }
    }

    proptest::proptest! {
        #![proptest_config(proptest::prelude::ProptestConfig::with_cases(300))]

        /// Whatever a node and a block hold, reading them ends, with entries in order whose paths stay below.
        #[test]
        fn a_listing_of_anything_is_read_or_refused(
            edits in proptest::collection::vec((proptest::prelude::any::<u16>(), proptest::prelude::any::<u8>()), 1..8),
            in_node: bool,
        ) {
            let mut entries: Vec<Entry> = ["a", "a/b", "c"].map(|path| file(path, 1)).into();
            entries[1].same_as = Some(PathName::new("a"));
            let block: Vec<u8> =
                entries.iter().flat_map(|entry| [serde_json::to_vec(entry).unwrap(), b"\n".to_vec()].concat()).collect();
            let change = |mut bytes: Vec<u8>| {
                for (at, byte) in &edits {
                    let at = usize::from(*at) % bytes.len();
                    bytes[at] = *byte;
                }
                bytes
            };
            let block = if in_node { block } else { change(block) };
            let children = vec![Child { first: PathName::new("a"), chunk: Hash::of(&block), entries: 3 }];
            let node = serde_json::to_vec(&Node { listing: LISTING_VERSION, level: 0, children }).unwrap();
            let node = if in_node { change(node) } else { node };
            let folder = tempfile::tempdir_in("/dev/shm").unwrap();
            let memory = Memory::default();
            let mut cache = Cache::open(&folder.path().join("cache.db")).unwrap();
            let options = DepositOptions::default();
            let mut deposit = Deposit::new(Arc::new(memory.clone()), &mut cache, "w", "r", &options).unwrap();
            deposit.put(&block).unwrap();
            let root = deposit.put(&node).unwrap();
            let done = deposit.finish().unwrap();
            let mut reader = ChunkReader::new(Arc::new(memory), crate::Identities::default());
            reader.add(&done.holdings.wrote[0].name).unwrap();
            let mut last = PathName::default();
            let _ = ListingReader::new(&mut reader).for_each(&root, |entry, _| {
                assert!(entry.path.is_plain() && last < entry.path);
                last = entry.path;
                Ok::<_, StoreError>(())
            });
            let _ = ListingReader::new(&mut reader).find(&root, &PathName::new("a/b"));
        }
    }

    #[test]
    fn paths_that_lead_elsewhere_are_refused() {
        for path in ["/etc/passwd", "../x", "a/../../x", "a//b", "", ".", "a/./b", "a\0b"] {
            assert!(!PathName::new(path).is_plain(), "{path:?}");
            let (mut reader, root, _) = stored(&[file(path, 1)]);
            let read = ListingReader::new(&mut reader).for_each(&root.root, |_, _| Ok::<_, StoreError>(()));
            assert!(read.is_err(), "{path:?}");
        }
    }
}
