//! `gullet due`.

mod broken;
mod system;

use std::fs;

use clap::Args;
use gullet_core::due::{Ledger, schedules, serve};
use gullet_host::state::State;
use gullet_model::definition::Loaded;

use super::notify::send_after_work;
use crate::args::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::ui::Ui;
use system::System;

/// Start what is due by the schedules
///
/// The system's scheduler calls it every minute; `gullet timer --every-minute` prints the entry. It starts what came due since the
/// last call, runs, drills, verifications and reports, one after the other, waits for them and exits. What could not start in time
/// is recorded as missed. While one call goes on, others only send messages that wait.
///
/// Example: gullet due
#[derive(Args)]
pub struct DueArgs {}

pub fn due(ui: &mut Ui, global: &Global, _: &DueArgs) -> Result<Exit, CommandError> {
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    let loaded = match open::sound(global) {
        Ok(loaded) => loaded,
        Err(error) => {
            // Nobody looks at what this prints.
            if let Err(error) = broken::tell_all(ui, &open::path_of(global)?, &error, &outside) {
                ui.error(&error);
            }
            return Err(error);
        }
    };
    let state = open::state(&loaded)?;
    broken::tell(ui, &loaded, &state, &outside)?;
    let Some(_lock) = state.lock_due()? else {
        // What goes on may take hours; messages do not wait for it.
        send_after_work(ui, &loaded, &state, &outside);
        return Ok(Exit::Complete);
    };
    crate::forgotten::settle(ui, &loaded, &state, &outside);
    let schedules = schedules(&loaded.definition);
    let mut ledger = read_ledger(&state)?;
    let mut system = System::new(ui, &loaded, &state, &outside);
    let served = serve(&mut ledger, &schedules, at_once(&loaded), &mut system);
    let exit = system.exit();
    send_after_work(ui, &loaded, &state, &outside);
    let exit = if loaded.left_out.is_empty() { exit } else { exit.worse(Exit::Definition) };
    served.map(|()| exit)
}

/// How many runs that are due go on at once.
pub(super) fn at_once(loaded: &Loaded) -> usize {
    usize::from(loaded.definition.limits.as_ref().and_then(|limits| limits.at_once).unwrap_or(1))
}

/// The ledger of a state folder.
pub(super) fn read_ledger(state: &State) -> Result<Ledger, CommandError> {
    let path = state.folder().join("due.json");
    match fs::read(&path) {
        Ok(bytes) => serde_json::from_slice(&bytes).map_err(|error| {
            let text = format!("`{}` cannot be read, so it is not known what is done: {error}", path.display());
            CommandError::text(Exit::Failed, text)
                .hint("remove it, and the schedules begin anew: nothing before now is due then")
        }),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Ledger::default()),
        Err(error) => Err(error.into()),
    }
}
