//! One process: started clean, listened to on both streams, ended at its limit.

use std::collections::{BTreeMap, VecDeque};
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::PathBuf;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::{Pid, PidfdFlags, Signal, kill_process_group, pidfd_open};

use super::family::{AT_ONCE, MARK, Process, descendants, end_found_by, marked};
use super::redactor::{Redactor, redact};
use crate::world::{Clock, Stop};
use gullet_model::step::{CommandReport, OutputPiece, ProcessExit, Stream};
use gullet_model::words::millis;

/// Output kept of the beginning and of the end, in bytes each.
const KEPT: usize = 32 << 10;
/// Standard output kept whole for reading facts and names from, in bytes.
pub(super) const READABLE: usize = 1 << 20;
/// How long output is drained after the process's own exit.
const DRAIN: Duration = Duration::from_secs(1);
/// Between TERM and KILL.
const GRACE: Duration = Duration::from_secs(2);
/// After KILL, before a process that does not go is given up.
const GIVE_UP: Duration = Duration::from_secs(5);
/// How often the wish to stop is looked at, in milliseconds.
const TICK: i64 = 50;

/// What to run.
#[derive(Default)]
pub struct Invocation<'a> {
    /// Program and arguments.
    pub argv: Vec<String>,
    /// A script that is handed to the program as its last argument, as a file in memory.
    pub script: Option<String>,
    /// The folder to run in.
    pub dir: PathBuf,
    /// The whole environment.
    pub env: BTreeMap<String, String>,
    /// How long it may take.
    pub limit: Duration,
    /// What it reads on standard input; nothing when there is none.
    pub stdin: Option<File>,
    /// Where standard output goes instead of being kept.
    pub stdout: Option<File>,
    /// Texts that must not appear in what is kept.
    pub secrets: Vec<String>,
    /// The account it runs as, for the report.
    pub account: String,
    /// Told which process it is as soon as it was started, and that it is over.
    pub started: Option<&'a (dyn Fn(Option<Process>) + Sync)>,
}

/// What may end a process early.
#[derive(Clone, Copy, Default)]
pub struct Cancellation<'a> {
    /// A wish to stop, where it may be heeded.
    pub stop: Option<&'a Stop>,
    /// The uptime at which the hold must be left.
    pub until: Option<Duration>,
    /// Set when the hold is lost.
    pub lost: Option<&'a Stop>,
    /// A wish that was there so many times already: one more ends it.
    pub once_more: Option<(&'a Stop, u32)>,
}

impl Cancellation<'_> {
    /// Whether it is over.
    pub fn is_over(&self, clock: &dyn Clock) -> bool {
        let asked = |stop: Option<&Stop>| stop.is_some_and(|stop| stop.asked().is_some());
        let once_more = self.once_more.is_some_and(|(stop, times)| stop.times() > times);
        once_more || asked(self.stop) || asked(self.lost) || self.until.is_some_and(|at| clock.uptime() >= at)
    }
}

/// A process that is over.
#[derive(Debug)]
pub struct Finished {
    /// All about it, for the record.
    pub report: CommandReport,
    /// The beginning of its standard output, up to a mebibyte.
    pub stdout: Vec<u8>,
    /// Whether standard output was longer.
    pub stdout_cut: bool,
    /// Whether another process still had its standard output open when it ended, so that more may have been to come.
    pub left_open: bool,
    /// What a server answered, where it is a request.
    pub answer: Option<HttpAnswer>,
}

/// What a server answered to a request, besides its contents.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HttpAnswer {
    /// The status, such as 200.
    pub status: u16,
    /// The type of the contents.
    pub content_type: String,
    /// Their length in bytes.
    pub length: u64,
}

impl Finished {
    /// Whether it exited with 0.
    pub fn succeeded(&self) -> bool {
        self.report.exit == ProcessExit::Code(0)
    }

    /// Standard output as text, without its last newline.
    pub fn text(&self) -> String {
        let text = String::from_utf8_lossy(&self.stdout).into_owned();
        text.strip_suffix('\n').map(str::to_owned).unwrap_or(text)
    }

