//! Capturing files: reading only what cannot be believed unchanged, straight into the store or into private copies that are
//! stored after the hold.

use std::collections::HashMap;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::{FileExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use gullet_store::listing::{Entry, Kind, PathName};
use gullet_store::{Cut, Hash, IoPath, PathError, cut_all};
use rustix::fs::{OFlags, SeekFrom as RawSeek};

use super::entry;
use super::lister::{Listed, Lister};
use super::marks::{Ground, LastMarks, Marked, NewMarks, Staged, read_marks};
use super::secured::{PartError, Securing};
use super::walk::{Found, LeftOuts, Walk};
use super::wanted::Wanted;
use crate::record::{Counts, LeftOut, Root, SecuredBy};

/// How often a file that changes while it is read is read again.
const AGAIN: u32 = 3;
/// Warnings about single files, at most; the rest is counted.
const NAMED: usize = 10;
/// Files up to this size are copied rather than cloned: a clone costs as much as reading so little.
const SMALL: u64 = 64 << 10;

/// What came of looking at files, besides what was listed.
pub(super) struct Looked {
    pub(super) left_out: Vec<LeftOut>,
    pub(super) warnings: Vec<String>,
    pub(super) roots: Vec<Root>,
}

/// The marks that tell which files need not be read.
pub(super) struct Known<'k> {
    /// Those of the last capture.
    pub(super) last: &'k Path,
    /// Those of the copy that was made before the hold.
    pub(super) warm: Option<&'k Path>,
}

/// Captures everything that `walk` finds into the store.
pub(super) fn capture(
    walk: &Walk,
    known: &Known<'_>,
    new_marks: PathBuf,
    wanted: Wanted,
    context: &mut Securing<'_, '_>,
) -> Result<(Listed, Looked), PartError> {
    let mut lister = Lister::new(known.last, new_marks, wanted, context.deposit)?;
    let (looked, _) = look(walk, known.warm, &mut lister, None, context)?;
    Ok((lister.finish(context.deposit)?, looked))
}

/// Reads everything that `walk` finds and that is not known into the store, and lists nothing: the copy before the hold.
/// Its marks, in `new_marks`, tell the capture in the hold what is known.
pub(super) fn warm(
    walk: &Walk,
    last: &Path,
    new_marks: PathBuf,
    context: &mut Securing<'_, '_>,
) -> Result<Counts, PartError> {
    let before = context.deposit.tally().new_bytes;
    let mut marks = MarksOnly::new(last, new_marks)?;
    look(walk, None, &mut marks, None, context)?;
    let mut counts = marks.finish()?;
    counts.bytes_new = context.deposit.tally().new_bytes - before;
    Ok(counts)
}

/// Secures everything that `walk` finds and that is not known in private copies. What waits to be stored is written to
/// `pending`.
pub(super) fn stage(
    walk: &Walk,
    known: &Known<'_>,
    pending: PathBuf,
    copies: Copies,
    context: &mut Securing<'_, '_>,
) -> Result<(Counts, Looked, Option<SecuredBy>), PartError> {
    let mut marks = MarksOnly::new(known.last, pending)?;
    let (looked, copies) = look(walk, known.warm, &mut marks, Some(copies), context)?;
    let by = copies.and_then(|copies| match (copies.cloned, copies.end) {
        (true, _) => Some(SecuredBy::Clone),
        (false, 0) => None,
        (false, _) => Some(SecuredBy::Copy),
    });
    Ok((marks.finish()?, looked, by))
}

/// Stores what [`stage`] secured, and lists it.
pub(super) fn store_staged(
    pending: &Path,
    copies: &Path,
    mut lister: Lister,
    context: &mut Securing<'_, '_>,
) -> Result<Listed, PartError> {
    let copies = File::open(copies).ok();
    for marked in read_marks(pending)? {
        context.check_stop()?;
        let mut marked = marked?;
        let last = lister.last_of(&marked.entry.path);
        if let Some(staged) = marked.staged.take() {
            let path = PathBuf::from(format!("/{}", marked.entry.path));
            let mut chunks = Vec::new();
            let length = match (&staged, &copies) {
                (Staged::Clone(clone), _) => {
                    let source = DataReader::new(File::open(clone).at(clone)?, marked.entry.data.clone());
                    let length = contents(source, &path, &mut chunks, &lister.counts, context)?;
                    fs::remove_file(clone).at(clone)?;
                    length
                }
                (Staged::Copy(offset, length), Some(copies)) => {
                    let source = Stretch { file: copies, at: *offset, end: offset + length };
                    contents(source, &path, &mut chunks, &lister.counts, context)?
                }
                (Staged::Copy(..), None) => {
                    return Err(PartError::Other("the private copies are gone".to_owned()));
                }
            };
            marked.entry.chunks = chunks;
            lister.counts.bytes_read += length;
        }
        lister.push(&marked, last.as_ref(), context.deposit)?;
    }
    Ok(lister.finish(context.deposit)?)
}

