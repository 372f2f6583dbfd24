//! `gullet runs`.

use clap::Args;
use gullet_logbook::logbook::{Logged, Moment};
use gullet_model::outcome::Outcome;
use gullet_model::problem::ProblemKind;
use serde::Serialize;

use crate::args::{Global, ReadingArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::reading::Reading;
use crate::table::noted_table;
use crate::text::{ago, count, harmless, held_for, minute, size, zone};
use crate::ui::{Ui, outcome};

/// The column of the machine.
const MACHINE: usize = 2;

/// List the runs
///
/// Shown is the worse of a run's record and what was found out about it later.
///
/// Example: gullet runs quaybook --last 20
#[derive(Args, Default)]
pub struct RunsArgs {
    /// Only of this application
    pub(super) app: Option<String>,
    /// Only the newest so many
    #[arg(long, value_name = "NUMBER")]
    pub(super) last: Option<usize>,
    /// Only runs that are not complete
    #[arg(long)]
    pub(super) failed: bool,
    /// Only runs that began at this moment or later: a day, or a day and a time as in 2026-11-03T12:00
    #[arg(long, value_name = "MOMENT", value_parser = moment)]
    pub(super) since: Option<Moment>,
    /// Only runs that began at this moment or before; of a day all of it counts
    #[arg(long, value_name = "MOMENT", value_parser = moment)]
    pub(super) until: Option<Moment>,
    /// Only runs whose reason contains this
    #[arg(long, value_name = "TEXT")]
    pub(super) reason: Option<String>,
    /// Only runs that ended so, such as `failed` or `complete with warnings`
    #[arg(long, value_name = "OUTCOME", value_parser = outcome_of)]
    pub(super) outcome: Option<Outcome>,
    /// Only runs with a cause or a warning of this kind, such as `hold_limit`; `--json` names them
    #[arg(long, value_name = "KIND", value_parser = kind_of)]
    pub(super) cause: Option<ProblemKind>,
    /// Only runs that were started by something whose name contains this; `by hand` where a person did
    #[arg(long, value_name = "TEXT")]
    pub(super) trigger: Option<String>,
    /// Only runs of this machine, by its host name or its id in the store
    #[arg(long, value_name = "NAME")]
    pub(super) machine: Option<String>,
    #[command(flatten)]
    pub(super) reading: ReadingArgs,
}

impl RunsArgs {
    /// Whether a run is meant by its outcome, its problems, what started it, and its machine.
    fn has(&self, logged: &Logged) -> bool {
        let record = &logged.record;
        let of_kind =
            |kind: ProblemKind| record.causes.iter().chain(&record.warnings).any(|problem| problem.kind == kind);
        let of_machine = |name: &String| record.host.name == *name || record.machine == *name;
        self.outcome.is_none_or(|outcome| logged.outcome() == outcome)
            && self.cause.is_none_or(of_kind)
            && self.trigger.as_ref().is_none_or(|text| record.trigger.contains(text.as_str()))
            && self.machine.as_ref().is_none_or(of_machine)
    }
}

fn outcome_of(text: &str) -> Result<Outcome, String> {
    let is_meant = |outcome: &Outcome| outcome.words() == text || outcome.words().replace(' ', "_") == text;
    let words: Vec<&str> = Outcome::ALL.iter().map(|outcome| outcome.words()).collect();
    Outcome::ALL.into_iter().find(is_meant).ok_or_else(|| format!("write one of: {}", words.join(", ")))
}

fn kind_of(text: &str) -> Result<ProblemKind, String> {
    ProblemKind::parse(text)
        .ok_or_else(|| "`gullet runs --json` names the kinds that there are, as `causes`".to_owned())
}

fn moment(text: &str) -> Result<Moment, String> {
    Moment::parse(text)
        .ok_or_else(|| "write a day (2026-11-03), a day and a time (2026-11-03T12:00), or `yesterday`".to_owned())
}

/// The moment at which a day begins, or that is said.
fn beginning(moment: Moment, now: jiff::Timestamp) -> Option<jiff::Timestamp> {
    let zone = jiff::tz::TimeZone::system();
    let day = match moment {
        Moment::Yesterday => now.to_zoned_datetime(zone.clone()).date().yesterday().ok()?,
        Moment::Day(day) => day,
        other => return other.in_zone(&zone, now),
    };
    Some(day.to_zoned_datetime(zone).ok()?.timestamp())
}

#[derive(Serialize)]
struct RunView<'a> {
    run: &'a str,
    app: &'a str,
    outcome: Outcome,
    started: jiff::Timestamp,
    ended: jiff::Timestamp,
    held_ms: Option<u64>,
    parts: usize,
    files: u64,
    bytes: u64,
    bytes_stored: u64,
    partial: bool,
    reason: Option<&'a str>,
    cause: Option<&'a str>,
    causes: Vec<ProblemKind>,
    warnings: Vec<ProblemKind>,
    trigger: &'a str,
    in_store: bool,
    thinned: bool,
    verified: Option<jiff::Timestamp>,
    proven: Option<jiff::Timestamp>,
    kept: bool,
    host: &'a str,
    machine: &'a str,
    record: &'a str,
}

