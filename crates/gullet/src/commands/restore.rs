//! `gullet restore`.

mod place;

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;
use std::path::PathBuf;

use clap::Args;
use gullet_host::world::World;
use gullet_logbook::logbook::{Logged, RunLine};
use gullet_model::record::RemarkKind;
use gullet_restore::restore::{OwnerMap, RestorePlan, RestoreReport, Selection, say_damage};
use gullet_store::Store;

use crate::args::{Global, ReadingArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::outside::RealWorld;
use crate::reading::{Reading, must_open};
use crate::table::table;
use crate::text::{ago, count, harmless, size, time};
use crate::ui::{BAD, BOLD, DIM, GOOD, Ui, WARN, outcome, styled};

/// Restore a run
///
/// With --into: into an empty folder. Files are put under `files/` with the paths that they had, exports under
/// `exports/PART/`. Every byte is proven while it is written; nothing is ever overwritten.
///
/// With --in-place: in the place of what is there now. The plan is shown and agreed to (--yes); the new state is written
/// beside the old one; the application is stopped, the two change hands, it is started and checked. Where that fails the old
/// state comes back by itself. It is kept until --discard-old.
///
/// Without either the runs that can be restored are listed.
///
/// Example: gullet restore quaybook@latest --into /srv/look
#[derive(Args, Default)]
pub struct RestoreArgs {
    /// The run: an id, the beginning of one, `APP` or `APP@latest`, `APP@2026-11-03`; the application for --continue, --undo and
    /// --discard-old
    pub(super) run: String,
    /// Into this folder, empty or not there yet
    #[arg(long, value_name = "FOLDER", group = "goal")]
    pub(super) into: Option<PathBuf>,
    /// In the place of what is there now
    #[arg(long, conflicts_with_all = ["into", "form"])]
    pub(super) in_place: bool,
    /// To standard output: `tar` with everything that the capture knows, or `file` for the one file of --path
    #[arg(long = "as", value_name = "FORM", group = "goal")]
    pub(super) form: Option<Form>,
    /// Go on with a restore in place that was cut off or failed
    #[arg(long = "continue", group = "goal")]
    pub(super) go_on: bool,
    /// Take a restore in place back
    #[arg(long, group = "goal")]
    pub(super) undo: bool,
    /// Remove what a restore in place has set aside
    #[arg(long, group = "goal")]
    pub(super) discard_old: bool,
    /// Only this part (can be repeated)
    #[arg(long = "part", value_name = "PART")]
    pub(super) parts: Vec<String>,
    /// Only this path, and all that is below it (can be repeated): a source's path, a name within an export, or a pattern
    #[arg(long = "path", value_name = "PATH")]
    pub(super) paths: Vec<OsString>,
    #[command(flatten)]
    pub(super) place: PlaceArgs,
    #[command(flatten)]
    pub(super) reading: ReadingArgs,
}

/// What a restore in place is asked besides.
#[derive(Args, Clone, Debug, Default)]
#[command(next_help_heading = "Restoring in place")]
pub struct PlaceArgs {
    /// Do it
    #[arg(long)]
    yes: bool,
    /// Only show the plan
    #[arg(long, conflicts_with = "yes")]
    pub(super) plan: bool,
    /// Agree to a difference by its name, as the plan says it (can be repeated)
    #[arg(long, value_name = "NAME")]
    accept: Vec<String>,
    /// Paths that come elsewhere: the old beginning and the new one (can be repeated)
    #[arg(long, value_name = "/OLD=/NEW", value_parser = map)]
    map: Vec<(PathBuf, PathBuf)>,
    /// Owners by their names: what a user or group owned belongs to the one of that name here, whatever its number
    #[arg(long)]
    pub(super) owners_by_name: bool,
    /// An owner that is another one here: users by number or name, groups with `group:` in front (can be repeated)
    #[arg(long, value_name = "OLD=NEW")]
    pub(super) map_owner: Vec<String>,
    /// Set aside what the capture leaves out, too, instead of going on with it
    #[arg(long)]
    set_aside_extra: bool,
    /// Take a run that is not complete
    #[arg(long)]
    allow_incomplete: bool,
    /// Nobody is at the terminal: fail clearly instead of asking for something to be done by hand
    #[arg(long)]
    unattended: bool,
}

/// What goes to standard output.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Form {
    /// A tar
    Tar,
    /// One file
    File,
}

