//! The report: one page that needs no network and no script, or its figures as CSV.

use std::sync::LazyLock;

use gullet_core::overview::{Overview, OverviewApp, OverviewDay};
use gullet_core::status::Severity;
use gullet_model::Outcome;
use jiff::Timestamp;
use jiff::civil::Date;
use minijinja::{AutoEscape, Environment};
use serde::Serialize;

use crate::text::{ago, count, duration, harmless, size, time};

/// The width and height of a plot, in the units of its drawing; it is stretched to the width of the page.
const PLOT: (f64, f64) = (720.0, 90.0);
/// The side of a day's square, and the distance from one to the next.
const DAY: (i16, i16) = (12, 14);

#[derive(Serialize)]
struct Page {
    heading: String,
    tone: &'static str,
    facts: Vec<(String, String)>,
    statement: Vec<StatementRow>,
    legend: Vec<LegendEntry>,
    apps: Vec<AppSection>,
    foot: Vec<String>,
}

/// What an auditor reads of an application.
#[derive(Serialize)]
struct StatementRow {
    name: String,
    anchor: String,
    tone: &'static str,
    word: String,
    /// What is wrong, where something is.
    why: String,
    /// A name of a column, and what stands in it.
    cells: Vec<(&'static str, String)>,
}

#[derive(Serialize)]
struct LegendEntry {
    kind: &'static str,
    word: &'static str,
}

#[derive(Serialize)]
struct AppSection {
    name: String,
    anchor: String,
    tone: &'static str,
    word: String,
    reasons: Vec<String>,
    facts: Vec<(String, String)>,
    totals: String,
    months: Vec<Month>,
    plots: Vec<Plot>,
    parts: Vec<Vec<String>>,
    not_included: Vec<String>,
    failures: Vec<Vec<String>>,
    failures_more: usize,
}

/// A month as a sheet of squares, weeks from Monday on.
#[derive(Serialize)]
struct Month {
    label: String,
    /// What there is to see, in words.
    words: String,
    days: Vec<DaySquare>,
}

#[derive(Serialize)]
struct DaySquare {
    x: i16,
    y: i16,
    kind: &'static str,
    title: String,
}

/// A row of bars over the days, or a line.
#[derive(Serialize)]
struct Plot {
    title: String,
    /// What there is to see, in words.
    words: String,
    top: String,
    first: String,
    last: String,
    bars: Vec<Bar>,
    /// The points of a line.
    line: Option<String>,
    /// Where the limit is, from above.
    limit: Option<(f64, String)>,
}

#[derive(Serialize)]
struct Bar {
    x: f64,
    y: f64,
    width: f64,
    height: f64,
}

/// The report as one page of HTML.
pub fn page(overview: &Overview) -> Result<String, minijinja::Error> {
    static TEMPLATES: LazyLock<Environment<'static>> = LazyLock::new(|| {
        let mut environment = Environment::new();
        environment.set_auto_escape_callback(|_| AutoEscape::Html);
        let _ = environment.add_template("report.html", include_str!("../../templates/report.html"));
        environment
    });
    TEMPLATES.get_template("report.html")?.render(minijinja::value::Serde(laid_out(overview)))
}

/// The runs as CSV (RFC 4180), a line each; the columns are the keys of `gullet runs --json`.
pub fn csv(overview: &Overview) -> Result<Vec<u8>, csv::Error> {
    let mut writer = csv::Writer::from_writer(Vec::new());
    writer.write_record([
        "run",
        "app",
        "host",
        "machine",
        "outcome",
        "started",
        "ended",
        "held_ms",
        "parts",
        "files",
        "bytes",
        "bytes_stored",
        "partial",
        "thinned",
        "verified",
        "proven",
        "trigger",
        "reason",
        "cause",
        "record",
    ])?;
    let moment = |at: Option<Timestamp>| at.map(|at| at.to_string()).unwrap_or_default();
    for run in overview.apps.iter().flat_map(|app| &app.runs) {
        writer.write_record([
            run.run.to_string(),
            run.app.clone(),
            run.host.clone(),
            run.machine.clone(),
            run.outcome.words().to_owned(),
            run.started.to_string(),
            run.ended.to_string(),
            run.held_ms.map(|ms| ms.to_string()).unwrap_or_default(),
            run.parts.to_string(),
            run.files.to_string(),
            run.bytes.to_string(),
            run.bytes_stored.to_string(),
            run.partial.to_string(),
            run.thinned.to_string(),
            moment(run.verified),
            moment(run.proven),
            unexecuted(&run.trigger),
            unexecuted(run.reason.as_deref().unwrap_or_default()),
            unexecuted(run.cause.as_deref().unwrap_or_default()),
            run.record.clone(),
        ])?;
    }
    Ok(writer.into_inner().map_err(csv::IntoInnerError::into_error)?)
}

