//! What runs on this machine that keeps state: looked at from outside, without touching or asking it.
//!
//! It is read from `/proc` (proc(5)): names and arguments of processes, and the files that they have open.

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::fs::{self, File};
use std::io::Read;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

/// Something that keeps state.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum RunningService {
    /// A PostgreSQL server.
    Postgres {
        /// The folder of its socket, by its own note; none where it has none.
        host: Option<PathBuf>,
        /// The TCP port that it listens at.
        port: u16,
    },
    /// A MariaDB server.
    Mariadb {
        /// The socket that it listens at.
        socket: PathBuf,
        /// Whether its own arguments say so, or it is the usual one.
        is_said: bool,
    },
    /// A Redis server.
    Redis(RedisAddress),
    /// An OpenLDAP server.
    OpenLdap {
        /// The folder of its configuration.
        config: PathBuf,
    },
    /// An SQLite database that a process has open.
    Sqlite {
        /// The file of the database.
        path: PathBuf,
        /// The name of the program that has it open.
        program: String,
    },
    /// A web server.
    Web {
        /// The name of the program that listens.
        program: String,
    },
    /// A mail server.
    Mail {
        /// The name of the program that listens.
        program: String,
    },
}

/// How a Redis server is called.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum RedisAddress {
    /// Over a socket.
    Socket(PathBuf),
    /// Over a port of this machine.
    Port(u16),
}

/// What an SQLite database begins with (<https://www.sqlite.org/fileformat.html>, 1.3).
const SQLITE: &[u8; 16] = b"SQLite format 3\0";
const WEB: [&str; 5] = ["nginx", "apache2", "httpd", "lighttpd", "caddy"];
const MAIL: [&str; 5] = ["dovecot", "exim4", "exim", "smtpd", "qmgr"];
/// A database below these is somebody's cache or of a desktop.
const NOT_LOOKED_AT: [&str; 4] = ["/proc/", "/dev/", "/run/user/", "/tmp/"];

/// Looks at the processes below `proc`, which is `/proc`. Processes that may not be looked at are left out.
pub fn running_services(proc: &Path) -> Vec<RunningService> {
    let own = std::process::id().to_string();
    let mut found = BTreeSet::new();
    let entries = fs::read_dir(proc).into_iter().flatten().flatten();
    let is_process = |name: &OsStr| name.as_bytes().iter().all(u8::is_ascii_digit) && name != own.as_str();
    for folder in entries.map(|entry| entry.path()).filter(|path| path.file_name().is_some_and(is_process)) {
        let Ok(name) = fs::read_to_string(folder.join("comm")) else { continue };
        let arguments = arguments_of(&folder);
        let name = name.trim_end();
        match name {
            "postgres" => found.extend(postgres(&folder, &arguments)),
            "mariadbd" | "mysqld" => found.extend([mariadb(&arguments)]),
            "redis-server" => found.extend(redis(&arguments)),
            "slapd" => found.extend([open_ldap(&arguments)]),
            _ if WEB.contains(&name) => found.extend([RunningService::Web { program: name.to_owned() }]),
            _ if MAIL.contains(&name) => found.extend([RunningService::Mail { program: name.to_owned() }]),
            _ => found.extend(sqlite(&folder, name)),
        }
    }
    found.into_iter().collect()
}

fn arguments_of(folder: &Path) -> Vec<String> {
    let bytes = fs::read(folder.join("cmdline")).unwrap_or_default();
    let words = bytes.split(|byte| *byte == 0).filter(|word| !word.is_empty());
    words.map(|word| String::from_utf8_lossy(word).into_owned()).collect()
}

/// The value of an option: `--name=VALUE`, `--name VALUE`, `-N VALUE` or `-NVALUE`.
fn option<'a>(arguments: &'a [String], name: &str) -> Option<&'a str> {
    arguments.iter().enumerate().find_map(|(at, word)| {
        let rest = word.strip_prefix(name)?;
        match rest.strip_prefix('=') {
            Some(value) => Some(value),
            None if rest.is_empty() => arguments.get(at + 1).map(String::as_str),
            None if name.len() == 2 => Some(rest),
            None => None,
        }
    })
}

/// A server by the note that it keeps in its data folder: process, folder, start, port, folder of the socket, a line each.
fn postgres(folder: &Path, arguments: &[String]) -> Option<RunningService> {
    let data = option(arguments, "-D").map(PathBuf::from);
    // The server works in its data folder; the processes that it starts do, too, and are found as the same one.
    let data = data.or_else(|| fs::read_link(folder.join("cwd")).ok())?;
    let note = fs::read_to_string(data.join("postmaster.pid")).ok()?;
    let lines: Vec<&str> = note.lines().collect();
    let host = lines.get(4).map(|line| line.trim()).filter(|line| !line.is_empty()).map(PathBuf::from);
    Some(RunningService::Postgres { host, port: lines.get(3)?.trim().parse().ok()? })
}

fn mariadb(arguments: &[String]) -> RunningService {
    let said = option(arguments, "--socket").map(str::to_owned);
    // A file of settings that it was given alone (mariadbd(8), --defaults-file).
    let file = option(arguments, "--defaults-file").and_then(|file| fs::read_to_string(file).ok());
    let in_file = file.and_then(|text| {
        let lines = text.lines().filter_map(|line| line.split_once('='));
        lines.filter(|(key, _)| key.trim() == "socket").map(|(_, value)| value.trim().to_owned()).next_back()
    });
    let said = said.or(in_file).map(PathBuf::from);
    let is_said = said.is_some();
    RunningService::Mariadb { socket: said.unwrap_or_else(|| "/run/mysqld/mysqld.sock".into()), is_said }
}

