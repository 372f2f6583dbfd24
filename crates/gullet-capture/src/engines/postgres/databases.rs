//! Databases by the server's own export program, bound to a snapshot of the server's own. The snapshot is taken in an instant;
//! the export and the counts of the same snapshot come when the application serves again.

use std::fs;
use std::path::{Path, PathBuf};

use gullet_store::IoPath;

use super::client::{PostgresServer, PostgresSession};
use crate::engines::server::{call, check_program, command, folders, is_whole, meant};
use crate::engines::{Waiting, program};
use crate::part::context::{CaptureContext, PartError};
use crate::part::produce;
use crate::part::rows::add_rows;
use gullet_host::hook::{Call, Runner};
use gullet_model::definition::Postgres;
use gullet_model::record::Capture;

/// What an export ends with when it is whole.
const WHOLE: &str = "-- PostgreSQL database dump complete";
const WHOLE_GLOBALS: &str = "-- PostgreSQL database cluster dump complete";
/// Databases whose state is pinned by sessions.
pub(crate) struct Databases {
    server: PostgresServer,
    programs: Vec<PathBuf>,
    /// Each database, its session, and the name of its snapshot.
    pinned: Vec<(String, PostgresSession, String)>,
    is_super: bool,
    major: u32,
}

/// Where the server's programs lie: where the definition says, else where Debian and Red Hat put those of this version.
pub fn places(spec: &Postgres, major: u32) -> Vec<PathBuf> {
    let usual = [format!("/usr/lib/postgresql/{major}/bin"), format!("/usr/pgsql-{major}/bin")];
    folders(spec.login.programs.as_ref(), usual)
}

/// The databases that are meant.
fn names(session: &PostgresSession, spec: &Postgres, waiting: Waiting<'_>) -> Result<Vec<String>, PartError> {
    let sql = "select datname from pg_database where datallowconn and not datistemplate order by 1";
    meant(&spec.login.databases, session.rows(sql, waiting)?.into_iter().flatten().flatten().collect())
}

/// The database that is asked about the others.
fn first(spec: &Postgres) -> &str {
    spec.login.databases.iter().map(String::as_str).find(|name| *name != "*").unwrap_or("postgres")
}

fn ask_first(server: &PostgresServer, spec: &Postgres, waiting: Waiting<'_>) -> Result<PostgresSession, PartError> {
    // Where the named one is missing, the usual one tells what there is.
    match server.connect(first(spec), waiting) {
        Ok(session) => Ok(session),
        Err(error) => server.connect("postgres", waiting).map_err(|_| error.into()),
    }
}

/// What can be known beforehand.
pub(crate) fn check(
    server: &PostgresServer,
    spec: &Postgres,
    runner: &Runner<'_>,
    waiting: Waiting<'_>,
) -> Result<String, PartError> {
    let session = ask_first(server, spec, waiting)?;
    let version = session.version(waiting)?;
    let names = names(&session, spec, waiting)?;
    for name in &names {
        server.connect(name, waiting)?;
    }
    let major = version / 10_000;
    let program = program(&places(spec, major), &["pg_dump"]);
    check_program(&program, (&format!("PostgreSQL {major}"), major), major_of, runner)?;
    Ok(format!("PostgreSQL {major} at {}: {}", server.describe(), names.join(", ")))
}

/// The major version in what the server's programs say of theirs, such as `pg_dump (PostgreSQL) 15.18 (Debian 15.18-0+deb12u1)`.
fn major_of(said: &str) -> Option<u32> {
    let own = said.split_once("(PostgreSQL)")?.1.trim_start();
    own.split(|c: char| !c.is_ascii_digit()).next()?.parse().ok()
}

