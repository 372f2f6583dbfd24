//! Capturing files: reading only what cannot be believed unchanged, straight into the store or into private copies that are
//! stored after the hold.

use std::collections::HashMap;
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;
use std::sync::mpsc::sync_channel;

use gullet_store::listing::{Entry, Kind, PathName};
use gullet_store::{Deposit, Hash, IoPath, PathError, StoreError};

use super::contents::{DataReader, contents, data_ranges, open};
use super::context::{CaptureContext, PartError};
use super::entry;
use super::in_order::{Compared, MarksCursor};
use super::lister::{Listed, Lister};
use super::marks::{FilesystemInfo, MadeMarks, Marked, Marks, News, Staged};
use super::owners::Owners;
use super::pending::{Copies, Pending};
use super::seen::{Seen, SeenRoot};
use super::walk::{Found, LeftOuts, Walk};
use super::wanted::Wanted;
use gullet_model::record::{Counts, LeftOut, Root, SecuredBy};

/// How often a file that changes while it is read is read again.
const AGAIN: u32 = 3;
/// Warnings about single files, at most; the rest is counted.
const NAMED: usize = 10;
/// Files up to this size are copied rather than cloned: a clone costs as much as reading so little.
const SMALL: u64 = 64 << 10;

/// What came of looking at files, besides what was listed.
pub(crate) struct Looked {
    pub(crate) left_out: Vec<LeftOut>,
    pub(crate) warnings: Vec<String>,
    /// Paths that are there and could not be read.
    pub(crate) unreadable: u64,
    pub(crate) roots: Vec<Root>,
    pub(crate) seen: Seen,
    pub(crate) owners: Owners,
}

/// Marks by which files are recognised that did not change since they were read, so that they are not read again.
#[derive(Clone)]
pub(crate) struct Known {
    /// The marks of the last capture.
    pub(crate) last: Marks,
    /// Those of the copy that was made before the hold; it knows all that the last capture does.
    pub(crate) warm: Option<Marks>,
    /// Whether each file is looked up by itself, because what is listed has more in it than a walk finds.
    pub(crate) by_one: bool,
}

