//! Exports of PostgreSQL, brought back into a server by `psql`.

use std::path::Path;

use super::client::{PostgresServer, quoted};
use super::databases::places;
use crate::engines::import::{Importer, asking, bringing, databases, feed, is_there};
use crate::engines::{Waiting, program};
use gullet_host::hook::{Limits, Runner};
use gullet_model::Reason;
use gullet_model::definition::Postgres;

/// Databases that every PostgreSQL server has, and that are replaced when nothing is in them.
const FROM_THE_BEGINNING: &str = "postgres";

/// A server that exports are brought back into.
pub(super) struct PostgresImport {
    pub(super) spec: Postgres,
    pub(super) server: PostgresServer,
}

impl Importer for PostgresImport {
    fn describe(&self) -> String {
        format!("PostgreSQL at {}", self.server.describe())
    }

    fn answers(&self, runner: &Runner<'_>) -> bool {
        self.server.connect("template1", asking(runner, Limits::PROBE)).is_ok()
    }

    fn bring(&self, folder: &Path, runner: &Runner<'_>, made: &mut Vec<String>) -> Result<(), Reason> {
        let (Self { spec, server }, waiting) = (self, bringing(runner));
        let wanted = databases(folder)?;
        let session = server.connect("template1", waiting)?;
        let major = session.version(waiting)? / 10_000;
        let there = session.rows("select datname from pg_database", waiting)?;
        let there: Vec<String> = there.into_iter().flatten().flatten().collect();
        for (name, _) in wanted.iter().filter(|(name, _)| there.contains(name)) {
            if name != FROM_THE_BEGINNING || !is_empty(server, name, waiting)? {
                return Err(is_there(name));
            }
        }
        let psql = program(&places(spec, major), &["psql"]).display().to_string();
        let client = |file: &Path, stop: bool| {
            let words = [
                "-X",
                "-q",
                "-w",
                "-d",
                "template1",
                "-h",
                &server.host,
                "-p",
                &server.port.to_string(),
                "-U",
                &server.login.user,
            ]
            .map(str::to_owned);
            let strict = if stop { vec!["-v".to_owned(), "ON_ERROR_STOP=1".to_owned()] } else { Vec::new() };
            feed([vec![psql.clone()], words.to_vec(), strict].concat(), &server.login, "PGPASSWORD", file, runner)
        };
        let globals = folder.join("globals.sql");
        if globals.is_file() {
            // Roles that are there already stay as they are.
            client(&globals, false)?;
        }
        for (name, path) in wanted {
            if there.contains(&name) {
                session.rows(&format!("drop database {}", quoted(&name)), waiting)?;
            }
            made.push(name);
            client(&path, true)?;
        }
        Ok(())
    }

    fn take_back(&self, made: &[String], runner: &Runner<'_>) -> Result<(), Reason> {
        let waiting = asking(runner, Limits::HOOK);
        let session = self.server.connect("template1", waiting)?;
        for name in made {
            session.rows(&format!("drop database if exists {} with (force)", quoted(name)), waiting)?;
        }
        Ok(())
    }
}

/// Whether a database has no tables of anybody's.
fn is_empty(server: &PostgresServer, name: &str, waiting: Waiting<'_>) -> Result<bool, Reason> {
    let session = server.connect(name, waiting)?;
    let sql = "select count(*) from pg_class c join pg_namespace n on n.oid = c.relnamespace \
               where n.nspname <> 'information_schema' and n.nspname !~ '^pg_'";
    Ok(session.value(sql, waiting)? == "0")
}
