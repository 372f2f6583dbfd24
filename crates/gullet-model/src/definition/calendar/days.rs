//! The days of a rule, and those that are left out.

use jiff::civil::{Date, Weekday};

use super::RuleError;
use crate::definition::{Every, OnDay};

/// Weekdays as they are written, Monday first.
pub(super) const WEEKDAYS: [(&str, Weekday); 7] = [
    ("mon", Weekday::Monday),
    ("tue", Weekday::Tuesday),
    ("wed", Weekday::Wednesday),
    ("thu", Weekday::Thursday),
    ("fri", Weekday::Friday),
    ("sat", Weekday::Saturday),
    ("sun", Weekday::Sunday),
];

/// Which one of its kind a weekday is in a month.
pub(super) const ORDINALS: [&str; 5] = ["first", "second", "third", "fourth", "last"];

/// Days on which a rule comes round.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Days {
    Weekdays(Vec<Weekday>),
    OfMonth(Vec<MonthDay>),
    /// Month and day.
    OfYear(Vec<(i8, i8)>),
    /// Of cron notation: months, days of the month, weekdays. Where both kinds of days are said, either is enough.
    Cron {
        months: Vec<i8>,
        days: Option<Vec<i8>>,
        weekdays: Option<Vec<Weekday>>,
    },
    /// The same where both must hold, as with `*/2` in one of them.
    Both {
        months: Vec<i8>,
        days: Vec<i8>,
        weekdays: Vec<Weekday>,
    },
}

/// A day of a month.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum MonthDay {
    Number(i8),
    Last,
    /// The first to fourth of a weekday, or its last: by the place in [`ORDINALS`].
    Nth(usize, Weekday),
}

impl Days {
    pub(super) fn of(every: Every, on: &[OnDay]) -> Result<Self, RuleError> {
        let none = |message: &str, hint: &str| Err(RuleError::new("every", message, hint));
        match every {
            Every::Hour | Every::Day if on.is_empty() => Ok(Self::Weekdays(WEEKDAYS.map(|(_, day)| day).to_vec())),
            Every::Week if on.is_empty() => {
                none("there is no `on`, so the day of the week is not said", "on = [\"sun\"]")
            }
            Every::Hour | Every::Day | Every::Week => {
                let days: Result<Vec<Vec<Weekday>>, RuleError> = on.iter().map(weekdays).collect();
                Ok(Self::Weekdays(days?.concat()))
            }
            Every::Month if on.is_empty() => none("there is no `on`, so the day of the month is not said", "on = [1]"),
            Every::Month => Ok(Self::OfMonth(on.iter().map(month_day).collect::<Result<_, _>>()?)),
            Every::Year if on.is_empty() => {
                none("there is no `on`, so the day of the year is not said", "on = [\"12-31\"]")
            }
            Every::Year => Ok(Self::OfYear(on.iter().map(year_day).collect::<Result<_, _>>()?)),
        }
    }

    pub(super) fn has(&self, date: Date) -> bool {
        match self {
            Self::Weekdays(days) => days.contains(&date.weekday()),
            Self::OfMonth(days) => days.iter().any(|day| day.is(date)),
            Self::OfYear(days) => days.contains(&(date.month(), date.day())),
            Self::Both { months, days, weekdays } => {
                months.contains(&date.month()) && days.contains(&date.day()) && weekdays.contains(&date.weekday())
            }
            Self::Cron { months, days, weekdays } => {
                let day = days.as_ref().map(|days| days.contains(&date.day()));
                let weekday = weekdays.as_ref().map(|days| days.contains(&date.weekday()));
                months.contains(&date.month())
                    && match (day, weekday) {
                        (None, None) => true,
                        (Some(one), None) | (None, Some(one)) => one,
                        (Some(day), Some(weekday)) => day || weekday,
                    }
            }
        }
    }
}

impl MonthDay {
    fn is(&self, date: Date) -> bool {
        match self {
            Self::Number(day) => date.day() == *day,
            Self::Last => date.day() == date.days_in_month(),
            Self::Nth(nth, weekday) if *nth == ORDINALS.len() - 1 => {
                date.weekday() == *weekday && date.day() > date.days_in_month() - 7
            }
            Self::Nth(nth, weekday) => date.weekday() == *weekday && (date.day() as usize - 1) / 7 == *nth,
        }
    }
}

