//! The plan of a restore into an empty folder, and its execution.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Mutex, PoisonError};

use gullet_store::listing::{Entry, Kind, ListingReader, ListingRef, PathName};
use gullet_store::{ChunkReader, IoPath, PathError, Store, StoreError};
use serde::Serialize;

use super::write::Target;
use crate::logbook::Logged;
use crate::outcome::Outcome;
use crate::part::chain;
use crate::record::{Layout, OutsideProof};
use crate::state::file_name;
use crate::world::Stop;

/// Problems named for a part, at most.
const NAMED: usize = 20;

/// A restore could not begin.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RestoreError {
    /// The folder has something in it.
    #[error("`{}` is not empty", .0.display())]
    NotEmpty(PathBuf),
    /// The folder is something else.
    #[error("`{}` is not a folder", .0.display())]
    NotAFolder(PathBuf),
    /// The folder cannot be used.
    #[error(transparent)]
    Path(#[from] PathError),
    /// The run has no such part.
    #[error("run {run} has no part `{part}`")]
    NoPart {
        /// The run.
        run: String,
        /// What was asked for.
        part: String,
        /// What there is.
        known: Vec<String>,
    },
    /// Its captures were given up.
    #[error("run {run} has nothing to restore: its captures were given up, and only its record is left")]
    Thinned {
        /// The run.
        run: String,
    },
    /// The run captured nothing.
    #[error("run {run} has nothing to restore: it is {outcome}")]
    Nothing {
        /// The run.
        run: String,
        /// Its outcome.
        outcome: Outcome,
    },
}

/// One part to restore.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct RestorePart {
    /// Its name.
    pub part: String,
    /// Where its paths are put below.
    pub to: PathBuf,
    /// Files that it has.
    pub files: u64,
    /// Bytes that it has.
    pub bytes: u64,
    /// What the export does not carry.
    pub lacks: Vec<String>,
    /// What to do by hand afterwards.
    pub after_restore: Vec<String>,
    #[serde(skip)]
    listing: ListingRef,
    /// Only these paths and what is below them; everything when there are none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    only: Vec<PathName>,
}

/// What will be restored, and where to.
#[derive(Clone, Debug, Serialize)]
pub struct RestorePlan {
    /// The run.
    pub run: String,
    /// The application.
    pub app: String,
    /// The run's outcome.
    pub outcome: Outcome,
    /// Why the parts are not of one moment, where they are not.
    pub no_hold: Option<String>,
    /// The folder.
    pub into: PathBuf,
    /// The parts, in the order of the record.
    pub parts: Vec<RestorePart>,
    /// Parts that the run does not have, with the reason.
    pub missing: Vec<(String, String)>,
    /// Parts whose bytes stay with other machinery, with what is known of them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub outside: Vec<(String, OutsideProof)>,
}

/// What came of one part.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct PartResult {
    /// Its name.
    pub part: String,
    /// Files written and proven.
    pub files: u64,
    /// Bytes written.
    pub bytes: u64,
    /// Other things written: folders, links, pipes, devices.
    pub others: u64,
    /// Paths that could not be restored, with the reason.
    pub problems: Vec<String>,
    /// How many there are in all.
    pub problem_count: u64,
    /// Attributes that could not be set: what, how many, the first path.
    pub not_set: BTreeMap<String, (u64, String)>,
}

/// What came of a restore.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct RestoreReport {
    /// The parts.
    pub parts: Vec<PartResult>,
    /// Complete, complete with warnings (attributes not set), or incomplete; interrupted when it was stopped.
    pub outcome: Outcome,
}

