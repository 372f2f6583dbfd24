//! Processes that belong to a call: found by their parents and by a mark in their environment, and ended only while they are the
//! ones that were found.
//!
//! A process number is used again by the system, so it never stands alone: with it goes the time at which the process
//! started, as `/proc/PID/stat` has it (field 22, proc(5)), and a signal is sent through a descriptor of the process.

use std::fs;
use std::time::Duration;

use rustix::process::{Pid, PidfdFlags, Signal, pidfd_open, pidfd_send_signal};
use serde::{Deserialize, Serialize};

use crate::world::Clock;

/// The variable that marks the processes of a call: `FAMILY.NUMBER`. Whoever inherits the environment belongs to the call,
/// whatever its group, session or parent is.
pub const MARK: &str = "GULLET_CALL";
/// Between TERM and KILL.
const GRACE: Duration = Duration::from_secs(2);
/// After KILL, before a process that does not go is given up.
const GIVE_UP: Duration = Duration::from_secs(5);

/// A process that cannot be taken for another one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Process {
    /// The number that the kernel gave it, which may be given again when it has ended.
    pub pid: i32,
    /// When it started, in clock ticks since the boot.
    pub started: u64,
}

/// What `/proc/PID/stat` says of a process.
struct Stat {
    name: String,
    state: char,
    parent: i32,
    started: u64,
}

fn stat(pid: i32) -> Option<Stat> {
    let text = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // The second field is a name in brackets that may hold anything.
    let (head, rest) = text.rsplit_once(')')?;
    let mut fields = rest.split_whitespace();
    let state = fields.next()?.chars().next()?;
    let parent = fields.next()?.parse().ok()?;
    let started = fields.nth(17)?.parse().ok()?;
    Some(Stat { name: head.split_once('(').map_or("", |(_, name)| name).to_owned(), state, parent, started })
}

impl Process {
    /// The process that has this number now.
    pub fn of(pid: i32) -> Option<Self> {
        Some(Self { pid, started: stat(pid)?.started })
    }

    /// The process that asks.
    pub fn own() -> Self {
        let pid = i32::try_from(std::process::id()).unwrap_or(0);
        Self { pid, started: stat(pid).map_or(0, |stat| stat.started) }
    }

    /// Its name, while it is the one that was meant and has not ended.
    pub fn living(self) -> Option<String> {
        let stat = stat(self.pid)?;
        (stat.started == self.started && !matches!(stat.state, 'Z' | 'X')).then_some(stat.name)
    }

    /// Sends a signal to it and never to another one. Whether it was sent.
    pub fn signal(self, signal: Signal) -> bool {
        let Some(pid) = Pid::from_raw(self.pid) else { return false };
        let Ok(descriptor) = pidfd_open(pid, PidfdFlags::empty()) else { return false };
        // The descriptor is of whoever has the number now; it stays that one's.
        self.living().is_some() && pidfd_send_signal(&descriptor, signal).is_ok()
    }
}

/// The numbers of all processes.
fn all() -> Vec<i32> {
    let entries = fs::read_dir("/proc").into_iter().flatten().flatten();
    entries.filter_map(|entry| entry.file_name().to_str()?.parse().ok()).collect()
}

/// All processes below `root`, by their parents.
pub(super) fn descendants(root: i32) -> Vec<Process> {
    let stats: Vec<(i32, Stat)> = all().into_iter().filter_map(|pid| Some((pid, stat(pid)?))).collect();
    let mut above = vec![root];
    let mut found = Vec::new();
    let mut at = 0;
    while at < above.len() {
        let of = |(pid, stat): &&(i32, Stat)| stat.parent == above[at] && !above.contains(pid);
        let children: Vec<Process> =
            stats.iter().filter(of).map(|(pid, stat)| Process { pid: *pid, started: stat.started }).collect();
        above.extend(children.iter().map(|child| child.pid));
        found.extend(children);
        at += 1;
    }
    found
}

/// The value of a variable in the environment that a process was started with.
fn variable<'e>(environ: &'e [u8], name: &str) -> Option<&'e str> {
    let wanted =
        environ.split(|byte| *byte == 0).find_map(|one| one.strip_prefix(name.as_bytes())?.strip_prefix(b"="))?;
    std::str::from_utf8(wanted).ok()
}

/// All processes whose mark begins with `mark`, and whose moment fits.
pub fn marked(mark: &str, fits: impl Fn(&str) -> bool) -> Vec<Process> {
    let own = std::process::id();
    let of_call = |pid: &i32| {
        let Ok(environ) = fs::read(format!("/proc/{pid}/environ")) else { return false };
        variable(&environ, MARK).is_some_and(|found| found.starts_with(mark))
            && fits(variable(&environ, "GULLET_MOMENT").unwrap_or_default())
    };
    all().into_iter().filter(|pid| u32::try_from(*pid) != Ok(own)).filter(of_call).filter_map(Process::of).collect()
}

