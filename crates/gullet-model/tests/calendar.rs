//! Schedules against second implementations: one in Python, and systemd's own calendar.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on should panic")]

use std::io::Write;
use std::process::{Command, Stdio};

use gullet_model::definition::ScheduleSpec;
use gullet_model::definition::calendar::Rule;
use jiff::Timestamp;
use serde_json::{Value, json};

/// Zones whose clocks change in every way: by half an hour, at midnight, twice a year backwards, by a whole day, or never.
const ZONES: [&str; 12] = [
    "Europe/Lisbon",
    "America/New_York",
    "Australia/Lord_Howe",
    "Asia/Beirut",
    "America/Havana",
    "Africa/Casablanca",
    "Pacific/Apia",
    "Asia/Kathmandu",
    "America/St_Johns",
    "Europe/Dublin",
    "America/Santiago",
    "UTC",
];

fn random_rule(dice: &mut fastrand::Rng) -> Value {
    let every = *dice.choice(&["hour", "day", "day", "week", "month", "year"]).unwrap();
    let weekday = ["mon", "sat", "sun", "mon-fri", "fri-mon", "wed-thu"];
    let month_day = ["last", "first sun", "second mon", "fourth fri", "last sat", "1", "15", "29", "31"];
    let year_day = ["12-31", "02-29", "03-29", "10-25", "06-15"];
    let mut on: Vec<Value> = Vec::new();
    let some = if matches!(every, "hour" | "day") { dice.usize(..2) } else { 1 + dice.usize(..2) };
    for _ in 0..some {
        let text = match every {
            "month" => *dice.choice(&month_day).unwrap(),
            "year" => *dice.choice(&year_day).unwrap(),
            _ => *dice.choice(&weekday).unwrap(),
        };
        on.push(text.parse::<u8>().map_or_else(|_| text.into(), Into::into));
    }
    let times = ["00:00", "00:30", "01:00", "01:30", "02:00", "02:15", "02:30", "03:00", "12:00", "23:30", "23:59"];
    let minutes = ["00", "15", "30", "59"];
    let at: Vec<&str> = (0..=dice.usize(..3))
        .map(|_| if every == "hour" { *dice.choice(&minutes).unwrap() } else { *dice.choice(&times).unwrap() })
        .collect();
    let excluded = ["01-01", "12-24..01-02", "2026-03-29", "2026-10-20..2026-10-31", "sun"];
    let not_on: Vec<&str> = (0..dice.usize(..3)).map(|_| *dice.choice(&excluded).unwrap()).collect();
    // Two years around now, and the days on which Apia skipped one.
    let zone = *dice.choice(&ZONES).unwrap();
    let (from, days) = if zone == "Pacific/Apia" { (1_324_000_000, 60) } else { (1_735_700_000, 730) };
    // Hours are gone through minute by minute: two weeks around a change of most clocks.
    let (from, days) =
        if every == "hour" && days > 60 { (1_774_400_000 + 5_000_000 * dice.i64(0..4), 14) } else { (from, days) };
    json!({ "every": every, "at": at, "on": on, "zone": zone, "not_on": not_on, "from": from, "until": from + days * 86_400 })
}

fn moments(rule: &Value) -> Option<Vec<i64>> {
    let spec: ScheduleSpec = serde_json::from_value(json!({
        "name": "s", "every": rule["every"], "at": rule["at"], "zone": rule["zone"], "not_on": rule["not_on"],
        "on": rule["on"].as_array().filter(|on| !on.is_empty()),
    }))
    .unwrap();
    let at = |key: &str| Timestamp::from_second(rule[key].as_i64().unwrap()).unwrap();
    // Some come round on no day at all, and are refused for it.
    let rule = Rule::new(&spec).ok()?;
    Some(rule.between(at("from"), at("until"), usize::MAX).iter().map(|moment| moment.at.as_second()).collect())
}

#[test]
fn five_hundred_rules_give_the_moments_that_a_second_implementation_gives() {
    let mut dice = fastrand::Rng::with_seed(20_261_128);
    let mut rules: Vec<(Value, Vec<i64>)> = Vec::new();
    while rules.len() < 500 {
        let rule = random_rule(&mut dice);
        rules.extend(moments(&rule).map(|moments| (rule, moments)));
    }
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/moments.py");
    let mut python = Command::new("python3").arg(script).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    let mut input = python.stdin.take().unwrap();
    let lines: String = rules.iter().map(|(rule, _)| format!("{rule}\n")).collect();
    let writer = std::thread::spawn(move || input.write_all(lines.as_bytes()).unwrap());
    let output = python.wait_with_output().unwrap();
    writer.join().unwrap();
    assert!(output.status.success());
    let answers: Vec<Vec<i64>> =
        String::from_utf8(output.stdout).unwrap().lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(answers.len(), rules.len());
    let mut all = 0;
    for ((rule, moments), expected) in rules.iter().zip(&answers) {
        let different = moments.iter().zip(expected).find(|(found, expected)| found != expected);
        assert_eq!((different, moments.len()), (None, expected.len()), "{rule}");
        all += moments.len();
    }
    assert!(all > 200_000, "{all}");
}

