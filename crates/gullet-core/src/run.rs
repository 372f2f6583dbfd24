//! A run of an application, or of those of a group, from the lock to the last hook.
//!
//! [`RunContext::run_app`] goes down once: it locks, looks back at the runs before, opens the store, makes the plan and has it
//! executed ([`gullet_run::run::execute`]). What is refused on the way leaves a record all the same, and those who wait for the
//! end of runs are told.

use std::ffi::OsString;
use std::panic::resume_unwind;
use std::sync::mpsc::{Sender, channel};
use std::time::Duration;

use gullet_capture::plan::{Plan, PlanError, Request};
use gullet_host::hook::Runner;
use gullet_host::place::location_of;
use gullet_host::state::{State, StateError, SweepLock};
use gullet_host::world::World;
use gullet_logbook::logbook::Recent;
use gullet_model::Outcome;
use gullet_model::definition::Loaded;
use gullet_model::event::{Event, Listener};
use gullet_model::ids::RunId;
use gullet_model::words::chain;
use gullet_restore::restore::place::{Journals, why_not_whole};
use gullet_run::run::{Ended, Group, HistoryError, Member, Refusal, Setup, execute, load_history};
use gullet_store::{Store, StoreError};

/// How often it is looked whether a sweep is over.
const TICK: Duration = Duration::from_millis(100);

/// A run could not begin.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RunError {
    /// The state folder cannot be used, or another run is going on.
    #[error(transparent)]
    State(#[from] StateError),
    /// The application is not what it should be after a restore in place that was not finished.
    #[error("`{app}` is not captured: {why}")]
    NotWhole {
        /// The name of the application.
        app: String,
        /// What is open.
        why: String,
    },
    /// What is asked for cannot be planned.
    #[error(transparent)]
    Plan(#[from] PlanError),
    /// Somebody asked to stop while a sweep was waited for.
    #[error("stopped while it waited for a sweep of the store")]
    Stopped,
}

/// Who is told of a run: its events, and what there is to warn of before it begins.
pub trait Audience: Listener {
    /// Takes a warning, in words.
    fn warn(&mut self, text: &str);
}

/// What there is to tell of a run of a group.
#[derive(Debug)]
pub enum Told {
    /// Something happened in the run.
    Event(Box<Event>),
    /// A warning before it begins.
    Warning(String),
}

/// What all runs of a command have in common.
#[derive(Clone, Copy)]
pub struct RunContext<'a> {
    /// The definition that has the applications.
    pub loaded: &'a Loaded,
    /// The local state.
    pub state: &'a State,
    /// The outside world.
    pub world: World<'a>,
    /// The commands that start a guard, tried in this order.
    pub guard: &'a [Vec<OsString>],
}

