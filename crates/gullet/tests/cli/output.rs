//! What is printed, and where: data on standard output, everything about it on standard error.

use std::fs;
use std::process::Command;

use crate::harness::{Desk, Place, called};

#[test]
fn json_is_json_and_nothing_else_is_on_standard_output() {
    let desk = Desk::open();
    let run = desk.place.gullet(&["run", "quaybook", "--json"]).exits(0);
    let events: Vec<serde_json::Value> = run.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(events[0]["event"], "run_started");
    assert_eq!(events.last().unwrap()["event"], "run_ended");
    assert!(events.iter().any(|event| event["event"] == "captured" && event["capture"]["part"] == "till"));
    for arguments in [
        &["plan", "quaybook"][..],
        &["runs"],
        &["show", "quaybook@latest"],
        &["verify"],
        &["status"],
        &["store", "info", "depot"],
        &["restore", "quaybook@latest", "--into", "out"],
    ] {
        desk.place.json(arguments);
    }
    let listing = desk.place.gullet(&["show", "quaybook@latest", "--listing", "--json"]).exits(0);
    for line in listing.out.lines() {
        let entry: serde_json::Value = serde_json::from_str(line).unwrap();
        assert!(entry["part"].is_string() && entry["kind"].is_string());
    }
}

#[test]
fn the_stored_log_has_the_same_events() {
    let desk = Desk::open();
    let run = desk.place.gullet(&["run", "quaybook", "--json"]).exits(0);
    let id = serde_json::from_str::<serde_json::Value>(run.out.lines().next().unwrap()).unwrap()["run"].clone();
    let log =
        fs::read_to_string(desk.place.path("state/logs/quaybook").join(format!("{}.jsonl", id.as_str().unwrap())));
    assert_eq!(log.unwrap(), run.out);
}

#[test]
fn quiet_tells_only_what_went_wrong() {
    let desk = Desk::open();
    let run = desk.place.gullet(&["run", "quaybook", "--quiet"]).exits(0);
    assert_eq!((run.out.as_str(), run.err.as_str()), ("", ""), "{}", run.out);
    desk.misbehave("refuse-pause");
    desk.place.gullet(&["run", "quaybook", "--quiet"]).exits(1).says("refuses to pause");
}

#[test]
fn colour_is_for_terminals_and_never_alone() {
    let desk = Desk::open();
    desk.run().completes();
    let plain = desk.place.gullet(&["runs"]).exits(0);
    assert!(!plain.out.contains('\u{1b}') && plain.out.contains("✓ complete"));
    let coloured = desk.place.gullet(&["runs", "--color", "always"]).exits(0);
    assert!(coloured.out.contains("\u{1b}["));
    // On a terminal, unless NO_COLOR is set.
    for (no_color, escapes) in [(None, true), (Some("1"), false)] {
        let mut command = Command::new("script");
        command.args(["-qec", &format!("{} runs", crate::harness::GULLET), "/dev/null"]);
        command.current_dir(desk.place.path("")).env("TERM", "xterm").env_remove("NO_COLOR");
        command.envs(no_color.map(|value| ("NO_COLOR", value)));
        let out = called(command).out;
        assert_eq!(out.contains("\u{1b}[1m") || out.contains("\u{1b}[32m"), escapes, "{out:?}");
    }
}

#[test]
fn hook_output_cannot_command_a_terminal() {
    let part = "[[app.app.part]]\nname = \"p\"\nexport = { script = \"printf '\\\\033]0;owned\\\\007\\\\033[2J'; echo x > $GULLET_SCRATCH/f\" }\n";
    let place = Place::with_parts(part);
    place.gullet(&["run", "app"]).exits(0);
    let shown = place.gullet(&["show", "app@latest", "--hook-output"]).exits(0);
    assert!(shown.out.contains("\\u{1b}]0;owned") && !shown.out.contains("\u{1b}]"));
}

#[test]
fn a_closed_pipe_does_not_keep_a_hold() {
    let desk = Desk::open();
    let script = format!("{} run quaybook | head -n 1", crate::harness::GULLET);
    let mut command = Command::new("sh");
    command.args(["-c", &script]).current_dir(desk.place.path(""));
    called(command).exits(0);
    desk.wait_for("serving");
    assert_eq!(desk.place.record()["outcome"], "complete");
}

