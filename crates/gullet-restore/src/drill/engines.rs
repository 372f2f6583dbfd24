//! Database servers that are started on what was restored, apart from every live one: with a socket in a folder of their own,
//! no port, and none of the settings that reach outside (archiving, replication, logs elsewhere).
//!
//! A server gets the signal KILL when this process dies (`PR_SET_PDEATHSIG`, prctl(2)), so that none is left behind.

use std::fs::{self, File};
use std::io::Read;
use std::os::unix::fs::{DirBuilderExt, MetadataExt, PermissionsExt, chown};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use gullet_store::PathError;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::{Pid, PidfdFlags, Signal, kill_process, pidfd_open};

use gullet_capture::engine::{EngineError, Login, Waiting, mariadb, postgres, program};
use gullet_capture::kinds::{OWN_OF_MARIADB, count_mariadb, count_postgres, kept_elsewhere, postgres_programs};
use gullet_capture::part::{facts_of_rows, leading_out};
use gullet_host::hook::{Account, Cancellation};
use gullet_host::world::World;
use gullet_model::definition::{Mariadb, Postgres};
use gullet_model::step::Facts;
use gullet_model::{Reason, ReasonAbout};

/// How long a server may take to start: it may have a log to play back.
const STARTS_WITHIN: Duration = Duration::from_secs(30 * 60);
/// How long it may take to answer.
const ANSWERS_WITHIN: Duration = Duration::from_secs(30 * 60);
/// How long it may take to end, in seconds.
const ENDS_WITHIN_S: i64 = 10;

/// A server that runs until this is dropped.
pub(super) struct RunningServer {
    child: Child,
    /// Its socket's folder (PostgreSQL), or its socket (MariaDB).
    pub(super) socket: PathBuf,
    sockets: PathBuf,
    signal: Signal,
}

impl Drop for RunningServer {
    fn drop(&mut self) {
        let pid = Pid::from_child(&self.child);
        let _ = kill_process(pid, self.signal);
        if let Ok(watch) = pidfd_open(pid, PidfdFlags::empty()) {
            let within = Timespec { tv_sec: ENDS_WITHIN_S, tv_nsec: 0 };
            let _ = poll(&mut [PollFd::new(&watch, PollFlags::IN)], Some(&within));
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
        let _ = fs::remove_dir_all(&self.sockets);
    }
}

/// Where servers of a drill work, and as whom.
pub(super) struct ScratchServers<'a> {
    pub(super) world: World<'a>,
    /// The drill's folder.
    pub(super) folder: &'a Path,
    /// The folder above which nothing is opened to other accounts.
    pub(super) top: &'a Path,
    /// The drill's id.
    pub(super) id: &'a str,
}

/// Whom programs run as, where that is not this process's account.
type Ids = Option<(u32, u32)>;

