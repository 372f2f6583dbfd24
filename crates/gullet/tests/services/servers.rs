//! Real servers, each in a temporary folder of its own, stopped when they are dropped.

use std::fs;
use std::net::TcpListener;
use std::os::unix::fs::{PermissionsExt, chown};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::OnceLock;
use std::time::{Duration, Instant};

/// The account `nobody`, which servers run as that refuse root.
const NOBODY: u32 = 65_534;
const POSTGRES: &str = "/usr/lib/postgresql/15/bin";

/// How often what may fail only now and then is tried: twice, and ten times by `scripts/prove.sh`.
pub fn tries() -> u32 {
    std::env::var("GULLET_TRIES").ok().and_then(|text| text.parse().ok()).unwrap_or(2)
}

/// Asks every few milliseconds, and fails after a while.
#[track_caller]
pub fn wait_until(what: &str, mut holds: impl FnMut() -> bool) {
    let began = Instant::now();
    while !holds() {
        assert!(began.elapsed() < Duration::from_secs(30), "{what} took too long");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// A port of this machine that nobody listens at.
pub fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// What a program that must end well printed.
#[track_caller]
pub fn printed(command: &mut Command) -> String {
    let output = command.stdin(Stdio::null()).output().unwrap();
    assert!(output.status.success(), "{command:?}: {}", told(&output));
    String::from_utf8_lossy(&output.stdout).trim_end().to_owned()
}

fn told(output: &Output) -> String {
    format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr))
}

/// A program that runs as `nobody`.
pub fn as_nobody(program: impl AsRef<Path>) -> Command {
    let mut command = Command::new("setpriv");
    let account = ["--reuid", "65534", "--regid", "65534", "--clear-groups", "--"];
    command.args(account).arg(program.as_ref()).current_dir("/");
    command
}

/// A short folder that belongs to `nobody`: the path of a socket may have 107 bytes.
pub fn folder() -> tempfile::TempDir {
    let folder = tempfile::Builder::new().prefix("g").tempdir_in("/tmp").unwrap();
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
    chown(folder.path(), Some(NOBODY), Some(NOBODY)).unwrap();
    folder
}

/// Gives a tree to `nobody`.
pub fn give_to_nobody(path: &Path) {
    printed(Command::new("chown").args(["-R", "65534:65534"]).arg(path));
}

/// The files of a new server, made once by `make` and copied to `to` for each test: making them takes a second, and two at a
/// time have been seen to get into each other's way.
fn fresh(kind: &str, once: &OnceLock<PathBuf>, to: &Path, make: impl FnOnce(&Path)) {
    let made = once.get_or_init(|| {
        let kept = Path::new(env!("CARGO_TARGET_TMPDIR")).join(kind);
        let _ = fs::remove_dir_all(&kept);
        let place = folder();
        make(&place.path().join("data"));
        printed(Command::new("cp").arg("-a").arg(place.path().join("data")).arg(&kept));
        kept
    });
    printed(Command::new("cp").arg("-a").arg(made).arg(to));
}

static NEW_POSTGRES: OnceLock<PathBuf> = OnceLock::new();
static NEW_MARIADB: OnceLock<PathBuf> = OnceLock::new();

/// A PostgreSQL server.
pub struct Postgres {
    pub folder: PathBuf,
    _owner: Option<tempfile::TempDir>,
    pub data: PathBuf,
}

impl Postgres {
    /// A new cluster that is running; `settings` are added to its configuration.
    pub fn start(settings: &str) -> Self {
        let owner = folder();
        let server = Self { folder: owner.path().to_owned(), data: owner.path().join("data"), _owner: Some(owner) };
        fresh("postgres", &NEW_POSTGRES, &server.data, |data| {
            let mut init = as_nobody(format!("{POSTGRES}/initdb"));
            init.arg("-D").arg(data).args(["-U", "postgres", "-A", "trust", "--no-sync", "-E", "UTF8"]);
            printed(init.arg("--locale=C.UTF-8"));
        });
        let configuration = server.data.join("postgresql.conf");
        let text = fs::read_to_string(&configuration).unwrap();
        let own = format!(
            "listen_addresses = ''\nunix_socket_directories = '{}'\nfsync = off\n{settings}\n",
            server.folder.display()
        );
        fs::write(&configuration, text + &own).unwrap();
        server.go();
        server
    }