/// Text that a spreadsheet would take for a formula begins with an apostrophe.
fn unexecuted(text: &str) -> String {
    let text = harmless(text);
    if text.starts_with(['=', '+', '-', '@', '\t']) { format!("'{text}") } else { text }
}

fn laid_out(overview: &Overview) -> Page {
    let now = overview.made;
    let protected = overview.apps.iter().filter(|app| app.status.level == Severity::Ok).count();
    let heading = match overview.apps.len() {
        0 => "there is no application to report on".to_owned(),
        all if all == protected => format!("✓ protected: {}", count(all as u64, "application")),
        all => format!(
            "{} {} of {} protected as they should be",
            sign(overview.level),
            protected,
            count(all as u64, "application")
        ),
    };
    let scope = overview.store.as_ref().map_or_else(
        || ("machine".to_owned(), harmless(&overview.host)),
        |store| ("all machines of the store".to_owned(), harmless(store)),
    );
    let facts = vec![
        scope,
        ("time".to_owned(), format!("{} to {} (days of {})", overview.from, overview.until, overview.zone)),
        (
            "made".to_owned(),
            format!("{}, by Gullet {} on {}", time(now), env!("CARGO_PKG_VERSION"), harmless(&overview.host)),
        ),
    ];
    let several = overview.store.is_some();
    let apps: Vec<AppSection> =
        overview.apps.iter().enumerate().map(|(at, app)| section(overview, app, at, several)).collect();
    let statement = overview.apps.iter().zip(&apps).map(|(app, section)| statement(app, section, now)).collect();
    let kinds = ["good", "warn", "bad", "missed", "none"].into_iter();
    let legend =
        kinds.zip(["complete", "complete with warnings", "failed or incomplete", "refused or missed", "no run"]);
    let mut foot = vec![
        "“Verified”: every stored byte of the newest complete run was read back. “Drilled”: a run was restored to a scratch place, and \
         opened or checked there. “Protected”: all that the definition asks for was true when this page was made."
            .to_owned(),
        "Each hash proves the record that it is of, and all records of the application before it: gullet verify --anchor HASH."
            .to_owned(),
    ];
    if several {
        let text = "By the store alone: whether an application is held, and what its definition asks for since its last run, only its \
                    machine knows.";
        foot.insert(0, text.to_owned());
    }
    Page {
        heading,
        tone: tone(overview.level),
        facts,
        statement,
        legend: legend.map(|(kind, word)| LegendEntry { kind, word }).collect(),
        apps,
        foot,
    }
}

fn statement(app: &OverviewApp, section: &AppSection, now: Timestamp) -> StatementRow {
    let ended = |outcomes: &[Outcome]| outcomes.iter().map(|outcome| app.ended(*outcome)).sum::<usize>().to_string();
    let moment =
        |at: Option<Timestamp>| at.map_or_else(|| "never".to_owned(), |at| format!("{} ({})", time(at), ago(at, now)));
    let good = app.status.last_good.as_ref();
    let mut cells = vec![
        (
            "last complete",
            good.map_or_else(
                || "none".to_owned(),
                |good| format!("{} ({})", time(good.started), ago(good.started, now)),
            ),
        ),
        ("verified", moment(app.status.verified)),
        ("drilled", moment(app.status.proven)),
        ("complete", ended(&[Outcome::Complete])),
        ("with warnings", ended(&[Outcome::Warnings])),
        ("failed", ended(&[Outcome::Incomplete, Outcome::Failed, Outcome::Interrupted, Outcome::NotReleased])),
        ("refused or missed", ended(&[Outcome::Refused, Outcome::Missed])),
    ];
    if !app.copies.is_empty() {
        let copies: Vec<String> =
            app.copies.iter().map(|(name, has)| format!("{name}: {}", if *has { "yes" } else { "no" })).collect();
        cells.push(("second copy", harmless(&copies.join(", "))));
    }
    cells.push(("hash of the newest record", app.anchor.clone().unwrap_or_else(|| "-".to_owned())));
    let is_well = app.status.level == Severity::Ok;
    let why = app.status.reasons.first().filter(|_| !is_well).map(|text| harmless(text)).unwrap_or_default();
    StatementRow {
        name: section.name.clone(),
        anchor: section.anchor.clone(),
        tone: section.tone,
        word: section.word.clone(),
        why,
        cells,
    }
}

