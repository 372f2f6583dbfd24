//! The plan of a restore into an empty folder, and its execution.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use gullet_store::listing::{ListingReader, ListingRef};
use gullet_store::{ChunkReader, IoPath, PathError, Store, StoreError};
use serde::Serialize;

use super::write::{Target, WriteError};
use crate::logbook::Logged;
use crate::outcome::Outcome;
use crate::part::chain;
use crate::record::Layout;
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
    pub fn into_folder(logged: &Logged, into: &Path, only: &[String]) -> Result<Self, RestoreError> {
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
        if let Some(part) = only.iter().find(|part| record.capture(part).is_none()) {
            let known = record.captures.iter().map(|capture| capture.part.clone()).collect();
            return Err(RestoreError::NoPart { run, part: part.clone(), known });
        }
        let wanted = record.captures.iter().filter(|c| only.is_empty() || only.contains(&c.part));
        let (mut parts, mut missing) = (Vec::new(), Vec::new());
        for capture in wanted {
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

impl RestorePart {
    fn restore(
        &self,
        chunks: &mut ChunkReader,
        stop: &Stop,
        progress: &mut dyn FnMut(&str, u64, u64),
    ) -> Result<PartResult, RestoreError> {
        fs::create_dir_all(&self.to).at(&self.to)?;
        let mut target = Target::open(&self.to)?;
        let mut result = PartResult { part: self.part.clone(), ..PartResult::default() };
        let walked = ListingReader::new(chunks).for_each(&self.listing.root, |entry, chunks| {
            if stop.asked().is_some() {
                return Err(Ended::Stopped);
            }
            match target.write(&entry, chunks) {
                Ok(bytes) if entry.kind == gullet_store::listing::Kind::File => {
                    result.files += 1;
                    result.bytes += bytes;
                }
                Ok(_) => result.others += 1,
                Err(error) => result.problem(format!("{}: {}", entry.path, describe(&error))),
            }
            progress(&self.part, result.files, result.bytes);
            Ok(())
        });
        match walked {
            Ok(()) => {}
            Err(Ended::Stopped) => result.problem("stopped before it was done".to_owned()),
            Err(Ended::Store(error)) => result.problem(format!("the listing: {}", chain(&error))),
        }
        target.finish();
        result.not_set = target.not_set;
        Ok(result)
    }
}

fn describe(error: &WriteError) -> String {
    chain(error)
}

impl PartResult {
    fn problem(&mut self, text: String) {
        self.problem_count += 1;
        if self.problems.len() < NAMED {
            self.problems.push(text);
        }
    }
}
