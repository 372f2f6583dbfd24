//! What an application says of itself: kept with each run, compared, and agreed to before a restore where it differs.

use crate::harness::Place;

const DESK: &str = "[app.app]\nno_hold = \"a test\"\n[app.app.facts]\nversion = { run = [\"cat\", \"@/version\"] }\n\
                    schema = { run = [\"cat\", \"@/schema\"] }\n[[app.app.part]]\nname = \"data\"\nfiles = [\"@/data\"]\n";

fn desk() -> Place {
    let place = Place::new();
    place.file("data/a", "a");
    place.file("version", "1.4\n");
    place.file("schema", "sea-12\n");
    place.define(DESK);
    place.gullet(&["store", "new", "depot"]).exits(0);
    place
}

#[test]
fn facts_are_kept_shown_and_compared() {
    let place = desk();
    place.gullet(&["run", "app"]).exits(0);
    assert_eq!(place.record()["facts"], serde_json::json!({ "schema": "sea-12", "version": 1.4 }));
    place.gullet(&["show", "app@latest"]).exits(0).says("schema sea-12, version 1.4");
    place.file("version", "2.0\n");
    place
        .gullet(&["compare", "app@latest", "--now"])
        .exits(0)
        .says("fact version: 1.4 in the first, 2.0 in the second");
    place.gullet(&["run", "app"]).exits(0);
    let runs: Vec<String> = place.runs().iter().map(|run| run["run"].as_str().unwrap().to_owned()).collect();
    let compared = place.json(&["compare", &runs[0], &runs[1]]);
    assert_eq!(compared["facts"], serde_json::json!([{ "fact": "version", "first": "1.4", "second": "2.0" }]));
    // One that cannot be had is said, and stops nothing.
    std::fs::remove_file(place.path("schema")).unwrap();
    place.gullet(&["run", "app"]).exits(6).says("the fact `schema` of the application could not be had");
    assert_eq!(place.record()["facts"], serde_json::json!({ "version": 2.0 }));
}

#[test]
fn another_version_is_refused_until_it_is_accepted_by_its_name() {
    let place = desk();
    place.gullet(&["run", "app"]).exits(0);
    place.file("version", "2.0\n");
    let go = ["restore", "app", "--in-place", "--yes", "--accept", "running"];
    place.gullet(&go).exits(4).says("version was 1.4 then, and is 2.0 now").says("--accept version");
    place.file("data/a", "changed");
    place.gullet(&[&go[..], &["--accept", "version"]].concat()).exits(0);
    assert_eq!(std::fs::read_to_string(place.path("data/a")).unwrap(), "a");
}

#[test]
fn facts_of_an_encrypted_run_are_not_in_clear() {
    let part = "[[app.app.part]]\nname = \"data\"\ncommand = [\"true\"]\n";
    let (place, public) = Place::sealed_with_parts(part);
    place.file("data/a", "a");
    place.file("version", "low-tide-7\n");
    place.file("schema", "high-tide-8\n");
    place.define(&format!("encrypt_to = [\"{public}\"]\n{DESK}"));
    place.gullet(&["run", "app"]).exits(0);
    for path in place.files_below("depot") {
        let text = String::from_utf8_lossy(&std::fs::read(&path).unwrap()).into_owned();
        assert!(!text.contains("-tide-"), "{}", path.display());
    }
    place.gullet(&["show", "app@latest", "--identity", "safe.key"]).exits(0).says("version low-tide-7");
}

#[test]
fn a_fact_has_a_name_of_its_own_and_a_command() {
    let place = desk();
    for (fact, says) in [
        ("host = { run = [\"hostname\"] }", "another difference"),
        ("Version = { run = [\"true\"] }", "cannot be the name of a fact"),
        ("licence = { limit = \"1s\" }", "gullet.toml:"),
    ] {
        place.define(&DESK.replace("schema = { run = [\"cat\", \"@/schema\"] }", fact));
        place.gullet(&["preflight"]).exits(3).says(says);
    }
}

#[test]
fn one_probe_fact_or_hook_is_tried_alone() {
    let place = Place::new();
    place.file("version", "1.4\n");
    place.define(
        "[app.app]\nrequire = [{ name = \"it is new\", run = [\"cat\", \"@/version\"], matches = \"^2\" }]\n\
         facts = { version = { script = \"cat @/version; echo noise >&2\" } }\n\
         hooks = { before = [{ run = [\"touch\", \"@/touched\"] }] }\n\
         [[app.app.hold]]\nname = \"desk\"\nenter = { run = [\"touch\", \"@/held\"] }\n\
         entered = { run = [\"cat\", \"@/mode\"], prints = \"paused\" }\nrelease = { run = [\"rm\", \"@/held\"] }\n\
         [[app.app.part]]\nname = \"ledger-{each.name}\"\neach = { run = [\"printf\", \"inner\\\\nouter\\\\n\"] }\n\
         command = [\"true\"]\n",
    );
    let list = place.gullet(&["try", "app", "--json"]).exits(0).json();
    let names: Vec<&str> = list.as_array().unwrap().iter().map(|row| row["name"].as_str().unwrap()).collect();
    let expected =
        ["facts/version", "require/it is new", "part/ledger-{each.name}/each", "hold/desk/entered", "hooks/before/1"];
    assert_eq!(names, expected, "nothing that enters or releases is among them");
    place.gullet(&["try", "app", "facts/version"]).exits(0).says("the fact is 1.4").says("noise").says("exit code 0");
    place.gullet(&["try", "app", "require/it is new"]).exits(1).says("✗ does not pass").says("1.4");
    place.gullet(&["try", "app", "part/ledger-{each.name}/each"]).exits(0).says("2 lines, each a part");
    place.gullet(&["try", "app", "hold/desk/entered"]).exits(1).says("No such file");
    place.file("mode", "paused\n");
    place.gullet(&["try", "app", "hold/desk/entered"]).exits(0).says("✓ passes");
    place.gullet(&["try", "app", "hooks/before/1"]).exits(4).says("may change something");
    assert!(!place.path("touched").exists());
    place.gullet(&["try", "app", "hooks/before/1", "--yes"]).exits(0).says("succeeded");
    assert!(place.path("touched").exists() && !place.path("held").exists());
    place.gullet(&["try", "app", "hooks/after/1"]).exits(2).says("gullet try app lists");
    assert!(!place.path("depot").exists() && place.files_below("state/waiting").is_empty(), "it is no run");
}

#[test]
fn what_a_run_does_to_the_logs_of_the_application_is_said_before_and_after() {
    let place = desk();
    place.define(&DESK.replace("no_hold", "log = \"truncated\"\nno_hold"));
    place.gullet(&["plan", "app"]).exits(0).says("its logs truncated");
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["show", "app@latest"]).exits(0).says("its logs").says("truncated");
    place.define(&DESK.replace("no_hold", "log = \"gone\"\nno_hold"));
    place.gullet(&["preflight"]).exits(3).says("\"untouched\", \"truncated\"");
}
