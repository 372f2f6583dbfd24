//! Cron notation: crontab(5), five fields. Names of months and weekdays, lists, ranges and steps; Sunday is 0 or 7.

use jiff::civil::{Time, Weekday};

use super::days::{Days, WEEKDAYS};
use super::{RuleError, Times};

const MONTHS: [&str; 12] = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
const FIELDS: [(&str, i8, i8); 5] =
    [("minute", 0, 59), ("hour", 0, 23), ("day of the month", 1, 31), ("month", 1, 12), ("day of the week", 0, 7)];

pub(super) fn parse(text: &str) -> Result<(Days, Times), RuleError> {
    let fields: Vec<&str> = text.split_whitespace().collect();
    let Ok(fields) = <[&str; 5]>::try_from(fields) else {
        let hint = "minute, hour, day of the month, month, day of the week: \"30 1 * * 1-5\"";
        return Err(RuleError::new("cron", format!("`{text}` does not have five fields"), hint));
    };
    let mut sets = Vec::new();
    for (field, (what, least, most)) in fields.iter().zip(FIELDS) {
        let set = set(field, what, least, most)
            .ok_or_else(|| RuleError::new("cron", format!("`{field}` is not a {what}, from {least} to {most}"), ""))?;
        sets.push(set);
    }
    let is_any = |field: usize| fields[field].starts_with('*');
    let weekday = |day: &i8| WEEKDAYS[(*day as usize + 6) % 7].1;
    let weekdays: Vec<Weekday> = sets[4].iter().map(weekday).collect();
    // As crontab(5) has it: a field that begins with `*` does not widen the other one, and both then hold.
    let days = (fields[2] != "*").then(|| sets[2].clone());
    let weekdays = (fields[4] != "*").then_some(weekdays);
    let days = match (days, weekdays) {
        (Some(days), Some(weekdays)) if is_any(2) || is_any(4) => {
            Days::Both { months: sets[3].clone(), days, weekdays }
        }
        (days, weekdays) => Days::Cron { months: sets[3].clone(), days, weekdays },
    };
    if fields[1] == "*" {
        return Ok((days, Times::EveryHour(sets[0].clone())));
    }
    let times =
        sets[1].iter().flat_map(|hour| sets[0].iter().filter_map(|minute| Time::new(*hour, *minute, 0, 0).ok()));
    Ok((days, Times::Of(times.collect())))
}

/// The numbers that a field means, sorted.
fn set(field: &str, what: &str, least: i8, most: i8) -> Option<Vec<i8>> {
    let number = |text: &str| -> Option<i8> {
        let text = text.to_ascii_lowercase();
        let named = match what {
            "month" => MONTHS.iter().position(|name| *name == text).map(|at| at as i8 + 1),
            "day of the week" => WEEKDAYS.iter().position(|(name, _)| *name == text).map(|at| (at as i8 + 1) % 7),
            _ => None,
        };
        let plain = || text.bytes().all(|byte| byte.is_ascii_digit()).then(|| text.parse().ok())?;
        named.or_else(plain).filter(|number| (least..=most).contains(number))
    };
    let mut set = Vec::new();
    for item in field.split(',') {
        let (range, step) = match item.split_once('/') {
            Some((range, step)) => (range, step.parse::<i8>().ok().filter(|step| *step > 0)?),
            None => (item, 1),
        };
        let (first, last) = match range.split_once('-') {
            _ if range == "*" => (least, most),
            Some((first, last)) => (number(first)?, number(last)?),
            // A step without a range has nothing to step through.
            None if item.contains('/') => return None,
            None => (number(range)?, number(range)?),
        };
        if first > last {
            return None;
        }
        set.extend((first..=last).step_by(usize::try_from(step).ok()?));
    }
    if what == "day of the week" {
        set.iter_mut().for_each(|day| *day %= 7);
    }
    set.sort_unstable();
    set.dedup();
    Some(set)
}
