//! `gullet preflight`.

use clap::Args;
use gullet_capture::plan::{Plan, Request};
use gullet_core::run::open_store;
use gullet_host::hook::Runner;
use gullet_host::state::State;
use gullet_logbook::logbook::Logbook;
use gullet_model::definition::Loaded;
use gullet_model::ids::RunId;
use gullet_run::preflight::{Check, Preflight, Verdict, cannot_open, check};
use serde::Serialize;

use crate::args::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::table::lined_table;
use crate::text::harmless;
use crate::ui::{BAD, BOLD, GOOD, Ui, WARN, styled};

/// Run every probe there is: requirements, hooks, sources, store, space, state of the application
///
/// Nothing is touched. Exits with 0 when everything passes, 6 when something is worth a look, 4 when a run would be
/// refused or fail.
///
/// Example: gullet preflight quaybook
#[derive(Args)]
pub struct PreflightArgs {
    /// Only these applications
    #[arg(value_name = "APP")]
    apps: Vec<String>,
}

#[derive(Serialize)]
struct AppChecks {
    app: String,
    checks: Vec<Check>,
}

pub fn preflight(ui: &mut Ui, global: &Global, args: &PreflightArgs) -> Result<Exit, CommandError> {
    let loaded = open::definition(global)?;
    let known = &loaded.definition.app;
    if let Some(app) = args.apps.iter().find(|app| !known.contains_key(*app)) {
        return Err(CommandError::text(Exit::Usage, format!("the definition has no application `{app}`")));
    }
    let state = open::state(&loaded)?;
    let outside = RealWorld::new();
    crate::forgotten::settle(ui, &loaded, &state, &outside);
    let apps = known.keys().filter(|app| args.apps.is_empty() || args.apps.contains(app));
    let mut all = Vec::new();
    for app in apps {
        let checks = match check_one(&loaded, &state, &outside, app) {
            Ok(checks) => checks,
            // What keeps a plan from being made keeps a run from beginning.
            Err(error) if error.flaws.is_empty() => vec![Check {
                what: "plan".to_owned(),
                verdict: Verdict::Fail,
                found: error.messages.join(": "),
                advice: error.hints.first().cloned(),
            }],
            Err(error) => return Err(error),
        };
        all.push(AppChecks { app: app.clone(), checks });
    }
    if ui.is_json() {
        ui.json(&all)?;
    } else {
        for app in &all {
            show(ui, app);
        }
    }
    let worst = all.iter().flat_map(|app| &app.checks).map(|check| check.verdict).max();
    Ok(match worst {
        None | Some(Verdict::Pass) => Exit::Complete,
        Some(Verdict::Warn) => Exit::Warnings,
        Some(Verdict::Fail) => Exit::Refused,
    })
}

fn check_one(loaded: &Loaded, state: &State, outside: &RealWorld, app: &str) -> Result<Vec<Check>, CommandError> {
    let world = outside.world();
    let run = RunId::new(world.random).to_string();
    let runner = Runner {
        world,
        app: app.to_owned(),
        family: run.clone(),
        run,
        folder: state.place(&["scratch"])?,
        top: state.folder().to_path_buf(),
    };
    let store = open_store(loaded, app, world);
    let book = store.as_ref().ok().and_then(|store| Logbook::read(store, Some(app), Some(state)).ok());
    let book = book.unwrap_or_default();
    let request = Request { app: app.to_owned(), ..Request::default() };
    let plan = Plan::make(loaded, request, state.folder().to_path_buf(), &runner, book.last_good(app))?;
    let store = store.as_ref().map_err(|error| cannot_open(error, &plan.store_name));
    Ok(check(&Preflight { plan: &plan, state, store, book: &book, runner: &runner }))
}

fn show(ui: &mut Ui, app: &AppChecks) {
    ui.say(styled(BOLD, harmless(&app.app)));
    let checks: Vec<&Check> =
        app.checks.iter().filter(|check| !ui.is_quiet() || check.verdict > Verdict::Pass).collect();
    let rows = checks.iter().map(|check| {
        let word = match check.verdict {
            Verdict::Pass => styled(GOOD, "✓ pass"),
            Verdict::Warn => styled(WARN, "! warn"),
            Verdict::Fail => styled(BAD, "✗ fail"),
        };
        vec![word, check.what.clone(), harmless(&check.found)]
    });
    // What there is to do takes its own line: it would fold the table.
    let advice = checks.iter().map(|check| {
        let text = check.advice.as_deref().map(|advice| format!("        → {}", harmless(advice)));
        text.into_iter().collect::<Vec<_>>()
    });
    ui.say(lined_table(&["result", "what", "found"], rows.collect(), &advice.collect::<Vec<_>>()));
}
