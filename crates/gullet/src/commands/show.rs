//! `gullet show`.

use std::path::PathBuf;

use clap::Args;
use gullet_capture::kinds::source_text;
use gullet_capture::plan::Plan;
use gullet_logbook::logbook::Logged;
use gullet_model::definition::{Nature, PartKind, When, shell_words};
use gullet_model::record::{Capture, Record};
use gullet_model::step::{CommandReport, StepKind, StepReport, Stream};
use gullet_restore::restore::{each_selected, is_selected};
use gullet_store::Store;
use gullet_store::listing::{Entry, Kind};
use serde::Serialize;

use crate::args::{Global, ReadingArgs};
use crate::commands::restore::selections;
use crate::error::{CommandError, locked};
use crate::exit::Exit;
use crate::narrate::capture_text;
use crate::reading::Reading;
use crate::table::{pairs, table};
use crate::text::{count, duration, harmless, held_for, size, time};
use crate::ui::{BAD, BOLD, DIM, GOOD, Ui, WARN, outcome, styled};

/// Show one run in detail
///
/// Example: gullet show quaybook@latest --hook-output
#[derive(Args)]
pub struct ShowArgs {
    /// The run: an id, the beginning of one, `APP@latest` or `APP@2026-11-03`
    run: String,
    /// With everything that its hooks printed
    #[arg(long)]
    hook_output: bool,
    /// List what was captured, path by path
    #[arg(long)]
    listing: bool,
    /// Only of this part (can be repeated), with --listing
    #[arg(long = "part", value_name = "PART", requires = "listing")]
    parts: Vec<String>,
    /// Only this path, and all that is below it, or what matches a pattern (can be repeated), with --listing
    #[arg(long = "path", value_name = "PATH", requires = "listing")]
    paths: Vec<std::ffi::OsString>,
    /// Only things of this kind (can be repeated), with --listing
    #[arg(long = "kind", value_name = "KIND", requires = "listing")]
    kinds: Vec<KindArg>,
    /// Only files of so many bytes or more, with --listing
    #[arg(long, value_name = "BYTES", requires = "listing")]
    min_size: Option<u64>,
    /// The application's definition as it was
    #[arg(long, conflicts_with_all = ["listing", "hook_output"])]
    definition_used: bool,
    #[command(flatten)]
    reading: ReadingArgs,
}

/// A kind of thing in a listing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
enum KindArg {
    /// Regular files
    File,
    /// Folders
    Folder,
    /// Symbolic links
    Link,
    /// Pipes, sockets, devices
    Other,
}

impl KindArg {
    fn of(kind: Kind) -> Self {
        match kind {
            Kind::File => Self::File,
            Kind::Folder => Self::Folder,
            Kind::Symlink => Self::Link,
            Kind::Fifo | Kind::Socket | Kind::CharDevice | Kind::BlockDevice => Self::Other,
        }
    }
}

pub fn show(ui: &mut Ui, global: &Global, args: &ShowArgs) -> Result<Exit, CommandError> {
    let reading = Reading::open(global, &args.reading, None, ui)?;
    let (store, logged) = &reading.find(ui, &args.run)?;
    if logged.is_locked && (args.definition_used || args.listing || args.hook_output) {
        return Err(locked(logged));
    }
    if args.definition_used {
        ui.write(logged.record.definition.as_bytes());
    } else if args.listing {
        listing(ui, store, logged, args)?;
    } else if ui.is_json() {
        let value = serde_json::json!({
            "name": logged.name,
            "outcome": logged.outcome(),
            "record": logged.record,
            "remarks": logged.remarks,
        });
        ui.json(&value)?;
    } else {
        detail(ui, store, logged, args);
    }
    Ok(Exit::Complete)
}

