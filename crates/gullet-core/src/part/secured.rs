//! A part on its way: secured while the application is held, stored afterwards.

use std::fs;
use std::path::{Path, PathBuf};

use gullet_store::listing::PathName;
use gullet_store::{Cut, Deposit, PathError, StoreError};
use jiff::Timestamp;

use super::lister::Lister;
use super::walk::{Walk, name_of};
use super::wanted::Wanted;
use super::{drift, files, produce, sqlite, stored};
use crate::definition::{Empty, Gives, PartKind};
use crate::event::CommandReport;
use crate::hook::{Notes, Patience, Runner};
use crate::plan::{Plan, PlannedPart};
use crate::record::{Capture, Counts, Layout, Root};
use crate::world::World;

/// How often a capture whose `steady` fact changed is taken again.
const STEADY_TRIES: u32 = 3;

/// A part could not be captured.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PartError {
    /// A source or the private folder cannot be accessed.
    #[error("{}: {}", .0.path.display(), .0.source)]
    Path(#[from] PathError),
    /// The store failed.
    #[error("the store: {}", chain(.0))]
    Store(#[from] StoreError),
    /// The database engine failed.
    #[error("the database `{}`: {}", path.display(), explain(source))]
    Sqlite {
        /// The database.
        path: PathBuf,
        /// What the engine said.
        source: rusqlite::Error,
    },
    /// The run was asked to stop, or the hold must be left.
    #[error("stopped before it was done")]
    Stopped,
    /// Anything else, in words.
    #[error("{0}")]
    Other(String),
}

/// An error with its causes on one line.
pub(crate) fn chain(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(next) = cause {
        text.push_str(&format!(": {next}"));
        cause = next.source();
    }
    text
}

/// What the engine said, with what it means where it is known to puzzle.
fn explain(error: &rusqlite::Error) -> String {
    use rusqlite::ErrorCode;
    match error.sqlite_error_code() {
        Some(ErrorCode::NotADatabase) => format!("{error} (it is encrypted, or not an SQLite database at all)"),
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
            format!("{error} (somebody holds a lock on it and did not let go)")
        }
        _ => error.to_string(),
    }
}

/// What a part needs to be secured.
pub struct Securing<'a, 'd> {
    /// The outside world.
    pub world: World<'a>,
    /// The plan that is being executed.
    pub plan: &'a Plan,
    /// Runs commands.
    pub runner: &'a Runner<'a>,
    /// What may end it early.
    pub patience: Patience<'a>,
    /// Takes chunks.
    pub deposit: &'a mut Deposit<'d>,
    /// Told how many files and bytes were seen.
    pub progress: &'a mut dyn FnMut(u64, u64),
    /// A private folder for this part alone.
    pub scratch: PathBuf,
    /// Where the marks of this part's last capture are.
    pub marks: PathBuf,
    /// The part's capture in the last good run.
    pub last: Option<&'a Capture>,
    /// Whether marks are distrusted.
    pub reread: bool,
    /// Every process that was run.
    pub commands: Vec<CommandReport>,
    /// What those processes noted.
    pub notes: Notes,
}

impl Securing<'_, '_> {
    /// # Errors
    /// [`PartError::Stopped`] when it is time to stop.
    pub(super) fn check_stop(&self) -> Result<(), PartError> {
        if self.patience.is_over(self.world.clock) { Err(PartError::Stopped) } else { Ok(()) }
    }
}

/// What was secured and waits to be stored.
enum Kept {
    /// It is in the store already.
    Files { walk: Walk, marks: PathBuf },
    /// A copy of a database.
    Database { copy: PathBuf, source: PathBuf, watched: sqlite::Watched },
    /// What a command printed.
    Output { path: PathBuf, gives: Gives },
    /// What an export wrote.
    Folder { path: PathBuf },
}

/// A part that is secured.
pub struct Secured {
    /// The capture as far as it is known.
    pub capture: Capture,
    kept: Kept,
    /// The part's private folder.
    scratch: PathBuf,
    /// Where its marks belong when the run is recorded.
    marks: PathBuf,
    /// Where they are until then, once it is stored.
    new_marks: Option<PathBuf>,
}

