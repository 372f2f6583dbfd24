//! `gullet status`.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::mpsc::channel;
use std::time::{Duration, Instant};

use clap::Args;
use gullet_core::due::{has_runs, runs_of};
use gullet_core::notify::{self, Message};
use gullet_core::status::{self, AppStatus, CalendarState, Circumstances, Severity};
use gullet_host::state::{State, write_whole};
use gullet_logbook::logbook::{Logbook, Logged};
use gullet_model::definition::{Flaw, Loaded, Span, StoreSpec};
use gullet_restore::restore::place::Journal;
use gullet_run::hold::{HoldNote, notes_folder};
use gullet_store::Store;
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

use super::due::read_ledger;
use crate::args::{Global, OpeningArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::render::metrics::metrics;
use crate::table::lined_table;
use crate::text::{ago, count, harmless, time};
use crate::ui::{BAD, GOOD, Ui, WARN, styled};

/// Say whether applications are protected
///
/// Exits in the manner of monitoring plug-ins: 0 ok, 1 warning, 2 critical, 3 unknown; the worst of all applications
/// counts. It only looks, and answers within two seconds.
///
/// Example: gullet status
#[derive(Args, Default)]
pub struct StatusArgs {
    /// Only these applications
    #[arg(value_name = "APP")]
    pub(super) apps: Vec<String>,
    /// All machines of this store instead, by the store alone: one that the definition names, or a place (a folder, s3://…)
    #[arg(long, value_name = "NAME|PLACE", conflicts_with_all = ["openmetrics", "out"])]
    pub(super) store: Option<PathBuf>,
    /// With --store: only this machine, by its host name or its id in the store
    #[arg(long, value_name = "NAME", requires = "store")]
    pub(super) machine: Option<String>,
    #[command(flatten)]
    pub(super) opening: OpeningArgs,
    /// Print figures for a metrics collector (OpenMetrics) instead
    #[arg(long)]
    pub(super) openmetrics: bool,
    /// Write them to this file, whole or not at all, for a collector that reads files
    #[arg(long, value_name = "FILE", requires = "openmetrics")]
    pub(super) out: Option<PathBuf>,
}

pub fn status(ui: &mut Ui, global: &Global, args: &StatusArgs) -> Result<Exit, CommandError> {
    if let Some(place) = &args.store {
        return of_store(ui, global, args, place);
    }
    let found = gather(global, &args.apps);
    let (statuses, untold, left_out) = match found {
        Ok(found) => found,
        Err(error) => {
            ui.error(&error);
            return Ok(Exit::Monitoring(Severity::Unknown.code()));
        }
    };
    let of_apps = statuses.iter().map(|status| status.level).max().unwrap_or(Severity::Unknown);
    let of_messages = if untold.is_some() { Severity::Warning } else { Severity::Ok };
    // What a file defines that cannot be read does not run.
    let of_files = if left_out.is_empty() { Severity::Ok } else { Severity::Critical };
    let worst = of_apps.max(of_messages).max(of_files);
    if args.openmetrics {
        let waiting = untold.as_ref().map_or(0, |untold| untold.messages);
        let text = metrics(&statuses, waiting, Timestamp::now())
            .map_err(|error| CommandError::text(Exit::Monitoring(3), error.to_string()))?;
        match &args.out {
            Some(path) => write_metrics(path, &text)?,
            None => ui.write(text.as_bytes()),
        }
    } else if ui.is_json() {
        ui.json(&serde_json::json!({
            "level": worst,
            "applications": statuses,
            "messages": untold,
            "left_out": left_out,
        }))?;
    } else {
        show(ui, &statuses, None);
        for flaw in &left_out {
            ui.say(format!("{} {}", styled(BAD, "✗ left out:"), harmless(flaw)));
        }
        if let Some(untold) = &untold {
            let number = count(untold.messages as u64, "message");
            let text = format!("{number} could not be sent since {}: {}", time(untold.since), untold.problem);
            ui.say(format!("{} {}", styled(WARN, "!"), harmless(&text)));
            ui.hint("gullet notify");
        }
    }
    Ok(Exit::Monitoring(worst.code()))
}

/// Writes a file that others may read: whoever collects figures is another account.
fn write_metrics(path: &Path, text: &str) -> Result<(), CommandError> {
    let fail = |error: &dyn std::error::Error| CommandError::new(Exit::Monitoring(3), error);
    let new = path.with_extension(format!("{}.readable", std::process::id()));
    write_whole(&new, text.as_bytes()).map_err(|error| fail(&error))?;
    std::fs::set_permissions(&new, std::os::unix::fs::PermissionsExt::from_mode(0o644))?;
    std::fs::rename(&new, path)?;
    Ok(())
}

/// The answer comes within this time, whatever waits: monitoring asks for it.
const ANSWERS_WITHIN: Duration = Duration::from_millis(1700);
/// So many of the newest runs of an application are looked at.
pub(super) const RUNS_LOOKED_AT: usize = 40;

/// Messages that could not be sent for longer than they should wait.
#[derive(Clone, Debug, Serialize)]
struct Untold {
    messages: usize,
    /// Since when the oldest one waits.
    since: Timestamp,
    /// Why that could not be sent.
    problem: String,
}

/// For so long a message may wait, where the definition does not say.
const TOLD_WITHIN: SignedDuration = SignedDuration::from_hours(1);

fn untold(loaded: &Loaded, now: Timestamp) -> Option<Untold> {
    let state = open::state(loaded).ok()?;
    let said = loaded.definition.status.as_ref().and_then(|status| status.told_within);
    let within = said.and_then(|span| SignedDuration::try_from(span.0).ok()).unwrap_or(TOLD_WITHIN);
    let is_late = |message: &Message| message.problem.is_some() && now.duration_since(message.queued) > within;
    let late: Vec<Message> = notify::waiting(&state).into_iter().filter(is_late).collect();
    let first = late.first()?;
    let problem = format!("`{}`: {}", first.to, first.problem.clone().unwrap_or_default());
    Some(Untold { messages: late.len(), since: first.queued, problem })
}

/// How the applications stand, what could not be told, and which files were left out.
type Found = (Vec<AppStatus>, Option<Untold>, Vec<String>);

fn gather(global: &Global, only: &[String]) -> Result<Found, CommandError> {
    let loaded = open::sound(global)?;
    let left_out = &loaded.left_out;
    let broken = of_left_out(left_out.iter().filter(|flaw| flaw.app.is_some()));
    let of_files = left_out.iter().filter(|flaw| flaw.app.is_none()).map(ToString::to_string).collect();
    let is_broken = |app: &String| broken.iter().any(|status| status.app == *app);
    let is_known = |app: &&String| loaded.definition.app.contains_key(*app) || is_broken(app);
    if let Some(app) = only.iter().find(|app| !is_known(app)) {
        return Err(CommandError::text(Exit::Usage, format!("the definition has no application `{app}`")));
    }
    let wanted = |app: &&String| only.is_empty() || only.contains(app);
    let apps: Vec<String> = loaded.definition.app.keys().filter(wanted).cloned().collect();
    let (out, answers) = channel();
    let (tell, messages) = channel();
    let asked = apps.clone();
    // On a thread of its own, which is left behind where a disk or a network does not answer.
    std::thread::spawn(move || {
        let state = open::state(&loaded);
        let _ = tell.send(untold(&loaded, Timestamp::now()));
        for app in asked {
            let answer = of_app(&loaded, state.as_ref(), &app).map_err(|error| error.messages.join(": "));
            if out.send((app, answer)).is_err() {
                return;
            }
        }
    });
    let until = Instant::now() + ANSWERS_WITHIN;
    let mut found = BTreeMap::new();
    while found.len() < apps.len() {
        match answers.recv_timeout(until.saturating_duration_since(Instant::now())) {
            Ok((app, answer)) => found.insert(app, answer),
            Err(_) => break,
        };
    }
    let late = || Err("the state folder or the store did not answer in time".to_owned());
    let statuses = apps.into_iter().map(|app| {
        let answer = found.remove(&app).unwrap_or_else(late);
        answer.unwrap_or_else(|why| AppStatus::unknown(app, why))
    });
    let does_not_run = broken.iter().filter(|status| wanted(&&status.app)).cloned();
    let mut statuses: Vec<AppStatus> = statuses.chain(does_not_run).collect();
    statuses.sort_by(|a, b| a.app.cmp(&b.app));
    Ok((statuses, messages.try_recv().ok().flatten(), of_files))
}

/// How what was left out of a definition stands: it does not run. Each application once, and each file that cannot be read.
pub(super) fn of_left_out<'f>(left_out: impl IntoIterator<Item = &'f Flaw>) -> Vec<AppStatus> {
    let mut found: BTreeMap<String, String> = BTreeMap::new();
    for flaw in left_out {
        let name = flaw.app.clone().unwrap_or_else(|| flaw.file.display().to_string());
        found.entry(name).or_insert_with(|| format!("it does not run, for its definition has an error: {flaw}"));
    }
    let critical = |(app, why)| AppStatus { level: Severity::Critical, ..AppStatus::unknown(app, why) };
    found.into_iter().map(critical).collect()
}

