//! What a boot does with a hold that was forgotten, and how a service manager lets the guard live.

use std::fs;
use std::process::Command;

use crate::harness::{Desk, Place, called};

#[test]
fn the_boot_entry_releases_what_was_forgotten() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"p\"\ncommand = [\"echo\", \"x\"]\n");
    let unit = place.gullet(&["timer", "--boot", "systemd"]).exits(0).out;
    for text in [
        "ExecStart=/",
        " release --forgotten",
        "KillMode=process",
        "OOMPolicy=continue",
        "WantedBy=multi-user.target",
        "gullet.toml",
    ] {
        assert!(unit.contains(text), "{text}: {unit}");
    }
    let line = place.gullet(&["timer", "--boot", "cron"]).exits(0).out;
    assert!(line.lines().last().unwrap().starts_with("@reboot root /"), "{line}");
    // What is written there is what works.
    let command = line.lines().last().unwrap().trim_start_matches("@reboot root ").to_owned();
    let mut shell = Command::new("sh");
    shell.args(["-c", &command]).current_dir("/");
    called(shell).exits(0);
}

#[test]
fn where_a_service_manager_is_the_guard_gets_a_scope_of_its_own_if_that_is_permitted() {
    let desk = Desk::open();
    for (permitted, does) in [(true, "shift 6; exec \"$@\""), (false, "exit 1")] {
        let stand_in = desk
            .place
            .file("bin/systemd-run", format!("#!/bin/sh\necho \"$@\" >> {}\n{does}\n", desk.place.text("log")));
        Command::new("chmod").arg("+x").arg(&stand_in).status().unwrap();
        let script = format!(
            "mount -t tmpfs none /run && mkdir -p /run/systemd/system && PATH={}:$PATH exec {} run quaybook",
            desk.place.text("bin"),
            crate::harness::GULLET
        );
        let mut inside = Command::new("unshare");
        inside.args(["-m", "sh", "-ec", &script]).current_dir(desk.place.path(""));
        called(inside).completes();
        let log = fs::read_to_string(desk.place.path("log")).unwrap();
        assert!(log.starts_with("--scope --quiet --collect --unit=gullet-guard-"), "{permitted}: {log}");
        assert_eq!(desk.state(), "serving");
    }
}

#[test]
fn the_unit_of_a_run_lets_the_guard_live_and_releases_after_it() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"p\"\ncommand = [\"echo\", \"x\"]\n");
    let unit = place.gullet(&["timer", "--service", "app"]).exits(0).out;
    for text in
        ["run app --unattended", "KillMode=process", "OOMPolicy=continue", "ExecStopPost=/", "release --forgotten"]
    {
        assert!(unit.contains(text), "{text}: {unit}");
    }
    place.gullet(&["timer", "--service", "nothing"]).exits(2);
    place.gullet(&["timer"]).exits(2);
    place.gullet(&["timer", "--boot", "cron", "--service", "app"]).exits(2);
}
