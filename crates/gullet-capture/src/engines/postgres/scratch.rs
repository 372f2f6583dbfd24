//! PostgreSQL on what was restored, apart from every live server.

use std::fs;
use std::os::unix::fs::chown;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;

use gullet_store::PathError;
use rustix::process::Signal;

use super::client::{PostgresServer, PostgresSession};
use super::databases::{count, places};
use crate::engines::scratch::{Ids, RunningServer, ScratchServers, TriedOut, sql_files};
use crate::engines::server::leading_out;
use crate::engines::{Login, Waiting, program};
use crate::part::rows::add_rows;
use gullet_model::definition::Postgres;
use gullet_model::step::Facts;
use gullet_model::{Reason, ReasonAbout};

impl ScratchServers<'_> {
    /// Starts PostgreSQL on a data folder.
    fn start_postgres(
        &self,
        number: usize,
        (data, programs): (&Path, &[PathBuf]),
        user: &str,
        ids: Ids,
    ) -> Result<(RunningServer, PostgresSession, PostgresServer), Reason> {
        let sockets = self.sockets(number, ids)?;
        let write = |name: &str, text: &str| {
            let path = sockets.join(name);
            let written = fs::write(&path, text).and_then(|()| match ids {
                Some((uid, gid)) => chown(&path, Some(uid), Some(gid)),
                None => Ok(()),
            });
            written.map(|()| path.display().to_string()).map_err(Reason::from)
        };
        let hba = write("hba.conf", "local all all trust\n")?;
        let (ident, conf) = (write("ident.conf", "")?, write("postgresql.conf", "")?);
        let mut command = Self::command(&program(programs, &["postgres"]), ids);
        command.arg("-D").arg(data);
        let settings = [
            format!("config_file={conf}"),
            format!("hba_file={hba}"),
            format!("ident_file={ident}"),
            format!("unix_socket_directories={}", sockets.display()),
        ];
        // What reaches outside of this server, or needs what is not here.
        let fixed = [
            "listen_addresses=",
            "port=5432",
            "archive_mode=off",
            "archive_command=",
            "restore_command=",
            "recovery_end_command=",
            "archive_cleanup_command=",
            // Subscriptions were restored too: their workers would ask the live server's publishers.
            "max_logical_replication_workers=0",
            "primary_conninfo=",
            "primary_slot_name=",
            "external_pid_file=",
            "logging_collector=off",
            "log_destination=stderr",
            "ssl=off",
            "wal_level=replica",
            "max_wal_senders=0",
            "shared_preload_libraries=",
            "shared_buffers=32MB",
            "huge_pages=off",
            "fsync=off",
            "synchronous_standby_names=",
            "lc_messages=C",
            "autovacuum=off",
        ];
        for setting in settings.iter().map(String::as_str).chain(fixed) {
            command.args(["-c", setting]);
        }
        let login = Login { user: user.to_owned(), password: None, account: None };
        let server = PostgresServer { host: sockets.display().to_string(), port: 5432, login };
        let log = self.folder.join(format!("log-{number}"));
        let places = (sockets.clone(), sockets, Signal::QUIT);
        let answers = || server.connect("template1", Waiting { limit: Duration::from_secs(15), ..self.waiting() });
        let (running, session) = self.start(command, places, &log, answers)?;
        Ok((running, session, server))
    }

    /// Starts a PostgreSQL cluster that was restored, and counts what is in it.
    pub(super) fn cluster(
        &self,
        number: usize,
        spec: &Postgres,
        data: &Path,
        files: &Path,
    ) -> Result<TriedOut, Reason> {
        let version = fs::read_to_string(data.join("PG_VERSION")).about("PG_VERSION")?;
        let major: u32 = version.trim().parse().map_err(|_| Reason::new(format!("PG_VERSION says {version:?}")))?;
        for standby in ["standby.signal", "recovery.signal", "postmaster.pid"] {
            let _ = fs::remove_file(data.join(standby));
        }
        tablespaces(data, files)?;
        if let Some((name, place)) = leads_out(data, self.folder)?.into_iter().next() {
            return Err(Reason::new(format!(
                "`{name}` leads to `{}`, which is the live server's own",
                place.display()
            )));
        }
        let ids = Self::ids(Some(data), &["postgres"]);
        self.let_pass(data);
        let programs = places(spec, major);
        let user = spec.login.user.clone().unwrap_or_else(|| "postgres".to_owned());
        let (running, session, server) = self.start_postgres(number, (data, &programs), &user, ids)?;
        let facts = self.count_all(&session, &server)?;
        // The engine's own look at its tables and indexes.
        let check = program(&programs, &["pg_amcheck"]);
        let mut note = format!("PostgreSQL {major} starts on it");
        if check.is_absolute() {
            let mut command = Self::command(&check, ids);
            command.args(["--all", "--install-missing", "--no-password", "-U", &user, "-h"]).arg(&running.socket);
            self.run(command, None)?;
            note.push_str(", and pg_amcheck finds nothing");
        }
        Ok(TriedOut { server: running, facts, note })
    }

    fn count_all(&self, session: &PostgresSession, server: &PostgresServer) -> Result<Facts, Reason> {
        let sql = "select datname from pg_database where datallowconn and not datistemplate order by 1";
        let names = session.rows(sql, self.waiting())?;
        let mut counts = Vec::new();
        for name in names.into_iter().flatten().flatten() {
            let session = server.connect(&name, self.waiting())?;
            counts.extend(count(&name, &session, self.waiting())?);
        }
        let mut facts = Facts::new();
        add_rows(counts, &mut facts);
        Ok(facts)
    }

    /// Starts a new PostgreSQL server, brings exported databases into it, and counts them.
    pub(super) fn postgres_databases(
        &self,
        number: usize,
        spec: &Postgres,
        export: &Path,
        major: u32,
    ) -> Result<TriedOut, Reason> {
        let ids = Self::ids(None, &["postgres", "nobody"]);
        let programs = places(spec, major);
        let user = spec.login.user.clone().unwrap_or_else(|| "postgres".to_owned());
        let data = self.own_folder(&format!("data-{number}"), ids)?;
        let mut init = Self::command(&program(&programs, &["initdb"]), ids);
        init.arg("-D").arg(&data).args(["-U", &user, "-A", "trust", "--no-sync", "-E", "UTF8", "--locale=C.UTF-8"]);
        self.run(init, None)?;
        let (running, session, server) = self.start_postgres(number, (&data, &programs), &user, ids)?;
        let psql = |stop: bool, file: &Path| {
            // What an export says is executed with no more rights than the server's own account has.
            let mut command = Self::command(&program(&programs, &["psql"]), ids);
            command.args(["-X", "-q", "-d", "template1", "-U", &user, "-h"]).arg(&running.socket);
            if stop {
                command.args(["-v", "ON_ERROR_STOP=1"]);
            }
            command.stdout(Stdio::null());
            self.run(command, Some(file))
        };
        // What every server has from the beginning is there already.
        psql(false, &export.join("globals.sql"))?;
        for path in sql_files(export)?.iter().filter(|path| !path.ends_with("globals.sql")) {
            if path.ends_with("postgres.sql") {
                session.rows("drop database postgres", self.waiting())?;
            }
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            psql(true, path).about(format_args!("{name} cannot be brought into a new server"))?;
        }
        let facts = self.count_all(&session, &server)?;
        Ok(TriedOut { server: running, facts, note: format!("a new PostgreSQL {major} takes it") })
    }
}

