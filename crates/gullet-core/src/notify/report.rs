//! The list of all applications that people get in the morning.

use gullet_logbook::logbook::{Logbook, Logged};
use gullet_model::outcome::Outcome;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::status::{AppStatus, Severity};

/// How all applications stand, the worst first.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Report {
    /// The report's name in the definition.
    pub name: String,
    /// The machine's name.
    pub host: String,
    /// The runs that ended from here on are in it.
    pub since: Timestamp,
    /// When it was made.
    pub until: Timestamp,
    /// The applications, the worst first.
    pub apps: Vec<ReportedApp>,
    /// How many messages could not be sent yet.
    pub waiting: usize,
    /// The page of `gullet report`, as HTML, where it goes with mails.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub page: Option<String>,
}

/// How an application stands.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ReportedApp {
    /// The name of the application.
    pub app: String,
    /// What people call it.
    pub title: Option<String>,
    /// How it stands.
    pub level: Severity,
    /// Why, the worst first.
    pub reasons: Vec<String>,
    /// When its newest complete run began.
    pub last_good: Option<Timestamp>,
    /// When that was last read back in full.
    pub verified: Option<Timestamp>,
    /// When a run was last drilled to restore.
    pub drilled: Option<Timestamp>,
    /// When it runs next.
    pub next: Option<Timestamp>,
    /// Its runs of the time, the newest first.
    pub runs: Vec<ReportedRun>,
    /// The name of its newest record, which has its hash.
    pub record: Option<String>,
}

/// A run of the time that the report is about.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ReportedRun {
    /// The id of the run.
    pub run: String,
    /// How it ended.
    pub outcome: Outcome,
    /// When it began.
    pub started: Timestamp,
    /// How long the application was held, in milliseconds.
    pub held_ms: Option<u64>,
    /// What it captured, in bytes.
    pub bytes: u64,
    /// What of it was new in the store, as it is stored.
    pub bytes_stored: u64,
    /// Why it is not complete.
    pub cause: Option<String>,
}

impl From<&Logged> for ReportedRun {
    fn from(logged: &Logged) -> Self {
        let record = &logged.record;
        let cause = record.causes.first().or(record.warnings.first()).filter(|_| logged.outcome() != Outcome::Complete);
        Self {
            run: record.run.to_string(),
            outcome: logged.outcome(),
            started: record.started,
            held_ms: record.hold.held_ms,
            bytes: record.bytes(),
            bytes_stored: record.bytes_stored(),
            cause: cause.map(|cause| cause.text.clone()),
        }
    }
}

impl ReportedApp {
    /// An application by its status and its logbook, where that can be read.
    pub fn new(
        status: AppStatus,
        title: Option<String>,
        book: Option<&Logbook>,
        since: Timestamp,
        next: Option<Timestamp>,
    ) -> Self {
        let runs = book.into_iter().flat_map(|book| book.own_runs(&status.app).rev());
        let runs: Vec<&Logged> = runs.collect();
        Self {
            title,
            level: status.level,
            reasons: status.reasons,
            last_good: status.last_good.map(|mark| mark.started),
            verified: status.verified,
            drilled: status.proven,
            next,
            // What waits for the store has no place in the logbook yet.
            record: runs.iter().find(|logged| logged.in_store).map(|logged| logged.name.clone()),
            runs: runs.into_iter().filter(|run| run.record.ended >= since).map(ReportedRun::from).collect(),
            app: status.app,
        }
    }
}

impl Report {
    /// How the worst of all stands.
    pub fn level(&self) -> Severity {
        self.apps.iter().map(|app| app.level).max().unwrap_or(Severity::Unknown)
    }

    /// Puts the worst first; of those that stand alike by name.
    pub fn sort(&mut self) {
        self.apps.sort_by(|a, b| (std::cmp::Reverse(a.level), &a.app).cmp(&(std::cmp::Reverse(b.level), &b.app)));
    }
}
