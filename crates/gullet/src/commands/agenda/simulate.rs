//! `gullet agenda --simulate`: what the keep rules would leave of the time to come.

use gullet_core::due::runs_of;
use gullet_core::simulate::{RunSizes, Simulated, simulate};
use gullet_logbook::logbook::{Logbook, Logged};
use gullet_model::definition::calendar::zone;
use gullet_model::definition::{Loaded, Period};
use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::table::table;
use crate::text::{harmless, size, time};
use crate::ui::Ui;

/// So many of the newest runs say how much one adds.
const RUNS_LOOKED_AT: usize = 20;

pub(super) fn show(
    ui: &mut Ui,
    loaded: &Loaded,
    apps: &[String],
    from: Timestamp,
    period: Period,
) -> Result<Exit, CommandError> {
    let until = from.to_zoned_datetime(TimeZone::system()).checked_add(period.span());
    let until = until.map_err(|error| CommandError::new(Exit::Usage, &error))?.timestamp();
    let mut all = Vec::new();
    for (app, spec) in &loaded.definition.app {
        let schedules = runs_of(&loaded.definition, app);
        if schedules.is_empty() || !(apps.is_empty() || apps.contains(app)) {
            continue;
        }
        let zone = spec.keep.as_ref().and_then(|keep| zone(keep.zone.as_deref().unwrap_or("local")).ok());
        let rules = spec.keep.as_ref().filter(|keep| keep.has_rules()).zip(zone.as_ref());
        all.push(simulate(app, &schedules, rules, (from, until), sizes(loaded, app)));
    }
    if ui.is_json() {
        ui.json(&all)?;
        return Ok(Exit::Complete);
    }
    ui.say(format!("what would be left at {}, if every run until then were complete:", time(until)));
    let rows = all.iter().map(|one| {
        let bytes = one.bytes.map_or_else(|| "-".to_owned(), |bytes| format!("about {}", size(bytes)));
        vec![one.app.clone(), one.runs.to_string(), one.stay.to_string(), bytes, harmless(&why(one))]
    });
    ui.say(table(&["application", "runs", "stay", "stored then", "kept by"], rows.collect()));
    Ok(Exit::Complete)
}

fn why(one: &Simulated) -> String {
    if one.kept_by.is_empty() {
        return "no keep rules: every run stays".to_owned();
    }
    one.kept_by.iter().map(|(why, number)| format!("{number} by {}", why.words())).collect::<Vec<_>>().join(", ")
}

/// What the newest complete runs of an application take.
fn sizes(loaded: &Loaded, app: &str) -> Option<RunSizes> {
    let state = open::state(loaded).ok()?;
    let (_, spec) = loaded.definition.store_of(app)?;
    let book = Logbook::read_newest(&open::store_of(spec, &state).ok()?, app, &state, RUNS_LOOKED_AT).ok()?;
    let good: Vec<&Logged> = book.own_runs(app).filter(|run| run.is_good() && !run.is_thinned()).collect();
    let newest = good.last()?.holdings();
    let whole = newest.wrote.iter().map(|file| file.length).chain(newest.needs.iter().map(|need| need.length)).sum();
    // The first one stores everything, and says nothing about those that follow.
    let mut added: Vec<u64> = good.iter().skip(1).map(|run| run.record.bytes_stored()).collect();
    added.sort_unstable();
    let each = added.get(added.len() / 2).copied().unwrap_or_default();
    Some(RunSizes { whole, each })
}
