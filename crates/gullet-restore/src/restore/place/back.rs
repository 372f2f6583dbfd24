//! The guard of a restore in place, and taking back one that is done.

use std::sync::Arc;

use super::apply::{Applying, PlaceStep};
use super::attended::{WantedState, by_hand};
use super::busy::wait_for_users;
use super::journal::{Journal, JournalStage};
use gullet_host::state::State;
use gullet_host::world::{Stop, World};
use gullet_model::Reason;
use gullet_model::definition::{HoldStep, RestoreSpec};
use gullet_model::ids::random_id;
use gullet_model::words::{chain, millis};
use gullet_run::hold::{Guarded, Op, Order, notes_folder};

/// A restore may take as long as it takes; the guard only looks after what is left of it.
const NO_LIMIT_MS: u64 = 365 * 24 * 60 * 60 * 1000;

/// What the guard of a restore is told: the application is stopped as a hold step is entered, and started as one is left.
pub(super) fn order(journal: &Journal, spec: &RestoreSpec, state: &State, world: World<'_>) -> Order {
    let step = HoldStep {
        name: journal.app.clone(),
        enter: spec.stop.clone(),
        entered: spec.stopped.clone(),
        release: spec.start.clone(),
        released: spec.started.clone(),
        manual_release: spec.manual_start.clone(),
        ..HoldStep::default()
    };
    Order {
        app: journal.app.clone(),
        run: journal.id.clone(),
        token: random_id(world.random, 20),
        steps: vec![step],
        limit_ms: NO_LIMIT_MS,
        notes: notes_folder(state.folder()),
        scratch: state.folder().join("scratch"),
        host: world.host.clone(),
        by_hand: false,
        take_over: false,
        is_restore: true,
    }
}

/// Takes a restore back that is done: stops the application, puts the old state back, starts it. What was in place is kept.
///
/// # Errors
/// In words, and whether the application is left stopped.
pub fn take_back(journal: &Journal, spec: &RestoreSpec, with: &mut Applying<'_>) -> Result<(), (String, bool)> {
    let top = with.state.folder().to_path_buf();
    let mut journal = journal.clone();
    let order = order(&journal, spec, with.state, with.world);
    let lost = Arc::<Stop>::default();
    let mut guard = match spec.stop {
        None => None,
        Some(_) => Some(Guarded::start(with.guard, &order, &lost).map_err(|error| (chain(&error), false))?),
    };
    let stop = with.world.stop;
    let ask = |guard: &mut Option<Guarded>, op: Op| match guard {
        None => Ok(()),
        Some(guard) => guard.ask(op, stop).map_err(Reason::from).and_then(|answer| answer.result),
    };
    let mut since = with.world.clock.uptime();
    let mut tell = |with: &mut Applying<'_>, what: &str, result: &Result<(), Reason>| {
        let (ok, note) = (result.is_ok(), result.as_ref().err().map(ToString::to_string).unwrap_or_default());
        let now = with.world.clock.uptime();
        let took_ms = millis(now.saturating_sub(since));
        since = now;
        (with.tell)(&PlaceStep { what: what.to_owned(), ok, note, took_ms });
    };
    let stopped = ask(&mut guard, Op::Enter(0)).and_then(|()| ask(&mut guard, Op::Prove(0)));
    let stopped =
        stopped.or_else(|why| by_hand(with, spec, WantedState::Stopped, why, &mut |_| ask(&mut guard, Op::Prove(0))));
    tell(with, "stop", &stopped);
    let users = stopped.is_ok().then(|| wait_for_users(&journal.used_places(), with.world.clock));
    let free = match users.filter(|users| users.count > 0) {
        None => Ok(()),
        Some(users) => Err(Reason::new(users.words())),
    };
    let back = stopped.and(free).and_then(|()| {
        // Open from here on: whoever finds it puts the old state back.
        journal.stage(JournalStage::GoingBack, &top)?;
        super::journal::go_back(&top, &journal.app, with.world.clock).map(drop).map_err(Reason::from)
    });
    tell(with, "roll back", &back);
    let open = super::journal::is_open(&top, &journal.app);
    let started = if open {
        Err(Reason::new("the old state is not in place"))
    } else {
        let started = ask(&mut guard, Op::Release(0)).and_then(|()| ask(&mut guard, Op::ProveReleased(0)));
        started.or_else(|why| {
            by_hand(with, spec, WantedState::StartedAgain, why, &mut |_| ask(&mut guard, Op::ProveReleased(0)))
        })
    };
    if guard.is_some() {
        tell(with, "start", &started);
    }
    if let Some(guard) = guard {
        guard.finish(with.world.clock);
    }
    if back.is_ok()
        && started.is_err()
        && let Ok(Some(mut journal)) = Journal::load(&top, &journal.app)
        && let Err(error) = journal.stage(JournalStage::UndoneStopped, &top)
    {
        tell(with, "note that it does not start", &Err(error.into()));
    }
    match (back, started) {
        (Ok(()), Ok(())) => Ok(()),
        (Err(why), Ok(())) => Err((why.to_string(), false)),
        (Ok(()), Err(why)) => Err((format!("it does not start: {why}"), true)),
        (Err(why), Err(stuck)) => Err((format!("{why}; {stuck}"), true)),
    }
}
