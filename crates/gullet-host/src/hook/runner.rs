//! Running a command of the definition: environment, placeholders, limit, tries, notes.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use super::account::{Account, AccountError};
use super::family::{MARK, Process};
use super::notes::Notes;
use super::probe::judge;
use super::process::{Cancellation, Finished, HttpAnswer, Invocation, run_process};
use super::request;
use super::secret::{self, SecretError};
use crate::world::World;
use gullet_model::Reason;
use gullet_model::definition::placeholders::{self, NoValue, variable};
use gullet_model::definition::{CommandSpec, EnvValue, OneOrMany, Probe};
use gullet_model::ids::random_id;
use gullet_model::step::CommandReport;

/// Where programs are looked for: fixed, so that a run by hand and one by timer find the same.
pub const PATH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
/// The pause between tries grows up to this.
const LONGEST_PAUSE: Duration = Duration::from_secs(10);
/// How often a probe is asked while it is waited for.
const ASK_AGAIN: Duration = Duration::from_millis(50);

/// How long a command may take that has no `limit`.
#[derive(Clone, Copy, Debug)]
pub struct Limits;

impl Limits {
    /// A hook, an `enter`, a `release`.
    pub const HOOK: Duration = Duration::from_secs(5 * 60);
    /// What a probe may take.
    pub const PROBE: Duration = Duration::from_secs(30);
    /// An export or a command part.
    pub const EXPORT: Duration = Duration::from_secs(60 * 60);
    /// How long a probe of the hold is asked again.
    pub const WITHIN: Duration = Duration::from_secs(30);
    /// How long `drained` is waited for.
    pub const SETTLED: Duration = Duration::from_secs(10 * 60);
}

/// A command could not even be put together.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum HookError {
    /// A placeholder has no value.
    #[error(transparent)]
    NoValue(#[from] NoValue),
    /// A secret could not be had.
    #[error(transparent)]
    Secret(#[from] SecretError),
    /// It cannot run as the account that is asked for.
    #[error(transparent)]
    Account(#[from] AccountError),
    /// The file for its output or notes could not be made.
    #[error("cannot open `{}`", path.display())]
    File {
        /// The file that could not be opened.
        path: PathBuf,
        /// What the system said.
        #[source]
        source: std::io::Error,
    },
}

/// One call of a command.
pub struct Call<'a> {
    /// Values of placeholders besides `{run}`.
    pub values: BTreeMap<String, String>,
    /// The moment, for `GULLET_MOMENT`.
    pub moment: &'a str,
    /// The limit where the command has none.
    pub limit: Duration,
    /// What may end it early.
    pub patience: Cancellation<'a>,
    /// The folder for `{scratch}` and `GULLET_SCRATCH`.
    pub scratch: Option<PathBuf>,
    /// The file that is its standard input.
    pub stdin: Option<PathBuf>,
    /// The file that takes standard output.
    pub stdout: Option<PathBuf>,
    /// The folder to run in, where the command says none.
    pub dir: Option<PathBuf>,
    /// Variables of the environment besides those of the definition.
    pub env: BTreeMap<String, String>,
    /// Further environment that must not appear in what is kept.
    pub secrets: BTreeMap<String, String>,
    /// Whether it may leave notes in `GULLET_NOTES`. What must work on a full or frozen disk may not.
    pub notes: bool,
    /// Told which process is started, and that it is over.
    pub started: Option<&'a (dyn Fn(Option<Process>) + Sync)>,
}

impl Default for Call<'_> {
    /// A command with no values, for no moment, that has the usual time of a hook: without a limit that is said none ends at once.
    fn default() -> Self {
        Self {
            values: BTreeMap::new(),
            moment: "",
            limit: Limits::HOOK,
            patience: Cancellation::default(),
            scratch: None,
            stdin: None,
            stdout: None,
            dir: None,
            env: BTreeMap::new(),
            secrets: BTreeMap::new(),
            notes: false,
            started: None,
        }
    }
}

/// What came of a call.
#[derive(Debug)]
pub struct CallOutcome {
    /// Every try, the last one last.
    pub tries: Vec<CommandReport>,
    /// Whether the last try did what it should; else why not.
    pub result: Result<(), Reason>,
    /// Standard output of the last try, as text without its last newline.
    pub text: String,
    /// What a server answered to the last try, where it is a request.
    pub answer: Option<HttpAnswer>,
    /// What it noted.
    pub notes: Notes,
    /// Whether something that it started may still have been writing to its standard output when it ended.
    pub left_open: bool,
}

impl CallOutcome {
    /// An outcome without a process.
    pub fn new(result: Result<(), Reason>) -> Self {
        Self { tries: Vec::new(), result, text: String::new(), answer: None, notes: Notes::default(), left_open: false }
    }
}