/// Looks at what is known of one application; nothing is changed, and no hold is released.
pub(super) fn of_app(
    loaded: &Loaded,
    state: Result<&State, &CommandError>,
    app: &str,
) -> Result<AppStatus, CommandError> {
    let state = state.map_err(|error| CommandError::text(error.exit, error.messages.join(": ")))?;
    let Some((_, spec)) = loaded.definition.store_of(app) else {
        return Err(CommandError::text(Exit::Definition, "it has no store"));
    };
    let store = open::store_of(spec, state)?;
    let book = Logbook::read_newest(&store, app, state, RUNS_LOOKED_AT)?.with_waiting(state, Some(app));
    let span = |span: Option<Span>| span.and_then(|span| SignedDuration::try_from(span.0).ok());
    let limits = loaded.definition.status.clone().unwrap_or_default();
    let payload_gone = book.last_good(app).map(|good| status::payload_gone(&store, good)).transpose()?;
    let unlocked = book.last_good(app).map(|good| unlocked(loaded, state, app, &store, good)).unwrap_or_default();
    let about = Circumstances {
        unlocked,
        now: Timestamp::now(),
        expected_every: span(loaded.definition.app.get(app).and_then(|app| app.expected_every)),
        verified_within: span(limits.verified_within),
        drilled_within: span(limits.drilled_within),
        due_within: span(limits.due_within),
        copied_within: span(limits.copied_within),
        copies: loaded.definition.store_of(app).map(|(_, spec)| spec.copies.clone()).unwrap_or_default(),
        payload_gone: payload_gone.unwrap_or_default(),
        calendar: calendar(loaded, state, app)?,
        is_whole_book: book.own_runs(app).count() < RUNS_LOOKED_AT,
    };
    let hold = HoldNote::status(&notes_folder(state.folder()), app);
    let restore = Journal::load(state.folder(), app);
    let answer = status::status(app, &book, &hold, &about);
    Ok(match restore {
        Ok(restore) => answer.with_restore(restore.as_ref()),
        Err(error) => {
            answer.with(Severity::Critical, format!("the journal of a restore in place cannot be read: {error}"))
        }
    })
}

