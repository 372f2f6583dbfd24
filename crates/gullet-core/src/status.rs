//! Am I protected? One answer an application, in the manner of monitoring plug-ins.

use gullet_store::{Lengths, Store, StoreError};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use gullet_logbook::logbook::{Logbook, Logged};
use gullet_model::outcome::Outcome;
use gullet_model::problem::ProblemKind;
use gullet_model::record::{BY_HAND, Remark, RemarkKind};
use gullet_model::words::time;
use gullet_restore::restore::place::{Journal, JournalStage};
use gullet_run::hold::NoteStatus;

mod machines;

pub use machines::{MachineStatus, of_store};

/// How an application stands. Ordered; the number is the exit code.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Severity {
    /// Protected as the definition wants it.
    Ok,
    /// Protected, with something to look at.
    Warning,
    /// Not protected as it should be.
    Critical,
    /// It cannot be told.
    Unknown,
}

impl Severity {
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
    /// The name of the application.
    pub app: String,
    /// How it stands.
    pub level: Severity,
    /// Why, worst first.
    pub reasons: Vec<String>,
    /// The newest run that can stand for it.
    pub last_good: Option<RunMark>,
    /// The newest run of all.
    pub last: Option<RunMark>,
    /// How old the newest good run may be, in seconds.
    pub expected_within_s: i64,
    /// When the newest good run was last read back in full.
    pub verified: Option<Timestamp>,
    /// When a run of it was last drilled to restore, by a drill.
    pub proven: Option<Timestamp>,
    /// What of it is kept by another system: the part, and by which id. None of it is stored here.
    pub outside: Vec<(String, String)>,
}

/// How old the newest complete run may be at least before an application counts as unprotected.
const EXPECTED_AT_LEAST: SignedDuration = SignedDuration::from_hours(48);
/// So many runs are looked at for the usual time between them.
const RUNS_LOOKED_AT: usize = 12;
/// A time that is so far ahead is no inaccuracy of clocks.
const AHEAD: SignedDuration = SignedDuration::from_mins(5);

/// What status is told besides the logbook.
#[derive(Clone, Debug, Default)]
pub struct Circumstances {
    /// The moment that the answer is for.
    pub now: Timestamp,
    /// How old the newest complete run may be, where the definition says so.
    pub expected_every: Option<SignedDuration>,
    /// When a missing full verification is a warning.
    pub verified_within: Option<SignedDuration>,
    /// When a missing drill is a warning.
    pub drilled_within: Option<SignedDuration>,
    /// The copies that its store should have.
    pub copies: Vec<String>,
    /// Places that lock what is written there, and where not everything of its newest complete run is known to be locked.
    pub unlocked: Vec<String>,
    /// When a missing second copy is a warning; one day where nothing is said.
    pub copied_within: Option<SignedDuration>,
    /// When it is critical that what is due was not looked for; ten minutes where nothing is said.
    pub due_within: Option<SignedDuration>,
    /// Payload files of the newest complete run that are not there, or have another length.
    pub payload_gone: Vec<String>,
    /// What its schedules ask for.
    pub calendar: Option<CalendarState>,
    /// The book has all runs, so that what is not in it never was.
    pub is_whole_book: bool,
}

/// How an application stands by the calendar.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CalendarState {
    /// It has no schedule, though others have, and does not say why.
    Unscheduled,
    /// It has schedules.
    Scheduled {
        /// When `due` was called last.
        called: Option<Timestamp>,
        /// The newest moment that is due and must be over by now.
        due: Option<Timestamp>,
    },
    /// It has schedules on another machine, as its newest record says.
    Elsewhere {
        /// The newest moment that is due and must be over by now.
        due: Timestamp,
    },
}

/// After so long a run should have its second copies.
const COPIED_WITHIN: SignedDuration = SignedDuration::from_hours(24);

/// Who does what is due is called every minute; where it was not for so long, something is wrong with that.
const CALLED_WITHIN: SignedDuration = SignedDuration::from_mins(10);

/// Payload files that a run stands on and that are not there, or have another length. None of them is read.
///
/// # Errors
/// When the store cannot be asked.
pub fn payload_gone(store: &Store, logged: &Logged) -> Result<Vec<String>, StoreError> {
    let (mut gone, mut there) = (Vec::new(), Lengths::default());
    for (name, length) in logged.holdings().files() {
        if there.of(store.location().as_ref(), name)? != Some(length) {
            gone.push(name.to_owned());
        }
    }
    Ok(gone)
}

