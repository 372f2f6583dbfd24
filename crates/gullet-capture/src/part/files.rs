//! Capturing files: reading only what cannot be believed unchanged, straight into the store or into private copies that are
//! stored after the hold.

mod reading;

use std::collections::HashMap;
use std::fs::{self};
use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;
use std::sync::mpsc::sync_channel;

use gullet_store::listing::{Entry, Kind, PathName};
use gullet_store::{Deposit, IoPath, StoreError};

use super::context::{CaptureContext, PartError};
use super::entry;
use super::in_order::{Compared, MarksCursor};
use super::lister::{Listed, Lister};
use super::marks::{FilesystemInfo, MadeMarks, Marked, Marks, News};
use super::owners::Owners;
use super::pending::{Copies, Pending};
use super::seen::{SeenRoot, SourceWatch};
use super::walk::{FoundEntry, LeftOuts, Walk};
use super::wanted::MustContain;
use gullet_model::record::{Counts, LeftOut, Root, SecuredBy};

/// How often a file that changes while it is read is read again.
const AGAIN: u32 = 3;
/// Warnings about single files, at most; the rest is counted.
const NAMED: usize = 10;
/// Files up to this size are copied rather than cloned: a clone costs as much as reading so little.
const SMALL: u64 = 64 << 10;

/// What came of looking at files, besides what was listed.
pub(crate) struct WalkFindings {
    pub(crate) left_out: Vec<LeftOut>,
    pub(crate) warnings: Vec<String>,
    /// Paths that are there and could not be read.
    pub(crate) unreadable: u64,
    pub(crate) roots: Vec<Root>,
    pub(crate) seen: SourceWatch,
    pub(crate) owners: Owners,
}

/// Marks by which files are recognised that did not change since they were read, so that they are not read again.
#[derive(Clone)]
pub(crate) struct PriorState {
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
    known: &PriorState,
    new_marks: PathBuf,
    wanted: MustContain,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(Listed, WalkFindings), PartError> {
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
    let known = PriorState { last, warm: None, by_one: false };
    look(walk, &known, &mut lister, None, context)?;
    let listed = lister.finish(context.deposit)?;
    // Where nothing changed the marks of the last capture are those of this one.
    Ok((listed.marks.map_or(known.last, MadeMarks::of_this_run), listed.counts))
}

/// Secures everything that `walk` finds and that is not known in private copies. What waits to be stored is written to
/// `pending`.
pub(crate) fn stage(
    walk: &Walk,
    known: &PriorState,
    pending: PathBuf,
    copies: Copies,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(Counts, WalkFindings, Option<SecuredBy>), PartError> {
    let mut waiting = Pending::create(known.last.clone(), pending)?;
    let (looked, copies) = look(walk, known, &mut waiting, Some(copies), context)?;
    Ok((waiting.finish()?, looked, copies.and_then(|copies| copies.secured_by())))
}

impl PriorState {
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
    known: &PriorState,
    sink: &mut dyn Sink,
    copies: Option<Copies>,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(WalkFindings, Option<Copies>), PartError> {
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
        seen: context.in_hold.then(|| SourceWatch::new(seen_roots.clone())),
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
        let walked = walking.join().map_err(|_| PartError::failed("walking ended early"))?;
        capturing.rest()?;
        Ok::<_, PartError>(walked?)
    })?;
    seen_roots.iter().try_for_each(SeenRoot::still_there)?;
    let Capturing { mut warnings, copies, seen, owners, unreadable, .. } = capturing;
    for text in left.unreadable() {
        warnings.add(text.clone());
    }
    let looked = WalkFindings {
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
    known: &'x PriorState,
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
    seen: Option<SourceWatch>,
    owners: Owners,
    context: &'x mut CaptureContext<'a, 'd>,
}

impl Capturing<'_, '_, '_> {
    fn take(&mut self, found: FoundEntry) -> Result<(), PartError> {
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

    /// Hands over the entries compared so far, where the walk ends within a block.
    fn rest(&mut self) -> Result<(), PartError> {
        self.unchanged(self.in_order.done)
    }

    fn note_same(&mut self, found: &FoundEntry, several_names: Option<(u64, u64)>) {
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
                return Err(PartError::failed("the store lost what was about to be used again"));
            }
            self.sink.push(marked, last.as_ref(), self.context)?;
        }
        Ok(())
    }

    /// Looks at one thing by itself.
    fn alone(&mut self, found: FoundEntry) -> Result<(), PartError> {
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

    fn another_name(&mut self, found: &FoundEntry, first: PathName) -> Marked {
        let mut entry = entry::bare(found.name.clone(), &found.meta);
        entry.same_as = Some(first);
        let settled = self.settles(&found.meta);
        self.marked(entry, &found.meta, settled)
    }

    fn attributes(&mut self, entry: &mut Entry, found: &FoundEntry) {
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

    fn other(&mut self, found: &FoundEntry, known: [Option<&Marked>; 2]) -> Result<Marked, PartError> {
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
}