/// Bytes of a file from one offset to another.
struct Stretch<'f> {
    file: &'f File,
    at: u64,
    end: u64,
}

impl Read for Stretch<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let wanted = usize::try_from(self.end - self.at).unwrap_or(usize::MAX).min(buffer.len());
        let read = self.file.read_at(&mut buffer[..wanted], self.at)?;
        if read == 0 && wanted > 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        self.at += read as u64;
        Ok(read)
    }
}

/// Private copies of files, one after the other in one file; or clones, where the filesystem can.
pub(super) struct Copies {
    path: PathBuf,
    file: Option<File>,
    end: u64,
    /// How much may be copied; what goes beyond is read into the store at once.
    most: u64,
    cloned: bool,
}

impl Copies {
    /// At most so many bytes of copies, in the file at `path`.
    pub(super) fn new(path: PathBuf, most: u64) -> Self {
        Self { path, file: None, end: 0, most, cloned: false }
    }

    fn copy(&mut self, mut source: DataReader, size: u64, from: &Path) -> Result<Option<(Staged, u64)>, PartError> {
        if self.end.saturating_add(size) > self.most {
            return Ok(None);
        }
        let file = match &mut self.file {
            Some(file) => file,
            none => none.insert(OpenOptions::new().write(true).create(true).truncate(true).open(&self.path).at(&self.path)?),
        };
        let start = self.end;
        let mut buffer = vec![0; 256 << 10];
        loop {
            let read = source.read(&mut buffer).at(from)?;
            if read == 0 {
                break;
            }
            file.write_all_at(&buffer[..read], self.end).at(&self.path)?;
            self.end += read as u64;
        }
        let length = self.end - start;
        Ok(Some((Staged::Copy(start, length), length)))
    }
}

/// Takes what is looked at, in the order of a listing.
trait Sink {
    /// What the last capture had at a path.
    fn last_of(&mut self, path: &PathName) -> Option<Marked>;
    /// One more.
    fn push(&mut self, marked: &Marked, last: Option<&Marked>, context: &mut Securing<'_, '_>) -> Result<(), PartError>;
    /// So far.
    fn counts(&mut self) -> &mut Counts;
}

impl Sink for Lister {
    fn last_of(&mut self, path: &PathName) -> Option<Marked> {
        Lister::last_of(self, path)
    }

    fn push(&mut self, marked: &Marked, last: Option<&Marked>, context: &mut Securing<'_, '_>) -> Result<(), PartError> {
        Lister::push(self, marked, last, context.deposit)
    }

    fn counts(&mut self) -> &mut Counts {
        &mut self.counts
    }
}

/// Keeps marks, and lists nothing.
struct MarksOnly {
    last: LastMarks,
    new: NewMarks,
    counts: Counts,
}

impl MarksOnly {
    fn new(last: &Path, new: PathBuf) -> Result<Self, PathError> {
        Ok(Self { last: LastMarks::open(last), new: NewMarks::create(new)?, counts: Counts::default() })
    }

    fn finish(self) -> Result<Counts, PathError> {
        self.new.finish()?;
        Ok(self.counts)
    }
}

impl Sink for MarksOnly {
    fn last_of(&mut self, path: &PathName) -> Option<Marked> {
        self.last.of(path)
    }

    fn push(&mut self, marked: &Marked, _: Option<&Marked>, _: &mut Securing<'_, '_>) -> Result<(), PartError> {
        match marked.entry.kind {
            Kind::File => {
                self.counts.files += 1;
                self.counts.bytes += marked.entry.size;
            }
            Kind::Folder => self.counts.folders += 1,
            _ => self.counts.others += 1,
        }
        Ok(self.new.add(marked)?)
    }