/// So many runs that did not end well are named, the newest ones.
const FAILURES: usize = 40;

fn section(overview: &Overview, app: &OverviewApp, at: usize, several: bool) -> AppSection {
    let called =
        app.title.as_ref().map_or_else(|| app.status.app.clone(), |title| format!("{title} ({})", app.status.app));
    let name = if several { format!("{called} on {}", app.host) } else { called };
    let good = app.status.last_good.as_ref();
    let mut facts = Vec::new();
    if let Some(good) = good {
        facts.push(("last complete run".to_owned(), format!("{}, {}", good.run, time(good.started))));
    }
    if let Some(why) = &app.no_hold {
        facts.push(("not from one point in time".to_owned(), harmless(why)));
    }
    if let Some(held) = app.longest_hold_ms() {
        let limit = app.limit_ms.map(|limit| format!(", of {} allowed", duration(limit))).unwrap_or_default();
        facts.push(("longest hold".to_owned(), format!("{}{limit}", duration(held))));
    }
    facts.extend(
        app.status
            .outside
            .iter()
            .map(|(part, id)| ("kept by another system".to_owned(), harmless(&format!("{part}: {id}")))),
    );
    let bad = app.runs.iter().rev().filter(|run| !run.outcome.is_whole());
    let failures: Vec<Vec<String>> = bad
        .clone()
        .take(FAILURES)
        .map(|run| {
            vec![
                time(run.started),
                run.run.to_string(),
                run.outcome.words().to_owned(),
                harmless(run.cause.as_deref().unwrap_or("")),
            ]
        })
        .collect();
    let parts = app.parts.iter().map(|part| {
        let sources = if part.sources.is_empty() { "-".to_owned() } else { harmless(&part.sources.join(", ")) };
        vec![harmless(&part.part), part.kind.clone(), sources, part.files.to_string(), size(part.bytes)]
    });
    AppSection {
        anchor: format!("app-{}", at + 1),
        name: harmless(&name),
        tone: tone(app.status.level),
        word: format!("{} {}", sign(app.status.level), app.status.level.word()),
        reasons: app.status.reasons.iter().map(|text| harmless(text)).collect(),
        totals: count(app.runs.len() as u64, "run"),
        facts,
        months: months(overview, &app.days),
        plots: plots(overview, app),
        parts: parts.collect(),
        not_included: app.not_included.iter().map(|text| harmless(text)).collect(),
        failures_more: bad.count().saturating_sub(failures.len()),
        failures,
    }
}

fn sign(level: Severity) -> &'static str {
    match level {
        Severity::Ok => "✓",
        Severity::Warning => "!",
        Severity::Critical => "✗",
        Severity::Unknown => "?",
    }
}

fn tone(level: Severity) -> &'static str {
    match level {
        Severity::Ok => "good",
        Severity::Warning => "warn",
        Severity::Critical | Severity::Unknown => "bad",
    }
}

/// What a day looks like.
fn kind_of(worst: Outcome) -> &'static str {
    match worst {
        Outcome::Complete => "good",
        Outcome::Warnings => "warn",
        Outcome::Refused | Outcome::Missed => "missed",
        _ => "bad",
    }
}

fn months(overview: &Overview, days: &[OverviewDay]) -> Vec<Month> {
    let mut months: Vec<Month> = Vec::new();
    let mut current: Option<(i16, i8)> = None;
    for day in overview.all_days() {
        if current != Some((day.year(), day.month())) {
            current = Some((day.year(), day.month()));
            months.push(Month { label: day.strftime("%b %Y").to_string(), words: String::new(), days: Vec::new() });
        }
        let Some(month) = months.last_mut() else { continue };
        let first = day.first_of_month().weekday().to_monday_zero_offset();
        let place = i16::from(first) + i16::from(day.day()) - 1;
        let found = days.binary_search_by(|of_day| of_day.day.cmp(&day)).ok().map(|at| &days[at]);
        let (kind, title) = match found {
            Some(of_day) => (kind_of(of_day.worst), day_in_words(of_day)),
            None => ("none", format!("{day}: no run")),
        };
        month.days.push(DaySquare { x: place % 7 * DAY.1, y: place / 7 * DAY.1, kind, title });
    }
    for month in &mut months {
        let of_kind = |kind: &str| month.days.iter().filter(|day| day.kind == kind).count();
        let kinds = [
            ("good", "complete"),
            ("warn", "with warnings"),
            ("bad", "failed"),
            ("missed", "refused or missed"),
            ("none", "without a run"),
        ];
        let words = kinds.into_iter().map(|(kind, word)| (of_kind(kind), word)).filter(|(number, _)| *number > 0);
        let words: Vec<String> =
            words.map(|(number, word)| format!("{} {word}", count(number as u64, "day"))).collect();
        month.words = format!("{}: {}", month.label, words.join(", "));
    }
    months
}

