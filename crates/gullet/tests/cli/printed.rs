//! Everything that is printed, word for word but for what differs from run to run. `INSTA_UPDATE=always` takes what is printed now.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use insta::{Settings, assert_snapshot};
use regex::{Captures, Regex};

use crate::harness::{GULLET, Place};

const DEFINITION: &str = r#"[app.desk]
title = "Skerry Line booking desk"
max_hold = "1m"
[[app.desk.hold]]
name = "counter"
enter = { run = ["@/ctl", "pause"] }
entered = { run = ["@/ctl", "state"], prints = "paused" }
release = { run = ["@/ctl", "resume"] }
released = { run = ["@/ctl", "state"], prints = "serving", within = "2s" }
manual_release = "open the Desk panel and press Resume"
[[app.desk.part]]
name = "bookings"
required = true
sqlite = "@/bookings.db"
[[app.desk.part]]
name = "manifests"
files = ["@/manifests"]
exclude = ["*.tmp"]
[[app.desk.part]]
name = "settings"
command = ["@/ctl", "settings"]
omits = ["operator passwords"]
[app.desk.drill]
checks = [{ name = "the manifests are there", run = ["grep", "-q", "Ada", "{files}@/manifests/1"] }]
[app.desk.restore]
stop = { run = ["@/ctl", "pause"] }
stopped = { run = ["@/ctl", "state"], prints = "paused" }
at_boot = "start"
start = { run = ["@/ctl", "resume"] }
started = { run = ["@/ctl", "state"], prints = "serving" }
"#;

const CTL: &str = r#"#!/bin/sh
cd "$(dirname "$0")"
case $1 in
pause) echo paused >state-of-desk ;;
resume) if [ -e liar ]; then echo "ERROR counter: no such session" >&2; exit 9; fi; echo serving >state-of-desk ;;
state) cat state-of-desk ;;
settings) echo "port = 8080" ;;
esac
"#;

/// A desk that does nothing by itself, so that the same is printed every time.
fn desk() -> Place {
    let place = Place::new();
    fs::set_permissions(place.file("ctl", CTL), fs::Permissions::from_mode(0o755)).unwrap();
    place.file("state-of-desk", "serving\n");
    for number in 1..4 {
        place.file(&format!("manifests/{number}"), format!("Ada {number}\n"));
    }
    place.file("manifests/half.tmp", "x");
    let bookings = rusqlite::Connection::open(place.path("bookings.db")).unwrap();
    bookings
        .execute_batch("create table sale (id integer primary key, who text); insert into sale values (1, 'Ada')")
        .unwrap();
    place.define(DEFINITION);
    place.gullet(&["store", "new", "depot"]).exits(0);
    place
}

/// What differs from run to run, and how it is written instead. Columns grow with what is in them.
const DIFFERS: [(&str, &str); 11] = [
    (r"\b\d{4}-\d\d-\d\d[ T]\d\d:\d\d(:\d\d(\.\d+)?)?(Z| [+-]\d\d:\d\d)?|\b\d{8}T\d{6}\.\d{3}Z", "TIME"),
    (r"\b[0-9a-f]{64}\b", "HASH"),
    (r"\b\d+ (s|min|h) ago", "AGO"),
    (r"\+?\b\d+\.\d{3} s\b|\b\d+ min \d\d s\b", "TOOK"),
    (r"\b\d+(\.\d)? (KiB|MiB|GiB|TiB|B)\b", "SIZE"),
    (r"\bLinux [^ ,]+ [a-z0-9_]+", "SYSTEM"),
    (r"process \d+", "process NUMBER"),
    // A file that was written just before the last run is read again, others are not; on a slow machine fewer are so young.
    (r"\b\d+ of \d+ chunks", "NUMBER of NUMBER chunks"),
    (r" {2,}", "  "),
    // The same of what is copied.
    (r"TOOK {1,2}by a copy", "TOOK"),
    (r" +\n", "\n"),
];

/// What a command prints, but for what differs.
fn said(place: &Place, arguments: &[&str]) -> String {
    let called = place.gullet(arguments);
    let text = format!("{}--- errors\n{}--- exit code {}\n", called.out, called.err, called.code);
    let host = rustix::system::uname().nodename().to_string_lossy().into_owned();
    let folder = place.text("").trim_matches('/').to_owned();
    let text = text.replace(&folder, "PLACE").replace(GULLET, "/PROGRAM");
    let text = Regex::new(&format!(r"\b{host}\b")).unwrap().replace_all(&text, "HOST").into_owned();
    // Runs, machines, stores: letters and digits in lengths that are theirs; words of people are in no path of the store.
    let id = Regex::new(r"\b[0-9a-hjkmnp-tv-z]{8,12}\b").unwrap();
    let paths: Vec<_> = ["depot", "state"].iter().flat_map(|folder| place.files_below(folder)).collect();
    let paths: Vec<_> = paths.iter().map(|path| path.display().to_string()).collect();
    let is_id = |text: &str| {
        let is_known = paths.iter().any(|path| path.contains(text));
        [8, 10, 12].contains(&text.len()) && (is_known || text.contains(|c: char| c.is_ascii_digit()))
    };
    let named = |found: &Captures<'_>| if is_id(&found[0]) { "ID".to_owned() } else { found[0].to_owned() };
    let text = id.replace_all(&text, named).into_owned();
    DIFFERS
        .iter()
        .fold(text, |text, (pattern, instead)| Regex::new(pattern).unwrap().replace_all(&text, *instead).into_owned())
}