    fn counts(&mut self) -> &mut Counts {
        &mut self.counts
    }
}

/// Looks at everything that `walk` finds, and hands it to `sink`.
fn look(
    walk: &Walk,
    warm: Option<&Path>,
    sink: &mut dyn Sink,
    copies: Option<Copies>,
    context: &mut Securing<'_, '_>,
) -> Result<(Looked, Option<Copies>), PartError> {
    let mut grounds = HashMap::new();
    let mut roots = Vec::new();
    for (root, seen) in walk.roots_seen() {
        let clock = context.world.clock;
        // The sync must come before what is looked at was fixed, and is best done before the hold.
        let fixed = context.in_hold || walk.is_seen();
        let ground = if fixed { context.grounds.of(root, clock)? } else { context.grounds.renew(root, clock)? };
        roots.push(Root { path: root.display().to_string(), filesystem: ground.filesystem.clone() });
        // What is seen through a snapshot has the marks of its source.
        grounds.insert(fs::metadata(seen).at(seen)?.dev(), ground);
    }
    let warm = warm.map(LastMarks::open);
    let links = HashMap::new();
    let mut capturing = Capturing { grounds, sink, warm, copies, links, warnings: Warnings::default(), context };
    let mut left = LeftOuts::default();
    walk.run(&mut left, &mut |found| capturing.take(found))?;
    let Capturing { warnings, copies, .. } = capturing;
    Ok((Looked { left_out: left.into_vec(), warnings: warnings.into_vec(), roots }, copies))
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
    sink: &'x mut dyn Sink,
    /// The marks of the copy before the hold.
    warm: Option<LastMarks>,
    /// Where contents are copied that are not read into the store at once.
    copies: Option<Copies>,
    /// Device and inode of files with several names, and the first name they were found under.
    links: HashMap<(u64, u64), PathName>,
    warnings: Warnings,
    context: &'x mut Securing<'a, 'd>,
}

/// What was read of a file.
struct Taken {
    chunks: Vec<Hash>,
    staged: Option<Staged>,
    length: u64,
}

