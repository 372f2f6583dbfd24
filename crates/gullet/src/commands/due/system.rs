//! What `gullet due` asks of the machine: processes of this program, records, messages.

use std::process::{Child, Command, Stdio};
use std::time::Duration;

use gullet_capture::plan::Request;
use gullet_core::due::{DueEntry, DueWorld, Job, Ledger, MissedWhy, Scheduled};
use gullet_core::notify::{self, Content};
use gullet_host::hook::{Process, with_variable};
use gullet_host::state::{State, write_whole};
use gullet_logbook::logbook::{Logbook, has_trigger};
use gullet_model::Outcome;
use gullet_model::definition::{App, Loaded, NotifyOn};
use gullet_model::ids::RunId;
use gullet_run::run::Refusal;
use jiff::{SignedDuration, Timestamp};

use crate::commands::morning;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::text::{harmless, time};
use crate::ui::Ui;

/// The variable by which what was started is found again.
const MARK: &str = "GULLET_DUE";
/// A clock may have been set back by so much since a run began.
const SET_BACK: SignedDuration = SignedDuration::from_hours(48);

pub(super) struct System<'a> {
    ui: &'a mut Ui,
    loaded: &'a Loaded,
    state: &'a State,
    outside: &'a RealWorld,
    children: Vec<Child>,
    /// Why the last one was missed: several at once mostly are for one reason.
    told: Option<String>,
    exit: Exit,
}

fn mark(entry: &DueEntry) -> String {
    format!("{}: {}", entry.app, entry.trigger())
}

/// What is due, in words.
fn subject(entry: &DueEntry) -> String {
    match entry.job {
        Job::Run => format!("the run of {} by schedule {}", entry.app, entry.schedule),
        Job::Group => format!("the run of group {} by schedule {}", entry.app, entry.schedule),
        Job::Drill => format!("the drill of {}", entry.app),
        Job::Verify => format!("the verification of store {}", entry.app),
        Job::Report => format!("the report {}", entry.app),
    }
}

/// What the message of a report is known by; of one moment there is one.
fn report_id(entry: &DueEntry) -> String {
    notify::id_at(&format!("report-{}", entry.app), entry.at)
}

impl<'a> System<'a> {
    pub(super) fn new(ui: &'a mut Ui, loaded: &'a Loaded, state: &'a State, outside: &'a RealWorld) -> Self {
        Self { ui, loaded, state, outside, children: Vec::new(), told: None, exit: Exit::Complete }
    }

    /// How it ended: the worst of all that was started, and what was missed.
    pub(super) fn exit(&self) -> Exit {
        self.exit
    }

    /// The applications that an entry runs.
    fn apps<'e>(&'e self, entry: &'e DueEntry) -> Vec<&'e str> {
        match (entry.job, self.loaded.definition.group.get(&entry.app)) {
            (Job::Group, Some(group)) => group.apps.iter().map(String::as_str).collect(),
            _ => vec![&entry.app],
        }
    }

    fn words(&self, entry: &DueEntry, scheduled: &Scheduled) -> Vec<String> {
        let trigger = entry.trigger();
        let mut words: Vec<String> = match entry.job {
            Job::Run => vec!["run".to_owned(), entry.app.clone()],
            Job::Group => vec!["run".to_owned(), "--group".to_owned(), entry.app.clone()],
            Job::Drill => vec!["drill".to_owned(), entry.app.clone()],
            Job::Verify => vec!["verify".to_owned(), "--store".to_owned(), entry.app.clone()],
            Job::Report => Vec::new(),
        };
        words.extend(["--quiet".to_owned(), "--trigger".to_owned(), trigger]);
        if matches!(entry.job, Job::Run | Job::Group) {
            words.push("--unattended".to_owned());
        }
        words.extend(scheduled.rule.spec().parts.iter().flat_map(|part| ["--part".to_owned(), part.clone()]));
        if let Some(at) = scheduled.rule.ends_at(entry.at).filter(|_| matches!(entry.job, Job::Run | Job::Group)) {
            words.extend(["--finish-by".to_owned(), at.to_string()]);
        }
        let store = self.loaded.definition.store.get(&entry.app).filter(|_| entry.job == Job::Verify);
        if let Some(share) = store.and_then(|store| store.verify.as_ref()?.share) {
            words.extend(["--share".to_owned(), share.to_string()]);
        }
        words
    }

    fn is_recorded(&self, app: &str, entry: &DueEntry) -> Result<bool, CommandError> {
        let trigger = entry.trigger();
        let waiting = Logbook::default().with_waiting(self.state, Some(app));
        if waiting.runs.iter().any(|logged| logged.record.trigger == trigger) {
            return Ok(true);
        }
        let Some((_, spec)) = self.loaded.definition.store_of(app) else { return Ok(false) };
        let store = open::store_of(spec, self.state)?;
        let since = entry.at.checked_sub(SET_BACK).unwrap_or(Timestamp::MIN);
        Ok(has_trigger(&store, (app, self.state.machine()), &trigger, since)?)
    }

