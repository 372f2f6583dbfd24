//! `gullet hold` and `gullet release`.

use std::time::Duration;

use clap::Args;
use gullet_host::hook::{Call, Limits, Runner};
use gullet_host::state::State;
use gullet_host::world::{Clock, World};
use gullet_logbook::logbook::Logbook;
use gullet_model::Reason;
use gullet_model::definition::{App, HoldStep, Loaded, Span, load_state_alone};
use gullet_model::ids::random_id;
use gullet_model::step::StepKind;
use gullet_restore::restore::place::Journals;
use gullet_run::hold::{
    FoundNote, Guarded, HoldNote, InitialState, NoteError, NoteHead, NoteStatus, Op, Order, forgotten, initial_state,
    notes_folder,
};
use gullet_run::run::remark_declared;
use jiff::Timestamp;

use crate::args::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::{RealWorld, SystemClock, guard_commands};
use crate::table::table;
use crate::text::{duration, harmless, time};
use crate::ui::{BAD, GOOD, Ui, WARN, styled};

/// A limit that is longer is none: a restore in place stops the application for as long as it takes.
const LIMITLESS_MS: u64 = 300 * 24 * 60 * 60 * 1000;

/// Put an application into backup mode by hand
///
/// It is held until `gullet release`, or until the limit, when it is released by itself, even if this terminal is gone. A run
/// that follows takes the hold over, and leaves it at its end.
///
/// Example: gullet hold quaybook --limit 10m
#[derive(Args)]
pub struct HoldArgs {
    /// The application
    app: String,
    /// How long it is held at most; `max_hold` of the definition when nothing is said
    #[arg(long, value_name = "SPAN")]
    limit: Option<Span>,
    /// Stay and count down; Ctrl-C releases
    #[arg(long)]
    wait: bool,
}

/// Leave backup mode, or list what is held
///
/// Example: gullet release quaybook
#[derive(Args)]
pub struct ReleaseArgs {
    /// The application; without it all holds are listed
    app: Option<String>,
    /// Leave the holds whose processes are gone, of all applications
    #[arg(long, conflicts_with = "app")]
    forgotten: bool,
    /// Close the hold because a person has checked that nothing is held; kept in the logbook
    #[arg(long, value_name = "WHY", requires = "app")]
    declare: Option<String>,
}

pub fn hold(ui: &mut Ui, global: &Global, args: &HoldArgs) -> Result<Exit, CommandError> {
    let loaded = open::sound_definition(ui, global, std::slice::from_ref(&args.app))?;
    let state = open::state(&loaded)?;
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    crate::forgotten::settle(ui, &loaded, &state, &outside);
    let Some(spec) = loaded.definition.app.get(&args.app) else {
        return Err(CommandError::text(Exit::Usage, format!("the definition has no application `{}`", args.app)));
    };
    if spec.hold.is_empty() {
        let text = format!("`{}` has no hold steps: it is never held", args.app);
        return Err(CommandError::text(Exit::Usage, text));
    }
    let lock = state.lock(&args.app, &format!("hold by hand, process {}", std::process::id()))?;
    let limit = args.limit.map_or_else(|| spec.max_hold.map_or(Duration::from_secs(300), |span| span.0), |l| l.0);
    let world = outside.world();
    let order = Order {
        app: args.app.clone(),
        run: "by hand".to_owned(),
        token: random_id(world.random, 20),
        steps: spec.hold.clone(),
        limit_ms: u64::try_from(limit.as_millis()).unwrap_or(u64::MAX),
        notes: notes_folder(state.folder()),
        scratch: state.place(&["scratch"])?,
        host: world.host.clone(),
        by_hand: true,
        take_over: false,
        is_restore: false,
    };
    looks_first(spec, &args.app, &state, world)?;
    let mut guard = Guarded::start(&guard_commands(), &order, &std::sync::Arc::default())
        .map_err(|error| CommandError::new(Exit::Refused, &error).hint("`gullet release` lists what is held"))?;
    let entered = enter(ui, &mut guard, &spec.hold, world)
        .and_then(|()| guard.stay().map_err(|error| CommandError::new(Exit::Failed, &error)));
    if let Err(error) = entered {
        let left = leave(&mut guard, &spec.hold, world);
        guard.finish(world.clock);
        return match left.or_else(|why| left_all_the_same(&state, &args.app, &order.token, world).ok_or(why)) {
            Ok(()) => Err(error.hint("everything that was entered is left again")),
            Err(why) => Err(CommandError { exit: Exit::NotReleased, ..error }.hint(format!("not released: {why}"))),
        };
    }
    guard.finish(world.clock);
    drop(lock);
    let until = Timestamp::now() + jiff::SignedDuration::from_millis(i64::try_from(order.limit_ms).unwrap_or(0));
    ui.say(format!("{} {} is in backup mode (the hold)", styled(GOOD, "✓ held:"), args.app));
    ui.say(format!(
        "it is released by itself after {}, at {}; before that: gullet release {}",
        Span(limit),
        time(until),
        args.app
    ));
    if args.wait { wait(ui, &state, &args.app, &order.token, &outside) } else { Ok(Exit::Complete) }
}