/// It writes into its title how it is called: `redis-server 127.0.0.1:6379`, or `redis-server unixsocket:/run/redis.sock`.
fn redis(arguments: &[String]) -> Option<RunningService> {
    let title = arguments.join(" ");
    let word = title.split_whitespace().nth(1)?;
    let address = match word.strip_prefix("unixsocket:") {
        Some(path) => RedisAddress::Socket(path.into()),
        None => RedisAddress::Port(word.rsplit_once(':')?.1.parse().ok()?),
    };
    Some(RunningService::Redis(address))
}

fn open_ldap(arguments: &[String]) -> RunningService {
    RunningService::OpenLdap { config: option(arguments, "-F").unwrap_or("/etc/ldap/slapd.d").into() }
}

fn sqlite(folder: &Path, program: &str) -> Vec<RunningService> {
    let open = fs::read_dir(folder.join("fd")).into_iter().flatten().flatten();
    let files: BTreeSet<PathBuf> = open.filter_map(|entry| fs::read_link(entry.path()).ok()).collect();
    let is_looked_at = |path: &&PathBuf| {
        let text = path.to_string_lossy();
        text.starts_with('/')
            && !NOT_LOOKED_AT.iter().any(|below| text.starts_with(below))
            && !text.contains("/.cache/")
    };
    let databases = files.iter().filter(is_looked_at).filter(|path| is_sqlite(path));
    databases.map(|path| RunningService::Sqlite { path: path.clone(), program: program.to_owned() }).collect()
}

fn is_sqlite(path: &Path) -> bool {
    let mut begins = [0; 16];
    let is_file = fs::symlink_metadata(path).is_ok_and(|meta| meta.is_file());
    is_file && File::open(path).and_then(|mut file| file.read_exact(&mut begins)).is_ok() && begins == *SQLITE
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A process as `/proc` shows it.
    fn process(proc: &Path, number: u32, name: &str, arguments: &[&str]) -> PathBuf {
        let folder = proc.join(number.to_string());
        fs::create_dir_all(folder.join("fd")).unwrap();
        fs::write(folder.join("comm"), format!("{name}\n")).unwrap();
        fs::write(folder.join("cmdline"), arguments.join("\0") + "\0").unwrap();
        folder
    }

    #[test]
    fn servers_are_known_by_what_they_show_of_themselves() {
        let place = tempfile::tempdir_in("/var/tmp").unwrap();
        let proc = place.path().join("proc");
        let data = place.path().join("data");
        fs::create_dir_all(&data).unwrap();
        fs::write(data.join("postmaster.pid"), format!("1\n{}\n1\n5433\n/run/quay\nlocalhost\n", data.display()))
            .unwrap();
        process(&proc, 1, "postgres", &["/usr/lib/postgresql/15/bin/postgres", "-D", data.to_str().unwrap()]);
        let child = process(&proc, 2, "postgres", &["postgres: checkpointer "]);
        std::os::unix::fs::symlink(&data, child.join("cwd")).unwrap();
        process(&proc, 3, "mariadbd", &["/usr/sbin/mariadbd"]);
        process(&proc, 4, "mariadbd", &["mariadbd", "--socket=/srv/a.sock"]);
        process(&proc, 5, "redis-server", &["/usr/bin/redis-server 127.0.0.1:6379"]);
        process(&proc, 6, "redis-server", &["redis-server unixsocket:/run/r.sock"]);
        process(&proc, 7, "slapd", &["slapd", "-h", "ldapi:///", "-F/etc/quay.d"]);
        process(&proc, 8, "nginx", &["nginx: master process"]);
        let desk = process(&proc, 9, "desk", &["desk"]);
        let database = place.path().join("desk.db");
        fs::write(&database, [SQLITE.as_slice(), &[0; 100]].concat()).unwrap();
        fs::write(place.path().join("other"), "SQLite format 2").unwrap();
        std::os::unix::fs::symlink(&database, desk.join("fd/3")).unwrap();
        std::os::unix::fs::symlink(place.path().join("other"), desk.join("fd/4")).unwrap();
        std::os::unix::fs::symlink("socket:[42]", desk.join("fd/5")).unwrap();
        // What is no process, and one that is gone.
        fs::write(proc.join("uptime"), "1").unwrap();
        fs::create_dir(proc.join("10")).unwrap();
        let found = running_services(&proc);
        let wanted = [
            RunningService::Postgres { host: Some("/run/quay".into()), port: 5433 },
            RunningService::Mariadb { socket: "/run/mysqld/mysqld.sock".into(), is_said: false },
            RunningService::Mariadb { socket: "/srv/a.sock".into(), is_said: true },
            RunningService::Redis(RedisAddress::Socket("/run/r.sock".into())),
            RunningService::Redis(RedisAddress::Port(6379)),
            RunningService::OpenLdap { config: "/etc/quay.d".into() },
            RunningService::Sqlite { path: database, program: "desk".to_owned() },
            RunningService::Web { program: "nginx".to_owned() },
        ];
        assert_eq!(found, wanted);
    }
}
