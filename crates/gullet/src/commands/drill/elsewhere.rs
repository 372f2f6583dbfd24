//! `gullet drill --store`: the proof of what a store has, on any machine.

use gullet_host::state::State;

use super::{DrillArgs, apply};
use crate::args::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::{RealWorld, SystemRandom};
use crate::reading::Reading;
use crate::ui::Ui;

pub(super) fn drill(ui: &mut Ui, global: &Global, args: &DrillArgs) -> Result<Exit, CommandError> {
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    let reading = Reading::open(global, &args.reading, None, ui)?;
    let (store, logged) = reading.run_of(ui, args.run.as_ref().unwrap_or(&args.app))?;
    let app = args.app.rsplit_once(':').map_or(args.app.as_str(), |(_, app)| app);
    if logged.record.app != app {
        let text = format!("run {} is one of `{}`, not of `{app}`", logged.record.run, logged.record.app);
        return Err(CommandError::text(Exit::Usage, text));
    }
    // Commands stand in the record too. Whoever can write to the store could have written them, so they are not executed.
    let defined = open::sound(global).ok().and_then(|mut loaded| loaded.definition.app.remove(app));
    if defined.is_none() && !ui.is_json() {
        ui.hint(&format!("no definition here has `{app}`: databases are opened, and no checks are asked"));
    }
    let mut spec = defined.unwrap_or_default();
    let folder = args.scratch.clone().unwrap_or_else(std::env::temp_dir);
    // The definition's own place is cleared by drills of this machine's runs, whose lock is in another state folder.
    if let Some(drill) = &mut spec.drill {
        drill.scratch = None;
    }
    // A state of its own: what this machine knows of its own runs stays apart from what it finds in a store of others, or in a copy.
    let account = rustix::process::getuid().as_raw();
    let state = State::open(&folder.join(format!("gullet-drills-{account}")), &SystemRandom)?;
    apply(ui, args.plan, (store, &logged), (&spec, &state), &outside).map(|(exit, ..)| exit)
}
