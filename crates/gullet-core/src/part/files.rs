//! Capturing files: straight into the store, reading only what cannot be believed unchanged.

use std::collections::HashMap;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use gullet_store::listing::{Entry, Kind, PathName};
use gullet_store::{Cut, Hash, IoPath, PathError, cut_all};
use rustix::fs::{OFlags, SeekFrom as RawSeek};

use super::entry;
use super::lister::{Listed, Lister};
use super::marks::{Ground, LastMarks, Marked};
use super::secured::{PartError, Securing};
use super::walk::{Found, LeftOuts, Walk};
use super::wanted::Wanted;
use crate::record::{LeftOut, Root};

/// How often a file that changes while it is read is read again.
const AGAIN: u32 = 3;
/// Warnings about single files, at most; the rest is counted.
const NAMED: usize = 10;

/// What came of capturing files.
pub(super) struct FilesDone {
    pub(super) listed: Listed,
    pub(super) left_out: Vec<LeftOut>,
    pub(super) warnings: Vec<String>,
    pub(super) roots: Vec<Root>,
}

/// Captures everything that `walk` finds.
pub(super) fn capture(
    walk: &Walk,
    last_marks: &Path,
    new_marks: PathBuf,
    wanted: Wanted,
    context: &mut Securing<'_, '_>,
) -> Result<FilesDone, PartError> {
    let mut grounds = HashMap::new();
    let mut roots = Vec::new();
    for root in walk.roots() {
        let ground = Ground::look(root, context.world.clock)?;
        roots.push(Root { path: root.display().to_string(), filesystem: ground.filesystem.clone() });
        let device = fs::metadata(root).at(root)?.dev();
        grounds.insert(device, ground);
    }
    let lister = Lister::new(last_marks, new_marks, wanted, context.deposit)?;
    let links = HashMap::new();
    let mut capturing = Capturing { grounds, lister, links, warnings: Warnings::default(), context };
    let mut left = LeftOuts::default();
    walk.run(&mut left, &mut |found| capturing.take(found))?;
    let Capturing { lister, warnings, context, .. } = capturing;
    let listed = lister.finish(context.deposit)?;
    Ok(FilesDone { listed, left_out: left.into_vec(), warnings: warnings.into_vec(), roots })
}

#[derive(Default)]
struct Warnings {
    texts: Vec<String>,
    more: u64,
}

impl Warnings {
    fn add(&mut self, text: String) {
        if self.texts.len() < NAMED { self.texts.push(text) } else { self.more += 1 }
    }

    fn into_vec(mut self) -> Vec<String> {
        if self.more > 0 {
            self.texts.push(format!("and {} more of this kind", self.more));
        }
        self.texts
    }
}

struct Capturing<'x, 'a, 'd> {
    grounds: HashMap<u64, Ground>,
    lister: Lister,
    /// Device and inode of files with several names, and the first name they were found under.
    links: HashMap<(u64, u64), PathName>,
    warnings: Warnings,
    context: &'x mut Securing<'a, 'd>,
}

impl Capturing<'_, '_, '_> {
    fn take(&mut self, found: Found) -> Result<(), PartError> {
        self.context.check_stop()?;
        let last = self.lister.last_of(&found.name);
        let marked = if found.meta.is_file() {
            let first = (found.meta.nlink() > 1)
                .then(|| self.links.get(&(found.meta.dev(), found.meta.ino())).cloned())
                .flatten();
            match first {
                Some(first) => self.another_name(&found, first),
                None => match self.file(&found, last.as_ref())? {
                    Some(marked) => marked,
                    None => return Ok(()),
                },
            }
        } else {
            self.other(&found)?
        };
        self.lister.push(&marked, last.as_ref(), self.context.deposit)?;
        (self.context.progress)(self.lister.counts.files, self.lister.counts.bytes);
        Ok(())
    }

    fn marked(&self, entry: Entry, meta: &fs::Metadata, settled: bool) -> Marked {
        Marked { entry, ctime: (meta.ctime(), meta.ctime_nsec()), inode: meta.ino(), settled }
    }

    fn another_name(&mut self, found: &Found, first: PathName) -> Marked {
        let mut entry = entry::bare(found.name.clone(), &found.meta);
        entry.same_as = Some(first);
        self.marked(entry, &found.meta, false)
    }

    fn attributes(&mut self, entry: &mut Entry, path: &Path) {
        match entry::xattrs(path) {
            Ok(xattrs) => entry.xattrs = xattrs,
            Err(errno) => {
                let text = format!("{}: extended attributes cannot be read: {errno}", path.display());
                self.warnings.add(text);
            }
        }
    }

    fn other(&mut self, found: &Found) -> Result<Marked, PartError> {
        let mut entry = entry::bare(found.name.clone(), &found.meta);
        if entry.kind == Kind::Symlink {
            use std::os::unix::ffi::OsStrExt;
            let target = fs::read_link(&found.path).at(&found.path)?;
            entry.target = Some(PathName::new(target.as_os_str().as_bytes()));
        }
        self.attributes(&mut entry, &found.path);
        Ok(self.marked(entry, &found.meta, false))
    }

    /// A file's entry; `None` when it vanished before it could be read.
    fn file(&mut self, found: &Found, last: Option<&Marked>) -> Result<Option<Marked>, PartError> {
        if found.meta.nlink() > 1 {
            self.links.insert((found.meta.dev(), found.meta.ino()), found.name.clone());
        }
        if let Some(last) = last
            && !self.context.reread
            && last.is_believed(&found.meta)
            && last.entry.same_as.is_none()
            && self.context.deposit.reuse(&last.entry.chunks)?
        {
            // Settled once, marks stay settled for as long as they stay the same.
            let mut entry = last.entry.clone();
            entry.mode = found.meta.mode() & 0o7777;
            return Ok(Some(self.marked(entry, &found.meta, true)));
        }
        match self.read(found) {
            Err(PartError::Path(error)) if error.source.kind() == io::ErrorKind::NotFound => {
                self.warnings.add(format!("{} vanished before it could be read", found.path.display()));
                Ok(None)
            }
            other => other.map(Some),
        }
    }

    fn read(&mut self, found: &Found) -> Result<Marked, PartError> {
        for attempt in 1.. {
            let file = open(&found.path)?;
            let before = file.metadata().at(&found.path)?;
            let mut entry = entry::bare(found.name.clone(), &before);
            let ranges = data_ranges(&file, &before).at(&found.path)?;
            let source = DataReader { file, ranges: ranges.clone().unwrap_or_else(|| vec![(0, u64::MAX)]), at: 0 };
            let length = self.contents(source, &found.path, &mut entry.chunks)?;
            let after = fs::symlink_metadata(&found.path).at(&found.path)?;
            let same = self.marked(entry.clone(), &before, false).same_marks(&after) && after.is_file();
            let whole = ranges.is_some() || length == before.len();
            if (same && whole) || attempt == AGAIN {
                if !(same && whole) {
                    self.warnings.add(format!("{} changed while it was read", found.path.display()));
                }
                if ranges.is_none() {
                    entry.size = length;
                }
                entry.data = ranges;
                self.attributes(&mut entry, &found.path);
                let settled = same && whole && self.grounds.get(&after.dev()).is_some_and(|g| g.settles(&after));
                return Ok(self.marked(entry, &after, settled));
            }
        }
        unreachable!("the loop ends at its last attempt")
    }

    fn contents(&mut self, source: DataReader, path: &Path, chunks: &mut Vec<Hash>) -> Result<u64, PartError> {
        let context = &mut *self.context;
        let (files, bytes) = (self.lister.counts.files, self.lister.counts.bytes);
        let mut read = 0;
        let wrap = |error| PartError::Path(PathError::new(path, error));
        let length = cut_all(source, Cut::Contents, wrap, |piece| {
            context.check_stop()?;
            chunks.push(context.deposit.put(piece)?);
            read += piece.len() as u64;
            (context.progress)(files, bytes + read);
            Ok(())
        })?;
        self.lister.counts.bytes_read += length;
        Ok(length)
    }
}

