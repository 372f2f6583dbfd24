//! What the keep rules would leave of a time of imagined runs, every one of which is complete.

use std::collections::BTreeMap;

use gullet_logbook::keep::{KeepFacts, KeptBy, decide};
use gullet_model::definition::KeepSpec;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::Serialize;

use crate::due::Scheduled;

/// What a run of an application takes in the store.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct RunSizes {
    /// All that the newest complete run stands on, in bytes as they are stored.
    pub whole: u64,
    /// What one run after another adds, in bytes as they are stored.
    pub each: u64,
}

/// What would be left.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Simulated {
    /// The name of the application.
    pub app: String,
    /// How many runs are due in the time.
    pub runs: usize,
    /// How many of them stay.
    pub stay: usize,
    /// What keeps how many.
    pub kept_by: BTreeMap<KeptBy, usize>,
    /// How large they would be together, in bytes as they are stored; none where no run is known to go by.
    pub bytes: Option<u64>,
}

/// Applies the keep rules at the end of a time to the runs that are due in it. The rules leave the same as if they had been applied
/// after each run: the newest of a period is kept at every moment from its own on.
///
/// Without rules everything stays. Runs of some parts are not counted.
pub fn simulate(
    app: &str,
    schedules: &[Scheduled],
    rules: Option<(&KeepSpec, &TimeZone)>,
    (from, until): (Timestamp, Timestamp),
    sizes: Option<RunSizes>,
) -> Simulated {
    let whole = schedules.iter().filter(|one| one.rule.spec().parts.is_empty());
    let mut began: Vec<Timestamp> =
        whole.flat_map(|one| one.rule.between(from, until, usize::MAX)).map(|moment| moment.at).collect();
    began.sort();
    let facts: Vec<KeepFacts> = began
        .iter()
        .map(|began| KeepFacts {
            began: *began,
            is_good: true,
            is_clean: true,
            is_proven: false,
            is_marked: false,
            lacks_copy: false,
        })
        .collect();
    let mut kept_by = BTreeMap::new();
    let stay = match rules {
        None => facts.len(),
        Some((rules, zone)) => {
            let kept = decide(&facts, rules, zone, until);
            kept.iter().flatten().for_each(|why| *kept_by.entry(*why).or_insert(0) += 1);
            kept.iter().flatten().count()
        }
    };
    let added = u64::try_from(stay.saturating_sub(1)).unwrap_or(u64::MAX);
    let bytes = sizes.filter(|_| stay > 0).map(|sizes| sizes.whole.saturating_add(sizes.each.saturating_mul(added)));
    Simulated { app: app.to_owned(), runs: facts.len(), stay, kept_by, bytes }
}

#[cfg(test)]
mod tests {
    use gullet_model::definition::calendar::Rule;

    use super::*;
    use crate::due::Job;

    #[test]
    fn a_year_of_nights_leaves_what_the_rules_say() {
        let nightly = "name = \"nightly\"\nevery = \"day\"\nat = \"01:30\"\nzone = \"UTC\"";
        let rule = Rule::new(&toml::from_str(nightly).unwrap()).unwrap();
        let schedules = [Scheduled { job: Job::Run, app: "desk".to_owned(), rule }];
        let rules: KeepSpec = toml::from_str("newest = 10\none_a_month_for = \"1y\"").unwrap();
        let time = ("2026-01-01T00:00:00Z".parse().unwrap(), "2027-01-01T00:00:00Z".parse().unwrap());
        let sizes = RunSizes { whole: 1000, each: 10 };
        let left = simulate("desk", &schedules, Some((&rules, &TimeZone::UTC)), time, Some(sizes));
        // The last ten of December, the newest of which stays anyhow, and the last of the eleven months before.
        let kept_by = BTreeMap::from([(KeptBy::NewestComplete, 1), (KeptBy::Newest, 9), (KeptBy::OneAMonth, 11)]);
        assert_eq!((left.runs, left.stay, &left.kept_by), (365, 21, &kept_by));
        assert_eq!(left.bytes, Some(1200));
        let all = simulate("desk", &schedules, None, time, None);
        assert_eq!((all.stay, all.bytes), (365, None));
    }
}
