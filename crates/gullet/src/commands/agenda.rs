//! `gullet agenda`.

mod simulate;

use std::collections::{BTreeMap, BTreeSet};

use clap::Args;
use gullet_core::agenda::{ForeseenRun, foresee};
use gullet_core::due::{Job, Scheduled, schedules};
use gullet_logbook::logbook::Logbook;
use gullet_model::definition::calendar::ClockChange;
use gullet_model::definition::{Loaded, Period};
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

use super::due::at_once;
use crate::args::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::table::table;
use crate::text::{count, duration, harmless};
use crate::ui::{BOLD, DIM, Ui, styled};

/// Show when what will run
///
/// Every schedule is said in a sentence, and what is due next, with what a change of clocks makes of it, and where one run is
/// foreseen to wait for another, from how long the last complete ones took.
///
/// Example: gullet agenda --until 2026-12-24
#[derive(Args, Default)]
pub struct AgendaArgs {
    /// Only these applications
    #[arg(value_name = "APP")]
    pub(super) apps: Vec<String>,
    /// From this time, such as 2026-12-24T18:00:00Z; from now where nothing is said
    #[arg(long, value_name = "TIME")]
    pub(super) from: Option<Timestamp>,
    /// Until this time; a week where nothing is said
    #[arg(long, value_name = "TIME")]
    pub(super) until: Option<Timestamp>,
    /// Imagine this time, such as 1y, with every run complete, and show what the keep rules would leave of it
    #[arg(long, value_name = "PERIOD", conflicts_with = "until")]
    pub(super) simulate: Option<Period>,
}

/// So many moments are shown, at most.
const SHOWN: usize = 1000;
/// So many are shown where it is not said until when.
const BEGINNING: usize = 24;

/// So many of the newest runs are looked through for a complete one.
const RUNS_LOOKED_AT: usize = 20;
/// Waiting for less than this is not worth a word.
const WORTH_A_WORD: SignedDuration = SignedDuration::from_secs(10);

#[derive(Serialize)]
struct Row {
    app: String,
    schedule: String,
    what: &'static str,
    /// With the offset of the schedule's zone.
    at: String,
    note: String,
    #[serde(skip)]
    shown: String,
    /// The schedule, where there may be several.
    #[serde(skip)]
    by: String,
}

pub fn agenda(ui: &mut Ui, global: &Global, args: &AgendaArgs) -> Result<Exit, CommandError> {
    let loaded = open::sound_definition(ui, global, &args.apps)?;
    if let Some(app) = args.apps.iter().find(|app| !loaded.definition.app.contains_key(*app)) {
        return Err(CommandError::text(Exit::Usage, format!("the definition has no application `{app}`")));
    }
    let from = args.from.unwrap_or_else(|| crate::outside::RealWorld::new().world().clock.now());
    if let Some(period) = args.simulate {
        return simulate::show(ui, &loaded, &args.apps, from, period);
    }
    let until =
        args.until.or_else(|| from.checked_add(SignedDuration::from_hours(7 * 24)).ok()).unwrap_or(Timestamp::MAX);
    let mut all = schedules(&loaded.definition);
    all.retain(|one| args.apps.is_empty() || concerns(&loaded, one, &args.apps));
    let at_once = at_once(&loaded);
    let foreseen = foresee(&all, &took(&loaded, &all), (from, until), at_once, SHOWN);
    let rows: Vec<Row> = foreseen.iter().map(row).collect();
    if ui.is_json() {
        ui.json(&rows)?;
        return Ok(Exit::Complete);
    }
    for one in &all {
        ui.say(format!("{} {}: {}", styled(BOLD, harmless(&one.app)), what(one), harmless(&one.rule.sentence())));
    }
    let runs = |app: &String| {
        all.iter()
            .any(|one| matches!(one.job, Job::Run | Job::Group) && concerns(&loaded, one, std::slice::from_ref(app)))
    };
    let unscheduled =
        loaded.definition.app.iter().filter(|(app, _)| !runs(app) && (args.apps.is_empty() || args.apps.contains(app)));
    for (app, spec) in unscheduled {
        let why = spec
            .no_schedule
            .as_ref()
            .map_or_else(|| "it has no schedule".to_owned(), |why| format!("no schedule: {why}"));
        ui.say(format!("{}: {}", styled(BOLD, harmless(app)), harmless(&why)));
    }
    if rows.is_empty() {
        ui.say(styled(DIM, "nothing is due in that time"));
        return Ok(Exit::Complete);
    }
    ui.say("");
    // What is asked for until a time is shown until then; of what is not, the beginning is enough.
    let most = if args.until.is_some() { rows.len() } else { BEGINNING };
    let shown = rows.iter().take(most);
    let shown = shown
        .map(|row| vec![row.shown.clone(), row.app.clone(), row.what.to_owned(), row.by.clone(), row.note.clone()]);
    ui.say(table(&["at", "application", "what", "schedule", "note"], shown.collect()));
    if rows.len() > most {
        let more = count((rows.len() - most) as u64, "more moment");
        ui.say(styled(DIM, format!("and {more} in the week from now; all of them with --until or --json")));
    }
    Ok(Exit::Complete)
}