/// Where what is printed is kept.
fn settings() -> Settings {
    let mut settings = Settings::clone_current();
    settings.set_snapshot_path("../snapshots");
    settings.set_prepend_module_to_snapshot(false);
    settings.set_omit_expression(true);
    settings
}

#[test]
fn what_is_printed_when_all_goes_well() {
    let place = desk();
    settings().bind(|| {
        let said = |arguments: &[&str]| said(&place, arguments);
        assert_snapshot!("status-never-run", said(&["status"]));
        assert_snapshot!("preflight", said(&["preflight", "desk"]));
        assert_snapshot!("plan", said(&["plan", "desk"]));
        assert_snapshot!("plan-full", said(&["plan", "desk", "--full"]));
        assert_snapshot!("run", said(&["run", "desk", "--reason", "before the upgrade"]));
        assert_snapshot!("run-unchanged", said(&["run", "desk"]));
        assert_snapshot!("run-quiet", said(&["run", "desk", "--quiet"]));
        assert_snapshot!("runs", said(&["runs"]));
        assert_snapshot!("show", said(&["show", "desk@latest"]));
        assert_snapshot!("show-listing", said(&["show", "desk@latest", "--listing"]));
        assert_snapshot!("verify", said(&["verify"]));
        assert_snapshot!("drill", said(&["drill", "desk"]));
        assert_snapshot!("status", said(&["status"]));
        assert_snapshot!("restore-list", said(&["restore", "desk"]));
        assert_snapshot!("restore", said(&["restore", "desk@latest", "--into", "out"]));
        assert_snapshot!("restore-plan", said(&["restore", "desk@latest", "--in-place", "--plan"]));
        place.file("manifests/4", "new\n");
        place.file("manifests/1", "Ada Lovelace\n");
        assert_snapshot!("compare", said(&["compare", "desk@latest", "--now"]));
        assert_snapshot!("restore-in-place", said(&["restore", "desk@latest", "--in-place", "--yes"]));
        assert_snapshot!("restore-undo", said(&["restore", "desk", "--undo", "--yes"]));
        assert_snapshot!("trace", said(&["trace", "manifests"]));
        assert_snapshot!("hold", said(&["hold", "desk", "--limit", "2m"]));
        assert_snapshot!("release-list", said(&["release"]));
        assert_snapshot!("release", said(&["release", "desk"]));
        assert_snapshot!("store-info", said(&["store", "info", "depot"]));
        assert_snapshot!("store-test", said(&["store", "test", "depot"]));
        assert_snapshot!("timer", said(&["timer", "--boot", "systemd"]));
    });
}

#[test]
fn what_is_printed_when_something_is_wrong() {
    let place = desk();
    settings().bind(|| {
        let said = |arguments: &[&str]| said(&place, arguments);
        place.gullet(&["run", "desk"]).exits(0);
        place.file("liar", "");
        assert_snapshot!("run-not-released", said(&["run", "desk"]));
        let began = Instant::now();
        while !place.gullet(&["status"]).out.contains("could not be released at once") {
            assert!(began.elapsed() < Duration::from_secs(20), "the guard does not try to release the application");
        }
        assert_snapshot!("status-not-released", said(&["status"]));
        assert_snapshot!("release-again", said(&["release", "desk"]));
        fs::remove_file(place.path("liar")).unwrap();
        place.gullet(&["release", "desk"]).exits(0);
        let whole = fs::read(place.path("bookings.db")).unwrap();
        place.file("bookings.db", "not a database");
        assert_snapshot!("run-failed", said(&["run", "desk"]));
        assert_snapshot!("status-failed", said(&["status"]));
        place.file("bookings.db", whole);
        place.file("state-of-desk", "closed\n");
        assert_snapshot!("run-refused", said(&["run", "desk"]));
        place.file("state-of-desk", "serving\n");
        fs::remove_dir_all(place.path("manifests")).unwrap();
        assert_snapshot!("run-incomplete", said(&["run", "desk"]));
        assert_snapshot!("show-incomplete", said(&["show", place.runs().last().unwrap()["run"].as_str().unwrap()]));
        assert_snapshot!("runs-after-trouble", said(&["runs"]));
        let first = place.runs()[0]["run"].as_str().unwrap().to_owned();
        let of_first = |path: &PathBuf| path.display().to_string().contains(&first);
        place.flip(&place.files_below("depot/payload").into_iter().find(of_first).unwrap(), 1);
        assert_snapshot!("verify-damaged", said(&["verify"]));
        assert_snapshot!("restore-damaged", said(&["restore", &first, "--into", "out"]));
        assert_snapshot!("unknown-application", said(&["run", "dekc"]));
        assert_snapshot!("unknown-run", said(&["show", "zzzz"]));
        let right = fs::read_to_string(place.path("gullet.toml")).unwrap();
        let wrong =
            right.replace("max_hold = \"1m\"", "max_hlod = \"1m\"").replace("required = true", "required = \"yes\"");
        place.file("gullet.toml", wrong);
        assert_snapshot!("definition-wrong", said(&["status"]));
        place.file("gullet.toml", right.replace("sqlite = \"", "sqlite = [\""));
        assert_snapshot!("definition-not-read", said(&["status"]));
        fs::remove_dir_all(place.path("depot")).unwrap();
        place.file("gullet.toml", right);
        assert_snapshot!("store-missing", said(&["run", "desk"]));
    });
}
