//! A session: a process that owns a lock for as long as it lives.
//!
//! It prints `held` when it has the lock, keeps it while it lives, and lets go when its standard input closes.

use std::io::{BufRead, BufReader, Read};
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::process::{Child, ChildStdin, Command, ExitStatus, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::time::Duration;

use gullet_host::hook::{
    Cancellation, Invocation, MARK, Process, Redactor, end_found, marked, script_in_memory, usual_memory_score,
};
use gullet_host::world::Clock;
use gullet_model::Reason;
use gullet_model::step::{CommandReport, OutputPiece, ProcessExit, Stream};
use gullet_model::words::millis;

/// How long a session may take to go when its input is closed, before it is killed.
const GOES_WITHIN: Duration = Duration::from_secs(10);
/// How long it may take to go when it was killed, before it is given up for now.
const DIES_WITHIN: Duration = Duration::from_secs(5);
/// What it keeps of its output, in bytes.
const KEPT: usize = 32 << 10;
/// Pieces of output that wait to be taken; more are passed over, so that a session that prints without end fills no memory.
const WAITING: usize = 64;
/// A line that is longer is taken in pieces, in bytes.
const PIECE: u64 = 8 << 10;

/// A session that has said that it holds.
pub(super) struct HoldSession {
    child: Child,
    input: Option<ChildStdin>,
    pieces: Receiver<(Stream, String)>,
    /// Bytes of its output that were passed over, for nobody took them.
    passed_over: Arc<AtomicU64>,
    report: CommandReport,
    began: Duration,
    /// What is in the environment of all that it started.
    mark: String,
    ended: Option<ExitStatus>,
}

/// A session that did not come to hold: why, what it did, and itself where it does not even end.
pub(super) struct NotHeld {
    pub(super) why: String,
    pub(super) report: CommandReport,
    pub(super) lives_on: Option<HoldSession>,
}

impl HoldSession {
    /// Starts a session and waits until it says `held`.
    ///
    /// # Errors
    /// When it ends, or does not say it within its limit; it is ended then, if that can be.
    pub(super) fn start(
        call: Invocation<'_>,
        clock: &dyn Clock,
        patience: Cancellation<'_>,
    ) -> Result<Self, Box<NotHeld>> {
        let mut report = CommandReport {
            argv: call.argv.clone(),
            script: call.script.clone(),
            dir: call.dir.display().to_string(),
            account: call.account.clone(),
            started: clock.now(),
            took_ms: 0,
            exit: ProcessExit::Stopped,
            output: Vec::new(),
            dropped_bytes: 0,
            escaped: Vec::new(),
        };
        let began = clock.uptime();
        let Some((program, arguments)) = call.argv.split_first() else {
            let why = "the session has no command".to_owned();
            return Err(Box::new(NotHeld { why, report, lives_on: None }));
        };
        let mut command = Command::new(program);
        command.args(arguments).current_dir(&call.dir).env_clear().envs(&call.env).process_group(0);
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let script = call.script.as_deref().map(script_in_memory).transpose();
        let spawned = script.and_then(|script| {
            command.args(script.as_ref().map(|(_, path)| path));
            command.spawn()
        });
        let mut child = match spawned {
            Ok(child) => child,
            Err(error) => {
                report.exit = ProcessExit::NotStarted(error.to_string());
                let why = format!("`{program}`: not started: {error}");
                return Err(Box::new(NotHeld { why, report, lives_on: None }));
            }
        };
        usual_memory_score(child.id());
        let (send, pieces) = sync_channel(WAITING);
        let (is_held, passed_over) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
        if let Some(pipe) = child.stdout.take() {
            let is_held = Some(Arc::clone(&is_held));
            listen(pipe, Stream::Out, &call.secrets, (send.clone(), Arc::clone(&passed_over)), is_held);
        }
        if let Some(pipe) = child.stderr.take() {
            listen(pipe, Stream::Err, &call.secrets, (send, Arc::clone(&passed_over)), None);
        }
        let input = child.stdin.take();
        let mark = call.env.get(MARK).cloned().unwrap_or_default();
        let mut session = Self { child, input, pieces, passed_over, report, began, mark, ended: None };
        loop {
            let piece = session.pieces.recv_timeout(Duration::from_millis(20)).ok();
            session.keep(piece, clock);
            let gone = !session.is_alive();
            if is_held.load(Ordering::SeqCst) && !gone {
                return Ok(session);
            }
            let late = clock.uptime().saturating_sub(began) >= call.limit || patience.is_over(clock);
            if gone || late {
                let why = if gone { "it ended before it said `held`" } else { "it did not say `held` in time" };
                let why = format!("`{program}`: {why}");
                let ended = session.end(clock);
                let report = session.report.clone();
                let lives_on = ended.is_err().then_some(session);
                return Err(Box::new(NotHeld { why, report, lives_on }));
            }
        }
    }

    fn keep(&mut self, piece: Option<(Stream, String)>, clock: &dyn Clock) {
        let Some((stream, text)) = piece else { return };
        let kept: usize = self.report.output.iter().map(|piece| piece.text.len()).sum();
        if kept + text.len() > KEPT {
            self.report.dropped_bytes += text.len() as u64 + 1;
            return;
        }
        let at_ms = millis(clock.uptime().saturating_sub(self.began));
        self.report.output.push(OutputPiece { at_ms, stream, text: text + "\n" });
    }

    /// Whether it still lives, and so still owns its lock.
    pub(super) fn is_alive(&mut self) -> bool {
        if self.ended.is_none() {
            self.ended = self.child.try_wait().ok().flatten();
        }
        self.ended.is_none()
    }

    /// All processes of the session that still live, wherever they went.
    fn family(&self) -> Vec<Process> {
        let own = i32::try_from(self.child.id()).ok().and_then(Process::of);
        own.into_iter().chain(marked(&self.mark, |_| true)).collect()
    }

    /// Lets go: closes its input, waits, and kills it when it does not go.
    ///
    /// # Errors
    /// When it lives on, as one that runs as another account may; it can be tried again.
    pub(super) fn end(&mut self, clock: &dyn Clock) -> Result<CommandReport, Reason> {
        self.input = None;
        let since = clock.uptime();
        let mut killed = None;
        while self.is_alive() {
            let now = clock.uptime();
            let waited = now.saturating_sub(since) >= GOES_WITHIN;
            match killed {
                None if waited => {
                    killed = Some(now);
                    // In the background of a group of its own, or of another session, it would not hear of it by its group.
                    end_found(|| self.family(), clock);
                }
                Some(at) if now.saturating_sub(at) >= DIES_WITHIN => {
                    let program = self.report.argv.first().map_or("", String::as_str);
                    let number = self.child.id();
                    return Err(Reason::new(format!(
                        "the session `{program}` (process {number}) does not end, and cannot be killed"
                    )));
                }
                _ => {}
            }
            clock.sleep(Duration::from_millis(10));
        }
        while let Ok(piece) = self.pieces.recv_timeout(Duration::from_millis(20)) {
            self.keep(Some(piece), clock);
        }
        self.report.dropped_bytes += self.passed_over.swap(0, Ordering::Relaxed);
        self.report.exit = match self.ended {
            _ if killed.is_some() => ProcessExit::Limit(GOES_WITHIN.as_millis() as u64),
            Some(status) => status.code().map_or(ProcessExit::Signal(status.signal().unwrap_or(0)), ProcessExit::Code),
            None => ProcessExit::Stopped,
        };
        self.report.took_ms = millis(clock.uptime().saturating_sub(self.began));
        Ok(self.report.clone())
    }
}

/// Reads a stream of a session to its end on a thread of its own, so that the session never waits for us.
fn listen(
    pipe: impl Read + Send + 'static,
    stream: Stream,
    secrets: &[String],
    (send, passed_over): (SyncSender<(Stream, String)>, Arc<AtomicU64>),
    is_held: Option<Arc<AtomicBool>>,
) {
    let mut redactor = Redactor::new(secrets);
    std::thread::spawn(move || {
        let mut pipe = BufReader::new(pipe);
        loop {
            let mut line = Vec::new();
            if !matches!((&mut pipe).take(PIECE).read_until(b'\n', &mut line), Ok(1..)) {
                break;
            }
            if let Some(is_held) = is_held.as_ref().filter(|_| line.trim_ascii() == b"held") {
                is_held.store(true, Ordering::SeqCst);
            }
            let clean = String::from_utf8_lossy(&redactor.push(&line)).trim_end_matches('\n').to_owned();
            if !clean.is_empty() {
                // Where nobody takes it, it is passed over.
                let length = clean.len() as u64 + 1;
                if send.try_send((stream, clean)).is_err() {
                    passed_over.fetch_add(length, Ordering::Relaxed);
                }
            }
        }
        let rest = redactor.finish();
        if !rest.is_empty() {
            let _ = send.try_send((stream, String::from_utf8_lossy(&rest).into_owned()));
        }
    });
}
