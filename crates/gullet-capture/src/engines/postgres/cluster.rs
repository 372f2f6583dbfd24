//! The whole cluster, file by file, while the server is in its backup mode and goes on working.
//!
//! Such files fit together only with the label that the server gives at the end and the write-ahead log from the label's
//! beginning to that end (postgresql.org/docs/current/continuous-archiving.html, "Making a Base Backup Using the Low Level
//! API"). A copy without its label starts without a complaint and is wrong.

use std::collections::VecDeque;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use gullet_store::listing::PathName;
use gullet_store::{IoPath, PathError};

use super::client::{PostgresServer, PostgresSession, literal};
use crate::engines::{EngineError, Waiting};
use crate::part::context::{CaptureContext, PartError};
use crate::part::files::{self, PriorState, WalkFindings};
use crate::part::pending::{Copies, Extra};
use crate::part::walk::{Walk, name_of};
use crate::plan::{Plan, PlannedPart};
use gullet_model::record::{Capture, Counts, SecuredBy};

/// What a server makes anew when it starts: the documentation names it.
const MADE_ANEW: [&str; 10] = [
    "/pg_dynshmem/*",
    "/pg_notify/*",
    "/pg_replslot/*",
    "/pg_serial/*",
    "/pg_snapshots/*",
    "/pg_stat_tmp/*",
    "/pg_subtrans/*",
    "pgsql_tmp*",
    "pg_internal.init*",
    "postmaster.*",
];
/// Names that the walk passes over: the log, the label and the map are captured separately, and some may lie there from an earlier copy.
const APART: [&str; 5] = ["pg_wal", "backup_label", "backup_label.old", "tablespace_map", "tablespace_map.old"];

/// The files of a cluster and of its tablespaces.
pub(crate) fn walk(cluster: &Path, tablespaces: &[PathBuf], part: &PlannedPart, plan: &Plan) -> Walk {
    let roots = [cluster.to_path_buf()].into_iter().chain(tablespaces.iter().cloned()).collect();
    let apart = APART.map(|name| cluster.join(name));
    Walk::of_server(roots, &MADE_ANEW, true, (part, plan)).passing_over(apart.iter().map(PathBuf::as_path))
}

/// A cluster that was captured, and is not listed yet.
pub(crate) struct Cluster {
    pub(crate) walk: Walk,
    pub(crate) known: PriorState,
    pub(crate) pending: PathBuf,
    pub(crate) copies: PathBuf,
    /// The label, the map and the log.
    pub(crate) extras: VecDeque<Extra>,
    pub(crate) counts: Counts,
    pub(crate) looked: WalkFindings,
    pub(crate) by: Option<SecuredBy>,
}

/// What can be known beforehand.
pub(crate) fn check(server: &PostgresServer, cluster: &Path, waiting: Waiting<'_>) -> Result<String, PartError> {
    let session = server.connect("postgres", waiting)?;
    session.version(waiting)?;
    let may = "select has_function_privilege('pg_backup_start(text, boolean)', 'execute') \
               and has_function_privilege('pg_backup_stop(boolean)', 'execute')";
    if session.value(may, waiting)? != "t" {
        let text = format!("the role `{}` may not put the server into backup mode", server.login.user);
        return Err(PartError::failed(format!(
            "{text} (grant execute on pg_backup_start and pg_backup_stop, or use a superuser)"
        )));
    }
    let about = About::ask(&session, cluster, waiting)?;
    let version = fs::read_to_string(cluster.join("PG_VERSION")).at(cluster.join("PG_VERSION"))?;
    Ok(format!("PostgreSQL {} at {}, in {}", version.trim(), server.describe(), about.folder))
}

/// What the server says of itself.
struct About {
    folder: String,
    version: u32,
    system: String,
    segment: u64,
    tablespaces: Vec<PathBuf>,
    /// Its settings files, as far as this role is told of them.
    settings: Vec<PathBuf>,
}

