//! A part on its way: secured while the application is held, stored afterwards.

use std::collections::VecDeque;
use std::fs;
use std::path::{Path, PathBuf};

use gullet_store::listing::PathName;
use gullet_store::{Cut, Deposit, Deposited, PathError, StoreError, free_space};
use jiff::Timestamp;

use super::files::Known;
use super::lister::{Listed, Lister};
use super::marks::{Filesystems, MadeMarks, Marks};
use super::owners::Owners;
use super::pending::{Copies, Extra, store_staged};
use super::seen::Seen;
use super::server::of_part;
use super::staging::Staging;
use super::walk::{Walk, name_of};
use super::wanted::Wanted;
use super::{drift, files, http, mariadb, outside, postgres, produce, sqlite, stored};
use crate::engine;
use crate::plan::{Plan, PlannedPart};
use gullet_host::hook::{Cancellation, Notes, Runner};
use gullet_host::world::World;
use gullet_model::definition::{CaptureMethod, Empty, Gives, PartKind};
use gullet_model::record::{Capture, Counts, Layout, Root, SecuredBy};
use gullet_model::step::CommandReport;
use gullet_model::words::{chain, millis};

/// With `capture_method = "auto"` so many bytes of a part are copied privately while the application is held, at most. Up to there a
/// copy stays in memory and is quicker than storing at once; beyond it is not, and would have to be written twice.
const MOST_COPIED: u64 = 1 << 30;
/// How often a capture whose `stable` fact changed is taken again.
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
    /// The marks of the last capture are damaged.
    #[error(
        "this machine's own notes of the last capture were damaged; they are removed, and the next run reads everything"
    )]
    MarksGone,
    /// The run was asked to stop, or the hold must be left.
    #[error("stopped before it was done")]
    Stopped,
    /// Anything else, in words.
    #[error("{0}")]
    Other(String),
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
pub struct CaptureContext<'a, 'd> {
    /// The outside world.
    pub world: World<'a>,
    /// The plan that is being executed.
    pub plan: &'a Plan,
    /// Runs commands.
    pub runner: &'a Runner<'a>,
    /// What may end it early.
    pub patience: Cancellation<'a>,
    /// Takes chunks.
    pub deposit: &'a mut Deposit<'d>,
    /// Told how many files and bytes were seen.
    pub progress: &'a mut dyn FnMut(u64, u64),
    /// A private folder for this part alone.
    pub scratch: PathBuf,
    /// Where the marks of this part's last capture are.
    pub marks: PathBuf,
    /// What is known of the sources' filesystems.
    pub grounds: &'a mut Filesystems,
    /// Snapshots and clones.
    pub staging: &'a mut Staging,
    /// Whether the application is held meanwhile.
    pub in_hold: bool,
    /// Whether the source is written to meanwhile, and something else makes what is captured fit together.
    pub is_live: bool,
    /// The copy of the part that was made before the hold.
    pub warm: Option<&'a WarmCopy>,
    /// The part's capture in the last good run.
    pub last: Option<&'a Capture>,
    /// Whether marks are distrusted.
    pub reread: bool,
    /// Every process that was run.
    pub commands: Vec<CommandReport>,
    /// What those processes noted.
    pub notes: Notes,
}

impl CaptureContext<'_, '_> {
    /// # Errors
    /// [`PartError::Stopped`] when it is time to stop.
    pub(super) fn check_stop(&self) -> Result<(), PartError> {
        if self.patience.is_over(self.world.clock) { Err(PartError::Stopped) } else { Ok(()) }
    }

    /// What earlier captures know of the part's files.
    pub(super) fn known(&self) -> Known {
        Known { last: Marks::open(&self.marks), warm: self.warm.map(|warm| warm.marks.clone()), by_one: false }
    }

    /// Whether sources may be cloned rather than read at once: it saves time of the hold.
    pub(super) fn may_clone(&self) -> bool {
        self.in_hold && self.plan.secure() != CaptureMethod::Stream
    }