/// Runs the commands of one run.
pub struct Runner<'w> {
    /// The outside world.
    pub world: World<'w>,
    /// The application's name.
    pub app: String,
    /// The run's id.
    pub run: String,
    /// What marks the processes of its calls: random, and the hold's token or the run's id, so that who finds them later knows
    /// what they belonged to.
    pub family: String,
    /// The run's private folder; notes are taken there.
    pub folder: PathBuf,
    /// The folder that it lies in somewhere: the state folder. What is above it is never changed.
    pub top: PathBuf,
}

/// The account that a command runs as where it names one, and the words in front of it that make it do so.
fn prefix_of(spec: &CommandSpec) -> Result<(Option<Account>, Vec<String>), AccountError> {
    let account = spec.run_as.as_ref().map(|name| Account::find(name)).transpose()?;
    let prefix = match (&spec.through, &account) {
        (Some(through), _) => through.clone(),
        (None, Some(account)) => account.prefix()?,
        (None, None) => Vec::new(),
    };
    Ok((account, prefix))
}

/// The program and its arguments as the definition has them; of a script its interpreter.
fn program_of(spec: &CommandSpec) -> Vec<String> {
    let interpreter = || spec.interpreter.clone().unwrap_or_else(|| vec!["/bin/sh".to_owned(), "-eu".to_owned()]);
    spec.run.clone().unwrap_or_else(interpreter)
}

/// The words that a command will be executed as, and that its record will have: placeholders that are filled only then stay
/// as they are. Of a request its method and its URL.
///
/// # Errors
/// When it cannot run as the account that it names.
pub fn argv_of(spec: &CommandSpec) -> Result<Vec<String>, AccountError> {
    if let Some((method, url)) = spec.asked() {
        return Ok(vec![method.to_owned(), url.clone()]);
    }
    Ok([prefix_of(spec)?.1, program_of(spec)].concat())
}

impl<'w> Runner<'w> {
    /// Runs commands that belong to no run, with the scratch folder of a state folder.
    pub fn apart(world: World<'w>, app: &str, state: &Path) -> Self {
        Self {
            world,
            app: app.to_owned(),
            run: String::new(),
            family: random_id(world.random, 12),
            folder: state.join("scratch"),
            top: state.to_path_buf(),
        }
    }
}