impl About {
    fn ask(session: &PostgresSession, cluster: &Path, waiting: Waiting<'_>) -> Result<Self, PartError> {
        let version = session.version(waiting)?;
        let sql = "select pg_is_in_recovery(), current_setting('data_directory'), \
                   (select system_identifier from pg_control_system()), \
                   pg_size_bytes(current_setting('wal_segment_size'))";
        let row = session.row(sql, waiting)?;
        let [recovery, folder, system, segment] = row.as_slice() else {
            return Err(PartError::failed("the server does not say where its files are"));
        };
        if recovery == "t" {
            let text = "the server is a standby, which copies another one: capture that one".to_owned();
            return Err(PartError::failed(text));
        }
        let own = fs::canonicalize(cluster).at(cluster)?;
        if fs::canonicalize(folder).ok().as_ref() != Some(&own) {
            let text = format!("the server works in `{folder}`, not in `{}`: is it another one?", cluster.display());
            return Err(PartError::failed(text));
        }
        let sql = "select pg_tablespace_location(oid) from pg_tablespace where pg_tablespace_location(oid) <> ''";
        let paths =
            |sql| Ok::<_, EngineError>(session.rows(sql, waiting)?.into_iter().flatten().flatten().map(PathBuf::from));
        let tablespaces = paths(sql)?.collect();
        let sql =
            "select setting from pg_settings where name in ('config_file', 'hba_file', 'ident_file') and setting <> ''";
        let settings = paths(sql)?.collect();
        let segment = segment.parse().ok().filter(|size| *size > 0);
        let segment = segment.ok_or_else(|| PartError::failed("the server does not say how long its log files are"))?;
        Ok(Self { folder: folder.clone(), version, system: system.clone(), segment, tablespaces, settings })
    }
}

/// Captures the files of the server at `cluster`, in its backup mode.
pub(crate) fn capture_cluster(
    part: &PlannedPart,
    server: &PostgresServer,
    cluster: &Path,
    capture: &mut Capture,
    context: &mut CaptureContext<'_, '_>,
) -> Result<Cluster, PartError> {
    let waiting = context.waiting();
    let session = server.connect("postgres", waiting)?;
    let about = About::ask(&session, cluster, waiting)?;
    // A slot keeps the log from being used again until it is copied. It ends with the session.
    let slot =
        format!("gullet_{}", context.runner.run.replace(|c: char| !c.is_ascii_alphanumeric(), "_").to_lowercase());
    let slot =
        session.rows(&format!("select pg_create_physical_replication_slot({}, true, true)", literal(&slot)), waiting);
    let kept = match slot {
        Ok(_) => true,
        Err(EngineError::Stopped) => return Err(PartError::Stopped),
        Err(_) => false,
    };
    let label = literal(&format!("gullet run {}", context.runner.run));
    session.rows(&format!("select pg_backup_start({label}, fast => true)"), waiting)?;
    let copied = copy_files(part, cluster, &about, context);
    let stopped = copied.and_then(|copied| Ok((copied, stop(&session, waiting)?)));
    let ((walk, known, pending, copies, (counts, looked, by)), end) = stopped?;
    let wal = Wal { cluster, start: end.start_file()?, stop: end.stop_file.clone(), segment: about.segment };
    let extras = extras(cluster, &end, &wal, context)?;
    drop(session);
    let facts = &mut capture.facts;
    let timeline = i64::from_str_radix(end.stop_file.get(..8).unwrap_or("0"), 16).unwrap_or(0);
    facts.insert("server_version".to_owned(), (about.version / 10_000).into());
    facts.insert("system_identifier".to_owned(), about.system.clone().into());
    facts.insert("timeline".to_owned(), timeline.into());
    facts.insert("start_lsn".to_owned(), end.start_lsn().unwrap_or_default().into());
    facts.insert("stop_lsn".to_owned(), end.lsn.clone().into());
    facts.insert("log_files".to_owned(), wal.names()?.len().into());
    if !kept {
        // The log was there all the same: it was looked for, file by file.
        let text =
            "the server gave no replication slot, so nothing kept its log from being used again meanwhile; it was not";
        context.notes.warnings.push(format!("{text} (let the role replicate, and `max_replication_slots` be above 0)"));
    }
    settings(cluster, &about.settings, part, capture, context);
    if !about.tablespaces.is_empty() {
        let named: Vec<String> = about.tablespaces.iter().map(|path| path.display().to_string()).collect();
        capture.after_restore.push(format!(
            "before the restored server is started: set in its `tablespace_map` where the tablespaces were restored to; it \
             names the live ones ({})",
            named.join(", ")
        ));
    }
    Ok(Cluster { walk, known, pending, copies, extras, counts, looked, by })
}

type Copied = (Walk, PriorState, PathBuf, PathBuf, (Counts, WalkFindings, Option<SecuredBy>));

