//! The guard: a second process that owns the hold.
//!
//! It has all it needs in memory, works in `/`, in a session of its own, and needs no write to leave: leave first, write
//! afterwards. It releases by itself at the limit, when main dies (its standard input ends), or when it is told by a signal.
//! What does not let go is tried again, with growing pauses, until its probe says so.

use std::io::{BufRead, BufReader, Read, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::time::Duration;

use rustix::process::Signal;

use super::keeper::Keeper;
use super::note::{FoundNote, HoldNote, NoteError, NoteHead};
use super::old_state::OldState;
use super::protocol::{FromGuard, FromMain, Loss, Op, Order};
use gullet_host::hook::Runner;
use gullet_host::world::{Stop, World};
use gullet_model::Reason;
use gullet_model::definition::Span;
use gullet_model::problem::ProblemKind;
use gullet_model::words::millis;

/// How often the limit and the signals are looked at.
const TICK: Duration = Duration::from_millis(25);
/// The pause between two tries of leaving grows from the first to the second.
const PAUSES: (Duration, Duration) = (Duration::from_millis(500), Duration::from_secs(30));
/// How long another guard may take to let go of a hold that is taken over.
const HANDS_OVER_WITHIN: Duration = Duration::from_secs(5);

/// How long a main that has begun to leave may take from one word to the next, before the guard leaves without it.
const MAIN_MAY_TAKE: Duration = Duration::from_secs(3);
/// How often it says that it lives.
const BEAT: Duration = Duration::from_secs(1);

/// How a guard is told from outside its pipe.
#[derive(Clone, Default)]
pub struct Signals {
    /// To leave at once.
    pub leave: Arc<Stop>,
    /// Set together with it: cuts short what is being done, unless that is leaving.
    pub cancel: Arc<Stop>,
    /// To let go of the note without leaving: another guard takes the hold over.
    pub hand_over: Arc<Stop>,
}

/// Serves as a guard until nothing is held any more.
///
/// # Errors
/// When it cannot even begin; nothing is held then.
pub fn serve(
    world: World<'_>,
    input: impl Read + Send + 'static,
    output: impl Write + Send + 'static,
    told: &Signals,
    old_state: &dyn OldState,
) -> Result<(), Reason> {
    let mut input = BufReader::new(input);
    let mut line = String::new();
    input.read_line(&mut line)?;
    let order: Order = serde_json::from_str(&line)?;
    let answers = write_answers(output);
    let cancel = Arc::clone(&told.cancel);
    let world = World { host: &order.host, stop: &cancel, ..world };
    let (note, entered) = match own_note(&order, &world) {
        Ok(found) => found,
        Err(why) => {
            let _ = answers.send(FromGuard::Refused { why: why.to_string() });
            world.clock.sleep(Duration::from_millis(100));
            return Err(why);
        }
    };
    let runner = Runner {
        world,
        app: order.app.clone(),
        run: order.run.clone(),
        family: order.token.clone(),
        folder: order.scratch.clone(),
        top: order.notes.parent().unwrap_or(&order.notes).to_path_buf(),
    };
    let limit = Duration::from_millis(order.limit_ms);
    let keeper = Keeper::new(runner, order.steps.clone(), limit, Some(note), entered.clone(), old_state);
    let keeper = keeper.of_restore(order.is_restore);
    let _ = answers.send(FromGuard::Ready { taken_over: entered, held_ms: millis(keeper.held()) });
    beat(answers.clone());
    let main = MainSignals { cancel: Arc::clone(&cancel), ..MainSignals::default() };
    let requests = read_requests(input, main.clone());
    let guard = Guard {
        world,
        order: &order,
        keeper,
        answers,
        main,
        told,
        leaving: None,
        saw_main_go: false,
        handed_over: 0,
        heeded: 0,
    };
    guard.serve(&requests);
    Ok(())
}

/// Says again and again that this process lives, whatever else it is waiting for: one that was stopped does not.
#[allow(
    clippy::disallowed_methods,
    reason = "the clock that is handed in cannot go to a thread that outlives the call"
)]
fn beat(answers: Sender<FromGuard>) {
    std::thread::spawn(move || {
        while answers.send(FromGuard::Alive).is_ok() {
            std::thread::sleep(BEAT);
        }
    });
}

