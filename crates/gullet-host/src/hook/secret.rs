//! Secrets: where they come from, and that they stay out of everything that is kept.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;
use std::process::{Command, Stdio};

use gullet_model::definition::{Credentials, EnvValue};

/// A secret could not be had.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SecretError {
    /// The environment does not have it.
    #[error("the secret for `{variable}`: Gullet's environment has no `{name}`")]
    NoEnv {
        /// The variable it is for.
        variable: String,
        /// The variable it should come from.
        name: String,
    },
    /// The file cannot be read.
    #[error("the secret for `{variable}`: cannot read `{}`", path.display())]
    File {
        /// The variable it is for.
        variable: String,
        /// The file that has the secret.
        path: PathBuf,
        /// What the system said.
        #[source]
        source: std::io::Error,
    },
    /// Others can read the file.
    #[error("the secret for `{variable}`: `{}` can be read by others (mode {mode:o}); make it 600", path.display())]
    Open {
        /// The variable it is for.
        variable: String,
        /// The file that has the secret.
        path: PathBuf,
        /// Its permission bits.
        mode: u32,
    },
    /// The command that prints it failed.
    #[error("the secret for `{variable}`: `{program}` failed")]
    Command {
        /// The variable it is for.
        variable: String,
        /// The program that prints the secret.
        program: String,
    },
}

/// The values of a command's `env`, and which of them are secrets.
pub struct Resolved {
    /// The environment with the values filled in.
    pub env: BTreeMap<String, String>,
    pub(crate) secrets: Vec<String>,
}

/// Reads secrets from where the definition says that they are.
///
/// # Errors
/// When one of them cannot be read.
pub fn resolve(env: &BTreeMap<String, EnvValue>, outside: &BTreeMap<String, String>) -> Result<Resolved, SecretError> {
    let mut resolved = Resolved { env: BTreeMap::new(), secrets: Vec::new() };
    for (name, value) in env {
        let text = match value {
            EnvValue::Plain(text) => {
                resolved.env.insert(name.clone(), text.clone());
                continue;
            }
            EnvValue::Env(from) => outside
                .get(&from.env)
                .cloned()
                .ok_or_else(|| SecretError::NoEnv { variable: name.clone(), name: from.env.clone() })?,
            EnvValue::File(from) => read_private(name, &from.file)?,
            EnvValue::Run(from) => printed(name, &from.run)?,
        };
        resolved.secrets.push(text.clone());
        resolved.env.insert(name.clone(), text);
    }
    Ok(resolved)
}

/// The text of the credentials of a far place, all of its lines; `about` is what they are for.
///
/// # Errors
/// When it cannot be read.
pub fn credentials(about: &str, from: &Credentials) -> Result<String, SecretError> {
    match from {
        Credentials::File(from) => read_whole(about, &from.file),
        Credentials::Run(from) => printed_whole(about, &from.run),
    }
}

fn first_line(text: &str) -> String {
    text.lines().next().unwrap_or("").to_owned()
}

fn read_private(variable: &str, path: &PathBuf) -> Result<String, SecretError> {
    Ok(first_line(&read_whole(variable, path)?))
}

fn read_whole(variable: &str, path: &PathBuf) -> Result<String, SecretError> {
    let wrap = |source| SecretError::File { variable: variable.to_owned(), path: path.clone(), source };
    let mode = fs::metadata(path).map_err(wrap)?.mode() & 0o7777;
    if mode & 0o077 != 0 {
        return Err(SecretError::Open { variable: variable.to_owned(), path: path.clone(), mode });
    }
    fs::read_to_string(path).map_err(wrap)
}

fn printed(variable: &str, run: &[String]) -> Result<String, SecretError> {
    Ok(first_line(&printed_whole(variable, run)?))
}

fn printed_whole(variable: &str, run: &[String]) -> Result<String, SecretError> {
    let program = run.first().cloned().unwrap_or_default();
    let failed = || SecretError::Command { variable: variable.to_owned(), program: program.clone() };
    let output = Command::new(&program).args(&run[1..]).stdin(Stdio::null()).output().map_err(|_| failed())?;
    let text = String::from_utf8(output.stdout).map_err(|_| failed())?;
    if output.status.success() { Ok(text) } else { Err(failed()) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use gullet_model::definition::EnvValue;
    use std::os::unix::fs::PermissionsExt;

    fn value(toml: &str) -> BTreeMap<String, EnvValue> {
        toml::from_str(toml).unwrap()
    }

    #[test]
    fn a_secret_file_that_others_can_read_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("token");
        fs::write(&path, "s3cret\nsecond line\n").unwrap();
        let env = value(&format!("TOKEN = {{ file = {path:?} }}\nPLAIN = \"x\""));
        for (mode, passes) in [(0o644, false), (0o640, false), (0o600, true), (0o400, true)] {
            fs::set_permissions(&path, fs::Permissions::from_mode(mode)).unwrap();
            assert_eq!(resolve(&env, &BTreeMap::new()).is_ok(), passes, "{mode:o}");
        }
        let resolved = resolve(&env, &BTreeMap::new()).ok().unwrap();
        assert_eq!(resolved.env["TOKEN"], "s3cret");
        assert_eq!(resolved.secrets, ["s3cret"]);
    }

    #[test]
    fn secrets_come_from_the_environment_and_from_commands() {
        let env = value("A = { env = \"FROM\" }\nB = { run = [\"/bin/echo\", \"tide\"] }");
        let outside = BTreeMap::from([("FROM".to_owned(), "harbour".to_owned())]);
        let resolved = resolve(&env, &outside).ok().unwrap();
        assert_eq!((resolved.env["A"].as_str(), resolved.env["B"].as_str()), ("harbour", "tide"));
        assert!(matches!(resolve(&env, &BTreeMap::new()), Err(SecretError::NoEnv { .. })));
        let env = value("B = { run = [\"/bin/false\"] }");
        assert!(matches!(resolve(&env, &outside), Err(SecretError::Command { .. })));
    }
}