fn detail(ui: &mut Ui, store: &Store, logged: &Logged, args: &ShowArgs) {
    let record = &logged.record;
    let title = record.title.as_ref().map_or_else(|| record.app.clone(), |title| format!("{title} ({})", record.app));
    ui.say(format!("{}, run {}", styled(BOLD, harmless(&title)), record.run));
    ui.say(pairs(&facts(store, logged)));
    for note in &record.causes {
        let about = note.about.as_ref().map(|about| format!("{about}: ")).unwrap_or_default();
        ui.say(format!("{} {}", styled(BAD, "cause:"), harmless(&format!("{about}{}", note.text))));
        if let Some(advice) = &note.advice {
            ui.say(format!("       {}", harmless(advice)));
        }
    }
    for note in &record.warnings {
        let about = note.about.as_ref().map(|about| format!("{about}: ")).unwrap_or_default();
        ui.say(format!("{} {}", styled(WARN, "warning:"), harmless(&format!("{about}{}", note.text))));
    }
    ui.say("");
    captures(ui, record);
    sources(ui, record);
    ui.say("");
    ui.say(styled(BOLD, "steps"));
    let remarked = logged.remarks.iter().flat_map(|remark| &remark.steps);
    for step in record.steps.iter().chain(remarked) {
        show_step(ui, step, record, args.hook_output);
    }
    if !logged.remarks.is_empty() {
        ui.say("");
        ui.say(styled(BOLD, "later events"));
        for remark in &logged.remarks {
            let line = format!("  {}  {}", time(remark.at), harmless(&remark.text));
            ui.say(format!("{line}  {}", outcome(remark.outcome)));
        }
    }
    // Of a store that was named the commands would need that name too.
    if !logged.is_thinned()
        && args.reading.store.is_none()
        && let Some(capture) = record.captures.iter().find(|capture| capture.is_captured())
    {
        let (run, part) = (&record.run, shell_words(std::slice::from_ref(&capture.part)));
        ui.say("");
        ui.say(styled(DIM, format!("what is in it: gullet show {run} --listing --part {part}")));
        ui.say(styled(DIM, format!("to get it back: gullet restore {run} --into FOLDER")));
    }
}

/// Where each part came from, as the definition of the run said it.
fn sources(ui: &mut Ui, record: &Record) {
    // Of a record that is encrypted and was not opened nothing is known.
    let Ok(plan) = Plan::of_record(record, (PathBuf::new(), Vec::new()), PathBuf::new()) else { return };
    if plan.parts.is_empty() {
        return;
    }
    ui.say("");
    ui.say(styled(BOLD, "sources"));
    // What was read is in the record itself; what a command gave is known by its definition.
    let rows = plan.parts.iter().map(|part| {
        let roots: Vec<&str> = record
            .capture(&part.name)
            .iter()
            .flat_map(|capture| &capture.roots)
            .map(|root| root.path.as_str())
            .collect();
        (part.name.as_str(), if roots.is_empty() { source_text(part) } else { roots.join(", ") })
    });
    let width = plan.parts.iter().map(|part| part.name.chars().count()).max().unwrap_or(0);
    for (name, from) in rows {
        ui.say(harmless(&format!("  {name:<width$}  {from}")));
    }
}

/// What the run did to the application's own logs, where its definition said so.
fn log_of(record: &Record) -> Option<(&'static str, String)> {
    let plan = Plan::of_record(record, (PathBuf::new(), Vec::new()), PathBuf::new()).ok()?;
    Some(("its logs", plan.spec.log?.word().to_owned()))
}

/// What the application said of itself.
fn facts_of(record: &Record) -> Option<(&'static str, String)> {
    let text = |value: &serde_json::Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    let facts: Vec<String> = record.facts.iter().map(|(name, value)| format!("{name} {}", text(value))).collect();
    (!facts.is_empty()).then(|| ("facts", harmless(&facts.join(", "))))
}

fn facts(store: &Store, logged: &Logged) -> Vec<(&'static str, String)> {
    let record = &logged.record;
    let took = u64::try_from(record.ended.duration_since(record.started).as_millis()).unwrap_or(0);
    let mut rows =
        vec![("outcome", outcome(logged.outcome())), ("began", time(record.started)), ("took", duration(took))];
    let hold = &record.hold;
    rows.push((
        "held",
        match (&hold.no_hold, hold.held_ms) {
            (Some(why), _) => format!("never: {}; the parts are not from one point in time", harmless(why)),
            (None, None) if hold.self_consistent.is_some() => {
                format!("not needed: {}", harmless(hold.self_consistent.as_deref().unwrap_or_default()))
            }
            (None, None) => "not".to_owned(),
            (None, Some(held)) => {
                let limit = hold.limit_ms.map(|limit| format!(" of at most {}", duration(limit))).unwrap_or_default();
                let proven = if hold.proven { "proven before and after" } else { "not proven" };
                let away = hold.away_ms.map(|away| format!("; not serving for {}", duration(away))).unwrap_or_default();
                let released = if hold.released { "; proven to serve again" } else { "; not proven to serve again" };
                format!("{}{limit} in backup mode, {proven}{away}{released}", held_for(held, record.outcome))
            }
        },
    ));
    rows.extend(record.reason.as_ref().map(|reason| ("reason", harmless(reason))));
    rows.push(("started", format!("{}, as {}", record.trigger, record.host.account)));
    rows.push((
        "host",
        format!(
            "{}, {} {}, Gullet {}",
            record.host.name, record.host.system, record.host.architecture, record.host.gullet
        ),
    ));
    rows.extend(facts_of(record));
    rows.extend(log_of(record));
    if record.partial {
        rows.push(("scope", "narrowed to some parts: it never stands for the application".to_owned()));
    }
    let needs = record.holdings.needs.len() as u64;
    let earlier =
        if needs == 0 { String::new() } else { format!("; reuses {} of earlier runs", count(needs, "payload file")) };
    if !logged.keys.is_empty() {
        rows.push(("encrypted to", harmless(&logged.keys.join(", "))));
    }
    if logged.is_thinned() {
        rows.push(("thinned", "its captures were removed; what is shown is what it had".to_owned()));
    }
    let before: u64 = record.captures.iter().map(|capture| capture.counts.bytes_new).sum();
    let place = harmless(&store.location().describe());
    let stored = format!("{} ({} before compression)", size(record.bytes_stored()), size(before));
    rows.push(("stored", format!("{stored} in {place}{earlier}")));
    rows.push((
        "read back",
        match logged.verified() {
            Some(at) => format!("when it was made, and in full at {}", time(at)),
            None => "what it wrote, when it was made".to_owned(),
        },
    ));
    if let Some(at) = logged.proven() {
        rows.push(("proven", format!("restored by a drill at {}", time(at))));
    }
    if logged.is_kept() {
        rows.push(("kept", "it is marked to stay".to_owned()));
    }
    rows.push(("record", logged.name.clone()));
    rows
}

