//! Database servers that are started on what was restored, apart from every live one: with a socket in a folder of their own,
//! no port, and none of the settings that reach outside (archiving, replication, logs elsewhere).
//!
//! A server gets the signal KILL when this process dies (`PR_SET_PDEATHSIG`, prctl(2)), so that none is left behind.

use std::fs::{self, File};
use std::io::Read;
use std::os::unix::fs::{DirBuilderExt, MetadataExt, PermissionsExt, chown};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::{Pid, PidfdFlags, Signal, kill_process, pidfd_open};

use super::{EngineError, Waiting};
use gullet_host::hook::{Account, Cancellation};
use gullet_host::world::World;
use gullet_model::step::Facts;
use gullet_model::{Reason, ReasonAbout};

/// How long a server may take to start: it may have a log to play back.
const STARTS_WITHIN: Duration = Duration::from_secs(30 * 60);
/// How long it may take to answer.
const ANSWERS_WITHIN: Duration = Duration::from_secs(30 * 60);
/// How long it may take to end, in seconds.
const ENDS_WITHIN_S: i64 = 10;

/// A server that runs until this is dropped.
pub struct RunningServer {
    child: Child,
    /// Its socket's folder (PostgreSQL), or its socket (MariaDB).
    pub socket: PathBuf,
    sockets: PathBuf,
    signal: Signal,
}

impl Drop for RunningServer {
    fn drop(&mut self) {
        let pid = Pid::from_child(&self.child);
        let _ = kill_process(pid, self.signal);
        if let Ok(watch) = pidfd_open(pid, PidfdFlags::empty()) {
            let within = Timespec { tv_sec: ENDS_WITHIN_S, tv_nsec: 0 };
            let _ = poll(&mut [PollFd::new(&watch, PollFlags::IN)], Some(&within));
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
        let _ = fs::remove_dir_all(&self.sockets);
    }
}

/// Where servers of a drill work, and as whom.
pub struct ScratchServers<'a> {
    /// The outside world.
    pub world: World<'a>,
    /// The drill's folder.
    pub folder: &'a Path,
    /// The folder above which nothing is opened to other accounts.
    pub top: &'a Path,
    /// The drill's id.
    pub id: &'a str,
}

/// A part that a drill has restored into its folder.
pub struct Restored<'a> {
    /// The part's number among those of the drill.
    pub number: usize,
    /// The facts of its capture.
    pub facts: &'a Facts,
    /// Its roots, where it is of files; none where it is an export.
    pub roots: &'a [PathBuf],
    /// The folder that has everything of the run that is files, by its paths.
    pub files: &'a Path,
    /// The folder of its export.
    pub export: &'a Path,
}

/// A server that was started on what was restored.
pub struct TriedOut {
    /// The server, which runs until this is dropped.
    pub server: RunningServer,
    /// The tables that it has, with their rows.
    pub facts: Facts,
    /// How the server was started, and what its own checks said, for the report.
    pub note: String,
}

/// Whom programs run as, where that is not this process's account.
pub(super) type Ids = Option<(u32, u32)>;

