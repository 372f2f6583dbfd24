//! What the engines share: waiting for a server's answers, the databases that are meant, its export program, whether an export is
//! whole, what leads out of its folder, and what can be known of it all beforehand.

use std::fs::{self, File, FileType};
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::time::Duration;

use gullet_store::{IoPath, PathError};

use super::{EngineError, Login, Waiting};
use crate::part::context::{CaptureContext, PartError};
use crate::plan::PlannedPart;
use gullet_host::hook::{Call, Cancellation, Limits, Runner};
use gullet_model::definition::{CommandSpec, Mariadb, Postgres};

/// How long the server may take to answer, exports apart. A checkpoint is waited for too.
const ANSWER: Duration = Duration::from_secs(60 * 60);
/// So many bytes at the end of an export are looked through for what it ends with.
const END: u64 = 400;

impl From<EngineError> for PartError {
    fn from(error: EngineError) -> Self {
        match error {
            EngineError::Stopped => Self::Stopped,
            other => Self::Failed(other.into()),
        }
    }
}

impl<'a> CaptureContext<'a, '_> {
    /// For how long a server's answer is waited for.
    pub(crate) fn waiting(&self) -> Waiting<'a> {
        Waiting { clock: self.world.clock, patience: self.patience, limit: ANSWER }
    }
}

/// For how long a server's answer is waited for before a run.
pub(crate) fn beforehand<'a>(runner: &Runner<'a>) -> Waiting<'a> {
    Waiting { clock: runner.world.clock, patience: Cancellation::default(), limit: Limits::PROBE }
}

/// A server of the definition, with names of databases that `each` fills in.
pub(crate) trait Named: Clone {
    fn databases(&mut self) -> &mut Vec<String>;
}

impl Named for Postgres {
    fn databases(&mut self) -> &mut Vec<String> {
        &mut self.login.databases
    }
}

impl Named for Mariadb {
    fn databases(&mut self) -> &mut Vec<String> {
        &mut self.login.databases
    }
}

/// A part's server, with its databases' names filled in.
pub(crate) fn with_names<S: Named>(spec: &S, part: &PlannedPart) -> S {
    let mut spec = spec.clone();
    *spec.databases() = part.filled(spec.databases());
    spec
}

/// The databases that are meant, of those that are there.
///
/// # Errors
/// The one that is not there, or that there are none.
pub(crate) fn meant(wanted: &[String], there: Vec<String>) -> Result<Vec<String>, PartError> {
    if wanted == ["*"] {
        return if there.is_empty() {
            Err(PartError::failed("the server has no databases but its own"))
        } else {
            Ok(there)
        };
    }
    match wanted.iter().find(|name| !there.contains(name)) {
        Some(missing) => {
            let there = if there.is_empty() { "none".to_owned() } else { there.join(", ") };
            Err(PartError::failed(format!(
                "the server has no database `{missing}` that this user is shown; it has {there}"
            )))
        }
        None => Ok(wanted.to_vec()),
    }
}

/// Refuses an export program that is older than the server. `version_of` reads a version out of what it prints.
///
/// # Errors
/// When it cannot be run, says no version, or is older.
pub(crate) fn check_program<V: PartialOrd>(
    program: &Path,
    (server, of_server): (&str, V),
    version_of: impl Fn(&str) -> Option<V>,
    runner: &Runner<'_>,
) -> Result<(), PartError> {
    let run = Some(vec![program.display().to_string(), "--version".to_owned()]);
    let command = CommandSpec { run, ..CommandSpec::default() };
    let outcome = runner.run(&command, Call { moment: "preflight", limit: Limits::PROBE, ..Call::default() });
    outcome.result.map_err(PartError::Failed)?;
    let said = outcome.text.trim();
    match version_of(said) {
        None => Err(PartError::failed(format!(
            "`{}` does not say a version of the server's kind: {said}",
            program.display()
        ))),
        Some(own) if own < of_server => Err(PartError::failed(format!(
            "the server is {server} and `{}` is older ({said}): an export program must not be older (set `programs`)",
            program.display()
        ))),
        Some(_) => Ok(()),
    }
}

/// One of the server's own programs, as the account that it is called as.
pub(crate) fn command(run: Vec<String>, login: &Login) -> CommandSpec {
    let account = login.account.as_ref().filter(|account| account.uid != rustix::process::geteuid().as_raw());
    CommandSpec { run: Some(run), run_as: account.map(|account| account.name.clone()), ..CommandSpec::default() }
}

