//! How applications stood over a time: the figures of a report, for people who have to show what was protected.

use gullet_logbook::logbook::{Logged, RunLine};
use gullet_model::outcome::Outcome;
use gullet_model::record::Record;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use serde::Serialize;

use crate::status::{AppStatus, Severity};

/// How applications stood over a time.
#[derive(Clone, Debug, Serialize)]
pub struct Overview {
    /// The machine that made it.
    pub host: String,
    /// When it was made.
    pub made: Timestamp,
    /// The zone of its days.
    pub zone: String,
    /// Its first day.
    pub from: Date,
    /// Its last day.
    pub until: Date,
    /// The store that alone was read, for all machines; none where it is of this machine and its definition.
    pub store: Option<String>,
    /// How the worst of them stands.
    pub level: Severity,
    /// The applications, the worst first.
    pub apps: Vec<OverviewApp>,
}

/// How one application stood.
#[derive(Clone, Debug, Serialize)]
pub struct OverviewApp {
    /// What people call it.
    pub title: Option<String>,
    /// The name of its machine's host.
    pub host: String,
    /// How it stands now.
    #[serde(flatten)]
    pub status: AppStatus,
    /// The longest that it may be held, in milliseconds, by its newest run.
    pub limit_ms: Option<u64>,
    /// What its newest complete run captured.
    pub parts: Vec<OverviewPart>,
    /// What that run does not have, in words: what an export omits, what was left out, what another system keeps.
    pub not_included: Vec<String>,
    /// Why it is not from one point in time, where it is not.
    pub no_hold: Option<String>,
    /// The second copies that its store should have, and whether the newest complete run has them.
    pub copies: Vec<(String, bool)>,
    /// The newest record's hash, which proves that record and all before it.
    pub anchor: Option<String>,
    /// Its runs of the time, oldest first: as `runs` lists them.
    pub runs: Vec<RunLine>,
    /// Its days that have a run.
    pub days: Vec<OverviewDay>,
}

/// A part of the newest complete run.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct OverviewPart {
    /// The name of the part.
    pub part: String,
    /// The kind of the part, as records name it.
    pub kind: String,
    /// Where it was read from.
    pub sources: Vec<String>,
    /// Files in it.
    pub files: u64,
    /// Bytes in it.
    pub bytes: u64,
}

/// A day that has a run.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct OverviewDay {
    /// The day, in the zone of the report.
    pub day: Date,
    /// How many runs began on it.
    pub runs: usize,
    /// How the worst of them ended.
    pub worst: Outcome,
    /// Whether one of them is complete, with or without warnings.
    pub has_good: bool,
    /// The most bytes that a whole run captured.
    pub bytes: Option<u64>,
    /// Bytes that all of them added to the store.
    pub bytes_stored: u64,
    /// The longest that the application was held, in milliseconds.
    pub held_ms: Option<u64>,
}

impl Overview {
    /// Puts it together; `apps` in any order.
    pub fn new(
        (host, made): (String, Timestamp),
        (from, until): (Date, Date),
        zone: &TimeZone,
        store: Option<String>,
        mut apps: Vec<OverviewApp>,
    ) -> Self {
        let silent_since = |app: &OverviewApp| app.status.last_good.as_ref().map(|good| good.started);
        apps.sort_by(|a, b| {
            let by_level = b.status.level.cmp(&a.status.level).then_with(|| silent_since(a).cmp(&silent_since(b)));
            by_level.then_with(|| (&a.status.app, &a.host).cmp(&(&b.status.app, &b.host)))
        });
        let level = apps.iter().map(|app| app.status.level).max().unwrap_or(Severity::Unknown);
        let zone = zone.iana_name().unwrap_or("local").to_owned();
        Self { host, made, zone, from, until, store, level, apps }
    }

    /// All days of the time.
    pub fn all_days(&self) -> impl Iterator<Item = Date> + use<> {
        let until = self.until;
        self.from.series(1.day()).take_while(move |day| *day <= until)
    }
}

impl OverviewApp {
    /// Puts it together. `runs` are all that are known of it, oldest first; `good` is the newest complete one.
    pub fn new(
        status: AppStatus,
        runs: &[RunLine],
        good: Option<&Logged>,
        copies: &[String],
        (from, until): (Date, Date),
        zone: &TimeZone,
    ) -> Self {
        let day_of = |run: &RunLine| run.started.to_zoned_datetime(zone.clone()).date();
        let of_time: Vec<RunLine> = runs.iter().filter(|run| (from..=until).contains(&day_of(run))).cloned().collect();
        let record = good.map(|good| &good.record);
        let (name, host) = runs.last().map_or((None, String::new()), |run| (Some(&run.record), run.host.clone()));
        Self {
            title: record.and_then(|record| record.title.clone()),
            host,
            limit_ms: record.and_then(|record| record.hold.limit_ms),
            parts: record.map(parts_of).unwrap_or_default(),
            not_included: record.map(not_included).unwrap_or_default(),
            no_hold: record.and_then(|record| record.hold.no_hold.clone()),
            copies: good
                .map_or_else(Vec::new, |good| copies.iter().map(|copy| (copy.clone(), good.is_copied(copy))).collect()),
            anchor: name.and_then(|name| Some(name.rsplit_once('-')?.1.trim_end_matches(".json").to_owned())),
            days: days_of(&of_time, day_of),
            runs: of_time,
            status,
        }
    }