/// How old the newest complete run may be: what the definition says, or twice the usual time between complete runs.
fn expected_within(app: &str, book: &Logbook, said: Option<SignedDuration>) -> SignedDuration {
    if let Some(said) = said {
        return said;
    }
    let good: Vec<Timestamp> = book
        .own_runs(app)
        .rev()
        .filter(|logged| logged.is_good())
        .take(RUNS_LOOKED_AT)
        .map(|l| l.record.started)
        .collect();
    let gaps = good.windows(2).map(|pair| pair[0].duration_since(pair[1]));
    let mut gaps: Vec<SignedDuration> = gaps.filter(|gap| gap.is_positive()).collect();
    gaps.sort();
    let usual = gaps.get(gaps.len() / 2).copied().unwrap_or_default();
    (usual * 2).max(EXPECTED_AT_LEAST)
}

fn ended(outcome: Outcome) -> String {
    match outcome {
        Outcome::Failed => "failed".to_owned(),
        Outcome::Refused | Outcome::Missed | Outcome::Interrupted => format!("was {outcome}"),
        _ => format!("is {outcome}"),
    }
}

fn age_words(age: SignedDuration) -> String {
    match age.as_hours() {
        hours @ 48.. => format!("{} days", hours / 24),
        hours @ 1.. => format!("{hours} h"),
        _ => format!("{} min", age.as_mins()),
    }
}

/// A run, shortly.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct RunMark {
    /// The id of the run.
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

impl AppStatus {
    /// An application of which nothing can be told.
    pub fn unknown(app: String, why: String) -> Self {
        Self {
            app,
            level: Severity::Unknown,
            reasons: vec![why],
            last_good: None,
            last: None,
            expected_within_s: 0,
            verified: None,
            proven: None,
            outside: Vec::new(),
        }
    }

    /// With one more reason, which is said first.
    #[must_use]
    pub fn with(mut self, level: Severity, reason: String) -> Self {
        self.level = self.level.max(level);
        self.reasons.insert(0, reason);
        self
    }

    /// With what is to be said of a restore in place, where there is one.
    #[must_use]
    pub fn with_restore(mut self, journal: Option<&Journal>) -> Self {
        let Some(journal) = journal else { return self };
        let level = match journal.stage {
            JournalStage::Done | JournalStage::Undone => Severity::Ok,
            JournalStage::Writing | JournalStage::Written | JournalStage::Tried => Severity::Warning,
            JournalStage::Swapping | JournalStage::Swapped | JournalStage::GoingBack | JournalStage::UndoneStopped => {
                Severity::Critical
            }
        };
        self.level = self.level.max(level);
        let text = match journal.stage {
            JournalStage::Done => format!("run {} was restored in place; the old state is kept", journal.run),
            stage => format!("a restore of run {} in place is {}", journal.run, stage.words()),
        };
        let at = if level == Severity::Ok { self.reasons.len() } else { 0 };
        self.reasons.insert(at, text);
        self
    }
}

fn outside_of(logged: &Logged) -> Vec<(String, String)> {
    let captures = logged.record.captures.iter();
    captures.filter_map(|capture| Some((capture.part.clone(), capture.outside.as_ref()?.id.clone()))).collect()
}

/// What the last drill of any run found, where that is not that it restores. Of one run the order of remarks is known; between runs
/// only the clock tells, so that a drill which passed hides a failure of another run only where its time has come already.
fn failed_drill(app: &str, book: &Logbook, now: Timestamp) -> Option<String> {
    let is_drill = |remark: &&Remark| remark.what == RemarkKind::Drilled;
    let last: Vec<&Remark> = book.own_runs(app).filter_map(|run| run.remarks.iter().rev().find(is_drill)).collect();
    let of = |has_passed: bool| last.iter().filter(move |remark| (remark.outcome == Outcome::Complete) == has_passed);
    let failed = of(false).max_by_key(|remark| remark.at)?;
    let passed = of(true).map(|remark| remark.at).filter(|at| now.duration_since(*at) >= -AHEAD).max();
    let text = failed.text.strip_prefix("drill failed: ").unwrap_or(&failed.text);
    passed.is_none_or(|passed| passed <= failed.at).then(|| text.to_owned())
}