impl RunContext<'_> {
    /// Runs one application, and tells an audience.
    ///
    /// # Errors
    /// When it could not begin. Then it has left a record, if the definition knows the application.
    pub fn run_app(self, request: Request, audience: &mut dyn Audience) -> Result<Ended, RunError> {
        self.run(request, None, audience)
    }

    /// Runs the applications of a group, each on a thread of its own. `hear` is told what happens, with the number of the request.
    pub fn run_group(self, requests: Vec<Request>, hear: &mut dyn FnMut(usize, Told)) -> Vec<Result<Ended, RunError>> {
        let apps: Vec<String> = requests.iter().map(|request| request.app.clone()).collect();
        let group = Group::new(&apps);
        std::thread::scope(|scope| {
            let (out, told) = channel();
            let mut threads = Vec::new();
            for ((number, request), member) in requests.into_iter().enumerate().zip(group.members()) {
                let mut teller = Teller { number, out: out.clone() };
                threads.push(scope.spawn(move || self.run(request, Some(member), &mut teller)));
            }
            drop(out);
            for (number, told) in told {
                hear(number, told);
            }
            threads.into_iter().map(|thread| thread.join().unwrap_or_else(|panic| resume_unwind(panic))).collect()
        })
    }

    fn run(self, request: Request, member: Option<Member<'_>>, audience: &mut dyn Audience) -> Result<Ended, RunError> {
        let run = RunId::new(self.world.random);
        let begun = self.begin(&request, run.clone(), member, audience);
        if let (Err(error), Some(spec)) = (&begun, self.loaded.definition.app.get(&request.app)) {
            let why = chain(error);
            let refusal = Refusal { run, request: &request, spec, outcome: Outcome::Refused, why };
            match refusal.tell(self.state, self.world) {
                Ok(complaints) => complaints.iter().for_each(|text| audience.warn(text)),
                Err(error) => audience.warn(&format!("it could not be recorded: {error}")),
            }
        }
        begun
    }

    /// Makes everything ready, and runs.
    fn begin(
        self,
        request: &Request,
        run: RunId,
        member: Option<Member<'_>>,
        audience: &mut dyn Audience,
    ) -> Result<Ended, RunError> {
        let app = &request.app;
        let lock = self.state.lock(app, &format!("run {run}, process {}", std::process::id()))?;
        if let Some(why) = why_not_whole(self.state.folder(), app) {
            return Err(RunError::NotWhole { app: app.clone(), why });
        }
        let _no_sweep = self.wait_for_sweep(audience)?;
        let mut store = open_store(self.loaded, app, self.world);
        let mut state = self.state.clone();
        let mut recent = Recent::default();
        if let Ok(opened) = &store {
            match load_history(opened, app, &mut state, self.world, &mut |text| audience.warn(text)) {
                Ok(found) => recent = found,
                Err(HistoryError::Store(error)) => store = Err(error),
                Err(HistoryError::State(error)) => return Err(error.into()),
            }
        }
        let Recent { last_good, previous, damaged, .. } = recent;
        let last_good = last_good.as_ref();
        let runner = Runner {
            world: self.world,
            app: app.clone(),
            run: run.to_string(),
            family: run.to_string(),
            folder: state.place(&["scratch"])?,
            top: state.folder().to_path_buf(),
        };
        let plan = Plan::make(self.loaded, request.clone(), state.folder().to_path_buf(), &runner, last_good)?;
        let setup = Setup {
            world: self.world,
            state: &state,
            run,
            plan: &plan,
            lock,
            store,
            last_good,
            previous,
            guard: self.guard,
            old_state: &Journals,
            damaged,
            member,
        };
        Ok(execute(setup, audience))
    }

    /// Waits until no sweep is going on, and keeps others away.
    fn wait_for_sweep(self, audience: &mut dyn Audience) -> Result<SweepLock, RunError> {
        let mut told = false;
        loop {
            if let Some(lock) = self.state.keep_sweeps_away()? {
                return Ok(lock);
            }
            if self.world.stop.asked().is_some() {
                return Err(RunError::Stopped);
            }
            if !std::mem::replace(&mut told, true) {
                audience.warn("waiting until the sweep of the store is over");
            }
            self.world.clock.sleep(TICK);
        }
    }
}

/// Opens the store of an application, as the definition describes it.
///
/// # Errors
/// When it cannot be reached, or is none.
pub fn open_store(loaded: &Loaded, app: &str, world: World<'_>) -> Result<Store, StoreError> {
    let spec = loaded.definition.store_of(app).map(|(_, spec)| spec.clone()).unwrap_or_default();
    Store::open(location_of(&spec, world.environment)?)
}

/// Tells what happens in a run of a group to the thread that listens to all of them.
struct Teller {
    number: usize,
    out: Sender<(usize, Told)>,
}

impl Listener for Teller {
    fn hear(&mut self, event: &Event) {
        // Nobody listens any more when the program ends.
        let _ = self.out.send((self.number, Told::Event(Box::new(event.clone()))));
    }
}

impl Audience for Teller {
    fn warn(&mut self, text: &str) {
        let _ = self.out.send((self.number, Told::Warning(text.to_owned())));
    }
}
