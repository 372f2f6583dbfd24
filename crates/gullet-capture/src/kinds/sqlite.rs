//! SQLite databases, copied through the engine's own online backup.
//!
//! The copy is made while the application is held: through the engine, or by cloning the database with its log where the
//! filesystem can, or afterwards from a snapshot; that it is sound, and how many rows it has, is found out from the copy
//! afterwards. The connection that was copied from stays open, so that it can tell whether somebody wrote meanwhile.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use gullet_store::{Cut, IoPath};
use rusqlite::backup::{Backup, StepResult};
use rusqlite::{Connection, OpenFlags};

use super::{KindSteps, SourceKind};
use crate::part::context::{CaptureContext, PartError};
use crate::part::marks::MadeMarks;
use crate::part::owners::Owners;
use crate::part::staged::{self, SourceChange, Staged};
use crate::part::walk::name_of;
use crate::part::{Survey, rows, stored};
use crate::plan::{Plan, PlannedPart, beside};
use gullet_model::definition::SqliteSource;
use gullet_model::record::{Capture, Layout, Root, SecuredBy};
use gullet_model::step::Facts;

/// Pages copied between two looks at the clock.
const PAGES_A_STEP: i32 = 4000;
/// How long a lock of the application's is waited for.
const BUSY: Duration = Duration::from_secs(30);

impl SourceKind for SqliteSource {
    fn describe(&self, _: &PlannedPart) -> String {
        self.path.display().to_string()
    }

    fn layout(&self) -> Layout {
        Layout::Source
    }

    fn staged_paths(&self) -> Vec<&PathBuf> {
        vec![&self.path]
    }

    fn survey(&self, _: &PlannedPart, _: &Plan) -> Option<Survey> {
        let mut survey = Survey::default();
        match fs::metadata(&self.path) {
            Ok(meta) => (survey.files, survey.bytes, survey.allocated) = (1, meta.len(), meta.len()),
            Err(error) => survey.problem = Some(format!("{}: {error}", self.path.display())),
        }
        Some(survey)
    }

    fn steps(&self, part: &PlannedPart) -> KindSteps {
        KindSteps::of_source(self.describe(part))
    }

    fn capture(
        &self,
        _: &PlannedPart,
        capture: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Box<dyn Staged>, PartError> {
        let source = self.path.clone();
        let copy = copy_path(&context.scratch);
        let seen = context.staging.seen(&source).filter(|_| context.in_hold);
        let (watched, copied) = secure(&source, seen, &copy, context)?;
        capture.secured = Some(match &copied {
            Copied::From(_) => SecuredBy::Snapshot,
            Copied::At(path) if *path != copy => SecuredBy::Clone,
            Copied::At(_) => SecuredBy::Copy,
        });
        capture.roots = vec![Root { path: source.display().to_string(), filesystem: String::new() }];
        let mut owners = Owners::default();
        owners.see(&fs::metadata(&source).at(&source)?);
        (capture.users, capture.groups) = owners.named();
        Ok(Box::new(CopiedDatabase { copied, source, watched }))
    }
}

/// A copy of a database that waits to be stored.
struct CopiedDatabase {
    copied: Copied,
    source: PathBuf,
    watched: Watched,
}

impl Staged for CopiedDatabase {
    fn source_change(&self) -> Result<SourceChange, PartError> {
        let written = self.watched.was_written().map_err(wrap(&self.source))?;
        Ok(if written { SourceChange::Written } else { SourceChange::None })
    }

