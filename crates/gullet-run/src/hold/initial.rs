//! In which state an application is before anything is entered, by both of its probes.

use gullet_model::Reason;
use gullet_model::definition::{HoldStep, OneOrMany, Probe};

/// The state that probes say an application is in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum InitialState {
    /// It serves its users.
    Serving,
    /// It is held already.
    Held,
    /// Neither can be said, or both were: why.
    Unknown(String),
    /// There is no probe to ask.
    NotAsked,
}

/// Asks both probes of a step; exactly one may pass.
pub fn initial_state(step: &HoldStep, ask: &mut dyn FnMut(&OneOrMany<Probe>) -> Result<(), Reason>) -> InitialState {
    let serving = step.released.as_ref().map(&mut *ask);
    let held = step.entered.as_ref().map(ask);
    match (serving, held) {
        (Some(Ok(())), Some(Ok(()))) => {
            let why = "its `released` and its `entered` probe both pass, so they cannot tell whether it is held";
            InitialState::Unknown(why.to_owned())
        }
        (Some(Ok(())), _) => InitialState::Serving,
        (_, Some(Ok(()))) => InitialState::Held,
        (Some(Err(why)), _) => InitialState::Unknown(format!("neither serving nor held: {why}")),
        (None, Some(Err(_))) => InitialState::Serving,
        (None, None) => InitialState::NotAsked,
    }
}