#[test]
fn completions_and_manual_pages_are_generated() {
    let place = Place::new();
    for shell in ["bash", "zsh", "fish"] {
        place.gullet(&["completions", shell]).exits(0).says("gullet");
    }
    fs::create_dir(place.path("man")).unwrap();
    place.gullet(&["manual", "man"]).exits(0);
    let page = fs::read_to_string(place.path("man/gullet-run.1")).unwrap();
    assert!(page.contains(".TH") && page.contains("backup mode"));
    place.gullet(&["manual", "nowhere"]).exits(1).says("nowhere must exist");
}

#[test]
fn every_command_has_help_with_an_example() {
    let place = Place::new();
    let help = place.gullet(&["--help"]).exits(0).out;
    let (_, listed) = help.split_once("\nCommands:\n").unwrap();
    let named =
        |line: &str| line.strip_prefix("  ").filter(|line| line.starts_with(char::is_alphabetic)).map(str::to_owned);
    let lines = listed.lines().take_while(|line| !line.is_empty());
    let commands: Vec<String> =
        lines.filter_map(named).map(|line| line.split(' ').next().unwrap().to_owned()).collect();
    assert!(commands.len() > 20 && commands.iter().any(|command| command == "verify"), "{commands:?}");
    // These only have commands below them, with examples of their own.
    for command in commands.iter().filter(|command| !["store", "key"].contains(&command.as_str())) {
        place.gullet(&[command, "--help"]).exits(0).says("Example: gullet ");
    }
    place.gullet(&["--help"]).exits(0).says("7 the application is not released");
}

#[test]
fn what_cannot_be_printed_is_no_success_but_a_run_stays_what_it_is() {
    let desk = Desk::open();
    let full = |arguments: &[&str]| {
        let mut command = desk.place.command(arguments);
        command.stdout(fs::File::options().write(true).open("/dev/full").unwrap());
        called(command)
    };
    full(&["run", "quaybook", "--json"]).completes().says("standard output cannot be written: No space left");
    for (command, code) in
        [("runs", 1), ("show quaybook@latest --json", 1), ("store info depot", 1), ("plan quaybook", 1), ("status", 3)]
    {
        full(&command.split(' ').collect::<Vec<_>>()).exits(code).says("standard output cannot be written");
    }
}

#[test]
fn figures_for_a_collector_are_read_by_another_program() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"a\"\ncommand = [\"echo\", \"x\"]\n");
    place.gullet(&["run", "app"]).exits(0);
    let out = place.path("gullet.prom");
    let exit = place.gullet(&["status", "--openmetrics", "--out", out.to_str().unwrap()]).code;
    assert_eq!(exit, place.gullet(&["status"]).code, "it says the same as without");
    let mode = std::os::unix::fs::PermissionsExt::mode(&fs::metadata(&out).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o644, "others read it");
    const READ: &str = "
import json, sys
from prometheus_client.openmetrics.parser import text_string_to_metric_families as read
samples = [(s.name, s.labels, s.value) for f in read(open(sys.argv[1]).read()) for s in f.samples]
print(json.dumps(samples))";
    let read = Command::new("python3").args(["-c", READ]).arg(&out).output().unwrap();
    assert!(read.status.success(), "{}", String::from_utf8_lossy(&read.stderr));
    let samples: serde_json::Value = serde_json::from_slice(&read.stdout).unwrap();
    let of = |name: &str| -> Vec<f64> {
        let all = samples.as_array().unwrap().iter();
        let of_app = all.filter(|sample| sample[0] == name && sample[1]["app"] == "app");
        of_app.filter(|sample| sample[2] != 0.0).map(|sample| sample[2].as_f64().unwrap()).collect()
    };
    let began: jiff::Timestamp = place.runs()[0]["started"].as_str().unwrap().parse().unwrap();
    assert_eq!(of("gullet_last_complete_timestamp_seconds"), [began.as_second() as f64]);
    assert_eq!(of("gullet_last_run_outcome"), [1.0]);
    assert_eq!(of("gullet_last_verified_timestamp_seconds"), [0.0; 0], "what never was has no figure");
    assert_eq!(of("gullet_protected").first().map_or(0.0, |level| *level), f64::from(exit));
}