/// Refuses to hold what somebody else holds, or of which it cannot be told: leaving would end what a person has begun.
fn looks_first(spec: &App, app: &str, state: &State, world: World<'_>) -> Result<(), CommandError> {
    let runner = Runner {
        world,
        app: app.to_owned(),
        run: "by hand".to_owned(),
        family: random_id(world.random, 12),
        folder: state.place(&["scratch"])?,
        top: state.folder().to_path_buf(),
    };
    for step in &spec.hold {
        let call = Call { moment: "probe", limit: Limits::PROBE, ..Call::default() };
        let refuse =
            |why: &str| CommandError::text(Exit::Refused, format!("{}: {why}", step.name)).hint("nothing was touched");
        match initial_state(step, &mut |probes| runner.ask(probes, &call).result) {
            InitialState::Serving | InitialState::NotAsked => {}
            InitialState::Held => return Err(refuse("the application is held already, by somebody else")),
            InitialState::Unknown(why) => return Err(refuse(&why)),
        }
    }
    Ok(())
}

/// Whether a hold that could not be left through its guard is left: by the guard itself, or now.
fn left_all_the_same(state: &State, app: &str, token: &str, world: World<'_>) -> Option<()> {
    let notes = notes_folder(state.folder());
    HoldNote::await_owner_gone(&notes, app, Duration::from_secs(5), world.clock);
    match HoldNote::status(&notes, app) {
        NoteStatus::Over(head) => (head.token == token).then_some(()),
        NoteStatus::Forgotten(_) => forgotten::leave(&notes, app, world, state.folder(), &Journals).ok()??.left.ok(),
        NoteStatus::Nothing => Some(()),
        NoteStatus::Owned(_) | NoteStatus::Unreadable => None,
    }
}

fn enter(ui: &mut Ui, guard: &mut Guarded, steps: &[HoldStep], world: World<'_>) -> Result<(), CommandError> {
    let fails = |why: Reason| {
        let exit = if world.stop.asked().is_some() { Exit::Interrupted } else { Exit::Failed };
        CommandError::text(exit, why)
    };
    let locked = guard.ask(Op::Lock, world.stop).map_err(Reason::from).and_then(|answer| answer.result);
    locked.map_err(fails)?;
    for (number, step) in steps.iter().enumerate() {
        for (op, kind) in [
            (Op::Enter(number), StepKind::Enter),
            (Op::Drain(number), StepKind::Drain),
            (Op::Prove(number), StepKind::Prove),
        ] {
            let there = match op {
                Op::Drain(_) => step.drained.is_some(),
                Op::Prove(_) => step.entered.is_some(),
                _ => true,
            };
            if !there {
                continue;
            }
            let answer = guard.ask(op, world.stop).map_err(Reason::from).and_then(|answer| answer.result);
            let what = kind.words();
            answer.map_err(|why| fails(why.at(format_args!("{}: {what}", step.name))))?;
            ui.say(format!("  {} {what:<14} {}", styled(GOOD, "✓"), step.name));
        }
        if world.stop.asked().is_some() {
            return Err(CommandError::text(Exit::Interrupted, "stopped by a signal"));
        }
    }
    Ok(())
}