    /// How much may be copied privately.
    pub(super) fn may_copy(&self) -> u64 {
        match self.plan.secure() {
            _ if !self.in_hold => 0,
            CaptureMethod::Copy => u64::MAX,
            CaptureMethod::Stream => 0,
            CaptureMethod::Auto | CaptureMethod::Snapshot => {
                let free = free_space(&self.scratch).unwrap_or(0);
                MOST_COPIED.min(free / 2)
            }
        }
    }
}

/// The copy of a part that was made before the hold.
pub struct WarmCopy {
    /// Its marks.
    marks: Marks,
    /// What it read and stored.
    counts: Counts,
}

/// Copies a part before the hold, so that in the hold only what changed since need be read.
///
/// # Errors
/// When it cannot be read or stored. Nothing is lost by it: the hold then has more to do.
pub fn warm(part: &PlannedPart, context: &mut CaptureContext<'_, '_>) -> Result<WarmCopy, PartError> {
    gullet_host::state::private_folder(&context.scratch)?;
    let marks = context.scratch.with_extension("warm");
    let walk = Walk::of_files(part, context.plan).passing_over(context.staging.folders());
    let last = Marks::open(&context.marks);
    let (marks, counts) = files::warm(&walk, last, marks, context)?;
    Ok(WarmCopy { marks, counts })
}

impl WarmCopy {
    /// Files seen and bytes read.
    pub fn amount(&self) -> (u64, u64) {
        (self.counts.files, self.counts.bytes_read)
    }
}

/// What was secured and waits to be stored.
enum StagedData {
    /// It is in the store already.
    Files { walk: Walk, seen: Seen },
    /// Clones and copies of files, with what is known of each in `pending`.
    Staged { walk: Walk, seen: Option<Seen>, known: Known, pending: PathBuf, copies: PathBuf, extras: VecDeque<Extra> },
    /// Files that are read through a snapshot.
    Seen { walk: Walk },
    /// A copy of a database.
    Database { copied: sqlite::Copied, source: PathBuf, watched: sqlite::Watched },
    /// What a command printed.
    Output { path: PathBuf, gives: Gives },
    /// What an export wrote.
    Folder { path: PathBuf },
    /// Databases whose state the server keeps until they are exported.
    Pinned { databases: Box<postgres::Databases>, path: PathBuf },
    /// What is kept by another system.
    Outside,
}

/// A part that is secured.
pub struct CapturedPart {
    /// The capture as far as it is known.
    pub capture: Capture,
    kept: StagedData,
    /// The part's private folder.
    scratch: PathBuf,
    /// Where its marks belong when the run is recorded.
    marks: PathBuf,
    /// Where they are until then, once it is stored.
    new_marks: Option<MadeMarks>,
}

/// Secures a part.
///
/// # Errors
/// When it could not be captured.
pub fn secure(part: &PlannedPart, context: &mut CaptureContext<'_, '_>) -> Result<CapturedPart, PartError> {
    let started = context.world.clock.now();
    let began = context.world.clock.uptime();
    let mut secured = match &part.spec.stable {
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
    capture.omits.append(&mut context.notes.omits);
    capture.warnings.append(&mut context.notes.warnings);
    let took = context.world.clock.uptime().saturating_sub(began);
    capture.took_ms = millis(took);
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
        PartKind::Export if !spec.collect.is_empty() => Layout::Source,
        PartKind::Postgres | PartKind::Mariadb if spec.sources().next().is_some() => Layout::Source,
        _ => Layout::Export,
    };
    Capture {
        part: part.name.clone(),
        each_of: part.each_of.clone(),
        each: part.values.clone(),
        kind: spec.kind(),
        required: spec.required,
        problem: None,
        started,
        when: spec.when.unwrap_or_default(),
        secured: None,
        took_ms: 0,
        layout,
        roots: Vec::new(),
        listing: None,
        counts: Counts::default(),
        facts: Default::default(),
        omits: spec.omits.clone(),
        after_restore: spec.after_restore.clone(),
        users: Vec::new(),
        groups: Vec::new(),
        outside: None,
        warnings: Vec::new(),
        left_out: Vec::new(),
        unreadable: 0,
    }
}

