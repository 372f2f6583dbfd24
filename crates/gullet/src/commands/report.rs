//! `gullet report`: how applications stood over a time, as a page, as a table for spreadsheets, or as data.

use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use gullet_core::overview::{Overview, OverviewApp, usual_time};
use gullet_core::status::{self, AppStatus};
use gullet_host::state::State;
use gullet_logbook::logbook::{Logbook, Logged, RunLine, RunList};
use gullet_model::definition::Loaded;
use gullet_store::Store;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use super::status::{of_app, of_left_out};
use crate::args::{Global, OpeningArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::render::overview::{csv, page};
use crate::text::count;
use crate::ui::{GOOD, Ui, styled};

/// Make a report to hand over: how applications stood, day by day
///
/// One page that needs no network and no script, for any browser, in light and dark. Printed, it is a statement for an auditor:
/// protected or not and why, last complete run, verified, drilled, second copies, how runs ended, and the hash that proves the
/// logbook. `--as csv` and `--as json` have the same figures, those of `gullet runs --json`.
///
/// Example: gullet report --out report.html
#[derive(Args)]
pub struct ReportArgs {
    /// Only these applications
    #[arg(value_name = "APP")]
    apps: Vec<String>,
    /// The first day, as in 2026-01-01; by default a year before the last one
    #[arg(long, value_name = "DAY")]
    from: Option<Date>,
    /// The last day; today by default
    #[arg(long, value_name = "DAY")]
    until: Option<Date>,
    /// Write it to this file, whole or not at all; by default it is printed
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// As what
    #[arg(long = "as", value_name = "FORM", default_value = "html")]
    form: ReportForm,
    /// All machines of this store instead, by the store alone: one that the definition names, or a place (a folder, s3://…)
    #[arg(long, value_name = "NAME|PLACE")]
    store: Option<PathBuf>,
    #[command(flatten)]
    opening: OpeningArgs,
}

/// What a report is made as.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum ReportForm {
    /// A page for a browser, and for paper
    Html,
    /// The runs, a line each
    Csv,
    /// All of it as data
    Json,
}

pub fn report(ui: &mut Ui, global: &Global, args: &ReportArgs) -> Result<Exit, CommandError> {
    let outside = RealWorld::new();
    let now = outside.world().clock.now();
    let zone = TimeZone::system();
    let usual = usual_time(args.until.unwrap_or_else(|| now.to_zoned_datetime(zone.clone()).date()));
    let time = (args.from.unwrap_or(usual.0), usual.1);
    if time.0 > time.1 {
        let text = format!("the report would end before it begins: from {} until {}", time.0, time.1);
        return Err(CommandError::text(Exit::Usage, text));
    }
    let making = Making { apps: &args.apps, time, zone };
    let overview = match &args.store {
        Some(place) => making.of_store(global, &args.opening, place, &outside)?,
        None => {
            let loaded = open::sound_definition(ui, global, &args.apps)?;
            if let Some(app) = args.apps.iter().find(|app| !loaded.definition.app.contains_key(*app)) {
                return Err(CommandError::text(Exit::Usage, format!("the definition has no application `{app}`")));
            }
            making.of_definition(&loaded, &open::state(&loaded)?, &outside, now)?
        }
    };
    let form = if ui.is_json() { ReportForm::Json } else { args.form };
    let fail = |error: &dyn std::error::Error| CommandError::new(Exit::Failed, error);
    let bytes = match form {
        ReportForm::Html => page(&overview).map_err(|error| fail(&error))?.into_bytes(),
        ReportForm::Csv => csv(&overview).map_err(|error| fail(&error))?,
        ReportForm::Json => format!("{}\n", serde_json::to_string_pretty(&overview)?).into_bytes(),
    };
    let Some(path) = &args.out else {
        ui.write(&bytes);
        return Ok(Exit::Complete);
    };
    gullet_host::state::write_whole(path, &bytes).map_err(|error| fail(&error))?;
    let runs: usize = overview.apps.iter().map(|app| app.runs.len()).sum();
    let what = format!("{}, {}", count(overview.apps.len() as u64, "application"), count(runs as u64, "run"));
    ui.tell(format!("{} {}: {what}, {} to {}", styled(GOOD, "✓"), path.display(), time.0, time.1));
    Ok(Exit::Complete)
}