    /// Why it did not succeed: how it ended, and the last line that it wrote to standard error.
    pub fn failure(&self) -> String {
        let said = self.report.output.iter().filter(|piece| piece.stream == Stream::Err);
        let said = said.flat_map(|piece| piece.text.lines()).filter(|line| !line.trim().is_empty());
        // Some programs go on with details after the line that says what is wrong.
        let is_error = |line: &&str| line.to_ascii_lowercase().contains("error");
        let last = said.clone().rfind(is_error).or_else(|| said.clone().next_back());
        if let Some(answer) = &self.answer {
            let text: String = self.text().chars().take(200).collect();
            let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
            let more = if text.is_empty() { String::new() } else { format!(": {text}") };
            return format!("`{}`: status {}{more}", self.report.argv.join(" "), answer.status);
        }
        // What makes it run as another account is not what failed.
        let words = &self.report.argv;
        let prefix = words.iter().position(|word| word == "--").filter(|_| words[0] == "setpriv");
        let program = words.get(prefix.map_or(0, |at| at + 1)).map_or("", String::as_str);
        match last {
            Some(line) => format!("`{program}`: {}: {}", self.report.exit, line.trim()),
            None => format!("`{program}`: {}", self.report.exit),
        }
    }
}

/// Runs one process to its end.
pub fn run_process(mut call: Invocation<'_>, clock: &dyn Clock, patience: Cancellation<'_>) -> Finished {
    let started = clock.now();
    let began = clock.uptime();
    let mut output = Output::new(&call.secrets);
    let mut escaped = Vec::new();
    let argv = call.argv.clone();
    let mark = call.env.get(MARK).cloned();
    let into_file = call.stdout.is_some();
    let exit = match start(&mut call) {
        Ok(child) => {
            if let (Some(started), Some(process)) = (call.started, Process::of(i32::try_from(child.id()).unwrap_or(0)))
            {
                started(Some(process));
            }
            let running = RunningProcess { child, clock, began, limit: call.limit, patience, mark };
            let exit = running.listen(&mut output, &mut escaped);
            if let Some(mark) = call.env.get(MARK).filter(|_| into_file) {
                output.left_open |= !marked(mark, |_| true).is_empty();
            }
            if let Some(started) = call.started {
                started(None);
            }
            exit
        }
        Err(error) => ProcessExit::NotStarted(redact(&error.to_string(), &call.secrets)),
    };
    let (pieces, dropped_bytes) = output.keep();
    let report = CommandReport {
        argv: argv.iter().map(|argument| redact(argument, &call.secrets)).collect(),
        script: call.script.map(|script| redact(&script, &call.secrets)),
        dir: call.dir.display().to_string(),
        account: call.account,
        started,
        took_ms: millis(clock.uptime().saturating_sub(began)),
        exit,
        output: pieces,
        dropped_bytes,
        escaped,
    };
    let (stdout, stdout_cut, left_open) = (output.stdout, output.stdout_cut, output.left_open);
    Finished { report, stdout, stdout_cut, left_open, answer: None }
}

fn start(call: &mut Invocation<'_>) -> io::Result<Child> {
    let (program, arguments) = call.argv.split_first().ok_or(io::ErrorKind::InvalidInput)?;
    let mut command = Command::new(program);
    command.args(arguments).current_dir(&call.dir).env_clear().envs(&call.env).process_group(0);
    command.stdin(call.stdin.take().map_or_else(Stdio::null, Stdio::from)).stderr(Stdio::piped());
    command.stdout(call.stdout.take().map_or_else(Stdio::piped, Stdio::from));
    let script = call.script.as_deref().map(script_in_memory).transpose()?;
    if let Some((_, path)) = &script {
        command.arg(path);
    }
    let spawned = command.spawn();
    if let Ok(child) = &spawned {
        usual_memory_score(child.id());
    }
    spawned.map_err(|error| {
        let place = if call.dir.is_dir() { format!("`{program}`") } else { format!("folder `{}`", call.dir.display()) };
        io::Error::new(error.kind(), format!("{place}: {error}"))
    })
}

/// A guard is safer from the out-of-memory killer than others; what it starts, such as a service in a `release`, must not
/// inherit that.
pub fn usual_memory_score(child: u32) {
    let own = std::fs::read_to_string("/proc/self/oom_score_adj").unwrap_or_default();
    if own.starts_with('-') {
        let _ = std::fs::write(format!("/proc/{child}/oom_score_adj"), "0");
    }
}

/// A script as a file that exists in memory only: leaving a hold must need no disk.
pub fn script_in_memory(script: &str) -> io::Result<(OwnedFd, String)> {
    use std::os::fd::AsRawFd;
    let memory = rustix::fs::memfd_create("gullet-script", rustix::fs::MemfdFlags::empty())?;
    let mut rest = script.as_bytes();
    while !rest.is_empty() {
        let written = rustix::io::write(&memory, rest)?;
        rest = &rest[written..];
    }
    let path = format!("/proc/self/fd/{}", memory.as_raw_fd());
    Ok((memory, path))
}

