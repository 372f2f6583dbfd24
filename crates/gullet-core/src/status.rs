//! Am I protected? One answer an application, in the manner of monitoring plug-ins.

use jiff::Timestamp;
use serde::Serialize;

use crate::hold::NoteHead;
use crate::logbook::{Logbook, Logged};
use crate::outcome::Outcome;

/// How an application stands. Ordered; the number is the exit code.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Level {
    /// Protected.
    Ok,
    /// Protected, with something to look at.
    Warning,
    /// Not protected as it should be.
    Critical,
    /// It cannot be told.
    Unknown,
}

impl Level {
    /// The exit code that monitoring expects.
    pub fn code(self) -> u8 {
        self as u8
    }

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Ok => "ok",
            Self::Warning => "warning",
            Self::Critical => "critical",
            Self::Unknown => "unknown",
        }
    }
}

/// How one application stands.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct AppStatus {
    /// The application.
    pub app: String,
    /// How it stands.
    pub level: Level,
    /// Why, worst first.
    pub reasons: Vec<String>,
    /// The newest run that can stand for it.
    pub last_good: Option<RunMark>,
    /// The newest run of all.
    pub last: Option<RunMark>,
    /// When the newest good run was last read back in full.
    pub verified: Option<Timestamp>,
}

/// A run, shortly.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct RunMark {
    /// Its id.
    pub run: String,
    /// When it began.
    pub started: Timestamp,
    /// How it ended.
    pub outcome: Outcome,
}

impl From<&Logged> for RunMark {
    fn from(logged: &Logged) -> Self {
        Self { run: logged.record.run.to_string(), started: logged.record.started, outcome: logged.outcome() }
    }
}

/// How `app` stands by its logbook and its hold note.
pub fn status(app: &str, book: &Logbook, hold: Option<&NoteHead>) -> AppStatus {
    let (last, good) = (book.last(app), book.last_good(app));
    let mut found: Vec<(Level, String)> = Vec::new();
    if let Some(hold) = hold.filter(|hold| !hold.state.is_over() && !hold.entered.is_empty()) {
        let level = if hold.why.is_some() { Level::Critical } else { Level::Ok };
        found.push((level, format!("it is held {}", hold.describe())));
    }
    match (last, good) {
        (None, _) => found.push((Level::Critical, "it has never been run".to_owned())),
        (Some(_), None) => found.push((Level::Critical, "it has no complete run".to_owned())),
        (Some(_), Some(_)) => {}
    }
    if let Some(last) = last {
        let cause = last.record.causes.first().map(|cause| format!(": {}", cause.text)).unwrap_or_default();
        match last.outcome() {
            Outcome::Complete => {}
            Outcome::Warnings => {
                let count = last.record.warnings.len().max(1);
                let word = if count == 1 { "warning" } else { "warnings" };
                found.push((Level::Warning, format!("the last run has {count} {word}")));
            }
            // The guard went on trying, or a person released it: the note of that run knows.
            Outcome::NotReleased if hold.is_some_and(|h| h.run == last.record.run.as_str() && h.state.is_over()) => {
                found.push((Level::Warning, "the application was released later than it should have been".to_owned()));
            }
            Outcome::NotReleased => {
                let by_hand = last.record.causes.iter().find_map(|cause| cause.advice.clone());
                let by_hand = by_hand.map(|text| format!("; {text}")).unwrap_or_default();
                found.push((Level::Critical, format!("the application was not released{by_hand}")));
            }
            outcome => found.push((Level::Critical, format!("the last run is {outcome}{cause}"))),
        }
        if last.record.hold.no_hold.is_some() {
            found.push((Level::Ok, "it is never held: its parts are not of one moment".to_owned()));
        }
    }
    if let Some(good) = good
        && good.verified().is_none()
    {
        found.push((Level::Ok, "its last complete run was not read back since it was made".to_owned()));
    }
    for (name, _) in book.unreadable.iter().filter(|(name, _)| name.contains(&format!("/{app}/"))) {
        found.push((Level::Critical, format!("{name} is damaged")));
    }
    found.sort_by_key(|(level, _)| std::cmp::Reverse(*level));
    AppStatus {
        app: app.to_owned(),
        level: found.first().map_or(Level::Ok, |(level, _)| *level),
        reasons: found.into_iter().map(|(_, text)| text).collect(),
        last_good: good.map(RunMark::from),
        last: last.map(RunMark::from),
        verified: good.and_then(Logged::verified),
    }
}
