//! Capturing files: reading only what cannot be believed unchanged, straight into the store or into private copies that are
//! stored after the hold.

use std::collections::{HashMap, HashSet};
use std::fs::{self, File, OpenOptions};
use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::io::{self, BufRead, BufReader, BufWriter, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::{FileExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::mpsc::sync_channel;

use gullet_store::listing::{Entry, Kind, PathName};
use gullet_store::{Cut, Hash, IoPath, PathError, cut_all};
use rustix::fs::{OFlags, SeekFrom as RawSeek};
use serde::{Deserialize, Serialize};

use super::entry;
use super::lister::{Listed, Lister};
use super::marks::{Ground, MadeMarks, Mark, Marked, Marks, News, Staged};
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
    pub(super) seen: Seen,
}

/// What is known of files that need not be read.
pub(super) struct Known<'k> {
    /// The marks of the last capture.
    pub(super) last: &'k Path,
    /// Those of the copy that was made before the hold.
    pub(super) warm: Option<&'k Marks>,
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
    let (looked, _) = look(walk, known, &mut lister, None, context)?;
    Ok((lister.finish(context.deposit)?, looked))
}

/// Reads everything that `walk` finds and that is not known into the store, and stores no listing: the copy before the hold.
/// Its marks, written to `new_marks`, tell the capture in the hold what is known.
pub(super) fn warm(
    walk: &Walk,
    last: &Path,
    new_marks: PathBuf,
    context: &mut Securing<'_, '_>,
) -> Result<(Marks, Counts), PartError> {
    let mut lister = Lister::unstored(last, new_marks, context.deposit)?;
    look(walk, &Known { last, warm: None }, &mut lister, None, context)?;
    let listed = lister.finish(context.deposit)?;
    Ok((listed.marks.map(MadeMarks::of_this_run).unwrap_or_default(), listed.counts))
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
    let mut waiting = Pending::create(known.last, pending)?;
    let (looked, copies) = look(walk, known, &mut waiting, Some(copies), context)?;
    let by = copies.and_then(|copies| match (copies.cloned, copies.end) {
        (true, _) => Some(SecuredBy::Clone),
        (false, 0) => None,
        (false, _) => Some(SecuredBy::Copy),
    });
    Ok((waiting.finish()?, looked, by))
}

/// Stores what [`stage`] secured, and lists it.
pub(super) fn store_staged(
    pending: &Path,
    copies: &Path,
    mut lister: Lister,
    known: &Known<'_>,
    context: &mut Securing<'_, '_>,
) -> Result<Listed, PartError> {
    let copies = File::open(copies).ok();
    let from = Known::source(known, false);
    for line in BufReader::with_capacity(1 << 16, File::open(pending).at(pending)?).lines() {
        context.check_stop()?;
        let item = serde_json::from_str(&line.at(pending)?).map_err(io::Error::from).at(pending)?;
        let mut marked = match item {
            Item::Block(number) => {
                lister.push_block(&from, number, context.deposit)?;
                continue;
            }
            Item::Entry(marked) => marked,
        };
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
        } else if !context.deposit.reuse(&marked.entry.chunks)?
            && !lister.reuse_block_of(&marked.entry.path, context.deposit)?
        {
            return Err(PartError::Other("the store lost what was about to be used again".to_owned()));
        }
        lister.push(*marked, last.as_ref(), context.deposit)?;
    }
    lister.finish(context.deposit)
}

impl Known<'_> {
    /// The marks that files are compared with in order. The copy before the hold knows all that the last capture does.
    fn source(&self, reread: bool) -> Marks {
        match self.warm {
            Some(warm) => warm.clone(),
            None if reread => Marks::default(),
            None => Marks::open(self.last),
        }
    }
}

/// What was seen of files in the hold, so that it can be told later whether they changed: a number for each.
#[derive(Default)]
pub(super) struct Seen(HashSet<u64>);

impl Seen {
    fn number(mark: &Mark<'_>) -> u64 {
        let mut hasher = DefaultHasher::new();
        // A folder's own times change with what is in it, which is found by itself.
        let marks = (mark.kind == Kind::File).then_some((mark.size, mark.mtime, mark.ctime, mark.inode));
        (mark.path, mark.kind as u8, marks).hash(&mut hasher);
        hasher.finish()
    }

    fn of(found: &Found) -> u64 {
        Self::number(&Mark::of(found.name.as_bytes(), &found.meta))
    }

    fn of_marked(marked: &Marked) -> u64 {
        Self::number(&marked.mark())
    }

