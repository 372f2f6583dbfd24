//! The entries of a listing onto the filesystem, by several threads.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Mutex, PoisonError};

use gullet_store::listing::{Entry, Kind, ListingRef, PathName};
use gullet_store::{ChunkReader, PathError, Store, StoreError};
use serde::Serialize;

use super::owners::OwnerMap;
use super::select::{Selection, each_selected};
use super::write::Target;
use gullet_host::state::State;
use gullet_host::world::{Stop, World};
use gullet_logbook::logbook::Logged;
use gullet_model::words::chain;

/// Problems named for a part, at most.
const NAMED: usize = 20;

/// What came of one part.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct PartResult {
    /// The name of the part.
    pub part: String,
    /// Files written and proven.
    pub files: u64,
    /// Bytes of contents that were written.
    pub bytes: u64,
    /// Other things written: folders, links, pipes, devices.
    pub others: u64,
    /// Paths that could not be restored, with the reason.
    pub problems: Vec<String>,
    /// How many there are in all.
    pub problem_count: u64,
    /// Of them, those whose bytes the store has lost.
    #[serde(skip_serializing_if = "is_zero")]
    pub damaged_count: u64,
    /// Attributes that could not be set: what, how many, the first path.
    pub not_set: BTreeMap<String, (u64, String)>,
    /// Files with set-uid or set-gid and devices that were written: how many, and the first.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub powerful: Option<(u64, String)>,
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "the form that serde asks for")]
fn is_zero(number: &u64) -> bool {
    *number == 0
}

/// Why the walk over a listing ended.
enum WriteEnd {
    Stopped,
    Store(StoreError),
}

impl From<StoreError> for WriteEnd {
    fn from(error: StoreError) -> Self {
        Self::Store(error)
    }
}

/// Threads that write at once.
const WRITERS: usize = 2;
/// So many entries, or so many bytes of files, are handed to one of them at once. Files that follow one another share frames,
/// which is lost at the ends.
const BATCH: (usize, u64) = (2048, 8 << 20);

/// Writes what it is handed.
struct Writer {
    chunks: Option<ChunkReader>,
    target: Target,
    result: PartResult,
}

impl Writer {
    fn write(&mut self, entry: &Entry) {
        let Some(chunks) = &mut self.chunks else { return };
        match self.target.write(entry, chunks) {
            Ok(bytes) if entry.kind == Kind::File => {
                self.result.files += 1;
                self.result.bytes += bytes;
            }
            Ok(_) => self.result.others += 1,
            Err(error) => {
                self.result.damaged_count += u64::from(error.is_damage());
                self.result.problem(format!("{}: {}", entry.path, chain(&error)));
            }
        }
    }
}

/// Gathers entries into batches for the writers.
struct Batches<'b> {
    out: SyncSender<Vec<Entry>>,
    open: Vec<Entry>,
    bytes: u64,
    /// Further names of files, which come when the files are there.
    links: Vec<Entry>,
    done: &'b (AtomicU64, AtomicU64),
    progress: &'b mut dyn FnMut(u64, u64),
}

impl Batches<'_> {
    fn add(&mut self, entry: Entry) {
        if entry.same_as.is_some() {
            self.links.push(entry);
            return;
        }
        self.bytes += entry.size;
        self.open.push(entry);
        if self.open.len() >= BATCH.0 || self.bytes >= BATCH.1 {
            self.send();
        }
    }

    fn send(&mut self) {
        self.bytes = 0;
        // The writers are there for as long as this is.
        let _ = self.out.send(std::mem::take(&mut self.open));
        (self.progress)(self.done.0.load(Ordering::Relaxed), self.done.1.load(Ordering::Relaxed));
    }
}

/// What is written, and where to.
pub(super) struct Writing<'a> {
    /// The part's name, for telling how far it is.
    pub(super) part: &'a str,
    pub(super) listing: &'a ListingRef,
    /// The folder that paths are below.
    pub(super) to: &'a Path,
    pub(super) only: &'a [Selection],
    /// Paths below the first come below the second instead; what is not below it is passed over.
    pub(super) moved: Option<(PathName, PathName)>,
    /// Who owns it here.
    pub(super) owners: &'a OwnerMap,
}

/// What was written so far of a tree that several parts may share. Folders get their attributes when all is in them.
#[derive(Default)]
pub(super) struct Written {
    folders: Vec<Entry>,
    /// The entry that became the top folder itself.
    pub(super) top: Option<Entry>,
}

impl Written {
    /// Gives the folders their attributes.
    ///
    /// # Errors
    /// When the top folder cannot be opened.
    pub(super) fn finish(&mut self, to: &Path, result: &mut PartResult) -> Result<(), PathError> {
        let mut target = Target::open(to)?;
        target.folders = std::mem::take(&mut self.folders);
        target.folders.sort_by(|a, b| a.path.cmp(&b.path));
        target.finish();
        result.add(Writer { chunks: None, target, result: PartResult::default() });
        Ok(())
    }
}

/// A path below one folder, as it is below another one; `None` where it is not below the first.
fn moved(path: &PathName, (from, to): &(PathName, PathName)) -> Option<PathName> {
    let rest = path.as_bytes().strip_prefix(from.as_bytes())?;
    let rest = match rest {
        [] => rest,
        [b'/', below @ ..] => below,
        _ => return None,
    };
    let joint: &[u8] = if rest.is_empty() || to.as_bytes().is_empty() { b"" } else { b"/" };
    Some(PathName::new([to.as_bytes(), joint, rest].concat()))
}