fn map(text: &str) -> Result<(PathBuf, PathBuf), String> {
    match text.split_once('=') {
        Some((old, new)) if old.starts_with('/') && new.starts_with('/') => Ok((old.into(), new.into())),
        _ => Err("write it as /OLD=/NEW, both absolute".to_owned()),
    }
}

pub(super) fn selections(paths: &[OsString]) -> Result<Vec<Selection>, CommandError> {
    let made: Result<Vec<Selection>, _> = paths.iter().map(|path| Selection::new(path.as_bytes())).collect();
    made.map_err(|error| CommandError::text(Exit::Usage, error.to_string()))
}

pub fn restore(ui: &mut Ui, global: &Global, args: &RestoreArgs) -> Result<Exit, CommandError> {
    if args.in_place || args.go_on || args.undo || args.discard_old {
        return place::place(ui, global, args);
    }
    let reading = Reading::open(global, &args.reading, None, ui)?;
    if let Some(form) = args.form {
        return to_output(ui, &reading, args, form);
    }
    let Some(into) = &args.into else { return list(ui, &reading, &args.run) };
    let (store, logged) = &reading.run_of(ui, &args.run)?;
    let into = std::path::absolute(into)?;
    must_open(store, logged)?;
    let is_own = reading.is_own(logged);
    let paths = selections(&args.paths)?;
    let mut plan = RestorePlan::into_folder(logged, &into, &args.parts, &paths)?;
    plan.owners = owners(args, logged)?;
    let shown = plan.clone();
    if args.place.plan {
        if ui.is_json() {
            ui.json(&serde_json::json!({ "plan": shown }))?;
        } else {
            show_plan(ui, &shown);
        }
        return Ok(Exit::Complete);
    }
    if !ui.is_json() && !ui.is_quiet() {
        let from = format!("{} from run {} ({})", shown.app, shown.run, outcome(shown.outcome));
        ui.say(format!("{}: {from} into {}", styled(BOLD, "restore"), shown.into.display()));
    }
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    let report = plan.apply(store, logged, outside.world().stop, &mut |part, files, bytes| {
        ui.progress(&format!("restore {part}  {}  {}", count(files, "file"), size(bytes)));
    })?;
    let found: u64 = report.parts.iter().map(|part| part.files + part.others + part.problem_count).sum();
    if found == 0 && !args.paths.is_empty() {
        return Err(no_such_path(&shown.run));
    }
    let text = format!("restored into {} on {} ({})", into.display(), outside.world().host.name, report.outcome);
    tell_logbook(ui, (&reading, store, logged), &report, text, outside.world());
    if ui.is_json() {
        ui.json(&serde_json::json!({ "plan": shown, "report": report }))?;
    } else {
        show(ui, &shown, &report);
        if is_own && report.outcome == gullet_model::Outcome::Complete && !ui.is_quiet() {
            let command = format!("gullet restore {} --in-place --plan", shown.run);
            ui.say(styled(DIM, format!("in the place of what is there now: {command}")));
        }
    }
    if !is_own {
        warn_of_powers(ui, &report);
    }
    Ok(report.outcome.into())
}

/// Has the logbook remember that a run was restored. A stranger's store is only read.
fn tell_logbook(
    ui: &mut Ui,
    (reading, store, logged): (&Reading, &Store, &Logged),
    report: &RestoreReport,
    text: String,
    world: World<'_>,
) {
    let Some(state) = reading.loaded.as_ref().and_then(|loaded| crate::open::state(loaded).ok()) else { return };
    let said = logged.say(RemarkKind::Restored, gullet_model::Outcome::Complete, text, store, Some(&state), world);
    let damage = say_damage(&report.parts, "a restore", logged, (store, &state), world);
    if let Err(error) = said.and(damage) {
        ui.warning(&format!("the logbook could not be told: {error}"));
    }
}

