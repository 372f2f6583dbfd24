//! Commands of a plan, as they will be executed.

use std::path::PathBuf;
use std::time::Duration;

use gullet_host::hook::argv_of;
use gullet_model::definition::{CommandSpec, ExitWanted, Probe, Span, command_text};
use gullet_model::words::millis;
use serde::Serialize;

/// A command that a step will execute.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct PlannedCommand {
    /// As a person would type it; of a script its first line.
    #[serde(skip)]
    pub text: String,
    /// Program and arguments as they will be executed and recorded; what is known only in the run stands in braces.
    pub argv: Vec<String>,
    /// The script that the program will be given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub script: Option<String>,
    /// The body of the request.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub body: Option<String>,
    /// The account that it runs as, where it names one.
    #[serde(rename = "as", skip_serializing_if = "Option::is_none")]
    pub run_as: Option<String>,
    /// Why it cannot run as that account here.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
    /// The program that takes it as further arguments.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub through: Option<Vec<String>>,
    /// The folder it runs in, where it names one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dir: Option<PathBuf>,
    /// The names of the variables that the definition adds to its environment.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub env: Vec<String>,
    /// How long it may take, in milliseconds.
    pub limit_ms: u64,
    /// How often it is tried.
    pub tries: u32,
    /// What it must answer, where that is asked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expects: Option<String>,
    /// How long it is asked again until it answers so, in milliseconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub within_ms: Option<u64>,
}

impl PlannedCommand {
    /// A command, with the limit that it has where it names none.
    pub(super) fn new(spec: &CommandSpec, limit: Duration) -> Self {
        let (argv, problem) = match argv_of(spec) {
            Ok(argv) => (argv, None),
            Err(error) => (Vec::new(), Some(error.to_string())),
        };
        let is_script = spec.run.is_none() && spec.asked().is_none();
        Self {
            text: command_text(spec),
            argv,
            problem,
            script: spec.script.clone().filter(|_| is_script),
            body: spec.request.body.clone(),
            run_as: spec.run_as.clone(),
            through: spec.through.clone(),
            dir: spec.dir.clone(),
            env: spec.env.keys().cloned().collect(),
            limit_ms: millis(spec.limit.map_or(limit, |limit| limit.0)),
            tries: spec.tries.unwrap_or(1).max(1),
            expects: None,
            within_ms: None,
        }
    }

    /// A probe; `within` is how long it is asked again where it says nothing itself.
    pub(super) fn probe(probe: &Probe, limit: Duration, within: Option<Duration>) -> Self {
        let mut wants: Vec<String> = Vec::new();
        wants.extend(probe.prints.as_ref().map(|text| format!("prints {text:?}")));
        wants.extend(probe.contains.as_ref().map(|text| format!("contains {text:?}")));
        wants.extend(probe.matches.as_ref().map(|text| format!("matches {text:?}")));
        wants.extend(probe.every_line.as_ref().map(|text| format!("every line matches {text:?}")));
        wants.extend(probe.json.iter().map(|(pointer, value)| format!("{pointer} is {value}")));
        wants.extend(probe.status.map(|status| format!("status {status}")));
        wants.extend(match &probe.exit {
            Some(ExitWanted::Code(code)) => Some(format!("exits with {code}")),
            Some(ExitWanted::Word(_)) => None,
            None if wants.is_empty() && probe.command.asked().is_some() => Some("status 200 to 299".to_owned()),
            None if wants.is_empty() => Some("exits with 0".to_owned()),
            None => None,
        });
        let within = within.map(|usual| millis(probe.within.map_or(usual, |span| span.0)));
        let expects = Some(wants.join(", ")).filter(|text| !text.is_empty());
        Self { expects, within_ms: within, ..Self::new(&probe.command, limit) }
    }

    /// Limits and what is expected, in a few words.
    pub fn conditions(&self) -> String {
        let span = |ms: u64| Span(Duration::from_millis(ms));
        let mut words: Vec<String> = self.expects.iter().cloned().collect();
        match self.within_ms {
            Some(within) => words.push(format!("within {}", span(within))),
            None if self.expects.is_none() => words.push(format!("limit {}", span(self.limit_ms))),
            None => {}
        }
        words.extend((self.tries > 1).then(|| format!("{} tries", self.tries)));
        words.extend(self.run_as.as_ref().map(|name| format!("as {name}")));
        words.join(", ")
    }
}
