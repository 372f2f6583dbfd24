//! The report: the figures of `runs` and `status`, as a page, as CSV and as data.

use std::collections::BTreeMap;
use std::fs;

use serde_json::Value;

use crate::harness::{Called, Place};

/// A desk whose days are good, bad and missing.
fn place() -> Place {
    let place = Place::new();
    place.define(
        "copies = ['far']\n[store.far]\nlocation = '@/far'\n\
         [app.desk]\ntitle = '<script>alert(1)</script> & Co'\nno_hold = 'a test'\n\
         [[app.desk.part]]\nname = 'docs'\nrequired = true\nfiles = ['@/docs']\nexclude = ['*.tmp']\n\
         [[app.desk.part]]\nname = 'settings'\ncommand = ['cat', '@/settings']\nomits = ['passwords']\n\
         [app.ledger]\nno_hold = 'a test'\n[[app.ledger.part]]\nname = 'a'\ncommand = ['true']\n",
    );
    place.file("docs/a", "one");
    place.file("docs/b.tmp", "two");
    place.file("settings", "=1+1");
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["store", "copy", "depot"]).exits(0);
    place.gullet_at("-9d", &["run", "desk"]).exits(0);
    fs::remove_file(place.path("settings")).unwrap();
    place.gullet_at("-8d", &["run", "desk"]).exits(5);
    place.file("settings", "three");
    place.gullet_at("-8d", &["run", "desk", "--reason", "=cmd()"]).exits(0);
    place.gullet_at("-1d", &["run", "desk"]).exits(0);
    place
}

fn csv(call: &Called) -> Vec<BTreeMap<String, String>> {
    csv::Reader::from_reader(call.out.as_bytes()).deserialize().map(Result::unwrap).collect()
}

#[test]
fn its_figures_are_those_of_the_runs() {
    let place = place();
    let report = place.json(&["report"]);
    let desk = report["apps"].as_array().unwrap().iter().find(|app| app["app"] == "desk").unwrap();
    let runs = place.json(&["runs", "desk"]);
    assert_eq!(desk["runs"], runs);
    let days: Vec<&str> = desk["days"].as_array().unwrap().iter().map(|day| day["worst"].as_str().unwrap()).collect();
    assert_eq!(days, ["complete", "incomplete", "complete"]);
    let last = runs.as_array().unwrap().last().unwrap();
    assert!(last["record"].as_str().unwrap().contains(desk["anchor"].as_str().unwrap()));
    assert_eq!(desk["copies"], serde_json::json!([["far", true]]));
    let (_, status) = place.status("desk");
    assert_eq!((&desk["level"], &desk["reasons"]), (&status["level"], &status["reasons"]));
    let lines = csv(&place.gullet(&["report", "desk", "--as", "csv"]).exits(0));
    assert_eq!(lines.len(), 4);
    for (line, run) in lines.iter().zip(runs.as_array().unwrap()) {
        for key in ["run", "outcome", "started", "bytes", "bytes_stored", "record"] {
            let value = match &run[key] {
                Value::String(text) => text.clone(),
                other => other.to_string(),
            };
            assert_eq!(line[key].replace(' ', "_"), value.replace(' ', "_"), "{key}");
        }
    }
    // No spreadsheet takes foreign text for a formula.
    assert_eq!(lines[2]["reason"], "'=cmd()");
    let some = place.json(&["report", "desk", "--from", &days_ago(2), "--until", &days_ago(0)]);
    assert_eq!(some["apps"][0]["runs"].as_array().unwrap().len(), 1);
}

fn days_ago(days: i64) -> String {
    let now = jiff::Timestamp::now().to_zoned_datetime(jiff::tz::TimeZone::system()).date();
    now.checked_sub(jiff::Span::new().days(days)).unwrap().to_string()
}

