//! Schedules: what is due is run once, what could not be is told, and the entries of the system's scheduler.

use std::fs;
use std::process::Command;
use std::time::{Duration, Instant};

use serde_json::Value;

use crate::harness::Place;

const PART: &str = "[app.desk]\nno_hold = \"a test\"\n[[app.desk.part]]\nname = \"a\"\ncommand = [\"echo\", \"x\"]\n";
const NIGHTLY: &str = "[[app.desk.schedule]]\nname = \"nightly\"\nevery = \"day\"\nat = \"01:30\"\nzone = \"UTC\"\nstart_by = \"03:00\"\n";

fn place(more: &str) -> Place {
    let place = Place::new();
    place.define(&format!("{PART}{more}"));
    place.gullet(&["store", "new", "depot"]).exits(0);
    place
}

/// A call of `due` when the clock shows this; it goes on from there.
fn due(place: &Place, at: &str) -> crate::harness::Called {
    place.gullet_at(&format!("@2026-12-{at}"), &["due"])
}

/// The runs with their outcomes and triggers, oldest first.
fn triggers(place: &Place) -> Vec<(String, String)> {
    let text = |run: &Value, key: &str| run[key].as_str().unwrap().to_owned();
    place.runs().iter().map(|run| (text(run, "outcome"), text(run, "trigger"))).collect()
}

fn nightly(outcome: &str, day: u8) -> (String, String) {
    (outcome.to_owned(), format!("schedule nightly, due 2026-12-{day:02}T01:30:00Z"))
}

#[test]
fn what_is_due_is_run_once_and_what_could_not_be_is_told() {
    let place = place(NIGHTLY);
    due(&place, "01 12:00:00").exits(0);
    assert!(place.runs().is_empty(), "what was due before it was known is not");
    due(&place, "02 01:29:00").exits(0);
    due(&place, "02 01:30:10").exits(0);
    due(&place, "02 01:31:00").exits(0);
    assert_eq!(triggers(&place), [nightly("complete", 2)]);
    // The clock is set back, and comes by again.
    due(&place, "02 01:00:00").exits(0);
    due(&place, "02 01:32:00").exits(0);
    // Off for two nights, and back when the second could still start.
    let called = due(&place, "04 02:59:00").exits(4);
    assert!(called.err.contains("was missed: `gullet due` was not called in time"), "{}", called.err);
    due(&place, "05 03:01:00").exits(4);
    assert_eq!(
        triggers(&place),
        [nightly("complete", 2), nightly("missed", 3), nightly("complete", 4), nightly("missed", 5)]
    );
    // The missed ones wait in the state folder, and are told by what comes next.
    place.gullet(&["status"]).exits(2).says("the last run was missed");
    place.gullet(&["runs", "--outcome", "missed"]).exits(0).says("the machine was off or asleep");
}

/// Two applications that are due at the same moment; each notes when its part is read, and waits for the other where `waits`.
fn two(limits: &str, waits: bool) -> Place {
    let place = Place::new();
    let app = |name: &str, other: &str| {
        let wait = format!("i=0; until test -e @/{other}-began || test $i = 100; do sleep 0.05; i=$((i+1)); done;");
        let wait = if waits { wait } else { String::new() };
        format!(
            "[app.{name}]\nno_hold = \"a test\"\n[[app.{name}.part]]\nname = \"a\"\ncommand = [\"sh\", \"-c\", \"echo {name} begins >> @/story; \
             touch @/{name}-began; {wait} echo {name} ends >> @/story; echo x\"]\n\
             [[app.{name}.schedule]]\nname = \"nightly\"\nevery = \"day\"\nat = \"01:30\"\nzone = \"UTC\"\n"
        )
    };
    place.define(&format!("{limits}{}{}", app("desk", "ledger"), app("ledger", "desk")));
    place.gullet(&["store", "new", "depot"]).exits(0);
    due(&place, "01 12:00:00").exits(0);
    due(&place, "02 01:30:10").exits(0);
    assert_eq!(triggers(&place), [nightly("complete", 2), nightly("complete", 2)]);
    place
}

#[test]
fn applications_run_together_where_that_is_allowed_and_else_one_after_the_other() {
    let story = |place: &Place| fs::read_to_string(place.path("story")).unwrap();
    let after = two("", false);
    assert_eq!(story(&after), "desk begins\ndesk ends\nledger begins\nledger ends\n");
    // Each goes on when the other has begun: one alone would wait for five seconds.
    let together = two("[limits]\nat_once = 2\n", true);
    let lines: Vec<String> = story(&together).lines().map(str::to_owned).collect();
    assert!(lines[..2].iter().all(|line| line.ends_with("begins")), "{lines:?}");
}

