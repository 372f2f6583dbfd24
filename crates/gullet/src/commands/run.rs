//! `gullet run`.

use clap::Args;
use gullet_core::Outcome;
use gullet_core::definition::Loaded;
use gullet_core::hook::Runner;
use gullet_core::ids::RunId;
use gullet_core::logbook::Recent;
use gullet_core::plan::{Plan, PlanError, Request};
use gullet_core::run::{Ended, PastError, Setup, execute, look_back};
use gullet_core::state::{State, SweepLock};

use crate::cli::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::narrate::Narrator;
use crate::open;
use crate::outside::{Outside, guard_commands};
use crate::text::{count, duration, harmless, size};
use crate::ui::{BAD, DIM, Ui, outcome, styled};

/// Back up applications, one after the other
///
/// The application is put into backup mode (the hold), proven to be held, captured, proven to be still held, released and
/// proven to serve again; then what is new is stored, read back and recorded. It is released whatever happens.
///
/// Example: gullet run quaybook --reason "before the 4.2 upgrade"
#[derive(Args)]
pub struct RunArgs {
    /// The applications
    #[arg(required = true, value_name = "APP")]
    pub(super) apps: Vec<String>,
    /// Why; kept in the record
    #[arg(long, value_name = "TEXT")]
    pub(super) reason: Option<String>,
    /// Only this part (can be repeated); such a run is partial and never stands for the application
    #[arg(long = "part", value_name = "PART")]
    pub(super) parts: Vec<String>,
    /// Read every file anew instead of believing that unmarked ones are unchanged
    #[arg(long)]
    pub(super) reread: bool,
    /// Nobody is at the terminal: fail clearly instead of asking for something to be done by hand
    #[arg(long)]
    pub(super) unattended: bool,
}

pub fn run(ui: &mut Ui, global: &Global, args: &RunArgs) -> Result<Exit, CommandError> {
    let loaded = open::definition(global)?;
    if let Some(app) = args.apps.iter().find(|app| !loaded.definition.app.contains_key(*app)) {
        let known = loaded.definition.app.keys().cloned().collect();
        return Err(PlanError::NoApp { app: app.clone(), known }.into());
    }
    let state = open::state(&loaded)?;
    let outside = Outside::new();
    outside.listen_to_signals()?;
    crate::forgotten::settle(ui, &loaded, &state, &outside);
    let mut exit = Exit::Complete;
    for app in &args.apps {
        let request =
            Request { app: app.clone(), only: args.parts.clone(), reason: args.reason.clone(), reread: args.reread };
        let ended = run_one(ui, &loaded, &state, &outside, request, !args.unattended);
        exit = exit.worse(match ended {
            Ok(ended) => {
                summary(ui, &ended);
                ended.outcome.into()
            }
            Err(error) => {
                ui.error(&error);
                error.exit
            }
        });
        if outside.world().stop.asked().is_some() {
            break;
        }
    }
    Ok(exit)
}

/// Runs one application from lock to last hook.
pub fn run_one(
    ui: &mut Ui,
    loaded: &Loaded,
    state: &State,
    outside: &Outside,
    request: Request,
    attended: bool,
) -> Result<Ended, CommandError> {
    let world = outside.world();
    let run = RunId::new(world.random);
    let app = request.app.clone();
    let lock = state.lock(&app, &format!("run {run}, process {}", std::process::id()))?;
    let _no_sweep = wait_for_sweep(ui, state, outside)?;
    let location = loaded.definition.store_of(&app).map(|(_, spec)| spec.location.clone()).unwrap_or_default();
    let folder = std::sync::Arc::new(gullet_store::Folder::new(location));
    let mut store = gullet_store::Store::open(folder);
    let mut state = state.clone();
    let mut recent = Recent::default();
    if let Ok(opened) = &store {
        match look_back(opened, &app, &mut state, world, &mut |text| ui.warning(text)) {
            Ok(found) => recent = found,
            Err(PastError::Store(error)) => store = Err(error),
            Err(PastError::State(error)) => return Err(error.into()),
        }
    }
    let state = &state;
    let Recent { last_good, previous, damaged, .. } = recent;
    let last_good = last_good.as_ref();
    let runner = Runner {
        world,
        app,
        run: run.to_string(),
        folder: state.place(&["scratch"])?,
        top: state.folder().to_path_buf(),
    };
    let plan = Plan::make(loaded, request, state.folder().to_path_buf(), &runner, last_good)?;
    let guard = guard_commands();
    let setup = Setup { world, state, run, plan: &plan, lock, store, last_good, previous, guard: &guard, damaged };
    Ok(execute(setup, &mut Narrator::new(ui, attended)))
}

/// Waits until no sweep is going on, and keeps others away.
fn wait_for_sweep(ui: &mut Ui, state: &State, outside: &Outside) -> Result<SweepLock, CommandError> {
    let mut told = false;
    loop {
        if let Some(lock) = state.keep_sweeps_away()? {
            return Ok(lock);
        }
        if outside.world().stop.asked().is_some() {
            return Err(CommandError::text(Exit::Interrupted, "stopped while it waited for a sweep of the store"));
        }
        if !std::mem::replace(&mut told, true) {
            ui.tell("waiting until the sweep of the store is over");
        }
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
}

/// The last line of a run.
pub fn summary(ui: &mut Ui, ended: &Ended) {
    if ui.is_json() {
        return;
    }
    let record = &ended.record;
    let captured = record.captures.iter().filter(|capture| capture.is_captured()).count();
    let mut words = vec![outcome(ended.outcome)];
    if captured > 0 {
        words.push(format!(
            "{} of {}, {}, {}",
            captured,
            count(record.captures.len() as u64, "part"),
            count(record.files(), "file"),
            size(record.bytes())
        ));
        words.push(format!("{} stored", size(record.bytes_stored())));
    }
    words.extend(record.hold.held_ms.map(|held| format!("held {}", duration(held))));
    let took = record.ended.duration_since(record.started).as_millis();
    words.push(format!("took {}", duration(u64::try_from(took).unwrap_or(0))));
    ui.say(words.join("; "));
    if ended.outcome == Outcome::NotReleased {
        // Said last of all, so that nobody overlooks it.
        let by_hand = record.causes.iter().filter(|cause| cause.text.contains("not released"));
        for cause in by_hand {
            let step = cause.about.as_deref().unwrap_or("the application");
            let advice = cause.advice.as_deref().unwrap_or("release it by hand");
            ui.complain(styled(BAD, harmless(&format!("{step} is still in backup mode: {advice}"))));
        }
    }
    let run = &record.run;
    if ended.outcome > Outcome::Complete {
        ui.say(styled(DIM, format!("see: gullet show {run} --hook-output")));
    }
}
