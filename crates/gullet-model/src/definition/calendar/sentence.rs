//! A rule in a sentence.

use super::Rule;
use super::days::ORDINALS;
use crate::definition::{Every, OnDay};
use crate::words::list;

const FULL: [(&str, &str); 7] = [
    ("mon", "Monday"),
    ("tue", "Tuesday"),
    ("wed", "Wednesday"),
    ("thu", "Thursday"),
    ("fri", "Friday"),
    ("sat", "Saturday"),
    ("sun", "Sunday"),
];

/// `Monday`; `Monday to Friday`; `the first Saturday`; everything else as it is.
fn day(text: &str) -> String {
    let full = |short: &str| FULL.iter().find(|(name, _)| *name == short).map(|(_, full)| *full);
    if let Some((nth, weekday)) = text.split_once(' ')
        && ORDINALS.contains(&nth)
        && let Some(weekday) = full(weekday)
    {
        return format!("the {nth} {weekday}");
    }
    match text.split_once('-').map(|(first, last)| (full(first), full(last))) {
        Some((Some(first), Some(last))) => format!("{first} to {last}"),
        _ => full(text).map_or_else(|| text.to_owned(), str::to_owned),
    }
}

impl Rule {
    /// The rule as a sentence without a full stop.
    pub fn sentence(&self) -> String {
        let spec = &self.spec;
        let at = list(&spec.at.iter().flat_map(|at| at.all().to_vec()).collect::<Vec<_>>());
        let on: Vec<OnDay> = spec.on.iter().flat_map(|on| on.all().to_vec()).collect();
        let days = on.iter().map(|one| match one {
            OnDay::Number(number) => format!("day {number}"),
            OnDay::Words(text) if text == "last" => "the last day".to_owned(),
            OnDay::Words(text) => day(text),
        });
        let days = list(&days.collect::<Vec<_>>());
        let mut text = match (spec.every, &spec.cron) {
            (Some(Every::Hour), _) if days.is_empty() => format!("every hour at minute {at}"),
            (Some(Every::Hour), _) => format!("every hour at minute {at}, {days}"),
            (Some(Every::Day), _) if days.is_empty() => format!("every day at {at}"),
            (Some(Every::Day | Every::Week), _) => format!("every {days} at {at}"),
            (Some(Every::Month), _) => format!("every month on {days} at {at}"),
            (Some(Every::Year), _) => format!("every year on {days} at {at}"),
            (None, cron) => format!("by cron `{}`", cron.as_deref().unwrap_or_default()),
        };
        text.push_str(&if spec.zone == "local" { ", local time".to_owned() } else { format!(" ({})", spec.zone) });
        if !spec.not_on.is_empty() {
            text.push_str(&format!(", not on {}", list(&spec.not_on.iter().map(|text| day(text)).collect::<Vec<_>>())));
        }
        if let Some(by) = &spec.start_by {
            text.push_str(&format!(", started by {by}"));
        }
        if let Some(by) = &spec.finish_by {
            text.push_str(&format!(", done by {by}"));
        }
        if spec.catch_up {
            text.push_str(", later where it could not start");
        }
        if !spec.parts.is_empty() {
            text.push_str(&format!(", only {}", list(&spec.parts)));
        }
        text
    }
}
