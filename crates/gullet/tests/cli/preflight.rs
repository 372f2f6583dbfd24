//! `gullet preflight`: everything that can be known before a run, without touching the application.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use serde_json::Value;

use crate::harness::{Desk, Disk, Mounted, Partitioned, Place};

/// The checks of the only application, as `what: found` by verdict.
fn found(place: &Place, code: i32) -> Vec<(String, String)> {
    let call = place.gullet(&["preflight", "--json"]).exits(code);
    let checks = call.json()[0]["checks"].clone();
    let text = |value: &Value| value.as_str().unwrap_or("").to_owned();
    let checks = checks.as_array().unwrap().iter();
    checks
        .map(|check| (text(&check["verdict"]), format!("{}: {}", text(&check["what"]), text(&check["found"]))))
        .collect()
}

fn has(checks: &[(String, String)], verdict: &str, text: &str) -> bool {
    checks.iter().any(|(v, found)| v == verdict && found.contains(text))
}

#[test]
fn a_good_desk_passes_and_what_is_worth_a_look_is_told() {
    let desk = Desk::open();
    let before = found(&desk.place, 6);
    for text in [
        "requirement: desk version is known",
        "hooks: ",
        "source: bookings",
        "store: ",
        "space: ",
        "application: desk: serving",
    ] {
        assert!(has(&before, "pass", text), "{text}: {before:?}");
    }
    assert!(has(&before, "warn", "same disk: the store is on the same filesystem as"), "{before:?}");
    assert!(has(&before, "warn", "it has never been run"), "{before:?}");
    assert_eq!(desk.state(), "serving");
    assert_eq!(desk.place.json(&["runs"]), serde_json::json!([]), "nothing is recorded");
    desk.run().completes();
    let after = found(&desk.place, 6);
    assert!(has(&after, "pass", "history: last complete run") && has(&after, "pass", "hold: held "), "{after:?}");
}

#[test]
fn what_would_refuse_a_run_fails_here_with_what_to_do() {
    let part = "[[app.app.part]]\nname = \"p\"\ncommand = [\"echo\", \"x\"]\n";
    let cases = [
        (
            "[[app.app.require]]\nname = \"the moon is full\"\nrun = [\"false\"]\nadvice = \"wait\"\n",
            "requirement: the moon is full",
            "wait",
        ),
        (
            "[app.app.hooks]\nbefore = [{ run = [\"/nonexistent/stop-all\"] }]\n",
            "hook: `/nonexistent/stop-all` is not found",
            "whole path",
        ),
        (
            "[app.app.hooks]\nbefore = [{ run = [\"no-such-program\"] }]\n",
            "hook: `no-such-program` is not found",
            "fixed PATH",
        ),
        ("[app.app.hooks]\nbefore = [{ run = [\"@/not-executable\"] }]\n", "may not be executed", "chmod +x"),
        (
            "[app.app.hooks]\nbefore = [{ script = \"true\", interpreter = [\"no-such-shell\"] }]\n",
            "`no-such-shell` is not found",
            "",
        ),
        ("[app.app.hooks]\nbefore = [{ run = [\"true\"], dir = \"/nonexistent\" }]\n", "the folder `/nonexistent`", ""),
        ("[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/gone\"]\n", "source: docs: ", ""),
        (
            "[[app.app.part]]\nname = \"d-{each.name}\"\neach = { run = [\"false\"] }\ncommand = [\"true\"]\n",
            "plan: the part `d-{each.name}` could not be looked up",
            "",
        ),
    ];
    for (text, wanted, advice) in cases {
        let place = Place::with_parts(&format!("{part}{text}"));
        let file = place.file("not-executable", "#!/bin/sh\n");
        fs::set_permissions(file, fs::Permissions::from_mode(0o644)).unwrap();
        let checks = found(&place, 4);
        assert!(has(&checks, "fail", wanted), "{wanted}: {checks:?}");
        place.gullet(&["preflight"]).exits(4).says("✗ fail").says(advice);
    }
}

#[test]
fn the_state_of_the_application_is_asked_for() {
    let desk = Desk::open();
    desk.ask(&["pause"]).exits(0);
    desk.wait_for("paused");
    assert!(has(&found(&desk.place, 4), "fail", "desk: held already"));
    desk.ask(&["resume"]).exits(0);
    desk.place.gullet(&["hold", "quaybook", "--limit", "1m"]).exits(0);
    assert!(has(&found(&desk.place, 6), "warn", "it is held by hand"));
    desk.place.gullet(&["release", "quaybook"]).exits(0);
    desk.ask(&["stop"]).exits(0);
    assert!(has(&found(&desk.place, 4), "fail", "plan: "), "a desk that is closed cannot say which ledgers it has");
}