    /// A server on files that are there already, at `data`; its socket lies in a new folder.
    pub fn on(data: &Path) -> Result<Self, String> {
        let owner = folder();
        give_to_nobody(data);
        fs::set_permissions(data, fs::Permissions::from_mode(0o700)).unwrap();
        let server = Self { folder: owner.path().to_owned(), data: data.to_owned(), _owner: Some(owner) };
        let started = server.control("start").output().unwrap();
        if started.status.success() { Ok(server) } else { Err(told(&started)) }
    }

    fn control(&self, what: &str) -> Command {
        let mut control = as_nobody(format!("{POSTGRES}/pg_ctl"));
        control.arg("-D").arg(&self.data).args(["-w", "-t", "60", "-m", "fast", "-l"]).arg(self.folder.join("log"));
        let options = format!("-c unix_socket_directories={} -c listen_addresses=", self.folder.display());
        control.args(["-o", &options, what]).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        control
    }

    pub fn go(&self) {
        assert!(self.control("start").status().unwrap().success(), "{}", self.log());
    }

    pub fn log(&self) -> String {
        fs::read_to_string(self.folder.join("log")).unwrap_or_default()
    }

    /// One of the server's programs, told where it is.
    pub fn program(&self, name: &str) -> Command {
        let mut command = Command::new(format!("{POSTGRES}/{name}"));
        command.env_clear().env("PATH", "/usr/bin:/bin").arg("-h").arg(&self.folder).args(["-U", "postgres"]);
        command
    }

    /// What a statement gives.
    #[track_caller]
    pub fn sql(&self, database: &str, sql: &str) -> String {
        let mut psql = self.program("psql");
        printed(psql.args(["-X", "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", "-d", database, "-c", sql]))
    }

    /// Tables of a bank whose sums always agree, and clients that work on them until they are dropped.
    pub fn bench(&self) {
        printed(self.program("pgbench").args(["-i", "-s", "2", "-q", "postgres"]));
    }

    fn load(&self) -> Load {
        let mut load = self.program("pgbench");
        load.args(["-c", "4", "-T", "600", "-n", "postgres"]).stdout(Stdio::null()).stderr(Stdio::null());
        Load(load.spawn().unwrap())
    }

    /// Does something while its clients are at work.
    pub fn at_work(&self, act: impl FnOnce()) {
        let _load = self.load();
        wait_until("the load", || self.sql("postgres", "select count(*) > 200 from pgbench_history") == "t");
        act();
    }

    /// The sums of the bank's tables, which agree.
    pub fn sums(&self) -> Vec<String> {
        let sums = "select (select sum(abalance) from pgbench_accounts), (select sum(bbalance) from pgbench_branches), \
                    (select sum(tbalance) from pgbench_tellers), (select coalesce(sum(delta), 0) from pgbench_history)";
        self.sql("postgres", sums).split('|').map(str::to_owned).collect()
    }
}

impl Drop for Postgres {
    fn drop(&mut self) {
        let mut stop = self.control("stop");
        let _ = stop.arg("-m").arg("immediate").status();
    }
}

/// Clients at work.
pub struct Load(Child);

impl Load {
    /// A command that works until this is dropped.
    pub fn of(command: &mut Command) -> Self {
        use std::os::unix::process::CommandExt;
        Self(command.stdin(Stdio::null()).stdout(Stdio::null()).process_group(0).spawn().unwrap())
    }
}

