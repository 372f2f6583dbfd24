//! The guard: a second process that owns the hold.
//!
//! It has all it needs in memory, works in `/`, in a session of its own, and needs no write to leave: leave first, write
//! afterwards. It leaves by itself at the limit, when main dies (its standard input ends), or when it is told by a signal.
//! What does not let go is tried again, with growing pauses, until its probe says so.

use std::io::{BufRead, BufReader, Read, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::time::Duration;

use super::keeper::Keeper;
use super::note::{Note, NoteError, NoteHead, Stuck};
use super::protocol::{FromGuard, FromMain, Op, Order};
use crate::definition::Span;
use crate::hook::Runner;
use crate::world::{Stop, World};

/// How often the limit and the signals are looked at.
const TICK: Duration = Duration::from_millis(25);
/// The pause between two tries of leaving grows from the first to the second.
const PAUSES: (Duration, Duration) = (Duration::from_millis(500), Duration::from_secs(30));
/// How long another guard may take to let go of a hold that is taken over.
const HANDS_OVER_WITHIN: Duration = Duration::from_secs(5);

/// How a guard is told from outside its pipe.
#[derive(Clone, Default)]
pub struct Told {
    /// To leave at once.
    pub leave: Arc<Stop>,
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
    told: &Told,
) -> Result<(), String> {
    let mut input = BufReader::new(input);
    let mut line = String::new();
    input.read_line(&mut line).map_err(|error| error.to_string())?;
    let order: Order = serde_json::from_str(&line).map_err(|error| error.to_string())?;
    let answers = write_answers(output);
    let (main_gone, cancel) = (Arc::new(Stop::default()), Arc::new(Stop::default()));
    let world = World { host: &order.host, stop: &cancel, ..world };
    let (note, entered) = match own_note(&order, &world) {
        Ok(found) => found,
        Err(why) => {
            let _ = answers.send(FromGuard::Refused { why: why.clone() });
            world.clock.sleep(Duration::from_millis(100));
            return Err(why);
        }
    };
    let runner = Runner {
        world,
        app: order.app.clone(),
        run: order.run.clone(),
        folder: order.scratch.clone(),
        top: order.notes.parent().unwrap_or(&order.notes).to_path_buf(),
    };
    let limit = Duration::from_millis(order.limit_ms);
    let keeper = Keeper::new(runner, order.steps.clone(), limit, Some(note), entered.clone());
    let _ = answers.send(FromGuard::Ready { taken_over: entered });
    let requests = read_requests(input, Arc::clone(&main_gone), Arc::clone(&cancel));
    Guard { world, order: &order, keeper, answers, main_gone, cancel: Arc::clone(&cancel), told, gone: false }
        .serve(&requests);
    Ok(())
}

/// Takes the note of the hold: a new one, or that of a hold by hand.
fn own_note(order: &Order, world: &World<'_>) -> Result<(Note, Vec<usize>), String> {
    let began = world.clock.uptime();
    loop {
        let found = Note::look(&order.notes, &order.app).map_err(|error| crate::part::chain(&error))?;
        match found {
            Stuck::Alive(Some(head)) if order.take_over && head.by_hand => {
                if world.clock.uptime().saturating_sub(began) > HANDS_OVER_WITHIN {
                    return Err(NoteError::Held(head).to_string());
                }
                world.clock.sleep(TICK);
            }
            Stuck::Forgotten(note, _) if order.take_over && note.head().by_hand => {
                let entered = note.head().entered.clone();
                let note = note.take_over(&order.run, &order.token, order.limit_ms);
                return note.map(|note| (note, entered)).map_err(|error| crate::part::chain(&error));
            }
            _ => {
                let note = Note::create(&order.notes, NoteHead::new(order), &order.steps);
                return note.map(|note| (note, Vec::new())).map_err(|error| crate::part::chain(&error));
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

fn read_requests(input: impl BufRead + Send + 'static, main_gone: Arc<Stop>, cancel: Arc<Stop>) -> Receiver<Op> {
    let (send, requests) = channel();
    std::thread::spawn(move || {
        for line in input.lines().map_while(Result::ok) {
            match serde_json::from_str(&line) {
                Ok(FromMain::Do(op)) if send.send(op).is_ok() => {}
                Ok(FromMain::Cancel) => cancel.ask(15),
                _ => break,
            }
        }
        main_gone.ask(1);
        cancel.ask(1);
    });
    requests
}

struct Guard<'a, 'w> {
    world: World<'w>,
    order: &'a Order,
    keeper: Keeper<'w>,
    answers: Sender<FromGuard>,
    main_gone: Arc<Stop>,
    /// Cuts short what is being done for main, unless it is leaving.
    cancel: Arc<Stop>,
    told: &'a Told,
    /// Whether it has left by itself: nothing is entered any more.
    gone: bool,
}

impl Guard<'_, '_> {
    fn serve(mut self, requests: &Receiver<Op>) {
        loop {
            if self.told.hand_over.asked().is_some() && self.order.by_hand && !self.keeper.has_sessions() {
                return;
            }
            if let Some(lost) = self.keeper.lost_session() {
                self.lose(lost);
            }
            if let Some(why) = self.reason_to_leave() {
                self.leave(&why);
            }
            let main_matters = !self.order.by_hand;
            if self.main_gone.asked().is_some() && (main_matters || self.gone || !self.keeper.holds()) {
                // Nothing is held, or nobody is left to let it go but us.
                return self.let_go("the process that held it is gone");
            }
            if self.gone && self.order.by_hand && !self.keeper.holds() {
                return;
            }
            match requests.recv_timeout(TICK) {
                Ok(op) => self.answer(op),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => self.world.clock.sleep(TICK),
            }
        }
    }

    fn reason_to_leave(&self) -> Option<String> {
        if !self.keeper.holds() || self.gone {
            return None;
        }
        if self.told.leave.asked().is_some() {
            return Some("told to by a signal".to_owned());
        }
        let over = self.keeper.deadline().is_some_and(|at| self.world.clock.uptime() >= at);
        let limit = Span(Duration::from_millis(self.order.limit_ms));
        over.then(|| format!("the hold reached its limit of {limit}"))
    }

    fn lose(&mut self, why: String) {
        let _ = self.answers.send(FromGuard::Lost { why, at: self.world.clock.now() });
    }

    fn leave(&mut self, why: &str) {
        self.gone = true;
        let left = self.keeper.leave_all(why);
        // What does not let go is tried again when main is gone: until then main may still want an answer.
        self.lose(match left {
            Ok(()) => why.to_owned(),
            Err(stuck) => format!("{why}; {stuck}"),
        });
    }

    fn answer(&mut self, op: Op) {
        if self.gone && matches!(op, Op::Enter(_)) {
            // Whoever was stopped and goes on later must not hold again what was let go.
            let result = Err("the hold was left, so nothing more is entered".to_owned());
            let answer = super::Answer { result, commands: Vec::new(), warnings: Vec::new(), held_ms: 0, waited_ms: 0 };
            let _ = self.answers.send(FromGuard::Done(Box::new(answer)));
            return;
        }
        let answer = self.keeper.perform(op, &self.cancel);
        let _ = self.answers.send(FromGuard::Done(Box::new(answer)));
    }

    /// Leaves what is still held, again and again until it lets go.
    fn let_go(&mut self, why: &str) {
        let mut pause = PAUSES.0;
        while self.keeper.holds() {
            if self.keeper.leave_all(why).is_ok() {
                return;
            }
            let until = self.world.clock.uptime() + pause;
            while self.world.clock.uptime() < until {
                self.world.clock.sleep(TICK);
            }
            pause = (pause * 2).min(PAUSES.1);
            // The note is gone or was closed by somebody else, so there is nothing left to keep.
            if !self.keeper.note().is_some_and(|note| note.is_in_place()) {
                return;
            }
        }
    }
}

/// Whether the hold with this token was left at main's request only: what a main asks before it commits. One that was
/// stopped and goes on later finds that its guard has left by itself.
pub fn was_left_as_asked(notes: &Path, app: &str, token: &str) -> bool {
    Note::peek(notes, app).is_some_and(|head| head.token == token && head.why.is_none())
}

/// Whether the hold with this token still stands.
pub fn still_stands(notes: &Path, app: &str, token: &str) -> bool {
    Note::peek(notes, app).is_some_and(|head| head.token == token && head.state == super::NoteState::Held)
}
