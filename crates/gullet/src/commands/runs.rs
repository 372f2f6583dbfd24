//! `gullet runs`.

use clap::Args;
use gullet_logbook::logbook::{Moment, RunLine};
use gullet_model::outcome::Outcome;
use gullet_model::problem::ProblemKind;

use crate::args::{Global, ReadingArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::reading::Reading;
use crate::table::noted_table;
use crate::text::{ago, count, harmless, held_for, minute, size, zone};
use crate::ui::{Ui, outcome};

/// So many runs a table shows where nothing says how many.
const SHOWN: usize = 100;
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
    /// All of them; otherwise a table shows the newest 100 where neither `--since` nor `--until` says which
    #[arg(long, conflicts_with = "last")]
    pub(super) all: bool,
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
    fn has(&self, run: &RunLine) -> bool {
        let of_kind = |kind: ProblemKind| run.causes.contains(&kind) || run.warnings.contains(&kind);
        let of_machine = |name: &String| run.host == *name || run.machine == *name;
        self.outcome.is_none_or(|outcome| run.outcome == outcome)
            && self.cause.is_none_or(of_kind)
            && self.trigger.as_ref().is_none_or(|text| run.trigger.contains(text.as_str()))
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

pub(super) fn moment(text: &str) -> Result<Moment, String> {
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

pub fn runs(ui: &mut Ui, global: &Global, args: &RunsArgs) -> Result<Exit, CommandError> {
    let reading = Reading::open(global, &args.reading, args.app.as_deref(), ui)?;
    let mut runs = reading.runs();
    runs.retain(|run| !args.failed || run.outcome > Outcome::Complete);
    let now = jiff::Timestamp::now();
    if let Some(since) = args.since.and_then(|since| beginning(since, now)) {
        runs.retain(|run| run.started >= since);
    }
    if let Some(until) = args.until.and_then(|until| until.in_zone(&jiff::tz::TimeZone::system(), now)) {
        runs.retain(|run| run.started <= until);
    }
    if let Some(wanted) = &args.reason {
        runs.retain(|run| run.reason.as_ref().is_some_and(|reason| reason.contains(wanted.as_str())));
    }
    runs.retain(|run| args.has(run));
    let is_limited = !args.all && !ui.is_json() && args.since.is_none() && args.until.is_none();
    let most = args.last.or(is_limited.then_some(SHOWN));
    let skipped = most.map_or(0, |most| runs.len().saturating_sub(most));
    let runs = &runs[skipped..];
    if ui.is_json() {
        ui.json(&runs)?;
        return Ok(Exit::Complete);
    }
    if runs.is_empty() {
        ui.say("no runs");
        return Ok(Exit::Complete);
    }
    show(ui, runs, now);
    if skipped > 0 {
        let how = if args.last.is_none() { ": `--all` shows them, too" } else { "" };
        ui.tell(format!("and {} before{how}", count(skipped as u64, "run")));
    }
    Ok(Exit::Complete)
}

/// A line for each run, and below it what there is to say of it.
fn show(ui: &mut Ui, runs: &[&RunLine], now: jiff::Timestamp) {
    let rows = runs.iter().map(|run| {
        vec![
            run.run.to_string(),
            run.app.clone(),
            harmless(if run.host.is_empty() { &run.machine } else { &run.host }),
            minute(run.started),
            outcome(run.outcome),
            run.held_ms.map_or_else(|| "-".to_owned(), |held| held_for(held, run.outcome)),
            run.parts.to_string(),
            size(run.bytes),
            size(run.bytes_stored),
            run.proven.map_or_else(|| "never".to_owned(), |at| ago(at, now)),
        ]
    });
    let mut rows: Vec<Vec<String>> = rows.collect();
    let began = format!("began ({})", zone());
    let mut headings =
        vec!["run", "application", "machine", &began, "outcome", ">held", ">parts", ">size", ">stored", "last drilled"];
    // There only where they differ.
    if runs.iter().all(|run| run.machine == runs[0].machine) {
        headings.remove(MACHINE);
        for row in &mut rows {
            row.remove(MACHINE);
        }
    }
    let notes = runs.iter().map(|run| {
        let mut note: Vec<String> = Vec::new();
        note.extend(run.kept.then(|| "kept".to_owned()));
        note.extend(run.partial.then(|| "partial".to_owned()));
        note.extend(run.thinned.then(|| "removed: only its record is left".to_owned()));
        note.extend((!run.in_store).then(|| "record waits for the store".to_owned()));
        note.extend(run.reason.clone());
        note.extend(run.cause.clone());
        harmless(&note.join("; "))
    });
    ui.say(noted_table(&headings, rows, &notes.collect::<Vec<_>>()));
}
