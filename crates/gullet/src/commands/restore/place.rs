//! `gullet restore --in-place`, and what goes on with one.

mod shown;

use gullet_capture::plan::PlannedCopy;
use gullet_host::state::State;
use gullet_logbook::logbook::{Logged, RunLine};
use gullet_model::definition::{Loaded, RestoreSpec};
use gullet_restore::restore::RestoreError;
use gullet_restore::restore::place::{
    Applying, Journal, JournalError, JournalStage, PlaceContext, PlacePlan, PlaceReport, PlaceRequest, apply, go_on,
    settle, take_back,
};
use gullet_store::Store;
use gullet_store::listing::PathName;

use super::RestoreArgs;
use crate::args::{Global, ReadingArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::narrate::{attend, fall_over};
use crate::open;
use crate::outside::{RealWorld, guard_commands};
use crate::reading::{Reading, must_open};
use crate::text::{count, harmless, size};
use crate::ui::{BOLD, GOOD, Ui, styled};
use shown::{show_plan, show_report, show_step};

impl From<JournalError> for CommandError {
    fn from(error: JournalError) -> Self {
        Self::new(Exit::Failed, &error)
    }
}

/// Where the command works.
struct Here {
    loaded: Loaded,
    state: State,
    reading: Reading,
    outside: RealWorld,
}

pub fn place(ui: &mut Ui, global: &Global, args: &RestoreArgs) -> Result<Exit, CommandError> {
    let loaded = open::definition(global)?;
    let state = open::state(&loaded)?;
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    // With `--store` the run is another machine's; what happens here is of this machine's state all the same.
    let reading_args = ReadingArgs { store: args.reading.store.clone(), opening: args.reading.opening.clone() };
    let reading = Reading::open(global, &reading_args, None, ui)?;
    let here = Here { loaded, state, reading, outside };
    if !args.go_on && !args.undo && !args.discard_old {
        return here.in_place(ui, args);
    }
    let app = args.run.split('@').next().unwrap_or("");
    let lock = here.state.lock(app, &format!("restore, process {}", std::process::id()))?;
    let Some(journal) = Journal::load(here.state.folder(), app)? else {
        let text = format!("there is no restore in place of `{app}`");
        return Err(CommandError::text(Exit::Usage, text));
    };
    let result = if args.go_on {
        here.go_on(ui, args, journal)
    } else if args.undo {
        here.undo(ui, args, journal)
    } else {
        here.discard(ui, args, journal)
    };
    drop(lock);
    result
}

impl Here {
    fn ground<'g>(
        &'g self,
        store: &'g Store,
        runs: &'g [&'g RunLine],
        logged: &'g Logged,
        folder: &'g std::path::Path,
    ) -> PlaceContext<'g> {
        PlaceContext {
            logged,
            runs,
            store,
            store_folder: folder,
            stores: self.loaded.definition.store.iter().map(PlannedCopy::of).collect(),
            state: self.state.folder(),
            spec: self.loaded.definition.app.get(&logged.record.app),
            world: self.outside.world(),
        }
    }

    fn plan(&self, ui: &mut Ui, run: &str, asked: PlaceRequest) -> Result<(PlacePlan, &Store, Logged), CommandError> {
        let (store, logged) = self.reading.run_of(ui, run)?;
        must_open(store, &logged)?;
        let runs = self.reading.runs();
        let folder = std::path::PathBuf::from(store.location().describe());
        let plan = PlacePlan::make(&self.ground(store, &runs, &logged, &folder), asked);
        let plan = plan.map_err(with_hint)?;
        Ok((plan, store, logged))
    }

    fn in_place(&self, ui: &mut Ui, args: &RestoreArgs) -> Result<Exit, CommandError> {
        use std::os::unix::ffi::OsStrExt;
        let path = |path: &std::ffi::OsString| {
            let bytes = path.as_bytes();
            let bytes = bytes.strip_prefix(b"/").unwrap_or(bytes);
            PathName::new(bytes.strip_suffix(b"/").unwrap_or(bytes))
        };
        let asked = PlaceRequest {
            parts: args.parts.clone(),
            paths: args.paths.iter().map(path).collect(),
            maps: args.place.map.clone(),
            owners: super::owners(args, &self.reading.run_of(ui, &args.run)?.1)?,
            drop: args.place.set_aside_extra,
            allow_incomplete: args.place.allow_incomplete,
            accepted: args.place.accept.clone(),
        };
        let (plan, store, logged) = &self.plan(ui, &args.run, asked)?;
        let lock = self.state.lock(&plan.app, &format!("restore, process {}", std::process::id()))?;
        if let Some(journal) = Journal::load(self.state.folder(), &plan.app)? {
            let text = format!("run {} was restored in place already: it is {}", journal.run, journal.stage.words());
            return Err(CommandError::text(Exit::Refused, text).hint(match journal.stage {
                JournalStage::Done => format!("gullet restore {} --discard-old, or --undo", plan.app),
                JournalStage::Undone => format!("gullet restore {} --discard-old", plan.app),
                JournalStage::UndoneStopped => format!("gullet restore {} --undo", plan.app),
                _ => format!("gullet restore {} --continue, or --undo", plan.app),
            }));
        }
        if !self.agreed(ui, args, plan)? {
            return Ok(if args.place.plan { Exit::Complete } else { Exit::Refused });
        }
        let report = self.applied(ui, store, logged, !args.place.unattended, |with| apply(plan, with))?;
        let exit = self.finish(ui, plan, &report);
        drop(lock);
        exit
    }

    /// Shows the plan, and whether it is agreed to.
    fn agreed(&self, ui: &mut Ui, args: &RestoreArgs, plan: &PlacePlan) -> Result<bool, CommandError> {
        let objections = plan.objections();
        if args.place.plan {
            if ui.is_json() {
                ui.json(&serde_json::json!({ "plan": plan, "objections": objections }))?;
            } else {
                show_plan(ui, plan, self.outside.world().clock.now());
            }
            return Ok(false);
        }
        if !ui.is_json() && !ui.is_quiet() {
            show_plan(ui, plan, self.outside.world().clock.now());
        }
        must_be_agreed_to(plan)?;
        if args.place.yes {
            return Ok(true);
        }
        if ui.can_ask() {
            let stop = self.outside.world().stop;
            let said = ui.ask(&format!("restore {} in place? (yes or no) ", plan.app), &|| stop.asked().is_some());
            if said.is_some_and(|said| said.trim() == "yes") {
                return Ok(true);
            }
        }
        ui.tell("nothing was touched; say --yes to do it");
        Ok(false)
    }

    fn applied(
        &self,
        ui: &mut Ui,
        store: &Store,
        logged: &Logged,
        attended: bool,
        what: impl FnOnce(Applying<'_>) -> Result<PlaceReport, JournalError>,
    ) -> Result<PlaceReport, CommandError> {
        let ui = std::cell::RefCell::new(ui);
        let guard = guard_commands();
        let mut changes = 0;
        let with = Applying {
            world: self.outside.world(),
            state: &self.state,
            store,
            logged,
            guard: &guard,
            tell: &mut |step| show_step(&mut ui.borrow_mut(), step),
            progress: &mut |part, files, bytes| {
                let text = format!("write {part} beside  {}  {}", count(files, "file"), size(bytes));
                ui.borrow_mut().progress(&text);
            },
            attend: &mut |instruction, over| attended && attend(&mut ui.borrow_mut(), instruction, over),
            tick: &mut |_| {
                changes += 1;
                fall_over(changes);
            },
        };
        Ok(what(with)?)
    }

    fn finish(&self, ui: &mut Ui, plan: &PlacePlan, report: &PlaceReport) -> Result<Exit, CommandError> {
        if ui.is_json() {
            ui.json(&serde_json::json!({ "plan": plan, "report": report }))?;
        } else {
            show_report(ui, plan, report);
        }
        Ok(report.outcome.into())
    }

    fn go_on(&self, ui: &mut Ui, args: &RestoreArgs, journal: Journal) -> Result<Exit, CommandError> {
        if matches!(journal.stage, JournalStage::Done | JournalStage::Undone | JournalStage::UndoneStopped) {
            let text = format!(
                "there is nothing to go on with: the restore of run {} is {}",
                journal.run,
                journal.stage.words()
            );
            return Err(CommandError::text(Exit::Usage, text));
        }
        if journal.stage == JournalStage::Tried && !args.place.yes {
            return Ok(removes_what_came(ui, &journal));
        }
        let mut asked = journal.asked.clone();
        asked.accepted.extend(args.place.accept.iter().cloned());
        let (plan, store, logged) = &self.plan(ui, &journal.run, asked)?;
        must_be_agreed_to(plan)?;
        if !ui.is_json() && !ui.is_quiet() {
            ui.say(format!("{}: {} from run {}", styled(BOLD, "go on with the restore"), plan.app, plan.run));
        }
        let report = self.applied(ui, store, logged, !args.place.unattended, |with| go_on(plan, journal, with))?;
        self.finish(ui, plan, &report)
    }

    fn undo(&self, ui: &mut Ui, args: &RestoreArgs, journal: Journal) -> Result<Exit, CommandError> {
        let app = journal.app.clone();
        let top = self.state.folder();
        let journal = if journal.stage.is_open() {
            settle(top, &app, self.outside.world().clock)?;
            Journal::load(top, &app)?.unwrap_or(journal)
        } else {
            journal
        };
        if !journal.called.is_empty() {
            ui.warning(&journal.stays_brought_back());
        }
        match journal.stage {
            JournalStage::Undone => {
                ui.say(format!("the restore of {app} is undone already"));
                return Ok(Exit::Complete);
            }
            JournalStage::Tried if !args.place.yes => return Ok(removes_what_came(ui, &journal)),
            JournalStage::Done => {}
            // It is tried again to start the application on the old state.
            JournalStage::UndoneStopped => {}
            // The old state was never away, or is back: only what lies beside is removed. That refuses where a swap is open.
            _ => {
                journal.discard(top)?;
                let said = styled(GOOD, "✓ undone:");
                ui.say(format!("{said} {app}: the old state is in place, and nothing is beside it"));
                return Ok(Exit::Complete);
            }
        }
        if !args.place.yes {
            let since = crate::text::time(journal.began);
            ui.say(match journal.stage {
                JournalStage::UndoneStopped => {
                    format!("{app} would be stopped and started again on its old state, which is in place")
                }
                _ => format!(
                    "the old state of {app} would come back, and all that was written since {since} would be set aside"
                ),
            });
            ui.tell("nothing was touched; say --yes to do it");
            return Ok(Exit::Refused);
        }
        let spec = self.loaded.definition.app.get(&app).and_then(|app| app.restore.clone()).unwrap_or_default();
        let undone = self.take_back(ui, !args.place.unattended, &journal, &spec)?;
        match undone {
            Ok(()) => {
                let what = if journal.called.is_empty() { "the old state is" } else { "the old files are" };
                ui.say(format!("{} {app}: {what} in place again", styled(GOOD, "✓ undone:")));
                ui.tell(format!("what was in place is kept; gullet restore {app} --discard-old removes it"));
                Ok(Exit::Complete)
            }
            Err((why, is_stopped)) => {
                let exit = if is_stopped { Exit::NotReleased } else { Exit::Failed };
                let error = CommandError::text(exit, format!("it could not be undone: {why}"));
                Err(match spec.manual_start.filter(|_| is_stopped) {
                    Some(by_hand) => error.hint(by_hand),
                    None => error,
                })
            }
        }
    }

    fn take_back(
        &self,
        ui: &mut Ui,
        attended: bool,
        journal: &Journal,
        spec: &RestoreSpec,
    ) -> Result<Result<(), (String, bool)>, CommandError> {
        let (store, logged) = &self.reading.run_of(ui, &journal.run)?;
        let guard = guard_commands();
        let ui = std::cell::RefCell::new(ui);
        let mut with = Applying {
            world: self.outside.world(),
            state: &self.state,
            store,
            logged,
            guard: &guard,
            tell: &mut |step| show_step(&mut ui.borrow_mut(), step),
            progress: &mut |_, _, _| {},
            attend: &mut |instruction, over| attended && attend(&mut ui.borrow_mut(), instruction, over),
            tick: &mut |_| {},
        };
        Ok(take_back(journal, spec, &mut with))
    }

    fn discard(&self, ui: &mut Ui, args: &RestoreArgs, journal: Journal) -> Result<Exit, CommandError> {
        if journal.stage == JournalStage::UndoneStopped {
            let text =
                format!("{} did not start on its old state: what is set aside may be the only good one", journal.app);
            let error = CommandError::text(Exit::Refused, text);
            return Err(error.hint(format!("gullet restore {} --undo tries again to start it", journal.app)));
        }
        if !matches!(journal.stage, JournalStage::Done | JournalStage::Undone | JournalStage::Tried) {
            let text = format!("the restore of run {} is {}", journal.run, journal.stage.words());
            let error = CommandError::text(Exit::Refused, text);
            return Err(error.hint(format!("gullet restore {} --continue, or --undo", journal.app)));
        }
        let kept: Vec<String> = journal.arenas().iter().map(|path| path.display().to_string()).collect();
        if !args.place.yes {
            ui.say(format!("would remove what is set aside: {}", harmless(&kept.join(", "))));
            ui.tell("nothing was touched; say --yes to do it");
            return Ok(Exit::Refused);
        }
        journal.discard(self.state.folder())?;
        let what =
            if kept.is_empty() { "the note of the restore; nothing was set aside".to_owned() } else { kept.join(", ") };
        ui.say(format!("{} {}", styled(GOOD, "✓ removed:"), harmless(&what)));
        Ok(Exit::Complete)
    }
}

/// Refuses what was not agreed to, or cannot be done.
fn must_be_agreed_to(plan: &PlacePlan) -> Result<(), CommandError> {
    let objections = plan.objections();
    let Some(first) = objections.first() else { return Ok(()) };
    let mut error = CommandError::text(Exit::Refused, format!("not agreed to: {first}"));
    error.messages.extend(objections.iter().skip(1).cloned());
    Err(error.hint("nothing was touched"))
}

/// Says that what an application wrote while it ran on a state that did not prove good would be removed.
fn removes_what_came(ui: &mut Ui, journal: &Journal) -> Exit {
    let kept: Vec<String> = journal.arenas().iter().map(|path| path.display().to_string()).collect();
    ui.say(format!(
        "{} was started on the restored state for a while; what it wrote there would be removed: {}",
        harmless(&journal.app),
        harmless(&kept.join(", "))
    ));
    ui.tell("nothing was touched; say --yes to do it");
    Exit::Refused
}

fn with_hint(error: RestoreError) -> CommandError {
    let error: CommandError = error.into();
    error.hint("nothing was touched; `--into FOLDER` restores beside it")
}