impl Databases {
    /// Pins the state of the databases.
    pub(crate) fn pin(
        spec: &Postgres,
        server: PostgresServer,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Self, PartError> {
        let waiting = context.waiting();
        let session = ask_first(&server, spec, waiting)?;
        let version = session.version(waiting)?;
        let sql = "select rolsuper from pg_roles where rolname = current_user";
        let is_super = session.value(sql, waiting)? == "t";
        let sessions = names(&session, spec, waiting)?.into_iter().map(|name| {
            let session = server.connect(&name, waiting)?;
            Ok((name, session))
        });
        let sessions = sessions.collect::<Result<Vec<_>, PartError>>()?;
        // One after the other, with nothing in between.
        let pinned = sessions.into_iter().map(|(name, session)| {
            session.rows("begin isolation level repeatable read, read only", waiting)?;
            let snapshot = session.value("select pg_export_snapshot()", waiting)?;
            Ok((name, session, snapshot))
        });
        let pinned = pinned.collect::<Result<Vec<_>, PartError>>()?;
        let major = version / 10_000;
        Ok(Self { programs: places(spec, major), pinned, is_super, major, server })
    }

    /// Exports what is pinned into `folder`, and counts the same state.
    pub(crate) fn export(
        &self,
        folder: &Path,
        capture: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<(), PartError> {
        fs::create_dir_all(folder).at(folder)?;
        let mut counts = Vec::new();
        for (name, session, snapshot) in &self.pinned {
            counts.extend(count(name, session, context.waiting())?);
            let path = folder.join(format!("{}.sql", gullet_host::state::file_name(name)));
            let words = ["--format=plain", "--create", "--no-password", "--quote-all-identifiers"];
            let words = words.map(str::to_owned).into_iter().chain([
                format!("--snapshot={snapshot}"),
                format!("--dbname={}", connection(name)),
                format!("--file={}", path.display()),
            ]);
            self.program("pg_dump", words.collect(), folder, context)?;
            is_whole(&path, WHOLE)?;
        }
        let path = folder.join("globals.sql");
        let mut words = vec!["--globals-only".to_owned(), "--no-password".to_owned()];
        if !self.is_super {
            words.push("--no-role-passwords".to_owned());
            capture.omits.push("passwords of roles (only a superuser may read them)".to_owned());
            capture.after_restore.push("set the passwords of the roles again".to_owned());
        }
        words.extend([format!("--dbname={}", connection(&self.pinned[0].0)), format!("--file={}", path.display())]);
        self.program("pg_dumpall", words, folder, context)?;
        is_whole(&path, WHOLE_GLOBALS)?;
        add_rows(counts, &mut capture.facts);
        capture.facts.insert("databases".to_owned(), self.pinned.len().into());
        capture.facts.insert("server_version".to_owned(), self.major.into());
        capture.omits.push("the server's settings (postgresql.conf, pg_hba.conf)".to_owned());
        capture.omits.push("replication slots, and what the planner has learned of the tables".to_owned());
        capture
            .after_restore
            .push("run globals.sql first, then each database's file, by psql; then ANALYZE".to_owned());
        if self.pinned.len() > 1 && context.plan.spec.hold.is_empty() {
            capture.omits.push("one moment for all databases: each is of its own, some milliseconds apart".to_owned());
        }
        Ok(())
    }

    /// Runs one of the server's programs.
    fn program(
        &self,
        name: &str,
        words: Vec<String>,
        folder: &Path,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<(), PartError> {
        let program = program(&self.programs, &[name]).display().to_string();
        let server = &self.server;
        let (host, port) = (format!("--host={}", server.host), format!("--port={}", server.port));
        let run = [vec![program, host, port, format!("--username={}", server.login.user)], words].concat();
        let spec = command(run, &server.login);
        let call = Call { scratch: Some(folder.to_path_buf()), ..call(&server.login, "PGPASSWORD", context.patience) };
        produce::perform(&spec, call, context)
    }
}

/// A database in the form of a connection, so that its name is never taken for one.
fn connection(name: &str) -> String {
    format!("dbname='{}'", name.replace('\\', "\\\\").replace('\'', "\\'"))
}

/// The rows of each table in the state that a session sees, by `DATABASE.SCHEMA.TABLE`.
pub fn count(database: &str, session: &PostgresSession, waiting: Waiting<'_>) -> Result<Vec<(String, i64)>, PartError> {
    let sql = "select n.nspname || '.' || c.relname, format('%I.%I', n.nspname, c.relname) \
               from pg_class c join pg_namespace n on n.oid = c.relnamespace \
               where c.relkind in ('r', 'p', 'm') and not c.relispartition and c.relpersistence <> 't' \
               and n.nspname <> 'information_schema' and n.nspname !~ '^pg_' order by 1";
    let tables = session.rows(sql, waiting)?;
    let mut counts = Vec::with_capacity(tables.len());
    for table in tables {
        let [Some(name), Some(quoted)] = table.as_slice() else { continue };
        let count = session.value(&format!("select count(*) from {quoted}"), waiting)?;
        let count = count.parse().map_err(|_| PartError::failed(format!("the rows of {name} could not be counted")))?;
        counts.push((format!("{database}.{name}"), count));
    }
    Ok(counts)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_program_says_its_major_version() {
        assert_eq!(major_of("pg_dump (PostgreSQL) 15.18 (Debian 15.18-0+deb12u1)"), Some(15));
        assert_eq!(major_of("pg_dump (PostgreSQL) 18beta1"), Some(18));
        assert_eq!((major_of("pg_dump 15"), major_of("pg_dump (PostgreSQL)"), major_of("")), (None, None, None));
    }

    #[test]
    fn a_name_is_a_connection_and_never_more_than_a_name() {
        assert_eq!(connection("inner isles"), "dbname='inner isles'");
        assert_eq!(connection("x' host=elsewhere \\"), "dbname='x\\' host=elsewhere \\\\'");
    }
}