    /// Writes the record of a run that was missed.
    fn record(&mut self, app: &str, entry: &DueEntry, why: &str) -> Result<(), CommandError> {
        let world = self.outside.world();
        let gone = App::default();
        let spec = self.loaded.definition.app.get(app).unwrap_or(&gone);
        let parts = spec.schedule.iter().find(|schedule| schedule.name == entry.schedule && entry.job == Job::Run);
        let request = Request {
            app: app.to_owned(),
            only: parts.map(|schedule| schedule.parts.clone()).unwrap_or_default(),
            trigger: Some(entry.trigger()),
            ..Request::default()
        };
        let run = RunId::new(world.random);
        let refusal = Refusal { run, request: &request, spec, outcome: Outcome::Missed, why: why.to_owned() };
        let complaints = refusal.tell(self.state, world)?;
        complaints.iter().for_each(|text| self.ui.warning(text));
        Ok(())
    }

    /// Tells that something other than a run did not happen.
    fn tell(&mut self, entry: &DueEntry, why: &str) -> Result<(), CommandError> {
        let definition = &self.loaded.definition;
        let to = match entry.job {
            Job::Report => {
                let report = definition.report.iter().find(|report| report.name == entry.app);
                report.into_iter().flat_map(|report| report.to.iter().map(String::as_str)).collect()
            }
            Job::Drill => notify::told_of(definition, Some(&entry.app), NotifyOn::Missed),
            _ => notify::told_of(definition, None, NotifyOn::Missed),
        };
        let world = self.outside.world();
        let content = Content::Missed {
            subject: subject(entry),
            due: entry.at,
            why: why.to_owned(),
            host: world.host.name.clone(),
        };
        let id = notify::id_at(&format!("missed-{}-{}", entry.job.word(), entry.app), entry.at);
        Ok(notify::put(self.state, &id, to, &content, world.clock.now())?)
    }
}

impl DueWorld for System<'_> {
    type Error = CommandError;

    fn now(&self) -> Timestamp {
        self.outside.world().clock.now()
    }

    fn is_stopped(&self) -> bool {
        self.outside.world().stop.asked().is_some()
    }

    fn keep(&mut self, ledger: &Ledger) -> Result<(), CommandError> {
        let written = write_whole(&self.state.folder().join("due.json"), &serde_json::to_vec(ledger)?);
        written.map_err(|error| CommandError::new(Exit::Failed, &error))?;
        Ok(())
    }

    fn start(&mut self, entry: &DueEntry, scheduled: &Scheduled) -> Result<Option<Process>, CommandError> {
        if entry.job == Job::Report {
            let made = morning::send(self.loaded, self.state, self.outside, &entry.app, &report_id(entry));
            if let Err(error) = &made {
                self.ui.error(error);
            }
            return made.map(|()| None);
        }
        let mut command = Command::new("/proc/self/exe");
        command.arg("--definition").arg(&self.loaded.path).args(self.words(entry, scheduled));
        let child = command.env(MARK, mark(entry)).stdin(Stdio::null()).spawn()?;
        let process = i32::try_from(child.id()).ok().and_then(Process::of);
        self.children.push(child);
        process.map(Some).ok_or_else(|| CommandError::text(Exit::Failed, "what was started is gone"))
    }

    fn find(&mut self, entry: &DueEntry) -> Option<Process> {
        with_variable(MARK, &mark(entry))
    }

    fn is_over(&mut self, process: Process) -> bool {
        let own = self.children.iter_mut().find(|child| i32::try_from(child.id()) == Ok(process.pid));
        let Some(child) = own else { return process.living().is_none() };
        match child.try_wait() {
            Ok(Some(status)) => {
                let code = status.code().and_then(|code| u8::try_from(code).ok());
                self.exit = self.exit.worse(code.and_then(Exit::of_code).unwrap_or(Exit::Failed));
                self.children.retain(|child| i32::try_from(child.id()) != Ok(process.pid));
                true
            }
            Ok(None) => false,
            Err(_) => process.living().is_none(),
        }
    }

    fn has_record(&mut self, entry: &DueEntry) -> Result<bool, CommandError> {
        match entry.job {
            Job::Run | Job::Group => {
                for app in self.apps(entry) {
                    if !self.is_recorded(app, entry)? {
                        return Ok(false);
                    }
                }
                Ok(true)
            }
            Job::Drill | Job::Verify => Ok(self.state.has_ended(&entry.app, &entry.trigger())),
            Job::Report => Ok(notify::knows(self.state, &report_id(entry))),
        }
    }

    fn miss(&mut self, entry: &DueEntry, why: &MissedWhy) -> Result<(), CommandError> {
        let why = entry.missed_text(why);
        if matches!(entry.job, Job::Run | Job::Group) {
            let apps: Vec<String> = self.apps(entry).into_iter().map(str::to_owned).collect();
            for app in apps {
                // Of a group some may have been run, or told already by one who died in the middle.
                if entry.job == Job::Run || !self.is_recorded(&app, entry)? {
                    self.record(&app, entry, &why)?;
                }
            }
        } else {
            self.tell(entry, &why)?;
        }
        let text = format!("{}, due {}, was missed", subject(entry), time(entry.at));
        let is_told = self.told.replace(why.clone()).is_some_and(|told| told == why);
        let text = if is_told { format!("{text} too") } else { format!("{text}: {why}") };
        self.ui.complain(harmless(&text));
        self.exit = self.exit.worse(Exit::Refused);
        Ok(())
    }

    fn wait(&mut self, time: Duration) {
        self.outside.world().clock.sleep(time);
    }
}