fn captures(ui: &mut Ui, record: &Record) {
    let rows = record.captures.iter().map(|capture| {
        let state = match &capture.problem {
            None => styled(GOOD, "✓ captured"),
            Some(_) => styled(BAD, "✗ failed"),
        };
        let text = match &capture.problem {
            None => capture_text(capture),
            Some(problem) => problem.clone(),
        };
        let how = capture.secured.map(|by| format!(" by a {}", by.words())).unwrap_or_default();
        vec![
            harmless(&capture.part),
            format!("{}{}", capture.kind.word(), if capture.required { ", required" } else { "" }),
            state,
            format!("{}{how}", duration(capture.took_ms)),
            harmless(&text),
        ]
    });
    ui.say(table(&["part", "kind", "result", "captured in", "what"], rows.collect()));
    for capture in &record.captures {
        let moment = match capture.when {
            When::Held => None,
            When::Before => Some("before"),
            When::After => Some("after"),
        };
        if let Some(moment) = moment {
            let text = "it is not of the same moment as the others";
            ui.say(harmless(&format!("  {} was captured {moment} the hold: {text}", capture.part)));
        }
        let notes = [("omits", &capture.omits), ("after a restore", &capture.after_restore)];
        for (what, texts) in notes.iter().filter(|(_, texts)| !texts.is_empty()) {
            ui.say(harmless(&format!("  {} {what}: {}", capture.part, texts.join("; "))));
        }
        for left in &capture.left_out {
            let more = if left.count > left.paths.len() as u64 { ", …" } else { "" };
            let text =
                format!("  {} left out: {} {}: {}{more}", capture.part, left.count, left.why, left.paths.join(", "));
            ui.say(harmless(&text));
        }
        if let Some(proof) = &capture.outside {
            let done = proof.done.map_or("not complete".to_owned(), |at| format!("complete at {}", time(at)));
            let proven = proof.proof.as_ref().map(|text| format!("; the check said {text:?}")).unwrap_or_default();
            let text = format!(
                "  {} is kept outside: {}, of {}, {done}{proven}",
                capture.part,
                proof.id,
                time(proof.fixed_at)
            );
            ui.say(harmless(&text));
        }
        let facts: Vec<String> = capture.facts.iter().map(|(name, value)| format!("{name} {value}")).collect();
        if !facts.is_empty() {
            ui.say(harmless(&format!("  {} facts: {}", capture.part, facts.join(", "))));
        }
    }
}

/// Whether a step asked for writes during the hold to something that cannot be looked at from outside: what a command prints,
/// a service hands out, or another system keeps.
fn is_untold(step: &StepReport, record: &Record) -> bool {
    let capture = step.step.about.as_deref().and_then(|part| record.capture(part));
    let is_looked_at = |kind: PartKind| matches!(kind.nature(), Nature::Files | Nature::Database);
    step.step.kind == StepKind::CheckNoWrites && capture.is_some_and(|capture| !is_looked_at(capture.kind))
}

