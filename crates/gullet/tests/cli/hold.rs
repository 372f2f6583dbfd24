//! The hold: entered in order, left in reverse, proven twice, left whatever happens.

use std::fs;

use crate::harness::{Desk, Place};

/// An application whose hold steps write what they do into `@/journal`. Its limit is far away, for slow machines.
fn journaled(step_two: &str, extra: &str) -> Place {
    journaled_within("2m", step_two, extra)
}

fn journaled_within(longest_hold: &str, step_two: &str, extra: &str) -> Place {
    let place = Place::new();
    let step = |name: &str, more: &str| {
        format!(
            "[[app.app.hold]]\nname = \"{name}\"\n\
             enter = {{ script = \"echo enter {name} >> @/journal; touch @/held-{name}\" }}\n\
             release = {{ script = \"echo leave {name} >> @/journal; rm -f @/held-{name}\" }}\n\
             entered = {{ run = [\"test\", \"-e\", \"@/held-{name}\"], within = \"300ms\" }}\n\
             released = {{ run = [\"test\", \"!\", \"-e\", \"@/held-{name}\"], within = \"300ms\" }}\n{more}\n"
        )
    };
    let two = if step_two.is_empty() { step("two", "") } else { step_two.to_owned() };
    place.define(&format!("[app.app]\nmax_hold = \"{longest_hold}\"\n{}{two}{extra}", step("one", "")));
    place.gullet(&["store", "new", "depot"]).exits(0);
    place
}

const PART: &str =
    "[[app.app.part]]\nname = \"a\"\ncommand = [\"sh\", \"-c\", \"echo capture >> @/journal; echo x\"]\n";

fn journal(place: &Place) -> Vec<String> {
    let text = fs::read_to_string(place.path("journal")).unwrap_or_default();
    text.lines().map(str::to_owned).collect()
}

#[test]
fn steps_are_entered_in_order_and_left_in_reverse() {
    let place = journaled("", PART);
    place.gullet(&["run", "app"]).exits(0);
    assert_eq!(journal(&place), ["enter one", "enter two", "capture", "leave two", "leave one"]);
    let record = place.record();
    assert_eq!(record["hold"]["proven"], true);
    assert_eq!(record["hold"]["released"], true);
}

#[test]
fn when_the_second_cannot_be_entered_both_are_left_and_nothing_is_captured() {
    let two = "[[app.app.hold]]\nname = \"two\"\nenter = { script = \"echo enter two >> @/journal; exit 9\" }\n\
               release = { script = \"echo leave two >> @/journal\" }\nentered = { run = [\"false\"] }\nreleased = { run = [\"true\"] }\n";
    let place = journaled(two, PART);
    place.gullet(&["run", "app"]).exits(1).says("cannot be entered").says("exit code 9");
    assert_eq!(journal(&place), ["enter one", "enter two", "leave two", "leave one"]);
}

#[test]
fn an_exit_code_is_no_proof() {
    let two = "[[app.app.hold]]\nname = \"two\"\nenter = { run = [\"true\"] }\nrelease = { run = [\"true\"] }\n\
               entered = { run = [\"echo\", \"serving\"], prints = \"paused\", within = \"200ms\" }\nreleased = { run = [\"true\"] }\n";
    let place = journaled(two, PART);
    place.gullet(&["run", "app"]).exits(1).says("is not held").says("it printed \"serving\", not \"paused\"");
    assert!(!journal(&place).contains(&"capture".to_owned()));
}

#[test]
fn a_hold_that_is_lost_in_the_middle_voids_everything() {
    let lose = "[[app.app.part]]\nname = \"b\"\ncommand = [\"rm\", \"@/held-one\"]\n";
    let place = journaled("", &format!("{PART}{lose}"));
    place.gullet(&["run", "app"]).exits(1).says("no longer held");
    let record = place.record();
    assert!(record["captures"].as_array().unwrap().iter().all(|capture| capture["listing"].is_null()));
    assert_eq!(record["hold"]["proven"], false);
    assert!(journal(&place).ends_with(&["leave two".to_owned(), "leave one".to_owned()]));
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(2).says("no complete run");
}

