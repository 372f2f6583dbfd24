//! Marks: what a file looked like when it was last read, and whether that is enough to believe it unchanged.
//!
//! A file is believed unchanged when size, mtime, ctime and inode are the same, and the marks were *settled* at that
//! last look: the filesystem had been synced before it, and the marks were older than that sync by more than the
//! clock's granularity. The sync matters because a write through a memory map to a page that is dirty already moves no
//! mark; after a sync every page is clean, so the next write does. On tmpfs, FAT, FUSE and network filesystems every file
//! is read again.
//!
//! Marks are kept in a file with the entries of the last listing, in its order and in its blocks, so that they are compared
//! with a walk in one pass and in bounded memory, and a block in which nothing changed is taken over whole:
//!
//! ```text
//! for each block:  its marks, one record after the other (see `Mark`); then its lines as they are in the listing
//! at the end:      the index as JSON, its length (8 bytes, little-endian), and `GULLMRK1`
//! ```
//!
//! It is a cache of this machine: one that cannot be read is passed over, and everything is read again.

mod mark;

use std::collections::{HashMap, HashSet};
use std::fs::{self, File};
use std::io::{self, BufWriter, Write};
use std::os::unix::fs::{FileExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use gullet_store::listing::{ClosedBlock, Entry, ListingRef, PathName};
use gullet_store::{Deposit, Deposited, FrameSet, Frames, Hash, IoPath, PathError, StoreError};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::context::PartError;
use crate::plan::Plan;
use gullet_host::world::Clock;
use gullet_model::definition::{PartSource, When};
use gullet_model::record::Counts;
pub(crate) use mark::{Mark, Marked, News, StagedCopy};

/// Marks must be older than the sync by this much where times have fractions: more than a clock tick, in nanoseconds.
const TICK: i128 = 50_000_000;
/// And by this much where they have none (whole or even seconds), in nanoseconds.
const COARSE: i128 = 2_100_000_000;

/// Filesystem types whose marks can be believed, by the magic numbers of statfs(2).
const BELIEVED: [(u64, &str); 5] =
    [(0xEF53, "ext"), (0x5846_5342, "xfs"), (0x9123_683E, "btrfs"), (0x2FC1_2FC1, "zfs"), (0xF2F5_2010, "f2fs")];

/// The filesystem of a root: which one it is, and when this run synced it.
#[derive(Clone, Debug)]
pub(crate) struct FilesystemInfo {
    /// Type and id, to notice another filesystem in its place.
    pub(crate) filesystem: String,
    /// When it was synced, where its marks can be believed.
    synced: Option<i128>,
}

impl FilesystemInfo {
    /// Syncs the filesystem that `root` is on, and says what it is.
    pub(crate) fn look(root: &Path, clock: &dyn Clock) -> Result<Self, PathError> {
        let stat = rustix::fs::statfs(root).at(root)?;
        let magic = stat.f_type as u64 & 0xFFFF_FFFF;
        let known = BELIEVED.iter().find(|(number, _)| *number == magic);
        let id = rustix::fs::statvfs(root).at(root)?.f_fsid;
        let filesystem = match known {
            Some((_, name)) => format!("{name} {id:x}"),
            None => format!("{magic:x} {id:x}"),
        };
        let synced = match known {
            None => None,
            Some(_) => {
                let before = nanoseconds(clock.now());
                let open = File::open(root).at(root)?;
                rustix::fs::syncfs(&open).ok().map(|()| before)
            }
        };
        Ok(Self { filesystem, synced })
    }

    /// Whether the marks were settled when the filesystem was synced.
    pub(crate) fn settles(&self, meta: &fs::Metadata) -> bool {
        let at = |seconds: i64, nanoseconds: i64| i128::from(seconds) * 1_000_000_000 + i128::from(nanoseconds);
        let last = at(meta.mtime(), meta.mtime_nsec()).max(at(meta.ctime(), meta.ctime_nsec()));
        let coarse = meta.mtime_nsec() == 0 && meta.ctime_nsec() == 0;
        self.synced.is_some_and(|synced| last + if coarse { COARSE } else { TICK } < synced)
    }
}

fn nanoseconds(at: Timestamp) -> i128 {
    at.as_nanosecond()
}

/// The filesystems of the roots. A look syncs, so it is best taken before the application is held.
#[derive(Debug, Default)]
pub struct Filesystems(HashMap<u64, FilesystemInfo>);

impl Filesystems {
    /// The filesystem of `root`. Looks at it the first time and answers from memory after that.
    pub(crate) fn of(&mut self, root: &Path, clock: &dyn Clock) -> Result<FilesystemInfo, PathError> {
        let device = fs::metadata(root).at(root)?.dev();
        if let Some(known) = self.0.get(&device) {
            return Ok(known.clone());
        }
        self.renew(root, clock)
    }

    /// Looks at the filesystem of `root` anew.
    ///
    /// # Errors
    /// When it cannot be looked at.
    pub(crate) fn renew(&mut self, root: &Path, clock: &dyn Clock) -> Result<FilesystemInfo, PathError> {
        let device = fs::metadata(root).at(root)?.dev();
        let ground = FilesystemInfo::look(root, clock)?;
        self.0.insert(device, ground.clone());
        Ok(ground)
    }

    /// Looks at the filesystems of all sources of a plan that are captured in the hold. What cannot be looked at is told
    /// when it is captured.
    pub fn look_at_all(&mut self, plan: &Plan, clock: &dyn Clock) {
        let mut devices = HashSet::new();
        for part in &plan.parts {
            let PartSource::Files(source) = &part.source else { continue };
            for root in source.paths.iter().filter(|_| part.spec.when.unwrap_or_default() == When::Held) {
                let device = fs::metadata(root).map(|meta| meta.dev()).ok();
                if device.is_some_and(|device| devices.insert(device)) {
                    let _ = self.renew(root, clock);
                }
            }
        }
    }
}

/// A block of marks.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Block {
    pub(crate) first: PathName,
    pub(crate) last: PathName,
    pub(crate) entries: u64,
    /// Where its marks begin in the file, how long they are, and how long its lines are after them; in bytes.
    at: u64,
    marks: u32,
    pub(crate) lines: u32,
    /// The listing's block.
    pub(crate) chunk: Hash,
    /// Whether it ends where its own contents say so.
    pub(crate) natural: bool,
    pub(crate) counts: Counts,
    /// The frames that hold its contents and itself.
    pub(crate) frames: Frames,
    /// The frames noted while the part was written. `frames` is filled from them once those are stored.
    #[serde(skip)]
    pub(crate) uses: FrameSet,
}