impl Runner<'_> {
    fn environment(&self, call: &Call<'_>) -> BTreeMap<String, String> {
        static NUMBER: AtomicU64 = AtomicU64::new(0);
        let number = NUMBER.fetch_add(1, Ordering::Relaxed);
        // It ends in a dot, so that no call's mark is the beginning of another one's.
        let mark = format!("{}.{}-{number}.", self.family, std::process::id());
        let fixed = [
            ("PATH", PATH),
            ("LC_ALL", "C.UTF-8"),
            ("HOME", self.world.environment.get("HOME").map_or("/", String::as_str)),
            ("GULLET_RUN", &self.run),
            ("GULLET_APP", &self.app),
            ("GULLET_MOMENT", call.moment),
            (MARK, &mark),
        ];
        let mut env: BTreeMap<String, String> = fixed.map(|(name, value)| (name.to_owned(), value.to_owned())).into();
        if let Some(scratch) = &call.scratch {
            env.insert("GULLET_SCRATCH".to_owned(), scratch.display().to_string());
        }
        env.extend(call.env.clone());
        // Scripts get values this way: as text in a script they would be read by its interpreter.
        for (name, value) in self.values(call).iter().filter(|(name, _)| name.as_str() != "run") {
            env.entry(variable(name)).or_insert_with(|| value.clone());
        }
        env
    }

    /// What placeholders are filled with.
    fn values(&self, call: &Call<'_>) -> BTreeMap<String, String> {
        let mut values = call.values.clone();
        values.insert("run".to_owned(), self.run.clone());
        if let Some(scratch) = &call.scratch {
            values.insert("scratch".to_owned(), scratch.display().to_string());
        }
        values
    }

    /// Puts a command together.
    pub fn prepare<'c>(&self, spec: &CommandSpec, call: &Call<'c>) -> Result<Invocation<'c>, HookError> {
        let values = self.values(call);
        let (account, prefix) = prefix_of(spec)?;
        let fill =
            |word: &String| if spec.run.is_some() { placeholders::fill(word, &values) } else { Ok(word.clone()) };
        let argv: Vec<String> = program_of(spec).iter().map(fill).collect::<Result<_, _>>()?;
        let mut resolved = secret::resolve(&spec.env, self.world.environment)?;
        for (name, value) in &mut resolved.env {
            if matches!(spec.env.get(name), Some(EnvValue::Plain(_))) {
                *value = placeholders::fill(value, &values)?;
            }
        }
        resolved.secrets.extend(call.secrets.values().cloned());
        let mut env = self.environment(call);
        if let Some(account) = &account {
            env.insert("HOME".to_owned(), account.home.clone());
            let notes = env.get("GULLET_NOTES").map(PathBuf::from);
            for place in call.scratch.iter().chain(&notes) {
                account.open(place, &self.top)?;
            }
        }
        env.extend(resolved.env);
        env.extend(call.secrets.clone());
        let stdout = match &call.stdout {
            None => None,
            Some(path) => {
                let mut options = fs::OpenOptions::new();
                options.write(true).create(true).truncate(true).mode(0o600);
                Some(options.open(path).map_err(|source| HookError::File { path: path.clone(), source })?)
            }
        };
        let stdin = match &call.stdin {
            None => None,
            Some(path) => Some(File::open(path).map_err(|source| HookError::File { path: path.clone(), source })?),
        };
        Ok(Invocation {
            argv: [prefix, argv].concat(),
            stdin,
            script: spec.script.clone(),
            dir: spec.dir.clone().or_else(|| call.dir.clone()).unwrap_or_else(|| PathBuf::from("/")),
            env,
            limit: spec.limit.map_or(call.limit, |limit| limit.0),
            stdout,
            started: call.started,
            secrets: resolved.secrets,
            account: match (&account, &spec.through) {
                (Some(account), _) => format!("{} ({})", account.name, account.uid),
                (None, Some(through)) => format!("through {}", through.join(" ")),
                (None, None) => self.world.host.account.clone(),
            },
        })
    }

    /// Runs a command once.
    fn once(&self, spec: &CommandSpec, call: &Call<'_>) -> Result<Finished, HookError> {
        if let Some((method, url)) = spec.asked() {
            let prepared = request::prepare((method, url), spec, call, &self.values(call), self.world)?;
            return Ok(request::perform(prepared, call, self.world));
        }
        let invocation = self.prepare(spec, call)?;
        Ok(run_process(invocation, self.world.clock, call.patience))
    }

    /// Runs a command until it succeeds, as often as it may be tried; takes its notes.
    pub fn run(&self, spec: &CommandSpec, mut call: Call<'_>) -> CallOutcome {
        let notes_file = call.notes.then(|| self.folder.join("notes.jsonl"));
        if let Some(file) = &notes_file {
            let _ = fs::write(file, "");
            call.env.insert("GULLET_NOTES".to_owned(), file.display().to_string());
        }
        let mut outcome = CallOutcome::new(Err(Reason::new("it was not tried")));
        let mut pause = Duration::from_millis(200);
        for number in 0..spec.tries.unwrap_or(1).max(1) {
            if number > 0 {
                if call.patience.is_over(self.world.clock) {
                    break;
                }
                self.world.clock.sleep(pause);
                pause = (pause * 2).min(LONGEST_PAUSE);
            }
            match self.once(spec, &call) {
                Ok(finished) => {
                    outcome.text = finished.text();
                    outcome.answer = finished.answer.clone();
                    outcome.left_open = finished.left_open;
                    outcome.result = if finished.succeeded() { Ok(()) } else { Err(Reason::new(finished.failure())) };
                    outcome.tries.push(finished.report);
                }
                Err(error) => {
                    outcome.result = Err(error.into());
                    break;
                }
            }
            if outcome.result.is_ok() {
                break;
            }
        }
        if let Some(file) = notes_file {
            let (notes, errors) = Notes::parse(&fs::read_to_string(&file).unwrap_or_default());
            outcome.notes = notes;
            outcome.notes.warnings.extend(errors.iter().map(ToString::to_string));
            let _ = fs::remove_file(&file);
        }
        outcome
    }

    /// Asks a probe, or all of a list, once.
    pub fn ask(&self, probes: &OneOrMany<Probe>, call: &Call<'_>) -> CallOutcome {
        let mut outcome = CallOutcome::new(Ok(()));
        for probe in probes.all() {
            match self.once(&probe.command, call) {
                Ok(finished) => {
                    outcome.text = finished.text();
                    outcome.result = judge(probe, &finished);
                    outcome.tries.push(finished.report);
                }
                Err(error) => outcome.result = Err(error.into()),
            }
            if outcome.result.is_err() {
                break;
            }
        }
        outcome
    }

    /// Asks until it holds, for as long as its `within` says, or `within` where it says nothing. The last answer is kept.
    pub fn wait_for(&self, probes: &OneOrMany<Probe>, call: &Call<'_>, within: Duration) -> CallOutcome {
        let within = probes.all().iter().filter_map(|probe| probe.within).map(|span| span.0).max().unwrap_or(within);
        let began = self.world.clock.uptime();
        loop {
            let outcome = self.ask(probes, call);
            let waited = self.world.clock.uptime().saturating_sub(began);
            if outcome.result.is_ok() || waited >= within || call.patience.is_over(self.world.clock) {
                return outcome;
            }
            self.world.clock.sleep(ASK_AGAIN.min(within.saturating_sub(waited)));
        }
    }
}