struct RunningProcess<'a> {
    child: Child,
    clock: &'a dyn Clock,
    began: Duration,
    limit: Duration,
    patience: Cancellation<'a>,
    /// What is in the environment of all its descendants.
    mark: Option<String>,
}

/// How far the killing of a process is.
enum Killing {
    No,
    Term { exit: ProcessExit, since: Duration, family: Vec<Process> },
    Kill { exit: ProcessExit, since: Duration, family: Vec<Process> },
}

impl RunningProcess<'_> {
    fn listen(mut self, output: &mut Output, escaped: &mut Vec<String>) -> ProcessExit {
        let mut streams: Vec<(Stream, OwnedFd)> = Vec::new();
        streams.extend(self.child.stdout.take().map(|pipe| (Stream::Out, OwnedFd::from(pipe))));
        streams.extend(self.child.stderr.take().map(|pipe| (Stream::Err, OwnedFd::from(pipe))));
        for (_, pipe) in &streams {
            let _ = rustix::fs::fcntl_setfl(pipe, rustix::fs::OFlags::NONBLOCK);
        }
        let group = Pid::from_child(&self.child);
        let watch = pidfd_open(group, PidfdFlags::empty()).ok();
        let mut ended: Option<(ExitStatus, Duration)> = None;
        let mut killing = Killing::No;
        loop {
            wait(&streams, watch.as_ref().filter(|_| ended.is_none()));
            let now = self.clock.uptime();
            let at_ms = millis(now.saturating_sub(self.began));
            streams.retain(|(stream, pipe)| output.read(*stream, pipe, at_ms));
            if ended.is_none()
                && let Ok(Some(status)) = self.child.try_wait()
            {
                ended = Some((status, now));
            }
            if let Some((_, since)) = ended
                && (streams.is_empty() || now.saturating_sub(since) >= DRAIN || !matches!(killing, Killing::No))
            {
                break;
            }
            if ended.is_none() && self.press(group, now, &mut killing) {
                break;
            }
        }
        output.finish(millis(self.clock.uptime().saturating_sub(self.began)));
        output.left_open = streams.iter().any(|(stream, _)| *stream == Stream::Out);
        let family = match killing {
            Killing::No => {
                return match ended.map(|(status, _)| status) {
                    Some(status) => {
                        status.code().map_or(ProcessExit::Signal(status.signal().unwrap_or(0)), ProcessExit::Code)
                    }
                    None => ProcessExit::Stopped,
                };
            }
            Killing::Term { exit, family, .. } | Killing::Kill { exit, family, .. } => (exit, family),
        };
        // Descendants that ignored TERM, or left the group, are ended too; what still lives is named.
        let (exit, known) = family;
        if ended.is_none() {
            let _ = kill_process_group(group, Signal::KILL);
        }
        let find = || {
            let mut family = self.family(group);
            family.extend(&known);
            family.sort_unstable();
            family.dedup();
            family
        };
        escaped.extend(end_found_by(AT_ONCE, find, self.clock));
        exit
    }

    /// Everybody who belongs to the process: its descendants, and who has its mark though the parent is another one by now.
    fn family(&self, group: Pid) -> Vec<Process> {
        let mut family = descendants(group.as_raw_nonzero().get());
        if let Some(mark) = &self.mark {
            family.extend(marked(mark, |_| true));
        }
        family
    }

    /// Brings a process nearer to its end if it is due; true when it has to be given up.
    fn press(&self, group: Pid, now: Duration, killing: &mut Killing) -> bool {
        match killing {
            Killing::No => {
                let exit = if now.saturating_sub(self.began) >= self.limit {
                    ProcessExit::Limit(millis(self.limit))
                } else if self.patience.is_over(self.clock) {
                    ProcessExit::Stopped
                } else {
                    return false;
                };
                let family = self.family(group);
                let _ = kill_process_group(group, Signal::TERM);
                for process in &family {
                    process.signal(Signal::TERM);
                }
                *killing = Killing::Term { exit, since: now, family };
                false
            }
            Killing::Term { exit, since, family } if now.saturating_sub(*since) >= GRACE => {
                family.extend(self.family(group));
                let _ = kill_process_group(group, Signal::KILL);
                *killing = Killing::Kill { exit: exit.clone(), since: now, family: std::mem::take(family) };
                false
            }
            Killing::Term { .. } => false,
            Killing::Kill { since, .. } => now.saturating_sub(*since) >= GIVE_UP,
        }
    }
}