/// Takes the note of the hold: a new one, or that of a hold by hand.
fn own_note(order: &Order, world: &World<'_>) -> Result<(HoldNote, Vec<usize>), Reason> {
    let began = world.clock.uptime();
    let mut asked = false;
    loop {
        let found = HoldNote::look(&order.notes, &order.app)?;
        match found {
            FoundNote::Alive(Some(head)) if order.take_over && head.by_hand => {
                // Its guard lets go of the note, and owns the hold again where this one does not come to own it.
                if !std::mem::replace(&mut asked, true) {
                    let _ = head.owner().is_some_and(|guard| guard.signal(Signal::USR1));
                }
                if world.clock.uptime().saturating_sub(began) > HANDS_OVER_WITHIN {
                    return Err(NoteError::Held(head).into());
                }
                world.clock.sleep(TICK);
            }
            FoundNote::Forgotten(note, _) if order.take_over && note.head().by_hand => {
                let entered = note.head().entered.clone();
                let note = note.take_over(&order.run, &order.token, order.limit_ms);
                return note.map(|note| (note, entered)).map_err(Reason::from);
            }
            _ => {
                let note = HoldNote::create(&order.notes, NoteHead::new(order), &order.steps);
                return note.map(|note| (note, Vec::new())).map_err(Reason::from);
            }
        }
    }
}

/// Writes on a thread of its own: a main that is stopped and reads nothing must not keep the guard from leaving.
fn write_answers(mut output: impl Write + Send + 'static) -> Sender<FromGuard> {
    let (send, answers) = channel::<FromGuard>();
    std::thread::spawn(move || {
        for answer in answers {
            let Ok(mut line) = serde_json::to_vec(&answer) else { continue };
            line.push(b'\n');
            if output.write_all(&line).and_then(|()| output.flush()).is_err() {
                return;
            }
        }
    });
    send
}

/// What main says besides operations.
#[derive(Clone, Default)]
struct MainSignals {
    /// Set when it is gone.
    gone: Arc<Stop>,
    /// Cuts short what is being done for it, unless it is leaving.
    cancel: Arc<Stop>,
    /// Set when a hold by hand is complete, so that it stays when main ends.
    stays: Arc<Stop>,
}

fn read_requests(input: impl BufRead + Send + 'static, told: MainSignals) -> Receiver<Op> {
    let (send, requests) = channel();
    std::thread::spawn(move || {
        for line in input.lines().map_while(Result::ok) {
            match serde_json::from_str(&line) {
                Ok(FromMain::Do(op)) if send.send(op).is_ok() => {}
                Ok(FromMain::Cancel) => told.cancel.ask(15),
                Ok(FromMain::Stay) => told.stays.ask(1),
                _ => break,
            }
        }
        told.gone.ask(1);
        told.cancel.ask(1);
    });
    requests
}

/// Leaving that has begun and has not come to its end.
struct Leaving {
    why: String,
    /// The uptime at which it is tried again.
    next: Duration,
    pause: Duration,
}

struct Guard<'a, 'w> {
    world: World<'w>,
    order: &'a Order,
    keeper: Keeper<'w>,
    answers: Sender<FromGuard>,
    main: MainSignals,
    told: &'a Signals,
    /// Set once leaving has begun: nothing is entered any more.
    leaving: Option<Leaving>,
    saw_main_go: bool,
    /// How often it was asked to hand over, as far as it has heeded that.
    handed_over: u32,
    /// How often it was told to leave, as far as a try to leave has heeded that.
    heeded: u32,
}

impl Guard<'_, '_> {
    fn serve(mut self, requests: &Receiver<Op>) {
        loop {
            let asked = self.told.hand_over.times();
            if asked > std::mem::replace(&mut self.handed_over, asked)
                && self.order.by_hand
                && self.leaving.is_none()
                && !self.keeper.has_sessions()
                && self.hand_over()
            {
                return;
            }
            if let Some(lost) = self.keeper.lost_session() {
                self.lose(Loss::of_hold(lost));
            }
            if let Some(loss) = self.reason_to_leave() {
                self.begin_leaving(loss);
            }
            self.heed();
            if self.is_due() && !self.leave_again() {
                return;
            }
            let main_gone = self.main.gone.asked().is_some();
            if main_gone && !std::mem::replace(&mut self.saw_main_go, true) {
                // Nobody else goes on with leaving now.
                let now = self.world.clock.uptime();
                self.leaving.iter_mut().for_each(|leaving| leaving.next = now);
            }
            if !self.keeper.holds() && (main_gone || (self.order.by_hand && self.leaving.is_some())) {
                return;
            }
            match requests.recv_timeout(TICK) {
                Ok(op) => self.answer(op),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => self.world.clock.sleep(TICK),
            }
        }
    }

    /// Lets another guard take the hold over, and owns it again where that does not happen. Whether it was taken over.
    fn hand_over(&mut self) -> bool {
        let deadline = self.keeper.deadline();
        let clock = self.world.clock;
        let Some(note) = self.keeper.note() else { return false };
        let began = clock.uptime();
        note.unlock();
        loop {
            if note.is_taken_over() {
                return true;
            }
            let now = clock.uptime();
            let over = deadline.is_some_and(|at| now >= at);
            // Who has the lock and has not written yet is about to; where nobody has it, nobody comes.
            if (over || now.saturating_sub(began) > HANDS_OVER_WITHIN) && note.lock_again() {
                return note.is_taken_over();
            }
            clock.sleep(TICK);
        }
    }

