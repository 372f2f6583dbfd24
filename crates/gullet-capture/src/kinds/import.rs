//! The way back for databases: the export into the server that the definition names, by the server's own client. Only what is
//! not there yet is brought in; nothing is ever replaced, so that it can be taken back by removing what was brought in.

use std::fs::{self, File};
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};

use crate::engine::{Login, Waiting, mariadb, postgres, program};
use crate::part::server::{call, command, folders};
use gullet_host::hook::{Call, Cancellation, Limits, Runner};
use gullet_model::definition::{Mariadb, Part, Postgres};
use gullet_model::{Reason, ReasonAbout};

/// Databases that every PostgreSQL server has, and that are replaced when nothing is in them.
const FROM_THE_BEGINNING: &str = "postgres";

/// A server that an export is brought into.
pub enum DatabaseImport {
    /// Into a PostgreSQL server.
    Postgres(Box<(Postgres, postgres::PostgresServer)>),
    /// Into a MariaDB server.
    Mariadb(Box<(Mariadb, mariadb::MariadbServer)>),
}

/// The names of the databases that the exports in a folder make, with the file of each.
fn databases(folder: &Path) -> Result<Vec<(String, PathBuf)>, Reason> {
    let mut found = Vec::new();
    let mut paths: Vec<PathBuf> =
        fs::read_dir(folder).about(folder.display())?.flatten().map(|entry| entry.path()).collect();
    paths.sort();
    for path in paths.into_iter().filter(|path| path.extension().is_some_and(|extension| extension == "sql")) {
        for line in BufReader::new(File::open(&path).about(folder.display())?).split(b'\n').map_while(Result::ok) {
            if let Some(name) =
                line.strip_prefix(b"CREATE DATABASE ").and_then(|rest| quoted_name(&String::from_utf8_lossy(rest)))
            {
                found.push((name, path.clone()));
            }
        }
    }
    Ok(found)
}

/// The first name in quotes of the server's kind.
fn quoted_name(text: &str) -> Option<String> {
    let at = text.find(['"', '`'])?;
    let quote = &text[at..=at];
    let mut name = String::new();
    let mut rest = &text[at + 1..];
    loop {
        let end = rest.find(quote)?;
        name.push_str(&rest[..end]);
        match rest[end + 1..].strip_prefix(quote) {
            // Doubled, it stands for itself.
            Some(more) => {
                name.push_str(quote);
                rest = more;
            }
            None => return Some(name),
        }
    }
}

impl DatabaseImport {
    /// The server of a part; `None` where the part stands for none.
    pub fn of(part: &Part, runner: &Runner<'_>) -> Option<Result<Self, Reason>> {
        match (&part.postgres, &part.mariadb) {
            (Some(spec), _) if spec.cluster.is_none() => {
                let server = postgres::PostgresServer::of(spec, runner.world).map_err(Reason::from);
                Some(server.map(|server| Self::Postgres(Box::new((spec.clone(), server)))))
            }
            (_, Some(spec)) if spec.datadir.is_none() => {
                let server = mariadb::MariadbServer::of(spec, runner.world).map_err(Reason::from);
                Some(server.map(|server| Self::Mariadb(Box::new((spec.clone(), server)))))
            }
            _ => None,
        }
    }

    /// How people name the server.
    pub fn describe(&self) -> String {
        match self {
            Self::Postgres(at) => format!("PostgreSQL at {}", at.1.describe()),
            Self::Mariadb(at) => format!("MariaDB at {}", at.1.describe()),
        }
    }

    /// Whether the server answers: it may be a part of the application, and stopped with it.
    pub fn answers(&self, runner: &Runner<'_>) -> bool {
        let waiting = Waiting { clock: runner.world.clock, patience: Cancellation::default(), limit: Limits::PROBE };
        match self {
            Self::Postgres(at) => at.1.connect("template1", waiting).is_ok(),
            Self::Mariadb(at) => at.1.connect(waiting).is_ok(),
        }
    }

    /// Brings in what lies in a folder. Gives the databases that were made, also where it fails in the middle.
    pub fn bring(&self, folder: &Path, runner: &Runner<'_>, made: &mut Vec<String>) -> Result<(), Reason> {
        let patience = Cancellation { stop: Some(runner.world.stop), ..Cancellation::default() };
        let waiting = Waiting { clock: runner.world.clock, patience, limit: Limits::EXPORT };
        let wanted = databases(folder)?;
        match self {
            Self::Postgres(at) => bring_postgres(at, (folder, wanted), waiting, runner, made),
            Self::Mariadb(at) => bring_mariadb(at, (folder, wanted), waiting, runner, made),
        }
    }