/// A process that was started with this variable of the environment, other than this one.
pub fn with_variable(name: &str, value: &str) -> Option<Process> {
    let own = std::process::id();
    let has = |pid: &i32| {
        let environ = fs::read(format!("/proc/{pid}/environ")).unwrap_or_default();
        variable(&environ, name) == Some(value)
    };
    all().into_iter().filter(|pid| u32::try_from(*pid) != Ok(own)).find(has).and_then(Process::of)
}

/// The signals that end a process, each with the time that it is given after it.
type Signals = [(Signal, Duration)];
/// A wish first, then an order.
const GENTLY: &Signals = &[(Signal::TERM, GRACE), (Signal::KILL, GIVE_UP)];
/// For what had its time to end already.
pub(super) const AT_ONCE: &Signals = &[(Signal::KILL, GIVE_UP)];

/// Ends processes and waits until they are gone. Gives the names of those that do not go.
fn end_all(processes: &[Process], signals: &Signals, clock: &dyn Clock) -> Vec<String> {
    for (signal, patience) in signals {
        for process in processes {
            process.signal(*signal);
        }
        let began = clock.uptime();
        while processes.iter().any(|process| process.living().is_some()) {
            if clock.uptime().saturating_sub(began) >= *patience {
                break;
            }
            clock.sleep(Duration::from_millis(10));
        }
    }
    processes.iter().filter_map(|process| Some(format!("{} ({})", process.living()?, process.pid))).collect()
}

/// How long a process that is looked for again may take to become another program.
const BECOMES_ANOTHER: Duration = Duration::from_millis(5);
/// How often processes that came up while others were ended are looked for.
const ROUNDS: u32 = 20;

/// Ends all processes that `find` gives and waits until they are gone, again and again until it gives no new one: what is
/// ended may start another one first. TERM comes first, then KILL. Gives the names of those that do not go.
pub fn end_found(find: impl Fn() -> Vec<Process>, clock: &dyn Clock) -> Vec<String> {
    end_found_by(GENTLY, find, clock)
}

/// The same by these signals.
pub(super) fn end_found_by(signals: &Signals, find: impl Fn() -> Vec<Process>, clock: &dyn Clock) -> Vec<String> {
    let mut known: Vec<Process> = Vec::new();
    let mut stuck = Vec::new();
    let mut was_empty = false;
    for _ in 0..ROUNDS {
        let new: Vec<Process> =
            find().into_iter().filter(|process| process.living().is_some() && !known.contains(process)).collect();
        if new.is_empty() {
            // A process that is becoming another program has no environment for a moment: nobody is found twice, then.
            if std::mem::replace(&mut was_empty, true) {
                break;
            }
            clock.sleep(BECOMES_ANOTHER);
            continue;
        }
        was_empty = false;
        stuck.extend(end_all(&new, signals, clock));
        known.extend(new);
    }
    stuck
}

#[cfg(test)]
mod tests {
    use std::process::Command;

    use super::*;

    #[test]
    fn a_signal_never_goes_to_another_process_with_the_same_number() {
        let mut child = Command::new("sleep").arg("60").spawn().unwrap();
        let process = Process::of(i32::try_from(child.id()).unwrap()).unwrap();
        let other = Process { started: process.started + 1, ..process };
        assert!(other.living().is_none() && !other.signal(Signal::KILL));
        assert_eq!(process.living().as_deref(), Some("sleep"));
        assert!(process.signal(Signal::KILL));
        child.wait().unwrap();
        assert!(process.living().is_none() && !process.signal(Signal::KILL));
    }

    #[test]
    fn who_inherits_the_mark_is_found_wherever_it_went() {
        let mut child = Command::new("setsid");
        child
            .args(["sh", "-c", "setsid sleep 61 & exit 0"])
            .env(MARK, "family-of-this-test.1")
            .env("GULLET_MOMENT", "enter");
        child.status().unwrap();
        assert!(marked("family-of-this-test.", |moment| moment == "release").is_empty());
        // It is not found while it is becoming `setsid` or `sleep`.
        let mut found = Vec::new();
        for _ in 0..500 {
            found = marked("family-of-this-test.", |moment| moment == "enter");
            if found.len() == 1 {
                break;
            }
            Command::new("sleep").arg("0.01").status().unwrap();
        }
        assert_eq!(found.len(), 1, "{found:?}");
        assert!(found[0].signal(Signal::KILL));
    }
}
