//! The main process's end of a guard.

use std::ffi::OsString;
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::Duration;

use super::protocol::{FromGuard, FromMain, GuardAnswer, Loss, Op, Order};
use gullet_host::world::{Clock, Stop};

/// How long a guard may take to be ready: it syncs its note, which a busy disk can delay. Nothing is held before.
const READY_WITHIN: Duration = Duration::from_secs(60);

/// A guard says every second that it lives. One that has said nothing for so long was stopped, or cannot go on.
const SILENT_AT_MOST: Duration = Duration::from_secs(20);
/// How often it is listened for.
const TICK: Duration = Duration::from_millis(50);

/// A guard failed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum GuardError {
    /// It could not be started.
    #[error("the guard of the hold cannot be started")]
    Start(#[source] std::io::Error),
    /// It cannot take the hold.
    #[error("the guard of the hold refuses: {0}")]
    Refused(String),
    /// It was not ready in time.
    #[error(
        "the guard of the hold was not ready within {} s: does the disk of the state folder answer?",
        READY_WITHIN.as_secs()
    )]
    Late,
    /// It is gone.
    #[error("the guard of the hold is gone")]
    Gone,
    /// It lives and does nothing.
    #[error("the guard of the hold was silent for {} s, as a process that was stopped is; it was ended", SILENT_AT_MOST.as_secs())]
    Silent,
}

/// A guard that is ready.
pub struct Guarded {
    child: Child,
    requests: ChildStdin,
    answers: Receiver<FromGuard>,
    /// The hold's token.
    pub token: String,
    /// Steps of a hold by hand that were taken over.
    pub taken_over: Vec<usize>,
    /// How long they had been held then.
    pub held: Duration,
    lost: Option<Loss>,
    gone: bool,
}

impl Guarded {
    /// Starts a guard by the first of `commands` that can; nothing is held before [`Guarded::ask`] enters something. `lost`
    /// is set as soon as the hold is lost, or the guard itself is.
    ///
    /// # Errors
    /// When it cannot be started or refuses.
    pub fn start(commands: &[Vec<OsString>], order: &Order, lost: &Arc<Stop>) -> Result<Self, GuardError> {
        let mut last = Err(GuardError::Gone);
        for command in commands {
            last = Self::start_by(command, order, lost);
            if matches!(last, Ok(_) | Err(GuardError::Refused(_))) {
                break;
            }
        }
        last
    }

    fn start_by(command: &[OsString], order: &Order, lost: &Arc<Stop>) -> Result<Self, GuardError> {
        let (program, arguments) = command.split_first().ok_or(GuardError::Gone)?;
        let mut guard = Command::new(program);
        guard.args(arguments).current_dir("/").stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut child = guard.spawn().map_err(GuardError::Start)?;
        let (Some(mut requests), Some(output)) = (child.stdin.take(), child.stdout.take()) else {
            return Err(GuardError::Gone);
        };
        let (send, answers) = channel();
        // A guard that never got ready has lost nothing.
        let is_ready = Arc::new(AtomicBool::new(false));
        let (lost_too, ready_too) = (Arc::clone(lost), Arc::clone(&is_ready));
        let reader = std::thread::spawn(move || {
            let lost = lost_too;
            for line in BufReader::new(output).lines().map_while(Result::ok) {
                let Ok(message) = serde_json::from_str(&line) else { break };
                if matches!(message, FromGuard::Lost { .. }) {
                    lost.ask(1);
                }
                if send.send(message).is_err() {
                    break;
                }
            }
            if ready_too.load(Ordering::SeqCst) {
                lost.ask(1);
            }
        });
        let mut line = serde_json::to_vec(order).map_err(|error| GuardError::Start(error.into()))?;
        line.push(b'\n');
        let sent = requests.write_all(&line);
        let ready = answers.recv_timeout(READY_WITHIN);
        match ready {
            Ok(FromGuard::Ready { taken_over, held_ms }) if sent.is_ok() => {
                is_ready.store(true, Ordering::SeqCst);
                if reader.is_finished() {
                    lost.ask(1);
                }
                let token = order.token.clone();
                let held = Duration::from_millis(held_ms);
                Ok(Self { child, requests, answers, token, taken_over, held, lost: None, gone: false })
            }
            Ok(FromGuard::Refused { why }) => {
                let _ = child.wait();
                Err(GuardError::Refused(why))
            }
            other => {
                let _ = child.kill();
                let _ = child.wait();
                Err(if matches!(other, Err(RecvTimeoutError::Timeout)) { GuardError::Late } else { GuardError::Gone })
            }
        }
    }