/// Captures everything that `walk` finds into the store.
pub(crate) fn capture(
    walk: &Walk,
    known: &Known,
    new_marks: PathBuf,
    wanted: Wanted,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(Listed, Looked), PartError> {
    let mut lister = Lister::new(known.last.clone(), new_marks, wanted, context.deposit)?;
    let (looked, _) = look(walk, known, &mut lister, None, context)?;
    Ok((lister.finish(context.deposit)?, looked))
}

/// Reads everything that `walk` finds and that is not known into the store, and stores no listing: the copy before the hold.
/// Its marks, written to `new_marks`, tell the capture in the hold what is known.
pub(crate) fn warm(
    walk: &Walk,
    last: Marks,
    new_marks: PathBuf,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(Marks, Counts), PartError> {
    let mut lister = Lister::unstored(last.clone(), new_marks, context.deposit)?;
    let known = Known { last, warm: None, by_one: false };
    look(walk, &known, &mut lister, None, context)?;
    let listed = lister.finish(context.deposit)?;
    // Where nothing changed the marks of the last capture are those of this one.
    Ok((listed.marks.map_or(known.last, MadeMarks::of_this_run), listed.counts))
}

/// Secures everything that `walk` finds and that is not known in private copies. What waits to be stored is written to
/// `pending`.
pub(crate) fn stage(
    walk: &Walk,
    known: &Known,
    pending: PathBuf,
    copies: Copies,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(Counts, Looked, Option<SecuredBy>), PartError> {
    let mut waiting = Pending::create(known.last.clone(), pending)?;
    let (looked, copies) = look(walk, known, &mut waiting, Some(copies), context)?;
    Ok((waiting.finish()?, looked, copies.and_then(|copies| copies.secured_by())))
}

impl Known {
    /// Whether the store has the contents of an entry that was believed unchanged; if so this run stands on them from now
    /// on. `last` is the marks of the last capture.
    pub(crate) fn stands_on(&self, entry: &Entry, last: &Marks, deposit: &mut Deposit<'_>) -> Result<bool, StoreError> {
        let of_warm = self.warm.as_ref().filter(|warm| !entry.lists.is_empty() && warm.lists(entry));
        let marks = of_warm.unwrap_or(last);
        marks.stands_on(entry, marks.block_of(&entry.path), deposit)
    }

    /// The marks that files are compared with in order.
    pub(crate) fn source(&self, reread: bool) -> Marks {
        match &self.warm {
            Some(warm) => warm.clone(),
            None if reread || self.by_one => Marks::default(),
            None => self.last.clone(),
        }
    }
}

/// Takes what is looked at, in the order of a listing.
pub(crate) trait Sink {
    /// What the last capture had at a path.
    fn last_of(&mut self, path: &PathName) -> Option<Marked>;
    /// Takes one entry, and what the last capture had at its path.
    fn push(
        &mut self,
        marked: Marked,
        last: Option<&Marked>,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<(), PartError>;
    /// A whole block in which nothing changed.
    fn push_block(
        &mut self,
        from: &Marks,
        number: usize,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<(), PartError>;
    /// The counts of what was taken so far.
    fn counts(&mut self) -> &mut Counts;
    /// Whether it compares with the last capture, and stores at once.
    fn is_listing(&self) -> bool;
}

impl Sink for Lister {
    fn last_of(&mut self, path: &PathName) -> Option<Marked> {
        Lister::last_of(self, path)
    }

    fn push(
        &mut self,
        marked: Marked,
        last: Option<&Marked>,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<(), PartError> {
        Lister::push(self, marked, last, context.deposit)
    }

    fn push_block(
        &mut self,
        from: &Marks,
        number: usize,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<(), PartError> {
        Lister::push_block(self, from, number, context.deposit)
    }

    fn counts(&mut self) -> &mut Counts {
        &mut self.counts
    }

    fn is_listing(&self) -> bool {
        true
    }
}

/// Looks at everything that `walk` finds, and hands it to `sink`. Walking runs ahead on a thread of its own.
fn look(
    walk: &Walk,
    known: &Known,
    sink: &mut dyn Sink,
    copies: Option<Copies>,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(Looked, Option<Copies>), PartError> {
    let mut grounds = HashMap::new();
    let mut roots = Vec::new();
    let mut seen_roots = Vec::new();
    for (root, seen) in walk.roots_seen() {
        let clock = context.world.clock;
        // The sync must come before what is looked at was fixed, and is best done before the hold.
        let fixed = context.in_hold || walk.is_seen();
        let ground = if fixed { context.grounds.of(root, clock)? } else { context.grounds.renew(root, clock)? };
        roots.push(Root { path: root.display().to_string(), filesystem: ground.filesystem.clone() });
        // What is seen through a snapshot has the marks of its source.
        let meta = fs::metadata(seen).at(seen)?;
        grounds.insert(meta.dev(), ground);
        seen_roots.push(SeenRoot::new(root, seen, &meta));
    }
    let in_order = MarksCursor::new(known.source(context.reread));
    let mut capturing = Capturing {
        grounds,
        sink,
        known,
        warm: known.warm.clone(),
        in_order,
        copies,
        links: HashMap::new(),
        warnings: Warnings::default(),
        unreadable: 0,
        seen: context.in_hold.then(|| Seen::new(seen_roots.clone())),
        owners: Owners::default(),
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
    seen_roots.iter().try_for_each(SeenRoot::still_there)?;
    let Capturing { mut warnings, copies, seen, owners, unreadable, .. } = capturing;
    for text in left.unreadable() {
        warnings.add(text.clone());
    }
    let looked = Looked {
        unreadable: unreadable + left.unreadable().len() as u64,
        left_out: left.into_vec(),
        warnings: warnings.into_vec(),
        roots,
        seen: seen.unwrap_or_default(),
        owners,
    };
    Ok((looked, copies))
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
    grounds: HashMap<u64, FilesystemInfo>,
    sink: &'x mut dyn Sink,
    known: &'x Known,
    /// The marks of the copy before the hold.
    warm: Option<Marks>,
    in_order: MarksCursor,
    /// Where contents are copied that are not read into the store at once.
    copies: Option<Copies>,
    /// Device and inode of files with several names, and the name that their contents are listed under: as the reading itself
    /// found them, or marks that are believed.
    links: HashMap<(u64, u64), PathName>,
    warnings: Warnings,
    unreadable: u64,
    seen: Option<Seen>,
    owners: Owners,
    context: &'x mut CaptureContext<'a, 'd>,
}

/// The contents of a file as they were read: its chunks, or where they are staged, and its data ranges.
struct Taken {
    chunks: Vec<Hash>,
    staged: Option<Staged>,
    /// How large the file is by what was read of it, in bytes.
    size: u64,
    /// Where it has data, if it has holes.
    ranges: Option<Vec<(u64, u64)>>,
}

impl Taken {
    /// What `length` bytes of data, read in this order of stretches, are of a file of `size`. One that shrank meanwhile ends where
    /// its data did.
    fn of_read(length: u64, ranges: Option<Vec<(u64, u64)>>, size: u64) -> (u64, Option<Vec<(u64, u64)>>) {
        let Some(ranges) = ranges else { return (length, None) };
        if length == ranges.iter().map(|(_, length)| length).sum::<u64>() {
            return (size, Some(ranges));
        }
        let mut left = length;
        let mut there = Vec::new();
        for (from, length) in ranges {
            let read = length.min(left);
            left -= read;
            if read > 0 {
                there.push((from, read));
            }
        }
        (there.last().map_or(0, |(from, length)| from + length), Some(there))
    }
}

impl Capturing<'_, '_, '_> {
    fn take(&mut self, found: Found) -> Result<(), PartError> {
        self.context.check_stop()?;
        self.owners.see(&found.meta);
        let identity = (found.meta.dev(), found.meta.ino());
        let has_names = found.meta.nlink() > 1 && found.meta.is_file();
        let is_link = has_names && self.links.contains_key(&identity);
        loop {
            match self.in_order.compare(&found, is_link, self.context.deposit)? {
                Compared::NotInBlock => return self.alone(found),
                Compared::Diverged(done) => {
                    self.unchanged(done)?;
                    continue;
                }
                Compared::Same => self.note_same(&found, has_names.then_some(identity)),
                Compared::Completed => {
                    self.note_same(&found, has_names.then_some(identity));
                    let number = self.in_order.block;
                    self.sink.push_block(&self.in_order.marks, number, self.context)?;
                    self.in_order.next_block();
                    self.tell_progress();
                }
            }
            return Ok(());
        }
    }

    fn tell_progress(&mut self) {
        let counts = self.sink.counts();
        (self.context.progress)(counts.files, counts.bytes);
    }

    /// What was compared and is the end of nothing.
    fn rest(&mut self) -> Result<(), PartError> {
        self.unchanged(self.in_order.done)
    }

    fn note_same(&mut self, found: &Found, several_names: Option<(u64, u64)>) {
        if let Some(identity) = several_names {
            self.links.entry(identity).or_insert_with(|| found.name.clone());
        }
        if let Some(seen) = &mut self.seen {
            seen.add(found);
        }
    }

    /// Hands over the first entries of the block that was compared with, which are unchanged.
    fn unchanged(&mut self, done: u64) -> Result<(), PartError> {
        if done == 0 {
            return Ok(());
        }
        let entries = self.in_order.marks.entries_of(self.in_order.block).ok_or(PartError::MarksGone)?;
        for marked in entries.into_iter().take(done as usize) {
            if !self.sink.is_listing() {
                // What it stands on is there, and is asked for again when it is listed, after the hold.
                self.sink.push(marked, None, self.context)?;
                continue;
            }
            let last = self.sink.last_of(&marked.entry.path);
            let marks = &self.in_order.marks;
            if !marks.stands_on(&marked.entry, marks.blocks().get(self.in_order.block), self.context.deposit)? {
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
            let other = self.other(&found, [warm.as_ref(), last.as_ref()]);
            match self.unless_out_of_reach(&found, other)? {
                Some(marked) => marked,
                None => return Ok(()),
            }
        };
        if let Some(seen) = &mut self.seen {
            seen.add_marked(&marked);
        }
        self.sink.push(marked, last.as_ref(), self.context)?;
        self.tell_progress();
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
            Ok(found_here) => {
                entry.xattrs = found_here.known;
                if let Some(name) = found_here.nameless {
                    let path = found.path.display();
                    self.warnings.add(format!(
                        "{path}: the extended attribute `{name}` has a name that is not UTF-8, and is left out"
                    ));
                }
            }
            Err(errno) => {
                let text = format!("{}: extended attributes cannot be read: {errno}", found.path.display());
                self.warnings.add(text);
            }
        }
        entry.flags = entry::flags(&found.at);
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
        // To distrust marks is to distrust those of earlier runs; the copy before the hold was read by this one.
        let [warm, last] = known;
        // In the hold nothing is looked up that can be told from the block, which is the first of the two.
        let told = !self.sink.is_listing() && self.in_order.usable;
        let first = if warm.is_some() { warm } else { last };
        for known in [warm, last.filter(|_| !self.context.reread)].into_iter().flatten() {
            if known.is_believed(&found.meta)
                && known.entry.same_as.is_none()
                && (told && first.is_some_and(|first| std::ptr::eq(first, known))
                    || self.known.stands_on(&known.entry, &self.known.last, self.context.deposit)?)
            {
                // Settled once, marks stay settled for as long as they stay the same.
                let mut entry = known.entry.clone();
                entry.mode = found.meta.mode() & 0o7777;
                self.has_names(&found.meta, found);
                return Ok(Some(self.marked(entry, &found.meta, true)));
            }
        }
        let read = self.read(found);
        self.unless_out_of_reach(found, read)
    }

    /// Notes under which name the contents of a file with several names are listed.
    fn has_names(&mut self, meta: &fs::Metadata, found: &Found) {
        if meta.nlink() > 1 {
            self.links.entry((meta.dev(), meta.ino())).or_insert_with(|| found.name.clone());
        }
    }

    /// One path that vanished or cannot be read is named, and the others are captured; `None` for such a one.
    fn unless_out_of_reach(
        &mut self,
        found: &Found,
        read: Result<Marked, PartError>,
    ) -> Result<Option<Marked>, PartError> {
        match read {
            Err(PartError::Path(error)) if error.source.kind() == io::ErrorKind::NotFound => {
                if !self.context.is_live {
                    self.warnings.add(format!("{} vanished before it could be read", found.path.display()));
                }
                Ok(None)
            }
            Err(PartError::Path(error)) if error.path == found.path || error.path == found.at => {
                self.unreadable += 1;
                // It is as it was, as far as can be told.
                self.seen.iter_mut().for_each(|seen| seen.add(found));
                self.warnings.add(format!("{} cannot be read: {}", found.path.display(), error.source));
                Ok(None)
            }
            other => other.map(Some),
        }
    }

    fn read(&mut self, found: &Found) -> Result<Marked, PartError> {
        // What is written to while it is captured looks other every time; something else makes it fit together.
        let again = if self.context.is_live { 1 } else { AGAIN };
        for attempt in 1.. {
            let file = open(&found.at).map_err(|error| PathError::new(&found.path, error.source))?;
            let before = file.metadata().at(&found.path)?;
            let mut entry = entry::bare(found.name.clone(), &before);
            let ranges = data_ranges(&file, &before).at(&found.path)?;
            let taken = self.contents(file, &before, ranges, found)?;
            let after = fs::symlink_metadata(&found.at).at(&found.path)?;
            let same = self.marked(entry.clone(), &before, false).same_marks(&after) && after.is_file();
            let whole = taken.size == before.len();
            if (same && whole) || attempt == again {
                if !(same && whole || self.context.is_live) {
                    self.warnings.add(format!("{} changed while it was read", found.path.display()));
                }
                entry.size = taken.size;
                entry.data = taken.ranges;
                self.has_names(&before, found);
                if self.sink.is_listing() {
                    let deposit = &mut *self.context.deposit;
                    entry.set_chunks(taken.chunks, &mut |list: &[u8]| deposit.put(list))?;
                } else {
                    entry.chunks = taken.chunks;
                }
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
        if let Some(copies) = self.copies.as_mut().filter(|_| meta.len() > 0) {
            if meta.len() > SMALL
                && let Some(clone) = self.context.staging.clone_file(&file, meta.dev())?
            {
                copies.cloned();
                // The clone is from one point in time, which may be later than that at which the file was looked at.
                let cloned = File::open(&clone).at(&clone)?;
                let meta = cloned.metadata().at(&clone)?;
                let ranges = data_ranges(&cloned, &meta).at(&clone)?;
                return Ok(Taken { chunks: Vec::new(), staged: Some(Staged::Clone(clone)), size: meta.len(), ranges });
            }
            let source = DataReader::new(file.try_clone().at(&found.path)?, ranges.clone());
            if let Some((staged, length)) = copies.copy(source, meta.len(), &found.path)? {
                let (size, ranges) = Taken::of_read(length, ranges, meta.len());
                return Ok(Taken { chunks: Vec::new(), staged: Some(staged), size, ranges });
            }
        }
        let source = DataReader::new(file, ranges.clone());
        let mut chunks = Vec::new();
        let counts = *self.sink.counts();
        let length = contents((source, meta.len()), &found.path, &mut chunks, &counts, self.context)?;
        self.sink.counts().bytes_read += length;
        let (size, ranges) = Taken::of_read(length, ranges, meta.len());
        Ok(Taken { chunks, staged: None, size, ranges })
    }
}

#[cfg(test)]
mod tests {
    use super::Taken;

    #[test]
    fn a_file_with_holes_that_shrank_while_it_was_read_ends_where_its_data_did() {
        let ranges = || Some(vec![(0, 10), (100, 10), (200, 10)]);
        assert_eq!(Taken::of_read(30, ranges(), 500), (500, ranges()));
        assert_eq!(Taken::of_read(15, ranges(), 500), (105, Some(vec![(0, 10), (100, 5)])));
        assert_eq!(Taken::of_read(0, ranges(), 500), (0, Some(Vec::new())));
        assert_eq!(Taken::of_read(7, None, 500), (7, None));
    }
}
