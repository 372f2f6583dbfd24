//! The way back for databases: the export into the server that the definition names, by the server's own client. Only what is
//! not there yet is brought in; nothing is ever replaced, so that it can be taken back by removing what was brought in.

use std::fs::{self, File};
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::time::Duration;

use super::server::{call, command};
use super::{Login, Waiting};
use gullet_host::hook::{Call, Cancellation, Limits, Runner};
use gullet_model::{Reason, ReasonAbout};

/// A server that exports are brought back into.
pub trait Importer {
    /// How people name the server.
    fn describe(&self) -> String;

    /// Whether the server answers: it may be a part of the application, and stopped with it.
    fn answers(&self, runner: &Runner<'_>) -> bool;

    /// Brings in what lies in a folder. Gives the databases that were made, also where it fails in the middle.
    ///
    /// # Errors
    /// When the server does not answer, has one of the databases already, or refuses what the export says.
    fn bring(&self, folder: &Path, runner: &Runner<'_>, made: &mut Vec<String>) -> Result<(), Reason>;

    /// Removes what was brought in.
    ///
    /// # Errors
    /// When the server does not answer, or refuses.
    fn take_back(&self, made: &[String], runner: &Runner<'_>) -> Result<(), Reason>;
}

/// For how long is waited for a server whose export is brought in.
pub(super) fn bringing<'a>(runner: &Runner<'a>) -> Waiting<'a> {
    let patience = Cancellation { stop: Some(runner.world.stop), ..Cancellation::default() };
    Waiting { clock: runner.world.clock, patience, limit: Limits::EXPORT }
}

/// For how long is waited for a server that is asked something, or told to remove what was brought in.
pub(super) fn asking<'a>(runner: &Runner<'a>, limit: Duration) -> Waiting<'a> {
    Waiting { clock: runner.world.clock, patience: Cancellation::default(), limit }
}

/// Why nothing is brought in: nothing is ever replaced.
pub(super) fn is_there(name: &str) -> Reason {
    Reason::new(format!("the server has a database `{name}` already: rename or remove it first"))
}

/// The names of the databases that the exports in a folder make, with the file of each.
pub(super) fn databases(folder: &Path) -> Result<Vec<(String, PathBuf)>, Reason> {
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

/// Runs a client with a file on its standard input, as the account that the server is called as.
pub(super) fn feed(
    words: Vec<String>,
    login: &Login,
    variable: &str,
    file: &Path,
    runner: &Runner<'_>,
) -> Result<(), Reason> {
    let spec = command(words, login);
    let patience = Cancellation { stop: Some(runner.world.stop), ..Cancellation::default() };
    let call = Call { moment: "restore", stdin: Some(file.to_path_buf()), ..call(login, variable, patience) };
    let name = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
    runner.run(&spec, call).result.about(name)
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
