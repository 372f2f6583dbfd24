//! Every exit code that can occur has a test here; see `src/exit.rs`.

use std::time::{Duration, Instant};

use crate::harness::{Desk, Place, called};
use crate::held::wait_until;

#[test]
fn code_0_complete() {
    Desk::open().run().exits(0).says("complete");
}

#[test]
fn code_1_failed() {
    let desk = Desk::open();
    desk.misbehave("refuse-pause");
    desk.run().exits(1).says("the desk refuses to pause");
    assert_eq!(desk.state(), "serving");
}

#[test]
fn code_1_by_a_defect_of_the_program_which_ends_like_a_kill() {
    let desk = Desk::open();
    let events = desk.place.gullet(&["run", "quaybook", "--json"]).exits(0).out.lines().count();
    for event in [1, events / 3, events / 2, events - 1] {
        let mut command = desk.place.command(&["run", "quaybook"]);
        command.env("GULLET_AT_EVENT", format!("{event}:PANIC"));
        let run = called(command).exits(1);
        assert!(run.err.contains(&format!("error: gullet has a defect: event {event} ")), "{}", run.err);
        assert!(run.err.contains("narrate.rs:"), "{}", run.err);
        desk.wait_for("serving");
        let next = desk.run();
        assert!(next.code == 0 || next.code == 6, "{event}: {} {}", next.out, next.err);
    }
    desk.place.gullet(&["verify"]).exits(0);
}

#[test]
fn a_defect_in_one_run_of_a_group_leaves_none_of_them_held() {
    let place = Place::new();
    let app = |name: &str| {
        format!(
            "[app.{name}]\nmax_hold = \"2m\"\n[[app.{name}.hold]]\nname = \"{name}\"\n\
             enter = {{ script = \"touch @/{name}\" }}\nrelease = {{ script = \"rm @/{name}\" }}\n\
             [[app.{name}.part]]\nname = \"a\"\ncommand = [\"sh\", \"-c\", \"test -e @/desk -a -e @/ledger && echo x\"]\n"
        )
    };
    place.define(&format!("{}{}[group.both]\napps = [\"desk\", \"ledger\"]\n", app("desk"), app("ledger")));
    place.gullet(&["store", "new", "depot"]).exits(0);
    let mut command = place.command(&["run", "--group", "both"]);
    command.env("GULLET_AT_EVENT", "4:PANIC");
    called(command).exits(1).says("gullet has a defect");
    wait_until("both are released", || !place.path("desk").exists() && !place.path("ledger").exists());
    place.gullet(&["run", "--group", "both"]).exits(6);
}

#[test]
fn code_3_of_status_by_a_defect_of_the_program() {
    let place = Place::new();
    let mut command = place.command(&["status"]);
    command.env("GULLET_AT_EVENT", "0:PANIC");
    called(command).exits(3).says("gullet has a defect");
}

#[test]
fn code_2_usage() {
    let desk = Desk::open();
    desk.place.gullet(&["run"]).exits(2).says("APP");
    desk.place.gullet(&["frobnicate"]).exits(2);
    desk.place.gullet(&["run", "quaybok"]).exits(2).says("no application `quaybok`").says("it defines: quaybook");
    desk.place.gullet(&["run", "quaybook", "--part", "bokings"]).exits(2).says("no part `bokings`");
    desk.place.gullet(&["show", "nosuchrun"]).exits(2).says("there is no run `nosuchrun`");
}

#[test]
fn code_3_definition() {
    let place = Place::new();
    place.define("[app.a]\nno_holt = \"x\"\n");
    place.gullet(&["plan", "a"]).exits(3).says("no_holt").says("did you mean `no_hold`?").says("gullet.toml:5:1");
    place.gullet(&["plan", "a", "--definition", "/nonexistent.toml"]).exits(3).says("/nonexistent.toml");
}

#[test]
fn code_4_refused() {
    let desk = Desk::with(|definition| definition.replace("^quaybook 1\\\\.", "^quaybook 2\\\\."));
    desk.run().exits(4).says("desk version is known").says("the export changed in version 2");
    assert_eq!(desk.place.record()["outcome"], "refused");

    let held = Desk::open();
    held.ask(&["pause"]).exits(0);
    held.wait_for("paused");
    held.run().exits(4).says("the application is held already");
    assert_eq!(held.state(), "paused", "it is left as it was found");
}

#[test]
fn code_4_busy() {
    let slow = "\"settings\"]\n[[app.quaybook.part]]\nname = \"slow\"\ncommand = [\"sleep\", \"5\"]";
    let desk = Desk::with(|definition| definition.replace("\"settings\"]", slow));
    let mut first = desk.place.command(&["run", "quaybook"]).spawn().unwrap();
    desk.wait_for("paused");
    desk.run().exits(4).says("a run of `quaybook` is going on");
    first.wait().unwrap();
}