#[test]
fn what_was_about_to_be_started_is_never_started_twice() {
    let place = place(NIGHTLY);
    due(&place, "01 12:00:00").exits(0);
    let ledger = place.path("state/due.json");
    let mut noted: Value = serde_json::from_slice(&fs::read(&ledger).unwrap()).unwrap();
    let entry =
        |at: &str, stage: Value| serde_json::json!({ "app": "desk", "schedule": "nightly", "at": at, "stage": stage });
    let process = serde_json::json!({ "running": { "pid": 4_000_000, "started": 1 } });
    noted["open"] =
        serde_json::json!([entry("2026-12-01T01:30:00Z", "starting".into()), entry("2026-11-30T01:30:00Z", process)]);
    fs::write(&ledger, noted.to_string()).unwrap();
    due(&place, "01 12:01:00").exits(4).says("it was started, and died before it left a record");
    let told: Vec<String> = triggers(&place).into_iter().map(|(outcome, _)| outcome).collect();
    assert_eq!(told, ["missed", "missed"]);
    let noted: Value = serde_json::from_slice(&fs::read(&ledger).unwrap()).unwrap();
    assert_eq!(noted["open"], serde_json::json!([]));
    fs::write(&ledger, "{").unwrap();
    due(&place, "01 12:02:00").exits(1).says("so it is not known what is done");
    place.gullet(&["status"]).exits(3);
}

#[test]
fn a_run_that_is_not_done_in_time_is_ended_and_released() {
    let place = Place::new();
    let slow = "[app.desk]\n[[app.desk.hold]]\nname = \"one\"\nenter = { run = [\"touch\", \"@/held\"] }\n\
                entered = { run = [\"test\", \"-e\", \"@/held\"] }\nrelease = { run = [\"rm\", \"@/held\"] }\n\
                released = { run = [\"test\", \"!\", \"-e\", \"@/held\"] }\n\
                [[app.desk.part]]\nname = \"a\"\ncommand = [\"sleep\", \"60\"]\n";
    place.define(slow);
    place.gullet(&["store", "new", "depot"]).exits(0);
    let soon = jiff::Timestamp::now() + jiff::SignedDuration::from_secs(2);
    let began = Instant::now();
    place.gullet(&["run", "desk", "--finish-by", &soon.to_string()]).exits(8).says("`finish_by`");
    assert!(began.elapsed() < Duration::from_secs(30) && !place.path("held").exists());
}

#[test]
fn the_agenda_says_rules_and_moments_and_what_clocks_make_of_them() {
    let more = "zone = \"Europe/Lisbon\"\nnot_on = [\"sun\"]\n";
    let place = place(&format!(
        "[[app.desk.schedule]]\nname = \"nightly\"\nevery = \"day\"\nat = \"01:30\"\n{more}\
         [[app.desk.schedule]]\nname = \"sundays\"\ncron = \"15 1 * * sun\"\nzone = \"Europe/Lisbon\"\n"
    ));
    let range = ["agenda", "--from", "2027-03-27T12:00:00Z", "--until", "2027-03-30T00:00:00Z"];
    let agenda = place.json(&range);
    let at: Vec<&str> = agenda.as_array().unwrap().iter().map(|row| row["at"].as_str().unwrap()).collect();
    assert_eq!(at, ["2027-03-28T02:00:00+01:00", "2027-03-29T01:30:00+01:00"]);
    assert!(agenda[0]["note"].as_str().unwrap().contains("there is no 01:15 that day"), "{agenda}");
    assert_eq!(
        (&agenda[1]["app"], &agenda[1]["schedule"], &agenda[1]["what"]),
        (&"desk".into(), &"nightly".into(), &"run".into())
    );
    place
        .gullet(&range)
        .exits(0)
        .says("every day at 01:30 (Europe/Lisbon), not on Sunday")
        .says("by cron `15 1 * * sun`");
    place.gullet(&["status"]).exits(2).says("`gullet due` was never called");
}

#[test]
fn a_schedule_that_makes_no_sense_is_refused_with_its_place() {
    for (text, place, message) in [
        (NIGHTLY.replace("UTC", "Europe/Lisboa"), ":13:8", "there is no time zone `Europe/Lisboa`"),
        (NIGHTLY.replace("01:30", "25:00"), ":12:6", "`25:00` is not a time of day"),
        (format!("{NIGHTLY}finish_by = \"02:00\"\n"), ":15:13", "it could end before it begins"),
        (format!("{NIGHTLY}parts = [\"b\"]\n"), ":15:9", "there is no part `b`"),
        (format!("{NIGHTLY}{NIGHTLY}"), ":16:8", "there is a schedule `nightly` already"),
    ] {
        let at = Place::new();
        at.define(&format!("{PART}{text}"));
        at.gullet(&["agenda"]).exits(3).says(place).says(message);
    }
}