impl ScratchServers<'_> {
    pub(super) fn waiting(&self) -> Waiting<'_> {
        let patience = Cancellation { stop: Some(self.world.stop), ..Cancellation::default() };
        Waiting { clock: self.world.clock, patience, limit: ANSWERS_WITHIN }
    }

    /// The owner of a folder, or the first account of these names, where this process may become it.
    pub(super) fn ids(of: Option<&Path>, names: &[&str]) -> Ids {
        if !rustix::process::geteuid().is_root() {
            return None;
        }
        let owner = of.and_then(|folder| fs::metadata(folder).ok()).map(|meta| (meta.uid(), meta.gid()));
        let named = || names.iter().find_map(|name| Account::find(name).ok()).map(|a| (a.uid, a.gid));
        // Servers refuse to run as root.
        owner.filter(|(uid, _)| *uid != 0).or_else(named)
    }

    /// A program that ends when this process does, as an account.
    pub(super) fn command(program: &Path, ids: Ids) -> Command {
        let mut command = Command::new("setpriv");
        command.args(["--pdeathsig", "KILL"]);
        if let Some((uid, gid)) = ids {
            command.args(["--reuid", &uid.to_string(), "--regid", &gid.to_string(), "--clear-groups"]);
        }
        command.arg("--").arg(program).env_clear().env("PATH", gullet_host::hook::PATH).env("LC_ALL", "C.UTF-8");
        command.current_dir("/").stdin(Stdio::null());
        command
    }

    /// A short folder for a socket, whose path may have 107 bytes: of the account's own.
    pub(super) fn sockets(&self, part: usize, ids: Ids) -> Result<PathBuf, Reason> {
        let folder = PathBuf::from(format!("/tmp/gullet-drill-{}-{part}", self.id));
        fs::DirBuilder::new().mode(0o700).create(&folder).about(folder.display())?;
        if let Some((uid, gid)) = ids {
            chown(&folder, Some(uid), Some(gid)).about(folder.display())?;
        }
        Ok(folder)
    }

    /// Lets an account pass through the folders above a path, up to the top.
    pub(super) fn let_pass(&self, path: &Path) {
        for folder in path.ancestors().skip(1).take_while(|folder| folder.starts_with(self.top)) {
            if let Ok(meta) = fs::metadata(folder)
                && meta.mode() & 0o001 == 0
            {
                let _ = fs::set_permissions(folder, fs::Permissions::from_mode(meta.mode() & 0o7777 | 0o011));
            }
        }
    }

    /// A folder of an account's own below the drill's.
    pub(super) fn own_folder(&self, name: &str, ids: Ids) -> Result<PathBuf, Reason> {
        let folder = self.folder.join(name);
        fs::DirBuilder::new().mode(0o700).create(&folder).about(folder.display())?;
        if let Some((uid, gid)) = ids {
            chown(&folder, Some(uid), Some(gid)).about(folder.display())?;
        }
        self.let_pass(&folder);
        Ok(folder)
    }

    /// Runs a program to its end; what it said where it fails.
    pub(super) fn run(&self, mut command: Command, stdin: Option<&Path>) -> Result<String, Reason> {
        let name = command.get_args().skip_while(|word| *word != "--").nth(1).map(|w| w.to_string_lossy().into_owned());
        let name = name.unwrap_or_default();
        if let Some(path) = stdin {
            command.stdin(File::open(path).about(path.display())?);
        }
        let output = command.output().about(format_args!("`{name}`"))?;
        let errors = String::from_utf8_lossy(&output.stderr).into_owned();
        if output.status.success() {
            return Ok(errors);
        }
        let line = errors.lines().find(|line| line.contains("ERROR") || line.contains("FATAL"));
        let line = line.or_else(|| errors.lines().rfind(|line| !line.trim().is_empty())).unwrap_or("no reason given");
        Err(Reason::new(format!("`{name}`: {}", line.trim())))
    }

    /// Starts a server, and waits until `answers` has it.
    pub(super) fn start<T>(
        &self,
        mut command: Command,
        (sockets, socket, signal): (PathBuf, PathBuf, Signal),
        log: &Path,
        answers: impl Fn() -> Result<T, EngineError>,
    ) -> Result<(RunningServer, T), Reason> {
        let output = File::create(log).about(log.display())?;
        let errors = output.try_clone()?;
        let child = command.stdout(output).stderr(errors).spawn().about("setpriv")?;
        let mut running = RunningServer { child, socket, sockets, signal };
        let clock = self.world.clock;
        let began = clock.uptime();
        loop {
            if let Ok(session) = answers() {
                return Ok((running, session));
            }
            let ended = matches!(running.child.try_wait(), Ok(Some(_)) | Err(_));
            let late = clock.uptime().saturating_sub(began) >= STARTS_WITHIN || self.world.stop.asked().is_some();
            if ended || late {
                let why = if ended { "the server does not start on it" } else { "the server did not answer in time" };
                return Err(Reason::new(format!("{why}: {}", last_words(log))));
            }
            clock.sleep(Duration::from_millis(50));
        }
    }
}

/// The exports in a folder, in the order of their names.
pub(super) fn sql_files(folder: &Path) -> Result<Vec<PathBuf>, Reason> {
    let entries = fs::read_dir(folder).about(folder.display())?;
    let mut files: Vec<PathBuf> = entries.flatten().map(|entry| entry.path()).collect();
    files.retain(|path| path.extension().is_some_and(|extension| extension == "sql"));
    files.sort();
    Ok(files)
}

/// What a server said last that says why.
fn last_words(log: &Path) -> String {
    let mut text = String::new();
    if let Ok(file) = File::open(log) {
        let _ = file.take(1 << 20).read_to_string(&mut text);
    }
    let grave = ["PANIC", "FATAL", "[ERROR]", "ERROR"];
    let line = grave.iter().find_map(|word| text.lines().rfind(|line| line.contains(word)));
    line.or_else(|| text.lines().rfind(|line| !line.trim().is_empty())).unwrap_or("it said nothing").trim().to_owned()
}