#[test]
fn the_page_says_what_is_not_well_and_obeys_no_foreign_text() {
    let place = place();
    let out = place.text("report.html");
    place.gullet(&["report", "--out", &out]).exits(0).says("2 applications, 4 runs");
    let page = fs::read_to_string(&out).unwrap();
    assert!(!page.contains("<script"), "a title is text");
    for text in [
        "&lt;script&gt;",
        "of 2 applications protected as they should be",
        place.status("ledger").1["reasons"][0].as_str().unwrap(),
        "docs: &#x2f;",
        "settings: passwords",
        "No such file",
        "far: yes",
        "incomplete",
    ] {
        assert!(page.contains(text), "{text}");
    }
    // It asks nothing of any network, and needs nothing but itself.
    for text in ["http:", "https:", "src=", "url(", "@import", "<link"] {
        assert!(!page.contains(text), "{text}");
    }
    let record = place.record();
    assert!(page.contains(record["run"].as_str().unwrap()));
    place.gullet(&["report", "--until", &days_ago(3), "--from", &days_ago(1)]).exits(2).says("end before it begins");
    place.gullet(&["report", "nobody"]).exits(2).says("nobody");
    place.gullet(&["report", "--from", "tomorrow"]).exits(2);
    place.gullet(&["report", "--out", "/none/report.html"]).exits(1).says("/none");
}

#[test]
fn one_store_answers_for_all_its_machines() {
    let place = place();
    let other = Place::new();
    other.file("gullet.toml", format!(
        "state = '{}'\n[store.depot]\nlocation = '{}'\n[app.desk]\nno_hold = 'x'\n[[app.desk.part]]\nname = 'a'\ncommand = ['echo', 'x']\n",
        other.text("state"), place.text("depot"),
    ));
    other.gullet(&["run", "desk"]).exits(0);
    let bare = Place::new();
    let report = bare.json(&["report", "--store", &place.text("depot")]);
    let apps = report["apps"].as_array().unwrap();
    let counts: Vec<usize> = apps.iter().map(|app| app["runs"].as_array().unwrap().len()).collect();
    assert_eq!(apps.len(), 2, "{report}");
    assert!(counts.contains(&4) && counts.contains(&1), "{counts:?}");
    assert!(report["store"].is_string());
    bare.gullet(&["report", "--store", &place.text("depot")]).exits(0).says("all machines of the store");
}

/// Contrast of two colours by WCAG 2.1: 1 to 21.
fn contrast(one: &str, other: &str) -> f64 {
    let light = |colour: &str| {
        let part = |at: usize| f64::from(u8::from_str_radix(&colour[at..at + 2], 16).unwrap()) / 255.0;
        let linear = |part: f64| if part <= 0.03928 { part / 12.92 } else { ((part + 0.055) / 1.055).powf(2.4) };
        0.2126 * linear(part(1)) + 0.7152 * linear(part(3)) + 0.0722 * linear(part(5))
    };
    let (a, b) = (light(one), light(other));
    (a.max(b) + 0.05) / (a.min(b) + 0.05)
}

#[test]
fn everything_that_is_read_has_contrast_in_light_in_dark_and_on_paper() {
    let template = include_str!("../../templates/report.html");
    let variable = regex::Regex::new(r"--([a-z]+): (#[0-9a-f]{6});").unwrap();
    let sets: Vec<BTreeMap<String, String>> = template
        .lines()
        .filter(|line| line.starts_with(":root {"))
        .map(|line| variable.captures_iter(line).map(|found| (found[1].to_owned(), found[2].to_owned())).collect())
        .collect();
    assert_eq!(sets.len(), 3);
    for set in &sets {
        for text in ["ink", "soft", "good", "warn", "bad"] {
            let ratio = contrast(&set[text], &set["paper"]);
            assert!(ratio >= 4.5, "{text} on paper: {ratio:.1} in {set:?}");
        }
        for tone in ["goodbox", "warnbox", "badbox"] {
            assert!(contrast(&set["ink"], &set[tone]) >= 4.5, "{tone} in {set:?}");
        }
    }
}

#[test]
fn what_does_not_run_for_an_error_is_in_it() {
    let place = place();
    place.gullet(&["report", "desk"]).exits(0);
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    fs::write(place.path("gullet.toml"), format!("{text}[app.broken]\nno_hold = 'x'\ntitel = 'Kiosk'\n")).unwrap();
    let report = place.json(&["report"]);
    assert_eq!(report["level"], "critical");
    let broken = report["apps"].as_array().unwrap().iter().find(|app| app["app"] == "broken").unwrap().to_string();
    assert!(broken.contains("critical") && broken.contains("`titel` is not a key"), "{broken}");
    place.gullet(&["report"]).exits(0).says("of 3 applications protected as they should be");
}