/// The places of an application that lock, and where not everything of a run is known to be locked for as long as it should be.
fn unlocked(loaded: &Loaded, state: &State, app: &str, store: &Store, good: &Logged) -> Vec<String> {
    let Some((name, spec)) = loaded.definition.store_of(app) else { return Vec::new() };
    let places = [(name, spec)].into_iter().chain(loaded.definition.copies_of(spec));
    let is_unlocked = |(_, spec): &(&String, &StoreSpec)| {
        let Some((address, locked_for)) = open::locking(spec) else { return false };
        let until = SignedDuration::try_from(locked_for).ok().and_then(|time| good.record.ended.checked_add(time).ok());
        let known = state.locked_objects(&store.info().id, &address);
        !until.is_some_and(|until| known.is_locked_until(&good.name, until))
    };
    places.filter(is_unlocked).map(|(name, _)| name.clone()).collect()
}

/// How an application stands by the calendar; nothing is said of it where no application has a schedule.
fn calendar(loaded: &Loaded, state: &State, app: &str) -> Result<Option<CalendarState>, CommandError> {
    let definition = &loaded.definition;
    if !has_runs(definition) {
        return Ok(None);
    }
    let Some(spec) = definition.app.get(app) else { return Ok(None) };
    let own = runs_of(definition, app);
    if own.is_empty() {
        return Ok(spec.no_schedule.is_none().then_some(CalendarState::Unscheduled));
    }
    // Runs of some parts do not stand for the application. What was due before the ledger began is nobody's fault.
    let ledger = read_ledger(state)?;
    let whole = own.iter().filter(|one| one.rule.spec().parts.is_empty());
    let due = whole.filter_map(|one| {
        let since = ledger.since(one)?;
        one.rule.last_over(Timestamp::now()).filter(|at| *at > since)
    });
    Ok(Some(CalendarState::Scheduled { called: ledger.called, due: due.max() }))
}

