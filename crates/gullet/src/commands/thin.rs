//! `gullet thin`.

use std::collections::BTreeMap;

use clap::Args;
use gullet_host::hook::Runner;
use gullet_host::state::State;
use gullet_logbook::keep::{KeptBy, decide_app, freed};
use gullet_logbook::logbook::{Logbook, Logged};
use gullet_logbook::sweep;
use gullet_model::definition::calendar::zone;
use gullet_model::definition::{KeepSpec, Loaded};
use gullet_store::Store;
use jiff::Span;
use jiff::tz::TimeZone;

use crate::args::{Global, ReadingArgs};
use crate::commands::store::{show_sweep, sweep_store};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::reading::Reading;
use crate::table::table;
use crate::text::{count, harmless, minute, size, time, zone as local_zone};
use crate::ui::{BOLD, GOOD, Ui, WARN, outcome, styled};

/// Give up captures of runs, by the keep rules or one by one; their records stay
///
/// Without --run the keep rules of the applications decide: each run is shown with the rule that keeps it. Without --yes nothing is
/// changed. After a complete run its application's rules are applied by themselves. Whatever the rules say, the newest complete run
/// stays, the newest without warnings, the newest that a drill has proven, and what is marked. What only the others need is removed
/// at once, unless a run is going on.
///
/// Example: gullet thin quaybook
#[derive(Args)]
pub struct ThinArgs {
    /// Only these applications
    #[arg(value_name = "APP", conflicts_with = "runs")]
    apps: Vec<String>,
    /// Instead of what the rules say, this run: an id, or the beginning of one (can be repeated)
    #[arg(long = "run", value_name = "RUN", requires = "reason")]
    runs: Vec<String>,
    /// Why; kept with the run
    #[arg(long, value_name = "TEXT", requires = "runs")]
    reason: Option<String>,
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
    if args.runs.is_empty() {
        return by_rules(ui, &reading, loaded, &state, &outside, args);
    }
    let because = args.reason.clone().unwrap_or_default();
    let mut exit = Exit::Complete;
    let mut done = Vec::new();
    let mut stores = Vec::new();
    let books = reading.books(ui)?;
    for text in &args.runs {
        let (store, logged) = &reading.find(ui, text)?;
        let Some((_, book)) = books.iter().find(|(of, _)| std::ptr::eq(*of, *store)) else { continue };
        sweep::may_thin(book, logged, store, state.machine())?;
        let record = &logged.record;
        if args.yes {
            sweep::thin(book, logged, &because, store, &state, outside.world())?;
            exit = exit.worse(remove_outside(ui, loaded, &state, &outside, logged)?);
            stores.push(*store);
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
                harmless(&because)
            ));
        }
    }
    let swept = sweep_all(ui, &stores, &state, &outside)?;
    if ui.is_json() {
        ui.json(&serde_json::json!({ "runs": done, "swept": swept }))?;
    } else if !args.yes {
        ui.tell("nothing was changed; say --yes to do it");
    }
    Ok(exit)
}

/// Removes what no run needs any more, of each store once.
fn sweep_all(
    ui: &mut Ui,
    stores: &[&Store],
    state: &State,
    outside: &RealWorld,
) -> Result<Vec<sweep::Sweep>, CommandError> {
    let mut swept = Vec::new();
    let by_id: BTreeMap<&str, &Store> = stores.iter().map(|store| (store.info().id.as_str(), *store)).collect();
    for store in by_id.into_values() {
        match state.lock_for_sweep()? {
            Some(lock) => {
                let report = sweep_store(store, state, outside, sweep::DELAY, Some(&lock))?;
                if !ui.is_json() {
                    show_sweep(ui, store, &report, true);
                }
                swept.push(report);
            }
            None => ui.warning("a run is going on, so nothing is removed now: `gullet store sweep NAME --yes` later"),
        }
    }
    Ok(swept)
}

/// The copies that the store of an application should have.
fn copies_of<'l>(loaded: &'l Loaded, app: &str) -> &'l [String] {
    loaded.definition.store_of(app).map_or(&[], |(_, spec)| &spec.copies)
}

/// The rules of an application and their zone, where it has any.
fn rules_of<'l>(loaded: &'l Loaded, app: &str) -> Option<(&'l KeepSpec, TimeZone)> {
    let rules = loaded.definition.app.get(app)?.keep.as_ref().filter(|keep| keep.has_rules())?;
    Some((rules, zone(rules.zone.as_deref().unwrap_or("local")).ok()?))
}

