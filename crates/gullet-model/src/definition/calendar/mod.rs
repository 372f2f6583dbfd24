//! The calendar: what a schedule of the definition means, and which moments come of it.
//!
//! A rule is a set of days and of local times in a zone. A local time that does not exist, since clocks go forward, stands for the
//! first moment after the gap; one that occurs twice stands for its first occurrence. What comes round every hour goes by the hours
//! that pass instead, so that it comes in each of them, also in one that is doubled. No clock is asked here.

mod cron;
mod days;
mod sentence;
#[cfg(test)]
mod tests;

use jiff::civil::{Date, Time};
use jiff::tz::{AmbiguousOffset, TimeZone};
use jiff::{SignedDuration, Timestamp, ToSpan};

use crate::definition::{Every, OnDay, OneOrMany, ScheduleSpec};
use days::{Days, Excluded};

/// What is wrong with a schedule: under which key, and what to write instead.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RuleError {
    /// The key of the definition that is wrong.
    pub key: &'static str,
    /// What is wrong.
    pub message: String,
    /// What to write.
    pub hint: Option<String>,
}

impl RuleError {
    fn new(key: &'static str, message: impl Into<String>, hint: &str) -> Self {
        Self { key, message: message.into(), hint: (!hint.is_empty()).then(|| hint.to_owned()) }
    }
}

/// A schedule that is valid.
#[derive(Clone, Debug)]
pub struct Rule {
    days: Days,
    times: Times,
    zone: TimeZone,
    excluded: Vec<Excluded>,
    start_by: Option<Time>,
    finish_by: Option<Time>,
    spec: ScheduleSpec,
}

/// The times of a day.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Times {
    /// Local times, sorted.
    Of(Vec<Time>),
    /// Minutes of every hour that passes, sorted.
    EveryHour(Vec<i8>),
}

/// A moment at which something is due.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DueMoment {
    /// The moment at which it is due.
    pub at: Timestamp,
    /// What clocks that change made of it.
    pub note: Option<ClockChange>,
}

/// What a change of clocks made of a moment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ClockChange {
    /// The local time does not exist that day: this is the first moment after the gap.
    AfterGap(Time),
    /// The local time occurs twice that day: this is its first occurrence.
    FirstOfTwo,
}

/// How long after a moment a run may still start, where nothing is said.
const STARTS_WITHIN: SignedDuration = SignedDuration::from_hours(1);
/// How long a run may go on before it is late, where no `finish_by` is said.
const TAKES_AT_MOST: SignedDuration = SignedDuration::from_hours(12);
/// No window is longer: `finish_by` is a time of day.
const LONGEST_WINDOW: SignedDuration = SignedDuration::from_hours(25);
/// A rule that gives no moment in so many days gives none: the 29th of February comes within eight years, on a given weekday
/// within forty.
const LOOKED_AHEAD: usize = 366 * 41;

impl Rule {
    /// What a schedule means.
    ///
    /// # Errors
    /// The first thing that is wrong with it.
    pub fn new(spec: &ScheduleSpec) -> Result<Self, RuleError> {
        let zone = zone(&spec.zone)?;
        let (days, times) = match (&spec.cron, spec.every) {
            (Some(cron), None) => {
                if spec.at.is_some() || spec.on.is_some() {
                    return Err(RuleError::new("cron", "`cron` says when by itself", "leave `at` and `on` out"));
                }
                cron::parse(cron)?
            }
            (None, Some(every)) => {
                let on: Vec<OnDay> = spec.on.iter().flat_map(|on| on.all().to_vec()).collect();
                (Days::of(every, &on)?, Times::of(every, spec.at.as_ref())?)
            }
            _ => {
                let hint = "every = \"day\", at = \"01:30\"; or cron = \"30 1 * * *\"";
                return Err(RuleError::new("every", "a schedule says `every`, or `cron`", hint));
            }
        };
        let excluded: Result<Vec<Excluded>, RuleError> = spec.not_on.iter().map(|text| Excluded::parse(text)).collect();
        let by = |key, text: &Option<String>| text.as_ref().map(|text| clock_time(key, text)).transpose();
        let (start_by, finish_by) = (by("start_by", &spec.start_by)?, by("finish_by", &spec.finish_by)?);
        let rule = Self { days, times, zone, excluded: excluded?, start_by, finish_by, spec: spec.clone() };
        rule.windows()?;
        if rule.after(Timestamp::UNIX_EPOCH).is_none() {
            return Err(RuleError::new("not_on", "the rule comes round on no day at all", ""));
        }
        Ok(rule)
    }