impl<'a> From<&'a Logged> for RunView<'a> {
    fn from(logged: &'a Logged) -> Self {
        let record = &logged.record;
        Self {
            run: record.run.as_str(),
            app: &record.app,
            outcome: logged.outcome(),
            started: record.started,
            ended: record.ended,
            held_ms: record.hold.held_ms,
            parts: record.captures.iter().filter(|capture| capture.is_captured()).count(),
            files: record.files(),
            bytes: record.bytes(),
            bytes_stored: record.bytes_stored(),
            partial: record.partial,
            reason: record.reason.as_deref(),
            cause: record.causes.first().map(|cause| cause.text.as_str()),
            causes: record.causes.iter().map(|cause| cause.kind).collect(),
            warnings: record.warnings.iter().map(|warning| warning.kind).collect(),
            trigger: &record.trigger,
            in_store: logged.in_store,
            thinned: logged.is_thinned(),
            verified: logged.verified(),
            proven: logged.proven(),
            kept: logged.is_kept(),
            host: &record.host.name,
            machine: &record.machine,
            record: &logged.name,
        }
    }
}

pub fn runs(ui: &mut Ui, global: &Global, args: &RunsArgs) -> Result<Exit, CommandError> {
    let reading = Reading::open(global, &args.reading, args.app.as_deref(), ui)?;
    let mut runs = reading.runs();
    runs.retain(|logged| !args.failed || logged.outcome() > Outcome::Complete);
    let now = jiff::Timestamp::now();
    if let Some(since) = args.since.and_then(|since| beginning(since, now)) {
        runs.retain(|logged| logged.record.started >= since);
    }
    if let Some(until) = args.until.and_then(|until| until.in_zone(&jiff::tz::TimeZone::system(), now)) {
        runs.retain(|logged| logged.record.started <= until);
    }
    if let Some(wanted) = &args.reason {
        runs.retain(|logged| logged.record.reason.as_ref().is_some_and(|reason| reason.contains(wanted.as_str())));
    }
    runs.retain(|logged| args.has(logged));
    let skipped = args.last.map_or(0, |last| runs.len().saturating_sub(last));
    let views: Vec<RunView<'_>> = runs.iter().skip(skipped).map(|logged| RunView::from(*logged)).collect();
    if ui.is_json() {
        ui.json(&views)?;
        return Ok(Exit::Complete);
    }
    if views.is_empty() {
        ui.say("no runs");
        return Ok(Exit::Complete);
    }
    show(ui, &views, now);
    if skipped > 0 {
        ui.tell(format!("and {} before", count(skipped as u64, "run")));
    }
    Ok(Exit::Complete)
}

/// A line for each run, and below it what there is to say of it.
fn show(ui: &mut Ui, views: &[RunView<'_>], now: jiff::Timestamp) {
    let rows = views.iter().map(|view| {
        vec![
            view.run.to_owned(),
            view.app.to_owned(),
            harmless(if view.host.is_empty() { view.machine } else { view.host }),
            minute(view.started),
            outcome(view.outcome),
            view.held_ms.map_or_else(|| "-".to_owned(), |held| held_for(held, view.outcome)),
            view.parts.to_string(),
            size(view.bytes),
            size(view.bytes_stored),
            view.proven.map_or_else(|| "never".to_owned(), |at| ago(at, now)),
        ]
    });
    let mut rows: Vec<Vec<String>> = rows.collect();
    let began = format!("began ({})", zone());
    let mut headings =
        vec!["run", "application", "machine", &began, "outcome", ">held", ">parts", ">size", ">stored", "last drilled"];
    // There only where they differ.
    if views.iter().all(|view| view.machine == views[0].machine) {
        headings.remove(MACHINE);
        for row in &mut rows {
            row.remove(MACHINE);
        }
    }
    let notes = views.iter().map(|view| {
        let mut note: Vec<String> = Vec::new();
        note.extend(view.kept.then(|| "kept".to_owned()));
        note.extend(view.partial.then(|| "partial".to_owned()));
        note.extend(view.thinned.then(|| "removed: only its record is left".to_owned()));
        note.extend((!view.in_store).then(|| "record waits for the store".to_owned()));
        note.extend(view.reason.map(str::to_owned));
        note.extend(view.cause.map(str::to_owned));
        harmless(&note.join("; "))
    });
    ui.say(noted_table(&headings, rows, &notes.collect::<Vec<_>>()));
}