    /// The files that look other than they did; the first few by name, and how many.
    pub(super) fn changed_since(&self, walk: &Walk) -> Result<(Vec<String>, u64), PartError> {
        let (mut named, mut count, mut same) = (Vec::new(), 0, 0);
        walk.run(&mut LeftOuts::default(), &mut |found: Found| {
            if self.0.contains(&Self::of(&found)) {
                same += 1;
            } else {
                count += 1;
                if named.len() < 5 {
                    named.push(found.path.display().to_string());
                }
            }
            Ok::<_, PathError>(())
        })?;
        // What is missing beyond what changed is gone.
        let gone = (self.0.len() as u64).saturating_sub(same + count);
        if gone > 0 && named.len() < 5 {
            named.push(format!("{gone} that are gone"));
        }
        Ok((named, count + gone))
    }
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
            none => {
                none.insert(OpenOptions::new().write(true).create(true).truncate(true).open(&self.path).at(&self.path)?)
            }
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
    fn push(&mut self, marked: Marked, last: Option<&Marked>, context: &mut Securing<'_, '_>) -> Result<(), PartError>;
    /// A whole block in which nothing changed.
    fn push_block(&mut self, from: &Marks, number: usize, context: &mut Securing<'_, '_>) -> Result<(), PartError>;
    /// So far.
    fn counts(&mut self) -> &mut Counts;
    /// Whether it compares with the last capture, and stores at once.
    fn is_listing(&self) -> bool;
}

impl Sink for Lister {
    fn last_of(&mut self, path: &PathName) -> Option<Marked> {
        Lister::last_of(self, path)
    }

    fn push(&mut self, marked: Marked, last: Option<&Marked>, context: &mut Securing<'_, '_>) -> Result<(), PartError> {
        Lister::push(self, marked, last, context.deposit)
    }

    fn push_block(&mut self, from: &Marks, number: usize, context: &mut Securing<'_, '_>) -> Result<(), PartError> {
        Lister::push_block(self, from, number, context.deposit)
    }

    fn counts(&mut self) -> &mut Counts {
        &mut self.counts
    }

    fn is_listing(&self) -> bool {
        true
    }
}

/// What waits to be listed after the hold.
#[derive(Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum Item {
    /// A block of what it was compared with.
    Block(usize),
    Entry(Box<Marked>),
}

/// Writes down what is looked at, and lists nothing.
struct Pending {
    last: Marks,
    path: PathBuf,
    out: BufWriter<File>,
    counts: Counts,
}

impl Pending {
    fn create(last: &Path, path: PathBuf) -> Result<Self, PathError> {
        let out = BufWriter::with_capacity(1 << 16, File::create(&path).at(&path)?);
        Ok(Self { last: Marks::open(last), path, out, counts: Counts::default() })
    }

    fn write(&mut self, item: &Item) -> Result<(), PathError> {
        let line = serde_json::to_writer(&mut self.out, item).map_err(io::Error::from);
        line.and_then(|()| self.out.write_all(b"\n")).at(&self.path)
    }

    fn finish(mut self) -> Result<Counts, PathError> {
        self.out.flush().at(&self.path)?;
        Ok(self.counts)
    }
}

impl Sink for Pending {
    fn last_of(&mut self, path: &PathName) -> Option<Marked> {
        self.last.of(path)
    }

    fn push(&mut self, marked: Marked, _: Option<&Marked>, _: &mut Securing<'_, '_>) -> Result<(), PartError> {
        match marked.entry.kind {
            Kind::File => {
                self.counts.files += 1;
                self.counts.bytes += marked.entry.size;
            }
            Kind::Folder => self.counts.folders += 1,
            _ => self.counts.others += 1,
        }
        Ok(self.write(&Item::Entry(Box::new(marked)))?)
    }

    fn push_block(&mut self, from: &Marks, number: usize, _: &mut Securing<'_, '_>) -> Result<(), PartError> {
        let counts = from.blocks()[number].counts;
        self.counts.files += counts.files;
        self.counts.folders += counts.folders;
        self.counts.others += counts.others;
        self.counts.bytes += counts.bytes;
        Ok(self.write(&Item::Block(number))?)
    }

    fn counts(&mut self) -> &mut Counts {
        &mut self.counts
    }

    fn is_listing(&self) -> bool {
        false
    }
}