    /// Whether the windows make sense for every time of day.
    fn windows(&self) -> Result<(), RuleError> {
        let Times::Of(times) = &self.times else {
            let window = [("start_by", self.start_by), ("finish_by", self.finish_by)];
            let wrong = window.into_iter().find(|(_, by)| by.is_some());
            return wrong.map_or(Ok(()), |(key, _)| {
                Err(RuleError::new(key, format!("`{key}` is a time of day, and this comes round every hour"), ""))
            });
        };
        for time in times {
            let [start, finish] = [self.start_by, self.finish_by].map(|by| by.map(|by| until(*time, by)));
            let at = time.strftime("%H:%M");
            if start.is_some_and(|window| window.is_zero()) {
                return Err(RuleError::new("start_by", format!("nothing could start at {at} and not after it"), ""));
            }
            if finish.is_some_and(|window| window.is_zero()) {
                return Err(RuleError::new(
                    "finish_by",
                    format!("nothing could start at {at} and be done by then"),
                    "",
                ));
            }
            if start.zip(finish).is_some_and(|(start, finish)| finish <= start) {
                let message =
                    format!("for the run of {at} this comes before `start_by`, so it could end before it begins");
                return Err(RuleError::new("finish_by", message, ""));
            }
        }
        Ok(())
    }

    /// The schedule as it is written.
    pub fn spec(&self) -> &ScheduleSpec {
        &self.spec
    }

    /// The zone that its times are meant in.
    pub fn zone(&self) -> &TimeZone {
        &self.zone
    }

    /// The first moment after `then`; `None` where none comes in forty years.
    pub fn after(&self, then: Timestamp) -> Option<DueMoment> {
        self.moments(then).next()
    }

    /// The moments after `from` up to `until`, at most so many.
    pub fn between(&self, from: Timestamp, until: Timestamp, most: usize) -> Vec<DueMoment> {
        self.moments(from).take_while(|moment| moment.at <= until).take(most).collect()
    }

    /// The moments after `then`, in order, for forty years.
    fn moments(&self, then: Timestamp) -> impl Iterator<Item = DueMoment> {
        let from = then.to_zoned_datetime(self.zone.clone()).date().checked_sub(1.day()).unwrap_or(Date::MAX);
        let days = std::iter::successors(Some(from), |date| date.tomorrow().ok()).take(LOOKED_AHEAD);
        let all = days.filter(|date| self.is_on(*date)).flat_map(|date| self.moments_of(date));
        // Several times are one moment where a gap takes all of them; of two days, too, where it takes the first one to its end.
        let mut last = then;
        all.filter(move |one| {
            let is_new = one.at > last;
            last = last.max(one.at);
            is_new
        })
    }

    fn is_on(&self, date: Date) -> bool {
        self.days.has(date) && !self.excluded.iter().any(|excluded| excluded.has(date))
    }

    /// The moments of one local day, in order.
    fn moments_of(&self, date: Date) -> Vec<DueMoment> {
        match &self.times {
            Times::Of(times) => times.iter().filter_map(|time| self.moment(date, *time)).collect(),
            Times::EveryHour(minutes) => self.hourly(date, minutes),
        }
    }

    fn moment(&self, date: Date, time: Time) -> Option<DueMoment> {
        let ambiguous = self.zone.to_ambiguous_timestamp(date.to_datetime(time));
        let note = match ambiguous.offset() {
            AmbiguousOffset::Unambiguous { .. } => None,
            AmbiguousOffset::Gap { .. } => Some(ClockChange::AfterGap(time)),
            AmbiguousOffset::Fold { .. } => Some(ClockChange::FirstOfTwo),
        };
        let at = match ambiguous.offset() {
            // The instant at which clocks go forward: what the local time would be by the offset of before lies behind it.
            AmbiguousOffset::Gap { after, .. } => {
                let behind = after.to_timestamp(date.to_datetime(time)).ok()?;
                self.zone.following(behind).next()?.timestamp()
            }
            _ => ambiguous.earlier().ok()?,
        };
        Some(DueMoment { at, note })
    }

    /// Every passing minute of the day whose local minute is one of these.
    fn hourly(&self, date: Date, minutes: &[i8]) -> Vec<DueMoment> {
        let Some(first) = self.moment(date, Time::midnight()) else { return Vec::new() };
        let mut moments = Vec::new();
        let mut at = first.at;
        loop {
            let local = at.to_zoned_datetime(self.zone.clone());
            if local.date() != date {
                return moments;
            }
            if minutes.contains(&local.minute()) && local.second() == 0 {
                moments.push(DueMoment { at, note: None });
            }
            let Ok(next) = at.checked_add(1.minute()) else { return moments };
            at = next;
        }
    }