fn show_step(ui: &mut Ui, step: &StepReport, record: &Record, with_output: bool) {
    let mark = match step.ok {
        // Nothing was found out, which is neither good nor bad.
        true if is_untold(step, record) => styled(DIM, "-"),
        true => styled(GOOD, "✓"),
        false => styled(BAD, "✗"),
    };
    let after = step.started.duration_since(record.started).as_millis();
    let after = duration(u64::try_from(after).unwrap_or(0));
    let about = harmless(step.step.about.as_deref().unwrap_or(""));
    let note = harmless(step.note.as_deref().unwrap_or(""));
    let line = format!(
        "  {mark} +{after:<11} {:<21} {about:<18} {:>9}  {note}",
        step.step.kind.words(),
        duration(step.took_ms)
    );
    ui.say(line.trim_end());
    let facts = step.facts.iter().map(|(name, value)| format!("{name} {value}")).collect::<Vec<_>>();
    for (what, texts) in [("facts", &facts), ("omits", &step.omits)].iter().filter(|(_, texts)| !texts.is_empty()) {
        ui.say(harmless(&format!("      {what}: {}", texts.join(", "))));
    }
    if with_output {
        for command in &step.commands {
            show_command(ui, command);
        }
    }
}

pub(super) fn show_command(ui: &mut Ui, command: &CommandReport) {
    let line = format!("$ {}", shell_words(&command.argv));
    let how = format!("{}, {}, as {}, in {}", command.exit, duration(command.took_ms), command.account, command.dir);
    ui.say(format!("      {}  {}", harmless(&line), styled(DIM, harmless(&how))));
    for line in command.script.iter().flat_map(|script| script.lines()) {
        ui.say(format!("      {}", styled(DIM, harmless(line))));
    }
    for piece in &command.output {
        let bar = match piece.stream {
            Stream::Out => "|",
            Stream::Err => "!",
        };
        for line in piece.text.lines() {
            ui.say(format!("      {} {}", styled(DIM, bar), harmless(line)));
        }
    }
}

#[derive(Serialize)]
struct ListedEntry<'a> {
    part: &'a str,
    #[serde(flatten)]
    entry: &'a Entry,
}

fn listing(ui: &mut Ui, store: &Store, logged: &Logged, args: &ShowArgs) -> Result<(), CommandError> {
    let only = &args.parts;
    let paths = selections(&args.paths)?;
    let record = &logged.record;
    if let Some(part) = only.iter().find(|part| record.capture(part).is_none()) {
        let known: Vec<&str> = record.captures.iter().map(|capture| capture.part.as_str()).collect();
        let text = format!("run {} has no part `{part}`", record.run);
        return Err(CommandError::text(Exit::Usage, text).hint(format!("its parts are: {}", known.join(", "))));
    }
    let mut chunks = store.chunks(&logged.holdings())?;
    let wanted = |capture: &&Capture| only.is_empty() || only.contains(&capture.part);
    let mut shown: u64 = 0;
    for capture in record.captures.iter().filter(wanted) {
        let Some(listing) = &capture.listing else { continue };
        let mut is_headed = ui.is_json();
        each_selected(&mut chunks, listing, &paths, |entry, _| {
            let is_meant = is_selected(&paths, &entry.path)
                && (args.kinds.is_empty() || args.kinds.contains(&KindArg::of(entry.kind)))
                && args.min_size.is_none_or(|least| entry.kind == Kind::File && entry.size >= least);
            if !is_meant {
                return Ok(());
            }
            shown += 1;
            if !std::mem::replace(&mut is_headed, true) {
                ui.say(styled(BOLD, harmless(&capture.part)));
            }
            if ui.is_json() {
                let line = serde_json::to_string(&ListedEntry { part: &capture.part, entry: &entry })?;
                ui.say(line);
            } else {
                ui.say(entry_line(&entry));
            }
            Ok::<_, CommandError>(())
        })?;
    }
    if shown == 0 && !args.paths.is_empty() {
        return Err(CommandError::text(Exit::Usage, format!("run {} has none of these paths", record.run)));
    }
    Ok(())
}

fn entry_line(entry: &Entry) -> String {
    let kind = match entry.kind {
        Kind::File => "file",
        Kind::Folder => "folder",
        Kind::Symlink => "link",
        Kind::Fifo => "pipe",
        Kind::Socket => "socket",
        Kind::CharDevice | Kind::BlockDevice => "device",
    };
    let to = match (&entry.target, &entry.same_as) {
        (Some(target), _) => format!(" -> {target}"),
        (None, Some(first)) => format!(" same as {first}"),
        (None, None) => String::new(),
    };
    let at = jiff::Timestamp::new(entry.mtime.0, i32::try_from(entry.mtime.1).unwrap_or(0));
    let at = at.map_or_else(|_| "-".to_owned(), time);
    let path = harmless(&format!("{}{to}", entry.path));
    let size = if entry.kind == Kind::File { size(entry.size) } else { "-".to_owned() };
    format!("  {kind:<6} {:04o} {:>5} {:>5} {size:>10}  {at}  {path}", entry.mode, entry.uid, entry.gid)
}