#[test]
fn a_store_that_cannot_be_used_and_a_hold_that_proves_nothing() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"p\"\ncommand = [\"echo\", \"x\"]\n");
    assert!(has(&found(&place, 6), "warn", "hold: none: a test"));
    fs::remove_dir_all(place.path("depot")).unwrap();
    let checks = found(&place, 4);
    assert!(has(&checks, "fail", "store: there is no store"), "{checks:?}");
    place.gullet(&["preflight"]).exits(4).says("gullet store new depot");

    let desk = Desk::with(|definition| {
        let lines = definition.lines().filter(|line| !line.starts_with("entered") && !line.starts_with("released"));
        lines.collect::<Vec<_>>().join("\n")
    });
    let checks = found(&desk.place, 6);
    assert!(
        has(&checks, "warn", "nothing proves that it is held")
            && has(&checks, "warn", "nothing proves that it serves again")
    );
}

#[test]
fn too_little_space_is_found_before_the_hold() {
    let place = Place::new();
    let _disk = Mounted::at(&place.path("depot"), "1m");
    place.define("[app.app]\nno_hold = \"a test\"\n[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n");
    place.allocated("docs/large", 64 << 20);
    // Holes take no room, here or in a store.
    fs::File::create(place.path("docs/sparse")).unwrap().set_len(1 << 43).unwrap();
    place.gullet(&["store", "new", "depot"]).exits(0);
    let checks = found(&place, 4);
    assert!(has(&checks, "fail", "space: ") && has(&checks, "fail", "64.0 MiB estimated"), "{checks:?}");
}

#[test]
fn one_or_all_applications() {
    let place = Place::with_parts(
        "[[app.app.part]]\nname = \"a\"\ncommand = [\"echo\", \"x\"]\n[app.other]\nno_hold = \"x\"\n[[app.other.part]]\nname = \"a\"\ncommand = [\"/nonexistent\"]\n",
    );
    place.gullet(&["preflight"]).exits(4);
    place.gullet(&["preflight", "app"]).exits(6);
    place.gullet(&["preflight", "ap"]).exits(2).says("no application `ap`");
}

#[test]
fn a_hold_that_would_last_too_long_is_foreseen_with_what_would_fit() {
    let desk = Desk::with(|definition| {
        definition.replace("max_hold = \"1m\"", "max_hold = \"2s\"\ncapture_method = \"stream\"")
    });
    let large = desk.place.allocated("desk/manifests/large", 600 << 20);
    let call = desk.place.gullet(&["preflight", "--json"]);
    let checks = call.json()[0]["checks"].clone();
    let hold = checks.as_array().unwrap().iter().find(|check| check["what"] == "hold").unwrap();
    assert_eq!(hold["verdict"], "warn", "{hold}");
    let text = |key: &str| hold[key].as_str().unwrap();
    assert!(text("found").contains("most of it for `manifests`"), "{hold}");
    assert!(text("advice").contains("`precopy = true` for `manifests`"), "{hold}");
    fs::remove_file(large).unwrap();
    let found = found(&desk.place, 6);
    assert!(has(&found, "pass", "by the sizes, 2.000 s at most"), "{found:?}");
    assert!(has(&found, "pass", "state folder: "), "{found:?}");
}

#[test]
fn a_snapshot_that_cannot_be_fails_here_already() {
    let desk = Desk::with(|definition| {
        definition.replace("max_hold = \"1m\"", "max_hold = \"1m\"\ncapture_method = \"snapshot\"")
    });
    let found = found(&desk.place, 4);
    assert!(has(&found, "fail", "hold: bookings: there can be no snapshot of"), "{found:?}");
}

#[test]
fn another_filesystem_of_the_same_disk_is_no_other_disk() {
    let place = Place::new();
    let outer = Disk::at(&place.path("disk"), "ext4");
    let _inner = Disk::in_folder(&place.path("disk"), 64, &place.path("docs"), "ext4");
    place.file("docs/a", "a");
    place.file(
        "gullet.toml",
        format!(
            "state = \"{}\"\n[store.depot]\nlocation = \"{}\"\n[app.app]\nno_hold = \"a test\"\n\
         [[app.app.part]]\nname = \"docs\"\nfiles = [\"{}\"]\n",
            place.text("state"),
            place.text("disk/depot"),
            place.text("docs/a")
        ),
    );
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["preflight", "app"]).exits(6).says("the store is on another filesystem of the same disk (");
    drop(outer);
}

#[test]
fn another_partition_of_the_same_disk_is_no_other_disk() {
    let place = Place::new();
    let disk = Partitioned::new();
    let _docs = disk.mount(1, &place.path("docs"));
    let _depot = disk.mount(2, &place.path("second"));
    place.file("docs/a", "a");
    let part = format!("[[app.app.part]]\nname = \"docs\"\nfiles = [\"{}\"]\n", place.text("docs/a"));
    place.define(&format!("[app.app]\nno_hold = \"a test\"\n{part}"));
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    place.file("gullet.toml", text.replace(&place.text("depot"), &place.text("second/depot")));
    place.gullet(&["store", "new", "depot"]).exits(0);
    let checked = place.gullet(&["preflight", "app"]).exits(6);
    let checked = checked.says("the store is on another filesystem of the same disk (");
    // The file behind the disk lies where the state folder does.
    checked.says("; so is the state folder with `{scratch}`");
}