impl Drop for Load {
    fn drop(&mut self) {
        // With what a shell has just started.
        let _ = Command::new("kill").args(["-KILL", "--", &format!("-{}", self.0.id())]).stderr(Stdio::null()).status();
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// A temporary table of a server that has its temporary files in the usual place.
pub struct TemporaryTable(PathBuf);

impl TemporaryTable {
    pub fn new() -> Self {
        let file = tempfile::Builder::new().prefix("#sql-temptable-").suffix(".MAI").tempfile_in("/tmp").unwrap();
        let path = file.keep().unwrap().1;
        // In a folder that everybody may write to nobody removes what is another's.
        let owner = Command::new("id").args(["-u", "mysql"]).output().unwrap();
        let owner = String::from_utf8_lossy(&owner.stdout).trim().parse().unwrap_or(NOBODY);
        chown(&path, Some(owner), None).unwrap();
        Self(path)
    }

    #[track_caller]
    pub fn is_untouched(&self) {
        assert!(self.0.is_file(), "{} is gone", self.0.display());
    }
}

impl Drop for TemporaryTable {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.0);
    }
}

/// A MariaDB server.
pub struct Mariadb {
    pub folder: PathBuf,
    _owner: tempfile::TempDir,
    pub data: PathBuf,
    server: Child,
}

impl Mariadb {
    /// A new server that is running; `settings` are added to its configuration.
    pub fn start(settings: &str) -> Self {
        Self::new_in(None, settings)
    }

    /// The same with its files at `data`.
    pub fn start_in(data: &Path, settings: &str) -> Self {
        Self::new_in(Some(data), settings)
    }

    fn new_in(data: Option<&Path>, settings: &str) -> Self {
        let owner = folder();
        let data = data.map_or_else(|| owner.path().join("data"), Path::to_owned);
        fresh("mariadb", &NEW_MARIADB, &data, |data| {
            let configuration = Self::configure(data.parent().unwrap(), data, "");
            let mut install = as_nobody("/usr/bin/mariadb-install-db");
            install.arg(format!("--defaults-file={}", configuration.display()));
            let plain = ["--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve"];
            printed(install.arg(format!("--datadir={}", data.display())).args(plain));
        });
        Self::configure(owner.path(), &data, settings);
        Self::go(owner, data).expect("the server starts")
    }

    /// A server on files that are there already.
    pub fn on(data: &Path) -> Result<Self, String> {
        let start = || {
            let owner = folder();
            give_to_nobody(data);
            Self::configure(owner.path(), data, "");
            Self::go(owner, data.to_owned())
        };
        // Files that no server can be started on are so the second time, too.
        start().or_else(|first| start().map_err(|second| format!("{first}\nand again: {second}")))
    }

    fn configure(folder: &Path, data: &Path, settings: &str) -> PathBuf {
        let configuration = folder.join("my.cnf");
        let at = |name: &str| folder.join(name).display().to_string();
        // A server that starts removes the temporary tables of others in the same folder.
        let temporary = folder.join("temporary");
        let _ = fs::create_dir(&temporary);
        give_to_nobody(&temporary);
        let text = format!(
            "[mariadbd]\ndatadir={}\ntmpdir={}\nsocket={}\npid-file={}\nlog-error={}\nskip-networking\n\
             innodb_buffer_pool_size=128M\ninnodb_log_file_size=16M\ninnodb_flush_log_at_trx_commit=0\n{settings}\n",
            data.display(),
            temporary.display(),
            at("s"),
            at("pid"),
            at("log")
        );
        fs::write(&configuration, text).unwrap();
        configuration
    }