#[test]
fn the_limit_ends_the_hold() {
    let slow = "[[app.app.part]]\nname = \"slow\"\ncommand = [\"sleep\", \"60\"]\n";
    let place = journaled_within("2s", "", &format!("{PART}{slow}"));
    place.gullet(&["run", "app"]).exits(1).says("the hold reached its limit of 2s");
    let held = place.record()["hold"]["held_ms"].as_u64().unwrap();
    // The slow command ignores nothing, so it ends with TERM at once.
    assert!((2000..20_000).contains(&held), "held for {held} ms");
    assert!(journal(&place).ends_with(&["leave two".to_owned(), "leave one".to_owned()]));
}

#[test]
fn waiting_for_work_in_hand_does_not_count_as_held() {
    let two = "[[app.app.hold]]\nname = \"two\"\nenter = { script = \"date +%s%N > @/since\" }\nrelease = { run = [\"rm\", \"@/since\"] }\n\
               drained = { script = \"test $(( $(date +%s%N) - $(cat @/since) )) -gt 2500000000\", within = \"10s\" }\n\
               entered = { run = [\"test\", \"-e\", \"@/since\"] }\nreleased = { run = [\"test\", \"!\", \"-e\", \"@/since\"] }\n";
    let place = journaled(two, PART);
    place.gullet(&["run", "app"]).exits(0);
    let record = place.record();
    let away = record["hold"]["away_ms"].as_u64().unwrap();
    assert!(record["hold"]["held_ms"].as_u64().unwrap() < away - 2400, "{}", record["hold"]);
    assert!(away >= 2500, "{}", record["hold"]);
}

#[test]
fn work_that_does_not_end_in_time_leaves_the_hold() {
    let two = "[[app.app.hold]]\nname = \"two\"\nenter = { run = [\"true\"] }\nrelease = { script = \"echo leave two >> @/journal\" }\n\
               drained = { run = [\"echo\", \"7\"], prints = \"0\", within = \"300ms\" }\nentered = { run = [\"false\"] }\nreleased = { run = [\"true\"] }\n";
    let place = journaled(two, PART);
    place.gullet(&["run", "app"]).exits(1).says("did not drain");
    assert_eq!(journal(&place), ["enter one", "leave two", "leave one"]);
}

#[test]
fn found_held_it_can_go_on_and_is_left_as_it_was_found() {
    let place = journaled("", PART);
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    fs::write(place.path("gullet.toml"), text.replace("name = \"one\"", "name = \"one\"\nif_held = \"continue\""))
        .unwrap();
    place.file("held-one", "");
    place.gullet(&["run", "app"]).exits(0);
    assert_eq!(journal(&place), ["enter two", "capture", "leave two"]);
    assert!(place.path("held-one").exists());
}

#[test]
fn an_application_that_answers_neither_is_refused() {
    let two = "[[app.app.hold]]\nname = \"two\"\nenter = { run = [\"true\"] }\nrelease = { run = [\"true\"] }\n\
               entered = { run = [\"echo\", \"down\"], prints = \"paused\" }\nreleased = { run = [\"echo\", \"down\"], prints = \"serving\" }\n";
    let place = journaled(two, PART);
    place.gullet(&["run", "app"]).exits(4).says("neither serving nor held").says("is the application running?");
    assert_eq!(journal(&place), Vec::<String>::new());
}

#[test]
fn all_probes_of_a_list_must_hold() {
    let two = "[[app.app.hold]]\nname = \"two\"\nenter = { run = [\"true\"] }\nrelease = { run = [\"true\"] }\n\
               entered = [{ run = [\"true\"] }, { run = [\"echo\", \"{}\"], json = { \"/state\" = \"held\" }, within = \"100ms\" }]\n\
               released = { run = [\"true\"] }\n";
    journaled(two, PART).gullet(&["run", "app"]).exits(1).says("nothing at `/state`");
}