    /// Whether a time lies between a moment and its `finish_by`; `None` where the rule has none.
    pub fn is_in_window(&self, now: Timestamp) -> Option<bool> {
        self.finish_by?;
        let from = now.checked_sub(LONGEST_WINDOW).unwrap_or(Timestamp::MIN);
        let before = self.between(from, now, usize::MAX);
        Some(before.iter().any(|moment| self.ends_at(moment.at).is_some_and(|end| now < end)))
    }

    /// Until when what is due at this moment may start.
    pub fn starts_until(&self, at: Timestamp) -> Timestamp {
        let local = at.to_zoned_datetime(self.zone.clone()).time();
        let within = self.start_by.map_or(STARTS_WITHIN, |by| until(local, by));
        at.checked_add(within).unwrap_or(Timestamp::MAX)
    }

    /// The newest moment whose run should be over by now; `None` where there was none within a year.
    pub fn last_over(&self, now: Timestamp) -> Option<Timestamp> {
        let is_over = |at: Timestamp| {
            let over = self.ends_at(at).or_else(|| self.starts_until(at).checked_add(TAKES_AT_MOST).ok());
            over.is_some_and(|over| over < now)
        };
        [2, 40, 370].into_iter().find_map(|days| {
            let from = now.checked_sub(SignedDuration::from_hours(24 * days)).ok()?;
            let moments = self.between(from, now, usize::MAX).into_iter().rev();
            moments.map(|moment| moment.at).find(|at| is_over(*at))
        })
    }

    /// When what is due at this moment must be done.
    pub fn ends_at(&self, at: Timestamp) -> Option<Timestamp> {
        let local = at.to_zoned_datetime(self.zone.clone()).time();
        self.finish_by.and_then(|by| at.checked_add(until(local, by)).ok())
    }
}

impl Times {
    fn of(every: Every, at: Option<&OneOrMany<String>>) -> Result<Self, RuleError> {
        let texts: Vec<&String> = at.iter().flat_map(|at| at.all()).collect();
        if texts.is_empty() {
            let hint = if every == Every::Hour { "at = \"05\"" } else { "at = \"01:30\"" };
            return Err(RuleError::new("every", "there is no `at`, so the time is not said", hint));
        }
        if every == Every::Hour {
            let minute = |text: &&String| {
                let minute = text.trim_start_matches(':').parse().ok().filter(|minute| (0..60).contains(minute));
                minute.ok_or_else(|| {
                    RuleError::new(
                        "at",
                        format!("`{text}` is not a minute of an hour"),
                        "write for example at = \"05\"",
                    )
                })
            };
            let mut minutes: Vec<i8> = texts.iter().map(minute).collect::<Result<_, _>>()?;
            minutes.sort_unstable();
            return Ok(Self::EveryHour(minutes));
        }
        let mut times: Vec<Time> = texts.iter().map(|text| clock_time("at", text)).collect::<Result<_, _>>()?;
        times.sort_unstable();
        Ok(Self::Of(times))
    }
}

/// A zone by its name in a definition: an IANA name, or `local`.
///
/// # Errors
/// When there is none.
pub fn zone(name: &str) -> Result<TimeZone, RuleError> {
    if name == "local" {
        return Ok(TimeZone::system());
    }
    TimeZone::get(name).map_err(|_| {
        let hint = "write an IANA name such as \"Europe/Lisbon\", or \"local\" for the machine's own";
        RuleError::new("zone", format!("there is no time zone `{name}`"), hint)
    })
}

/// A time of day, as in `01:30`.
fn clock_time(key: &'static str, text: &str) -> Result<Time, RuleError> {
    let parsed = text.split_once(':').and_then(|(hour, minute)| {
        let is_plain = |text: &str| (1..=2).contains(&text.len()) && text.bytes().all(|byte| byte.is_ascii_digit());
        let (hour, minute) =
            (is_plain(hour).then(|| hour.parse().ok())??, (minute.len() == 2).then(|| minute.parse().ok())??);
        Time::new(hour, minute, 0, 0).ok()
    });
    parsed.ok_or_else(|| {
        RuleError::new(
            key,
            format!("`{text}` is not a time of day"),
            "write hours and minutes, from \"00:00\" to \"23:59\"",
        )
    })
}

/// From one time of day to the next one that is the other.
fn until(from: Time, to: Time) -> SignedDuration {
    let span = from.duration_until(to);
    if span.is_negative() { span + SignedDuration::from_hours(24) } else { span }
}