impl Writing<'_> {
    /// Writes. What one path needs and cannot be got is that path's problem; everything else goes on.
    ///
    /// # Errors
    /// When the folder cannot be made.
    pub(super) fn run(
        &self,
        chunks: &mut ChunkReader,
        written: &mut Written,
        stop: &Stop,
        progress: &mut dyn FnMut(&str, u64, u64),
    ) -> Result<PartResult, PathError> {
        super::write::make_folders(self.to)?;
        let mut writers = Vec::new();
        for _ in 0..WRITERS {
            let target = Target::open(self.to)?;
            writers.push(Writer { chunks: Some(chunks.another()), target, result: PartResult::default() });
        }
        let mut result = PartResult { part: self.part.to_owned(), ..PartResult::default() };
        let done = (AtomicU64::new(0), AtomicU64::new(0));
        let (out, batches) = sync_channel(WRITERS);
        let batches = Mutex::new(batches);
        let (mut writers, links) = std::thread::scope(|scope| {
            let running: Vec<_> = writers
                .into_iter()
                .map(|writer| {
                    let (batches, done) = (&batches, &done);
                    scope.spawn(move || write_all(writer, batches, done, stop))
                })
                .collect();
            let mut progress = |files, bytes| progress(self.part, files, bytes);
            let (open, links) = (Vec::new(), Vec::new());
            let mut batches = Batches { out, open, bytes: 0, links, done: &done, progress: &mut progress };
            self.walk(chunks, &mut batches, written, &mut result, stop);
            batches.send();
            let links = std::mem::take(&mut batches.links);
            drop(batches);
            let writers: Vec<Option<Writer>> = running.into_iter().map(|running| running.join().ok()).collect();
            (writers, links)
        });
        if writers.iter().any(Option::is_none) {
            result.problem("a thread that wrote files ended early".to_owned());
        }
        let mut writers: Vec<Writer> = writers.drain(..).flatten().collect();
        if let Some(writer) = writers.first_mut() {
            for link in links.iter().take_while(|_| stop.asked().is_none()) {
                writer.write(link);
            }
        }
        for mut writer in writers {
            written.folders.append(&mut writer.target.folders);
            result.add(writer);
        }
        Ok(result)
    }

    /// Hands over everything that is meant.
    fn walk(
        &self,
        chunks: &mut ChunkReader,
        batches: &mut Batches<'_>,
        written: &mut Written,
        result: &mut PartResult,
        stop: &Stop,
    ) {
        let walked = each_selected(chunks, self.listing, self.only, |mut entry, _| {
            if stop.asked().is_some() {
                return Err(WriteEnd::Stopped);
            }
            self.owners.apply(&mut entry);
            if let Some(how) = &self.moved {
                let Some(path) = moved(&entry.path, how) else { return Ok(()) };
                entry.path = path;
                entry.same_as = entry.same_as.and_then(|first| moved(&first, how));
                if entry.path.as_bytes().is_empty() {
                    written.top = Some(entry);
                    return Ok(());
                }
            }
            batches.add(entry);
            Ok(())
        });
        match walked {
            // Elsewhere they are asked for by themselves; in place the other name was one file with them.
            Ok(split) if self.moved.is_some() => {
                for name in split {
                    let what = "the hard link to a name that is not restored beside it".to_owned();
                    result.not_set.entry(what).or_insert_with(|| (0, name.to_string())).0 += 1;
                }
            }
            Ok(_) => {}
            Err(WriteEnd::Stopped) => result.problem("stopped before it was done".to_owned()),
            Err(WriteEnd::Store(error)) => {
                result.damaged_count += u64::from(error.is_damage());
                result.problem(format!("the listing: {}", chain(&error)));
            }
        }
    }
}

/// Writes batches until there are no more.
fn write_all(
    mut writer: Writer,
    batches: &Mutex<Receiver<Vec<Entry>>>,
    done: &(AtomicU64, AtomicU64),
    stop: &Stop,
) -> Writer {
    loop {
        let batch = batches.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(batch) = batch else { return writer };
        let before = (writer.result.files, writer.result.bytes);
        for entry in batch.iter().take_while(|_| stop.asked().is_none()) {
            writer.write(entry);
        }
        done.0.fetch_add(writer.result.files - before.0, Ordering::Relaxed);
        done.1.fetch_add(writer.result.bytes - before.1, Ordering::Relaxed);
    }
}

/// Has the logbook remember which parts the store was found to have lost, so that the run is not taken for a good one any more.
///
/// # Errors
/// When the store cannot take it.
pub fn say_damage(
    parts: &[PartResult],
    by: &str,
    logged: &Logged,
    (store, state): (&Store, &State),
    world: World<'_>,
) -> Result<(), StoreError> {
    let damaged: Vec<&str> = parts.iter().filter(|part| part.damaged_count > 0).map(|part| &*part.part).collect();
    if damaged.is_empty() { Ok(()) } else { logged.say_damaged(&damaged, by, store, Some(state), world) }
}

impl PartResult {
    /// Adds what came of more of the same part.
    pub(super) fn merge(&mut self, other: Self) {
        self.files += other.files;
        self.bytes += other.bytes;
        self.others += other.others;
        self.problem_count += other.problem_count;
        self.damaged_count += other.damaged_count;
        self.problems.extend(other.problems);
        self.problems.truncate(NAMED);
        for (what, (count, first)) in other.not_set {
            self.not_set.entry(what).or_insert((0, first)).0 += count;
        }
        if let Some((count, first)) = other.powerful {
            self.powerful.get_or_insert((0, first)).0 += count;
        }
    }

    fn add(&mut self, writer: Writer) {
        let Writer { target, result, .. } = writer;
        self.merge(Self { not_set: target.not_set, powerful: target.powerful, ..result });
    }

    pub(super) fn problem(&mut self, text: String) {
        self.problem_count += 1;
        if self.problems.len() < NAMED {
            self.problems.push(text);
        }
    }
}