/// A capture of which nothing is known but what the definition of its part says, for tests.
#[cfg(test)]
pub(crate) fn blank_of(toml: &str, started: Timestamp) -> Capture {
    #[allow(clippy::unwrap_used, reason = "a test that cannot go on should panic")]
    let spec: gullet_model::definition::Part = toml::from_str(&format!("name = \"bookings\"\n{toml}")).unwrap();
    let name = spec.name.clone();
    blank(&PlannedPart { name, each_of: None, values: Default::default(), spec, claimed: Vec::new() }, started)
}

/// Attempts to secure a part; once more, without marks, where those are damaged.
fn attempt(
    part: &PlannedPart,
    context: &mut CaptureContext<'_, '_>,
    started: Timestamp,
) -> Result<CapturedPart, PartError> {
    match attempt_once(part, context, started) {
        Err(PartError::MarksGone) => {
            drop_marks(&context.marks);
            attempt_once(part, context, started)
        }
        other => other,
    }
}

fn drop_marks(marks: &Path) {
    // Where they cannot be removed either, the part fails again, and says why.
    let _ = fs::remove_file(marks);
}

fn attempt_once(
    part: &PlannedPart,
    context: &mut CaptureContext<'_, '_>,
    started: Timestamp,
) -> Result<CapturedPart, PartError> {
    if context.scratch.exists() {
        fs::remove_dir_all(&context.scratch).map_err(|error| PathError::new(&context.scratch, error))?;
    }
    gullet_host::state::private_folder(&context.scratch)?;
    let mut capture = blank(part, started);
    let mut new_marks = None;
    let kept = match part.spec.kind() {
        PartKind::Files => {
            let walk = Walk::of_files(part, context.plan).passing_over(context.staging.folders());
            of_walk(part, walk, &mut capture, &mut new_marks, context)?
        }
        PartKind::Export => {
            let path = produce::export(part, context)?;
            if part.spec.collect.is_empty() {
                StagedData::Folder { path }
            } else {
                let walk = Walk::of_take(part, context.plan).passing_over(context.staging.folders());
                secured_walk(part, walk, &mut capture, &mut new_marks, context)?
            }
        }
        PartKind::Command => {
            let path = produce::command(part, context)?;
            StagedData::Output { path, gives: part.spec.output.unwrap_or(Gives::Bytes) }
        }
        PartKind::Sqlite => {
            let source = part.spec.sqlite.clone().unwrap_or_default();
            let copy = sqlite::copy_path(&context.scratch);
            let seen = context.staging.seen(&source).filter(|_| context.in_hold);
            let (watched, copied) = sqlite::secure(&source, seen, &copy, context)?;
            capture.secured = Some(match &copied {
                sqlite::Copied::From(_) => SecuredBy::Snapshot,
                sqlite::Copied::At(path) if *path != copy => SecuredBy::Clone,
                sqlite::Copied::At(_) => SecuredBy::Copy,
            });
            capture.roots = vec![Root { path: source.display().to_string(), filesystem: String::new() }];
            let mut owners = Owners::default();
            owners.see(&fs::metadata(&source).map_err(|error| PathError::new(&source, error))?);
            (capture.users, capture.groups) = owners.named();
            StagedData::Database { copied, source, watched }
        }
        PartKind::Postgres => of_postgres(part, &mut capture, context)?,
        PartKind::Mariadb => of_mariadb(part, &mut capture, &mut new_marks, context)?,
        PartKind::Http => {
            let spec = part.spec.http.clone().unwrap_or_default();
            let path = http::fetch(part, &spec, &mut capture, context)?;
            StagedData::Output { path, gives: part.spec.output.unwrap_or(Gives::Bytes) }
        }
        PartKind::Outside => {
            let spec = part.spec.outside.clone().unwrap_or_default();
            capture.outside = Some(outside::begin(part, &spec, context)?);
            StagedData::Outside
        }
    };
    let (scratch, marks) = (context.scratch.clone(), context.marks.clone());
    Ok(CapturedPart { capture, kept, scratch, marks, new_marks })
}

