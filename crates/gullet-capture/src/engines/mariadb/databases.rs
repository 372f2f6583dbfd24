//! Databases by the server's own export program, at one point: everything is locked for as long as it takes the export and the
//! session that counts to begin their views of it, and no longer.

use std::fs::{self, File};
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::time::Duration;

use gullet_store::IoPath;

use super::client::{MariadbServer, MariadbSession, literal, quoted};
use super::{LOCK, version};
use crate::engines::server::{call, check_program, command, folders, is_whole, meant};
use crate::engines::{EngineError, Waiting, program};
use crate::part::context::{CaptureContext, PartError};
use crate::part::produce;
use crate::part::rows::add_rows;
use gullet_host::hook::{Call, Cancellation, Runner};
use gullet_model::definition::{CommandSpec, Mariadb};
use gullet_model::record::Capture;

const WHOLE: &str = "-- Dump completed";
const PROGRAMS: [&str; 2] = ["mariadb-dump", "mysqldump"];
/// Databases that the server makes by itself.
pub const OWN: [&str; 4] = ["information_schema", "performance_schema", "sys", "mysql"];
/// How often it is looked whether the export has begun its view. The server shows what it showed before to whoever asks again
/// within a tenth of a second.
const LOOK: Duration = Duration::from_millis(120);
/// Everything stays locked for the export to begin for so long at most; that it began too late is found by its position.
const BEGIN: Duration = Duration::from_secs(30);
/// How soon it is looked for the first time: the export's program has to start.
const FIRST_LOOK: Duration = Duration::from_millis(40);
/// Lines at the beginning of an export among which its position stands.
const HEAD: usize = 60;

/// The databases that are meant.
fn names(session: &MariadbSession, spec: &Mariadb, waiting: Waiting<'_>) -> Result<Vec<String>, PartError> {
    let there = session.rows("show databases", waiting)?.into_iter().flatten().flatten();
    meant(&spec.login.databases, there.filter(|name| !OWN.contains(&name.as_str())).collect())
}

fn dump_program(spec: &Mariadb) -> PathBuf {
    program(&folders(spec.login.programs.as_ref(), []), &PROGRAMS)
}

/// What can be known beforehand.
pub(crate) fn check(
    server: &MariadbServer,
    spec: &Mariadb,
    runner: &Runner<'_>,
    waiting: Waiting<'_>,
) -> Result<String, PartError> {
    let session = server.connect(waiting)?;
    let of_server = version(&session, waiting)?;
    let names = names(&session, spec, waiting)?;
    let ((major, minor), program) = (of_server, dump_program(spec));
    let own = |said: &str| said.split([' ', ',']).find(|word| word.contains("MariaDB")).and_then(super::numbers);
    check_program(&program, (&format!("MariaDB {major}.{minor}"), of_server), own, runner)?;
    // What the lock needs; asked for, not tried: others would have to wait.
    let grants: String = session.rows("show grants", waiting)?.into_iter().flatten().flatten().collect();
    if !["ALL PRIVILEGES", "RELOAD", "SUPER"].iter().any(|right| grants.contains(right)) {
        let text = format!("the user `{}` may not lock the server for a moment", server.login.user);
        return Err(PartError::failed(format!(
            "{text}: grant it RELOAD, SELECT, SHOW VIEW, TRIGGER, EVENT and BINLOG MONITOR"
        )));
    }
    Ok(format!("MariaDB {major}.{minor} at {}: {}", server.describe(), names.join(", ")))
}