/// Looks at everything that `walk` finds, and hands it to `sink`. Walking runs ahead on a thread of its own.
fn look(
    walk: &Walk,
    known: &Known<'_>,
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
    let in_order = InOrder::new(known.source(context.reread));
    let mut capturing = Capturing {
        grounds,
        sink,
        warm: known.warm.cloned(),
        in_order,
        copies,
        links: HashMap::new(),
        warnings: Warnings::default(),
        seen: context.in_hold.then(Seen::default),
        context,
    };
    let left = std::thread::scope(|scope| {
        let (out, batches) = sync_channel(4);
        let walking = scope.spawn(move || {
            let mut left = LeftOuts::default();
            let walked = walk.in_batches(&mut left, &out);
            walked.map(|()| left)
        });
        for batch in batches {
            for found in batch {
                capturing.take(found)?;
            }
        }
        let walked = walking.join().map_err(|_| PartError::Other("walking ended early".to_owned()))?;
        capturing.rest()?;
        Ok::<_, PartError>(walked?)
    })?;
    let Capturing { warnings, copies, seen, .. } = capturing;
    let looked =
        Looked { left_out: left.into_vec(), warnings: warnings.into_vec(), roots, seen: seen.unwrap_or_default() };
    Ok((looked, copies))
}

/// Compares what a walk finds with marks, block by block.
struct InOrder {
    marks: Marks,
    block: usize,
    /// The marks of the block, once they are compared with.
    loaded: Option<Vec<u8>>,
    at: usize,
    /// How many of the block's entries are unchanged so far.
    done: u64,
    /// Whether the block is gone through one by one: something in it changed.
    one_by_one: bool,
    /// Whether the store has what the block stands on.
    usable: bool,
}

impl InOrder {
    fn new(marks: Marks) -> Self {
        Self { marks, block: 0, loaded: None, at: 0, done: 0, one_by_one: false, usable: false }
    }

    fn next_block(&mut self) {
        self.block += 1;
        (self.loaded, self.at, self.done) = (None, 0, 0);
        (self.one_by_one, self.usable) = (false, false);
    }
}