/// Takes the tablespaces of a restored cluster to where they were restored: their map names the places of the live ones.
fn tablespaces(data: &Path, files: &Path) -> Result<(), Reason> {
    let links = data.join("pg_tblspc");
    let mut lines = String::new();
    let map = data.join("tablespace_map");
    for line in fs::read_to_string(&map).unwrap_or_default().lines() {
        if let Some((oid, place)) = line.split_once(' ') {
            let here = files.join(place.trim_start_matches('/'));
            lines.push_str(&format!("{oid} {}\n", here.display()));
        }
    }
    for entry in fs::read_dir(&links).into_iter().flatten().flatten() {
        let path = entry.path();
        if let Ok(place) = fs::read_link(&path) {
            fs::remove_file(&path).about("the tablespaces")?;
            let here = files.join(place.strip_prefix("/").unwrap_or(&place));
            std::os::unix::fs::symlink(here, &path).about("the tablespaces")?;
        }
    }
    if lines.is_empty() { Ok(()) } else { fs::write(&map, lines).about("the tablespaces") }
}

/// Folders of a restored cluster that lead out of the drill's place, and where to: what was moved by hand and linked.
fn leads_out(data: &Path, top: &Path) -> Result<Vec<(String, PathBuf)>, PathError> {
    leading_out(data, top, |path, kind| {
        // Settings are often links to files elsewhere, and logs to folders; they are not used.
        let is_log = ["log", "pg_log"].iter().any(|name| path == data.join(name));
        if kind.is_symlink() && !is_log && path.is_dir() { fs::read_link(path).map(Some) } else { Ok(None) }
    })
}

#[cfg(test)]
mod tests;