/// A call of such a program. The password goes into the environment variable of this name, never among the arguments.
pub(crate) fn call<'p>(login: &Login, variable: &str, patience: Cancellation<'p>) -> Call<'p> {
    let secret = login.password.clone().map(|password| (variable.to_owned(), password));
    let secrets = secret.into_iter().collect();
    Call { moment: "capture", limit: Limits::EXPORT, patience, secrets, ..Call::default() }
}

/// An exit code of 0 is no proof: an export that is whole says so at its end.
///
/// # Errors
/// When it does not say so, or cannot be read.
pub(crate) fn is_whole(path: &Path, last: &str) -> Result<(), PartError> {
    let mut file = File::open(path).at(path)?;
    let length = file.metadata().at(path)?.len();
    let mut end = Vec::new();
    file.seek(SeekFrom::Start(length.saturating_sub(END))).at(path)?;
    file.take(END).read_to_end(&mut end).at(path)?;
    // Where it is looked from need not be the beginning of a character.
    if String::from_utf8_lossy(&end).contains(last) {
        return Ok(());
    }
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    Err(PartError::failed(format!("the export {name} is not whole: it does not end with `{last}`")))
}

/// The folders in which the server's programs are looked for first.
pub(crate) fn folders(programs: Option<&PathBuf>, usual: impl IntoIterator<Item = String>) -> Vec<PathBuf> {
    programs.cloned().into_iter().chain(usual.into_iter().map(PathBuf::from)).collect()
}

/// What lies in a server's data folder, or in one of its folders, and leads out of `within`: the name in the folder, and where
/// it leads. `leads_to` says it of a path, where it leads anywhere that the server would follow.
///
/// # Errors
/// When it cannot be looked at: what was not seen may lead anywhere.
pub(crate) fn leading_out(
    data: &Path,
    within: &Path,
    leads_to: impl Fn(&Path, FileType) -> io::Result<Option<PathBuf>>,
) -> Result<Vec<(String, PathBuf)>, PathError> {
    let within = fs::canonicalize(within).at(within)?;
    let mut found = Vec::new();
    let mut folders = vec![data.to_path_buf()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).at(&folder)? {
            let entry = entry.at(&folder)?;
            let (path, kind) = (entry.path(), entry.file_type().at(entry.path())?);
            if let Some(place) = leads_to(&path, kind).at(&path)? {
                // Where there is nothing yet, it is where it says.
                let place = fs::canonicalize(folder.join(&place)).unwrap_or(place);
                if !place.starts_with(&within) {
                    found.push((path.strip_prefix(data).unwrap_or(&path).display().to_string(), place));
                }
            } else if kind.is_dir() && folder == data {
                folders.push(path);
            }
        }
    }
    found.sort();
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_export_is_whole_when_it_says_so_at_its_end_whatever_its_letters() {
        let file = tempfile::NamedTempFile::new().unwrap();
        let whole = |text: String| {
            fs::write(file.path(), text).unwrap();
            is_whole(file.path(), "-- done").is_ok()
        };
        assert!(whole("-- done".to_owned()) && whole(format!("{}\n-- done\n\n", "x".repeat(9000))));
        // The look begins in the middle of a letter for some of these.
        assert!((0..8).all(|more| whole(format!("{}{}\n-- done\n", "x".repeat(more), "ø".repeat(4000)))));
        assert!(!whole(String::new()) && !whole("x".repeat(9000)) && !whole(format!("-- done\n{}", "x".repeat(9000))));
    }

    #[test]
    fn databases_are_those_that_are_named_or_all() {
        let there = || vec!["app".to_owned(), "isles".to_owned()];
        let names = |wanted: &[&str], there| {
            let wanted: Vec<String> = wanted.iter().map(|name| (*name).to_owned()).collect();
            meant(&wanted, there).map_err(|error| error.to_string())
        };
        assert_eq!(names(&["*"], there()).unwrap(), there());
        assert_eq!(names(&["isles"], there()).unwrap(), ["isles"]);
        assert!(names(&["isles", "sea"], there()).unwrap_err().contains("`sea`"));
        assert!(names(&["*"], Vec::new()).is_err() && names(&["app"], Vec::new()).unwrap_err().contains("none"));
    }
}
