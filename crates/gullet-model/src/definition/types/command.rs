//! Commands, probes and secrets of a definition.

use std::collections::BTreeMap;
use std::path::PathBuf;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::super::engines::RequestSpec;
use super::super::values::Span;

/// A command of yours: a program, a script, or a request over HTTP.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "a command", deny_unknown_fields)]
pub struct CommandSpec {
    /// Program and arguments; never given to a shell. Without it another key must say what is called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<Vec<String>>,
    /// The text of a script, for `interpreter`. Without it another key must say what is called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub script: Option<String>,
    /// Program and arguments that run the script; `["/bin/sh", "-eu"]` by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interpreter: Option<Vec<String>>,
    /// Instead of a program: a URL that is asked for. Without it another key must say what is called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub get: Option<String>,
    /// Instead of a program: a URL that `body` is sent to. Without it another key must say what is called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub post: Option<String>,
    /// Instead of a program: a URL that `body` is put to. Without it another key must say what is called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub put: Option<String>,
    /// Instead of a program: a URL that is to be removed. Without it another key must say what is called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub delete: Option<String>,
    /// Headers, credentials and body of the request.
    #[serde(flatten)]
    pub request: RequestSpec,
    /// The folder to run in; `/` by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dir: Option<PathBuf>,
    /// Further environment variables; a secret is `{ env = "…" }`, `{ file = "…" }` or `{ run = […] }`. Without it the command has what Gullet
    /// gives it (`PATH`, `HOME`, `LC_ALL` and its own, `GULLET_…`), and nothing of the caller's.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub env: BTreeMap<String, EnvValue>,
    /// How long it may take. Without it a hook has 5 minutes, a probe 30 seconds, an export one hour. At the limit it is
    /// ended, with everything that it started.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<Span>,
    /// How often it is tried, with growing pauses; once by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(min = 1, max = 100))]
    pub tries: Option<u32>,
    /// The account to run as, with its groups and its home; needs root, or `through`. Without it the command runs
    /// as Gullet does.
    #[serde(default, rename = "as", skip_serializing_if = "Option::is_none")]
    pub run_as: Option<String>,
    /// Program and arguments that take this command as further arguments, such as `["sudo", "-n", "-u", "desk"]`.
    /// Without it the command is started directly.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub through: Option<Vec<String>>,
}

/// The value of an environment variable.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum EnvValue {
    /// As it stands.
    Plain(String),
    /// A secret from Gullet's own environment.
    Env(SecretEnv),
    /// A secret from the first line of a file that others cannot read.
    File(SecretFile),
    /// A secret that a command prints.
    Run(SecretRun),
}

/// A secret from Gullet's own environment.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(title = "a secret from the environment")]
pub struct SecretEnv {
    /// The variable's name.
    pub env: String,
}

/// A secret from a file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(title = "a secret from a file")]
pub struct SecretFile {
    /// The absolute path of the file; its first line is the secret. A file that others can read is refused.
    pub file: PathBuf,
}

/// A secret that a command prints.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(title = "a secret from a command")]
pub struct SecretRun {
    /// Program and arguments; what it prints is the secret.
    pub run: Vec<String>,
}

/// A command that only asks; its standard output without the last newline is compared.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "a probe", deny_unknown_fields)]
pub struct Probe {
    /// The command.
    #[serde(flatten)]
    pub command: CommandSpec,
    /// The output is exactly this. Without it the output is not looked at for that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub prints: Option<String>,
    /// The output contains this. Without it the output is not looked at for that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub contains: Option<String>,
    /// The output matches this regular expression. Without it the output is not looked at for that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub matches: Option<String>,
    /// Every line of the output matches this regular expression, and there is at least one. Without it the output
    /// is not looked at for that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub every_line: Option<String>,
    /// The output is JSON, and at each of these pointers (RFC 6901) stands this value. Without it the output is not
    /// looked at for that.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub json: BTreeMap<String, serde_json::Value>,
    /// The exit code: 0 by default, a number, or `"any"`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exit: Option<ExitWanted>,
    /// The status that a request must get, where that is not one from 200 to 299. Without it any status from 200 to
    /// 299 passes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(min = 100, max = 599))]
    pub status: Option<u16>,
    /// For how long it is asked again until it passes; once by default. Probes of a hold step are asked again for 30 seconds,
    /// `drained` for 10 minutes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub within: Option<Span>,
}

/// The exit code that a probe wants.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum ExitWanted {
    /// This one.
    Code(i32),
    /// A word; only `any` is known.
    Word(AnyExit),
}

/// The word for every exit code.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum AnyExit {
    /// Every exit code.
    Any,
}

/// One probe or a list of which all must hold.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum OneOrMany<T> {
    /// One.
    One(Box<T>),
    /// Several.
    Many(Vec<T>),
}

impl<T: Default> Default for OneOrMany<T> {
    fn default() -> Self {
        Self::Many(Vec::new())
    }
}

impl<T> OneOrMany<T> {
    /// All of them.
    pub fn all(&self) -> &[T] {
        match self {
            Self::One(one) => std::slice::from_ref(one),
            Self::Many(many) => many,
        }
    }
}

/// A harmless probe that must pass before anything is touched.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "a requirement", deny_unknown_fields)]
pub struct Require {
    /// What is required, in words.
    pub name: String,
    /// The probe.
    #[serde(flatten)]
    pub probe: Probe,
    /// What to do when it does not pass. Without it only what was found is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub advice: Option<String>,
}

impl CommandSpec {
    /// The method and the URL, where it is a request.
    pub fn asked(&self) -> Option<(&'static str, &String)> {
        let said = [("GET", &self.get), ("POST", &self.post), ("PUT", &self.put), ("DELETE", &self.delete)];
        said.into_iter().find_map(|(method, url)| url.as_ref().map(|url| (method, url)))
    }

    /// How many ways of doing something it names; a sound one names one.
    pub fn ways(&self) -> usize {
        let requests = [&self.get, &self.post, &self.put, &self.delete].into_iter().flatten().count();
        requests + usize::from(self.run.is_some()) + usize::from(self.script.is_some())
    }

    /// Every secret that it takes from Gullet's own environment.
    pub fn takes_env(&self) -> bool {
        let request = &self.request;
        let values = self.env.values().chain(request.headers.values()).chain(&request.bearer).chain(&request.password);
        values.into_iter().any(|value| matches!(value, EnvValue::Env(_)))
    }
}
