//! The list of all applications that people get by a schedule.

use std::collections::BTreeMap;

use gullet_core::due::runs_of;
use gullet_core::notify::{self, Content, Report, ReportedApp};
use gullet_core::status::AppStatus;
use gullet_host::state::State;
use gullet_logbook::logbook::Logbook;
use gullet_model::definition::{Loaded, ReportSpec};
use jiff::{SignedDuration, Timestamp};

use super::status::{RUNS_LOOKED_AT, of_app, of_left_out};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::render::overview::page;

/// Where it is not known when the last one was sent, the runs of so long are in it.
const USUALLY: SignedDuration = SignedDuration::from_hours(24);

/// The report of a definition that is called so.
pub fn find<'l>(loaded: &'l Loaded, name: &str) -> Result<&'l ReportSpec, CommandError> {
    let found = loaded.definition.report.iter().find(|report| report.name == name);
    found.ok_or_else(|| {
        let known: Vec<&str> = loaded.definition.report.iter().map(|report| report.name.as_str()).collect();
        let error = CommandError::text(Exit::Usage, format!("the definition has no report `{name}`"));
        error.hint(format!("it has {}", if known.is_empty() { "none".to_owned() } else { known.join(", ") }))
    })
}

/// Makes a report, and puts it where messages wait.
pub fn send(loaded: &Loaded, state: &State, outside: &RealWorld, name: &str, id: &str) -> Result<(), CommandError> {
    let spec = find(loaded, name)?;
    let now = outside.world().clock.now();
    let mut report = make(loaded, state, outside, name, now)?;
    if spec.page {
        // A list without its page is better than none.
        report.page = super::report::overview(loaded, state, outside, now)
            .and_then(|overview| page(&overview).map_err(|error| CommandError::new(Exit::Failed, &error)))
            .ok();
    }
    notify::put(state, id, spec.to.iter().map(String::as_str), &Content::Report(report), now)?;
    // What is known of the last one only says which runs are in the next; losing it costs a longer list.
    let mut sent = last_sent(state);
    sent.insert(name.to_owned(), now);
    let path = state.place(&["notify"])?.join("reports.json");
    gullet_host::state::write_whole(&path, &serde_json::to_vec(&sent)?)
        .map_err(|error| CommandError::new(Exit::Failed, &error))
}

fn last_sent(state: &State) -> BTreeMap<String, Timestamp> {
    let bytes = std::fs::read(state.folder().join("notify").join("reports.json")).unwrap_or_default();
    serde_json::from_slice(&bytes).unwrap_or_default()
}

/// How all applications stand now, and what ran since the last report of this name.
pub fn make(
    loaded: &Loaded,
    state: &State,
    outside: &RealWorld,
    name: &str,
    now: Timestamp,
) -> Result<Report, CommandError> {
    // A time from the future says nothing about the last one.
    let since = last_sent(state).get(name).copied().filter(|at| *at < now);
    let since = since.or_else(|| now.checked_sub(USUALLY).ok()).unwrap_or(Timestamp::MIN);
    let mut apps = Vec::new();
    for (app, spec) in &loaded.definition.app {
        let status = of_app(loaded, Ok(state), app)
            .unwrap_or_else(|error| AppStatus::unknown(app.clone(), error.messages.join(": ")));
        let next = runs_of(&loaded.definition, app).iter().filter_map(|one| one.rule.after(now)).map(|m| m.at).min();
        let book = book_of(loaded, state, app).ok();
        apps.push(ReportedApp::new(status, spec.title.clone(), book.as_ref(), since, next));
    }
    let left_out = of_left_out(&loaded.left_out).into_iter();
    apps.extend(left_out.map(|status| ReportedApp::new(status, None, None, since, None)));
    let waiting = notify::waiting(state).iter().filter(|message| message.problem.is_some()).count();
    let host = outside.world().host.name.clone();
    let mut report = Report { name: name.to_owned(), host, since, until: now, apps, waiting, page: None };
    report.sort();
    Ok(report)
}

fn book_of(loaded: &Loaded, state: &State, app: &str) -> Result<Logbook, CommandError> {
    let Some((_, spec)) = loaded.definition.store_of(app) else {
        return Err(CommandError::text(Exit::Definition, "it has no store"));
    };
    let store = open::store_of(spec, state)?;
    Ok(Logbook::read_newest(&store, app, state, RUNS_LOOKED_AT)?.with_waiting(state, Some(app)))
}