/// How all machines of a store stand.
fn of_store(ui: &mut Ui, global: &Global, args: &StatusArgs, place: &Path) -> Result<Exit, CommandError> {
    let identities = open::identities(&args.opening)?;
    let found = open::named_or_placed(global, place).and_then(|store| {
        let store = store.with_identities(identities);
        Ok(status::of_store(&store, args.machine.as_deref(), Timestamp::now())?)
    });
    let mut found = match found {
        Ok(found) => found,
        Err(error) => {
            ui.error(&error);
            return Ok(Exit::Monitoring(Severity::Unknown.code()));
        }
    };
    found.retain(|one| args.apps.is_empty() || args.apps.contains(&one.status.app));
    let worst = found.iter().map(|one| one.status.level).max().unwrap_or(Severity::Unknown);
    if ui.is_json() {
        ui.json(&serde_json::json!({ "level": worst, "applications": found }))?;
        return Ok(Exit::Monitoring(worst.code()));
    }
    if found.is_empty() {
        ui.say("the store has no run of any machine that is meant");
        return Ok(Exit::Monitoring(worst.code()));
    }
    let (machines, statuses): (Vec<String>, Vec<AppStatus>) =
        found.into_iter().map(|one| (if one.host.is_empty() { one.machine } else { one.host }, one.status)).unzip();
    show(ui, &statuses, Some(&machines));
    ui.tell("By the store alone: whether something is held, and what a definition asks for since its last run, its machine knows.");
    Ok(Exit::Monitoring(worst.code()))
}

/// A line for each application, with its machine where several are shown.
fn show(ui: &mut Ui, statuses: &[AppStatus], machines: Option<&[String]>) {
    let now = Timestamp::now();
    let rows = statuses.iter().map(|status| {
        let (style, mark) = match status.level {
            Severity::Ok => (GOOD, "✓"),
            Severity::Warning => (WARN, "!"),
            Severity::Critical => (BAD, "✗"),
            Severity::Unknown => (BAD, "?"),
        };
        let run = |mark: &Option<status::RunMark>| {
            mark.as_ref().map_or_else(|| "none".to_owned(), |mark| format!("{} {}", mark.run, ago(mark.started, now)))
        };
        vec![
            status.app.clone(),
            styled(style, format!("{mark} {}", status.level.word())),
            run(&status.last_good),
            run(&status.last),
            status.verified.map_or_else(|| "never".to_owned(), |at| ago(at, now)),
            status.proven.map_or_else(|| "never".to_owned(), |at| ago(at, now)),
        ]
    });
    let mut columns = vec!["application", "protected", "last complete", "last run", "last verified", "last drilled"];
    let mut rows: Vec<Vec<String>> = rows.collect();
    if let Some(machines) = machines {
        columns.insert(1, "machine");
        rows.iter_mut().zip(machines).for_each(|(row, machine)| row.insert(1, harmless(machine)));
    }
    let lines = statuses.iter().map(|status| {
        let outside = status.outside.iter().map(|(part, id)| format!("outside, with another system: {part}: {id}"));
        // Of many machines only what there is to do is said.
        let is_short = machines.is_some() && status.level == Severity::Ok;
        let reasons = status.reasons.iter().filter(|_| !is_short).cloned().chain(outside);
        reasons.map(|text| harmless(&text)).collect::<Vec<_>>()
    });
    ui.say(lined_table(&columns, rows, &lines.collect::<Vec<_>>()));
}
