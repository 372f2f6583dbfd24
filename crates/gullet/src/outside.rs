//! What the core is handed of the outside world, for real.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::sync::{Arc, LazyLock};
use std::time::Duration;

use gullet_host::world::{Clock, Stop, World};
use gullet_model::ids::Random;
use gullet_model::record::Host;
use gullet_run::hold::guard::Signals;
use jiff::Timestamp;
use rustix::time::ClockId;

/// The system's clocks.
pub struct SystemClock;

impl Clock for SystemClock {
    fn now(&self) -> Timestamp {
        Timestamp::now()
    }

    fn uptime(&self) -> Duration {
        let time = rustix::time::clock_gettime(ClockId::Boottime);
        Duration::new(u64::try_from(time.tv_sec).unwrap_or(0), u32::try_from(time.tv_nsec).unwrap_or(0))
    }

    fn sleep(&self, time: Duration) {
        std::thread::sleep(time);
    }
}

/// The kernel's randomness.
pub struct SystemRandom;

impl Random for SystemRandom {
    fn fill(&self, bytes: &mut [u8]) {
        let mut filled = 0;
        while filled < bytes.len() {
            filled += rustix::rand::getrandom(&mut bytes[filled..], rustix::rand::GetRandomFlags::empty()).unwrap_or(0);
        }
    }
}

/// All of it, made once.
pub struct RealWorld {
    host: Host,
    environment: BTreeMap<String, String>,
    stop: Arc<Stop>,
}

static CLOCK: LazyLock<SystemClock> = LazyLock::new(|| SystemClock);
static RANDOM: LazyLock<SystemRandom> = LazyLock::new(|| SystemRandom);

/// What this process was started with, as far as it is text.
pub fn environment() -> BTreeMap<String, String> {
    let texts = |(name, value): (OsString, OsString)| Some((name.into_string().ok()?, value.into_string().ok()?));
    std::env::vars_os().filter_map(texts).collect()
}

/// Whether signs that are no ASCII would be of no use: where the locale says so, and on a terminal that calls itself dumb, which is
/// often read aloud.
pub fn wants_plain_signs() -> bool {
    static WANTS: std::sync::OnceLock<bool> = std::sync::OnceLock::new();
    *WANTS.get_or_init(|| {
        let said = |name: &str| std::env::var(name).ok().filter(|value| !value.is_empty());
        // The first of these that is set counts (POSIX.1-2017, 8.2); where none is, nothing is said.
        let locale = said("LC_ALL").or_else(|| said("LC_CTYPE")).or_else(|| said("LANG"));
        let is_utf8 = |locale: &String| {
            let locale = locale.to_ascii_lowercase();
            locale.contains("utf-8") || locale.contains("utf8")
        };
        said("TERM").as_deref() == Some("dumb") || locale.as_ref().is_some_and(|locale| !is_utf8(locale))
    })
}

/// The name of this machine.
pub fn host_name() -> String {
    rustix::system::uname().nodename().to_string_lossy().into_owned()
}

impl RealWorld {
    /// Looks at the machine.
    pub fn new() -> Self {
        let names = rustix::system::uname();
        let text = |name: &std::ffi::CStr| name.to_string_lossy().into_owned();
        let (account, home) = account();
        let host = Host {
            name: host_name(),
            system: format!("{} {}", text(names.sysname()), text(names.release())),
            architecture: text(names.machine()),
            account,
            gullet: env!("CARGO_PKG_VERSION").to_owned(),
        };
        let mut environment = environment();
        // Hooks get the account's home by the password file, the same by hand and by timer.
        environment.insert("HOME".to_owned(), home);
        Self { host, environment, stop: Arc::new(Stop::default()) }
    }