/// How all applications of a definition stood in the year until now.
pub fn overview(loaded: &Loaded, state: &State, outside: &RealWorld, now: Timestamp) -> Result<Overview, CommandError> {
    let zone = TimeZone::system();
    let time = usual_time(now.to_zoned_datetime(zone.clone()).date());
    Making { apps: &[], time, zone }.of_definition(loaded, state, outside, now)
}

struct Making<'a> {
    /// Only these; all where none is named.
    apps: &'a [String],
    time: (Date, Date),
    zone: TimeZone,
}

impl Making<'_> {
    fn is_wanted(&self, app: &str) -> bool {
        self.apps.is_empty() || self.apps.iter().any(|wanted| wanted == app)
    }

    /// The applications of this machine, by its definition, its state folder and its stores.
    fn of_definition(
        &self,
        loaded: &Loaded,
        state: &State,
        outside: &RealWorld,
        now: Timestamp,
    ) -> Result<Overview, CommandError> {
        let mut found = Vec::new();
        for app in loaded.definition.app.keys().filter(|app| self.is_wanted(app)) {
            let status = of_app(loaded, Ok(state), app)
                .unwrap_or_else(|error| AppStatus::unknown(app.clone(), error.messages.join(": ")));
            let Some((_, spec)) = loaded.definition.store_of(app) else { continue };
            // Of a store that cannot be reached there are no runs; why is a reason of the status.
            let (runs, good) = match open::store_of(spec, state) {
                Ok(store) => {
                    let mut runs = RunList::read(&store, Some(app), Some(state))?.runs;
                    runs.retain(|run| run.machine == state.machine());
                    let good = newest_good(&store, &runs, Some(state))?;
                    (runs, good)
                }
                Err(_) => (Vec::new(), None),
            };
            let made = OverviewApp::new(status, &runs, good.as_ref(), &spec.copies, self.time, &self.zone);
            // What it is called is known without any run.
            found.push(OverviewApp { title: loaded.definition.app[app].title.clone(), ..made });
        }
        // What does not run for an error is not protected, and nothing that was left out may be left out here.
        let left_out = of_left_out(&loaded.left_out).into_iter().filter(|status| self.is_wanted(&status.app));
        found.extend(left_out.map(|status| OverviewApp::new(status, &[], None, &[], self.time, &self.zone)));
        let host = outside.world().host.name.clone();
        Ok(Overview::new((host, now), self.time, &self.zone, None, found))
    }

    /// All applications of all machines of a store.
    fn of_store(
        &self,
        global: &Global,
        opening: &OpeningArgs,
        place: &Path,
        outside: &RealWorld,
    ) -> Result<Overview, CommandError> {
        let store = open::named_or_placed(global, place)?.with_identities(open::identities(opening)?);
        let runs = RunList::read(&store, None, None)?;
        let now = outside.world().clock.now();
        let mut found = Vec::new();
        for one in status::of_store(&store, None, now)?.into_iter().filter(|one| self.is_wanted(&one.status.app)) {
            let is_of = |run: &&RunLine| run.app == one.status.app && run.machine == one.machine;
            let own: Vec<RunLine> = runs.runs.iter().filter(is_of).cloned().collect();
            let good = newest_good(&store, &own, None)?;
            found.push(OverviewApp::new(one.status, &own, good.as_ref(), &[], self.time, &self.zone));
        }
        let (host, place) = (outside.world().host.name.clone(), store.location().describe());
        Ok(Overview::new((host, now), self.time, &self.zone, Some(place), found))
    }
}

fn newest_good(store: &Store, runs: &[RunLine], state: Option<&State>) -> Result<Option<Logged>, CommandError> {
    let good = runs.iter().rev().find(|run| run.is_good());
    Ok(good.map(|line| Logbook::read_run(store, line, state)).transpose()?)
}