fn leave(guard: &mut Guarded, steps: &[HoldStep], world: World<'_>) -> Result<(), Reason> {
    let mut result = Ok(());
    for (number, step) in steps.iter().enumerate().rev() {
        for op in [Op::Release(number), Op::ProveReleased(number)] {
            let answer = guard.ask(op, world.stop)?;
            // Where there is a probe it decides, not what `release` said of itself.
            if let Err(why) = answer.result
                && (step.released.is_none() || matches!(op, Op::ProveReleased(_)))
            {
                result = Err(why);
            }
        }
    }
    result
}

/// Counts down until the hold is over; a signal releases it.
fn wait(ui: &mut Ui, state: &State, app: &str, token: &str, outside: &RealWorld) -> Result<Exit, CommandError> {
    let world = outside.world();
    loop {
        let head = HoldNote::peek(&notes_folder(state.folder()), app)
            .filter(|head| head.token == token && !head.state.is_over());
        let Some(head) = head else {
            ui.say(format!("{} {app} is released", styled(GOOD, "✓")));
            return Ok(Exit::Complete);
        };
        if world.stop.asked().is_some() {
            return release_one(ui, state, app, outside);
        }
        ui.progress(&format!("{app} is held, {} left; Ctrl-C releases it", duration(remaining(&head))));
        world.clock.sleep(Duration::from_millis(100));
    }
}

/// How long until it is released by itself, in milliseconds; by the clock that the guard goes by, where that is known.
fn remaining(head: &NoteHead) -> u64 {
    let gone = match (head.began_uptime(), head.began) {
        (Some(began), _) => SystemClock.uptime().saturating_sub(began).as_millis(),
        (None, Some(began)) => u128::try_from(Timestamp::now().duration_since(began).as_millis()).unwrap_or(0),
        (None, None) => 0,
    };
    head.limit_ms.saturating_sub(u64::try_from(gone).unwrap_or(u64::MAX))
}

/// The definition, as far as it is needed to release: what is held is noted in the state folder with the commands that release it. An
/// error in the definition keeps nobody held.
fn to_release(ui: &mut Ui, global: &Global) -> Result<Loaded, CommandError> {
    match open::sound_definition(ui, global, &[]) {
        Err(error) if !error.flaws.is_empty() => {
            ui.error(&error);
            Ok(load_state_alone(&open::path_of(global)?))
        }
        other => other,
    }
}

pub fn release(ui: &mut Ui, global: &Global, args: &ReleaseArgs) -> Result<Exit, CommandError> {
    let loaded = to_release(ui, global)?;
    let state = open::state(&loaded)?;
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    if let (Some(app), Some(why)) = (&args.app, &args.declare) {
        return declare(ui, &loaded, &state, app, why, &outside);
    }
    let all_left = crate::forgotten::settle(ui, &loaded, &state, &outside);
    if args.forgotten {
        return Ok(if all_left { Exit::Complete } else { Exit::NotReleased });
    }
    match &args.app {
        Some(app) => {
            let is_known = loaded.definition.app.contains_key(app);
            if !is_known && HoldNote::status(&notes_folder(state.folder()), app) == NoteStatus::Nothing {
                let text = format!("the definition has no application `{app}`, and nothing of that name is held");
                let known: Vec<&str> = loaded.definition.app.keys().map(String::as_str).collect();
                return Err(CommandError::text(Exit::Usage, text).hint(format!("it defines: {}", known.join(", "))));
            }
            release_one(ui, &state, app, &outside)
        }
        None => {
            // A process that was still ending when its hold was looked at has let go of it since.
            if is_forgotten_now(&state) {
                crate::forgotten::settle(ui, &loaded, &state, &outside);
            }
            list(ui, &state)
        }
    }
}

/// Whether something is held that nobody owns.
fn is_forgotten_now(state: &State) -> bool {
    let notes = notes_folder(state.folder());
    HoldNote::all(&notes).iter().any(|app| matches!(HoldNote::status(&notes, app), NoteStatus::Forgotten(_)))
}

