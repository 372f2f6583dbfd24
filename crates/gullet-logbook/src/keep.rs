//! Which runs the keep rules of an application keep, and why. Nothing is removed here.

use jiff::civil::{Date, ISOWeekDate};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

use crate::logbook::{Logbook, Logged};
use gullet_model::definition::{KeepSpec, Period};
use gullet_model::outcome::Outcome;

/// What keeps a run.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum KeptBy {
    /// It is the newest complete one.
    NewestComplete,
    /// It is the newest one without warnings.
    NewestWithoutWarnings,
    /// It is the newest one that a drill has proven.
    NewestProven,
    /// It is marked to stay.
    Mark,
    /// Its time lies in the future, so that its age is not known.
    Future,
    /// A copy of its store does not have it yet.
    NotCopied,
    /// The rule `newest`: it is among the newest runs.
    Newest,
    /// The rule `everything_for`: it is young enough.
    Everything,
    /// The rule `one_a_day_for`: it stands for its day.
    OneADay,
    /// The rule `one_a_week_for`: it stands for its week.
    OneAWeek,
    /// The rule `one_a_month_for`: it stands for its month.
    OneAMonth,
    /// The rule `one_a_year_for`: it stands for its year.
    OneAYear,
}

impl KeptBy {
    /// In words, with the rule as the definition has it.
    pub fn words(self) -> &'static str {
        match self {
            Self::NewestComplete => "the newest complete run",
            Self::NewestWithoutWarnings => "the newest one without warnings",
            Self::NewestProven => "the newest one that a drill has proven",
            Self::Mark => "marked to stay",
            Self::Future => "its time lies in the future",
            Self::NotCopied => "it has no second copy yet",
            Self::Newest => "newest",
            Self::Everything => "everything_for",
            Self::OneADay => "one_a_day_for",
            Self::OneAWeek => "one_a_week_for",
            Self::OneAMonth => "one_a_month_for",
            Self::OneAYear => "one_a_year_for",
        }
    }
}

/// What the rules need to know of a run.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct KeepFacts {
    /// When it began.
    pub began: Timestamp,
    /// Whether it is complete, whole and in the store, so that it can stand for the application.
    pub is_good: bool,
    /// Whether it is good and has no warnings.
    pub is_clean: bool,
    /// Whether a drill has proven it.
    pub is_proven: bool,
    /// Whether it is marked to stay.
    pub is_marked: bool,
    /// Whether a copy of its store does not have it yet.
    pub lacks_copy: bool,
}

/// A time that is so far ahead is no inaccuracy of clocks.
const AHEAD: SignedDuration = SignedDuration::from_mins(5);

/// A year, and the number of a period within it.
type UnitOf = fn(Date) -> (i16, i16);

/// What keeps each run; `None` of one that goes. `runs` are those that have captures, oldest first, by the chain of records.
///
/// The guarantees come first: whatever the rules say, what is the newest of its kind, marked, or from the future stays.
pub fn decide(runs: &[KeepFacts], rules: &KeepSpec, zone: &TimeZone, now: Timestamp) -> Vec<Option<KeptBy>> {
    let newest = |is_meant: fn(&KeepFacts) -> bool| runs.iter().rposition(is_meant);
    let guarded = [
        (newest(|run| run.is_good), KeptBy::NewestComplete),
        (newest(|run| run.is_clean), KeptBy::NewestWithoutWarnings),
        (newest(|run| run.is_proven), KeptBy::NewestProven),
    ];
    let local = |at: Timestamp| at.to_zoned_datetime(zone.clone()).date();
    let is_younger = |at: Timestamp, period: Period| {
        let since = now.to_zoned_datetime(zone.clone()).checked_sub(period.span());
        since.is_ok_and(|since| at >= since.timestamp())
    };
    let periods: [(Option<Period>, UnitOf, KeptBy); 4] = [
        (rules.one_a_day_for, |date| (date.year(), date.day_of_year()), KeptBy::OneADay),
        (rules.one_a_week_for, week_of, KeptBy::OneAWeek),
        (rules.one_a_month_for, |date| (date.year(), i16::from(date.month())), KeptBy::OneAMonth),
        (rules.one_a_year_for, |date| (date.year(), 0), KeptBy::OneAYear),
    ];
    // Of each run once: an hourly schedule has thousands.
    let units: Vec<[(i16, i16); 4]> =
        runs.iter().map(|run| periods.map(|(_, unit, _)| unit(local(run.began)))).collect();
    let by_rule = |at: usize| -> Option<KeptBy> {
        let run = &runs[at];
        if let Some((_, why)) = guarded.iter().find(|(newest, _)| *newest == Some(at)) {
            return Some(*why);
        }
        if run.is_marked {
            return Some(KeptBy::Mark);
        }
        if run.began.duration_since(now) > AHEAD {
            return Some(KeptBy::Future);
        }
        if run.lacks_copy {
            return Some(KeptBy::NotCopied);
        }
        let later_good = runs[at + 1..].iter().filter(|other| other.is_good).count();
        if run.is_good && rules.newest.is_some_and(|newest| later_good < newest as usize) {
            return Some(KeptBy::Newest);
        }
        if rules.everything_for.is_some_and(|period| is_younger(run.began, period)) {
            return Some(KeptBy::Everything);
        }
        let found = periods.iter().enumerate().find(|(which, (period, ..))| {
            let is_later = |other: usize| runs[other].is_good && units[other][*which] == units[at][*which];
            run.is_good
                && period.is_some_and(|period| is_younger(run.began, period))
                && !(at + 1..runs.len()).any(is_later)
        });
        found.map(|(_, (_, _, why))| *why)
    };
    (0..runs.len()).map(by_rule).collect()
}

/// The year and number of a date's week by ISO 8601.
fn week_of(date: Date) -> (i16, i16) {
    let week = ISOWeekDate::from(date);
    (week.year(), i16::from(week.week()))
}

/// The runs of an application that the reading machine wrote and that have captures, oldest first, each with what keeps it. `copies`
/// are those that its store should have.
pub fn decide_app<'b>(
    book: &'b Logbook,
    app: &str,
    (rules, copies): (&KeepSpec, &[String]),
    zone: &TimeZone,
    now: Timestamp,
) -> Vec<(&'b Logged, Option<KeptBy>)> {
    let has_captures = |logged: &&Logged| {
        logged.in_store
            && !logged.is_thinned()
            && logged.record.captures.iter().any(|capture| capture.listing.is_some())
    };
    let runs: Vec<&Logged> = book.own_runs(app).filter(has_captures).collect();
    let facts: Vec<KeepFacts> = runs
        .iter()
        .map(|logged| KeepFacts {
            began: logged.record.started,
            is_good: logged.is_good(),
            is_clean: logged.is_good() && logged.outcome() == Outcome::Complete,
            is_proven: logged.proven().is_some(),
            is_marked: logged.is_kept(),
            lacks_copy: copies.iter().any(|copy| !logged.is_copied(copy)),
        })
        .collect();
    runs.into_iter().zip(decide(&facts, rules, zone, now)).collect()
}

/// Bytes of payload files that no run needs any more once these are given up.
pub fn freed(book: &Logbook, going: &[&Logged]) -> u64 {
    let is_going = |logged: &Logged| going.iter().any(|other| other.name == logged.name);
    let needed = book.payload_needed(|logged| !is_going(logged));
    let gone = book.payload_needed(|logged| is_going(logged));
    gone.iter().filter(|(name, _)| !needed.contains_key(*name)).map(|(_, length)| length).sum()
}

#[cfg(test)]
mod tests;