/// The index at the end of a file of marks.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
struct Index {
    listing: Option<ListingRef>,
    /// The frames that hold the nodes above the blocks.
    nodes: Frames,
    blocks: Vec<Block>,
}

const END: &[u8; 8] = b"GULLMRK1";
/// Blocks, and the index, are not longer than this, in bytes.
const LONGEST: u64 = 1 << 30;

/// The marks of a capture that is over, or of the copy before the hold.
#[derive(Clone, Debug, Default)]
pub(crate) struct Marks {
    file: Option<Arc<File>>,
    index: Arc<Index>,
    /// Whether this very run made them.
    pub(crate) is_of_this_run: bool,
    /// The entries of the block that was looked into last.
    loaded: Option<(usize, Vec<Marked>)>,
}

impl Marks {
    /// Opens the marks at `path`; none when there are none, or they cannot be read.
    pub(crate) fn open(path: &Path) -> Self {
        let read = || {
            let file = File::open(path).ok()?;
            let length = file.metadata().ok()?.len();
            let mut end = [0; 16];
            file.read_exact_at(&mut end, length.checked_sub(16)?).ok()?;
            let index_length = u64::from_le_bytes(*end.first_chunk()?);
            let at = length.checked_sub(16)?.checked_sub(index_length)?;
            if &end[8..] != END || index_length > LONGEST {
                return None;
            }
            let mut index = vec![0; usize::try_from(index_length).ok()?];
            file.read_exact_at(&mut index, at).ok()?;
            let index: Index = serde_json::from_slice(&index).ok()?;
            Some(Self { file: Some(Arc::new(file)), index: Arc::new(index), ..Self::default() })
        };
        read().unwrap_or_default()
    }

    pub(crate) fn blocks(&self) -> &[Block] {
        &self.index.blocks
    }

