use super::*;

fn rule(toml: &str) -> Result<Rule, RuleError> {
    Rule::new(&toml::from_str(&format!("name = \"nightly\"\n{toml}")).unwrap())
}

/// The first moments after a time, in the rule's zone, with what clocks made of them.
fn moments(toml: &str, from: &str, most: usize) -> Vec<String> {
    let rule = rule(toml).unwrap();
    let from: Timestamp = from.parse().unwrap();
    let until = from.checked_add(SignedDuration::from_hours(24 * 800)).unwrap();
    let shown = |moment: DueMoment| {
        let note = match moment.note {
            None => "",
            Some(ClockChange::AfterGap(_)) => " after the gap",
            Some(ClockChange::FirstOfTwo) => " first of two",
        };
        format!("{}{note}", moment.at.to_zoned_datetime(rule.zone().clone()).strftime("%Y-%m-%d %H:%M %:z"))
    };
    rule.between(from, until, most).into_iter().map(shown).collect()
}

#[test]
fn days_weeks_months_and_years_come_round() {
    let day = "every = \"day\"\nat = [\"01:30\", \"13:00\"]\nzone = \"UTC\"\n";
    assert_eq!(
        moments(&format!("{day}not_on = [\"01-01\", \"sun\"]"), "2026-12-30T02:00:00Z", 4),
        ["2026-12-30 13:00 +00:00", "2026-12-31 01:30 +00:00", "2026-12-31 13:00 +00:00", "2027-01-02 01:30 +00:00"]
    );
    let on = |every: &str, on: &str| {
        moments(&format!("every = \"{every}\"\non = {on}\nat = \"04:00\"\nzone = \"UTC\""), "2026-01-01T00:00:00Z", 3)
    };
    let days = |moments: Vec<String>| moments.iter().map(|text| text[..10].to_owned()).collect::<Vec<_>>().join(" ");
    assert_eq!(days(on("week", "[\"fri-mon\"]")), "2026-01-02 2026-01-03 2026-01-04");
    assert_eq!(days(on("month", "31")), "2026-01-31 2026-03-31 2026-05-31");
    assert_eq!(days(on("month", "[\"last\"]")), "2026-01-31 2026-02-28 2026-03-31");
    assert_eq!(days(on("month", "[\"first sat\", \"last fri\"]")), "2026-01-03 2026-01-30 2026-02-07");
    assert_eq!(days(on("year", "\"02-29\"")), "2028-02-29", "within the two years that are looked at");
}

#[test]
fn clocks_that_change_skip_nothing_and_double_nothing() {
    let lisbon =
        |at: &str, from: &str| moments(&format!("every = \"day\"\nat = {at}\nzone = \"Europe/Lisbon\""), from, 3);
    assert_eq!(
        lisbon("\"01:30\"", "2026-03-28T12:00:00Z")[..2],
        ["2026-03-29 02:00 +01:00 after the gap", "2026-03-30 01:30 +01:00"]
    );
    assert_eq!(
        lisbon("[\"01:10\", \"01:30\", \"02:00\"]", "2026-03-28T12:00:00Z")[..2],
        ["2026-03-29 02:00 +01:00 after the gap", "2026-03-30 01:10 +01:00"],
        "one moment is one"
    );
    assert_eq!(
        lisbon("\"01:30\"", "2026-10-24T12:00:00Z")[..2],
        ["2026-10-25 01:30 +01:00 first of two", "2026-10-26 01:30 +00:00"]
    );
    let hours = moments("every = \"hour\"\nat = \"30\"\nzone = \"Europe/Lisbon\"", "2026-10-24T23:00:00Z", 4);
    assert_eq!(
        hours,
        ["2026-10-25 00:30 +01:00", "2026-10-25 01:30 +01:00", "2026-10-25 01:30 +00:00", "2026-10-25 02:30 +00:00"]
    );
    let apia = moments("every = \"day\"\nat = \"01:30\"\nzone = \"Pacific/Apia\"", "2011-12-29T13:00:00Z", 2);
    assert_eq!(apia, ["2011-12-31 00:00 +14:00 after the gap", "2011-12-31 01:30 +14:00"], "a day that never was");
    let midnight = moments("every = \"day\"\nat = \"00:00\"\nzone = \"Pacific/Apia\"", "2011-12-29T13:00:00Z", 2);
    assert_eq!(midnight, ["2011-12-31 00:00 +14:00 after the gap", "2012-01-01 00:00 +14:00"], "and the one after it");
}

