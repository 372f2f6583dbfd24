//! `gullet agenda`.

use clap::Args;
use gullet_core::due::Scheduled;
use gullet_logbook::logbook::Logbook;
use gullet_model::definition::Loaded;
use gullet_model::definition::calendar::{ClockChange, DueMoment};
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

use super::due::schedules;
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
#[derive(Args)]
pub struct AgendaArgs {
    /// Only these applications
    #[arg(value_name = "APP")]
    apps: Vec<String>,
    /// From this time, such as 2026-12-24T18:00:00Z; from now where nothing is said
    #[arg(long, value_name = "TIME")]
    from: Option<Timestamp>,
    /// Until this time; a week where nothing is said
    #[arg(long, value_name = "TIME")]
    until: Option<Timestamp>,
}

/// So many moments are shown, at most.
const SHOWN: usize = 1000;
/// So many are shown where it is not said until when.
const BEGINNING: usize = 24;

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
}

pub fn agenda(ui: &mut Ui, global: &Global, args: &AgendaArgs) -> Result<Exit, CommandError> {
    let loaded = open::definition(global)?;
    if let Some(app) = args.apps.iter().find(|app| !loaded.definition.app.contains_key(*app)) {
        return Err(CommandError::text(Exit::Usage, format!("the definition has no application `{app}`")));
    }
    let from = args.from.unwrap_or_else(|| crate::outside::RealWorld::new().world().clock.now());
    let until =
        args.until.or_else(|| from.checked_add(SignedDuration::from_hours(7 * 24)).ok()).unwrap_or(Timestamp::MAX);
    let mut all = schedules(&loaded);
    all.retain(|one| args.apps.is_empty() || args.apps.contains(&one.app));
    let rows = rows(&loaded, &all, from, until);
    if ui.is_json() {
        ui.json(&rows)?;
        return Ok(Exit::Complete);
    }
    for one in &all {
        ui.say(format!(
            "{} {}: {}",
            styled(BOLD, harmless(&one.app)),
            harmless(one.name()),
            harmless(&one.rule.sentence())
        ));
    }
    let unscheduled = loaded
        .definition
        .app
        .iter()
        .filter(|(app, spec)| spec.schedule.is_empty() && (args.apps.is_empty() || args.apps.contains(app)));
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
    let shown = shown.map(|row| vec![row.shown.clone(), row.app.clone(), row.schedule.clone(), row.note.clone()]);
    ui.say(table(&["at", "application", "schedule", "note"], shown.collect()));
    if rows.len() > most {
        let more = count((rows.len() - most) as u64, "more moment");
        ui.say(styled(DIM, format!("and {more} in the week from now; all of them with --until or --json")));
    }
    Ok(Exit::Complete)
}

/// What is due, in order.
fn rows(loaded: &Loaded, all: &[Scheduled], from: Timestamp, until: Timestamp) -> Vec<Row> {
    let mut due: Vec<(&Scheduled, DueMoment)> = all
        .iter()
        .flat_map(|one| one.rule.between(from, until, SHOWN).into_iter().map(move |moment| (one, moment)))
        .collect();
    due.sort_by(|(a, x), (b, y)| (x.at, &a.app, a.name()).cmp(&(y.at, &b.app, b.name())));
    due.truncate(SHOWN);
    let took = |app: &str| last_took(loaded, app);
    let took: std::collections::BTreeMap<&str, SignedDuration> =
        all.iter().filter_map(|one| Some((one.app.as_str(), took(&one.app)?))).collect();
    let mut free: Option<(Timestamp, &str)> = None;
    let mut rows = Vec::new();
    for (one, moment) in due {
        let mut notes: Vec<String> = moment.note.iter().map(|note| clock_words(*note)).collect();
        let waits = free.filter(|(until, _)| until.duration_since(moment.at) >= WORTH_A_WORD);
        if let Some((until, other)) = waits {
            let waiting = until.duration_since(moment.at);
            let ms = u64::try_from(waiting.as_millis()).unwrap_or(0);
            notes.push(format!("waits about {} for {other}", duration(ms)));
            if until > one.rule.starts_until(moment.at) && !one.rule.spec().catch_up {
                notes.push("and may be missed for it".to_owned());
            }
        }
        let starts = waits.map_or(moment.at, |(until, _)| until);
        if let Some(took) = took.get(one.app.as_str()) {
            free = starts.checked_add(*took).ok().map(|until| (until, one.app.as_str()));
        }
        let zoned = moment.at.to_zoned_datetime(one.rule.zone().clone());
        rows.push(Row {
            app: one.app.clone(),
            schedule: one.name().to_owned(),
            what: "run",
            at: zoned.strftime("%Y-%m-%dT%H:%M:%S%:z").to_string(),
            note: notes.join(", "),
            shown: zoned.strftime("%a %Y-%m-%d %H:%M %:z").to_string(),
        });
    }
    rows
}

fn clock_words(note: ClockChange) -> String {
    match note {
        ClockChange::AfterGap(time) => {
            format!("clocks go forward: there is no {} that day, so right after the gap", time.strftime("%H:%M"))
        }
        ClockChange::FirstOfTwo => "clocks go back: this is the first of two".to_owned(),
    }
}

/// How long the last complete run took.
fn last_took(loaded: &Loaded, app: &str) -> Option<SignedDuration> {
    let state = open::state(loaded).ok()?;
    let (_, spec) = loaded.definition.store_of(app)?;
    let store = open::store_of(spec, &state).ok()?;
    let book = Logbook::read(&store, Some(app), Some(&state)).ok()?;
    let record = &book.last_good(app)?.record;
    Some(record.ended.duration_since(record.started)).filter(|took| took.is_positive())
}