#[test]
fn hooks_run_at_their_moments() {
    let hook = |moment: &str| format!("{moment} = [{{ script = \"echo $GULLET_MOMENT $GULLET_APP >> @/journal\" }}]\n");
    let moments = ["before", "held", "released", "succeeded", "failed", "finished"];
    let hooks = format!("[app.app.hooks]\n{}", moments.map(hook).concat());
    let place = journaled("", &format!("{PART}{hooks}"));
    place.gullet(&["run", "app"]).exits(0);
    let good = [
        "before app",
        "enter one",
        "enter two",
        "held app",
        "capture",
        "leave two",
        "leave one",
        "released app",
        "succeeded app",
        "finished app",
    ];
    assert_eq!(journal(&place), good);

    fs::remove_file(place.path("journal")).unwrap();
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap().replace("echo x\"]", "exit 3\"]");
    fs::write(place.path("gullet.toml"), text).unwrap();
    place.gullet(&["run", "app"]).exits(1);
    let bad = [
        "before app",
        "enter one",
        "enter two",
        "held app",
        "capture",
        "leave two",
        "leave one",
        "released app",
        "failed app",
        "finished app",
    ];
    assert_eq!(journal(&place), bad);
}

#[test]
fn a_narrowed_run_cleans_nothing_up_and_never_stands_for_the_application() {
    let desk = Desk::open();
    desk.place.gullet(&["run", "quaybook", "--part", "bookings"]).exits(0);
    assert_eq!(desk.place.record()["partial"], true);
    assert!(
        desk.place.json(&["show", desk.place.record()["run"].as_str().unwrap()])["remarks"]
            .as_array()
            .unwrap()
            .is_empty()
    );
    desk.place.gullet(&["show", "quaybook@latest"]).exits(2).says("no complete run");
    desk.place.gullet(&["status"]).exits(2).says("it has no complete run");
}

#[test]
fn a_failing_clean_up_is_a_warning_shown_with_the_run() {
    let desk = Desk::with(|definition| definition.replace("\"purge\"", "\"purge-all\""));
    desk.run().exits(6);
    let runs = desk.place.json(&["runs"]);
    assert_eq!(runs[0]["outcome"], "warnings", "the worse of the record and its remarks");
    assert_eq!(desk.place.record()["outcome"], "complete");
}

#[test]
fn a_desk_that_resumes_by_itself_is_found_out() {
    let desk = Desk::with(|definition| {
        definition.replace(
            "\"settings\"]",
            "\"settings\"]\n[[app.quaybook.part]]\nname = \"slow\"\ncommand = [\"sleep\", \"0.6\"]",
        )
    });
    desk.misbehave("resume-by-itself");
    desk.run().exits(1);
    assert!(desk.place.record()["captures"].as_array().unwrap().iter().all(|capture| capture["listing"].is_null()));
    assert_eq!(desk.state(), "serving");
}

#[test]
fn a_desk_that_lies_is_found_out_where_it_can_be() {
    let desk = Desk::open();
    desk.misbehave("lie");
    desk.run().exits(1).says("was written to while the application said that it was held");
    assert_eq!(desk.state(), "serving");
    desk.misbehave("none");
    desk.run().completes();
}

#[test]
fn what_cannot_be_found_out_is_said() {
    let desk = Desk::open();
    desk.run().completes();
    let record = desk.place.record();
    let quiet = |part: &str| {
        let steps = record["steps"].as_array().unwrap();
        let step = steps.iter().find(|step| step["kind"] == "check_no_writes" && step["about"] == part).unwrap();
        step["note"].as_str().unwrap().to_owned()
    };
    assert_eq!(quiet("bookings"), "nothing was written to it while held");
    assert_eq!(quiet("settings"), "cannot be told from outside");
}

#[test]
fn a_late_pause_is_waited_for() {
    let desk = Desk::with(|definition| definition.replace("within = \"5s\" }\nleave", "within = \"10s\" }\nleave"));
    desk.misbehave("pause-late");
    desk.run().completes();
    let impatient = Desk::with(|definition| {
        definition.replace("prints = \"0\", within = \"30s\"", "prints = \"never\", within = \"1s\"")
    });
    impatient.misbehave("pause-late");
    impatient.run().exits(1).says("did not drain");
    impatient.wait_for("serving");
}