fn copy_files(
    part: &PlannedPart,
    cluster: &Path,
    about: &About,
    context: &mut CaptureContext<'_, '_>,
) -> Result<Copied, PartError> {
    let walk = walk(cluster, &about.tablespaces, part, context.plan).passing_over(context.staging.folders());
    let known = PriorState { by_one: true, ..context.known() };
    let (pending, copies) = (context.scratch.join("pending.jsonl"), context.scratch.join("copies"));
    let most = context.may_copy();
    context.is_live = true;
    let staged = files::stage(&walk, &known, pending.clone(), Copies::new(copies.clone(), most), context);
    context.is_live = false;
    Ok((walk, known, pending, copies, staged?))
}

/// What the server gives at the end of its backup mode.
struct End {
    lsn: String,
    stop_file: String,
    label: String,
    map: String,
}

fn stop(session: &PostgresSession, waiting: Waiting<'_>) -> Result<End, PartError> {
    let sql = "select lsn, pg_walfile_name(lsn), labelfile, spcmapfile from pg_backup_stop(wait_for_archive => false)";
    let row = session.row(sql, waiting)?;
    let [lsn, file, label, map] = row.as_slice() else {
        return Err(PartError::failed("the server gave no label at the end of its backup mode"));
    };
    Ok(End { lsn: lsn.clone(), stop_file: file.clone(), label: label.clone(), map: map.clone() })
}

impl End {
    /// The text after a word of the label.
    fn of_label(&self, word: &str) -> Option<&str> {
        self.label.lines().find_map(|line| line.strip_prefix(word))
    }

    fn start_lsn(&self) -> Option<&str> {
        self.of_label("START WAL LOCATION: ")?.split(' ').next()
    }

    fn start_file(&self) -> Result<String, PartError> {
        let line = self.of_label("START WAL LOCATION: ");
        let name = line.and_then(|line| line.split("(file ").nth(1)).and_then(|rest| rest.strip_suffix(')'));
        name.map(str::to_owned).ok_or_else(|| PartError::failed("the server's label does not say where its log begins"))
    }
}

/// The files of the log from one to another.
struct Wal<'a> {
    cluster: &'a Path,
    start: String,
    stop: String,
    segment: u64,
}

impl Wal<'_> {
    /// Timeline and number of a file of the log, by its name.
    fn number(&self, name: &str) -> Result<(u64, u64), PartError> {
        let wrong = || PartError::failed(format!("{name:?} is not the name of a file of the log"));
        let part = |at: usize| {
            let digits = name.get(at..at + 8).filter(|_| name.len() == 24).ok_or_else(wrong)?;
            u64::from_str_radix(digits, 16).map_err(|_| wrong())
        };
        Ok((part(0)?, part(8)? * self.a_log() + part(16)?))
    }

    fn a_log(&self) -> u64 {
        ((1 << 32) / self.segment).max(1)
    }

    fn names(&self) -> Result<Vec<String>, PartError> {
        let ((timeline, first), (other, last)) = (self.number(&self.start)?, self.number(&self.stop)?);
        if timeline != other || last < first {
            return Err(PartError::failed(format!("the log from {} to {} is not one", self.start, self.stop)));
        }
        let a_log = self.a_log();
        Ok((first..=last).map(|number| format!("{timeline:08X}{:08X}{:08X}", number / a_log, number % a_log)).collect())
    }

    /// Copies the log into `folder`; gives the names.
    fn copy(&self, folder: &Path, context: &CaptureContext<'_, '_>) -> Result<Vec<String>, PartError> {
        let source = self.cluster.join("pg_wal");
        let mut names = self.names()?;
        for name in &names {
            context.check_stop()?;
            let (from, to) = (source.join(name), folder.join(name));
            let before = fs::metadata(&from).map_err(|error| self.used_again(name, &error.to_string()))?;
            fs::copy(&from, &to).map_err(|error| self.lost(name, &from, error))?;
            let after = fs::metadata(&from).map_err(|error| self.used_again(name, &error.to_string()))?;
            if before.ino() != after.ino() || after.len() != self.segment {
                return Err(self.used_again(name, "it is another file now"));
            }
        }
        for entry in fs::read_dir(&source).at(&source)? {
            let entry = entry.at(&source)?;
            let name = entry.file_name().to_string_lossy().into_owned();
            if name.ends_with(".history") {
                fs::copy(entry.path(), folder.join(&name)).at(entry.path())?;
                names.push(name);
            }
        }
        Ok(names)
    }

    fn lost(&self, name: &str, from: &Path, error: std::io::Error) -> PartError {
        if error.kind() == std::io::ErrorKind::NotFound {
            return self.used_again(name, "it is gone");
        }
        PartError::Path(PathError::new(from, error))
    }

    fn used_again(&self, name: &str, why: &str) -> PartError {
        PartError::failed(format!(
            "the server used its log again before all of it was copied ({name}: {why}); let the role replicate and \
             `max_replication_slots` be above 0, or raise `wal_keep_size`"
        ))
    }
}