/// Opens a file to read it without changing its access time where that is permitted, and never through a link.
pub(super) fn open(path: &Path) -> Result<File, PathError> {
    let flags = |more: OFlags| (OFlags::NOFOLLOW | OFlags::NONBLOCK | more).bits() as i32;
    let quietly = OpenOptions::new().read(true).custom_flags(flags(OFlags::NOATIME)).open(path);
    match quietly {
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
            OpenOptions::new().read(true).custom_flags(flags(OFlags::empty())).open(path).at(path)
        }
        other => other.at(path),
    }
}

/// Where a sparse file has data; `None` for a file without holes.
fn data_ranges(file: &File, meta: &fs::Metadata) -> io::Result<Option<Vec<(u64, u64)>>> {
    let size = meta.len();
    if size == 0 || meta.blocks() * 512 >= size {
        return Ok(None);
    }
    let mut ranges = Vec::new();
    let mut at = 0;
    while at < size {
        let from = match rustix::fs::seek(file, RawSeek::Data(at)) {
            Ok(from) => from,
            Err(rustix::io::Errno::NXIO) => break,
            // A filesystem that cannot say has no holes that we could know of.
            Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOTSUP) => return Ok(None),
            Err(errno) => return Err(errno.into()),
        };
        let to = rustix::fs::seek(file, RawSeek::Hole(from))?.min(size);
        ranges.push((from, to - from));
        at = to;
    }
    if ranges == [(0, size)] { Ok(None) } else { Ok(Some(ranges)) }
}

/// Reads the data of a file, range after range.
struct DataReader {
    file: File,
    ranges: Vec<(u64, u64)>,
    at: u64,
}

impl Read for DataReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while let Some((from, length)) = self.ranges.first().copied() {
            if self.at == 0 {
                self.file.seek(SeekFrom::Start(from))?;
            }
            let left = length - self.at;
            if left > 0 {
                let wanted = usize::try_from(left).unwrap_or(usize::MAX).min(buffer.len());
                let read = self.file.read(&mut buffer[..wanted])?;
                self.at += read as u64;
                if read > 0 || wanted == 0 {
                    return Ok(read);
                }
            }
            self.ranges.remove(0);
            self.at = 0;
        }
        Ok(0)
    }
}

/// The files that look other than they did when they were captured; the first few by name, and how many.
pub(super) fn changed_since(walk: &Walk, marks: &Path) -> Result<(Vec<String>, u64), PartError> {
    let mut last = LastMarks::open(marks);
    let mut named = Vec::new();
    let mut count = 0;
    let mut differs = |path: String| {
        count += 1;
        if named.len() < 5 {
            named.push(path);
        }
    };
    walk.run(&mut LeftOuts::default(), &mut |found: Found| {
        let marked = last.of(&found.name);
        let same = match &marked {
            None => false,
            // A folder's own times change with what is in it, which is found by itself.
            Some(_) if found.meta.is_dir() => true,
            Some(marked) if found.meta.is_file() => marked.same_marks(&found.meta),
            Some(_) => true,
        };
        if !same {
            differs(found.path.display().to_string());
        }
        Ok::<_, PathError>(())
    })?;
    let gone = last.finish();
    for _ in 0..gone {
        differs("a file that is gone".to_owned());
    }
    Ok((named, count))
}
