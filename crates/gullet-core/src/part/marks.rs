//! Marks: what a file looked like when it was last read, and whether that is enough to believe it unchanged.
//!
//! A file is believed unchanged when size, mtime, ctime and inode are the same, and the marks were *settled* at that
//! last look: the filesystem had been synced before it, and the marks were older than that sync by more than the
//! clock's granularity. The sync matters because a write through a memory map to a page that is dirty already moves no
//! mark; after a sync every page is clean, so the next write does. tmpfs, FAT, FUSE and network filesystems are never
//! believed.
//!
//! Marks are kept as JSON Lines beside the entries of the last listing, in its order, so that they are compared with a
//! walk in one pass and in bounded memory.

use std::collections::{HashMap, HashSet};
use std::fs::{self, File};
use std::io::{BufRead, BufReader, BufWriter, Lines, Write};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use gullet_store::listing::{Entry, Kind, PathName};
use gullet_store::{IoPath, PathError};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::definition::When;
use crate::plan::Plan;
use crate::world::Clock;

/// Marks must be older than the sync by this much where times have fractions: more than a clock tick, in nanoseconds.
const TICK: i128 = 50_000_000;
/// And by this much where they have none (whole or even seconds), in nanoseconds.
const COARSE: i128 = 2_100_000_000;

/// Filesystem types whose marks can be believed, by the magic numbers of statfs(2).
const BELIEVED: [(u64, &str); 5] =
    [(0xEF53, "ext"), (0x5846_5342, "xfs"), (0x9123_683E, "btrfs"), (0x2FC1_2FC1, "zfs"), (0xF2F5_2010, "f2fs")];

/// A file's marks and its entry.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) struct Marked {
    pub(super) entry: Entry,
    pub(super) ctime: (i64, i64),
    pub(super) inode: u64,
    pub(super) settled: bool,
    /// Where its contents wait to be stored.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) staged: Option<Staged>,
}

/// Where the contents of a file wait to be stored.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(super) enum Staged {
    /// In a clone of the file.
    Clone(PathBuf),
    /// Its data lies in the file of copies, at this offset and of this length.
    Copy(u64, u64),
}

impl Marked {
    /// Whether the file that `meta` is of can be believed to have the contents and attributes of the entry.
    pub(super) fn is_believed(&self, meta: &fs::Metadata) -> bool {
        self.settled && self.entry.kind == Kind::File && self.same_marks(meta)
    }

    /// Whether the marks are the same, settled or not.
    pub(super) fn same_marks(&self, meta: &fs::Metadata) -> bool {
        self.ctime == (meta.ctime(), meta.ctime_nsec())
            && self.inode == meta.ino()
            && self.entry.size == meta.len()
            && self.entry.mtime == (meta.mtime(), meta.mtime_nsec() as u32)
    }
}

/// What is known about the filesystem of a root at this look.
#[derive(Clone, Debug)]
pub(super) struct Ground {
    /// Type and id, to notice another filesystem in its place.
    pub(super) filesystem: String,
    /// When it was synced, where its marks can be believed.
    synced: Option<i128>,
}

impl Ground {
    /// Syncs the filesystem that `root` is on, and says what it is.
    pub(super) fn look(root: &Path, clock: &dyn Clock) -> Result<Self, PathError> {
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
    pub(super) fn settles(&self, meta: &fs::Metadata) -> bool {
        let at = |seconds: i64, nanoseconds: i64| i128::from(seconds) * 1_000_000_000 + i128::from(nanoseconds);
        let last = at(meta.mtime(), meta.mtime_nsec()).max(at(meta.ctime(), meta.ctime_nsec()));
        let coarse = meta.mtime_nsec() == 0 && meta.ctime_nsec() == 0;
        self.synced.is_some_and(|synced| last + if coarse { COARSE } else { TICK } < synced)
    }
}

fn nanoseconds(at: Timestamp) -> i128 {
    at.as_nanosecond()
}

/// What is known about the filesystems of the roots. A look syncs, so it is best taken before the application is held.
#[derive(Debug, Default)]
pub struct Grounds(HashMap<u64, Ground>);

impl Grounds {
    /// What is known of the filesystem of `root`; it is looked at where that was not done yet.
    pub(super) fn of(&mut self, root: &Path, clock: &dyn Clock) -> Result<Ground, PathError> {
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
    pub(super) fn renew(&mut self, root: &Path, clock: &dyn Clock) -> Result<Ground, PathError> {
        let device = fs::metadata(root).at(root)?.dev();
        let ground = Ground::look(root, clock)?;
        self.0.insert(device, ground.clone());
        Ok(ground)
    }

    /// Looks at the filesystems of all sources of a plan that are captured in the hold. What cannot be looked at is told
    /// when it is captured.
    pub fn look_at_all(&mut self, plan: &Plan, clock: &dyn Clock) {
        let mut devices = HashSet::new();
        for part in &plan.parts {
            for root in part.spec.files.iter().filter(|_| part.spec.when.unwrap_or_default() == When::Held) {
                let device = fs::metadata(root).map(|meta| meta.dev()).ok();
                if device.is_some_and(|device| devices.insert(device)) {
                    let _ = self.renew(root, clock);
                }
            }
        }
    }
}

/// Reads marks one after the other; a line that cannot be read is an error.
pub(super) fn read_marks(path: &Path) -> Result<impl Iterator<Item = Result<Marked, PathError>> + use<'_>, PathError> {
    let lines = BufReader::with_capacity(1 << 16, File::open(path).at(path)?).lines();
    Ok(lines.map(move |line| {
        let line = line.at(path)?;
        serde_json::from_str(&line).map_err(std::io::Error::from).at(path)
    }))
}

/// The marks of the last capture, read alongside a walk.
pub(super) struct LastMarks {
    lines: Option<Lines<BufReader<File>>>,
    ahead: Option<Marked>,
    /// Files that were passed over: only the last capture had them.
    pub(super) vanished: u64,
}

impl LastMarks {
    /// Opens the marks at `path`; none when there are none, or they cannot be read.
    pub(super) fn open(path: &Path) -> Self {
        let lines = File::open(path).ok().map(|file| BufReader::with_capacity(1 << 16, file).lines());
        let mut marks = Self { lines, ahead: None, vanished: 0 };
        marks.step();
        marks
    }

