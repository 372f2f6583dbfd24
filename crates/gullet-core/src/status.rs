//! Am I protected? One answer an application, in the manner of monitoring plug-ins.

use jiff::Timestamp;
use serde::Serialize;

use crate::hold::NoteHead;
use crate::logbook::{Logbook, Logged};
use crate::outcome::Outcome;
use crate::record::RemarkKind;
use crate::restore::place::{Journal, Stage};

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
    /// When a run of it was last proven to restore, by a drill.
    pub proven: Option<Timestamp>,
    /// What of it stays with other machinery: the part, and by which id. None of it is stored here.
    pub outside: Vec<(String, String)>,
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

impl AppStatus {
    /// With what is to be said of a restore in place, where there is one.
    #[must_use]
    pub fn with_restore(mut self, journal: Option<&Journal>) -> Self {
        let Some(journal) = journal else { return self };
        let level = match journal.stage {
            Stage::Done | Stage::Undone => Level::Ok,
            Stage::Writing | Stage::Written | Stage::Tried => Level::Warning,
            Stage::Swapping | Stage::Swapped | Stage::GoingBack => Level::Critical,
        };
        self.level = self.level.max(level);
        let text = match journal.stage {
            Stage::Done => format!("run {} was restored in place; the old state is kept", journal.run),
            stage => format!("a restore of run {} in place is {}", journal.run, stage.words()),
        };
        let at = if level == Level::Ok { self.reasons.len() } else { 0 };
        self.reasons.insert(at, text);
        self
    }
}

fn outside_of(logged: &Logged) -> Vec<(String, String)> {
    let captures = logged.record.captures.iter();
    captures.filter_map(|capture| Some((capture.part.clone(), capture.outside.as_ref()?.id.clone()))).collect()
}

/// What the last drill of any run found, where that is not that it restores.
fn failed_drill(app: &str, book: &Logbook) -> Option<String> {
    let of_app = book.runs.iter().filter(|logged| logged.record.app == app).flat_map(|logged| &logged.remarks);
    let last = of_app.filter(|remark| remark.what == RemarkKind::Drilled).max_by_key(|remark| remark.at)?;
    let text = last.text.strip_prefix("drill failed: ").unwrap_or(&last.text);
    (last.outcome != Outcome::Complete).then(|| text.to_owned())
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
    if let Some(why) = failed_drill(app, book) {
        found.push((Level::Critical, format!("the last drill failed: {why}")));
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
        proven: book.runs.iter().filter(|logged| logged.record.app == app).filter_map(Logged::proven).max(),
        outside: good.map(outside_of).unwrap_or_default(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::hold::NoteState;
    use crate::record::{HoldReport, Note, RECORD_VERSION, Record};

    fn run(outcome: Outcome, second: i64) -> Logged {
        let at = Timestamp::new(second, 0).unwrap();
        let cause =
            Note { about: None, text: "the till is on fire".to_owned(), advice: Some("press Resume".to_owned()) };
        let record = Record {
            record: RECORD_VERSION,
            run: crate::RunId::from(format!("r{second}").as_str()),
            app: "quaybook".to_owned(),
            title: None,
            writer: "w".to_owned(),
            store: "s".to_owned(),
            store_json: gullet_store::Hash::of(b""),
            writer_json: None,
            previous: None,
            started: at,
            ended: at,
            trigger: "by hand".to_owned(),
            reason: None,
            partial: false,
            outcome,
            causes: if outcome > Outcome::Warnings { vec![cause] } else { Vec::new() },
            warnings: Vec::new(),
            host: Default::default(),
            definition: String::new(),
            hold: HoldReport::default(),
            steps: Vec::new(),
            captures: Vec::new(),
            holdings: Default::default(),
            sealed: None,
        };
        let name = format!("records/quaybook/w/{second}");
        Logged { name, in_store: true, record, remarks: Vec::new(), keys: Vec::new(), is_locked: false }
    }

    fn level(runs: Vec<Logged>) -> (Level, String) {
        let status = status("quaybook", &Logbook { runs, unreadable: Vec::new() }, None);
        (status.level, status.reasons.join("; "))
    }

    #[test]
    fn the_last_run_counts_and_a_good_one_must_exist() {
        assert_eq!(level(vec![]).0, Level::Critical);
        assert_eq!(level(vec![run(Outcome::Complete, 1)]).0, Level::Ok);
        assert_eq!(level(vec![run(Outcome::Complete, 1), run(Outcome::Warnings, 2)]).0, Level::Warning);
        for bad in [Outcome::Incomplete, Outcome::Refused, Outcome::Failed, Outcome::Interrupted] {
            let (level, why) = level(vec![run(Outcome::Complete, 1), run(bad, 2)]);
            assert_eq!(level, Level::Critical);
            assert!(why.contains("the till is on fire"), "{why}");
        }
        let (not_released, why) = level(vec![run(Outcome::Complete, 1), run(Outcome::NotReleased, 2)]);
        assert!(not_released == Level::Critical && why.contains("press Resume"), "{why}");
        assert_eq!(level(vec![run(Outcome::Failed, 1), run(Outcome::Complete, 2)]).0, Level::Ok);
    }

    #[test]
    fn a_partial_run_or_one_that_waits_for_the_store_never_stands_for_the_application() {
        let mut partial = run(Outcome::Complete, 1);
        partial.record.partial = true;
        assert_eq!(level(vec![partial]).0, Level::Critical);
        let waiting = Logged { in_store: false, ..run(Outcome::Complete, 1) };
        assert_eq!(level(vec![waiting]).0, Level::Critical);
    }

    #[test]
    fn a_hold_that_does_not_let_go_is_critical_and_one_by_hand_is_only_told() {
        let book = Logbook { runs: vec![run(Outcome::Complete, 1)], unreadable: Vec::new() };
        let mut head = NoteHead {
            note: 1,
            state: NoteState::Held,
            app: "quaybook".to_owned(),
            run: "by hand".to_owned(),
            token: "t".to_owned(),
            pid: 1,
            boot: String::new(),
            account: "root (0)".to_owned(),
            entered: vec![0],
            began: None,
            limit_ms: 1,
            by_hand: true,
            why: None,
        };
        let held = status("quaybook", &book, Some(&head));
        assert!(held.level == Level::Ok && held.reasons[0].contains("it is held by hand"), "{held:?}");
        head.state = NoteState::Leaving;
        head.why = Some("the drawer is jammed".to_owned());
        assert_eq!(status("quaybook", &book, Some(&head)).level, Level::Critical);
        head.state = NoteState::Left;
        assert_eq!(status("quaybook", &book, Some(&head)).level, Level::Ok);
    }
}
