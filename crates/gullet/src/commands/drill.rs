//! `gullet drill` and `gullet keep`.

mod elsewhere;

use std::path::PathBuf;

use clap::Args;
use gullet_core::notify::{Content, id_at, put, told_of};
use gullet_host::state::State;
use gullet_logbook::logbook::Logged;
use gullet_model::Outcome;
use gullet_model::definition::{App, NotifyOn};
use gullet_model::record::RemarkKind;
use gullet_restore::drill::{DrillCheck, DrillError, DrillPlan, DrillReport, pick};
use gullet_store::Store;

use super::notify::send_after_work;
use crate::args::{Global, ReadingArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::reading::{Reading, must_open};
use crate::table::table;
use crate::text::{count, duration, harmless, size, time};
use crate::ui::{BAD, BOLD, GOOD, Ui, WARN, outcome, step as step_line, styled};

/// Prove that a run restores
///
/// It is restored to a scratch place, apart from the live application; databases are opened by their engine or brought into a
/// new server, what they hold is compared with what was recorded, and the checks of `[app.NAME.drill]` are asked. The scratch
/// place is always cleared again. `status` and `runs` show when a run was last drilled.
///
/// With `--store` it proves what that store has, on any machine: a copy, or a store of another machine. The definition's checks are
/// asked where there is a definition here that has the application; commands that only the store names are never executed.
///
/// Example: gullet drill quaybook
#[derive(Args)]
pub struct DrillArgs {
    /// The application; with `--store` also MACHINE:APP
    pub(super) app: String,
    /// This run, instead of the newest complete one
    #[arg(long, value_name = "RUN")]
    pub(super) run: Option<String>,
    /// Only show what would be done
    #[arg(long)]
    pub(super) plan: bool,
    /// What starts it, where that is not a person
    #[arg(long, value_name = "TEXT", conflicts_with_all = ["plan", "store"])]
    pub(super) trigger: Option<String>,
    /// With `--store`: the folder below which it is restored, with room for all of it, instead of the one for temporary files
    #[arg(long, value_name = "FOLDER", requires = "store")]
    pub(super) scratch: Option<PathBuf>,
    #[command(flatten)]
    pub(super) reading: ReadingArgs,
}

/// Mark a run to stay
///
/// What is marked is never removed by `gullet thin`.
///
/// Example: gullet keep k3v9 --reason "before the 4.2 upgrade"
#[derive(Args)]
pub struct KeepArgs {
    /// The run
    run: String,
    /// Why; kept with the run
    #[arg(long, value_name = "TEXT")]
    reason: Option<String>,
    /// It need not stay any more
    #[arg(long)]
    undo: bool,
}

impl From<DrillError> for CommandError {
    fn from(error: DrillError) -> Self {
        match error {
            DrillError::Restore(error) => error.into(),
            DrillError::State(error) => error.into(),
            DrillError::NoRun(_) => Self::new(Exit::Refused, &error).hint("`gullet runs` shows all runs"),
            DrillError::Space { .. } | DrillError::Place { .. } => Self::new(Exit::Refused, &error)
                .hint("name another folder: `scratch` in `[app.NAME.drill]`, or `--scratch` with `--store`"),
            other => Self::new(Exit::Refused, &other),
        }
    }
}

pub fn drill(ui: &mut Ui, global: &Global, args: &DrillArgs) -> Result<Exit, CommandError> {
    if args.reading.store.is_some() {
        return elsewhere::drill(ui, global, args);
    }
    let loaded = open::sound_definition(ui, global, std::slice::from_ref(&args.app))?;
    let state = open::state(&loaded)?;
    let Some(spec) = loaded.definition.app.get(&args.app) else {
        let text = format!("the definition has no application `{}`", args.app);
        let known: Vec<&str> = loaded.definition.app.keys().map(String::as_str).collect();
        return Err(CommandError::text(Exit::Usage, text).hint(format!("it defines: {}", known.join(", "))));
    };
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    let (result, run) = match perform(ui, global, args, (spec, &state), &outside) {
        Ok((exit, plan, why)) => (Ok(exit), Some((plan.run.to_string(), why))),
        Err(error) => (Err(error), None),
    };
    if args.plan {
        return result;
    }
    let why = match (&result, &run) {
        (Ok(Exit::Failed), Some((_, why))) => Some(why.clone()),
        (Err(error), _) => Some(error.messages.join(": ")),
        _ => None,
    };
    if let Some(why) = why {
        let (host, now) = (outside.world().host.name.clone(), outside.world().clock.now());
        let run = run.map(|(run, _)| run);
        let content = Content::DrillFailed { app: args.app.clone(), run, why, host };
        let to = told_of(&loaded.definition, Some(&args.app), NotifyOn::DrillFailed);
        put(&state, &id_at(&format!("drill-{}", args.app), now), to, &content, now)?;
    }
    if let Some(trigger) = &args.trigger {
        state.note_ended(&args.app, trigger)?;
    }
    send_after_work(ui, &loaded, &state, &outside);
    result
}

/// Drills, and gives how it ended, what was planned, and what failed of it.
fn perform(
    ui: &mut Ui,
    global: &Global,
    args: &DrillArgs,
    (spec, state): (&App, &State),
    outside: &RealWorld,
) -> Result<(Exit, DrillPlan, String), CommandError> {
    let reading = Reading::open(global, &args.reading, Some(&args.app), ui)?;
    let (store, logged) = match &args.run {
        Some(run) => reading.run_of(ui, run)?,
        None => {
            let how = spec.drill.as_ref().and_then(|drill| drill.pick).unwrap_or_default();
            let of_app = |book: &gullet_logbook::logbook::Logbook| book.last_good(&args.app).is_some();
            let found = reading.books(ui)?.into_iter().find(|(_, book)| of_app(book));
            let Some((store, book)) = found else { return Err(DrillError::NoRun(args.app.clone()).into()) };
            (store, pick(&book, &args.app, how, outside.world().random)?.clone())
        }
    };
    apply(ui, args.plan, (store, &logged), (spec, state), outside)
}

/// Plans the drill of a run, and does it unless only the plan is wanted.
fn apply(
    ui: &mut Ui,
    plan_alone: bool,
    (store, logged): (&Store, &Logged),
    (spec, state): (&App, &State),
    outside: &RealWorld,
) -> Result<(Exit, DrillPlan, String), CommandError> {
    must_open(store, logged)?;
    let plan = DrillPlan::make(logged, spec, state, outside.world().random);
    if plan_alone {
        if ui.is_json() {
            ui.json(&plan)?;
        } else {
            show_plan(ui, &plan);
        }
        return Ok((Exit::Complete, plan, String::new()));
    }
    if !ui.is_json() && !ui.is_quiet() {
        ui.say(format!(
            "{}: {} from run {} ({}, {})",
            styled(BOLD, "drill"),
            plan.app,
            plan.run,
            outcome(plan.outcome),
            time(logged.record.started)
        ));
    }
    let shown = std::cell::RefCell::new(&mut *ui);
    let report = plan.apply(
        logged,
        store,
        state,
        outside.world(),
        &mut |check| show_check(&mut shown.borrow_mut(), check),
        &mut |part, files, bytes| {
            shown.borrow_mut().progress(&format!("restore {part}  {}  {}", count(files, "file"), size(bytes)));
        },
    )?;
    let exit = finish(ui, &plan, &report)?;
    let failed: Vec<&str> = report.checks.iter().filter(|check| !check.ok).map(|check| check.what.as_str()).collect();
    Ok((exit, plan, failed.join("; ")))
}

fn finish(ui: &mut Ui, plan: &DrillPlan, report: &DrillReport) -> Result<Exit, CommandError> {
    let intact = !report.proven && report.checks.iter().all(|check| check.ok);
    let exit = match (report.proven, report.interrupted, report.warnings.is_empty()) {
        (_, true, _) => Exit::Interrupted,
        (true, _, true) => Exit::Complete,
        (true, _, false) => Exit::Warnings,
        (false, ..) if intact => Exit::Warnings,
        (false, ..) => Exit::Failed,
    };
    if ui.is_json() {
        ui.json(&serde_json::json!({ "plan": plan, "report": report }))?;
        return Ok(exit);
    }
    for warning in &report.warnings {
        ui.warning(warning);
    }
    let times = format!(
        "restored in {}, took {}; the scratch place is cleared",
        duration(report.restore_ms),
        duration(report.took_ms)
    );
    let word = match (report.interrupted, report.proven) {
        (true, _) => styled(BAD, "✗ interrupted: nothing is said about the run"),
        (false, true) => styled(GOOD, "✓ proven"),
        (false, false) if intact => {
            let why = report.unproven.join("; ");
            styled(WARN, format!("! restored intact, not proven: {}", harmless(&why)))
        }
        (false, false) => styled(BAD, "✗ not proven"),
    };
    ui.say(format!("{word}; {times}"));
    if intact {
        ui.hint("give the drill `checks` that open what was restored: gullet drill --plan shows what is done with each part");
    }
    Ok(exit)
}

fn show_check(ui: &mut Ui, check: &DrillCheck) {
    if !ui.is_json() && !ui.is_quiet() {
        ui.say(step_line(check.ok, &check.what, check.took_ms, &check.note));
    }
}

fn show_plan(ui: &mut Ui, plan: &DrillPlan) {
    ui.say(format!("{}: {} from run {} ({})", styled(BOLD, "would drill"), plan.app, plan.run, outcome(plan.outcome)));
    ui.say(format!(
        "into {}, {}, cleared again afterwards",
        harmless(&plan.scratch.display().to_string()),
        size(plan.bytes)
    ));
    let parts = plan.parts.iter().map(|(part, how)| vec![harmless(part), how.clone()]);
    let checks = plan.checks.iter().map(|(name, command)| vec![harmless(name), harmless(command)]);
    ui.say(table(&["part or check", "how"], parts.chain(checks).collect()));
}

pub fn keep(ui: &mut Ui, global: &Global, args: &KeepArgs) -> Result<Exit, CommandError> {
    let reading = Reading::open(global, &ReadingArgs::default(), None, ui)?;
    let Some(loaded) = &reading.loaded else { return Ok(Exit::Failed) };
    let state = open::state(loaded)?;
    let (store, logged) = &reading.run_of(ui, &args.run)?;
    let run = &logged.record.run;
    if logged.is_thinned() && !args.undo {
        return Err(CommandError::text(
            Exit::Refused,
            format!("run {run} was removed already: only its record is left"),
        ));
    }
    let (kind, words) =
        if args.undo { (RemarkKind::NotKept, "need not stay any more") } else { (RemarkKind::Kept, "stays") };
    if logged.is_kept() == args.undo {
        let because = args.reason.as_ref().map(|text| format!(": {text}")).unwrap_or_default();
        let outside = RealWorld::new();
        logged.say(kind, Outcome::Complete, format!("it {words}{because}"), store, Some(&state), outside.world())?;
    }
    if ui.is_json() {
        ui.json(&serde_json::json!({ "run": run, "kept": !args.undo }))?;
    } else {
        ui.say(format!("{} run {run} of {} {words}", styled(GOOD, "✓"), harmless(&logged.record.app)));
    }
    Ok(Exit::Complete)
}