    /// The listing that they are of, and the frames that hold its nodes.
    pub(crate) fn listing(&self) -> Option<(ListingRef, &Frames)> {
        Some((self.index.listing?, &self.index.nodes))
    }

    /// Files in all.
    pub(crate) fn files(&self) -> u64 {
        self.blocks().iter().map(|block| block.counts.files).sum()
    }

    fn bytes(&self, at: u64, length: u32) -> Option<Vec<u8>> {
        let mut bytes = vec![0; length as usize];
        self.file.as_ref()?.read_exact_at(&mut bytes, at).ok()?;
        Some(bytes)
    }

    /// The marks of a block.
    pub(crate) fn marks_of(&self, number: usize) -> Option<Vec<u8>> {
        let block = self.blocks().get(number)?;
        self.bytes(block.at, block.marks)
    }

    /// The lines of a block.
    pub(crate) fn lines_of(&self, number: usize) -> Option<Vec<u8>> {
        let block = self.blocks().get(number)?;
        self.bytes(block.at + u64::from(block.marks), block.lines)
    }

    /// The entries of a block with their marks; `None` when they cannot be read, or are not those that were listed.
    pub(crate) fn entries_of(&self, number: usize) -> Option<Vec<Marked>> {
        let (marks, lines) = (self.marks_of(number)?, self.lines_of(number)?);
        let block = &self.blocks()[number];
        if Hash::of(&lines) != block.chunk {
            return None;
        }
        let mut at = 0;
        let mut found = Vec::new();
        for line in lines.split(|byte| *byte == b'\n').filter(|line| !line.is_empty()) {
            let entry: Entry = serde_json::from_slice(line).ok()?;
            let (mark, next) = Mark::read(&marks, at).filter(|(mark, _)| mark.path == entry.path.as_bytes())?;
            at = next;
            let Mark { ctime, inode, settled, news, .. } = mark;
            found.push(Marked { entry, ctime, inode, settled, news, staged: None });
        }
        Some(found).filter(|found| found.len() as u64 == block.entries)
    }

    /// The block that would have `path`.
    pub(crate) fn block_of(&self, path: &PathName) -> Option<&Block> {
        let number = self.blocks().partition_point(|block| block.last < *path);
        self.blocks().get(number).filter(|block| block.first <= *path)
    }

    /// Whether they have this very entry's lists of chunks.
    pub(crate) fn lists(&self, entry: &Entry) -> bool {
        self.clone().of(&entry.path).is_some_and(|marked| marked.entry.lists == entry.lists)
    }

    /// Whether the store has the contents of an unchanged entry of these marks, which lies in `block`; if so this run stands on
    /// them from now on.
    pub(crate) fn stands_on(
        &self,
        entry: &Entry,
        block: Option<&Block>,
        deposit: &mut Deposit<'_>,
    ) -> Result<bool, StoreError> {
        // What lists name is not known here: it lies in the frames of the block, as does a chunk that the cache forgot.
        if entry.lists.is_empty() && deposit.reuse(&entry.chunks)? {
            return Ok(true);
        }
        match block {
            Some(block) if self.is_of_this_run => {
                deposit.note_again(&block.uses);
                Ok(true)
            }
            Some(block) => deposit.reuse_frames(&block.frames),
            None => Ok(false),
        }
    }

    /// The marks of `path`, where they have it. Each block is read once when paths are asked for in order.
    pub(crate) fn of(&mut self, path: &PathName) -> Option<Marked> {
        let number = self.blocks().partition_point(|block| block.last < *path);
        if self.blocks().get(number)?.first > *path {
            return None;
        }
        if self.loaded.as_ref().is_none_or(|(loaded, _)| *loaded != number) {
            // What cannot be read is not known, and read again from the source.
            self.loaded = Some((number, self.entries_of(number).unwrap_or_default()));
        }
        let (_, entries) = self.loaded.as_ref()?;
        let at = entries.binary_search_by(|marked| marked.entry.path.cmp(path)).ok()?;
        Some(entries[at].clone())
    }
}

/// The marks of a capture that is being made.
pub(crate) struct NewMarks {
    path: PathBuf,
    file: BufWriter<File>,
    at: u64,
    blocks: Vec<Block>,
    marks: Vec<u8>,
    counts: Counts,
}

