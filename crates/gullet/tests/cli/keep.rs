//! Keep rules: what stays and why is shown before anything goes, and goes by itself after a run that went well.

use std::fs;

use serde_json::{Value, json};

use crate::harness::Place;
use crate::sweep::payload;

const PART: &str = "[app.desk]\nno_hold = \"a test\"\n[[app.desk.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n";

fn place(rules: &str) -> Place {
    let place = Place::new();
    place.define(&format!("{PART}{rules}"));
    place.gullet(&["store", "new", "depot"]).exits(0);
    place
}

/// A run when the clock shows this, of contents that are new.
fn run(place: &Place, at: &str) -> String {
    place.file("docs/a", format!("what is new at {at} ").repeat(300));
    place.gullet_at(&format!("@2026-{at}"), &["run", "desk"]).exits(0);
    place.record()["run"].as_str().unwrap().to_owned()
}

/// Which runs have captures yet.
fn left(place: &Place) -> Vec<String> {
    let runs = place.runs().into_iter().filter(|run| run["thinned"] != true);
    runs.map(|run| run["run"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn what_goes_by_the_rules_is_shown_first_and_then_removed() {
    let place = place("");
    let days = ["10-05 01:00:00", "11-20 01:00:00", "11-21 01:00:00", "11-21 13:00:00", "11-22 01:00:00"];
    let runs: Vec<String> = days.iter().map(|at| run(&place, at)).collect();
    place.gullet(&["keep", &runs[1], "--reason", "the books were closed"]).exits(0);
    place.gullet(&["thin"]).exits(0).says("no application with keep rules has a run");
    place.gullet(&["thin", "desk"]).exits(2).says("has no keep rules");
    place.define(&format!("{PART}[app.desk.keep]\nnewest = 1\none_a_day_for = \"99y\"\nzone = \"UTC\"\n"));
    let payload_before = payload(&place).len();
    let shown = place.json(&["thin", "desk"]);
    let kept: Vec<&Value> = shown["runs"].as_array().unwrap().iter().map(|run| &run["kept_by"]).collect();
    assert_eq!(
        kept,
        [&json!("one_a_day"), &json!("mark"), &Value::Null, &json!("one_a_day"), &json!("newest_complete")]
    );
    place.gullet(&["thin", "desk"]).exits(0).says("1 of 5 runs would go").says("nothing was changed");
    assert_eq!((left(&place).len(), payload(&place).len()), (5, payload_before));
    place.gullet(&["thin", "--yes"]).exits(0);
    assert_eq!(left(&place), [&runs[0], &runs[1], &runs[3], &runs[4]].map(Clone::clone));
    assert_eq!(payload(&place).len(), payload_before - 1);
    place.gullet(&["verify"]).exits(0);
    for run in left(&place) {
        place.gullet(&["restore", &run, "--into", &format!("out-{run}")]).exits(0);
    }
}

#[test]
fn rules_are_applied_after_a_complete_run_and_after_no_other() {
    let place = place("[app.desk.keep]\nnewest = 2\n");
    let first = run(&place, "11-20 01:00:00");
    let second = run(&place, "11-21 01:00:00");
    place.file("docs/b", "x");
    fs::rename(place.path("docs"), place.path("away")).unwrap();
    place.gullet_at("@2026-11-22 01:00:00", &["run", "desk"]).exits(1);
    assert_eq!(left(&place)[..2], [first.clone(), second.clone()]);
    fs::rename(place.path("away"), place.path("docs")).unwrap();
    place.file("docs/a", "third");
    let third = place.gullet_at("@2026-11-23 01:00:00", &["run", "desk"]).exits(0);
    let third_run = place.record()["run"].as_str().unwrap().to_owned();
    third.says("keep rules: the captures of 1 run were given up");
    let left = left(&place);
    assert!(left.contains(&second) && left.contains(&third_run) && !left.contains(&first), "{left:?}");
    place.gullet(&["show", &first]).exits(0).says("no keep rule keeps it");
    place.gullet(&["verify"]).exits(0);
}