#[test]
fn where_signs_are_of_no_use_there_are_words() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"a\"\ncommand = [\"echo\", \"x\"]\n");
    place.gullet(&["run", "app"]).exits(0);
    let with = |arguments: &[&str], variable: &str, value: &str| {
        let mut command = place.command(arguments);
        for name in ["LC_ALL", "LC_CTYPE", "LANG", "TERM"] {
            command.env_remove(name);
        }
        command.env(variable, value);
        called(command)
    };
    for (variable, value) in [("LC_ALL", "C"), ("LANG", "POSIX"), ("TERM", "dumb")] {
        for arguments in
            [&["run", "app"][..], &["runs"], &["status"], &["plan", "app"], &["agenda"], &["run", "nobody"]]
        {
            let call = with(arguments, variable, value);
            assert!(
                call.out.is_ascii() && call.err.is_ascii(),
                "{variable}={value} {arguments:?}: {}{}",
                call.out,
                call.err
            );
        }
        let runs = with(&["runs"], variable, value).out;
        assert!(runs.contains("ok complete"), "{runs}");
    }
    for (variable, value) in [("LC_ALL", "de_DE.UTF-8"), ("LANG", "C.utf8"), ("TERM", "xterm")] {
        assert!(with(&["runs"], variable, value).out.contains("✓ complete"), "{variable}={value}");
    }
    // Data are data.
    let json = with(&["runs", "--json"], "LC_ALL", "C").out;
    assert_eq!(json, with(&["runs", "--json"], "LC_ALL", "C.UTF-8").out);
}

#[test]
fn a_narrow_terminal_gets_blocks_and_a_wide_one_a_table() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"a\"\ncommand = [\"echo\", \"x\"]\n");
    place.gullet(&["run", "app"]).exits(0);
    let shown = |columns: u16, arguments: &str| {
        let line = format!("stty cols {columns} rows 50; {} {arguments}", env!("CARGO_BIN_EXE_gullet"));
        let mut command = Command::new("script");
        command
            .args(["-qec", &line, "/dev/null"])
            .current_dir(place.path(""))
            .env("NO_COLOR", "1")
            .env("TERM", "xterm");
        called(command).out.replace('\r', "")
    };
    for arguments in ["runs", "status", "show app@latest", "preflight app"] {
        let narrow = shown(40, arguments);
        assert!(
            narrow.lines().any(|line| line.starts_with("run: ")
                || line.starts_with("application: ")
                || line.starts_with("part: ")
                || line.starts_with("result: ")),
            "{narrow}"
        );
        let wide = shown(140, arguments);
        assert!(wide.lines().all(|line| line.chars().count() <= 140 || line.contains("records/")), "{wide}");
    }
    assert!(shown(140, "runs").contains("run         application"));
    // What is said of a row names it where it cannot stand below it.
    assert!(shown(40, "status").contains("  app: no run was proven by a drill yet"));
}

#[test]
fn a_shell_knows_applications_runs_parts_and_keys() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"settings\"\ncommand = [\"echo\", \"x\"]\n");
    // What a shell asks with: the words, which of them, and that it asks.
    let offered = |words: &[&str]| {
        let mut command = place.command(&["--"]);
        command.arg("gullet").args(words);
        command.env("COMPLETE", "bash").env("_CLAP_COMPLETE_INDEX", words.len().to_string());
        command.env("_CLAP_IFS", "\n").env("_CLAP_COMPLETE_COMP_TYPE", "9").env("_CLAP_COMPLETE_SPACE", "true");
        called(command).exits(0).out
    };
    assert!(offered(&["ru"]).contains("runs"));
    assert!(offered(&["run", ""]).lines().any(|line| line == "app"));
    assert!(fs::read_dir(place.path("state")).is_err(), "looking makes nothing");
    place.gullet(&["run", "app"]).exits(0);
    let run = place.runs()[0]["run"].as_str().unwrap().to_owned();
    let shown = offered(&["show", ""]);
    assert!(shown.lines().any(|line| line == run) && shown.lines().any(|line| line == "app@latest"), "{shown}");
    assert!(offered(&["restore", "app@latest", "--part", "se"]).contains("settings"));
    assert!(offered(&["verify", "--store", "de"]).contains("depot"));
    assert!(offered(&["explain", "app.part.sq"]).contains("app.part.sqlite"));
    let host = rustix::system::uname().nodename().to_string_lossy().into_owned();
    assert!(offered(&["runs", "--machine", ""]).contains(&host));
    // A definition with an error, or none, offers nothing and says nothing.
    place.file("gullet.toml", "wrong");
    assert_eq!(offered(&["run", "ap"]).trim(), "");
    for shell in ["bash", "zsh", "fish", "elvish", "powershell"] {
        place.gullet(&["completions", shell]).exits(0).says("COMPLETE");
    }
}