impl NewMarks {
    pub(crate) fn create(path: PathBuf) -> Result<Self, PathError> {
        let file =
            File::options().read(true).write(true).create(true).truncate(true).mode(0o600).open(&path).at(&path)?;
        let file = BufWriter::with_capacity(1 << 16, file);
        Ok(Self { file, path, at: 0, blocks: Vec::new(), marks: Vec::new(), counts: Counts::default() })
    }

    /// One more entry of the block that is open.
    pub(crate) fn add(&mut self, marked: &Marked) {
        marked.mark().write(&mut self.marks);
        marked.count_in(&mut self.counts);
    }

    /// Closes the block that is open, as the listing did.
    pub(crate) fn close(&mut self, closed: ClosedBlock, uses: FrameSet) -> Result<(), PathError> {
        let marks = std::mem::take(&mut self.marks);
        let block = Block {
            first: closed.first,
            last: closed.last,
            entries: closed.entries,
            at: self.at,
            marks: marks.len() as u32,
            lines: closed.lines.len() as u32,
            chunk: closed.chunk,
            natural: closed.natural,
            counts: std::mem::take(&mut self.counts),
            frames: Frames::default(),
            uses,
        };
        self.write(block, &marks, &closed.lines)
    }

    /// Takes over a whole block.
    pub(crate) fn copy(&mut self, from: &Marks, number: usize, uses: FrameSet) -> Result<(), PartError> {
        let (marks, lines) = from.marks_of(number).zip(from.lines_of(number)).ok_or(PartError::MarksGone)?;
        let block = from.blocks()[number].clone();
        Ok(self.write(Block { at: self.at, frames: Frames::default(), uses, ..block }, &marks, &lines)?)
    }

    fn write(&mut self, block: Block, marks: &[u8], lines: &[u8]) -> Result<(), PathError> {
        self.file.write_all(marks).and_then(|()| self.file.write_all(lines)).at(&self.path)?;
        self.at += (marks.len() + lines.len()) as u64;
        self.blocks.push(block);
        Ok(())
    }

    /// All of them, when the listing is complete; `nodes` is what its nodes stand on.
    pub(crate) fn finish(self, listing: Option<ListingRef>, nodes: FrameSet) -> Result<MadeMarks, PathError> {
        let file = self.file.into_inner().map_err(io::IntoInnerError::into_error).at(&self.path)?;
        Ok(MadeMarks { path: self.path, file, at: self.at, blocks: self.blocks, listing, nodes })
    }
}

/// The marks of a capture; kept only when its run is recorded.
#[derive(Debug)]
pub(crate) struct MadeMarks {
    path: PathBuf,
    file: File,
    at: u64,
    blocks: Vec<Block>,
    listing: Option<ListingRef>,
    nodes: FrameSet,
}

impl MadeMarks {
    /// As the marks of this very run, to be compared with in the hold.
    pub(crate) fn of_this_run(self) -> Marks {
        let index = Index { listing: self.listing, nodes: Frames::default(), blocks: self.blocks };
        Marks { file: Some(Arc::new(self.file)), index: Arc::new(index), is_of_this_run: true, loaded: None }
    }

    /// Completes them with what the run stored, and puts them in their place.
    pub(crate) fn keep(mut self, place: &Path, stored: &Deposited) -> Result<(), PathError> {
        for block in &mut self.blocks {
            block.frames = stored.frames(&block.uses);
        }
        let index = Index { listing: self.listing, nodes: stored.frames(&self.nodes), blocks: self.blocks };
        let mut end = serde_json::to_vec(&index).map_err(io::Error::from).at(&self.path)?;
        end.extend_from_slice(&(end.len() as u64).to_le_bytes());
        end.extend_from_slice(END);
        self.file.write_all_at(&end, self.at).at(&self.path)?;
        fs::rename(&self.path, place).at(place)
    }
}

#[cfg(test)]
mod tests {
    use gullet_store::listing::Kind;

    use super::mark::{KINDS, NEWS};
    use super::*;