impl Capturing<'_, '_, '_> {
    fn take(&mut self, found: Found) -> Result<(), PartError> {
        self.context.check_stop()?;
        let last = self.sink.last_of(&found.name);
        let warm = self.warm.as_mut().and_then(|warm| warm.of(&found.name));
        let marked = if found.meta.is_file() {
            let first = (found.meta.nlink() > 1)
                .then(|| self.links.get(&(found.meta.dev(), found.meta.ino())).cloned())
                .flatten();
            match first {
                Some(first) => self.another_name(&found, first),
                None => match self.file(&found, [warm.as_ref(), last.as_ref()])? {
                    Some(marked) => marked,
                    None => return Ok(()),
                },
            }
        } else {
            self.other(&found)?
        };
        self.sink.push(&marked, last.as_ref(), self.context)?;
        let counts = self.sink.counts();
        (self.context.progress)(counts.files, counts.bytes);
        Ok(())
    }

    fn marked(&self, entry: Entry, meta: &fs::Metadata, settled: bool) -> Marked {
        Marked { entry, ctime: (meta.ctime(), meta.ctime_nsec()), inode: meta.ino(), settled, staged: None }
    }

    fn another_name(&mut self, found: &Found, first: PathName) -> Marked {
        let mut entry = entry::bare(found.name.clone(), &found.meta);
        entry.same_as = Some(first);
        self.marked(entry, &found.meta, false)
    }

    fn attributes(&mut self, entry: &mut Entry, found: &Found) {
        match entry::xattrs(&found.at) {
            Ok(xattrs) => entry.xattrs = xattrs,
            Err(errno) => {
                let text = format!("{}: extended attributes cannot be read: {errno}", found.path.display());
                self.warnings.add(text);
            }
        }
    }

    fn other(&mut self, found: &Found) -> Result<Marked, PartError> {
        let mut entry = entry::bare(found.name.clone(), &found.meta);
        if entry.kind == Kind::Symlink {
            use std::os::unix::ffi::OsStrExt;
            let target = fs::read_link(&found.at).at(&found.path)?;
            entry.target = Some(PathName::new(target.as_os_str().as_bytes()));
        }
        self.attributes(&mut entry, found);
        Ok(self.marked(entry, &found.meta, false))
    }

    /// A file's entry; `None` when it vanished before it could be read.
    fn file(&mut self, found: &Found, known: [Option<&Marked>; 2]) -> Result<Option<Marked>, PartError> {
        if found.meta.nlink() > 1 {
            self.links.insert((found.meta.dev(), found.meta.ino()), found.name.clone());
        }
        // To distrust marks is to distrust those of earlier runs; the copy before the hold was read by this one.
        let [warm, last] = known;
        for known in [warm, last.filter(|_| !self.context.reread)].into_iter().flatten() {
            if known.is_believed(&found.meta)
                && known.entry.same_as.is_none()
                && self.context.deposit.reuse(&known.entry.chunks)?
            {
                // Settled once, marks stay settled for as long as they stay the same.
                let mut entry = known.entry.clone();
                entry.mode = found.meta.mode() & 0o7777;
                return Ok(Some(self.marked(entry, &found.meta, true)));
            }
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
            let file = open(&found.at)?;
            let before = file.metadata().at(&found.path)?;
            let mut entry = entry::bare(found.name.clone(), &before);
            let ranges = data_ranges(&file, &before).at(&found.path)?;
            let taken = self.contents(file, &before, ranges.clone(), found)?;
            let after = fs::symlink_metadata(&found.at).at(&found.path)?;
            let same = self.marked(entry.clone(), &before, false).same_marks(&after) && after.is_file();
            let whole = ranges.is_some() || taken.length == before.len();
            if (same && whole) || attempt == AGAIN {
                if !(same && whole) {
                    self.warnings.add(format!("{} changed while it was read", found.path.display()));
                }
                if ranges.is_none() {
                    entry.size = taken.length;
                }
                entry.data = ranges;
                entry.chunks = taken.chunks;
                self.attributes(&mut entry, found);
                let settled = same && whole && self.grounds.get(&after.dev()).is_some_and(|g| g.settles(&after));
                let marked = self.marked(entry, &after, settled);
                return Ok(Marked { staged: taken.staged, ..marked });
            }
        }
        unreachable!("the loop ends at its last attempt")
    }

    /// Clones or copies the contents where that is wanted and possible, else reads them into the store.
    fn contents(
        &mut self,
        file: File,
        meta: &fs::Metadata,
        ranges: Option<Vec<(u64, u64)>>,
        found: &Found,
    ) -> Result<Taken, PartError> {
        let staged = |(staged, length)| Taken { chunks: Vec::new(), staged: Some(staged), length };
        if let Some(copies) = self.copies.as_mut().filter(|_| meta.len() > 0) {
            if meta.len() > SMALL
                && let Some(clone) = self.context.staging.clone_file(&file, meta.dev())?
            {
                copies.cloned = true;
                let length = fs::metadata(&clone).at(&clone)?.len();
                return Ok(staged((Staged::Clone(clone), length)));
            }
            let source = DataReader::new(file.try_clone().at(&found.path)?, ranges.clone());
            if let Some(copied) = copies.copy(source, meta.len(), &found.path)? {
                return Ok(staged(copied));
            }
        }
        let source = DataReader::new(file, ranges);
        let mut chunks = Vec::new();
        let counts = *self.sink.counts();
        let length = contents(source, &found.path, &mut chunks, &counts, self.context)?;
        self.sink.counts().bytes_read += length;
        Ok(Taken { chunks, staged: None, length })
    }
}

/// Cuts all of `source` into the store; gives its length.
fn contents(
    source: impl Read,
    path: &Path,
    chunks: &mut Vec<Hash>,
    counts: &Counts,
    context: &mut Securing<'_, '_>,
) -> Result<u64, PartError> {
    let mut read = 0;
    let wrap = |error| PartError::Path(PathError::new(path, error));
    cut_all(source, Cut::Contents, wrap, |piece| {
        context.check_stop()?;
        chunks.push(context.deposit.put(piece)?);
        read += piece.len() as u64;
        (context.progress)(counts.files, counts.bytes + read);
        Ok(())
    })
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

impl DataReader {
    /// Everything, or only these ranges of offset and length.
    fn new(file: File, ranges: Option<Vec<(u64, u64)>>) -> Self {
        Self { file, ranges: ranges.unwrap_or_else(|| vec![(0, u64::MAX)]), at: 0 }
    }
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