/// How many moments of a rule systemd is asked for.
const MOMENTS: usize = 40;

/// The next moments of a calendar expression after a point in time, as systemd says them.
fn by_systemd(expression: &str, from: &str) -> Vec<String> {
    let output = Command::new("systemd-analyze")
        .args(["calendar", &format!("--iterations={MOMENTS}"), &format!("--base-time={from}"), expression])
        .env("TZ", "UTC")
        .output()
        .expect("systemd-analyze");
    assert!(output.status.success(), "{expression}: {}", String::from_utf8_lossy(&output.stderr));
    let text = String::from_utf8(output.stdout).unwrap();
    let moments = text.lines().filter_map(|line| {
        let (name, moment) = line.trim().split_once(": ")?;
        (name == "Next elapse" || name.starts_with("Iter.")).then(|| moment.trim().to_owned())
    });
    moments.collect()
}

/// Some of the numbers of a field of cron, written as cron writes them, and as a list.
fn field(dice: &mut fastrand::Rng, first: u32, last: u32) -> (String, Vec<u32>) {
    let (a, b) = (dice.u32(first..=last), dice.u32(first..=last));
    let (low, high, step) = (a.min(b), a.max(b), dice.usize(2..8));
    match dice.u8(..5) {
        0 => (a.to_string(), vec![a]),
        1 => (format!("{low}-{high}"), (low..=high).collect()),
        2 => (format!("{low},{high}"), vec![low, high]),
        3 => (format!("*/{step}"), (first..=last).step_by(step).collect()),
        _ => (format!("{low}-{high}/{step}"), (low..=high).step_by(step).collect()),
    }
}

fn list(numbers: &[u32]) -> String {
    numbers.iter().map(ToString::to_string).collect::<Vec<_>>().join(",")
}

#[test]
fn cron_and_weekdays_give_the_moments_that_systemd_gives() {
    const DAYS: [&str; 7] = ["sun", "mon", "tue", "wed", "thu", "fri", "sat"];
    let mut dice = fastrand::Rng::with_seed(20_261_129);
    let (mut compared, from) = (0, "2026-01-01 00:00:00 UTC");
    for number in 0..120 {
        let (minutes, hours) = (field(&mut dice, 0, 59), field(&mut dice, 0, 23));
        let (days, months, weekdays) = (field(&mut dice, 1, 31), field(&mut dice, 1, 12), field(&mut dice, 0, 6));
        // Where a day of the month and a weekday are both said, cron takes either and systemd both: never both here.
        let (by_day, by_month, by_weekday) = (number % 3 == 0, number % 2 == 0, number % 3 == 1);
        let said = |is_said: bool, text: &str| if is_said { text.to_owned() } else { "*".to_owned() };
        let names: Vec<&str> = weekdays.1.iter().map(|day| DAYS[*day as usize]).collect();
        let expression = format!(
            "{}*-{}-{} {}:{}:00 UTC",
            if by_weekday { format!("{} ", names.join(",")) } else { String::new() },
            said(by_month, &list(&months.1)),
            said(by_day, &list(&days.1)),
            list(&hours.1),
            list(&minutes.1),
        );
        let line = format!(
            "{} {} {} {} {}",
            minutes.0,
            hours.0,
            said(by_day, &days.0),
            said(by_month, &months.0),
            said(by_weekday, &weekdays.0)
        );
        let mut specs = vec![json!({ "name": "s", "cron": line, "zone": "UTC" })];
        // The same by weekdays and times, where the rule is no longer than that.
        if by_weekday && !by_month && hours.1.len() * minutes.1.len() < 50 {
            let times =
                hours.1.iter().flat_map(|hour| minutes.1.iter().map(move |minute| format!("{hour:02}:{minute:02}")));
            specs.push(
                json!({ "name": "s", "every": "week", "on": names, "at": times.collect::<Vec<_>>(), "zone": "UTC" }),
            );
        }
        let expected = by_systemd(&expression, from);
        assert!(!expected.is_empty(), "{expression}");
        for spec in specs {
            let rule = Rule::new(&serde_json::from_value(spec.clone()).unwrap()).unwrap();
            let mut at: Timestamp = "2026-01-01T00:00:00Z".parse().unwrap();
            for moment in &expected {
                at = rule.after(at).unwrap().at;
                assert_eq!(at.strftime("%a %Y-%m-%d %H:%M:%S UTC").to_string(), *moment, "{spec}, {expression}");
                compared += 1;
            }
        }
    }
    assert!(compared > 4000, "{compared}");
}
