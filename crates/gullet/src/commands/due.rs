//! `gullet due`.

use std::fs;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use clap::Args;
use gullet_capture::plan::Request;
use gullet_core::due::{DueEntry, DueWorld, Ledger, MissedWhy, Scheduled, serve};
use gullet_host::hook::{Process, with_variable};
use gullet_host::state::{State, write_whole};
use gullet_logbook::logbook::{Logbook, has_trigger};
use gullet_model::Outcome;
use gullet_model::definition::calendar::Rule;
use gullet_model::definition::{App, Loaded};
use gullet_model::ids::RunId;
use gullet_run::run::Refusal;
use jiff::{SignedDuration, Timestamp};

use super::notify::send_after_work;
use crate::args::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::text::{harmless, time};
use crate::ui::Ui;

/// Start what is due by the schedules
///
/// The system's scheduler calls it every minute; `gullet timer --every-minute` prints the entry. It starts what came due since the
/// last call, one run after the other, waits for them and exits. What could not start in time is recorded as missed. While one
/// call goes on, others do nothing.
///
/// Example: gullet due
#[derive(Args)]
pub struct DueArgs {}

pub fn due(ui: &mut Ui, global: &Global, _: &DueArgs) -> Result<Exit, CommandError> {
    let loaded = open::definition(global)?;
    let state = open::state(&loaded)?;
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    let Some(_lock) = state.lock_due()? else {
        // What goes on may take hours; messages do not wait for it.
        send_after_work(ui, &loaded, &state, &outside);
        return Ok(Exit::Complete);
    };
    crate::forgotten::settle(ui, &loaded, &state, &outside);
    let schedules = schedules(&loaded);
    let mut ledger = read_ledger(&state)?;
    let mut system = System {
        ui,
        loaded: &loaded,
        state: &state,
        outside: &outside,
        children: Vec::new(),
        told: None,
        exit: Exit::Complete,
    };
    let served = serve(&mut ledger, &schedules, at_once(&loaded), &mut system);
    let exit = system.exit;
    send_after_work(ui, &loaded, &state, &outside);
    served.map(|()| exit)
}

/// How many runs that are due go on at once.
pub(super) fn at_once(loaded: &Loaded) -> usize {
    usize::from(loaded.definition.limits.as_ref().and_then(|limits| limits.at_once).unwrap_or(1))
}

/// The schedules of a definition.
pub(super) fn schedules(loaded: &Loaded) -> Vec<Scheduled> {
    loaded.definition.app.iter().flat_map(|(app, spec)| schedules_of(app, spec)).collect()
}

/// The schedules of an application; they were checked with the definition.
pub(super) fn schedules_of(app: &str, spec: &App) -> Vec<Scheduled> {
    let rules = spec.schedule.iter().filter_map(|spec| Rule::new(spec).ok());
    rules.map(|rule| Scheduled { app: app.to_owned(), rule }).collect()
}

/// The ledger of a state folder.
pub(super) fn read_ledger(state: &State) -> Result<Ledger, CommandError> {
    let path = state.folder().join("due.json");
    match fs::read(&path) {
        Ok(bytes) => serde_json::from_slice(&bytes).map_err(|error| {
            let text = format!("`{}` cannot be read, so it is not known what is done: {error}", path.display());
            CommandError::text(Exit::Failed, text)
                .hint("remove it, and the schedules begin anew: nothing before now is due then")
        }),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Ledger::default()),
        Err(error) => Err(error.into()),
    }
}

/// The variable by which a run that was started is found again.
const MARK: &str = "GULLET_DUE";
/// A clock may have been set back by so much since a run began.
const SET_BACK: SignedDuration = SignedDuration::from_hours(48);

struct System<'a> {
    ui: &'a mut Ui,
    loaded: &'a Loaded,
    state: &'a State,
    outside: &'a RealWorld,
    children: Vec<Child>,
    /// Why the last one was missed: several at once mostly are for one reason.
    told: Option<String>,
    exit: Exit,
}

fn mark(entry: &DueEntry) -> String {
    format!("{}: {}", entry.app, entry.trigger())
}