/// What is to be said of the schedules.
fn of_calendar(calendar: &CalendarState, good: Option<&Logged>, about: &Circumstances) -> Vec<(Severity, String)> {
    let not_since = |due: Timestamp| {
        let text = format!("there is no complete run since it was due at {}", time(due));
        good.is_none_or(|good| good.record.started < due).then_some((Severity::Critical, text))
    };
    let (called, due) = match calendar {
        CalendarState::Elsewhere { due } => return not_since(*due).into_iter().collect(),
        CalendarState::Unscheduled => {
            let text = "it has no schedule, and does not say why (`no_schedule`)";
            return vec![(Severity::Warning, text.to_owned())];
        }
        CalendarState::Scheduled { called, due } => (called, due),
    };
    let (mut found, now) = (Vec::new(), about.now);
    // A time from the future says nothing about now.
    let is_called = called.is_some_and(|at| {
        let age = now.duration_since(at);
        age <= about.due_within.unwrap_or(CALLED_WITHIN) && age >= -AHEAD
    });
    if !is_called {
        let when = called.map_or_else(|| "never called".to_owned(), |at| format!("last called at {}", time(at)));
        let text =
            format!("nothing starts by its schedule: `gullet due` was {when}; see `gullet timer --every-minute`");
        found.push((Severity::Critical, text));
    }
    found.extend(due.and_then(not_since));
    found
}

/// What is to be said of the hold note.
fn of_hold(hold: &NoteStatus) -> Option<(Severity, String)> {
    match hold {
        NoteStatus::Nothing | NoteStatus::Over(_) => None,
        NoteStatus::Unreadable => {
            Some((Severity::Critical, "its hold note cannot be read, so it may be held: `gullet release`".to_owned()))
        }
        NoteStatus::Forgotten(head) => {
            let text = format!("it is held {}, and nobody is left who releases it: `gullet release`", head.describe());
            Some((Severity::Critical, text))
        }
        NoteStatus::Owned(head) => {
            let level = match (&head.why, head.by_hand) {
                (Some(_), _) => Severity::Critical,
                (None, true) => Severity::Warning,
                (None, false) => Severity::Ok,
            };
            Some((level, format!("it is held {}", head.describe())))
        }
    }
}

/// What is to be said of the age of the newest good run, and of what was proven of it.
fn of_age(
    good: &Logged,
    proven: Option<Timestamp>,
    within: SignedDuration,
    about: &Circumstances,
) -> Vec<(Severity, String)> {
    let mut found = Vec::new();
    let age = about.now.duration_since(good.record.started);
    if age < -AHEAD {
        let text = format!(
            "the last complete run is dated {}, which is in the future: its age is not known",
            good.record.started
        );
        found.push((Severity::Critical, text));
    } else if age > within {
        let text =
            format!("the last complete run is {} old, and at most {} are expected", age_words(age), age_words(within));
        found.push((Severity::Critical, text));
    }
    let of_proof = [
        ("the last complete run was not read back in full", good.verified(), about.verified_within),
        ("no run was proven by a drill", proven, about.drilled_within),
    ];
    for (text, at, within) in of_proof {
        let age = at.map(|at| about.now.duration_since(at));
        match (age, within) {
            (Some(age), _) if age < -AHEAD => {
                found.push((Severity::Warning, format!("{text} at a known time: it is noted for the future")));
            }
            (Some(age), Some(within)) if age > within => {
                found.push((Severity::Warning, format!("{text} for {}", age_words(age))));
            }
            (None, Some(_)) => found.push((Severity::Warning, format!("{text} yet"))),
            (None, None) => found.push((Severity::Ok, format!("{text} yet"))),
            _ => {}
        }
    }
    found.extend(of_copies(good, about));
    if !about.payload_gone.is_empty() {
        let (count, first) = (about.payload_gone.len(), &about.payload_gone[0]);
        let text = format!("{count} of the payload files of the last complete run are missing or cut: {first}");
        found.push((Severity::Critical, text));
    }
    found
}

/// What is to be said of second copies that the newest good run should have and has not, and of locks.
fn of_copies(good: &Logged, about: &Circumstances) -> Vec<(Severity, String)> {
    let age = about.now.duration_since(good.record.ended);
    let is_late = age > about.copied_within.unwrap_or(COPIED_WITHIN) || age < -AHEAD;
    let level = if is_late { Severity::Warning } else { Severity::Ok };
    let lacking = about.copies.iter().filter(|copy| !good.is_copied(copy));
    let unlocked = about.unlocked.iter().filter(|place| !about.copies.contains(place) || good.is_copied(place));
    let unlocked = unlocked.map(|place| {
        let text =
            format!("not everything of the last complete run is locked on {place}: see gullet store test {place}");
        (Severity::Warning, text)
    });
    lacking
        .map(|copy| (level, format!("the last complete run has no second copy on {copy} yet")))
        .chain(unlocked)
        .collect()
}