impl RestorePlan {
    /// Plans the restore of a run, or of some of its parts, into a folder that is empty or not there yet.
    ///
    /// # Errors
    /// When the folder is not empty, or the run does not have what is asked for.
    pub fn into_folder(
        logged: &Logged,
        into: &Path,
        only: &[String],
        paths: &[PathName],
    ) -> Result<Self, RestoreError> {
        match fs::metadata(into) {
            Ok(meta) if !meta.is_dir() => return Err(RestoreError::NotAFolder(into.to_path_buf())),
            Ok(_) if fs::read_dir(into).at(into)?.next().is_some() => {
                return Err(RestoreError::NotEmpty(into.to_path_buf()));
            }
            Ok(_) => {}
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            Err(error) => return Err(PathError::new(into, error).into()),
        }
        let record = &logged.record;
        let run = record.run.to_string();
        if logged.is_thinned() {
            return Err(RestoreError::Thinned { run });
        }
        if let Some(part) = only.iter().find(|part| record.capture(part).is_none()) {
            let known = record.captures.iter().map(|capture| capture.part.clone()).collect();
            return Err(RestoreError::NoPart { run, part: part.clone(), known });
        }
        let wanted = record.captures.iter().filter(|c| only.is_empty() || only.contains(&c.part));
        let (mut parts, mut missing, mut outside) = (Vec::new(), Vec::new(), Vec::new());
        for capture in wanted {
            if let Some(proof) = capture.outside.as_ref().filter(|_| capture.is_captured()) {
                outside.push((capture.part.clone(), proof.clone()));
                continue;
            }
            let Some(listing) = capture.listing.filter(|_| capture.is_captured()) else {
                let why = capture.problem.clone().unwrap_or_else(|| "it was not captured".to_owned());
                missing.push((capture.part.clone(), why));
                continue;
            };
            let to = match capture.layout {
                Layout::Source => into.join("files"),
                Layout::Export => into.join("exports").join(file_name(&capture.part)),
            };
            parts.push(RestorePart {
                part: capture.part.clone(),
                to,
                files: capture.counts.files,
                bytes: capture.counts.bytes,
                lacks: capture.lacks.clone(),
                after_restore: capture.after_restore.clone(),
                listing,
                only: paths.to_vec(),
            });
        }
        if parts.is_empty() {
            return Err(RestoreError::Nothing { run, outcome: logged.outcome() });
        }
        Ok(Self {
            run,
            app: record.app.clone(),
            outcome: logged.outcome(),
            no_hold: record.hold.no_hold.clone(),
            into: into.to_path_buf(),
            parts,
            missing,
            outside,
        })
    }

    /// Restores. What one path needs and cannot be got is that path's problem; everything else goes on.
    ///
    /// # Errors
    /// When the folder cannot be made.
    pub fn apply(
        self,
        store: &Store,
        logged: &Logged,
        stop: &Stop,
        progress: &mut dyn FnMut(&str, u64, u64),
    ) -> Result<RestoreReport, RestoreError> {
        fs::create_dir_all(&self.into).at(&self.into)?;
        let (mut chunks, _) = store.chunks_that_can_be_read(&logged.holdings());
        let mut report = RestoreReport { parts: Vec::new(), outcome: Outcome::Complete };
        for part in &self.parts {
            let result = part.restore(&mut chunks, stop, progress)?;
            let outcome = match (result.problem_count, result.not_set.is_empty()) {
                (0, true) => Outcome::Complete,
                (0, false) => Outcome::Warnings,
                _ => Outcome::Incomplete,
            };
            report.outcome = report.outcome.combine(outcome);
            report.parts.push(result);
        }
        if !self.missing.is_empty() {
            report.outcome = report.outcome.combine(Outcome::Incomplete);
        }
        if stop.asked().is_some() {
            report.outcome = report.outcome.combine(Outcome::Interrupted);
        }
        let folder = fs::File::open(&self.into).at(&self.into)?;
        rustix::fs::syncfs(&folder).at(&self.into)?;
        Ok(report)
    }
}

/// Why the walk over a listing ended.
enum Ended {
    Stopped,
    Store(StoreError),
}

impl From<StoreError> for Ended {
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
    chunks: ChunkReader,
    target: Target,
    result: PartResult,
}