/// Exports databases into `folder`, and counts the same state.
pub(crate) fn export(
    spec: &Mariadb,
    server: &MariadbServer,
    folder: &Path,
    capture: &mut Capture,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(), PartError> {
    fs::create_dir_all(folder).at(folder)?;
    let waiting = context.waiting();
    let (lock, view) = (server.connect(waiting)?, server.connect(waiting)?);
    let (major, minor) = version(&lock, waiting)?;
    let names = names(&lock, spec, waiting)?;
    let path = folder.join("databases.sql");
    let point = one_point(spec, server, &names, &path, (&lock, &view), context)?;
    is_whole(&path, WHOLE)?;
    point.compare(&path)?;
    add_rows(count(&names, &view, context.waiting())?, &mut capture.facts);
    // Whether this user may read the accounts; where it may, an export of them that fails is a failure.
    let may = view.rows("select count(*) from mysql.global_priv", context.waiting()).is_ok();
    drop((lock, view));
    if may {
        let accounts = folder.join("accounts.sql");
        // What a new server has already, such as `root`, is left as it is by a restore.
        let words =
            [server.arguments(), ["--system=users", "--insert-ignore", "--skip-dump-date"].map(str::to_owned).to_vec()]
                .concat();
        let call = dump_call(server, &accounts, context.patience);
        produce::perform(&dump_command(spec, server, words), call, context)?;
        is_whole(&accounts, WHOLE)?;
    } else {
        capture.omits.push("accounts and their rights (this user may not read them)".to_owned());
        capture.after_restore.push("make the accounts again, with their rights".to_owned());
    }
    let facts = &mut capture.facts;
    facts.insert("server_version".to_owned(), format!("{major}.{minor}").into());
    facts.insert("databases".to_owned(), names.len().into());
    if let Some((file, position)) = &point.binlog {
        facts.insert("binlog_file".to_owned(), file.clone().into());
        facts.insert("binlog_position".to_owned(), position.parse::<i64>().unwrap_or(0).into());
        facts.insert("gtid".to_owned(), point.gtid.clone().into());
    }
    capture.omits.push("the server's settings (my.cnf)".to_owned());
    capture.after_restore.push("run accounts.sql first (accounts that are there already keep their passwords), then databases.sql, by the mariadb client".to_owned());
    Ok(())
}

/// The point at which everything was locked.
struct Point {
    binlog: Option<(String, String)>,
    gtid: String,
}

impl Point {
    /// The export says at its beginning at which point it is; it must be this one.
    fn compare(&self, path: &Path) -> Result<(), PartError> {
        let Some((file, position)) = &self.binlog else { return Ok(()) };
        let head = BufReader::new(File::open(path).at(path)?).lines().take(HEAD).map_while(Result::ok);
        let line = head.into_iter().find(|line| line.contains("MASTER_LOG_FILE="));
        let wanted = format!("MASTER_LOG_FILE='{file}', MASTER_LOG_POS={position}");
        match line {
            Some(line) if line.contains(&wanted) => Ok(()),
            Some(line) => Err(PartError::failed(format!(
                "the export is not of the point that was locked ({wanted}) but of {line}"
            ))),
            None => Err(PartError::failed("the export does not say at which point it is")),
        }
    }
}

/// Tables that an engine without transactions keeps, so that a view does not pin them.
fn tables_without_transactions(
    names: &[String],
    session: &MariadbSession,
    waiting: Waiting<'_>,
) -> Result<Vec<String>, PartError> {
    let list: Vec<String> = names.iter().map(|name| literal(name)).collect();
    let sql = format!(
        "select concat(table_schema, '.', table_name) from information_schema.tables where table_schema in ({}) \
         and table_type = 'BASE TABLE' and engine <> 'InnoDB'",
        list.join(", ")
    );
    Ok(session.rows(&sql, waiting)?.into_iter().flatten().flatten().collect())
}

/// What the export program is told.
fn export_words(server: &MariadbServer, names: &[String], has_binlog: bool) -> Vec<String> {
    let words =
        ["--single-transaction", "--skip-dump-date", "--quick", "--routines", "--triggers", "--events", "--hex-blob"];
    let mut words = [server.arguments(), words.map(str::to_owned).to_vec()].concat();
    if has_binlog {
        words.extend(["--master-data=2", "--gtid"].map(str::to_owned));
    }
    words.push("--databases".to_owned());
    words.extend(names.iter().cloned());
    words
}

/// Runs the export while everything is locked for as long as it takes to begin.
fn one_point(
    spec: &Mariadb,
    server: &MariadbServer,
    names: &[String],
    path: &Path,
    (lock, view): (&MariadbSession, &MariadbSession),
    context: &mut CaptureContext<'_, '_>,
) -> Result<Point, PartError> {
    let waiting = context.waiting();
    let plain = tables_without_transactions(names, lock, waiting)?;
    lock.rows(&format!("set session lock_wait_timeout = {}", LOCK.as_secs()), waiting)?;
    lock.rows("flush tables with read lock", waiting).map_err(|error| match error {
        EngineError::Said(why) => {
            PartError::failed(format!("the server could not be locked within {} s: {why}", LOCK.as_secs()))
        }
        other => other.into(),
    })?;
    view.rows("set session transaction isolation level repeatable read", waiting)?;
    view.rows("start transaction with consistent snapshot, read only", waiting)?;
    let binlog = lock.row("show master status", waiting)?;
    let binlog = binlog.and_then(|row| Some((row.first()?.clone(), row.get(1)?.clone())));
    let gtid = lock.value("select @@gtid_binlog_pos", waiting)?;
    let newest = [lock, view].map(|session| session.value("select connection_id()", waiting));
    let newest = newest.into_iter().filter_map(|id| id.ok()?.parse::<u64>().ok()).max().unwrap_or(u64::MAX);
    let words = export_words(server, names, binlog.is_some());
    // Without a log there is nothing to prove by that the export began in time, and tables without transactions are not
    // pinned by its view of them: then everything stays locked until it ends.
    let until_the_end = binlog.is_none() || !plain.is_empty();
    if !plain.is_empty() {
        let named: Vec<String> = plain.into_iter().take(3).collect();
        let text =
            format!("the server's writes waited for the whole export: {} … are no InnoDB tables", named.join(", "));
        context.notes.warnings.push(text);
    }
    let begun = || {
        let sql = format!(
            "select count(*) from information_schema.innodb_trx t join information_schema.processlist p \
             on p.id = t.trx_mysql_thread_id where p.id > {newest} and p.user = {}",
            literal(&server.login.user)
        );
        view_of(lock, &sql, waiting)
    };
    let patience = context.patience;
    let (runner, clock) = (context.runner, context.world.clock);
    let spec = dump_command(spec, server, words);
    let outcome = std::thread::scope(|scope| {
        let call = dump_call(server, path, patience);
        let export = scope.spawn(|| runner.run(&spec, call));
        clock.sleep(if until_the_end { Duration::ZERO } else { FIRST_LOOK });
        let began = clock.uptime();
        let late = || clock.uptime().saturating_sub(began) >= BEGIN || patience.is_over(clock);
        while !until_the_end && !export.is_finished() && !begun() && !late() {
            clock.sleep(LOOK);
        }
        if !until_the_end {
            // What cannot be unlocked is unlocked with the session; that the export began in time is compared afterwards.
            let _ = lock.rows("unlock tables", waiting);
        }
        export.join()
    });
    let _ = lock.rows("unlock tables", waiting);
    let outcome = outcome.map_err(|_| PartError::failed("the export's thread ended early"))?;
    produce::take(outcome, context)?;
    Ok(Point { binlog, gtid })
}

fn view_of(session: &MariadbSession, sql: &str, waiting: Waiting<'_>) -> bool {
    session.value(sql, waiting).is_ok_and(|count| count != "0" && !count.is_empty())
}

fn dump_command(spec: &Mariadb, server: &MariadbServer, words: Vec<String>) -> CommandSpec {
    command([vec![dump_program(spec).display().to_string()], words].concat(), &server.login)
}

fn dump_call<'p>(server: &MariadbServer, path: &Path, patience: Cancellation<'p>) -> Call<'p> {
    Call { stdout: Some(path.to_path_buf()), ..call(&server.login, "MYSQL_PWD", patience) }
}

/// The rows of each table in the state that a session sees, by `DATABASE.TABLE`.
pub fn count(names: &[String], view: &MariadbSession, waiting: Waiting<'_>) -> Result<Vec<(String, i64)>, PartError> {
    let list: Vec<String> = names.iter().map(|name| literal(name)).collect();
    let sql = format!(
        "select table_schema, table_name from information_schema.tables where table_schema in ({}) \
         and table_type = 'BASE TABLE' order by 1, 2",
        list.join(", ")
    );
    let mut counts = Vec::new();
    for row in view.rows(&sql, waiting)? {
        let [Some(schema), Some(table)] = row.as_slice() else { continue };
        let count = view.value(&format!("select count(*) from {}.{}", quoted(schema), quoted(table)), waiting)?;
        let count = count
            .parse()
            .map_err(|_| PartError::failed(format!("the rows of {schema}.{table} could not be counted")))?;
        counts.push((format!("{schema}.{table}"), count));
    }
    Ok(counts)
}