/// What is to be said of an application that only its schedules have ever run.
fn of_hand(app: &str, book: &Logbook, about: &Circumstances) -> Option<(Severity, String)> {
    let by_hand = |run: &Logged| run.record.trigger == BY_HAND && run.is_good();
    let is_known = about.is_whole_book && about.calendar.is_some() && book.last_good(app).is_some();
    (is_known && !book.own_runs(app).any(by_hand)).then(|| (Severity::Ok, "it was never run by hand".to_owned()))
}

/// How `app` stands by its logbook, its hold note, and what else is known.
pub fn status(app: &str, book: &Logbook, hold: &NoteStatus, about: &Circumstances) -> AppStatus {
    let (last, good) = (book.last(app), book.last_good(app));
    let proven = book.own_runs(app).filter_map(Logged::proven).max();
    let within = expected_within(app, book, about.expected_every);
    let mut found: Vec<(Severity, String)> = Vec::new();
    found.extend(of_hold(hold));
    let hold = hold.head();
    match (last, good) {
        (None, _) => found.push((Severity::Critical, "it has never been run".to_owned())),
        (Some(_), None) => found.push((Severity::Critical, "it has no complete run".to_owned())),
        (Some(_), Some(_)) => {}
    }
    if let Some(last) = last {
        let cause = last.record.causes.first().map(|cause| format!(": {}", cause.text)).unwrap_or_default();
        match last.outcome() {
            Outcome::Complete => {}
            Outcome::Warnings => {
                let count = last.record.warnings.len().max(1);
                let word = if count == 1 { "warning" } else { "warnings" };
                found.push((Severity::Warning, format!("the last run has {count} {word}")));
            }
            // The guard went on trying, or a person released it: the note of that run knows.
            Outcome::NotReleased if hold.is_some_and(|h| h.run == last.record.run.as_str() && h.state.is_over()) => {
                found.push((
                    Severity::Warning,
                    "the application was released later than it should have been".to_owned(),
                ));
            }
            Outcome::NotReleased => {
                let not_released = |cause: &&gullet_model::record::Problem| cause.kind == ProblemKind::NotReleased;
                let by_hand = last.record.causes.iter().find(not_released).and_then(|cause| cause.advice.clone());
                let by_hand = by_hand.map(|text| format!("; {text}")).unwrap_or_default();
                found.push((Severity::Critical, format!("the application was not released{by_hand}")));
            }
            outcome => found.push((Severity::Critical, format!("the last run {}{cause}", ended(outcome)))),
        }
        if last.record.hold.no_hold.is_some() {
            found.push((Severity::Ok, "it is never held: its parts are not from one point in time".to_owned()));
        }
    }
    if let Some(good) = good {
        found.extend(of_age(good, proven, within, about));
    }
    found.extend(of_hand(app, book, about));
    found.extend(about.calendar.iter().flat_map(|calendar| of_calendar(calendar, good, about)));
    if let Some(why) = failed_drill(app, book, about.now) {
        found.push((Severity::Critical, format!("the last drill failed: {why}")));
    }
    let of_app = |name: &str| name.split('/').nth(1) == Some(app);
    for (name, _) in book.unreadable.iter().filter(|(name, _)| of_app(name)) {
        found.push((Severity::Critical, format!("{name} is damaged")));
    }
    for (name, why) in book.missing.iter().filter(|(name, _)| of_app(name)) {
        found.push((Severity::Critical, format!("{name} is missing, and {why}")));
    }
    found.sort_by_key(|(level, _)| std::cmp::Reverse(*level));
    AppStatus {
        app: app.to_owned(),
        level: found.first().map_or(Severity::Ok, |(level, _)| *level),
        reasons: found.into_iter().map(|(_, text)| text).collect(),
        last_good: good.map(RunMark::from),
        last: last.map(RunMark::from),
        verified: good.and_then(Logged::verified),
        proven,
        expected_within_s: within.as_secs(),
        outside: good.map(outside_of).unwrap_or_default(),
    }
}

#[cfg(test)]
mod tests;