    /// Lets SIGINT, SIGTERM and SIGHUP ask for a stop instead of ending the program. What this process was told to ignore when it
    /// was started, as `nohup` does, stays ignored. A file that grows beyond the limit of the system is an error with words.
    pub fn listen_to_signals(&self) -> std::io::Result<()> {
        use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM, SIGXFSZ};
        let ignored = ignored_signals();
        let heeded = [SIGINT, SIGTERM, SIGHUP].into_iter().filter(|signal| ignored & (1 << (signal - 1)) == 0);
        let mut signals = signal_hook::iterator::Signals::new(heeded.chain([SIGXFSZ]))?;
        let stop = Arc::clone(&self.stop);
        std::thread::spawn(move || {
            for signal in signals.forever().filter(|signal| *signal != SIGXFSZ) {
                stop.ask(signal);
            }
        });
        Ok(())
    }

    /// Asks for a stop at a time. The clock of the wall is looked at again and again: it may jump, and the machine may sleep.
    pub fn stop_at(&self, at: Timestamp) {
        let stop = Arc::clone(&self.stop);
        std::thread::spawn(move || {
            while CLOCK.now() < at {
                CLOCK.sleep(Duration::from_millis(200));
            }
            stop.ask(gullet_run::run::FINISH_BY);
        });
    }

    /// What the core is handed.
    pub fn world(&self) -> World<'_> {
        World { clock: &*CLOCK, random: &*RANDOM, host: &self.host, environment: &self.environment, stop: &self.stop }
    }
}

/// The commands that start a guard, the best first: this very program, even where its file was replaced meanwhile. Where a
/// service manager is, it gets a scope of its own if that is permitted, so that ending the session or the unit that this
/// command runs in does not take the guard with it.
pub fn guard_commands() -> Vec<Vec<OsString>> {
    let plain = vec![vec!["/proc/self/exe".into(), "guard".into()]];
    if !std::path::Path::new("/run/systemd/system").is_dir() {
        return plain;
    }
    let own = std::process::id();
    let mut scope: Vec<OsString> = ["systemd-run", "--scope", "--quiet", "--collect"].map(Into::into).to_vec();
    if !rustix::process::geteuid().is_root() {
        scope.push("--user".into());
    }
    // There `/proc/self/exe` would be the program that makes the scope.
    scope.extend([format!("--unit=gullet-guard-{own}").into(), "--".into(), format!("/proc/{own}/exe").into()]);
    scope.push("guard".into());
    [vec![scope], plain].concat()
}

/// Makes this process a guard: in a session of its own, so that no terminal and no login session takes it with them, safe
/// from the out-of-memory killer before others, kept in memory, and deaf to signals but as a wish to leave.
pub fn as_guard(told: &Signals) -> std::io::Result<()> {
    use signal_hook::consts::{SIGHUP, SIGINT, SIGPIPE, SIGTERM, SIGUSR1, SIGXFSZ};
    // It fails only for a process that leads a group, which one that was just started does not.
    let _ = rustix::process::setsid();
    let _ = std::fs::write("/proc/self/oom_score_adj", "-500");
    let _ = rustix::mm::mlockall(rustix::mm::MlockAllFlags::CURRENT);
    let mut signals = signal_hook::iterator::Signals::new([SIGINT, SIGTERM, SIGHUP, SIGPIPE, SIGUSR1, SIGXFSZ])?;
    let told = told.clone();
    std::thread::spawn(move || {
        for signal in signals.forever() {
            match signal {
                SIGUSR1 => told.hand_over.ask(signal),
                SIGPIPE | SIGXFSZ => {}
                _ => {
                    told.leave.ask(signal);
                    told.cancel.ask(signal);
                }
            }
        }
    });
    Ok(())
}

/// The signals that this process ignores, as the kernel's mask of them (proc(5), SigIgn).
fn ignored_signals() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask = status.lines().find_map(|line| line.strip_prefix("SigIgn:"));
    mask.and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok()).unwrap_or(0)
}

/// The name and home of the account that this process runs as, from the password file.
fn account() -> (String, String) {
    let uid = rustix::process::geteuid().as_raw();
    let file = std::fs::read_to_string("/etc/passwd").unwrap_or_default();
    let mut lines = file.lines().map(|line| line.split(':').collect::<Vec<_>>());
    match lines.find(|fields| fields.get(2).is_some_and(|field| *field == uid.to_string())) {
        Some(fields) => (format!("{} ({uid})", fields[0]), fields.get(5).unwrap_or(&"/").to_string()),
        None => (format!("({uid})"), "/".to_owned()),
    }
}