    fn reason_to_leave(&self) -> Option<Loss> {
        if !self.keeper.holds() || self.leaving.is_some() {
            return None;
        }
        if self.told.leave.asked().is_some() {
            return Some(Loss::of_hold("told to by a signal"));
        }
        if self.keeper.deadline().is_some_and(|at| self.world.clock.uptime() >= at) {
            let limit = Span(Duration::from_millis(self.order.limit_ms));
            let why = format!("the hold reached its limit of {limit}");
            return Some(Loss { kind: ProblemKind::HoldLimit, why });
        }
        // A hold by hand stays when its command ends, once it is complete.
        let is_left_alone = self.main.gone.asked().is_some() && self.main.stays.asked().is_none();
        is_left_alone.then(|| Loss::of_hold("the process that held it is gone"))
    }

    fn lose(&mut self, loss: Loss) {
        let _ = self.answers.send(FromGuard::Lost { loss, at: self.world.clock.now() });
    }

    fn begin_leaving(&mut self, Loss { kind, why }: Loss) {
        self.heeded = self.told.leave.times();
        let left = self.keeper.leave_all(&why, &self.told.leave);
        let next = self.world.clock.uptime() + PAUSES.0;
        self.leaving = Some(Leaving { why: why.clone(), next, pause: PAUSES.0 });
        // It is tried again until it lets go, whatever main does meanwhile.
        let why = match left {
            Ok(()) => why,
            Err(stuck) => format!("{why}; {stuck}"),
        };
        self.lose(Loss { kind, why });
    }

    /// Tries again at once where somebody asked for it since the last try.
    fn heed(&mut self) {
        let (told, now) = (self.told.leave.times(), self.world.clock.uptime());
        if let Some(leaving) = self.leaving.as_mut().filter(|_| told > self.heeded) {
            (leaving.next, leaving.pause) = (now, PAUSES.0);
        }
    }

    /// Whether leaving is to be tried again now.
    fn is_due(&self) -> bool {
        let due = self.leaving.as_ref().is_some_and(|leaving| self.world.clock.uptime() >= leaving.next);
        // While a restore in place lives, it decides which state is started.
        let is_mine = !self.order.is_restore || self.main.gone.asked().is_some();
        self.keeper.holds() && due && is_mine
    }

    /// Tries once more to leave. False where there is nothing left to keep: somebody else has closed the note, or has a new one.
    fn leave_again(&mut self) -> bool {
        let why = self.leaving.as_ref().map(|leaving| leaving.why.clone()).unwrap_or_default();
        if self.keeper.note().is_some_and(|note| note.is_superseded()) {
            return false;
        }
        self.heeded = self.told.leave.times();
        if self.keeper.leave_all(&why, &self.told.leave).is_ok() {
            let _ = self.answers.send(FromGuard::Released);
        }
        if let Some(leaving) = &mut self.leaving {
            leaving.next = self.world.clock.uptime() + leaving.pause;
            leaving.pause = (leaving.pause * 2).min(PAUSES.1);
        }
        true
    }

    fn answer(&mut self, op: Op) {
        if self.leaving.is_some() && matches!(op, Op::Enter(_)) {
            // Whoever was stopped and goes on later must not hold again what was let go.
            let result = Err(Reason::new("the hold was left, so nothing more is entered"));
            let answer =
                super::GuardAnswer { result, commands: Vec::new(), warnings: Vec::new(), held_ms: 0, waited_ms: 0 };
            let _ = self.answers.send(FromGuard::Done(Box::new(answer)));
            return;
        }
        let answer = self.keeper.perform(op, &self.main.cancel);
        // Why it was cut short is told before that it was.
        if let Some(loss) = self.reason_to_leave().filter(|_| answer.result.is_err()) {
            self.begin_leaving(loss);
        }
        let _ = self.answers.send(FromGuard::Done(Box::new(answer)));
        if matches!(op, Op::Release(_) | Op::ProveReleased(_)) {
            // Main leaves step by step. Where it stops doing so, the guard goes on: main may be stopped, or wait for a person.
            let next = self.world.clock.uptime() + MAIN_MAY_TAKE;
            let why = "it could not be released at once".to_owned();
            let leaving = self.leaving.get_or_insert(Leaving { why, next, pause: PAUSES.0 });
            leaving.next = leaving.next.max(next);
        }
    }
}

/// Whether the hold with this token was left at main's request only: what a main asks before it commits. One that was
/// stopped and goes on later finds that its guard has released by itself.
pub fn was_left_as_asked(notes: &Path, app: &str, token: &str) -> bool {
    HoldNote::peek(notes, app).is_some_and(|head| head.token == token && head.why.is_none())
}

/// Whether the hold with this token still stands.
pub fn still_stands(notes: &Path, app: &str, token: &str) -> bool {
    HoldNote::peek(notes, app).is_some_and(|head| head.token == token && head.state == super::NoteState::Held)
}
