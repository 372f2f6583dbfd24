//! A person at the terminal does what a command of a restore could not.

use super::apply::Applying;
use gullet_model::Reason;
use gullet_model::definition::{CommandSpec, RestoreSpec};
use gullet_model::event::Instruction;

/// Shows an instruction, waits until it is said to be done, and gives whether to ask the application again. It comes back
/// soon after the second says that there is nothing to wait for any more.
pub type Attend<'a> = &'a mut dyn FnMut(&Instruction, &dyn Fn() -> bool) -> bool;

/// What a person is asked for.
#[derive(Clone, Copy)]
pub(super) enum WantedState {
    /// That it is stopped, before anything changes hands.
    Stopped,
    /// That it serves on the new state.
    Started,
    /// That it serves on the old state, which is in place again.
    StartedAgain,
}

impl WantedState {
    fn instruction(self, app: &str, spec: &RestoreSpec, why: &Reason) -> Instruction {
        let command =
            |command: Option<&CommandSpec>| command.map(gullet_model::definition::command_text).unwrap_or_default();
        let start = || match &spec.manual_start {
            Some(by_hand) => by_hand.clone(),
            None => format!("start it by hand: {}", command(spec.start.as_ref())),
        };
        let (problem, to_do, then, otherwise) = match self {
            Self::Stopped => (
                "does not stop",
                format!("stop it by hand: {}", command(spec.stop.as_ref())),
                "whether it is stopped",
                "nothing changes hands, and it is started again",
            ),
            Self::Started => (
                "does not start on the new state",
                start(),
                "whether it serves",
                "the old state is put back, and it is started on that",
            ),
            Self::StartedAgain => (
                "does not start on the old state, which is in place",
                start(),
                "whether it serves",
                "the restore ends as not released, and starting it is tried again and again",
            ),
        };
        Instruction {
            about: app.to_owned(),
            problem: format!("{problem}: {why}"),
            to_do,
            then,
            otherwise: otherwise.to_owned(),
        }
    }
}

/// Has a person do what did not work, where one is there and the application can be asked whether it is done: asks it again
/// each time that it is said to be, until it is so or the person gives up.
///
/// # Errors
/// What it said last.
pub(super) fn by_hand(
    with: &mut Applying<'_>,
    spec: &RestoreSpec,
    wanted: WantedState,
    mut why: Reason,
    ask: &mut dyn FnMut(&Applying<'_>) -> Result<(), Reason>,
) -> Result<(), Reason> {
    let can_be_asked = match wanted {
        WantedState::Stopped => spec.stopped.is_some(),
        WantedState::Started | WantedState::StartedAgain => spec.started.is_some(),
    };
    let stop = with.world.stop;
    // Who interrupted a restore is asked all the same when it serves nobody; one more signal ends that.
    let times = if matches!(wanted, WantedState::StartedAgain) { stop.times() } else { 0 };
    let over = move || stop.times() > times;
    while can_be_asked && !over() {
        let app = with.logged.record.app.clone();
        if !(with.attend)(&wanted.instruction(&app, spec, &why), &over) {
            break;
        }
        match ask(with) {
            Ok(()) => return Ok(()),
            Err(again) => why = again,
        }
    }
    Err(why)
}