fn of_postgres(
    part: &PlannedPart,
    capture: &mut Capture,
    context: &mut CaptureContext<'_, '_>,
) -> Result<StagedData, PartError> {
    let spec = of_part(&part.spec.postgres.clone().unwrap_or_default(), part);
    let server = engine::postgres::Server::of(&spec, context.world)?;
    let Some(cluster) = &spec.cluster else {
        let databases = postgres::Databases::pin(&spec, server, context)?;
        capture.secured = Some(SecuredBy::View);
        return Ok(StagedData::Pinned { databases: Box::new(databases), path: context.scratch.join("export") });
    };
    let made = postgres::capture_cluster(part, &server, cluster, capture, context)?;
    check_roots(part, &made.counts, &made.looked.roots, context.last)?;
    (capture.counts, capture.secured) = (made.counts, made.by);
    note_look(capture, made.looked);
    let postgres::Cluster { walk, known, pending, copies, extras, .. } = made;
    Ok(StagedData::Staged { walk, seen: None, known, pending, copies, extras })
}

fn of_mariadb(
    part: &PlannedPart,
    capture: &mut Capture,
    new_marks: &mut Option<MadeMarks>,
    context: &mut CaptureContext<'_, '_>,
) -> Result<StagedData, PartError> {
    let spec = of_part(&part.spec.mariadb.clone().unwrap_or_default(), part);
    let Some(datadir) = &spec.datadir else {
        let server = engine::mariadb::Server::of(&spec, context.world)?;
        let path = context.scratch.join("export");
        mariadb::export(&spec, &server, &path, capture, context)?;
        return Ok(StagedData::Folder { path });
    };
    mariadb::is_sound(datadir, context)?;
    let walk = mariadb::walk(datadir, part, context.plan).passing_over(context.staging.folders());
    let kept = of_walk(part, walk, capture, new_marks, context)?;
    // A server that was started meanwhile.
    mariadb::is_sound(datadir, context)?;
    Ok(kept)
}

/// Secures files through a snapshot where there is one, else by themselves.
fn of_walk(
    part: &PlannedPart,
    mut walk: Walk,
    capture: &mut Capture,
    new_marks: &mut Option<MadeMarks>,
    context: &mut CaptureContext<'_, '_>,
) -> Result<StagedData, PartError> {
    let staging = &context.staging;
    if context.in_hold && !part.spec.cross_mounts && walk.look_through(|root| staging.seen(root)) {
        capture.secured = Some(SecuredBy::Snapshot);
        return Ok(StagedData::Seen { walk });
    }
    secured_walk(part, walk, capture, new_marks, context)
}

/// Secures files by clones and copies where that saves time of the hold, else by reading them into the store at once.
fn secured_walk(
    part: &PlannedPart,
    walk: Walk,
    capture: &mut Capture,
    new_marks: &mut Option<MadeMarks>,
    context: &mut CaptureContext<'_, '_>,
) -> Result<StagedData, PartError> {
    let known = context.known();
    if context.may_clone() {
        let pending = context.scratch.join("pending.jsonl");
        let copies = context.scratch.join("copies");
        let most = context.may_copy();
        let made = files::stage(&walk, &known, pending.clone(), Copies::new(copies.clone(), most), context)?;
        let (counts, looked, by) = made;
        check_roots(part, &counts, &looked.roots, context.last)?;
        (capture.counts, capture.secured) = (counts, by);
        let seen = Some(note_look(capture, looked));
        return Ok(StagedData::Staged { walk, seen, known, pending, copies, extras: VecDeque::new() });
    }
    let marks = context.scratch.join("marks");
    let wanted = Wanted::new(&part.spec.must_contain, walk.roots().iter().map(PathBuf::as_path));
    let (listed, looked) = files::capture(&walk, &known, marks, wanted, context)?;
    check_roots(part, &listed.counts, &looked.roots, context.last)?;
    capture.listing = Some(listed.listing);
    capture.counts = listed.counts;
    *new_marks = listed.marks;
    let seen = note_look(capture, looked);
    Ok(StagedData::Files { walk, seen })
}

