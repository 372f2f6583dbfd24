//! What is wrong with one application, or with one file, stops no other, keeps nobody held, and is told.

use std::fs;

use serde_json::Value;

use crate::harness::{Desk, Place, wait_until_dead};

const TOLD: &str = "[notify.one]\nrun = [\"sh\", \"-c\", \"cat >>@/told; echo >>@/told\"]\n";

fn app(name: &str, more: &str) -> String {
    format!(
        "[app.{name}]\nno_hold = \"a test\"\nnotify = [{{ to = \"one\" }}]\n{more}\
         [[app.{name}.part]]\nname = \"a\"\ncommand = [\"echo\", \"x\"]\n\
         [[app.{name}.schedule]]\nname = \"nightly\"\nevery = \"day\"\nat = \"01:30\"\nzone = \"UTC\"\n"
    )
}

fn told(place: &Place) -> Vec<Value> {
    let text = fs::read_to_string(place.path("told")).unwrap_or_default();
    text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

fn due(place: &Place, at: &str) -> crate::harness::Called {
    place.gullet_at(&format!("@2027-03-{at}"), &["due"])
}

#[test]
fn one_application_with_an_error_does_not_stop_the_others() {
    let place = Place::new();
    let both = |more: &str| format!("{TOLD}{}{}", app("desk", ""), app("ledger", more));
    place.define(&both(""));
    place.gullet(&["store", "new", "depot"]).exits(0);
    due(&place, "01 01:00:00").exits(0);
    let group = "[group.all]\napps = [\"desk\", \"ledger\"]\n";
    for (number, wrong) in
        ["max_hodl = \"2m\"\n", "max_hold = 7\n", "hooks = { before = [{ run = [\"x\"], needs = [\"y\"] }] }\n"]
            .into_iter()
            .enumerate()
    {
        let number = number + 1;
        place.define(&(both(wrong) + group));
        due(&place, &format!("0{number} 01:30:10")).exits(3).says("`ledger` is left out");
        due(&place, &format!("0{number} 01:31:10")).exits(3);
        assert_eq!(place.runs().len(), number, "{wrong}: the desk runs");
        assert_eq!(told(&place).len(), number, "{wrong}: it is told, and once");
        let message = told(&place)[number - 1].clone();
        assert_eq!(message["content"]["app"], "ledger", "{message}");
        assert!(message["text"].as_str().unwrap().contains("gullet.toml:"), "{message}");
    }
    let at = |arguments: &[&str]| place.gullet_at("@2027-03-03 02:00:00", arguments);
    at(&["run", "desk"]).says("`ledger` is left out").says("complete");
    at(&["run", "ledger"]).exits(3).says("gullet.toml:");
    at(&["run", "--all"]).says("`ledger` is left out");
    place.gullet(&["preflight"]).exits(3);
    let status = at(&["status", "--json"]).exits(2).json();
    let ledger = &status["applications"][1];
    assert_eq!((&ledger["app"], &ledger["level"]), (&"ledger".into(), &"critical".into()));
    assert!(ledger["reasons"][0].as_str().unwrap().contains("its definition has an error"), "{ledger}");
    // Mended: what was due meanwhile is told as missed, and the same error would be told again.
    place.define(&both(""));
    due(&place, "04 01:00:00").exits(4);
    let missed: Vec<Value> = place.runs().into_iter().filter(|run| run["outcome"] == "missed").collect();
    assert!(missed.iter().all(|run| run["app"] == "ledger") && missed.len() == 3, "{missed:?}");
    let before = told(&place).len();
    place.define(&both("max_hodl = \"2m\"\n"));
    due(&place, "04 01:01:00").exits(3);
    assert_eq!(told(&place).len(), before + 1);
}

#[test]
fn an_included_file_that_cannot_be_read_does_not_stop_the_rest() {
    let place = Place::new();
    place.define(&format!("{TOLD}{}", app("desk", "")));
    place.file("more/ledger.toml", app("ledger", ""));
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    place.file("gullet.toml", format!("include = [\"more/*.toml\"]\n{text}"));
    place.gullet(&["store", "new", "depot"]).exits(0);
    due(&place, "01 01:00:00").exits(0);
    place.file("more/ledger.toml", "[app.ledger\n");
    due(&place, "01 01:30:10").exits(3).says("a file is left out").says("ledger.toml:1");
    assert_eq!(place.runs().len(), 1);
    assert!(
        told(&place)[0]["subject"].as_str().unwrap().contains("what a file defines does not run"),
        "{:?}",
        told(&place)
    );
    let at = |arguments: &[&str]| place.gullet_at("@2027-03-01 02:00:00", arguments);
    at(&["status"]).exits(2).says("✗ left out: ").says("ledger.toml:1");
    at(&["run", "desk"]).exits(0);
    place.gullet(&["run", "ledger"]).exits(3).says("ledger.toml:1");
}

#[test]
fn a_definition_that_cannot_be_read_at_all_is_told_to_those_who_were_known() {
    let place = Place::new();
    place.define(&format!("{TOLD}{}", app("desk", "")));
    place.gullet(&["store", "new", "depot"]).exits(0);
    due(&place, "01 01:00:00").exits(0);
    let sound = fs::read_to_string(place.path("gullet.toml")).unwrap();
    place.file("gullet.toml", format!("{sound}\n[app.desk.drill\n"));
    due(&place, "01 01:30:10").exits(3);
    due(&place, "01 01:31:10").exits(3);
    let messages = told(&place);
    assert_eq!(messages.len(), 1, "{messages:?}");
    assert!(messages[0]["subject"].as_str().unwrap().starts_with("nothing runs on "), "{}", messages[0]);
    place.gullet(&["status"]).exits(3);
    place.file("gullet.toml", sound);
    due(&place, "01 01:32:10").exits(0);
    assert_eq!(place.runs().len(), 1, "it is in time for what was due meanwhile");
}

#[test]
fn an_error_in_the_definition_keeps_nobody_held() {
    let desk = Desk::open();
    desk.place.gullet(&["hold", "quaybook", "--limit", "5m"]).exits(0);
    assert_eq!(desk.state(), "paused");
    let sound = fs::read_to_string(desk.place.path("gullet.toml")).unwrap();
    desk.place.file("gullet.toml", format!("{sound}\n[app.quaybook.drill\n"));
    desk.place.gullet(&["release", "quaybook"]).exits(0).says("✓ released: quaybook");
    assert_eq!(desk.state(), "serving");
    // One whose holder is dead, at the next boot.
    desk.place.file("gullet.toml", &sound);
    desk.place.gullet(&["hold", "quaybook", "--limit", "5m"]).exits(0);
    let note = fs::read(desk.place.path("state/holds/quaybook.note")).unwrap();
    let note: Value = serde_json::from_slice(&note[..4096]).unwrap();
    let guard = note["pid"].as_i64().unwrap();
    assert!(std::process::Command::new("kill").args(["-9", &guard.to_string()]).status().unwrap().success());
    wait_until_dead(u32::try_from(guard).unwrap());
    desk.place.file("gullet.toml", sound.replace("[[app.quaybook.part]]", "[[app.quaybook.prat]]"));
    assert_eq!(desk.state(), "paused");
    desk.place.gullet(&["release", "--forgotten"]).exits(0).says("it is released now");
    assert_eq!(desk.state(), "serving");
}
