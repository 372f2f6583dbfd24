//! Messages: subject, text, page and line of what people are told.

use std::sync::LazyLock;

use gullet_core::notify::{Content, DefinitionFlaws, Message, Report, ReportedApp, ReportedRun};
use gullet_core::status::Severity;
use gullet_host::syslog::Gravity;
use gullet_model::Outcome;
use gullet_model::notice::Notice;
use jiff::Timestamp;
use minijinja::{AutoEscape, Environment};
use serde::Serialize;

use crate::text::{ago, count, duration, harmless, held_for, size, time};
use crate::ui::mark_of;

/// What is said of a message that an earlier try may have sent.
const DOUBT: &str = "This message may have come before: Gullet was cut off while it sent it.";

/// A message, ready to be laid out.
#[derive(Serialize)]
struct MessageLayout {
    subject: String,
    /// What is said first: a word, how grave it is, and the rest of the line.
    heading: String,
    tone: &'static str,
    doubt: Option<&'static str>,
    /// Lines of a name and a value.
    facts: Vec<(String, String)>,
    sections: Vec<Section>,
    /// Commands that show more.
    commands: Vec<String>,
    /// What is said last, in small letters.
    foot: Vec<String>,
}

/// Something with a heading of its own.
#[derive(Default, Serialize)]
struct Section {
    title: String,
    tone: &'static str,
    lines: Vec<String>,
    facts: Vec<(String, String)>,
}

/// The subject of a message.
pub fn subject(message: &Message) -> String {
    layout(message).subject
}

/// A message as plain text.
pub fn text(message: &Message) -> String {
    let layout = layout(message);
    let mut out = vec![layout.heading];
    out.extend(layout.doubt.map(str::to_owned));
    let facts = |facts: &[(String, String)], indent: &str| {
        let width = facts.iter().map(|(name, _)| name.chars().count()).max().unwrap_or(0);
        facts.iter().map(|(name, value)| format!("{indent}{name:width$}  {value}")).collect::<Vec<_>>()
    };
    if !layout.facts.is_empty() {
        out.push(String::new());
        out.extend(facts(&layout.facts, ""));
    }
    for section in &layout.sections {
        out.extend([String::new(), section.title.clone()]);
        out.extend(section.lines.iter().map(|line| format!("  - {line}")));
        out.extend(facts(&section.facts, "  "));
    }
    if !layout.commands.is_empty() {
        out.extend([String::new(), "To see more:".to_owned()]);
        out.extend(layout.commands.iter().map(|command| format!("  {command}")));
    }
    if !layout.foot.is_empty() {
        out.push(String::new());
        out.extend(layout.foot);
    }
    out.join("\n") + "\n"
}

/// A message as a page, whole in itself.
pub fn page(message: &Message) -> String {
    static TEMPLATES: LazyLock<Environment<'static>> = LazyLock::new(|| {
        let mut environment = Environment::new();
        environment.set_auto_escape_callback(|_| AutoEscape::Html);
        // A test lays out every kind of message; a template that cannot be read leaves the text alone.
        let _ = environment.add_template("message.html", include_str!("../../templates/message.html"));
        environment
    });
    let rendered = TEMPLATES
        .get_template("message.html")
        .and_then(|template| template.render(minijinja::value::Serde(layout(message))));
    rendered.unwrap_or_default()
}

/// A message on one line, and how grave it is, for the system log.
pub fn line(message: &Message) -> (Gravity, String) {
    let gravity = match &message.content {
        Content::Run(notice) if notice.outcome == Outcome::Complete => Gravity::Info,
        Content::Run(notice) if notice.outcome == Outcome::Warnings => Gravity::Warning,
        Content::Report(report) if report.level() == Severity::Ok => Gravity::Info,
        Content::Report(report) if report.level() == Severity::Warning => Gravity::Warning,
        Content::Test { .. } => Gravity::Info,
        _ => Gravity::Error,
    };
    (gravity, subject(message))
}

fn layout(message: &Message) -> MessageLayout {
    let mut layout = match &message.content {
        Content::Run(notice) => of_run(notice),
        Content::Definition(flaws) => of_definition(flaws),
        Content::Report(report) => of_report(report),
        Content::Missed { subject, due, why, host } => {
            let heading = format!("{subject}, due {}, did not happen", time(*due));
            plain(format!("{host}: {heading}"), "bad", heading, vec![("why".to_owned(), harmless(why))])
        }
        Content::Failed { subject, why, host } => {
            let heading = format!("✗ {subject} could not be done");
            let facts = vec![("machine".to_owned(), harmless(host)), ("why".to_owned(), harmless(why))];
            plain(format!("{subject} could not be done on {host}"), "bad", heading, facts)
        }
        Content::DrillFailed { app, run, why, host } => {
            let of_run = run.as_ref().map(|run| format!(" of run {run}")).unwrap_or_default();
            let heading = format!("✗ {app}: the drill{of_run} failed");
            let facts = vec![("machine".to_owned(), harmless(host)), ("why".to_owned(), harmless(why))];
            let mut layout = plain(format!("{app}: the drill failed on {host}"), "bad", heading, facts);
            layout.commands = vec![format!("gullet drill {app}"), format!("gullet status {app}")];
            layout
        }
        Content::Damaged { store, damage, host } => {
            let heading = format!("✗ {store}: something in the store is damaged");
            let mut layout = plain(
                format!("{store} on {host}: something in the store is damaged"),
                "bad",
                heading,
                vec![("machine".to_owned(), harmless(host))],
            );
            let lines = damage.iter().map(|text| harmless(text)).collect();
            layout.sections = vec![Section { title: "Damage".to_owned(), tone: "bad", lines, facts: Vec::new() }];
            layout.commands = vec!["gullet verify".to_owned(), "gullet status".to_owned()];
            layout
        }
        Content::Test { host } => {
            let heading = format!("{host} can send messages to `{}`", message.to);
            let facts = vec![("sent by".to_owned(), "gullet notify --test".to_owned())];
            plain(format!("{host}: a test of messages"), "good", heading, facts)
        }
    };
    layout.doubt = message.may_be_sent.then_some(DOUBT);
    layout
}