fn day_in_words(day: &OverviewDay) -> String {
    let runs = if day.runs == 1 { String::new() } else { format!("{}, the worst ", count(day.runs as u64, "run")) };
    format!("{}: {runs}{}", day.day, day.worst.words())
}

fn plots(overview: &Overview, app: &OverviewApp) -> Vec<Plot> {
    let captured: Vec<(Date, u64)> = app.days.iter().filter_map(|day| Some((day.day, day.bytes?))).collect();
    let stored: Vec<(Date, u64)> = app.days.iter().map(|day| (day.day, day.bytes_stored)).collect();
    let held: Vec<(Date, u64)> = app.days.iter().filter_map(|day| Some((day.day, day.held_ms?))).collect();
    let mut plots = Vec::new();
    if captured.len() > 1 {
        plots.push(plot(overview, "size of what complete runs captured", &captured, size, PlotForm::Line));
    }
    if stored.iter().any(|(_, bytes)| *bytes > 0) {
        plots.push(plot(overview, "added to the store each day", &stored, size, PlotForm::Bars(None)));
    }
    if !held.is_empty() {
        plots.push(plot(overview, "longest hold of each day", &held, duration, PlotForm::Bars(app.limit_ms)));
    }
    plots
}

/// What a plot looks like.
enum PlotForm {
    Line,
    /// Bars, and where the limit is.
    Bars(Option<u64>),
}

fn plot(overview: &Overview, title: &str, values: &[(Date, u64)], in_words: fn(u64) -> String, form: PlotForm) -> Plot {
    let days = overview.all_days().count().max(1) as f64;
    let step = PLOT.0 / days;
    let most = values.iter().map(|(_, value)| *value).max().unwrap_or(0);
    // A limit that is far above what happened would make the bars invisible; it is said instead.
    let limit = match form {
        PlotForm::Bars(Some(limit)) if limit <= most.saturating_mul(4) => Some(limit),
        _ => None,
    };
    let top = most.max(limit.unwrap_or(0)).max(1);
    let x_of = |day: Date| f64::from(overview.from.until(day).map_or(0, |span| span.get_days())) * step;
    let height_of = |value: u64| value as f64 / top as f64 * (PLOT.1 - 2.0);
    let round = |value: f64| (value * 100.0).round() / 100.0;
    let (mut bars, mut line) = (Vec::new(), None);
    match form {
        PlotForm::Bars(_) => bars.extend(values.iter().map(|(day, value)| {
            // A bar is never so thin that it vanishes.
            let height = height_of(*value).max(if *value > 0 { 1.0 } else { 0.0 });
            Bar {
                x: round(x_of(*day)),
                y: round(PLOT.1 - height),
                width: round((step * 0.8).max(0.8)),
                height: round(height),
            }
        })),
        PlotForm::Line => {
            let points = values.iter().map(|(day, value)| {
                format!("{},{}", round(x_of(*day) + step / 2.0), round(PLOT.1 - height_of(*value)))
            });
            line = Some(points.collect::<Vec<_>>().join(" "));
        }
    }
    let (first, last) = (values.first(), values.last());
    let ends = first
        .zip(last)
        .map(|(first, last)| format!("{} on {}, {} on {}", in_words(first.1), first.0, in_words(last.1), last.0));
    let said_limit = match form {
        PlotForm::Bars(Some(limit)) => format!("; {} allowed", in_words(limit)),
        _ => String::new(),
    };
    Plot {
        title: title.to_owned(),
        words: format!("at most {}{said_limit}; {}", in_words(most), ends.unwrap_or_default()),
        top: in_words(top),
        first: overview.from.to_string(),
        last: overview.until.to_string(),
        bars,
        line,
        limit: limit.map(|limit| (round(PLOT.1 - height_of(limit)), in_words(limit))),
    }
}