    /// Removes what was brought in.
    pub fn take_back(&self, made: &[String], runner: &Runner<'_>) -> Result<(), Reason> {
        let waiting = Waiting { clock: runner.world.clock, patience: Cancellation::default(), limit: Limits::HOOK };
        match self {
            Self::Postgres(at) => {
                let session = at.1.connect("template1", waiting)?;
                for name in made {
                    let drop = format!("drop database if exists {} with (force)", postgres::quoted(name));
                    session.rows(&drop, waiting)?;
                }
            }
            Self::Mariadb(at) => {
                let session = at.1.connect(waiting)?;
                for name in made {
                    session.rows(&format!("drop database if exists {}", mariadb::quoted(name)), waiting)?;
                }
            }
        }
        Ok(())
    }
}

fn bring_postgres(
    (spec, server): &(Postgres, postgres::PostgresServer),
    (folder, wanted): (&Path, Vec<(String, PathBuf)>),
    waiting: Waiting<'_>,
    runner: &Runner<'_>,
    made: &mut Vec<String>,
) -> Result<(), Reason> {
    let session = server.connect("template1", waiting)?;
    let major = session.version(waiting)? / 10_000;
    let there = session.rows("select datname from pg_database", waiting)?;
    let there: Vec<String> = there.into_iter().flatten().flatten().collect();
    for (name, _) in wanted.iter().filter(|(name, _)| there.contains(name)) {
        if name != FROM_THE_BEGINNING || !is_empty(server, name, waiting)? {
            return Err(Reason::new(format!("the server has a database `{name}` already: rename or remove it first")));
        }
    }
    let psql = program(&super::postgres_programs(spec, major), &["psql"]).display().to_string();
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
            session.rows(&format!("drop database {}", postgres::quoted(&name)), waiting)?;
        }
        made.push(name);
        client(&path, true)?;
    }
    Ok(())
}

fn bring_mariadb(
    (spec, server): &(Mariadb, mariadb::MariadbServer),
    (folder, wanted): (&Path, Vec<(String, PathBuf)>),
    waiting: Waiting<'_>,
    runner: &Runner<'_>,
    made: &mut Vec<String>,
) -> Result<(), Reason> {
    let session = server.connect(waiting)?;
    let there = session.rows("show databases", waiting)?;
    let there: Vec<String> = there.into_iter().flatten().flatten().collect();
    if let Some((name, _)) = wanted.iter().find(|(name, _)| there.contains(name)) {
        return Err(Reason::new(format!("the server has a database `{name}` already: rename or remove it first")));
    }
    let client = program(&folders(spec.login.programs.as_ref(), []), &["mariadb", "mysql"]);
    let words = [vec![client.display().to_string()], server.arguments()].concat();
    let accounts = folder.join("accounts.sql");
    made.extend(wanted.iter().map(|(name, _)| name.clone()));
    let files: Vec<PathBuf> = wanted.into_iter().map(|(_, path)| path).collect();
    let mut files: Vec<PathBuf> = [accounts].into_iter().filter(|path| path.is_file()).chain(files).collect();
    files.dedup();
    for path in files {
        feed(words.clone(), &server.login, "MYSQL_PWD", &path, runner)?;
    }
    Ok(())
}

/// Whether a database has no tables of anybody's.
fn is_empty(server: &postgres::PostgresServer, name: &str, waiting: Waiting<'_>) -> Result<bool, Reason> {
    let session = server.connect(name, waiting)?;
    let sql = "select count(*) from pg_class c join pg_namespace n on n.oid = c.relnamespace \
               where n.nspname <> 'information_schema' and n.nspname !~ '^pg_'";
    Ok(session.value(sql, waiting)? == "0")
}

/// Runs a client with a file on its standard input, as the account that the server is called as.
fn feed(words: Vec<String>, login: &Login, variable: &str, file: &Path, runner: &Runner<'_>) -> Result<(), Reason> {
    let spec = command(words, login);
    let patience = Cancellation { stop: Some(runner.world.stop), ..Cancellation::default() };
    let call = Call { moment: "restore", stdin: Some(file.to_path_buf()), ..call(login, variable, patience) };
    let name = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
    runner.run(&spec, call).result.about(format_args!("{name}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_databases_of_an_export_are_found_by_what_it_makes() {
        let folder = tempfile::tempdir().unwrap();
        fs::write(
            folder.path().join("a.sql"),
            "-- x\nCREATE DATABASE \"inner isles\" WITH ENCODING = 'UTF8';\nCREATE TABLE x ();\n",
        )
        .unwrap();
        fs::write(
            folder.path().join("b.sql"),
            "CREATE DATABASE /*!32312 IF NOT EXISTS*/ `od``d` ;\n\nCREATE DATABASE /*!32312 IF NOT EXISTS*/ `b`;\n",
        )
        .unwrap();
        let names: Vec<String> = databases(folder.path()).unwrap().into_iter().map(|(name, _)| name).collect();
        assert_eq!(names, ["inner isles", "od`d", "b"]);
        assert_eq!(
            (quoted_name("x"), quoted_name("\"open"), quoted_name("\"a\"\"b\"")),
            (None, None, Some("a\"b".to_owned()))
        );
    }
}