#[test]
fn cron_notation_means_what_crontab_says() {
    let of = |cron: &str| {
        moments(&format!("cron = \"{cron}\"\nzone = \"UTC\""), "2026-01-01T00:00:00Z", 3)
            .iter()
            .map(|text| text[5..16].to_owned())
            .collect::<Vec<_>>()
    };
    assert_eq!(of("30 1 * * 1-5"), ["01-01 01:30", "01-02 01:30", "01-05 01:30"]);
    assert_eq!(of("*/20 3 * * *"), ["01-01 03:00", "01-01 03:20", "01-01 03:40"]);
    assert_eq!(of("0 4 13 * fri"), ["01-02 04:00", "01-09 04:00", "01-13 04:00"], "either kind of day");
    assert_eq!(of("0 4 */10 * sun"), ["01-11 04:00", "02-01 04:00", "03-01 04:00"], "both, where one begins with `*`");
    assert_eq!(of("5 * * feb 7"), ["02-01 00:05", "02-01 01:05", "02-01 02:05"]);
    for wrong in
        ["30 1 * *", "60 1 * * *", "1-0 1 * * *", "5/2 1 * * *", "* * * foo *", "*/0 * * * *", "+5 1 * * *", "@daily"]
    {
        assert_eq!(rule(&format!("cron = \"{wrong}\"\nzone = \"UTC\"")).unwrap_err().key, "cron", "{wrong}");
    }
}

#[test]
fn what_makes_no_sense_is_refused_under_its_key() {
    let day = "every = \"day\"\nat = \"01:30\"\nzone = \"UTC\"\n";
    for (toml, key) in [
        ("every = \"day\"\nat = \"25:00\"\nzone = \"UTC\"", "at"),
        ("every = \"day\"\nat = \"1\"\nzone = \"UTC\"", "at"),
        ("every = \"hour\"\nat = \"60\"\nzone = \"UTC\"", "at"),
        ("every = \"day\"\nat = \"01:30\"\nzone = \"Europe/Lisboa\"", "zone"),
        ("every = \"day\"\nzone = \"UTC\"", "every"),
        ("every = \"week\"\nat = \"01:30\"\nzone = \"UTC\"", "every"),
        ("zone = \"UTC\"", "every"),
        ("every = \"day\"\ncron = \"0 1 * * *\"\nat = \"01:30\"\nzone = \"UTC\"", "every"),
        ("cron = \"0 1 * * *\"\nat = \"01:30\"\nzone = \"UTC\"", "cron"),
        ("every = \"year\"\non = \"02-31\"\nat = \"01:30\"\nzone = \"UTC\"", "on"),
        ("every = \"month\"\non = 32\nat = \"01:30\"\nzone = \"UTC\"", "on"),
        (&format!("{day}not_on = [\"yesterday\"]"), "not_on"),
        (&format!("{day}not_on = [\"2026-12-26..2026-12-24\"]"), "not_on"),
        (&format!("{day}not_on = [\"mon-sun\"]"), "not_on"),
        (&format!("{day}start_by = \"01:30\""), "start_by"),
        (&format!("{day}finish_by = \"01:30\""), "finish_by"),
        (&format!("{day}start_by = \"03:00\"\nfinish_by = \"02:00\""), "finish_by"),
        ("every = \"hour\"\nat = \"5\"\nzone = \"UTC\"\nfinish_by = \"02:00\"", "finish_by"),
    ] {
        assert_eq!(rule(toml).map(|_| ()).unwrap_err().key, key, "{toml}");
    }
}

#[test]
fn a_window_may_go_over_midnight() {
    let rule =
        rule("every = \"day\"\nat = \"23:30\"\nzone = \"UTC\"\nstart_by = \"00:30\"\nfinish_by = \"05:00\"").unwrap();
    let at: Timestamp = "2026-11-28T23:30:00Z".parse().unwrap();
    assert_eq!(rule.starts_until(at).to_string(), "2026-11-29T00:30:00Z");
    assert_eq!(rule.ends_at(at).unwrap().to_string(), "2026-11-29T05:00:00Z");
}

#[test]
fn a_rule_is_a_sentence() {
    let said = |toml: &str| rule(toml).unwrap().sentence();
    assert_eq!(
        said(
            "every = \"day\"\nat = \"01:30\"\non = [\"mon-fri\"]\nzone = \"Europe/Lisbon\"\nnot_on = [\"01-01\"]\nfinish_by = \"05:00\""
        ),
        "every Monday to Friday at 01:30 (Europe/Lisbon), not on 01-01, done by 05:00"
    );
    assert_eq!(
        said("every = \"month\"\non = [1, \"last\", \"first sat\"]\nat = [\"01:30\", \"13:00\"]\nzone = \"local\""),
        "every month on day 1, the last day and the first Saturday at 01:30 and 13:00, local time"
    );
    assert_eq!(
        said("every = \"hour\"\nat = \"05\"\nzone = \"UTC\"\ncatch_up = true"),
        "every hour at minute 05 (UTC), later where it could not start"
    );
}