fn wait(streams: &[(Stream, OwnedFd)], watch: Option<&OwnedFd>) {
    let fds = streams.iter().map(|(_, pipe)| pipe.as_fd()).chain(watch.map(AsFd::as_fd));
    let mut fds: Vec<PollFd<'_>> = fds.map(|fd| PollFd::from_borrowed_fd(fd, PollFlags::IN)).collect();
    let _ = poll(&mut fds, Some(&Timespec { tv_sec: 0, tv_nsec: TICK * 1_000_000 }));
}

#[derive(Default)]
struct Output {
    head: Vec<(Stream, u64, Vec<u8>)>,
    head_bytes: usize,
    tail: VecDeque<(Stream, u64, Vec<u8>)>,
    tail_bytes: usize,
    dropped: u64,
    stdout: Vec<u8>,
    stdout_cut: bool,
    left_open: bool,
    /// Of standard output and of standard error.
    redactors: [Redactor; 2],
}

impl Output {
    fn new(secrets: &[String]) -> Self {
        Self { redactors: [Redactor::new(secrets), Redactor::new(secrets)], ..Self::default() }
    }

    /// Secrets are gone before anything is kept, cut or judged.
    fn take(&mut self, stream: Stream, at_ms: u64, bytes: &[u8]) {
        let clean = self.redactors[usize::from(stream == Stream::Err)].push(bytes);
        self.take_clean(stream, at_ms, &clean);
    }

    /// The streams have come to their end.
    fn finish(&mut self, at_ms: u64) {
        for (number, stream) in [Stream::Out, Stream::Err].into_iter().enumerate() {
            let rest = self.redactors[number].finish();
            self.take_clean(stream, at_ms, &rest);
        }
    }

    /// Reads what is there; false when the stream has ended.
    fn read(&mut self, stream: Stream, pipe: &OwnedFd, at_ms: u64) -> bool {
        let mut buffer = [0u8; 16 << 10];
        // Bounded, so that a process that writes without end cannot keep us from looking at its limit.
        for _ in 0..64 {
            match rustix::io::read(pipe, &mut buffer) {
                Ok(0) => return false,
                Ok(length) => self.take(stream, at_ms, &buffer[..length]),
                Err(rustix::io::Errno::AGAIN) => return true,
                Err(rustix::io::Errno::INTR) => {}
                Err(_) => return false,
            }
        }
        true
    }

    fn take_clean(&mut self, stream: Stream, at_ms: u64, bytes: &[u8]) {
        if stream == Stream::Out {
            let room = READABLE.saturating_sub(self.stdout.len()).min(bytes.len());
            self.stdout.extend_from_slice(&bytes[..room]);
            self.stdout_cut |= room < bytes.len();
        }
        let room = KEPT.saturating_sub(self.head_bytes).min(bytes.len());
        let (head, tail) = bytes.split_at(room);
        self.head_bytes += head.len();
        append(&mut self.head, stream, at_ms, head);
        if !tail.is_empty() {
            self.tail_bytes += tail.len();
            self.tail.push_back((stream, at_ms, tail.to_vec()));
        }
        while self.tail_bytes > KEPT {
            let over = self.tail_bytes - KEPT;
            let Some((_, _, first)) = self.tail.front_mut() else { break };
            let gone = over.min(first.len());
            first.drain(..gone);
            let empty = first.is_empty();
            self.tail_bytes -= gone;
            self.dropped += gone as u64;
            if empty {
                self.tail.pop_front();
            }
        }
    }

    fn keep(&mut self) -> (Vec<OutputPiece>, u64) {
        let mut joined = std::mem::take(&mut self.head);
        if self.dropped > 0 {
            let note = format!("\n[{} bytes of output are not kept here]\n", self.dropped);
            let at_ms = self.tail.front().map_or(0, |(_, at_ms, _)| *at_ms);
            joined.push((Stream::Err, at_ms, note.into_bytes()));
        }
        for (stream, at_ms, bytes) in self.tail.drain(..) {
            append(&mut joined, stream, at_ms, &bytes);
        }
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        let pieces = joined.iter().map(|(stream, at_ms, bytes)| OutputPiece {
            at_ms: *at_ms,
            stream: *stream,
            text: text(bytes),
        });
        (pieces.collect(), self.dropped)
    }
}

/// Adds bytes, to the last piece when that is of the same stream and of nearly the same time.
fn append(to: &mut Vec<(Stream, u64, Vec<u8>)>, stream: Stream, at_ms: u64, bytes: &[u8]) {
    match to.last_mut() {
        _ if bytes.is_empty() => {}
        Some((last, since, text)) if *last == stream && at_ms.saturating_sub(*since) < 100 => {
            text.extend_from_slice(bytes);
        }
        _ => to.push((stream, at_ms, bytes.to_vec())),
    }
}