/// The label, the map and the log, as files of the private folder.
fn extras(
    cluster: &Path,
    end: &End,
    wal: &Wal<'_>,
    context: &CaptureContext<'_, '_>,
) -> Result<VecDeque<Extra>, PartError> {
    let folder = context.scratch.join("engine");
    let log = folder.join("pg_wal");
    fs::create_dir_all(&log).at(&log)?;
    let like = cluster.join("PG_VERSION");
    let above = cluster.join("base");
    let place = |below: &str| -> PathName { name_of(&cluster.join(below)) };
    let mut extras = Vec::new();
    for (name, text) in [("backup_label", &end.label), ("tablespace_map", &end.map)] {
        if !text.is_empty() {
            let path = folder.join(name);
            fs::write(&path, text).at(&path)?;
            extras.push(Extra { name: place(name), file: Some(path), like: like.clone() });
        }
    }
    for below in ["pg_wal", "pg_wal/archive_status"] {
        extras.push(Extra { name: place(below), file: None, like: above.clone() });
    }
    for name in wal.copy(&log, context)? {
        let path = log.join(&name);
        extras.push(Extra { name: place(&format!("pg_wal/{name}")), file: Some(path), like: like.clone() });
    }
    extras.sort_by(|one, other| one.name.cmp(&other.name));
    Ok(extras.into())
}

/// Settings outside the data folder are not in it, unless another part has them.
fn settings(
    cluster: &Path,
    settings: &[PathBuf],
    part: &PlannedPart,
    capture: &mut Capture,
    context: &CaptureContext<'_, '_>,
) {
    let own = fs::canonicalize(cluster).unwrap_or_else(|_| cluster.to_path_buf());
    let captured = |path: &Path| {
        let others = context.plan.spec.part.iter().filter(|other| other.name != part.name);
        let mut sources = others.flat_map(|other| other.files.iter());
        path.starts_with(cluster) || path.starts_with(&own) || sources.any(|source| path.starts_with(source))
    };
    let outside = settings.iter().filter(|path| !captured(path)).map(|path| path.display().to_string());
    let outside: Vec<String> = outside.collect();
    if !outside.is_empty() {
        capture.omits.push(format!("settings outside the data folder: {}", outside.join(", ")));
        capture.after_restore.push("put the server's settings files in their place".to_owned());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wal(start: &str, stop: &str, segment: u64) -> Result<Vec<String>, PartError> {
        let wal = Wal { cluster: Path::new("/"), start: start.to_owned(), stop: stop.to_owned(), segment };
        wal.names()
    }

    #[test]
    fn the_log_between_two_files_is_named_across_borders() {
        let names = wal("0000000100000000000000FE", "000000010000000100000001", 16 << 20).unwrap();
        let wanted = [
            "0000000100000000000000FE",
            "0000000100000000000000FF",
            "000000010000000100000000",
            "000000010000000100000001",
        ];
        assert_eq!(names, wanted);
        assert_eq!(wal("00000002000000000000000A", "00000002000000000000000A", 1 << 30).unwrap().len(), 1);
        for (start, stop) in [
            ("000000010000000000000002", "000000010000000000000001"),
            ("000000010000000000000002", "000000020000000000000003"),
            ("00000001", "000000010000000000000001"),
            ("00000001000000000000000Z", "000000010000000000000001"),
        ] {
            assert!(wal(start, stop, 16 << 20).is_err(), "{start} {stop}");
        }
    }

    #[test]
    fn a_label_says_where_the_log_begins() {
        let label = "START WAL LOCATION: 0/5000028 (file 000000010000000000000005)\nCHECKPOINT LOCATION: 0/5000060\n";
        let end = |label: &str| End {
            lsn: String::new(),
            stop_file: String::new(),
            label: label.to_owned(),
            map: String::new(),
        };
        assert_eq!(end(label).start_file().unwrap(), "000000010000000000000005");
        assert_eq!(end(label).start_lsn(), Some("0/5000028"));
        assert!(end("LABEL: x\n").start_file().is_err());
    }
}
