//! The plan of a restore into an empty folder, and its execution.

use std::fs;
use std::path::{Path, PathBuf};

use gullet_store::listing::ListingRef;
use gullet_store::{ChunkReader, IoPath, PathError, Store};
use serde::Serialize;

use super::owners::OwnerMap;
use super::select::Selection;
use super::writing::{PartResult, Writing, Written};
use gullet_host::state::file_name;
use gullet_host::world::Stop;
use gullet_logbook::logbook::Logged;
use gullet_model::outcome::Outcome;
use gullet_model::record::{Layout, OutsideProof};

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
        /// The id of the run.
        run: String,
        /// What was asked for.
        part: String,
        /// What there is.
        known: Vec<String>,
    },
    /// Its captures were removed.
    #[error("run {run} has nothing to restore: its captures were removed, and only its record is left")]
    Thinned {
        /// The id of the run.
        run: String,
    },
    /// What is asked for is not one file.
    #[error("{0}")]
    NotOne(String),
    /// A stream broke off.
    #[error("{0}")]
    Stream(String),
    /// It cannot be restored in place.
    #[error("{0}")]
    Place(String),
    /// The run captured nothing.
    #[error("run {run} has nothing to restore: it is {outcome}")]
    Nothing {
        /// The id of the run.
        run: String,
        /// How the run ended.
        outcome: Outcome,
    },
}

/// One part to restore.
#[derive(Clone, Debug, Serialize)]
pub struct RestorePart {
    /// The name of the part.
    pub part: String,
    /// Where its paths are put below.
    pub to: PathBuf,
    /// Files that it has.
    pub files: u64,
    /// Bytes that it has.
    pub bytes: u64,
    /// What the export does not carry.
    pub omits: Vec<String>,
    /// What to do by hand afterwards.
    pub after_restore: Vec<String>,
    #[serde(skip)]
    pub(super) listing: ListingRef,
    /// Only these paths and what is below them; everything when there are none.
    #[serde(skip)]
    pub(super) only: Vec<Selection>,
}

/// What will be restored, and where to.
#[derive(Clone, Debug, Serialize)]
pub struct RestorePlan {
    /// The id of the run that is restored.
    pub run: String,
    /// The name of the application.
    pub app: String,
    /// The run's outcome.
    pub outcome: Outcome,
    /// Why the parts are not from one point in time, where they are not.
    pub no_hold: Option<String>,
    /// The folder that everything is written into.
    pub into: PathBuf,
    /// The parts, in the order of the record.
    pub parts: Vec<RestorePart>,
    /// Parts that the run does not have, with the reason.
    pub missing: Vec<(String, String)>,
    /// Parts whose bytes are kept by another system, with what is known of them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub outside: Vec<(String, OutsideProof)>,
    /// Who owns here what somebody else owned there.
    #[serde(skip)]
    pub owners: OwnerMap,
}

/// What came of a restore.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct RestoreReport {
    /// What came of each part.
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
        paths: &[Selection],
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
        Self::of_parts(logged, into, only, paths)
    }

    /// The parts that are meant, with where they come below `into`.
    pub(super) fn of_parts(
        logged: &Logged,
        into: &Path,
        only: &[String],
        paths: &[Selection],
    ) -> Result<Self, RestoreError> {
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
                omits: capture.omits.clone(),
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
            owners: OwnerMap::default(),
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
        // Where all is restored every payload file is needed.
        let is_all = self.parts.iter().any(|part| part.only.is_empty());
        let mut chunks = match is_all {
            true => store.chunks_that_can_be_read(&logged.holdings()).0,
            false => store.few_chunks(&logged.holdings()),
        };
        let mut report = RestoreReport { parts: Vec::new(), outcome: Outcome::Complete };
        for part in &self.parts {
            let result = part.restore(&mut chunks, &self.owners, stop, progress)?;
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

impl RestorePart {
    /// Writes it below its folder.
    pub(super) fn restore(
        &self,
        chunks: &mut ChunkReader,
        owners: &OwnerMap,
        stop: &Stop,
        progress: &mut dyn FnMut(&str, u64, u64),
    ) -> Result<PartResult, PathError> {
        let (part, listing, to) = (&self.part, &self.listing, &self.to);
        let mut written = Written::default();
        let mut result = Writing { part, listing, to, only: &self.only, moved: None, owners }.run(
            chunks,
            &mut written,
            stop,
            progress,
        )?;
        written.finish(to, &mut result)?;
        Ok(result)
    }
}