fn by_rules(
    ui: &mut Ui,
    reading: &Reading,
    loaded: &Loaded,
    state: &State,
    outside: &RealWorld,
    args: &ThinArgs,
) -> Result<Exit, CommandError> {
    for app in &args.apps {
        if !loaded.definition.app.contains_key(app) {
            return Err(CommandError::text(Exit::Usage, format!("the definition has no application `{app}`")));
        }
        if rules_of(loaded, app).is_none() {
            let error = CommandError::text(Exit::Usage, format!("`{app}` has no keep rules, so every run of it stays"));
            return Err(error.hint(
                "[app.NAME.keep] with newest, one_a_week_for, …; or one run: gullet thin --run RUN --reason TEXT",
            ));
        }
    }
    let wanted = |app: &&String| args.apps.is_empty() || args.apps.contains(app);
    let now = outside.world().clock.now();
    let books = reading.books(ui)?;
    let (mut exit, mut stores, mut all) = (Exit::Complete, Vec::new(), Vec::new());
    for app in loaded.definition.app.keys().filter(wanted) {
        let Some((rules, zone)) = rules_of(loaded, app) else { continue };
        for (store, book) in &books {
            let decided = decide_app(book, app, (rules, copies_of(loaded, app)), &zone, now);
            let going = going(&decided);
            let bytes = freed(book, &going);
            if !ui.is_json() && !decided.is_empty() {
                show_decided(ui, app, &decided, bytes);
            }
            for (logged, kept) in &decided {
                all.push(serde_json::json!({
                    "app": app, "run": logged.record.run, "began": logged.record.started, "stays": kept.is_some(), "kept_by": kept,
                }));
            }
            if args.yes && !going.is_empty() {
                exit = exit.worse(give_up(ui, (loaded, state, outside), (store, book), &going)?);
                stores.push(*store);
            }
        }
    }
    let swept = sweep_all(ui, &stores, state, outside)?;
    if ui.is_json() {
        ui.json(&serde_json::json!({ "runs": all, "swept": swept }))?;
    } else if all.is_empty() {
        ui.say("no application with keep rules has a run");
    } else if !args.yes {
        ui.tell("nothing was changed; say --yes to do it");
    }
    Ok(exit)
}

/// The runs that no rule keeps.
fn going<'b>(decided: &[(&'b Logged, Option<KeptBy>)]) -> Vec<&'b Logged> {
    decided.iter().filter(|(_, kept)| kept.is_none()).map(|(run, _)| *run).collect()
}

fn show_decided(ui: &mut Ui, app: &str, decided: &[(&Logged, Option<KeptBy>)], bytes: u64) {
    ui.say(styled(BOLD, harmless(app)));
    let rows = decided.iter().map(|(logged, kept)| {
        let record = &logged.record;
        let (what, why) = match kept {
            Some(kept) => (styled(GOOD, "stays"), kept.words()),
            None => (styled(WARN, "goes"), "no rule keeps it"),
        };
        vec![record.run.to_string(), minute(record.started), outcome(logged.outcome()), what, why.to_owned()]
    });
    let began = format!("began ({})", local_zone());
    ui.say(table(&["run", &began, "outcome", "", "why"], rows.collect()));
    let going = going(decided).len();
    ui.say(format!("{going} of {} would go, {} freed by that\n", count(decided.len() as u64, "run"), size(bytes)));
}

/// Gives runs up because no keep rule keeps them.
fn give_up(
    ui: &mut Ui,
    (loaded, state, outside): (&Loaded, &State, &RealWorld),
    (store, book): (&Store, &Logbook),
    going: &[&Logged],
) -> Result<Exit, CommandError> {
    let mut exit = Exit::Complete;
    for logged in going {
        sweep::thin(book, logged, "no keep rule keeps it", store, state, outside.world())?;
        exit = exit.worse(remove_outside(ui, loaded, state, outside, logged)?);
    }
    Ok(exit)
}

/// For how many years event logs stay, where nothing is said.
const LOGS_FOR_YEARS: i64 = 1;

/// Applies the keep rules of an application after a run of it that went well.
pub(super) fn after_success(
    ui: &mut Ui,
    loaded: &Loaded,
    state: &State,
    outside: &RealWorld,
    app: &str,
) -> Result<(), CommandError> {
    let logs_for = loaded.definition.app.get(app).and_then(|app| app.keep.as_ref()?.logs_for);
    let since = outside.world().clock.now().to_zoned_datetime(TimeZone::system());
    let since = since.checked_sub(logs_for.map_or(Span::new().years(LOGS_FOR_YEARS), |period| period.span()));
    if let Ok(since) = since {
        state.remove_logs(app, since.timestamp())?;
    }
    let (Some((rules, zone)), Some((_, spec))) = (rules_of(loaded, app), loaded.definition.store_of(app)) else {
        return Ok(());
    };
    let store = open::store_of(spec, state)?;
    let book = Logbook::read(&store, Some(app), Some(state))?;
    let decided = decide_app(&book, app, (rules, &spec.copies), &zone, outside.world().clock.now());
    let going = going(&decided);
    if going.is_empty() {
        return Ok(());
    }
    give_up(ui, (loaded, state, outside), (&store, &book), &going)?;
    let freed = match state.lock_for_sweep()? {
        Some(lock) => sweep_store(&store, state, outside, sweep::DELAY, Some(&lock))?.freed,
        // The next one removes it.
        None => 0,
    };
    let runs = count(going.len() as u64, "run");
    ui.tell(format!(
        "keep rules: the captures of {runs} were given up, {} freed; {} stay",
        size(freed),
        decided.len() - going.len()
    ));
    Ok(())
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
    state.place(&["scratch"])?;
    let runner = Runner { run: record.run.to_string(), ..Runner::apart(outside.world(), &record.app, state.folder()) };
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