    #[test]
    fn marks_must_be_older_than_the_sync_by_more_than_a_tick() {
        let file = tempfile::NamedTempFile::new().unwrap();
        let meta = file.as_file().metadata().unwrap();
        let changed = i128::from(meta.ctime()) * 1_000_000_000 + i128::from(meta.ctime_nsec());
        let settles = |later: Option<i128>| {
            let synced = later.map(|later| changed + later);
            FilesystemInfo { filesystem: String::new(), synced }.settles(&meta)
        };
        assert!(!settles(Some(-1)) && !settles(Some(0)) && !settles(Some(TICK)));
        assert!(settles(Some(TICK + 1)));
        assert!(!settles(None), "a filesystem whose marks cannot be believed");
    }

    fn marked(name: &str) -> Marked {
        let meta = fs::metadata("/").unwrap();
        let mut entry = super::super::entry::bare(PathName::new(name), &meta);
        entry.kind = Kind::File;
        Marked { entry, ctime: (5, 6), inode: 7, settled: true, news: News::Changed, staged: None }
    }

    #[test]
    fn every_mark_is_read_as_it_was_written() {
        for kind in KINDS {
            for news in NEWS {
                for (settled, is_link) in [(false, false), (false, true), (true, false), (true, true)] {
                    let (mtime, ctime) = ((-5, 999_999_999), (7, 8));
                    let (size, inode) = (1 << 40, u64::MAX - 1);
                    let mark = Mark { path: b"a/b", kind, settled, is_link, news, size, mtime, ctime, inode };
                    let mut bytes = b"before".to_vec();
                    mark.write(&mut bytes);
                    assert_eq!(Mark::read(&bytes, 6), Some((mark, bytes.len())));
                    assert_eq!(Mark::read(&bytes[..bytes.len() - 1], 6), None);
                }
            }
        }
    }

    #[test]
    fn only_a_settled_mark_that_agrees_in_everything_is_believed() {
        let file = tempfile::NamedTempFile::new().unwrap();
        fs::write(file.path(), "five!").unwrap();
        let meta = fs::metadata(file.path()).unwrap();
        let good = Mark { settled: true, ..Mark::of(b"x", &meta) };
        assert!(good.is_believed(&meta));
        let others = [
            Mark { settled: false, ..good },
            Mark { kind: Kind::Symlink, ..good },
            Mark { size: 6, ..good },
            Mark { mtime: (good.mtime.0 + 1, good.mtime.1), ..good },
            Mark { mtime: (good.mtime.0, good.mtime.1 ^ 1), ..good },
            Mark { ctime: (good.ctime.0 - 1, good.ctime.1), ..good },
            Mark { ctime: (good.ctime.0, good.ctime.1 ^ 1), ..good },
            Mark { inode: good.inode + 1, ..good },
        ];
        for other in others {
            assert!(!other.is_believed(&meta), "{other:?}");
        }
        assert!(!marked("x").is_believed(&meta) && !marked("x").same_marks(&meta));
    }

    #[test]
    fn marks_come_back_as_they_were_and_any_cut_is_passed_over() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("marks");
        let mut listing = gullet_store::listing::ListingWriter::default();
        let mut marks = NewMarks::create(path.clone()).unwrap();
        let mut put = |bytes: &[u8]| Ok(Hash::of(bytes));
        let names: Vec<String> = (0..3000).map(|number| format!("lists/{number:05}")).collect();
        for name in &names {
            let marked = marked(name);
            marks.add(&marked);
            if let Some(closed) = listing.push(&marked.entry, &mut put).unwrap() {
                marks.close(closed, FrameSet::default()).unwrap();
            }
        }
        if let Some(closed) = listing.close(&mut put).unwrap() {
            marks.close(closed, FrameSet::default()).unwrap();
        }
        let listing = listing.finish(&mut put).unwrap();
        let mut read = marks.finish(Some(listing), FrameSet::default()).unwrap().of_this_run();
        assert!(read.blocks().len() > 2 && read.files() == 3000);
        for name in ["lists/00000", "lists/01723", "lists/02999"] {
            let found = read.of(&PathName::new(name)).unwrap();
            assert_eq!(found.mark(), marked(name).mark());
        }
        assert!(read.of(&PathName::new("lists")).is_none() && read.of(&PathName::new("z")).is_none());
        fs::write(&path, b"cut off").unwrap();
        assert!(Marks::open(&path).blocks().is_empty());
    }
}