/// Warns of files of another machine that give powers here.
fn warn_of_powers(ui: &mut Ui, report: &RestoreReport) {
    let powerful =
        report.parts.iter().filter_map(|part| part.powerful.as_ref().map(|(count, first)| (part, count, first)));
    for (part, number, first) in powerful {
        ui.warning(&format!(
            "{}: {} of another machine with set-uid or set-gid bits, or that are devices: look at them before others can: {first}",
            part.part,
            count(*number, "path"),
        ));
    }
}

/// Who owns here what somebody else owned there.
pub(super) fn owners(args: &RestoreArgs, logged: &Logged) -> Result<OwnerMap, CommandError> {
    let made = OwnerMap::new(&args.place.map_owner, args.place.owners_by_name, &logged.record.captures);
    made.map_err(|error| CommandError::new(Exit::Usage, &error))
}

fn no_such_path(run: &str) -> CommandError {
    let error = CommandError::text(Exit::Usage, format!("run {run} has none of these paths"));
    error.hint(format!("`gullet show {run} --listing` shows what it has"))
}

/// What can be restored of an application, or where a restore may go.
fn list(ui: &mut Ui, reading: &Reading, text: &str) -> Result<Exit, CommandError> {
    let app = match reading.run_of(ui, text) {
        Ok((_, logged)) => logged.record.app,
        Err(error) if !reading.runs().iter().any(|run| run.app == text) => return Err(error),
        Err(_) => text.to_owned(),
    };
    let now = jiff::Timestamp::now();
    let can_be = |run: &&RunLine| run.app == app && !run.thinned && run.parts > 0;
    let runs: Vec<&RunLine> = reading.own_runs().into_iter().filter(can_be).collect();
    let others = reading.runs().into_iter().filter(can_be).count() - runs.len();
    if ui.is_json() {
        let rows: Vec<_> = runs
            .iter()
            .map(|run| {
                serde_json::json!({ "run": run.run, "machine": run.machine, "started": run.started, "outcome": run.outcome,
                    "bytes": run.bytes, "parts": run.parts, "proven": run.proven })
            })
            .collect();
        ui.json(&rows)?;
        return Ok(Exit::Complete);
    }
    let latest = runs.iter().rev().find(|run| run.is_good()).map(|run| run.run.clone());
    // Without a state folder every machine is shown, and none of their runs is simply the latest.
    let machines: std::collections::BTreeSet<&String> = runs.iter().map(|run| &run.machine).collect();
    let latest = latest.filter(|_| machines.len() == 1);
    let rows = runs.iter().rev().map(|run| {
        let note = if Some(&run.run) == latest.as_ref() { format!("{app}@latest") } else { String::new() };
        vec![
            run.run.to_string(),
            time(run.started),
            ago(run.started, now),
            outcome(run.outcome),
            run.parts.to_string(),
            size(run.bytes),
            run.proven.map_or_else(|| "never".to_owned(), |at| ago(at, now)),
            note,
        ]
    });
    ui.say(table(&["run", "began", "age", "outcome", ">parts", ">size", "last drilled", ""], rows.collect()));
    if others > 0 {
        ui.tell(format!("and {} of other machines: `gullet runs {app}` names them", count(others as u64, "run")));
    }
    ui.tell(format!("say where: gullet restore {app}@latest --into FOLDER, or --in-place, or --as tar"));
    Ok(Exit::Complete)
}

/// A tar, or one file, to standard output.
fn to_output(ui: &mut Ui, reading: &Reading, args: &RestoreArgs, form: Form) -> Result<Exit, CommandError> {
    use std::io::{IsTerminal, Write};
    let (store, logged) = &reading.run_of(ui, &args.run)?;
    must_open(store, logged)?;
    let paths = selections(&args.paths)?;
    if std::io::stdout().is_terminal() && form == Form::Tar {
        let error = CommandError::text(Exit::Usage, "a tar is not written to a terminal");
        return Err(error.hint("gullet restore RUN --as tar > FILE"));
    }
    let mut out = std::io::BufWriter::with_capacity(1 << 20, std::io::stdout().lock());
    let report = match form {
        Form::Tar => gullet_restore::restore::tar(logged, store, &args.parts, &paths, &mut out)?,
        Form::File => gullet_restore::restore::one_file(logged, store, &args.parts, &paths, &mut out)?,
    };
    out.flush()?;
    drop(out);
    for problem in &report.problems {
        ui.complain(format!("{} {}", styled(BAD, "error:"), harmless(problem)));
    }
    for warning in &report.warnings {
        ui.warning(warning);
    }
    if report.files + report.others == 0 && report.problems.is_empty() && !args.paths.is_empty() {
        return Err(no_such_path(logged.record.run.as_str()));
    }
    Ok(report.outcome().into())
}