impl DueWorld for System<'_> {
    type Error = CommandError;

    fn now(&self) -> Timestamp {
        self.outside.world().clock.now()
    }

    fn is_stopped(&self) -> bool {
        self.outside.world().stop.asked().is_some()
    }

    fn keep(&mut self, ledger: &Ledger) -> Result<(), CommandError> {
        let written = write_whole(&self.state.folder().join("due.json"), &serde_json::to_vec(ledger)?);
        written.map_err(|error| CommandError::new(Exit::Failed, &error))?;
        Ok(())
    }

    fn start(&mut self, entry: &DueEntry, scheduled: &Scheduled) -> Result<Process, CommandError> {
        let mut command = Command::new("/proc/self/exe");
        command.arg("--definition").arg(&self.loaded.path);
        command.args(["run", &entry.app, "--quiet", "--unattended", "--trigger", &entry.trigger()]);
        for part in &scheduled.rule.spec().parts {
            command.args(["--part", part]);
        }
        if let Some(at) = scheduled.rule.ends_at(entry.at) {
            command.args(["--finish-by", &at.to_string()]);
        }
        let child = command.env(MARK, mark(entry)).stdin(Stdio::null()).spawn()?;
        let process = i32::try_from(child.id()).ok().and_then(Process::of);
        self.children.push(child);
        process.ok_or_else(|| CommandError::text(Exit::Failed, "the run that was started is gone"))
    }

    fn find(&mut self, entry: &DueEntry) -> Option<Process> {
        with_variable(MARK, &mark(entry))
    }

    fn is_over(&mut self, process: Process) -> bool {
        let own = self.children.iter_mut().find(|child| i32::try_from(child.id()) == Ok(process.pid));
        let Some(child) = own else { return process.living().is_none() };
        match child.try_wait() {
            Ok(Some(status)) => {
                let code = status.code().and_then(|code| u8::try_from(code).ok());
                self.exit = self.exit.worse(code.and_then(Exit::of_code).unwrap_or(Exit::Failed));
                self.children.retain(|child| i32::try_from(child.id()) != Ok(process.pid));
                true
            }
            Ok(None) => false,
            Err(_) => process.living().is_none(),
        }
    }

    fn has_record(&mut self, entry: &DueEntry) -> Result<bool, CommandError> {
        let trigger = entry.trigger();
        let waiting = Logbook::default().with_waiting(self.state, Some(&entry.app));
        if waiting.runs.iter().any(|logged| logged.record.trigger == trigger) {
            return Ok(true);
        }
        let Some((_, spec)) = self.loaded.definition.store_of(&entry.app) else { return Ok(false) };
        let store = open::store_of(spec, self.state)?;
        let since = entry.at.checked_sub(SET_BACK).unwrap_or(Timestamp::MIN);
        Ok(has_trigger(&store, (&entry.app, self.state.machine()), &trigger, since)?)
    }

    fn miss(&mut self, entry: &DueEntry, why: &MissedWhy) -> Result<(), CommandError> {
        let world = self.outside.world();
        let gone = App::default();
        let spec = self.loaded.definition.app.get(&entry.app).unwrap_or(&gone);
        let parts = spec.schedule.iter().find(|schedule| schedule.name == entry.schedule);
        let request = Request {
            app: entry.app.clone(),
            only: parts.map(|schedule| schedule.parts.clone()).unwrap_or_default(),
            trigger: Some(entry.trigger()),
            ..Request::default()
        };
        let run = RunId::new(world.random);
        let refusal = Refusal { run, request: &request, spec, outcome: Outcome::Missed, why: entry.missed_text(why) };
        let complaints = refusal.tell(self.state, world)?;
        let text = format!("{}: the run of schedule {}, due {}, was missed", entry.app, entry.schedule, time(entry.at));
        let why = entry.missed_text(why);
        let is_told = self.told.replace(why.clone()).is_some_and(|told| told == why);
        let text = if is_told { format!("{text} too") } else { format!("{text}: {why}") };
        self.ui.complain(harmless(&text));
        complaints.iter().for_each(|text| self.ui.warning(text));
        self.exit = self.exit.worse(Exit::Refused);
        Ok(())
    }

    fn wait(&mut self, time: Duration) {
        self.outside.world().clock.sleep(time);
    }
}