    fn store(
        &mut self,
        part: &PlannedPart,
        capture: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Option<MadeMarks>, PartError> {
        let mut lister = staged::lister(part, context)?;
        let copy = complete(&self.copied, &copy_path(&context.scratch))?;
        capture.facts.extend(examine(&copy)?);
        let name = name_of(&self.source);
        stored::file(&copy, name, Some(&self.source), Cut::Pages, &mut lister, context.deposit)?;
        staged::finish(lister, capture, context)
    }
}

/// A database that was copied and is still watched.
struct Watched {
    connection: Connection,
    version: i64,
}

fn wrap(path: &Path) -> impl Fn(rusqlite::Error) -> PartError + '_ {
    |source| PartError::Sqlite { path: path.to_path_buf(), source }
}

/// Where a copy of a database is.
enum Copied {
    /// Here; its log may lie beside it.
    At(PathBuf),
    /// It is still to be made, from the snapshot that shows the database here.
    From(PathBuf),
}

/// Secures the database at `from`: through the snapshot that shows it at `seen`, by cloning it, or by copying it to the new
/// file `to`.
fn secure(
    from: &Path,
    seen: Option<PathBuf>,
    to: &Path,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(Watched, Copied), PartError> {
    let meta = fs::metadata(from).at(from)?;
    if meta.len() == 0 {
        return Err(PartError::failed(format!("`{}` is empty: it is not a database yet", from.display())));
    }
    let wrap = wrap(from);
    let source = open_source(from).map_err(&wrap)?;
    // A read transaction pins one state of the database for all that follows: nobody can write pages of it (with a
    // journal), nor start its log anew (with a log).
    source.execute_batch("begin; select count(*) from sqlite_schema;").map_err(&wrap)?;
    let version = data_version(&source).map_err(&wrap)?;
    let copied = match seen {
        Some(seen) => Copied::From(seen),
        None => match clone(from, &meta, context)? {
            Some(clone) => Copied::At(clone),
            None => {
                copy(&source, from, &meta, to, context)?;
                Copied::At(to.to_path_buf())
            }
        },
    };
    source.execute_batch("commit").map_err(&wrap)?;
    Ok((Watched { connection: source, version }, copied))
}

/// Clones a database, and then its write-ahead log: the engine plays what the log has more than the database when it opens the clone.
fn clone(from: &Path, meta: &fs::Metadata, context: &mut CaptureContext<'_, '_>) -> Result<Option<PathBuf>, PartError> {
    if !context.may_clone() {
        return Ok(None);
    }
    let file = fs::File::open(from).at(from)?;
    let Some(database) = context.staging.clone_file(&file, meta.dev())? else { return Ok(None) };
    let log = beside(from, "-wal");
    if fs::metadata(&log).is_ok_and(|meta| meta.len() > 0) {
        let file = fs::File::open(&log).at(&log)?;
        let Some(clone) = context.staging.clone_file(&file, meta.dev())? else { return Ok(None) };
        let place = beside(&database, "-wal");
        fs::rename(&clone, &place).at(&place)?;
    }
    Ok(Some(database))
}

/// Makes the copy that is still to be made, into the new file `to`, and has the engine put a log that lies beside the copy
/// into it. Gives where the copy is.
fn complete(copied: &Copied, to: &Path) -> Result<PathBuf, PartError> {
    let copy = match copied {
        Copied::At(copy) => copy.clone(),
        Copied::From(seen) => {
            for suffix in ["", "-wal", "-journal"] {
                let (from, to) = (beside(seen, suffix), beside(to, suffix));
                if suffix.is_empty() || from.exists() {
                    fs::copy(&from, &to).at(&from)?;
                }
            }
            to.to_path_buf()
        }
    };
    if beside(&copy, "-wal").exists() || beside(&copy, "-journal").exists() {
        let wrap = wrap(&copy);
        let database = Connection::open(&copy).map_err(&wrap)?;
        // Reading plays a journal back; a log is put into the database and removed when the last connection closes.
        database.query_row("select count(*) from sqlite_schema", [], |row| row.get::<_, i64>(0)).map_err(&wrap)?;
        database.query_row("pragma wal_checkpoint(truncate)", [], |row| row.get::<_, i64>(0)).map_err(&wrap)?;
        database.close().map_err(|(_, error)| wrap(error))?;
    }
    Ok(copy)
}

/// Copies the database at `from`, open as `source`, to the new file `to`.
fn copy(
    source: &Connection,
    from: &Path,
    meta: &fs::Metadata,
    to: &Path,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(), PartError> {
    let wrap = wrap(from);
    let mut target = Connection::open(to).map_err(&wrap)?;
    target.execute_batch("pragma journal_mode = off; pragma synchronous = off;").map_err(&wrap)?;
    {
        let backup = Backup::new(source, &mut target).map_err(&wrap)?;
        loop {
            context.check_stop()?;
            match backup.step(PAGES_A_STEP).map_err(&wrap)? {
                StepResult::Done => break,
                StepResult::More => {
                    let progress = backup.progress();
                    let done = u64::try_from(progress.pagecount - progress.remaining).unwrap_or(0);
                    let pages = u64::try_from(progress.pagecount).unwrap_or(1).max(1);
                    (context.progress)(0, meta.len() / pages * done);
                }
                _ => context.world.clock.sleep(Duration::from_millis(20)),
            }
        }
    }
    Ok(())
}

fn open_source(path: &Path) -> rusqlite::Result<Connection> {
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connection = Connection::open_with_flags(path, flags)?;
    connection.busy_timeout(BUSY)?;
    Ok(connection)
}

/// Changes when another connection has written (sqlite.org/pragma.html#pragma_data_version).
fn data_version(connection: &Connection) -> rusqlite::Result<i64> {
    connection.query_row("pragma data_version", [], |row| row.get(0))
}

impl Watched {
    /// Whether somebody wrote to the database since it was copied.
    fn was_written(&self) -> rusqlite::Result<bool> {
        Ok(data_version(&self.connection)? != self.version)
    }
}

/// Checks a copy with the engine's own integrity check, and counts its tables and rows.
pub fn examine(copy: &Path) -> Result<Facts, PartError> {
    let wrap = wrap(copy);
    // Immutable: looking must not leave a log beside the copy, nor change it.
    let uri = format!("file:{}?immutable=1", uri_path(copy));
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let database = Connection::open_with_flags(uri, flags).map_err(&wrap)?;
    let mut query = database.prepare("pragma integrity_check(5)").map_err(&wrap)?;
    let problems = query.query_map([], |row| row.get::<_, String>(0)).map_err(&wrap)?;
    let problems: Vec<String> = problems.collect::<Result<_, _>>().map_err(&wrap)?;
    if problems != ["ok"] {
        return Err(PartError::failed(format!("the engine's integrity check fails: {}", problems.join("; "))));
    }
    let list =
        "select name from sqlite_schema where type = 'table' and name not like 'sqlite\\_%' escape '\\' order by name";
    let mut query = database.prepare(list).map_err(&wrap)?;
    let names = query.query_map([], |row| row.get::<_, String>(0)).map_err(&wrap)?;
    let names: Vec<String> = names.collect::<Result<_, _>>().map_err(&wrap)?;
    let mut facts = Facts::new();
    let count = |name: &String| {
        let count = format!("select count(*) from \"{}\"", name.replace('"', "\"\""));
        // A virtual table whose module is not here cannot be counted; its contents lie in other tables.
        database.query_row(&count, [], |row| row.get::<_, i64>(0)).ok().map(|count| (name.clone(), count))
    };
    rows::add_rows(names.iter().filter_map(count), &mut facts);
    facts.insert("tables".to_owned(), names.len().into());
    Ok(facts)
}

/// A path in a `file:` URI (sqlite.org/uri.html).
fn uri_path(path: &Path) -> String {
    let text = path.to_string_lossy();
    text.replace('%', "%25").replace('?', "%3f").replace('#', "%23")
}

/// Where the copy of a part's database lies in the run's private folder.
fn copy_path(scratch: &Path) -> PathBuf {
    scratch.join("copy.db")
}