fn plain(subject: String, tone: &'static str, heading: String, facts: Vec<(String, String)>) -> MessageLayout {
    let (sections, commands, foot) = (Vec::new(), Vec::new(), Vec::new());
    MessageLayout {
        subject: harmless(&subject),
        heading: harmless(&heading),
        tone,
        doubt: None,
        facts,
        sections,
        commands,
        foot,
    }
}

fn tone_of(outcome: Outcome) -> &'static str {
    match outcome {
        Outcome::Complete => "good",
        Outcome::Warnings => "warn",
        _ => "bad",
    }
}

fn of_run(notice: &Notice) -> MessageLayout {
    let outcome = notice.outcome;
    let called =
        notice.title.as_deref().map_or_else(|| notice.app.clone(), |title| format!("{title} ({})", notice.app));
    let first = notice.causes.first().or(notice.warnings.first()).map(|cause| format!(": {}", cause.text));
    let subject = format!("{} {outcome} on {}{}", notice.app, notice.host, first.unwrap_or_default());
    let heading = format!("{} {called}: {outcome}", mark_of(outcome));
    let mut facts = vec![
        ("machine".to_owned(), notice.host.clone()),
        ("run".to_owned(), notice.run.clone()),
        ("began".to_owned(), time(notice.started)),
        ("started by".to_owned(), notice.trigger.clone()),
    ];
    facts.extend(notice.reason.clone().map(|reason| ("reason".to_owned(), reason)));
    let took = u64::try_from(notice.ended.duration_since(notice.started).as_millis()).unwrap_or(0);
    facts.push(("took".to_owned(), duration(took)));
    facts.extend(notice.held_ms.map(|held| ("held".to_owned(), held_for(held, outcome))));
    if notice.parts > 0 {
        let parts = format!("{} of {}", notice.parts_captured, count(notice.parts as u64, "part"));
        let bytes = format!("{}, {} of it new and stored", size(notice.bytes), size(notice.bytes_stored));
        facts
            .push(("captured".to_owned(), if notice.parts_captured > 0 { format!("{parts}; {bytes}") } else { parts }));
    }
    let section = |title: &str, tone, problems: &[gullet_model::record::Problem]| {
        let lines = problems.iter().flat_map(|problem| {
            let about = problem.about.as_ref().map(|about| format!("{about}: ")).unwrap_or_default();
            let advice = problem.advice.as_ref().map(|advice| format!("what to do: {advice}"));
            [Some(format!("{about}{}", problem.text)), advice].into_iter().flatten()
        });
        let lines: Vec<String> = lines.map(|line| harmless(&line)).collect();
        (!lines.is_empty()).then(|| Section { title: title.to_owned(), tone, lines, facts: Vec::new() })
    };
    let sections = [section("Why", "bad", &notice.causes), section("Warnings", "warn", &notice.warnings)];
    let mut layout = plain(subject, tone_of(outcome), heading, facts);
    layout.sections = sections.into_iter().flatten().collect();
    layout.commands =
        vec![format!("gullet show {} --hook-output", notice.run), format!("gullet status {}", notice.app)];
    if outcome == Outcome::NotReleased {
        layout.commands.insert(0, format!("gullet release {}", notice.app));
    }
    layout.foot.extend(notice.record.iter().map(|record| format!("record: {record}")));
    layout
}

fn of_definition(flaws: &DefinitionFlaws) -> MessageLayout {
    let who = match (&flaws.app, flaws.is_all) {
        (Some(app), _) => format!("{app} does not run"),
        (None, true) => "nothing runs".to_owned(),
        (None, false) => "what a file defines does not run".to_owned(),
    };
    let heading = format!("✗ {who}: the definition has {}", count(flaws.flaws.len() as u64, "error"));
    let facts = vec![("machine".to_owned(), flaws.host.clone()), ("file".to_owned(), flaws.path.clone())];
    let mut layout = plain(format!("{who} on {}: the definition has an error", flaws.host), "bad", heading, facts);
    let lines = flaws.flaws.iter().map(|flaw| harmless(flaw)).collect();
    layout.sections = vec![Section { title: "Errors".to_owned(), tone: "bad", lines, facts: Vec::new() }];
    layout.commands = vec![format!("gullet --definition {} preflight", flaws.path)];
    layout
}