fn list(ui: &mut Ui, state: &State) -> Result<Exit, CommandError> {
    let notes = notes_folder(state.folder());
    let with_note = |app: String| {
        let note = HoldNote::status(&notes, &app);
        (app, note)
    };
    let mut held: Vec<(String, NoteStatus)> = HoldNote::all(&notes).into_iter().map(with_note).collect();
    held.retain(|(_, note)| match note {
        NoteStatus::Owned(head) => !head.entered.is_empty(),
        NoteStatus::Forgotten(_) | NoteStatus::Unreadable => true,
        NoteStatus::Nothing | NoteStatus::Over(_) => false,
    });
    if ui.is_json() {
        ui.json(&held.iter().filter_map(|(_, note)| note.head()).collect::<Vec<_>>())?;
    } else if held.is_empty() {
        ui.say("nothing is held");
    } else {
        let rows = held.iter().map(|(app, note)| {
            let Some(head) = note.head() else {
                let how = styled(BAD, "✗ not known");
                let why = "its hold note cannot be read, so it may be held";
                return [app, &how, "-", "-", "-", why].map(str::to_owned).to_vec();
            };
            let who = if head.by_hand { "by hand".to_owned() } else { format!("run {}", head.run) };
            let how = match (&head.why, note) {
                (Some(_), _) => styled(BAD, "✗ cannot be released"),
                (None, NoteStatus::Forgotten(_)) => styled(BAD, "✗ held, and nobody releases it"),
                (None, _) => styled(WARN, "! held"),
            };
            let since = head.began.map_or_else(|| "-".to_owned(), time);
            let has_limit = head.why.is_none() && head.limit_ms < LIMITLESS_MS;
            let left = if has_limit { duration(remaining(head)) } else { "-".to_owned() };
            vec![head.app.clone(), how, who, since, left, harmless(head.why.as_deref().unwrap_or(""))]
        });
        ui.say(table(&["application", "state", "by", "since", ">released by itself in", "why"], rows.collect()));
    }
    let unknown = held.iter().any(|(_, note)| *note == NoteStatus::Unreadable);
    Ok(if unknown { Exit::NotReleased } else { Exit::Complete })
}

/// Tells the guard of a hold to leave, and waits for it.
fn release_one(ui: &mut Ui, state: &State, app: &str, outside: &RealWorld) -> Result<Exit, CommandError> {
    let notes = notes_folder(state.folder());
    let world = outside.world();
    let stuck = |why: &str, by_hand: &[String]| {
        let mut error = CommandError::text(Exit::NotReleased, format!("`{app}` is not released: {why}"));
        error.hints.extend(by_hand.iter().cloned());
        error.hint(format!(
            "when you have checked by hand that it serves: gullet release {app} --declare \"checked by hand\""
        ))
    };
    let looked = HoldNote::look(&notes, app).map_err(|error| stuck(&error.to_string(), &[]))?;
    let head = match looked {
        FoundNote::Nothing => {
            ui.say(format!("{app} is not held"));
            return Ok(Exit::Complete);
        }
        FoundNote::Forgotten(note, _) => {
            drop(note);
            let found = forgotten::leave(&notes, app, world, state.folder(), &Journals);
            return match found.map_err(|error| CommandError::new(Exit::Failed, &error))? {
                Some(found) => match found.left {
                    Ok(()) => released(ui, app),
                    Err(why) => Err(stuck(&why.to_string(), &found.by_hand)),
                },
                // Another guard is taking it over in this moment.
                None => Err(stuck("it is changing hands; try again", &[])),
            };
        }
        FoundNote::Alive(head) => head,
    };
    let Some(head) = head else {
        return Err(CommandError::text(Exit::Failed, "the hold note is in use and cannot be read; try again"));
    };
    tell(&head, rustix::process::Signal::TERM);
    let notes = &notes;
    let began = world.clock.uptime();
    while world.clock.uptime().saturating_sub(began) < Duration::from_secs(60) {
        match HoldNote::peek(notes, app) {
            // One that cannot be read says nothing, and least of all that nothing is held.
            None => {}
            Some(now) if now.token == head.token && !now.state.is_over() => {
                // What stood there before it was asked says nothing about now.
                let has_tried = now.state == gullet_run::hold::NoteState::Leaving && now.heeded > head.heeded;
                if let Some(why) = now.why.filter(|_| has_tried) {
                    return Err(stuck(&why, &[]));
                }
                ui.progress(&format!("releasing {app}"));
            }
            Some(_) => return released(ui, app),
        }
        world.clock.sleep(Duration::from_millis(25));
    }
    Err(stuck("its guard did not answer within a minute", &[]))
}