/// Whether something that is scheduled has to do with one of these applications.
fn concerns(loaded: &Loaded, one: &Scheduled, apps: &[String]) -> bool {
    let of_group =
        |group: &str| loaded.definition.group.get(group).map(|group| group.apps.as_slice()).unwrap_or_default();
    match one.job {
        Job::Run | Job::Drill => apps.contains(&one.app),
        Job::Group => of_group(&one.app).iter().any(|app| apps.contains(app)),
        Job::Verify | Job::Report => false,
    }
}

/// What is scheduled, shortly.
fn what(one: &Scheduled) -> String {
    match one.job {
        Job::Run => harmless(one.name()),
        Job::Group => format!("group {}", harmless(one.name())),
        job => job.word().to_owned(),
    }
}

fn row(run: &ForeseenRun<'_>) -> Row {
    let (one, at) = (run.scheduled, run.moment.at);
    let mut notes: Vec<String> = run.moment.note.iter().map(|note| clock_words(*note)).collect();
    if let Some((waits, other)) = run.waits.filter(|(waits, _)| *waits >= WORTH_A_WORD) {
        notes.push(format!("waits about {} for {other}", duration(u64::try_from(waits.as_millis()).unwrap_or(0))));
    }
    if run.is_missed {
        notes.push("will be missed for it".to_owned());
    }
    let zoned = at.to_zoned_datetime(one.rule.zone().clone());
    Row {
        app: one.app.clone(),
        schedule: one.name().to_owned(),
        what: run.scheduled.job.word(),
        at: zoned.strftime("%Y-%m-%dT%H:%M:%S%:z").to_string(),
        note: notes.join(", "),
        by: if matches!(one.job, Job::Run | Job::Group) { one.name().to_owned() } else { String::new() },
        shown: zoned.strftime("%a %Y-%m-%d %H:%M %:z").to_string(),
    }
}

fn clock_words(note: ClockChange) -> String {
    match note {
        ClockChange::AfterGap(time) => {
            format!("clocks go forward: there is no {} that day, so right after the gap", time.strftime("%H:%M"))
        }
        ClockChange::FirstOfTwo => "clocks go back: this is the first of two".to_owned(),
    }
}

/// How long the last complete runs took, of each application that has one.
fn took(loaded: &Loaded, all: &[Scheduled]) -> BTreeMap<String, SignedDuration> {
    let Ok(state) = open::state(loaded) else { return BTreeMap::new() };
    let of_app = |app: &String| {
        let (_, spec) = loaded.definition.store_of(app)?;
        let book = Logbook::read_newest(&open::store_of(spec, &state).ok()?, app, &state, RUNS_LOOKED_AT).ok()?;
        let record = &book.last_good(app)?.record;
        Some((app.clone(), record.ended.duration_since(record.started))).filter(|(_, took)| took.is_positive())
    };
    all.iter().map(|one| &one.app).collect::<BTreeSet<_>>().into_iter().filter_map(of_app).collect()
}