    fn send(&mut self, message: &FromMain) -> Result<(), GuardError> {
        let mut line = serde_json::to_vec(message).map_err(|_| GuardError::Gone)?;
        line.push(b'\n');
        self.requests.write_all(&line).map_err(|_| GuardError::Gone)
    }

    /// Has an operation performed. A wish to stop is passed on, and cuts short everything but leaving.
    ///
    /// # Errors
    /// When the guard is gone.
    pub fn ask(&mut self, op: Op, stop: &Stop) -> Result<GuardAnswer, GuardError> {
        let sent = self.send(&FromMain::Do(op));
        let mut cancelled = matches!(op, Op::Release(_) | Op::ProveReleased(_) | Op::GoBack);
        if let Err(error) = sent {
            self.gone = true;
            return Err(error);
        }
        // Counted by own ticks, so that a machine that was suspended is not taken for a guard that was.
        let mut silent = Duration::ZERO;
        loop {
            let said = self.answers.recv_timeout(TICK);
            silent = if matches!(said, Err(RecvTimeoutError::Timeout)) { silent + TICK } else { Duration::ZERO };
            match said {
                Ok(FromGuard::Done(answer)) => return Ok(*answer),
                Ok(FromGuard::Lost { loss, .. }) => self.lost = Some(loss),
                Ok(FromGuard::Ready { .. } | FromGuard::Refused { .. } | FromGuard::Alive | FromGuard::Released) => {}
                Err(RecvTimeoutError::Timeout) if silent >= SILENT_AT_MOST => {
                    // It would be in the way of everybody who wants to release.
                    let _ = self.child.kill();
                    let _ = self.child.wait();
                    self.gone = true;
                    return Err(GuardError::Silent);
                }
                Err(RecvTimeoutError::Timeout) => {
                    if !cancelled && stop.asked().is_some() {
                        cancelled = true;
                        let _ = self.send(&FromMain::Cancel);
                    }
                }
                Err(RecvTimeoutError::Disconnected) => {
                    self.gone = true;
                    return Err(GuardError::Gone);
                }
            }
        }
    }

    /// Lets a hold by hand stay when this process ends.
    ///
    /// # Errors
    /// When the guard is gone.
    pub fn stay(&mut self) -> Result<(), GuardError> {
        self.send(&FromMain::Stay)
    }

    /// Why the hold is lost, if it is: the guard released by itself, lost a session, or is gone.
    pub fn lost(&mut self) -> Option<Loss> {
        loop {
            match self.answers.try_recv() {
                Ok(FromGuard::Lost { loss, .. }) => self.lost = Some(loss),
                Ok(_) => {}
                Err(std::sync::mpsc::TryRecvError::Empty) => break,
                Err(std::sync::mpsc::TryRecvError::Disconnected) => {
                    self.gone = true;
                    break;
                }
            }
        }
        self.lost.clone().or_else(|| self.gone.then(|| Loss::of_hold(GuardError::Gone.to_string())))
    }

    /// Whether the guard's process is gone, so that somebody else must leave what it held.
    pub fn is_gone(&self) -> bool {
        self.gone
    }

    /// Lets the guard end, and waits shortly; one that was stopped goes on first. One that still has to let go of something lives
    /// on.
    pub fn finish(self, clock: &dyn Clock) {
        let Self { mut child, requests, .. } = self;
        drop(requests);
        // It is not waited for yet, so the number is still its own.
        if let Some(process) = rustix::process::Pid::from_raw(child.id().cast_signed()) {
            let _ = rustix::process::kill_process(process, rustix::process::Signal::CONT);
        }
        for _ in 0..100 {
            if matches!(child.try_wait(), Ok(Some(_)) | Err(_)) {
                return;
            }
            clock.sleep(Duration::from_millis(5));
        }
    }
}

/// Where hold notes are, in the state folder.
pub fn notes_folder(state: &Path) -> std::path::PathBuf {
    state.join("holds")
}