fn show_plan(ui: &mut Ui, plan: &RestorePlan) {
    let from = format!("{} from run {} ({})", plan.app, plan.run, outcome(plan.outcome));
    ui.say(format!("{}: {from} into {}", styled(BOLD, "would restore"), plan.into.display()));
    let rows = plan.parts.iter().map(|part| {
        let below = harmless(&part.to.display().to_string());
        vec![harmless(&part.part), part.files.to_string(), size(part.bytes), below]
    });
    let missing =
        plan.missing.iter().map(|(part, why)| vec![harmless(part), String::new(), String::new(), harmless(why)]);
    ui.say(table(&["part", ">files", ">size", "below"], rows.chain(missing).collect()));
}

fn show_problems(ui: &mut Ui, report: &RestoreReport) {
    for result in &report.parts {
        for problem in &result.problems {
            ui.complain(format!("{} {}", styled(BAD, "error:"), harmless(&format!("{}: {problem}", result.part))));
        }
        let named = result.problems.len() as u64;
        if result.problem_count > named {
            ui.complain(format!("       and {} more in {}", result.problem_count - named, harmless(&result.part)));
        }
        for (what, (number, first)) in &result.not_set {
            let text = format!("{}: {what} could not be set on {}: {first}", result.part, count(*number, "path"));
            ui.warning(&text);
        }
    }
}

fn show(ui: &mut Ui, plan: &RestorePlan, report: &RestoreReport) {
    let rows = report.parts.iter().zip(&plan.parts).map(|(result, part)| {
        let word = match (result.problem_count, result.not_set.is_empty()) {
            (0, true) => styled(GOOD, "✓ restored"),
            (0, false) => styled(WARN, "! restored"),
            _ => styled(BAD, "✗ incomplete"),
        };
        vec![
            harmless(&result.part),
            word,
            result.files.to_string(),
            result.others.to_string(),
            size(result.bytes),
            harmless(&part.to.display().to_string()),
        ]
    });
    let missing = plan.missing.iter().map(|(part, why)| {
        vec![harmless(part), styled(BAD, "✗ missing"), String::new(), String::new(), String::new(), harmless(why)]
    });
    if !ui.is_quiet() {
        ui.say(table(&["part", "result", ">files", ">others", ">size", "below"], rows.chain(missing).collect()));
    }
    show_problems(ui, report);
    for (part, proof) in &plan.outside {
        let text = format!(
            "{part}: its bytes are not here: another system has them, by the id {}, of {}",
            proof.id,
            time(proof.fixed_at)
        );
        ui.warning(&text);
    }
    if let Some(why) = &plan.no_hold {
        ui.warning(&format!("the parts are not from one point in time; the application is never held: {why}"));
    }
    let after: Vec<String> = plan
        .parts
        .iter()
        .flat_map(|part| {
            let lacks = part.omits.iter().map(|lack| format!("{}: it does not carry {lack}", part.part));
            lacks.chain(part.after_restore.iter().map(|what| format!("{}: {what}", part.part))).collect::<Vec<_>>()
        })
        .collect();
    if !after.is_empty() && !ui.is_quiet() {
        ui.say(styled(BOLD, "to do by hand"));
        for line in after {
            ui.say(format!("  - {}", harmless(&line)));
        }
    }
    let files: u64 = report.parts.iter().map(|part| part.files).sum();
    let bytes: u64 = report.parts.iter().map(|part| part.bytes).sum();
    let is_whole = report.parts.iter().all(|part| part.problem_count == 0) && plan.missing.is_empty();
    let proven = if is_whole && report.outcome != gullet_model::Outcome::Interrupted {
        "every byte verified"
    } else {
        "what was written is verified, and it is not all"
    };
    ui.say(format!("{}; {}, {}, {proven}", outcome(report.outcome), count(files, "file"), size(bytes)));
}
