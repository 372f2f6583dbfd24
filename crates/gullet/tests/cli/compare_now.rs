//! A run compared with what is there now, where that must be made anew: exports, and copies of databases.

use std::fs;

use serde_json::Value;

use crate::harness::Place;

/// A name server's zone as its program prints it, and a database.
const PARTS: &str = "[[app.app.part]]\nname = \"zone\"\ncommand = [\"sh\", \"-c\", \"cat @/zone && echo x >> @/asked\"]\n\
                     [[app.app.part]]\nname = \"base\"\nsqlite = \"@/base.db\"\n";

fn prepared(place: &Place) {
    place.file("zone", "pier IN A 192.0.2.4\nquay IN A 192.0.2.5\n");
    let base = rusqlite::Connection::open(place.path("base.db")).unwrap();
    base.execute_batch("create table berth (name); insert into berth values ('fourteen')").unwrap();
}

fn part<'v>(compared: &'v Value, name: &str) -> &'v Value {
    compared["parts"].as_array().unwrap().iter().find(|part| part["part"] == name).unwrap()
}

fn lines_asked(place: &Place) -> usize {
    fs::read_to_string(place.path("asked")).unwrap_or_default().lines().count()
}

fn is_left(place: &Place) -> bool {
    fs::read_dir(place.path("state/apart")).is_ok_and(|folder| folder.count() > 0)
}

#[test]
fn one_entry_more_in_a_zone_is_one_line() {
    let place = Place::with_parts(PARTS);
    prepared(&place);
    place.gullet(&["run", "app"]).exits(0);
    let same = place.gullet(&["compare", "app", "--now"]).exits(0);
    assert_eq!(same.out.matches("= the same").count(), 2, "{}", same.out);
    place.file("zone", "pier IN A 192.0.2.4\nlamp IN A 192.0.2.7\nquay IN A 192.0.2.5\n");
    let shown = place.gullet(&["compare", "app", "--now"]).exits(0);
    let changed: Vec<&str> = shown.out.lines().map(str::trim).filter(|line| line.starts_with(['+', '-'])).collect();
    assert_eq!(changed, ["+lamp IN A 192.0.2.7"], "{}", shown.out);
    assert_eq!(part(&place.json(&["compare", "app", "--now"]), "base")["tally"]["changed"], 0);
    let base = rusqlite::Connection::open(place.path("base.db")).unwrap();
    base.execute_batch("insert into berth values ('fifteen')").unwrap();
    assert_eq!(part(&place.json(&["compare", "app", "--now"]), "base")["tally"]["changed"], 1);
    assert!(!is_left(&place), "what was made anew is gone");
    // Only what is asked for is made.
    let asked = lines_asked(&place);
    place.gullet(&["compare", "app", "--now", "--part", "base"]).exits(0);
    assert_eq!(lines_asked(&place), asked);
}

#[test]
fn an_encrypted_run_is_compared_too_and_nothing_of_it_stays_in_clear() {
    let (place, _) = Place::sealed_with_parts(PARTS);
    prepared(&place);
    place.gullet(&["run", "app"]).exits(0);
    let key = place.text("safe.key");
    place.file("zone", "pier IN A 192.0.2.4\n");
    place
        .gullet(&["compare", "app", "--now", "--identity", &key])
        .exits(0)
        .says("-quay IN A 192.0.2.5")
        .says("= the same");
    assert!(!is_left(&place));
}

#[test]
fn what_cannot_be_made_anew_is_said_and_what_was_left_is_cleared() {
    let place = Place::with_parts(PARTS);
    prepared(&place);
    place.gullet(&["run", "app"]).exits(0);
    place.file("state/apart/dead/part-0/output", "left by a command that was killed");
    fs::remove_file(place.path("zone")).unwrap();
    fs::remove_file(place.path("base.db")).unwrap();
    let compared = place.json(&["compare", "app", "--now"]);
    for name in ["zone", "base"] {
        let why = part(&compared, name)["only"].as_str().unwrap().to_owned();
        assert!(why.starts_with("it could not be made anew: "), "{why}");
    }
    assert!(!is_left(&place));
}

#[test]
fn commands_come_from_the_definition_at_hand_and_never_from_a_record() {
    let place = Place::with_parts(PARTS);
    prepared(&place);
    place.gullet(&["run", "app"]).exits(0);
    let (depot, asked) = (place.text("depot"), lines_asked(&place));
    let compared = place.json(&["compare", "app", "--now", "--store", &depot]);
    let why = "it is made by commands of the definition, and none is at hand";
    assert_eq!(part(&compared, "zone")["only"], why);
    assert_eq!(lines_asked(&place), asked, "nothing was executed");
    place.define(
        "[app.app]\nno_hold = \"a test\"\n[[app.app.part]]\nname = \"zone\"\ncommand = [\"cat\", \"@/zone\"]\n\
         [[app.app.part]]\nname = \"more\"\ncommand = [\"echo\", \"more\"]\n",
    );
    let compared = place.json(&["compare", "app", "--now"]);
    assert_eq!(part(&compared, "zone")["tally"]["changed"], 0);
    assert_eq!(part(&compared, "more")["only"], "the run does not have it");
    assert!(part(&compared, "base")["only"].as_str().unwrap().contains("no such part"), "{compared}");
    assert_eq!(lines_asked(&place), asked, "the new command was executed, not that of the record");
}
