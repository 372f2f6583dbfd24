//! The one error of the command line, and the one way it is shown: `error:`, `caused by:`, `hint:`.

use std::error::Error;

use gullet_capture::plan::PlanError;
use gullet_core::run::RunError;
use gullet_host::state::StateError;
use gullet_logbook::logbook::FindError;
use gullet_model::definition::{Flaw, LoadError};
use gullet_restore::restore::RestoreError;
use gullet_store::StoreError;

use crate::exit::Exit;

/// A command could not do what it was asked.
#[derive(Debug)]
pub struct CommandError {
    /// How the program ends.
    pub exit: Exit,
    /// What is wrong, its causes after it.
    pub messages: Vec<String>,
    /// Flaws of the definition, shown with their place.
    pub flaws: Vec<Flaw>,
    /// What to do.
    pub hints: Vec<String>,
}

impl CommandError {
    /// An error with its chain of causes.
    pub fn new(exit: Exit, error: &dyn Error) -> Self {
        let mut messages = vec![error.to_string()];
        let mut cause = error.source();
        while let Some(next) = cause {
            messages.push(next.to_string());
            cause = next.source();
        }
        messages.dedup();
        Self { exit, messages, flaws: Vec::new(), hints: Vec::new() }
    }

    /// An error in words.
    pub fn text(exit: Exit, text: impl Into<String>) -> Self {
        Self { exit, messages: vec![text.into()], flaws: Vec::new(), hints: Vec::new() }
    }

    /// Adds what to do.
    #[must_use]
    pub fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hints.push(hint.into());
        self
    }

    fn known(self, what: &str, known: &[String]) -> Self {
        if known.is_empty() { self } else { self.hint(format!("{what}: {}", known.join(", "))) }
    }
}

impl From<LoadError> for CommandError {
    fn from(error: LoadError) -> Self {
        match error {
            LoadError::Flaws(flaws) => Self::flawed(flaws.0),
            other @ LoadError::Read(_) => Self::new(Exit::Definition, &other),
        }
    }
}

impl CommandError {
    fn flawed(flaws: Vec<Flaw>) -> Self {
        let count = flaws.len();
        let text = if count == 1 {
            "the definition has an error".to_owned()
        } else {
            format!("the definition has {count} errors")
        };
        Self { flaws, ..Self::text(Exit::Definition, text) }
    }
}

impl From<PlanError> for CommandError {
    fn from(error: PlanError) -> Self {
        match error {
            PlanError::Flaws(flaws) => Self::flawed(flaws.0),
            PlanError::NoApp { ref known, .. } => Self::new(Exit::Usage, &error).known("it defines", known),
            PlanError::NoPart { ref known, .. } => Self::new(Exit::Usage, &error).known("its parts are", known),
            other => Self::new(Exit::Refused, &other),
        }
    }
}

impl From<RunError> for CommandError {
    fn from(error: RunError) -> Self {
        match error {
            RunError::State(error) => error.into(),
            RunError::Plan(error) => error.into(),
            RunError::NotWhole { ref app, .. } => {
                let hint = format!("gullet restore {app} --undo, or --continue");
                Self::new(Exit::Refused, &error).hint(hint)
            }
            RunError::Stopped => Self::new(Exit::Interrupted, &error),
            other => Self::new(Exit::Failed, &other),
        }
    }
}

impl From<StateError> for CommandError {
    fn from(error: StateError) -> Self {
        match error {
            StateError::Busy { .. } => Self::new(Exit::Refused, &error).hint("wait for it to end; nothing was touched"),
            StateError::OtherStore { .. } | StateError::Open { .. } => Self::new(Exit::Refused, &error),
            other => Self::new(Exit::Failed, &other).hint("say where it may be with `state` in the definition"),
        }
    }
}

impl From<StoreError> for CommandError {
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::NoStore { .. } | StoreError::Format { .. } => {
                Self::new(Exit::Refused, &error).hint("`gullet store new NAME` makes a store that the definition names")
            }
            StoreError::NotEmpty { .. } => Self::new(Exit::Refused, &error).hint("choose an empty place"),
            other => Self::new(Exit::Failed, &other),
        }
    }
}

impl From<FindError> for CommandError {
    fn from(error: FindError) -> Self {
        match error {
            FindError::None { ref known, .. } => Self::new(Exit::Usage, &error).known("the newest are", known),
            FindError::Several { ref found, .. } => Self::new(Exit::Usage, &error).known("they are", found),
            FindError::NoGood { ref app, ref elsewhere } => {
                let error = Self::new(Exit::Usage, &error).hint("`gullet runs` shows all runs; name one by its id");
                elsewhere.iter().fold(error, |error, machine| error.hint(of_machine(app, machine)))
            }
            FindError::Machines { ref app, ref machines } => machines
                .iter()
                .fold(Self::new(Exit::Usage, &error), |error, machine| error.hint(of_machine(app, machine))),
            FindError::Form(_) => Self::new(Exit::Usage, &error),
        }
    }
}

/// How the newest run of another machine is named.
fn of_machine(app: &str, (machine, host): &gullet_logbook::logbook::MachineName) -> String {
    let host = if host.is_empty() { "a machine whose name is encrypted" } else { host.as_str() };
    format!("that of {}: {machine}:{app}@latest", crate::text::harmless(host))
}

impl From<RestoreError> for CommandError {
    fn from(error: RestoreError) -> Self {
        match error {
            RestoreError::NotEmpty(_) => Self::new(Exit::Refused, &error)
                .hint("nothing was written; give a folder that is empty or not there yet"),
            RestoreError::NoPart { ref known, .. } => Self::new(Exit::Usage, &error).known("its parts are", known),
            RestoreError::NotOne(_) => Self::new(Exit::Usage, &error)
                .hint("say its whole path as `gullet show RUN --listing` does, or a pattern"),
            RestoreError::Stream(_) => Self::new(Exit::Failed, &error),
            RestoreError::Nothing { .. } | RestoreError::Thinned { .. } => {
                Self::new(Exit::Refused, &error).hint("`gullet show RUN` says why; `gullet runs` lists others")
            }
            other => Self::new(Exit::Refused, &other),
        }
    }
}

/// A run is encrypted, and nothing at hand opens it.
pub fn locked(logged: &gullet_logbook::logbook::Logged) -> CommandError {
    let text = format!("run {} is encrypted, and no identity at hand opens it", logged.record.run);
    let keys = logged.keys.join(", ");
    CommandError::text(Exit::Refused, text)
        .hint(format!("give the identity of one of its keys with `--identity FILE`: {keys}"))
        .hint("`gullet key test` says which identity opens which runs")
}

impl From<gullet_logbook::sweep::SweepError> for CommandError {
    fn from(error: gullet_logbook::sweep::SweepError) -> Self {
        use gullet_logbook::sweep::SweepError;
        match error {
            SweepError::Store(error) => error.into(),
            SweepError::State(error) => error.into(),
            other => Self::new(Exit::Refused, &other),
        }
    }
}

impl From<gullet_store::KeyError> for CommandError {
    fn from(error: gullet_store::KeyError) -> Self {
        Self::new(Exit::Failed, &error)
    }
}

impl From<std::io::Error> for CommandError {
    fn from(error: std::io::Error) -> Self {
        Self::new(Exit::Failed, &error)
    }
}

impl From<serde_json::Error> for CommandError {
    fn from(error: serde_json::Error) -> Self {
        Self::new(Exit::Failed, &error)
    }
}