fn of_report(report: &Report) -> MessageLayout {
    let level = report.level();
    let bad = report.apps.iter().filter(|app| app.level > Severity::Ok).count();
    let (tone, heading) = match level {
        Severity::Ok => ("good", format!("✓ {} protected on {}", all_of(report.apps.len()), report.host)),
        level => {
            let tone = if level == Severity::Warning { "warn" } else { "bad" };
            let total = count(report.apps.len() as u64, "application");
            let need = if bad == 1 { "needs" } else { "need" };
            (tone, format!("{} {bad} of {total} on {} {need} attention", mark(level), report.host))
        }
    };
    let runs = report.apps.iter().flat_map(|app| &app.runs);
    let by_outcome = Outcome::ALL.iter().rev().filter_map(|outcome| {
        let number = runs.clone().filter(|run| run.outcome == *outcome).count();
        (number > 0).then(|| format!("{number} {outcome}"))
    });
    let by_outcome: Vec<String> = by_outcome.collect();
    let subject = format!("{}: {}", report.host, heading.split_once(' ').map_or("", |(_, rest)| rest));
    let runs = if by_outcome.is_empty() { "none".to_owned() } else { by_outcome.join(", ") };
    let facts = vec![
        ("from".to_owned(), time(report.since)),
        ("until".to_owned(), time(report.until)),
        ("runs".to_owned(), runs),
    ];
    let mut layout = plain(subject, tone, heading, facts);
    layout.sections = report.apps.iter().map(|app| of_app(app, report.until)).collect();
    if report.waiting > 0 {
        let text = format!("{} could not be sent yet: gullet notify", count(report.waiting as u64, "message"));
        layout.sections.insert(0, Section { title: text, tone: "warn", ..Section::default() });
    }
    layout.commands = vec!["gullet status".to_owned(), "gullet runs".to_owned(), "gullet agenda".to_owned()];
    let records = report.apps.iter().filter_map(|app| app.record.as_ref());
    layout.foot.extend(records.map(|record| format!("newest record: {record}")));
    layout
}

fn all_of(number: usize) -> String {
    if number == 1 { "the one application is".to_owned() } else { format!("all {number} applications are") }
}

fn mark(level: Severity) -> &'static str {
    match level {
        Severity::Ok => "✓",
        Severity::Warning => "!",
        Severity::Critical => "✗",
        Severity::Unknown => "?",
    }
}

/// So many runs of an application are told one by one; those that ended alike, for the same reason, are one.
const RUNS_TOLD: usize = 6;

fn of_app(app: &ReportedApp, now: Timestamp) -> Section {
    let called = app.title.as_deref().map_or_else(|| app.app.clone(), |title| format!("{title} ({})", app.app));
    let when =
        |at: Option<Timestamp>| at.map_or_else(|| "never".to_owned(), |at| format!("{} ({})", time(at), ago(at, now)));
    let mut facts = vec![
        ("last complete".to_owned(), when(app.last_good)),
        ("last verified".to_owned(), when(app.verified)),
        ("last drilled".to_owned(), when(app.drilled)),
    ];
    facts.extend(app.next.map(|at| ("next run".to_owned(), time(at))));
    let alike = |a: &ReportedRun, b: &ReportedRun| a.outcome == b.outcome && a.cause == b.cause && a.cause.is_some();
    let groups: Vec<&[ReportedRun]> = app.runs.chunk_by(alike).collect();
    facts.extend(groups.iter().take(RUNS_TOLD).map(|runs| {
        let more =
            if runs.len() > 1 { format!("; so {} in all", count(runs.len() as u64, "run")) } else { String::new() };
        (format!("run {}", runs[0].run), format!("{}{more}", of_one(&runs[0])))
    }));
    let rest: usize = groups.iter().skip(RUNS_TOLD).map(|runs| runs.len()).sum();
    if rest > 0 {
        facts.push(("and".to_owned(), format!("{} more: gullet runs {}", count(rest as u64, "run"), app.app)));
    }
    let tone = match app.level {
        Severity::Ok => "good",
        Severity::Warning => "warn",
        Severity::Critical | Severity::Unknown => "bad",
    };
    Section {
        title: harmless(&format!("{} {called}: {}", mark(app.level), app.level.word())),
        tone,
        lines: app.reasons.iter().map(|reason| harmless(reason)).collect(),
        facts,
    }
}

fn of_one(run: &ReportedRun) -> String {
    let mut words = vec![format!("{} {}", mark_of(run.outcome), run.outcome), time(run.started)];
    if run.bytes > 0 {
        words.push(format!("{}, {} stored", size(run.bytes), size(run.bytes_stored)));
    }
    words.extend(run.held_ms.map(|held| format!("held {}", held_for(held, run.outcome))));
    words.extend(run.cause.as_deref().map(harmless));
    words.join("; ")
}