    fn step(&mut self) {
        let line = self.lines.as_mut().and_then(|lines| lines.next()?.ok());
        self.ahead = line.and_then(|line| serde_json::from_str(&line).ok());
        if self.ahead.is_none() {
            // A broken cache ends here; the rest counts as new and is read again.
            self.lines = None;
        }
    }

    /// The marks of `path`, when the last capture had it. Paths must be asked for in ascending order.
    pub(super) fn of(&mut self, path: &PathName) -> Option<Marked> {
        while self.ahead.as_ref().is_some_and(|ahead| ahead.entry.path < *path) {
            self.vanished += u64::from(self.ahead.as_ref().is_some_and(|ahead| ahead.entry.kind == Kind::File));
            self.step();
        }
        let found = self.ahead.as_ref().filter(|ahead| ahead.entry.path == *path).cloned();
        if found.is_some() {
            self.step();
        }
        found
    }

    /// Counts what is left as vanished.
    pub(super) fn finish(mut self) -> u64 {
        while let Some(ahead) = &self.ahead {
            self.vanished += u64::from(ahead.entry.kind == Kind::File);
            self.step();
        }
        self.vanished
    }
}

/// The marks of a capture that is being made; kept only when its run is recorded.
pub(super) struct NewMarks {
    path: PathBuf,
    file: BufWriter<File>,
}

impl NewMarks {
    pub(super) fn create(path: PathBuf) -> Result<Self, PathError> {
        let file = File::create(&path).at(&path)?;
        Ok(Self { file: BufWriter::with_capacity(1 << 16, file), path })
    }

    pub(super) fn add(&mut self, marked: &Marked) -> Result<(), PathError> {
        serde_json::to_writer(&mut self.file, marked).map_err(std::io::Error::from).at(&self.path)?;
        self.file.write_all(b"\n").at(&self.path)
    }

    pub(super) fn finish(mut self) -> Result<PathBuf, PathError> {
        self.file.flush().at(&self.path)?;
        Ok(self.path)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn marks_must_be_older_than_the_sync_by_more_than_a_tick() {
        let file = tempfile::NamedTempFile::new().unwrap();
        let meta = file.as_file().metadata().unwrap();
        let changed = i128::from(meta.ctime()) * 1_000_000_000 + i128::from(meta.ctime_nsec());
        let settles = |later: Option<i128>| {
            let synced = later.map(|later| changed + later);
            Ground { filesystem: String::new(), synced }.settles(&meta)
        };
        assert!(!settles(Some(-1)) && !settles(Some(0)) && !settles(Some(TICK)));
        assert!(settles(Some(TICK + 1)));
        assert!(!settles(None), "a filesystem whose marks cannot be believed");
    }

    #[test]
    fn vanished_files_are_counted_and_a_broken_cache_ends_quietly() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("marks");
        let mut marks = NewMarks::create(path.clone()).unwrap();
        let meta = fs::metadata(folder.path()).unwrap();
        for name in ["a", "b", "c"] {
            let mut entry = super::super::entry::bare(PathName::new(name), &meta);
            entry.kind = Kind::File;
            marks.add(&Marked { entry, ctime: (0, 0), inode: 1, settled: true, staged: None }).unwrap();
        }
        marks.finish().unwrap();
        let mut last = LastMarks::open(&path);
        assert!(last.of(&PathName::new("b")).is_some(), "a is passed over");
        assert_eq!(last.finish(), 2);
        fs::write(&path, fs::read_to_string(&path).unwrap().replacen("\"b\"", "b", 1)).unwrap();
        let mut last = LastMarks::open(&path);
        assert!(last.of(&PathName::new("a")).is_some() && last.of(&PathName::new("c")).is_none());
    }
}