impl Writer {
    fn write(&mut self, entry: &Entry) {
        match self.target.write(entry, &mut self.chunks) {
            Ok(bytes) if entry.kind == Kind::File => {
                self.result.files += 1;
                self.result.bytes += bytes;
            }
            Ok(_) => self.result.others += 1,
            Err(error) => self.result.problem(format!("{}: {}", entry.path, chain(&error))),
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

impl RestorePart {
    fn restore(
        &self,
        chunks: &mut ChunkReader,
        stop: &Stop,
        progress: &mut dyn FnMut(&str, u64, u64),
    ) -> Result<PartResult, RestoreError> {
        fs::create_dir_all(&self.to).at(&self.to)?;
        let mut writers = Vec::new();
        for _ in 0..WRITERS {
            let target = Target::open(&self.to)?;
            writers.push(Writer { chunks: chunks.another(), target, result: PartResult::default() });
        }
        let mut result = PartResult { part: self.part.clone(), ..PartResult::default() };
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
            let mut progress = |files, bytes| progress(&self.part, files, bytes);
            let (open, links) = (Vec::new(), Vec::new());
            let mut batches = Batches { out, open, bytes: 0, links, done: &done, progress: &mut progress };
            if self.only.is_empty() {
                self.walk(None, chunks, &mut batches, &mut result, stop);
            }
            for path in &self.only {
                self.walk(Some(path), chunks, &mut batches, &mut result, stop);
            }
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
        let mut folders = Vec::new();
        for writer in &mut writers {
            folders.append(&mut writer.target.folders);
        }
        folders.sort_by(|a, b| a.path.cmp(&b.path));
        if let Some(writer) = writers.first_mut() {
            writer.target.folders = folders;
            writer.target.finish();
        }
        for writer in writers {
            result.add(writer);
        }
        Ok(result)
    }

    /// Hands over everything, or one path with all that is below it and the folders above.
    fn walk(
        &self,
        below: Option<&PathName>,
        chunks: &mut ChunkReader,
        batches: &mut Batches<'_>,
        result: &mut PartResult,
        stop: &Stop,
    ) {
        let root = &self.listing.root;
        let mut above: Vec<Entry> = below
            .into_iter()
            .flat_map(PathName::above)
            .filter_map(|path| ListingReader::new(chunks).find(root, &path).ok().flatten())
            .collect();
        let walked = ListingReader::new(chunks).for_each_below(root, below, |mut entry, chunks| {
            if stop.asked().is_some() {
                return Err(Ended::Stopped);
            }
            // The folders above come with the first thing that is in them.
            above.drain(..).for_each(|folder| batches.add(folder));
            if let (Some(first), Some(below)) = (&entry.same_as, below)
                && !(first == below || first.is_below(below))
                && let Some(first) = ListingReader::new(chunks).find(root, first)?
            {
                // Its other name is not restored, so it must have the contents itself.
                entry = Entry { path: entry.path, ..first };
            }
            batches.add(entry);
            Ok(())
        });
        match walked {
            Ok(()) => {}
            Err(Ended::Stopped) => result.problem("stopped before it was done".to_owned()),
            Err(Ended::Store(error)) => result.problem(format!("the listing: {}", chain(&error))),
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

impl PartResult {
    fn add(&mut self, writer: Writer) {
        let Writer { target, result, .. } = writer;
        self.files += result.files;
        self.bytes += result.bytes;
        self.others += result.others;
        self.problem_count += result.problem_count;
        self.problems.extend(result.problems);
        self.problems.truncate(NAMED);
        for (what, (count, first)) in target.not_set {
            self.not_set.entry(what).or_insert((0, first)).0 += count;
        }
    }

    fn problem(&mut self, text: String) {
        self.problem_count += 1;
        if self.problems.len() < NAMED {
            self.problems.push(text);
        }
    }
}