fn weekday(text: &str) -> Option<usize> {
    WEEKDAYS.iter().position(|(name, _)| *name == text)
}

/// `mon`, or `mon-fri`; `fri-mon` goes over the end of the week.
fn weekdays(day: &OnDay) -> Result<Vec<Weekday>, RuleError> {
    let text = words(day);
    let (first, last) = text.split_once('-').unwrap_or((&text, &text));
    let (Some(first), Some(last)) = (weekday(first), weekday(last)) else {
        let hint = "write mon, tue, wed, thu, fri, sat, sun, or a range such as \"mon-fri\"";
        return Err(RuleError::new("on", format!("`{text}` is not a day of the week"), hint));
    };
    let length = (last + 7 - first) % 7 + 1;
    Ok((first..first + length).map(|day| WEEKDAYS[day % 7].1).collect())
}

fn words(day: &OnDay) -> String {
    match day {
        OnDay::Number(number) => number.to_string(),
        OnDay::Words(text) => text.trim().to_owned(),
    }
}

fn month_day(day: &OnDay) -> Result<MonthDay, RuleError> {
    let text = words(day);
    if let Ok(number) = text.parse::<i8>()
        && (1..=31).contains(&number)
    {
        return Ok(MonthDay::Number(number));
    }
    if text == "last" {
        return Ok(MonthDay::Last);
    }
    let nth = text.split_once(' ').and_then(|(nth, day)| {
        let nth = ORDINALS.iter().position(|name| *name == nth)?;
        Some(MonthDay::Nth(nth, WEEKDAYS[weekday(day)?].1))
    });
    nth.ok_or_else(|| {
        let hint = "write a number from 1 to 31, \"last\", or \"first sat\" to \"fourth sat\" and \"last sat\"";
        RuleError::new("on", format!("`{text}` is not a day of a month"), hint)
    })
}

/// A month and a day of it, written as `12-31`.
fn month_and_day(text: &str) -> Option<(i8, i8)> {
    let (month, day) = text.split_once('-')?;
    let number = |text: &str| (text.len() == 2).then(|| text.parse::<i8>().ok())?;
    let (month, day) = (number(month)?, number(day)?);
    // 2024 has a 29th of February.
    Date::new(2024, month, day).ok().map(|_| (month, day))
}

fn year_day(day: &OnDay) -> Result<(i8, i8), RuleError> {
    let text = words(day);
    month_and_day(&text).ok_or_else(|| {
        RuleError::new("on", format!("`{text}` is not a day of a year"), "write month and day, such as \"12-31\"")
    })
}

/// Days that are left out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Excluded {
    Weekdays(Vec<Weekday>),
    /// From and to, each year; over the end of a year where the second is the smaller.
    EachYear((i8, i8), (i8, i8)),
    Dates(Date, Date),
}

impl Excluded {
    pub(super) fn parse(text: &str) -> Result<Self, RuleError> {
        let (first, last) = text.split_once("..").unwrap_or((text, text));
        if let (Some(first), Some(last)) = (month_and_day(first), month_and_day(last)) {
            return Ok(Self::EachYear(first, last));
        }
        if let (Ok(first), Ok(last)) = (first.parse::<Date>(), last.parse::<Date>()) {
            if last < first {
                return Err(RuleError::new("not_on", format!("`{text}` ends before it begins"), ""));
            }
            return Ok(Self::Dates(first, last));
        }
        weekdays(&OnDay::Words(text.to_owned())).map(Self::Weekdays).map_err(|_| {
            let hint = "write \"01-01\", \"2026-12-24\", \"2026-12-24..2026-12-26\" or \"sun\"";
            RuleError::new("not_on", format!("`{text}` names no day"), hint)
        })
    }

    pub(super) fn has(&self, date: Date) -> bool {
        let day = (date.month(), date.day());
        match self {
            Self::Weekdays(days) => days.contains(&date.weekday()),
            Self::EachYear(first, last) if first <= last => (*first..=*last).contains(&day),
            Self::EachYear(first, last) => day >= *first || day <= *last,
            Self::Dates(first, last) => (*first..=*last).contains(&date),
        }
    }
}