/// What comes of comparing one path.
enum Compared {
    /// It is unchanged; the block goes on.
    Same,
    /// It is unchanged, and the last of its block.
    Completed,
    /// It is to be looked at by itself.
    Alone,
    /// It is to be looked at by itself; so many entries of the block before it are unchanged.
    Broken(u64),
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
    warm: Option<Marks>,
    in_order: InOrder,
    /// Where contents are copied that are not read into the store at once.
    copies: Option<Copies>,
    /// Device and inode of files with several names, and the first name they were found under.
    links: HashMap<(u64, u64), PathName>,
    warnings: Warnings,
    seen: Option<Seen>,
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
        match self.compare(&found)? {
            Compared::Same => return self.note_same(&found),
            Compared::Completed => {
                self.note_same(&found)?;
                let number = self.in_order.block;
                self.sink.push_block(&self.in_order.marks, number, self.context)?;
                self.in_order.next_block();
                let counts = self.sink.counts();
                (self.context.progress)(counts.files, counts.bytes);
                return Ok(());
            }
            Compared::Broken(done) => self.unchanged(done)?,
            Compared::Alone => {}
        }
        self.alone(found)
    }

    /// What was compared and is the end of nothing.
    fn rest(&mut self) -> Result<(), PartError> {
        self.unchanged(self.in_order.done)
    }

    fn note_same(&mut self, found: &Found) -> Result<(), PartError> {
        if found.meta.nlink() > 1 && found.meta.is_file() {
            self.links.entry((found.meta.dev(), found.meta.ino())).or_insert_with(|| found.name.clone());
        }
        if let Some(seen) = &mut self.seen {
            seen.0.insert(Seen::of(found));
        }
        Ok(())
    }

    fn compare(&mut self, found: &Found) -> Result<Compared, PartError> {
        let order = &mut self.in_order;
        loop {
            let Some(block) = order.marks.blocks().get(order.block) else { return Ok(Compared::Alone) };
            let expected = order.loaded.as_ref().and_then(|marks| Mark::read(marks, order.at));
            if let Some((mark, next)) = expected.filter(|(mark, _)| mark.path == found.name.as_bytes()) {
                let is_link = found.meta.nlink() > 1
                    && found.meta.is_file()
                    && self.links.contains_key(&(found.meta.dev(), found.meta.ino()));
                if mark.is_believed(&found.meta) && is_link == mark.is_link {
                    (order.at, order.done) = (next, order.done + 1);
                    return Ok(if order.done == block.entries { Compared::Completed } else { Compared::Same });
                }
            } else if order.loaded.is_none() {
                if found.name > block.last {
                    order.next_block();
                    continue;
                }
                if order.one_by_one || found.name < block.first {
                    return Ok(Compared::Alone);
                }
                // What a block stands on must be in the store; the copy before the hold has just been put there.
                order.usable = order.marks.is_of_this_run || self.context.deposit.can_reuse(&block.frames)?;
                order.loaded = order.marks.marks_of(order.block).filter(|_| order.usable);
                order.one_by_one = order.loaded.is_none();
                continue;
            }
            let done = std::mem::take(&mut order.done);
            (order.loaded, order.one_by_one) = (None, true);
            return Ok(Compared::Broken(done));
        }
    }

    /// Hands over the first entries of the block that was compared with, which are unchanged.
    fn unchanged(&mut self, done: u64) -> Result<(), PartError> {
        if done == 0 {
            return Ok(());
        }
        let entries = self.in_order.marks.entries_of(self.in_order.block);
        let frames = self.in_order.marks.blocks().get(self.in_order.block).map(|block| block.frames.clone());
        let frames = frames.unwrap_or_default();
        if (entries.len() as u64) < done {
            return Err(PartError::Other(
                "this machine's notes of the last capture cannot be read any more".to_owned(),
            ));
        }
        for marked in entries.into_iter().take(done as usize) {
            if !self.sink.is_listing() {
                // What it stands on is there, and is asked for again when it is listed, after the hold.
                self.sink.push(marked, None, self.context)?;
                continue;
            }
            let last = self.sink.last_of(&marked.entry.path);
            // A chunk that the cache no longer knows lies in the frames of its block all the same.
            let deposit = &mut *self.context.deposit;
            if !deposit.reuse(&marked.entry.chunks)? && !deposit.reuse_frames(&frames)? {
                return Err(PartError::Other("the store lost what was about to be used again".to_owned()));
            }
            self.sink.push(marked, last.as_ref(), self.context)?;
        }
        Ok(())
    }

    /// Looks at one thing by itself.
    fn alone(&mut self, found: Found) -> Result<(), PartError> {
        let warm = self.warm.as_mut().and_then(|warm| warm.of(&found.name));
        let enough = !self.sink.is_listing() && warm.as_ref().is_some_and(|warm| warm.is_believed(&found.meta));
        let last = if enough { None } else { self.sink.last_of(&found.name) };
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
            self.other(&found, [warm.as_ref(), last.as_ref()])?
        };
        if let Some(seen) = &mut self.seen {
            seen.0.insert(Seen::of_marked(&marked));
        }
        self.sink.push(marked, last.as_ref(), self.context)?;
        let counts = self.sink.counts();
        (self.context.progress)(counts.files, counts.bytes);
        Ok(())
    }

    fn settles(&self, meta: &fs::Metadata) -> bool {
        self.grounds.get(&meta.dev()).is_some_and(|ground| ground.settles(meta))
    }

    fn marked(&self, entry: Entry, meta: &fs::Metadata, settled: bool) -> Marked {
        let ctime = (meta.ctime(), meta.ctime_nsec() as u32);
        Marked { entry, ctime, inode: meta.ino(), settled, news: News::New, staged: None }
    }

    fn another_name(&mut self, found: &Found, first: PathName) -> Marked {
        let mut entry = entry::bare(found.name.clone(), &found.meta);
        entry.same_as = Some(first);
        let settled = self.settles(&found.meta);
        self.marked(entry, &found.meta, settled)
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

    fn other(&mut self, found: &Found, known: [Option<&Marked>; 2]) -> Result<Marked, PartError> {
        let believed = known.into_iter().flatten().filter(|_| !self.context.reread);
        if let Some(known) = { believed }.find(|known| known.is_believed(&found.meta)) {
            return Ok(self.marked(known.entry.clone(), &found.meta, true));
        }
        let mut entry = entry::bare(found.name.clone(), &found.meta);
        if entry.kind == Kind::Symlink {
            use std::os::unix::ffi::OsStrExt;
            let target = fs::read_link(&found.at).at(&found.path)?;
            entry.target = Some(PathName::new(target.as_os_str().as_bytes()));
        }
        self.attributes(&mut entry, found);
        let settled = self.settles(&found.meta);
        Ok(self.marked(entry, &found.meta, settled))
    }

    /// A file's entry; `None` when it vanished before it could be read.
    fn file(&mut self, found: &Found, known: [Option<&Marked>; 2]) -> Result<Option<Marked>, PartError> {
        if found.meta.nlink() > 1 {
            self.links.insert((found.meta.dev(), found.meta.ino()), found.name.clone());
        }
        // To distrust marks is to distrust those of earlier runs; the copy before the hold was read by this one.
        let [warm, last] = known;
        // In the hold nothing is looked up that can be told from the block, which is the first of the two.
        let told = !self.sink.is_listing() && self.in_order.usable;
        let first = if warm.is_some() { warm } else { last };
        for known in [warm, last.filter(|_| !self.context.reread)].into_iter().flatten() {
            if known.is_believed(&found.meta)
                && known.entry.same_as.is_none()
                && (told && first.is_some_and(|first| std::ptr::eq(first, known))
                    || self.context.deposit.reuse(&known.entry.chunks)?)
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
                let settled = same && whole && self.settles(&after);
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
