//! `gullet thin`.

use clap::Args;
use gullet_host::hook::Runner;
use gullet_host::state::State;
use gullet_logbook::logbook::Logged;
use gullet_logbook::sweep;
use gullet_model::definition::Loaded;

use crate::args::{Global, ReadingArgs};
use crate::commands::store::{show_sweep, sweep_store};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::reading::Reading;
use crate::text::{harmless, size, time};
use crate::ui::{BOLD, GOOD, Ui, outcome, styled};

/// Give up the captures of a run; its record stays
///
/// Without --yes it is only shown. The newest complete run of an application and the newest one without warnings are never
/// given up. What only that run needs is removed at once, unless a run is going on.
///
/// Example: gullet thin --run k3v9 --reason "test data" --yes
#[derive(Args)]
pub struct ThinArgs {
    /// The run: an id, or the beginning of one (can be repeated)
    #[arg(long = "run", value_name = "RUN", required = true)]
    runs: Vec<String>,
    /// Why; kept with the run
    #[arg(long, value_name = "TEXT", required = true)]
    reason: String,
    /// Do it
    #[arg(long)]
    yes: bool,
}

pub fn thin(ui: &mut Ui, global: &Global, args: &ThinArgs) -> Result<Exit, CommandError> {
    let reading = Reading::open(global, &ReadingArgs::default(), None, ui)?;
    let Some(loaded) = &reading.loaded else { return Ok(Exit::Failed) };
    let state = open::state(loaded)?;
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    let mut exit = Exit::Complete;
    let mut done = Vec::new();
    let mut stores = Vec::new();
    for text in &args.runs {
        let (store, book, logged) = reading.find(ui, text)?;
        sweep::may_thin(book, logged, store, state.machine())?;
        let record = &logged.record;
        if args.yes {
            sweep::thin(book, logged, &args.reason, store, &state, outside.world())?;
            exit = exit.worse(remove_outside(ui, loaded, &state, &outside, logged)?);
            if !stores.iter().any(|known: &&gullet_store::Store| known.info().id == store.info().id) {
                stores.push(store);
            }
        }
        done.push(serde_json::json!({ "run": record.run, "app": record.app, "thinned": args.yes }));
        if !ui.is_json() {
            let word = if args.yes { styled(GOOD, "✓ removed") } else { styled(BOLD, "would remove") };
            ui.say(format!(
                "{word} run {} of {} ({}, {}, {}): {}",
                record.run,
                harmless(&record.app),
                time(record.started),
                outcome(logged.outcome()),
                size(record.bytes()),
                harmless(&args.reason)
            ));
        }
    }
    let mut swept = Vec::new();
    for store in stores {
        match state.lock_for_sweep()? {
            Some(lock) => {
                let report = sweep_store(store, &state, &outside, sweep::DELAY, Some(&lock))?;
                if !ui.is_json() {
                    show_sweep(ui, &report, true);
                }
                swept.push(report);
            }
            None => ui.warning("a run is going on, so nothing is removed now: `gullet store sweep NAME --yes` later"),
        }
    }
    if ui.is_json() {
        ui.json(&serde_json::json!({ "runs": done, "swept": swept }))?;
    } else if !args.yes {
        ui.tell("nothing was changed; say --yes to do it");
    }
    Ok(exit)
}

/// Has removed what a run left with another system.
fn remove_outside(
    ui: &mut Ui,
    loaded: &Loaded,
    state: &State,
    outside: &RealWorld,
    logged: &Logged,
) -> Result<Exit, CommandError> {
    let record = &logged.record;
    let Some(app) = loaded.definition.app.get(&record.app) else { return Ok(Exit::Complete) };
    let runner = Runner {
        world: outside.world(),
        app: record.app.clone(),
        run: record.run.to_string(),
        family: gullet_model::ids::random_id(outside.world().random, 12),
        folder: state.place(&["scratch"])?,
        top: state.folder().to_path_buf(),
    };
    let mut exit = Exit::Complete;
    for (id, removed) in sweep::remove_outside(logged, app, &runner) {
        match removed {
            Ok(()) if ui.is_json() => {}
            Ok(()) => ui.say(format!("{} {}, which another system had", styled(GOOD, "✓ removed"), harmless(&id))),
            Err(why) => {
                ui.warning(&format!("{id} could not be removed by another system, which still has it: {why}"));
                exit = Exit::Warnings;
            }
        }
    }
    Ok(exit)
}
