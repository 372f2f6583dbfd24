//! A session: a process that owns a lock for as long as it lives.
//!
//! It prints `held` when it has the lock, keeps it while it lives, and lets go when its standard input closes.

use std::io::{BufRead, BufReader, Read};
use std::os::unix::process::CommandExt;
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

use rustix::process::{Pid, Signal, kill_process_group};

use crate::event::{CommandReport, Exit, Piece, Stream};
use crate::hook::{Invocation, Patience, script_in_memory, usual_memory_score};
use crate::words::millis;
use crate::world::Clock;

/// How long a session may take to go when its input is closed, before it is killed.
const GOES_WITHIN: Duration = Duration::from_secs(10);
/// What it keeps of its output, in bytes.
const KEPT: usize = 32 << 10;

/// A session that has said that it holds.
pub(super) struct Session {
    child: Child,
    input: Option<ChildStdin>,
    lines: Receiver<(Stream, String)>,
    report: CommandReport,
    began: Duration,
}

impl Session {
    /// Starts a session and waits until it says `held`.
    ///
    /// # Errors
    /// When it ends, says something else first, or does not say it within its limit; it is gone then.
    pub(super) fn start(
        call: Invocation,
        clock: &dyn Clock,
        patience: Patience<'_>,
    ) -> Result<Self, Box<(String, CommandReport)>> {
        let mut report = CommandReport {
            argv: call.argv.clone(),
            script: call.script.clone(),
            dir: call.dir.display().to_string(),
            account: call.account.clone(),
            started: clock.now(),
            took_ms: 0,
            exit: Exit::Stopped,
            output: Vec::new(),
            dropped_bytes: 0,
            escaped: Vec::new(),
        };
        let began = clock.uptime();
        let Some((program, arguments)) = call.argv.split_first() else {
            return Err(Box::new(("the session has no command".to_owned(), report)));
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
                report.exit = Exit::NotStarted(error.to_string());
                return Err(Box::new((format!("`{program}`: not started: {error}"), report)));
            }
        };
        usual_memory_score(child.id());
        let (send, lines) = channel();
        let streams: [(Stream, Option<Box<dyn Read + Send>>); 2] = [
            (Stream::Out, child.stdout.take().map(|pipe| Box::new(pipe) as Box<dyn Read + Send>)),
            (Stream::Err, child.stderr.take().map(|pipe| Box::new(pipe) as Box<dyn Read + Send>)),
        ];
        for (stream, pipe) in streams {
            let (Some(pipe), send) = (pipe, send.clone()) else { continue };
            std::thread::spawn(move || {
                // Read to the end whatever it prints, so that it never waits for us.
                for line in BufReader::new(pipe).split(b'\n').map_while(Result::ok) {
                    if send.send((stream, String::from_utf8_lossy(&line).into_owned())).is_err() {
                        return;
                    }
                }
            });
        }
        let input = child.stdin.take();
        let mut session = Self { child, input, lines, report, began };
        loop {
            let line = session.lines.recv_timeout(Duration::from_millis(50)).ok();
            let is_held = line.as_ref().is_some_and(|(stream, text)| *stream == Stream::Out && text.trim() == "held");
            session.keep(line, clock);
            let gone = !session.is_alive();
            let late = clock.uptime().saturating_sub(began) >= call.limit || patience.is_over(clock);
            if is_held && !gone {
                return Ok(session);
            }
            if gone || late {
                let why = if gone { "it ended before it said `held`" } else { "it did not say `held` in time" };
                let report = session.end(clock);
                let program = report.argv.first().map_or("", String::as_str);
                return Err(Box::new((format!("`{program}`: {why}"), report)));
            }
        }
    }

    fn keep(&mut self, line: Option<(Stream, String)>, clock: &dyn Clock) {
        let Some((stream, text)) = line else { return };
        let kept: usize = self.report.output.iter().map(|piece| piece.text.len()).sum();
        if kept + text.len() > KEPT {
            self.report.dropped_bytes += text.len() as u64 + 1;
            return;
        }
        let at_ms = millis(clock.uptime().saturating_sub(self.began));
        self.report.output.push(Piece { at_ms, stream, text: text + "\n" });
    }

    /// Whether it still lives, and so still owns its lock.
    pub(super) fn is_alive(&mut self) -> bool {
        matches!(self.child.try_wait(), Ok(None))
    }

    /// Lets go: closes its input, waits, and kills it when it does not go.
    pub(super) fn end(mut self, clock: &dyn Clock) -> CommandReport {
        self.input = None;
        let since = clock.uptime();
        let mut killed = false;
        let status = loop {
            match self.child.try_wait() {
                Ok(Some(status)) => break Some(status),
                Ok(None) => {}
                Err(_) => break None,
            }
            if !killed && clock.uptime().saturating_sub(since) >= GOES_WITHIN {
                let _ = kill_process_group(Pid::from_child(&self.child), Signal::KILL);
                killed = true;
            }
            clock.sleep(Duration::from_millis(10));
        };
        while let Ok(line) = self.lines.recv_timeout(Duration::from_millis(20)) {
            self.keep(Some(line), clock);
        }
        self.report.exit = match status {
            _ if killed => Exit::Limit(GOES_WITHIN.as_millis() as u64),
            Some(status) => {
                use std::os::unix::process::ExitStatusExt;
                status.code().map_or(Exit::Signal(status.signal().unwrap_or(0)), Exit::Code)
            }
            None => Exit::Stopped,
        };
        self.report.took_ms = millis(clock.uptime().saturating_sub(self.began));
        self.report
    }
}
