//! `gullet compare` and `gullet trace`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use clap::Args;
use gullet_capture::plan::{self, Plan, PlannedCopy, Request, changed_facts};
use gullet_host::hook::Runner;
use gullet_host::state::ApartFolder;
use gullet_logbook::logbook::Logged;
use gullet_model::definition::Loaded;
use gullet_model::step::Facts;
use gullet_restore::compare::{self, ChangeKind, CompareError, Exported, PartComparison, PathChange, TracedRun};
use gullet_store::Store;
use gullet_store::listing::PathName;

use crate::args::{Global, ReadingArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::reading::{Reading, must_open};
use crate::table::table;
use crate::text::{count, harmless, size, time};
use crate::ui::{BAD, BOLD, DIM, GOOD, Ui, WARN, outcome, styled};

/// Paths of a part that are shown where nothing else is said.
const SHOWN: usize = 20;
/// Texts of a part, and lines of each, that are shown where nothing else is said.
const TEXTS: usize = 3;
const LINES: usize = 12;

/// Say what differs between two runs, or between a run and what is there now
///
/// Parts, facts, files (added, gone, changed, touched, moved), and texts line by line. Nothing is restored for it.
///
/// Example: gullet compare k3v9 quaybook@latest
#[derive(Args)]
pub struct CompareArgs {
    /// The first run
    run: String,
    /// The second run
    #[arg(required_unless_present = "now")]
    other: Option<String>,
    /// Instead of a second run: what is there now; exports and copies of databases are made anew beside it, without a hold
    #[arg(long, conflicts_with = "other")]
    now: bool,
    /// Only this part (can be repeated)
    #[arg(long = "part", value_name = "PART")]
    parts: Vec<String>,
    /// With --now: read every file, also where length and time are as they were
    #[arg(long, requires = "now")]
    reread: bool,
    /// Show every path, not the first of each part only
    #[arg(long)]
    all: bool,
    #[command(flatten)]
    reading: ReadingArgs,
}

/// Say in which runs a path or a part was captured, and when it changed
///
/// A text with `/` in it is a path, of a source or within an export; else it is a part, or a file of an export.
///
/// Example: gullet trace /var/lib/quaybook/manifests/index.json
#[derive(Args)]
pub struct TraceArgs {
    /// The path, or the part
    what: OsString,
    /// Only runs of this application
    #[arg(long, value_name = "APP")]
    app: Option<String>,
    /// Only in this part (can be repeated)
    #[arg(long = "part", value_name = "PART")]
    parts: Vec<String>,
    /// Only runs in which it changed
    #[arg(long)]
    changes: bool,
    #[command(flatten)]
    reading: ReadingArgs,
}

impl From<CompareError> for CommandError {
    fn from(error: CompareError) -> Self {
        Self::new(Exit::Failed, &error)
    }
}

pub fn compare(ui: &mut Ui, global: &Global, args: &CompareArgs) -> Result<Exit, CommandError> {
    let reading = Reading::open(global, &args.reading, None, ui)?;
    let (store, logged) = &reading.run_of(ui, &args.run)?;
    must_open(store, logged)?;
    for part in &args.parts {
        if logged.record.capture(part).is_none() {
            let known: Vec<&str> = logged.record.captures.iter().map(|capture| capture.part.as_str()).collect();
            let error = CommandError::text(Exit::Usage, format!("run {} has no part `{part}`", logged.record.run));
            return Err(error.hint(format!("its parts are: {}", known.join(", "))));
        }
    }
    let then = &logged.record.facts;
    let (compared, second, facts) = match &args.other {
        Some(other) => {
            let (in_other, other) = &reading.run_of(ui, other)?;
            must_open(in_other, other)?;
            if other.record.app != logged.record.app {
                ui.warning(&format!(
                    "these are runs of two applications: {} and {}",
                    logged.record.app, other.record.app
                ));
            }
            let compared = compare::runs((logged, store), (other, in_other), &args.parts)?;
            let second = format!("run {} ({})", other.record.run, time(other.record.started));
            (compared, second, changed_facts(then, &other.record.facts))
        }
        None => {
            let state =
                reading.loaded.as_ref().map(open::state_folder).unwrap_or_else(|| PathBuf::from("/nonexistent"));
            let folder = PathBuf::from(store.location().describe());
            let made = made_anew(ui, reading.loaded.as_ref(), logged, &args.parts)?;
            let how = (args.reread, made.as_ref().map(|(made, _)| made));
            let app = &logged.record.app;
            let copies = reading.loaded.as_ref().map(|loaded| PlannedCopy::all(&loaded.definition, app));
            let own = (folder.as_path(), copies.as_deref().unwrap_or_default(), state.as_path());
            let compared = compare::with_now((logged, store), own, &args.parts, how)?;
            let now = facts_now(reading.loaded.as_ref(), logged, &state);
            (compared, "what is there now".to_owned(), changed_facts(then, &now))
        }
    };
    if ui.is_json() {
        let facts: Vec<_> = facts
            .iter()
            .map(|(fact, then, now)| serde_json::json!({ "fact": fact, "first": then, "second": now }))
            .collect();
        ui.json(&serde_json::json!({ "facts": facts, "parts": compared }))?;
        return Ok(Exit::Complete);
    }
    let record = &logged.record;
    ui.say(format!("{}: run {} ({}) and {second}", styled(BOLD, &record.app), record.run, time(record.started)));
    for (fact, then, now) in &facts {
        ui.say(harmless(&format!("fact {fact}: {then} in the first, {now} in the second")));
    }
    show(ui, &compared, args.all);
    Ok(Exit::Complete)
}

/// Exports of the application of a run as they are now, where the definition at hand has it; the folder goes with them.
fn made_anew(
    ui: &mut Ui,
    loaded: Option<&Loaded>,
    logged: &Logged,
    parts: &[String],
) -> Result<Option<(Exported, ApartFolder)>, CommandError> {
    let app = &logged.record.app;
    let Some(loaded) = loaded.filter(|loaded| loaded.definition.app.contains_key(app)) else { return Ok(None) };
    let state = open::state(loaded)?;
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    state.place(&["scratch"])?;
    let runner = Runner { run: "compare".to_owned(), ..Runner::apart(outside.world(), app, state.folder()) };
    let request = Request { app: app.clone(), ..Request::default() };
    let plan = Plan::make(loaded, request, state.folder().to_path_buf(), &runner, None)?;
    let folder = state.place_apart(outside.world().random)?;
    ui.progress(&format!("{app}: exports are made anew"));
    let made = compare::export_now(&plan, parts, (&state, &runner), folder.path())?;
    if outside.world().stop.asked().is_some() {
        return Err(CommandError::text(Exit::Interrupted, "stopped before everything was compared"));
    }
    Ok(Some((made, folder)))
}

/// What the application of a run says of itself now.
fn facts_now(loaded: Option<&Loaded>, logged: &Logged, state: &Path) -> Facts {
    let spec = loaded.and_then(|loaded| loaded.definition.app.get(&logged.record.app));
    spec.map_or_else(Facts::new, |spec| plan::facts_now(spec, &logged.record.app, RealWorld::new().world(), state))
}

fn show(ui: &mut Ui, compared: &[PartComparison], all: bool) {
    let number = |number: u64| if number == 0 { "-".to_owned() } else { number.to_string() };
    let rows = compared.iter().map(|part| {
        let tally = &part.tally;
        let word = match (&part.only, part.is_nothing()) {
            (Some(_), _) => styled(WARN, "! not compared"),
            (None, true) => styled(GOOD, "= the same"),
            (None, false) => styled(WARN, "≠ differs"),
        };
        vec![
            harmless(&part.part),
            word,
            number(tally.added),
            number(tally.gone),
            number(tally.changed),
            number(tally.touched),
            number(tally.moved),
            number(part.facts.len() as u64),
            harmless(part.only.as_deref().unwrap_or("")),
        ]
    });
    ui.say(table(&["part", "", ">added", ">gone", ">changed", ">touched", ">moved", ">facts", ""], rows.collect()));
    for part in compared.iter().filter(|part| part.only.is_none() && !part.is_nothing()) {
        ui.say("");
        ui.say(styled(BOLD, harmless(&part.part)));
        for fact in &part.facts {
            let value = |value: &Option<serde_json::Value>| {
                value.as_ref().map_or_else(|| "nothing".to_owned(), ToString::to_string)
            };
            ui.say(format!(
                "  fact {}: {} -> {}",
                harmless(&fact.fact),
                harmless(&value(&fact.was)),
                harmless(&value(&fact.is))
            ));
        }
        let shown = if all { part.paths.len() } else { SHOWN };
        for change in part.paths.iter().take(shown) {
            ui.say(format!("  {}", change_line(change)));
        }
        let tally = part.tally;
        let paths = tally.added + tally.gone + tally.changed + tally.touched + tally.moved;
        let more = paths.saturating_sub(shown.min(part.paths.len()) as u64);
        if more > 0 {
            ui.say(format!("  and {} more", count(more, "path")));
        }
        let (texts, lines) = if all { (part.texts.len(), usize::MAX) } else { (TEXTS, LINES) };
        for text in part.texts.iter().take(texts) {
            ui.say(format!("  {}", styled(BOLD, harmless(&text.path.to_string()))));
            for line in text.lines.iter().take(lines) {
                let style = match line.as_bytes().first() {
                    Some(b'-') => BAD,
                    Some(b'+') => GOOD,
                    _ => DIM,
                };
                ui.say(format!("    {}", styled(style, harmless(line))));
            }
            let more = text.lines.len().saturating_sub(lines) + text.more;
            if more > 0 {
                ui.say(format!("    {}", styled(DIM, format!("and {} more", count(more as u64, "line")))));
            }
        }
        let more = part.texts.len().saturating_sub(texts);
        if more > 0 {
            ui.say(format!("  and the lines of {} more (`--all`)", count(more as u64, "text")));
        }
    }
}

fn change_line(change: &PathChange) -> String {
    let path = harmless(&change.path.to_string());
    let sizes = match (change.was, change.is) {
        (Some(was), Some(is)) if was != is => format!("  {} -> {}", size(was), size(is)),
        (None, Some(bytes)) | (Some(bytes), _) => format!("  {}", size(bytes)),
        (None, None) => String::new(),
    };
    let (mark, path) = match change.what {
        ChangeKind::Added => (styled(GOOD, "+ added  "), path),
        ChangeKind::Gone => (styled(BAD, "- gone   "), path),
        ChangeKind::Changed => (styled(WARN, "≠ changed"), path),
        ChangeKind::Touched => (styled(DIM, "~ touched"), path),
        ChangeKind::Moved => {
            let from = change.from.as_ref().map(|from| harmless(&from.to_string())).unwrap_or_default();
            (styled(WARN, "> moved  "), format!("{from} -> {path}"))
        }
    };
    format!("{mark} {path}{}", styled(DIM, sizes))
}

pub fn trace(ui: &mut Ui, global: &Global, args: &TraceArgs) -> Result<Exit, CommandError> {
    let reading = Reading::open(global, &args.reading, args.app.as_deref(), ui)?;
    let mut runs: Vec<(&Logged, &Store)> = Vec::new();
    let books = reading.books(ui)?;
    for (store, book) in &books {
        runs.extend(book.runs.iter().filter(|logged| book.may_be_own(logged)).map(|logged| (logged, *store)));
    }
    runs.retain(|(logged, _)| args.app.as_ref().is_none_or(|app| logged.record.app == *app));
    if reading.stores.len() > 1 {
        runs.sort_by_key(|(logged, _)| logged.record.started);
    }
    let bytes = args.what.as_bytes();
    let text = args.what.to_string_lossy().into_owned();
    let is_part = !bytes.contains(&b'/') && runs.iter().any(|(logged, _)| logged.record.capture(&text).is_some());
    let locked = runs.iter().filter(|(logged, _)| logged.is_locked).count();
    if let Some((logged, store)) = runs.first().filter(|_| locked == runs.len()) {
        must_open(store, logged)?;
    }
    let traced = if is_part {
        compare::trace_part(&runs, &text)?
    } else {
        let bytes = bytes.strip_prefix(b"/").unwrap_or(bytes);
        compare::trace_path(&runs, &PathName::new(bytes.strip_suffix(b"/").unwrap_or(bytes)), &args.parts)?
    };
    if locked > 0 {
        let runs = count(locked as u64, "run");
        ui.warning(&format!("{runs} left out: nothing at hand opens what is encrypted in them (say --identity FILE)"));
    }
    if ui.is_json() {
        ui.json(&traced)?;
        return Ok(Exit::Complete);
    }
    if traced.is_empty() {
        let error = CommandError::text(Exit::Usage, format!("no run that can be read has `{text}`"));
        return Err(error.hint("`gullet show RUN --listing` shows what a run has; a path of a source begins with `/`"));
    }
    show_trace(ui, &traced, args.changes, &text);
    Ok(Exit::Complete)
}

fn show_trace(ui: &mut Ui, traced: &[TracedRun], only_changes: bool, text: &str) {
    let rows = traced.iter().filter(|traced| !only_changes || traced.what.is_some()).map(|traced| {
        let word = match traced.what {
            None => styled(DIM, "= the same"),
            Some(ChangeKind::Added) => styled(GOOD, "+ first there"),
            Some(ChangeKind::Gone) => styled(BAD, "- gone"),
            Some(ChangeKind::Touched) => styled(DIM, "~ touched"),
            Some(ChangeKind::Changed | ChangeKind::Moved) => styled(WARN, "≠ changed"),
        };
        let written = traced.entry.as_ref().and_then(|entry| {
            jiff::Timestamp::new(entry.mtime.0, i32::try_from(entry.mtime.1).unwrap_or(0)).ok().map(time)
        });
        let bytes = if traced.what == Some(ChangeKind::Gone) { "-".to_owned() } else { size(traced.bytes) };
        vec![
            traced.run.clone(),
            harmless(&traced.app),
            time(traced.started),
            outcome(traced.outcome),
            harmless(&traced.part),
            word,
            bytes,
            written.unwrap_or_else(|| "-".to_owned()),
        ]
    });
    ui.say(table(&["run", "application", "began", "outcome", "part", "", ">size", "written"], rows.collect()));
    let there = |traced: &&TracedRun| traced.what != Some(ChangeKind::Gone);
    let (first, last) = (traced.iter().find(there), traced.iter().rev().find(there));
    let changed =
        traced.iter().rev().find(|traced| matches!(traced.what, Some(ChangeKind::Changed | ChangeKind::Added)));
    if let (Some(first), Some(last), Some(changed)) = (first, last, changed) {
        let number = traced.iter().filter(there).count() as u64;
        ui.say(format!(
            "{}: in {}; first {}, last {}, last changed {}",
            harmless(text),
            count(number, "run"),
            time(first.started),
            time(last.started),
            time(changed.started)
        ));
    }
}