#[test]
fn entries_of_the_systems_scheduler_are_installed_checked_and_removed() {
    let place = place(NIGHTLY);
    fs::create_dir(place.path("units")).unwrap();
    let timer =
        |more: &[&str]| place.gullet(&[&["timer", "--every-minute", "systemd", "--folder", "units"], more].concat());
    timer(&["--check"]).exits(1);
    timer(&["--install"]).exits(0).says("systemctl enable gullet-boot.service gullet-due.timer");
    // Written and never enabled, nothing would start them.
    timer(&["--check"]).exits(1).says("it is not enabled, so nothing starts it");
    for (target, unit) in [("timers.target", "gullet-due.timer"), ("multi-user.target", "gullet-boot.service")] {
        fs::create_dir(place.path(&format!("units/{target}.wants"))).unwrap();
        let link = place.path(&format!("units/{target}.wants/{unit}"));
        std::os::unix::fs::symlink(place.path(&format!("units/{unit}")), link).unwrap();
    }
    timer(&["--check"]).exits(0);
    for target in ["timers.target", "multi-user.target"] {
        fs::remove_dir_all(place.path(&format!("units/{target}.wants"))).unwrap();
    }
    let units = ["gullet-boot.service", "gullet-due.service", "gullet-due.timer"]
        .map(|name| place.path(&format!("units/{name}")));
    let checked = Command::new("systemd-analyze").args(["verify", "--man=no"]).args(&units).output().unwrap();
    assert!(checked.status.success(), "{}", String::from_utf8_lossy(&checked.stderr));
    let text = fs::read_to_string(&units[2]).unwrap();
    fs::write(&units[2], text.replace("*:*:00", "*:00:00")).unwrap();
    timer(&["--check"]).exits(1).says("it is not what this program and this definition ask for");
    fs::write(&units[1], "[Unit]\n").unwrap();
    timer(&["--remove"]).exits(4).says("was not written by `gullet timer`, and stays");
    fs::remove_file(&units[1]).unwrap();
    timer(&["--remove"]).exits(0);
    assert_eq!(fs::read_dir(place.path("units")).unwrap().count(), 0);
    place.gullet(&["timer", "--every-minute", "cron"]).exits(0).says("* * * * * root ").says("@reboot root ");
}

#[test]
fn nobody_runs_by_mistake_at_a_time_that_the_schedules_do_not_leave() {
    let place = place(&format!("{NIGHTLY}finish_by = \"05:00\"\n"));
    let at =
        |time: &str, more: &[&str]| place.gullet_at(&format!("@2026-12-{time}"), &[&["run", "desk"], more].concat());
    at("01 05:00:01", &[]).exits(4).says("now is none of these times").says("--outside-window");
    assert!(place.runs().is_empty(), "nothing was begun");
    at("01 05:00:02", &["--outside-window"]).exits(0);
    at("02 01:29:59", &[]).exits(4);
    at("02 01:30:00", &[]).exits(0);
    at("02 04:59:00", &["--unattended"]).exits(0);
    // Whoever starts it by a trigger knows when.
    at("02 12:00:00", &["--trigger", "the upgrade"]).exits(0);
    assert_eq!(place.runs().len(), 4);
    place.gullet_at("@2026-12-02 12:01:00", &["status", "--json"]);
}

#[test]
fn logs_stay_for_as_long_as_is_said_and_records_for_ever() {
    let place = place("[app.desk.keep]\nlogs_for = \"2w\"\n");
    let run = || place.gullet(&["run", "desk"]).exits(0);
    run();
    let log = place.files_below("state/logs/desk").pop().unwrap();
    run();
    assert!(log.exists());
    let old = std::time::SystemTime::now() - Duration::from_secs(15 * 24 * 3600);
    fs::File::options().append(true).open(&log).unwrap().set_modified(old).unwrap();
    run();
    assert!(!log.exists());
    assert_eq!(place.files_below("state/logs/desk").len(), 2);
    assert_eq!(place.runs().len(), 3);
    place.gullet(&["verify"]).exits(0).says("3 runs");
    assert!(place.gullet(&["thin", "desk"]).exits(2).err.contains("so every run of it stays"));
}