#[test]
fn code_5_incomplete() {
    let desk = Desk::with(|definition| definition.replace("\"settings\"]", "\"no-such-command\"]"));
    desk.run().exits(5).says("incomplete");
    let record = desk.place.record();
    assert_eq!(record["outcome"], "incomplete");
    assert_eq!(desk.place.capture("bookings")["problem"], serde_json::Value::Null);
    assert!(desk.place.capture("settings")["problem"].is_string());
    desk.place.gullet(&["show", "quaybook@latest"]).exits(2).says("`quaybook` has no complete run");
}

#[test]
fn code_6_warnings() {
    let desk = Desk::with(|definition| {
        let lines = definition.lines().filter(|line| !line.starts_with("entered"));
        lines.collect::<Vec<_>>().join("\n")
    });
    desk.run().exits(6).says("no `entered` probe");
    assert_eq!(desk.place.record()["outcome"], "warnings");
}

#[test]
fn code_7_not_released_wins() {
    for how in ["refuse-resume", "ignore-resume"] {
        let desk = Desk::with(|definition| definition.replace("tries = 3", "tries = 2"));
        desk.misbehave(how);
        desk.run().exits(7).says("not released").says("held over ").says("open the Desk panel and press Resume");
        let record = desk.place.record();
        assert_eq!(record["outcome"], "not_released");
        assert_eq!(record["hold"]["released"], false);
        desk.place.gullet(&["status"]).exits(2).says("not released").says("press Resume");
    }
}

#[test]
fn code_8_interrupted_and_released() {
    for signal in ["INT", "TERM", "HUP"] {
        let desk = Desk::open();
        let (path, begun) = (desk.place.path("gullet.toml"), desk.place.path("begun"));
        let text = std::fs::read_to_string(&path).unwrap();
        let slow = format!("touch {}; sleep 30", begun.display());
        let part = format!("[[app.quaybook.part]]\nname = \"slow\"\ncommand = [\"sh\", \"-c\", {slow:?}]");
        std::fs::write(path, format!("{text}\n{part}\n")).unwrap();
        let child = desk.place.command(&["run", "quaybook"]).spawn().unwrap();
        let began = Instant::now();
        while !begun.exists() {
            assert!(began.elapsed() < Duration::from_secs(30), "the slow part does not begin");
            std::thread::sleep(Duration::from_millis(10));
        }
        std::process::Command::new("kill").args([&format!("-{signal}"), &child.id().to_string()]).status().unwrap();
        let code = child.wait_with_output().unwrap().status.code();
        assert_eq!(code, Some(8), "{signal}");
        assert_eq!(desk.state(), "serving", "{signal}");
        let record = desk.place.record();
        assert_eq!(record["outcome"], "interrupted");
        assert!(record["causes"][0]["text"].as_str().unwrap().contains(&format!("SIG{signal}")));
        assert!(record["captures"].as_array().unwrap().iter().all(|capture| capture["listing"].is_null()));
    }
}

#[test]
fn status_answers_0_to_3() {
    let desk = Desk::open();
    desk.place.gullet(&["status"]).exits(2).says("it has never been run");
    desk.run().completes();
    desk.place.gullet(&["status"]).exits(0).says("ok");
    desk.misbehave("resume-by-itself");
    let slow = "\n[[app.quaybook.part]]\nname = \"slow\"\ncommand = [\"sleep\", \"1\"]\n";
    let path = desk.place.path("gullet.toml");
    let text = std::fs::read_to_string(&path).unwrap();
    std::fs::write(&path, format!("{text}{slow}")).unwrap();
    desk.run().exits(1);
    desk.place.gullet(&["status"]).exits(2).says("the last run failed");
    desk.misbehave("none");
    std::fs::write(&path, text.replace("\nentered ", "\n# entered ")).unwrap();
    desk.run().exits(6);
    desk.place.gullet(&["status"]).exits(1).says("warning");
    std::fs::remove_dir_all(desk.place.path("depot")).unwrap();
    desk.place.gullet(&["status"]).exits(3).says("there is no store");
}

#[test]
fn the_worst_of_several_applications_counts() {
    let place = Place::with_parts(
        "[[app.app.part]]\nname = \"a\"\ncommand = [\"echo\", \"x\"]\n[app.other]\nno_hold = \"a test\"\n[[app.other.part]]\nname = \"a\"\ncommand = [\"false\"]\n",
    );
    place.gullet(&["run", "other", "app"]).exits(1);
    let runs = place.json(&["runs"]);
    assert_eq!(runs.as_array().unwrap().len(), 2, "one failing does not stop the other");
}

#[test]
fn the_tour_ends_well() {
    let place = Place::new();
    let mut tour = place.command(&["tour"]);
    tour.env("TMPDIR", place.path(""));
    let tour = called(tour).exits(0);
    for text in ["they disagree", "they agree", "1 run copied now", "$ rm -r depot", "✗ failed", "✓ intact", "✓ ok"]
    {
        assert!(tour.out.contains(text), "{text}\n{}", tour.out);
    }
    let left: Vec<_> = std::fs::read_dir(place.path("")).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert_eq!(left, ["quaybook"], "the tour leaves nothing behind");
}