    /// Starts it. One that ends at once without a word in its log was never up: it is started once more.
    fn go(owner: tempfile::TempDir, data: PathBuf) -> Result<Self, String> {
        let folder = owner.path().to_owned();
        let spawn = || {
            let mut serve = as_nobody("/usr/sbin/mariadbd");
            serve.arg(format!("--defaults-file={}", folder.join("my.cnf").display()));
            let errors = fs::File::create(folder.join("errors")).unwrap();
            serve.stdin(Stdio::null()).stdout(Stdio::null()).stderr(errors).spawn().unwrap()
        };
        let mut server = Self { folder: folder.clone(), data, server: spawn(), _owner: owner };
        let began = Instant::now();
        loop {
            let asked = server.program("mariadb-admin").arg("ping").output().unwrap();
            if asked.status.success() {
                return Ok(server);
            }
            let ended = server.server.try_wait().unwrap();
            if ended.is_some() || began.elapsed() > Duration::from_secs(60) {
                let read = |name: &str| fs::read_to_string(server.folder.join(name)).unwrap_or_default();
                let (log, errors) = (read("log"), read("errors"));
                // Among many servers at once one ends sometimes before it has said anything: the machine has no room for it then.
                if log.is_empty() && ended.is_some() && began.elapsed() < Duration::from_secs(55) {
                    std::thread::sleep(Duration::from_secs(1));
                    server.server = spawn();
                    continue;
                }
                return Err(format!("ended: {ended:?}, after {} s: {log}{errors}", began.elapsed().as_secs()));
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    pub fn socket(&self) -> String {
        self.folder.join("s").display().to_string()
    }

    /// One of the server's programs, told where it is.
    pub fn program(&self, name: &str) -> Command {
        let mut command = Command::new(name);
        command.env_clear().env("PATH", "/usr/bin:/bin").args(["--no-defaults", "-uroot", "-S", &self.socket()]);
        command
    }

    /// What a statement gives.
    #[track_caller]
    pub fn sql(&self, sql: &str) -> String {
        printed(self.program("mariadb").args(["-N", "-B", "-e", sql]))
    }

    /// Two tables whose sums always agree: what leaves one account comes into another, and is written down.
    pub fn bank(&self) {
        let text = self.folder.join("bank.sql");
        fs::write(
            &text,
            "create database bank; use bank; \
             create table account (id int primary key, balance bigint not null) engine = InnoDB; \
             insert into account select seq, 1000 from seq_1_to_2000; \
             create table draft (id int primary key, words varchar(200)) engine = InnoDB; \
             insert into draft select seq, repeat('tide ', 20) from seq_1_to_3000; \
             create table transfer (id int auto_increment primary key, amount bigint not null) engine = InnoDB; \
             \ndelimiter //\n\
             create procedure move_some() begin declare n int default 1 + floor(rand() * 1999); \
             declare m int default 1 + floor(rand() * 1999); start transaction; \
             update account set balance = balance - 1 where id = n; update account set balance = balance + 1 where id = m; \
             insert into transfer (amount) values (1), (-1); commit; end //\ndelimiter ;\n",
        )
        .unwrap();
        let loaded = self.program("mariadb").stdin(fs::File::open(text).unwrap()).output().unwrap();
        assert!(loaded.status.success(), "{}", told(&loaded));
    }

    /// Moves money about until it is dropped.
    fn load(&self) -> Load {
        let socket = self.socket();
        let script = format!(
            "while :; do mariadb --no-defaults -uroot -S {socket} bank -e \
             'call move_some();call move_some();call move_some();call move_some();call move_some();call move_some()' \
             2>/dev/null || exit; done"
        );
        let mut load = Command::new("/bin/sh");
        Load(load.args(["-c", &script]).stdin(Stdio::null()).spawn().unwrap())
    }

    /// Does something while money is moved about, which goes on afterwards.
    pub fn at_work(&self, act: impl FnOnce()) {
        let _load = self.load();
        wait_until("the load", || self.sql("select count(*) > 200 from bank.transfer") == "1");
        act();
        let now: u64 = self.sql("select count(*) from bank.transfer").parse().unwrap();
        wait_until("the load after it", || self.sql(&format!("select count(*) > {now} from bank.transfer")) == "1");
    }

    /// The money in the bank, and the sum and number of what was moved.
    pub fn sums(&self) -> Vec<String> {
        let sums = "select (select sum(balance) from bank.account), (select coalesce(sum(amount), 0) from bank.transfer), \
                    (select count(*) from bank.transfer) % 2";
        self.sql(sums).split('\t').map(str::to_owned).collect()
    }
}

impl Drop for Mariadb {
    fn drop(&mut self) {
        let pid = fs::read_to_string(self.folder.join("pid")).unwrap_or_default();
        if !pid.trim().is_empty() {
            let _ = Command::new("kill").args(["-KILL", pid.trim()]).status();
        }
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}
