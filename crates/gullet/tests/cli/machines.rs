//! Many machines on one store: one application name on all of them, and the answer for all by the store alone.

use std::fs;
use std::process::Command;

use serde_json::Value;

use crate::harness::{GULLET, Place};

const MACHINES: usize = 40;

/// The definition of machine `number`: its own state and files, the same store, the same application name.
fn define(place: &Place, number: usize) {
    let folder = place.path("").display().to_string();
    let folder = folder.trim_end_matches('/');
    let text = format!(
        "state = \"{folder}/state{number}\"\n[store.depot]\nlocation = \"{folder}/depot\"\n[app.desk]\nno_hold = \"a test\"\n\
         expected_every = \"26h\"\n[[app.desk.part]]\nname = \"docs\"\nfiles = [\"{folder}/docs{number}\"]\n"
    );
    place.file(&format!("m{number}.toml"), text);
    place.file(&format!("docs{number}/a"), format!("of machine {number}"));
}

/// A call on machine `number`, with its host name, and by a clock that is off by so much.
fn on(place: &Place, number: usize, offset: &str, arguments: &[&str]) -> (i32, String) {
    let mut command = Command::new("unshare");
    command.args(["--uts", "sh", "-c", "hostname \"$1\"; shift; exec \"$@\"", "sh", &format!("desk-{number:02}")]);
    command.args(["faketime", "-f", offset, GULLET, "--definition", &place.text(&format!("m{number}.toml"))]);
    let output = command.args(arguments).env("TZ", "UTC").output().unwrap();
    let text = [output.stdout, output.stderr].concat();
    (output.status.code().unwrap(), String::from_utf8_lossy(&text).into_owned())
}

#[test]
fn forty_machines_share_a_store_and_the_silent_one_is_named_first() {
    let place = Place::new();
    (0..MACHINES).for_each(|number| define(&place, number));
    place.gullet(&["store", "new", &place.text("depot")]).exits(0);
    // Ten at once; one of them ran three days ago and not since, and one fails.
    fs::remove_dir_all(place.path("docs5")).unwrap();
    std::thread::scope(|scope| {
        for first in 0..10 {
            let place = &place;
            scope.spawn(move || {
                for number in (first..MACHINES).step_by(10) {
                    let offset = if number == 23 { "-3d" } else { "-1h" };
                    let (code, text) = on(place, number, offset, &["run", "desk", "--quiet"]);
                    assert!(code == 0 || number == 5, "{number}: {text}");
                }
            });
        }
    });
    let depot = place.text("depot");
    let status = place.gullet(&["status", "--store", &depot]).exits(2);
    let lines: Vec<&str> = status.out.lines().filter(|line| line.contains("desk-")).collect();
    assert_eq!(lines.len(), MACHINES, "{}", status.out);
    assert!(lines[0].contains("desk-05") && lines[1].contains("desk-23"), "{}", status.out);
    assert!(
        status.out.contains("the last complete run is 3 days old, and at most 26 h are expected"),
        "{}",
        status.out
    );
    let one = place.gullet(&["status", "--store", &depot, "--machine", "desk-07", "--json"]).exits(0).json();
    assert_eq!(one["applications"].as_array().unwrap().len(), 1);
    assert_eq!(one["applications"][0]["host"], "desk-07");
    // A run of one of them is found by its machine, and given back as that one's.
    let runs = place.gullet(&["runs", "--store", &depot, "--machine", "desk-31", "--json"]).exits(0).json();
    let run = runs[0]["run"].as_str().unwrap().to_owned();
    place.gullet(&["restore", &run, "--store", &depot, "--into", "out"]).exits(0);
    let docs = place.path("docs31/a");
    let restored = place.path("out/files").join(docs.strip_prefix("/").unwrap());
    assert_eq!(fs::read_to_string(restored).unwrap(), "of machine 31");
    place.gullet(&["verify", "--store", &depot]).exits(0);
    // What is gone of one machine's payload shows at that machine.
    let machine = one["applications"][0]["machine"].as_str().unwrap();
    fs::remove_dir_all(place.path(&format!("depot/payload/{machine}"))).unwrap();
    let all: Value = place.gullet(&["status", "--store", &depot, "--json"]).exits(2).json();
    let of = |host: &str| {
        let all = all["applications"].as_array().unwrap();
        all.iter().find(|one| one["host"] == host).unwrap()["level"].as_str().unwrap().to_owned()
    };
    assert_eq!((of("desk-07").as_str(), of("desk-08").as_str()), ("critical", "ok"));
}