fn note_look(capture: &mut Capture, looked: files::Looked) -> Seen {
    capture.left_out = looked.left_out;
    capture.warnings.extend(looked.warnings);
    capture.unreadable = looked.unreadable;
    capture.roots = looked.roots;
    (capture.users, capture.groups) = looked.owners.named();
    looked.seen
}

/// Refuses what is most likely not what the definition means: nothing at all, or a root on another filesystem.
fn check_roots(part: &PlannedPart, counts: &Counts, roots: &[Root], last: Option<&Capture>) -> Result<(), PartError> {
    if part.spec.empty == Some(Empty::Ok) {
        return Ok(());
    }
    same_ground(roots, last)?;
    if counts.files + counts.others == 0 {
        return Err(PartError::Other(format!(
            "there is nothing in {} (say `empty = \"ok\"` if that may be)",
            part.source_text()
        )));
    }
    Ok(())
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
pub enum SourceChange {
    /// It was not.
    None,
    /// It cannot be told: nothing was read from the source by Gullet itself.
    Unknown,
    /// It does not matter: it was captured in an instant.
    Instant,
    /// It does not matter: its engine makes what was captured fit together.
    Engine,
    /// Files changed: the first of them, and how many.
    FilesChanged(Vec<String>, u64),
    /// The database was written to.
    Written,
}

impl CapturedPart {
    /// Looks whether the source was written to since. Asked while the application says that it is held, so that a yes
    /// means that it lied.
    ///
    /// # Errors
    /// When the source can no longer be looked at.
    pub fn quiet(&self) -> Result<SourceChange, PartError> {
        match &self.kept {
            StagedData::Files { walk, seen } | StagedData::Staged { walk, seen: Some(seen), .. } => {
                let (named, count) = seen.changed_since(walk)?;
                Ok(if count == 0 { SourceChange::None } else { SourceChange::FilesChanged(named, count) })
            }
            StagedData::Database { watched, source, .. } => {
                let written =
                    watched.was_written().map_err(|error| PartError::Sqlite { path: source.clone(), source: error })?;
                Ok(if written { SourceChange::Written } else { SourceChange::None })
            }
            StagedData::Seen { .. } => Ok(SourceChange::Instant),
            StagedData::Staged { .. } | StagedData::Pinned { .. } => Ok(SourceChange::Engine),
            StagedData::Output { .. } | StagedData::Folder { .. } | StagedData::Outside => Ok(SourceChange::Unknown),
        }
    }

    /// Stores what is not in the store yet, and judges the capture.
    ///
    /// # Errors
    /// When it could not be stored, or is not what it must be.
    pub fn store(&mut self, part: &PlannedPart, context: &mut CaptureContext<'_, '_>) -> Result<(), PartError> {
        let is_files =
            matches!(self.kept, StagedData::Files { .. } | StagedData::Staged { .. } | StagedData::Seen { .. });
        self.store_kept(part, context).inspect_err(|error| {
            if matches!(error, PartError::MarksGone) {
                drop_marks(&self.marks);
            }
        })?;
        let capture = &mut self.capture;
        if let Some(warm) = context.warm {
            capture.counts.bytes_read += warm.counts.bytes_read;
            capture.counts.bytes_new += warm.counts.bytes_new;
        }
        if capture.counts.bytes == 0 && !is_files && capture.outside.is_none() {
            capture.warnings.push("it has no bytes in it".to_owned());
        }
        let judgement = drift::judge(&part.spec, capture, context.last);
        capture.warnings.extend(judgement.warnings);
        match judgement.failures.as_slice() {
            [] => Ok(()),
            failures => Err(PartError::Other(failures.join("; "))),
        }
    }

    /// Stores what lies in private places.
    fn store_kept(&mut self, part: &PlannedPart, context: &mut CaptureContext<'_, '_>) -> Result<(), PartError> {
        let new_marks = self.scratch.join("marks");
        if let StagedData::Pinned { databases, path } = &self.kept {
            let path = path.clone();
            databases.export(&path, &mut self.capture, context)?;
            self.kept = StagedData::Folder { path };
        }
        let roots = match &self.kept {
            StagedData::Files { .. } => return Ok(()),
            StagedData::Seen { walk } => {
                let wanted = Wanted::new(&part.spec.must_contain, walk.roots().iter().map(PathBuf::as_path));
                let known = context.known();
                let (listed, looked) = files::capture(walk, &known, new_marks, wanted, context)?;
                check_roots(part, &listed.counts, &looked.roots, context.last)?;
                note_look(&mut self.capture, looked);
                self.listed(listed);
                return Ok(());
            }
            StagedData::Outside => {
                let spec = part.spec.outside.clone().unwrap_or_default();
                return match &mut self.capture.outside {
                    Some(proof) => outside::complete(part, &spec, proof, context),
                    None => Ok(()),
                };
            }
            StagedData::Staged { walk, .. } => walk.roots(),
            StagedData::Database { .. }
            | StagedData::Output { .. }
            | StagedData::Folder { .. }
            | StagedData::Pinned { .. } => &[],
        };
        let wanted = Wanted::new(&part.spec.must_contain, roots.iter().map(PathBuf::as_path));
        let last = match &self.kept {
            StagedData::Staged { known, .. } => known.last.clone(),
            _ => Marks::open(&self.marks),
        };
        let mut lister = Lister::new(last, new_marks, wanted, context.deposit)?;
        let deposit = &mut *context.deposit;
        match &mut self.kept {
            StagedData::Files { .. } | StagedData::Seen { .. } | StagedData::Pinned { .. } | StagedData::Outside => {}
            StagedData::Staged { known, pending, copies, extras, .. } => {
                let extras = std::mem::take(extras);
                let listed = store_staged(pending, copies, lister, known, extras, context)?;
                self.listed(listed);
                return Ok(());
            }
            StagedData::Database { copied, source, .. } => {
                let copy = sqlite::complete(copied, &sqlite::copy_path(&self.scratch))?;
                self.capture.facts.extend(sqlite::examine(&copy)?);
                stored::file(&copy, name_of(source), Some(source), Cut::Pages, &mut lister, deposit)?;
            }
            StagedData::Output { path, gives: Gives::Tar } => stored::tar(path, &mut lister, deposit)?,
            StagedData::Output { path, gives: Gives::Bytes } => {
                let name = PathName::new(gullet_host::state::file_name(&part.name));
                stored::file(path, name, None, Cut::Contents, &mut lister, deposit)?;
            }
            StagedData::Folder { path } => stored::folder(path, &mut lister, deposit)?,
        }
        let listed = lister.finish(deposit)?;
        self.listed(listed);
        Ok(())
    }

    fn listed(&mut self, listed: Listed) {
        self.capture.listing = Some(listed.listing);
        self.capture.counts = Counts { bytes_read: listed.counts.bytes_read + self.read_at_once(), ..listed.counts };
        self.new_marks = listed.marks;
    }

    /// Bytes that were read into the store in the hold, of what was otherwise staged.
    fn read_at_once(&self) -> u64 {
        if matches!(self.kept, StagedData::Staged { .. }) { self.capture.counts.bytes_read } else { 0 }
    }

    /// Puts the new marks in their place, now that the run is recorded.
    ///
    /// # Errors
    /// When they cannot be; everything is then read again by the next run, and nothing else is lost.
    pub fn keep_marks(&mut self, stored: &Deposited) -> Result<(), PathError> {
        self.new_marks.take().map_or(Ok(()), |marks| marks.keep(&self.marks, stored))
    }
}
