use std::collections::BTreeMap;

use super::*;

fn rules(toml: &str) -> KeepSpec {
    serde_json::from_value(serde_json::from_str(toml).unwrap()).unwrap()
}

/// A random history of up to forty runs in the last three years, oldest first.
fn history(dice: &mut fastrand::Rng, now: Timestamp) -> Vec<KeepFacts> {
    let count = dice.usize(..40);
    let mut ages: Vec<i64> = (0..count).map(|_| dice.i64(-600..3 * 366 * 24 * 60)).collect();
    ages.sort_unstable();
    ages.reverse();
    let mut run = |age: i64| {
        let is_good = dice.u32(..4) > 0;
        KeepFacts {
            began: now - SignedDuration::from_mins(age),
            is_good,
            is_clean: is_good && dice.u32(..3) > 0,
            is_proven: dice.u32(..12) == 0,
            is_marked: dice.u32(..15) == 0,
            lacks_copy: dice.u32(..12) == 0,
        }
    };
    ages.into_iter().map(&mut run).collect()
}

fn random_rules(dice: &mut fastrand::Rng) -> KeepSpec {
    let mut period = |some: &[&str]| some.get(dice.usize(..=some.len())).map(|text| text.parse().unwrap());
    KeepSpec {
        everything_for: period(&["1d", "2w"]),
        one_a_day_for: period(&["10d", "2m"]),
        one_a_week_for: period(&["4w", "3m"]),
        one_a_month_for: period(&["1y"]),
        one_a_year_for: period(&["10y"]),
        newest: Some(dice.u32(..5)),
        ..KeepSpec::default()
    }
}

/// The same, the other way about: for each rule the set of runs that it keeps, by going through periods instead of runs.
fn kept(runs: &[KeepFacts], rules: &KeepSpec, zone: &TimeZone, now: Timestamp) -> Vec<bool> {
    let mut kept = vec![false; runs.len()];
    let mut last: [Option<usize>; 3] = [None; 3];
    for (at, run) in runs.iter().enumerate() {
        for (kind, is_meant) in [run.is_good, run.is_clean, run.is_proven].into_iter().enumerate() {
            if is_meant {
                last[kind] = Some(at);
            }
        }
        kept[at] |= run.is_marked || run.lacks_copy || run.began > now + SignedDuration::from_mins(5);
    }
    last.iter().flatten().for_each(|at| kept[*at] = true);
    let good: Vec<usize> = (0..runs.len()).filter(|at| runs[*at].is_good).collect();
    good.iter().rev().take(rules.newest.unwrap_or(0) as usize).for_each(|at| kept[*at] = true);
    let since = |period: Period| now.to_zoned_datetime(zone.clone()).checked_sub(period.span()).unwrap().timestamp();
    for (at, run) in runs.iter().enumerate() {
        kept[at] |= rules.everything_for.is_some_and(|period| run.began >= since(period));
    }
    for (period, form) in [
        (rules.one_a_day_for, "%Y-%m-%d"),
        (rules.one_a_week_for, "%G-%V"),
        (rules.one_a_month_for, "%Y-%m"),
        (rules.one_a_year_for, "%Y"),
    ] {
        let Some(period) = period else { continue };
        let mut newest: BTreeMap<String, usize> = BTreeMap::new();
        for at in &good {
            newest.insert(runs[*at].began.to_zoned_datetime(zone.clone()).strftime(form).to_string(), *at);
        }
        newest.into_values().filter(|at| runs[*at].began >= since(period)).for_each(|at| kept[at] = true);
    }
    kept
}

#[test]
fn a_thousand_histories_keep_what_a_second_implementation_keeps() {
    let mut dice = fastrand::Rng::with_seed(20_261_129);
    let now: Timestamp = "2026-11-29T00:10:00Z".parse().unwrap();
    let (mut stay, mut go) = (0, 0);
    for round in 0..1000 {
        let zone = TimeZone::get(["Europe/Lisbon", "Pacific/Apia", "America/St_Johns"][round % 3]).unwrap();
        let (runs, rules) = (history(&mut dice, now), random_rules(&mut dice));
        let decided: Vec<bool> = decide(&runs, &rules, &zone, now).iter().map(Option::is_some).collect();
        assert_eq!(decided, kept(&runs, &rules, &zone, now), "round {round}: {rules:?}\n{runs:?}");
        stay += decided.iter().filter(|stays| **stays).count();
        go += decided.iter().filter(|stays| !**stays).count();
    }
    assert!(stay > 3000 && go > 3000, "{stay} stay, {go} go");
}

#[test]
fn each_run_is_kept_by_what_is_said_first() {
    let now: Timestamp = "2026-11-29T12:00:00Z".parse().unwrap();
    let run = |days: i64, is_good: bool| KeepFacts {
        began: now - SignedDuration::from_hours(24 * days),
        is_good,
        is_clean: is_good,
        is_proven: false,
        is_marked: false,
        lacks_copy: false,
    };
    let marked = KeepFacts { is_marked: true, ..run(300, false) };
    let runs = [
        run(700, true),
        marked,
        run(40, true),
        run(33, true),
        run(3, true),
        run(2, false),
        run(2, true),
        run(0, true),
        run(-1, false),
    ];
    let rules = rules(r#"{"newest": 2, "everything_for": "2d", "one_a_month_for": "6m", "one_a_year_for": "10y"}"#);
    assert_eq!(
        decide(&runs, &rules, &TimeZone::UTC, now),
        [
            Some(KeptBy::OneAYear),
            Some(KeptBy::Mark),
            None,
            Some(KeptBy::OneAMonth),
            None,
            Some(KeptBy::Everything),
            Some(KeptBy::Newest),
            Some(KeptBy::NewestComplete),
            Some(KeptBy::Future),
        ]
    );
}