fn released(ui: &mut Ui, app: &str) -> Result<Exit, CommandError> {
    ui.say(format!("{} {app}", styled(GOOD, "✓ released:")));
    Ok(Exit::Complete)
}

/// Sends a signal to the guard that owns a note, and to no other process that has its number now.
fn tell(head: &NoteHead, signal: rustix::process::Signal) {
    if let Some(guard) = head.owner() {
        guard.signal(signal);
    }
}

fn declare(
    ui: &mut Ui,
    loaded: &Loaded,
    state: &State,
    app: &str,
    why: &str,
    outside: &RealWorld,
) -> Result<Exit, CommandError> {
    let notes = notes_folder(state.folder());
    let clock: &dyn Clock = outside.world().clock;
    let mut held = None;
    for _ in 0..100 {
        let looked = match HoldNote::look(&notes, app) {
            Err(NoteError::Unreadable(_)) => {
                let aside = HoldNote::set_aside(&notes, app, Timestamp::now());
                let aside = aside.map_err(|error| CommandError::new(Exit::Failed, &error))?;
                let declared = format!("the hold of {app} is closed: {}", harmless(why));
                ui.say(format!(
                    "{} {declared}; its damaged note is kept as {}",
                    styled(WARN, "! declared:"),
                    aside.display()
                ));
                return Ok(Exit::Complete);
            }
            other => other.map_err(|error| CommandError::new(Exit::Failed, &error))?,
        };
        match looked {
            FoundNote::Nothing => {
                ui.say(format!("{app} is not held"));
                return Ok(Exit::Complete);
            }
            // A guard that goes on trying what a person has done already is ended.
            FoundNote::Alive(Some(head)) if head.why.is_some() => {
                held = None;
                tell(&head, rustix::process::Signal::KILL);
            }
            // A guard leaves first and writes afterwards: why it could not may come a moment after its run has ended.
            FoundNote::Alive(head) => held = head,
            FoundNote::Forgotten(mut note, _) => {
                let text = format!("declared by {}: {why}", outside.world().host.account);
                note.declare(text.clone()).map_err(|error| CommandError::new(Exit::Failed, &error))?;
                let log = state.log(app, &format!("declared-{}", note.head().token));
                if let Ok((path, mut file)) = log {
                    let event = serde_json::json!({ "at": Timestamp::now(), "app": app, "run": note.head().run, "declared": text });
                    let _ = std::io::Write::write_all(&mut file, format!("{event}\n").as_bytes());
                    let _ = state.close_log(&path);
                }
                remark(ui, loaded, state, (app, &note.head().run), &text, outside.world());
                ui.say(format!("{} the hold of {app} is closed: {}", styled(WARN, "! declared:"), harmless(why)));
                return Ok(Exit::Complete);
            }
        }
        clock.sleep(Duration::from_millis(20));
    }
    Err(match held {
        Some(head) => {
            CommandError::text(Exit::Refused, format!("`{app}` is held {}; release it first", head.describe()))
                .hint(format!("gullet release {app}"))
        }
        None => CommandError::text(Exit::Failed, "the guard of the hold does not go"),
    })
}

/// Remarks upon the run that held, where it has a record and the store can be reached; the log has it in any case.
fn remark(ui: &mut Ui, loaded: &Loaded, state: &State, (app, run): (&str, &str), text: &str, world: World<'_>) {
    let Some((_, spec)) = loaded.definition.store_of(app) else { return };
    let Ok(store) = open::store_at(spec) else { return };
    let book = Logbook::read(&store, Some(app), Some(state)).unwrap_or_default();
    let of_run = book.runs.iter().find(|logged| logged.record.run.as_str() == run && logged.in_store);
    if let Some(logged) = of_run
        && let Err(error) = remark_declared(&store, logged, text, world, state)
    {
        ui.warning(&format!("the store could not be told: {error}"));
    }
}