/// Secures a part.
///
/// # Errors
/// When it could not be captured.
pub fn secure(part: &PlannedPart, context: &mut Securing<'_, '_>) -> Result<Secured, PartError> {
    let started = context.world.clock.now();
    let began = context.world.clock.uptime();
    let mut secured = match &part.spec.steady {
        None => attempt(part, context, started)?,
        Some(steady) => {
            let mut tries = 0;
            loop {
                tries += 1;
                let before = produce::fact(part, &steady.command, context)?;
                let secured = attempt(part, context, started)?;
                let after = produce::fact(part, &steady.command, context)?;
                if before == after {
                    context.notes.facts.insert(steady.fact.clone(), after);
                    break secured;
                }
                if tries == STEADY_TRIES {
                    let text = format!(
                        "`{}` was {before} before and {after} after the capture, {tries} times over",
                        steady.fact
                    );
                    return Err(PartError::Other(text));
                }
            }
        }
    };
    produce::facts(part, context)?;
    let capture = &mut secured.capture;
    capture.facts.append(&mut context.notes.facts);
    capture.lacks.append(&mut context.notes.lacks);
    capture.warnings.append(&mut context.notes.warnings);
    let took = context.world.clock.uptime().saturating_sub(began);
    capture.took_ms = u64::try_from(took.as_millis()).unwrap_or(u64::MAX);
    Ok(secured)
}

/// The capture of a part that could not be captured.
pub fn failed_capture(part: &PlannedPart, problem: String, started: Timestamp) -> Capture {
    Capture { problem: Some(problem), ..blank(part, started) }
}

fn blank(part: &PlannedPart, started: Timestamp) -> Capture {
    let spec = &part.spec;
    let layout = match spec.kind() {
        PartKind::Files | PartKind::Sqlite => Layout::Source,
        PartKind::Export if !spec.take.is_empty() => Layout::Source,
        PartKind::Command | PartKind::Export => Layout::Export,
    };
    Capture {
        part: part.name.clone(),
        each_of: part.each_of.clone(),
        kind: spec.kind(),
        must: spec.must,
        problem: None,
        started,
        took_ms: 0,
        layout,
        roots: Vec::new(),
        listing: None,
        counts: Counts::default(),
        facts: Default::default(),
        lacks: spec.lacks.clone(),
        after_restore: spec.after_restore.clone(),
        warnings: Vec::new(),
        left_out: Vec::new(),
    }
}

fn attempt(part: &PlannedPart, context: &mut Securing<'_, '_>, started: Timestamp) -> Result<Secured, PartError> {
    if context.scratch.exists() {
        fs::remove_dir_all(&context.scratch).map_err(|error| PathError::new(&context.scratch, error))?;
    }
    crate::state::private_folder(&context.scratch)?;
    let mut capture = blank(part, started);
    let kept = match part.spec.kind() {
        PartKind::Files => {
            let walk = Walk::of_files(part, context.plan);
            streamed(part, walk, &mut capture, context)?
        }
        PartKind::Export => {
            let path = produce::export(part, context)?;
            if part.spec.take.is_empty() {
                Kept::Folder { path }
            } else {
                let walk = Walk::of_take(part, context.plan);
                streamed(part, walk, &mut capture, context)?
            }
        }
        PartKind::Command => {
            let path = produce::command(part, context)?;
            Kept::Output { path, gives: part.spec.gives.unwrap_or(Gives::Bytes) }
        }
        PartKind::Sqlite => {
            let source = part.spec.sqlite.clone().unwrap_or_default();
            let copy = sqlite::copy_path(&context.scratch);
            let watched = sqlite::copy(&source, &copy, context)?;
            capture.roots = vec![Root { path: source.display().to_string(), filesystem: String::new() }];
            Kept::Database { copy, source, watched }
        }
    };
    let (scratch, marks) = (context.scratch.clone(), context.marks.clone());
    Ok(Secured { capture, kept, scratch, marks, new_marks: None })
}

fn streamed(
    part: &PlannedPart,
    walk: Walk,
    capture: &mut Capture,
    context: &mut Securing<'_, '_>,
) -> Result<Kept, PartError> {
    let marks = context.scratch.join("marks.jsonl");
    let last = context.marks.clone();
    let wanted = Wanted::new(&part.spec.holds, walk.roots().iter().map(PathBuf::as_path));
    let done = files::capture(&walk, &last, marks, wanted, context)?;
    let counts = done.listed.counts;
    if part.spec.empty != Some(Empty::Ok) {
        same_ground(&done.roots, context.last)?;
        if counts.files + counts.others == 0 {
            return Err(PartError::Other(format!(
                "there is nothing in {} (say `empty = \"ok\"` if that may be)",
                part.source_text()
            )));
        }
    }
    capture.listing = Some(done.listed.listing);
    capture.counts = counts;
    capture.left_out = done.left_out;
    capture.warnings = done.warnings;
    capture.roots = done.roots;
    Ok(Kept::Files { walk, marks: done.listed.marks })
}