impl ScratchServers<'_> {
    fn waiting(&self) -> Waiting<'_> {
        let patience = Cancellation { stop: Some(self.world.stop), ..Cancellation::default() };
        Waiting { clock: self.world.clock, patience, limit: ANSWERS_WITHIN }
    }

    /// The owner of a folder, or the first account of these names, where this process may become it.
    fn ids(of: Option<&Path>, names: &[&str]) -> Ids {
        if !rustix::process::geteuid().is_root() {
            return None;
        }
        let owner = of.and_then(|folder| fs::metadata(folder).ok()).map(|meta| (meta.uid(), meta.gid()));
        let named = || names.iter().find_map(|name| Account::find(name).ok()).map(|a| (a.uid, a.gid));
        // Servers refuse to run as root.
        owner.filter(|(uid, _)| *uid != 0).or_else(named)
    }

    /// A program that ends when this process does, as an account.
    fn command(program: &Path, ids: Ids) -> Command {
        let mut command = Command::new("setpriv");
        command.args(["--pdeathsig", "KILL"]);
        if let Some((uid, gid)) = ids {
            command.args(["--reuid", &uid.to_string(), "--regid", &gid.to_string(), "--clear-groups"]);
        }
        command.arg("--").arg(program).env_clear().env("PATH", gullet_host::hook::PATH).env("LC_ALL", "C.UTF-8");
        command.current_dir("/").stdin(Stdio::null());
        command
    }

    /// A short folder for a socket, whose path may have 107 bytes: of the account's own.
    fn sockets(&self, part: usize, ids: Ids) -> Result<PathBuf, Reason> {
        let folder = PathBuf::from(format!("/tmp/gullet-drill-{}-{part}", self.id));
        fs::DirBuilder::new().mode(0o700).create(&folder).about(folder.display())?;
        if let Some((uid, gid)) = ids {
            chown(&folder, Some(uid), Some(gid)).about(folder.display())?;
        }
        Ok(folder)
    }

    /// Lets an account pass through the folders above a path, up to the top.
    fn let_pass(&self, path: &Path) {
        for folder in path.ancestors().skip(1).take_while(|folder| folder.starts_with(self.top)) {
            if let Ok(meta) = fs::metadata(folder)
                && meta.mode() & 0o001 == 0
            {
                let _ = fs::set_permissions(folder, fs::Permissions::from_mode(meta.mode() & 0o7777 | 0o011));
            }
        }
    }

    /// A folder of an account's own below the drill's.
    fn own_folder(&self, name: &str, ids: Ids) -> Result<PathBuf, Reason> {
        let folder = self.folder.join(name);
        fs::DirBuilder::new().mode(0o700).create(&folder).about(folder.display())?;
        if let Some((uid, gid)) = ids {
            chown(&folder, Some(uid), Some(gid)).about(folder.display())?;
        }
        self.let_pass(&folder);
        Ok(folder)
    }

    /// Runs a program to its end; what it said where it fails.
    fn run(&self, mut command: Command, stdin: Option<&Path>) -> Result<String, Reason> {
        let name = command.get_args().skip_while(|word| *word != "--").nth(1).map(|w| w.to_string_lossy().into_owned());
        let name = name.unwrap_or_default();
        if let Some(path) = stdin {
            command.stdin(File::open(path).about(path.display())?);
        }
        let output = command.output().about(format_args!("`{name}`"))?;
        let errors = String::from_utf8_lossy(&output.stderr).into_owned();
        if output.status.success() {
            return Ok(errors);
        }
        let line = errors.lines().find(|line| line.contains("ERROR") || line.contains("FATAL"));
        let line = line.or_else(|| errors.lines().rfind(|line| !line.trim().is_empty())).unwrap_or("no reason given");
        Err(Reason::new(format!("`{name}`: {}", line.trim())))
    }

    /// Starts a server, and waits until `answers` has it.
    fn start<T>(
        &self,
        mut command: Command,
        (sockets, socket, signal): (PathBuf, PathBuf, Signal),
        log: &Path,
        answers: impl Fn() -> Result<T, EngineError>,
    ) -> Result<(RunningServer, T), Reason> {
        let output = File::create(log).about(log.display())?;
        let errors = output.try_clone()?;
        let child = command.stdout(output).stderr(errors).spawn().about("setpriv")?;
        let mut running = RunningServer { child, socket, sockets, signal };
        let clock = self.world.clock;
        let began = clock.uptime();
        loop {
            if let Ok(session) = answers() {
                return Ok((running, session));
            }
            let ended = matches!(running.child.try_wait(), Ok(Some(_)) | Err(_));
            let late = clock.uptime().saturating_sub(began) >= STARTS_WITHIN || self.world.stop.asked().is_some();
            if ended || late {
                let why = if ended { "the server does not start on it" } else { "the server did not answer in time" };
                return Err(Reason::new(format!("{why}: {}", last_words(log))));
            }
            clock.sleep(Duration::from_millis(50));
        }
    }

    /// Starts PostgreSQL on a data folder.
    fn start_postgres(
        &self,
        number: usize,
        (data, programs): (&Path, &[PathBuf]),
        user: &str,
        ids: Ids,
    ) -> Result<(RunningServer, postgres::PostgresSession, postgres::PostgresServer), Reason> {
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
        let server = postgres::PostgresServer { host: sockets.display().to_string(), port: 5432, login };
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
    ) -> Result<(RunningServer, Facts, String), Reason> {
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
        let programs = postgres_programs(spec, major);
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
        Ok((running, facts, note))
    }

    fn count_all(
        &self,
        session: &postgres::PostgresSession,
        server: &postgres::PostgresServer,
    ) -> Result<Facts, Reason> {
        let sql = "select datname from pg_database where datallowconn and not datistemplate order by 1";
        let names = session.rows(sql, self.waiting())?;
        let mut counts = Vec::new();
        for name in names.into_iter().flatten().flatten() {
            let session = server.connect(&name, self.waiting())?;
            counts.extend(count_postgres(&name, &session, self.waiting())?);
        }
        let mut facts = Facts::new();
        facts_of_rows(counts, &mut facts);
        Ok(facts)
    }

    /// Starts a new PostgreSQL server, brings exported databases into it, and counts them.
    pub(super) fn postgres_databases(
        &self,
        number: usize,
        spec: &Postgres,
        export: &Path,
        major: u32,
    ) -> Result<(RunningServer, Facts, String), Reason> {
        let ids = Self::ids(None, &["postgres", "nobody"]);
        let programs = postgres_programs(spec, major);
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
        Ok((running, facts, format!("a new PostgreSQL {major} takes it")))
    }

    /// Starts MariaDB on a data folder.
    fn start_mariadb(
        &self,
        number: usize,
        data: &Path,
        ids: Ids,
    ) -> Result<(RunningServer, mariadb::MariadbSession, mariadb::MariadbServer), Reason> {
        let sockets = self.sockets(number, ids)?;
        let socket = sockets.join("s");
        // A server that starts removes every temporary table that it finds, also those of the live one.
        let temporary = self.own_folder(&format!("temporary-{number}"), ids)?;
        let mut command = Self::command(&program(&[], &["mariadbd", "mysqld"]), ids);
        let at = |what: &str, path: &Path| format!("--{what}={}", path.display());
        command
            .arg("--no-defaults")
            .arg(at("datadir", data))
            .arg(at("tmpdir", &temporary))
            .arg(at("socket", &socket))
            .arg(at("pid-file", &sockets.join("pid")));
        command.args([
            "--skip-networking",
            "--skip-grant-tables",
            "--skip-slave-start",
            "--skip-log-bin",
            "--innodb-flush-log-at-trx-commit=0",
        ]);
        let login = Login { user: "root".to_owned(), password: None, account: None };
        let server = mariadb::MariadbServer { place: mariadb::ServerPlace::Socket(socket.clone()), login };
        let log = self.folder.join(format!("log-{number}"));
        let answers = || server.connect(Waiting { limit: Duration::from_secs(15), ..self.waiting() });
        let (running, session) = self.start(command, (sockets, socket, Signal::KILL), &log, answers)?;
        Ok((running, session, server))
    }

    fn count_mariadb(&self, session: &mariadb::MariadbSession) -> Result<Facts, Reason> {
        let rows = session.rows("show databases", self.waiting())?;
        let names: Vec<String> =
            rows.into_iter().flatten().flatten().filter(|name| !OWN_OF_MARIADB.contains(&name.as_str())).collect();
        let mut facts = Facts::new();
        if !names.is_empty() {
            facts_of_rows(count_mariadb(&names, session, self.waiting())?, &mut facts);
        }
        Ok(facts)
    }

    /// Starts MariaDB on a data folder that was restored, and counts what is in it.
    pub(super) fn datadir(&self, number: usize, data: &Path) -> Result<(RunningServer, Facts, String), Reason> {
        let ids = Self::ids(Some(data), &["mysql", "nobody"]);
        if let Some((name, place)) = kept_elsewhere(data)?.into_iter().next() {
            let place = place.display();
            return Err(Reason::new(format!(
                "`{name}` has its file at `{place}`: it is not in the run, and the live server's own"
            )));
        }
        self.let_pass(data);
        let (running, session, _) = self.start_mariadb(number, data, ids)?;
        let facts = self.count_mariadb(&session)?;
        Ok((running, facts, "MariaDB starts on it".to_owned()))
    }

    /// Starts a new MariaDB server, brings exported databases into it, and counts them.
    pub(super) fn mariadb_databases(
        &self,
        number: usize,
        _spec: &Mariadb,
        export: &Path,
    ) -> Result<(RunningServer, Facts, String), Reason> {
        let ids = Self::ids(None, &["mysql", "nobody"]);
        let data = self.own_folder(&format!("data-{number}"), ids)?;
        let mut install = Self::command(&program(&[], &["mariadb-install-db", "mysql_install_db"]), ids);
        install.args([
            "--no-defaults",
            "--auth-root-authentication-method=normal",
            "--skip-test-db",
            "--skip-name-resolve",
        ]);
        let temporary = self.own_folder(&format!("temporary-install-{number}"), ids)?;
        install.arg(format!("--datadir={}", data.display())).arg(format!("--tmpdir={}", temporary.display()));
        install.stdout(Stdio::null());
        self.run(install, None)?;
        let (running, session, server) = self.start_mariadb(number, &data, ids)?;
        for path in sql_files(export)?.iter().filter(|path| !path.ends_with("accounts.sql")) {
            let mut client = Self::command(&program(&[], &["mariadb", "mysql"]), ids);
            client.args(server.arguments()).stdout(Stdio::null());
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            self.run(client, Some(path)).about(format_args!("{name} cannot be brought into a new server"))?;
        }
        let facts = self.count_mariadb(&session)?;
        Ok((running, facts, "a new MariaDB takes it".to_owned()))
    }
}

/// The exports in a folder, in the order of their names.
fn sql_files(folder: &Path) -> Result<Vec<PathBuf>, Reason> {
    let entries = fs::read_dir(folder).about(folder.display())?;
    let mut files: Vec<PathBuf> = entries.flatten().map(|entry| entry.path()).collect();
    files.retain(|path| path.extension().is_some_and(|extension| extension == "sql"));
    files.sort();
    Ok(files)
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

/// What a server said last that says why.
fn last_words(log: &Path) -> String {
    let mut text = String::new();
    if let Ok(file) = File::open(log) {
        let _ = file.take(1 << 20).read_to_string(&mut text);
    }
    let grave = ["PANIC", "FATAL", "[ERROR]", "ERROR"];
    let line = grave.iter().find_map(|word| text.lines().rfind(|line| line.contains(word)));
    line.or_else(|| text.lines().rfind(|line| !line.trim().is_empty())).unwrap_or("it said nothing").trim().to_owned()
}

#[cfg(test)]
mod tests;