    /// How many of its runs of the time ended so.
    pub fn ended(&self, outcome: Outcome) -> usize {
        self.runs.iter().filter(|run| run.outcome == outcome).count()
    }

    /// The longest that it was held in the time, in milliseconds.
    pub fn longest_hold_ms(&self) -> Option<u64> {
        self.runs.iter().filter_map(|run| run.held_ms).max()
    }
}

/// The days that a report is of where nothing says which: the year until today.
pub fn usual_time(today: Date) -> (Date, Date) {
    (today.checked_sub(1.year()).and_then(|day| day.tomorrow()).unwrap_or(today), today)
}

fn days_of(runs: &[RunLine], day_of: impl Fn(&RunLine) -> Date) -> Vec<OverviewDay> {
    let mut days: Vec<OverviewDay> = Vec::new();
    for run in runs {
        let day = day_of(run);
        // A clock that went back may have left runs out of the order of days.
        let at = days.binary_search_by(|other| other.day.cmp(&day)).unwrap_or_else(|at| {
            let (worst, has_good, bytes, held_ms) = (Outcome::Complete, false, None, None);
            days.insert(at, OverviewDay { day, runs: 0, worst, has_good, bytes, bytes_stored: 0, held_ms });
            at
        });
        let of_day = &mut days[at];
        of_day.runs += 1;
        of_day.worst = of_day.worst.max(run.outcome);
        of_day.has_good |= run.outcome.is_whole() && !run.partial;
        if run.outcome.is_whole() && !run.partial {
            of_day.bytes = of_day.bytes.max(Some(run.bytes));
        }
        of_day.bytes_stored += run.bytes_stored;
        of_day.held_ms = of_day.held_ms.max(run.held_ms);
    }
    days
}

fn parts_of(record: &Record) -> Vec<OverviewPart> {
    let parts = record.captures.iter().filter(|capture| capture.is_captured()).map(|capture| OverviewPart {
        part: capture.part.clone(),
        kind: capture.kind.word().to_owned(),
        sources: capture.roots.iter().map(|root| root.path.to_string()).collect(),
        files: capture.counts.files,
        bytes: capture.counts.bytes,
    });
    parts.collect()
}

fn not_included(record: &Record) -> Vec<String> {
    let mut texts = Vec::new();
    for capture in &record.captures {
        let part = &capture.part;
        if let Some(problem) = &capture.problem {
            texts.push(format!("{part}: it could not be captured: {problem}"));
        }
        texts.extend(capture.omits.iter().map(|what| format!("{part}: {what}")));
        for left_out in &capture.left_out {
            let more = if left_out.count > 1 { format!(" and {} more", left_out.count - 1) } else { String::new() };
            let first = left_out.paths.first().cloned().unwrap_or_default();
            texts.push(format!("{part}: {first}{more}: {}", left_out.why));
        }
        if let Some(proof) = &capture.outside {
            texts.push(format!("{part}: another system keeps it, by the id {}", proof.id));
        }
    }
    texts
}

#[cfg(test)]
mod tests {
    use gullet_model::ids::RunId;

    use super::*;

    fn line(run: &str, started: &str, outcome: Outcome, bytes: u64) -> RunLine {
        let started: Timestamp = started.parse().unwrap();
        let record = Record::bare(RunId::from(run), "desk", "machine1", started, outcome);
        let name = format!("records/desk/machine1/{run}-00.json");
        let logged = Logged { name, in_store: true, record, remarks: vec![], keys: vec![], is_locked: false };
        RunLine { bytes, bytes_stored: bytes / 10, held_ms: Some(bytes), ..RunLine::from(&logged) }
    }

    #[test]
    fn days_are_those_of_the_zone_and_have_the_worst_of_their_runs() {
        let zone = TimeZone::get("Europe/Lisbon").unwrap();
        let lines = [
            line("aaaaaaaaaa", "2026-07-01T22:30:00Z", Outcome::Complete, 10),
            // Half past eleven in the evening in UTC is the next day in Lisbon, in summer.
            line("bbbbbbbbbb", "2026-07-01T23:30:00Z", Outcome::Failed, 5000),
            line("cccccccccc", "2026-07-02T12:00:00Z", Outcome::Warnings, 30),
            // A clock that went back.
            line("dddddddddd", "2026-07-01T12:00:00Z", Outcome::Complete, 20),
            line("eeeeeeeeee", "2026-07-09T12:00:00Z", Outcome::Complete, 90),
        ];
        let time = (Date::constant(2026, 7, 1), Date::constant(2026, 7, 8));
        let status = AppStatus::unknown("desk".to_owned(), "a test".to_owned());
        let app = OverviewApp::new(status, &lines, None, &[], time, &zone);
        let days: Vec<(i8, usize, Outcome, Option<u64>, u64)> =
            app.days.iter().map(|day| (day.day.day(), day.runs, day.worst, day.bytes, day.bytes_stored)).collect();
        // What a run that failed captured is no size of the application.
        assert_eq!(days, [(1, 2, Outcome::Complete, Some(20), 3), (2, 2, Outcome::Failed, Some(30), 503)]);
        assert_eq!((app.runs.len(), app.ended(Outcome::Failed), app.longest_hold_ms()), (4, 1, Some(5000)));
        let overview = Overview::new(("quay".to_owned(), Timestamp::UNIX_EPOCH), time, &zone, None, vec![app]);
        assert_eq!((overview.all_days().count(), overview.level), (8, Severity::Unknown));
    }
}