/// Refuses a root whose filesystem is another one than in the last good run: most likely a mount is missing.
fn same_ground(roots: &[Root], last: Option<&Capture>) -> Result<(), PartError> {
    for root in roots {
        let before = last.and_then(|last| last.roots.iter().find(|before| before.path == root.path));
        if let Some(before) = before.filter(|before| before.filesystem != root.filesystem) {
            let (path, was, is) = (&root.path, &before.filesystem, &root.filesystem);
            let text = format!(
                "`{path}` is on another filesystem than last time ({is}, before {was}): is something not mounted? \
                 (say `empty = \"ok\"` if that may be)"
            );
            return Err(PartError::Other(text));
        }
    }
    Ok(())
}

/// Whether a source was written to since it was secured.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Quiet {
    /// It was not.
    Quiet,
    /// It cannot be told: nothing was read from the source by Gullet itself.
    Unknown,
    /// Files changed: the first of them, and how many.
    FilesChanged(Vec<String>, u64),
    /// The database was written to.
    Written,
}

impl Secured {
    /// Looks whether the source was written to since. Asked while the application says that it is held, so that a yes
    /// means that it lied.
    ///
    /// # Errors
    /// When the source can no longer be looked at.
    pub fn quiet(&self) -> Result<Quiet, PartError> {
        match &self.kept {
            Kept::Files { walk, marks } => {
                let (named, count) = files::changed_since(walk, marks)?;
                Ok(if count == 0 { Quiet::Quiet } else { Quiet::FilesChanged(named, count) })
            }
            Kept::Database { watched, source, .. } => {
                let written =
                    watched.was_written().map_err(|error| PartError::Sqlite { path: source.clone(), source: error })?;
                Ok(if written { Quiet::Written } else { Quiet::Quiet })
            }
            Kept::Output { .. } | Kept::Folder { .. } => Ok(Quiet::Unknown),
        }
    }

    /// Stores what is not in the store yet, and judges the capture.
    ///
    /// # Errors
    /// When it could not be stored, or is not what it must be.
    pub fn store(
        &mut self,
        part: &PlannedPart,
        deposit: &mut Deposit<'_>,
        last: Option<&Capture>,
    ) -> Result<(), PartError> {
        if !matches!(self.kept, Kept::Files { .. }) {
            self.store_kept(part, deposit)?;
        }
        let capture = &mut self.capture;
        if capture.counts.bytes == 0 && !matches!(self.kept, Kept::Files { .. }) {
            capture.warnings.push("it has no bytes in it".to_owned());
        }
        let judgement = drift::judge(&part.spec, capture, last);
        capture.warnings.extend(judgement.warnings);
        match judgement.failures.as_slice() {
            [] => Ok(()),
            failures => Err(PartError::Other(failures.join("; "))),
        }
    }

    /// Stores what lies in the private folder.
    fn store_kept(&mut self, part: &PlannedPart, deposit: &mut Deposit<'_>) -> Result<(), PartError> {
        let wanted = Wanted::new(&part.spec.holds, std::iter::empty());
        let mut lister = Lister::new(&self.marks, self.scratch.join("marks.jsonl"), wanted, deposit)?;
        match &self.kept {
            Kept::Files { .. } => {}
            Kept::Database { copy, source, .. } => {
                self.capture.facts.extend(sqlite::examine(copy)?);
                stored::file(copy, name_of(source), Some(source), Cut::Pages, &mut lister, deposit)?;
            }
            Kept::Output { path, gives: Gives::Tar } => stored::tar(path, &mut lister, deposit)?,
            Kept::Output { path, gives: Gives::Bytes } => {
                let name = PathName::new(crate::state::file_name(&part.name));
                stored::file(path, name, None, Cut::Contents, &mut lister, deposit)?;
            }
            Kept::Folder { path } => stored::folder(path, &mut lister, deposit)?,
        }
        let listed = lister.finish(deposit)?;
        self.capture.listing = Some(listed.listing);
        self.capture.counts = listed.counts;
        self.new_marks = Some(listed.marks);
        Ok(())
    }

    /// The new marks and where they belong, to be put there when the run is recorded.
    pub fn new_marks(&self) -> Option<(&Path, &Path)> {
        let new = match &self.kept {
            Kept::Files { marks, .. } => marks,
            _ => self.new_marks.as_ref()?,
        };
        Some((new, &self.marks))
    }
}
