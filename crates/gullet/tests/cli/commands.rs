//! Commands of a definition: their environment, output, limits, descendants and accounts.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::process::Command;

use crate::harness::{Desk, Place};

#[test]
fn secrets_reach_hooks_and_nothing_else() {
    let part = "[[app.app.part]]\nname = \"p\"\nexport = { script = \"echo password is $PASSWORD; echo $PASSWORD | sha256sum > $GULLET_SCRATCH/f\", \
                env = { PASSWORD = { env = \"DESK_PASSWORD\" } } }\n";
    let place = Place::with_parts(part);
    place.gullet(&["run", "app"]).exits(1).says("has no `DESK_PASSWORD`");
    let mut command = place.command(&["run", "app"]);
    command.env("DESK_PASSWORD", "tide-and-time-4711");
    crate::harness::called(command).exits(0);
    let shown = place.gullet(&["show", "app@latest", "--hook-output"]).exits(0).says("password is [secret]");
    assert!(!shown.out.contains("tide-and-time"));
    let found = Command::new("grep")
        .args(["-r", "-l", "tide-and-time"])
        .args([place.path("state"), place.path("depot")])
        .output()
        .unwrap();
    assert_eq!(String::from_utf8_lossy(&found.stdout), "", "a secret was kept");
}

#[test]
fn hooks_get_a_clean_fixed_environment() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"p\"\ncommand = [\"env\"]\n");
    let mut command = place.command(&["run", "app"]);
    command.env("LD_PRELOAD", "").env("EDITOR", "ed").env("LANG", "xx");
    crate::harness::called(command).exits(0);
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    let env = fs::read_to_string(place.path("out/exports/p/p")).unwrap();
    let mut names: Vec<&str> = env.lines().filter_map(|line| line.split('=').next()).collect();
    names.sort_unstable();
    assert_eq!(
        names,
        ["GULLET_APP", "GULLET_CALL", "GULLET_MOMENT", "GULLET_NOTES", "GULLET_RUN", "HOME", "LC_ALL", "PATH"]
    );
}

#[test]
fn much_output_is_kept_at_both_ends_and_said_to_be_cut() {
    let place = Place::with_parts(
        "[[app.app.part]]\nname = \"p\"\nexport = { script = \"echo first; yes line | head -c 20000000; echo last; echo x > $GULLET_SCRATCH/f\" }\n",
    );
    place.gullet(&["run", "app"]).exits(0);
    let record = place.record();
    let step = record["steps"].as_array().unwrap().iter().find(|step| step["kind"] == "capture").unwrap().clone();
    let command = &step["commands"][0];
    assert!(command["dropped_bytes"].as_u64().unwrap() > 19_000_000);
    let output = command["output"].as_array().unwrap();
    assert!(output[0]["text"].as_str().unwrap().starts_with("first\n"));
    assert!(output.last().unwrap()["text"].as_str().unwrap().ends_with("last\n"));
    assert!(serde_json::to_string(output).unwrap().len() < 100_000);
}

#[test]
fn a_grandchild_that_keeps_the_pipes_open_does_not_hold_the_run_up() {
    let place = Place::with_parts(
        "[[app.app.part]]\nname = \"p\"\nexport = { script = \"sleep 30 & echo x > $GULLET_SCRATCH/f\" }\n",
    );
    let began = std::time::Instant::now();
    place.gullet(&["run", "app"]).exits(0);
    assert!(began.elapsed().as_secs() < 25);
}

#[test]
fn a_hook_that_ignores_term_is_killed_with_its_descendants() {
    let script = "trap '' TERM; setsid sleep 4321 & echo $! > @/left; while :; do sleep 1; done";
    let place = Place::with_parts(&format!(
        "[[app.app.part]]\nname = \"p\"\nexport = {{ script = \"{script} # $GULLET_SCRATCH\", limit = \"300ms\" }}\n"
    ));
    place.gullet(&["run", "app"]).exits(1).says("killed at its limit of 300ms");
    let left = fs::read_to_string(place.path("left")).unwrap();
    let words = fs::read_to_string(format!("/proc/{}/cmdline", left.trim())).unwrap_or_default();
    assert!(!words.contains("4321"), "a process was left behind");
}

#[test]
fn the_record_says_what_was_run_and_as_whom() {
    let desk = Desk::open();
    desk.place.gullet(&["run", "quaybook", "--reason", "before the 4.2 upgrade"]).exits(0);
    let record = desk.place.record();
    assert_eq!(record["reason"], "before the 4.2 upgrade");
    assert_eq!(record["host"]["gullet"], env!("CARGO_PKG_VERSION"));
    let steps = record["steps"].as_array().unwrap();
    let enter = steps.iter().find(|step| step["kind"] == "enter").unwrap();
    assert_eq!(enter["commands"][0]["argv"][3], "pause");
    assert_eq!(enter["commands"][0]["exit"], serde_json::json!({ "code": 0 }));
    assert!(enter["commands"][0]["account"].as_str().unwrap().contains('('));
    assert!(record["definition"].as_str().unwrap().contains("[[app.quaybook.hold]]"));
    let definition = desk.place.gullet(&["show", "quaybook@latest", "--definition-used"]).exits(0).out;
    assert_eq!(definition, record["definition"].as_str().unwrap());
}

#[test]
fn an_export_runs_as_a_stated_account_with_its_groups() {
    // `nobody` and its group are there on every system; it may reach neither the state folder's lists nor root's files.
    let script = "id -un; id -gn; echo $HOME > $GULLET_SCRATCH/home; echo '{\\\"fact\\\":\\\"rows\\\",\\\"value\\\":7}' > $GULLET_NOTES; \
                  ls $GULLET_SCRATCH/.. 2>/dev/null && exit 9; exit 0";
    let place = Place::with_parts(&format!(
        "[[app.app.part]]\nname = \"p\"\nexport = {{ script = \"{script}\", as = \"nobody\" }}\n"
    ));
    fs::set_permissions(place.path(""), fs::Permissions::from_mode(0o755)).unwrap();
    place.gullet(&["run", "app"]).exits(0);
    let record = place.record();
    let step = record["steps"].as_array().unwrap().iter().find(|step| step["kind"] == "capture").unwrap().clone();
    assert!(step["commands"][0]["account"].as_str().unwrap().starts_with("nobody ("));
    assert_eq!(step["commands"][0]["output"][0]["text"], "nobody\nnogroup\n");
    assert_eq!(place.capture("p")["facts"]["rows"], 7);
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    assert_eq!(fs::read_to_string(place.path("out/exports/p/home")).unwrap(), "/nonexistent\n");
}

#[test]
fn an_account_that_is_not_there_and_a_command_through_another() {
    let place = Place::with_parts(
        "[[app.app.part]]\nname = \"p\"\nexport = { run = [\"true\", \"{scratch}\"], as = \"no-such-account\" }\n",
    );
    place.gullet(&["run", "app"]).exits(4).says("there is no account `no-such-account`");
    let through = "export = { run = [\"sh\", \"-c\", \"echo $WRAPPED > $0/f\", \"{scratch}\"], through = [\"env\", \"WRAPPED=yes\"] }";
    let place = Place::with_parts(&format!("[[app.app.part]]\nname = \"p\"\n{through}\n"));
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    assert_eq!(fs::read_to_string(place.path("out/exports/p/f")).unwrap(), "yes\n");
}

#[test]
fn the_command_of_a_part_is_a_list_or_a_table_as_every_other() {
    let script = "[[app.app.part]]\nname = \"p\"\ncommand = { script = \"echo $WORD; pwd\", dir = \"/tmp\", env = { WORD = \"ebb\" }, limit = \"9s\" }\n";
    let place = Place::with_parts(script);
    place.gullet(&["plan", "app"]).exits(0).says("limit 9s");
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    assert_eq!(fs::read_to_string(place.path("out/exports/p/p")).unwrap(), "ebb\n/tmp\n");
    place.define(&format!("[app.app]\nno_hold = \"a test\"\n{script}limit = \"3s\"\n"));
    place.gullet(&["plan", "app"]).exits(3).says("`limit` stands within the command");
    place.define("[app.app]\nno_hold = \"a test\"\n[[app.app.part]]\nname = \"p\"\ncommand = 7\n");
    place
        .gullet(&["plan", "app"])
        .exits(3)
        .says("gullet.toml:8:11")
        .says("where a list or a command (a table) is expected");
}

#[test]
fn what_a_hook_notes_of_itself_is_kept_and_shown() {
    let place = Place::new();
    let note = |text: &str| format!("{{ script = \"printf '%s\\\\n' '{text}' >> $GULLET_NOTES\" }}");
    place.define(&format!(
        "[app.app]\nno_hold = 'a test'\n[[app.app.part]]\nname = 'a'\ncommand = ['echo', 'x']\n\
         [app.app.hooks]\nbefore = [{}, {}]\nfinished = [{}]\n",
        note("{\\\"fact\\\":\\\"clerks\\\",\\\"value\\\":4}"),
        note("{\\\"omits\\\":\\\"drafts\\\"}"),
        note("{\\\"fact\\\":\\\"left\\\",\\\"value\\\":\\\"two\\\"}"),
    ));
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["run", "app"]).exits(0);
    let record = place.record();
    let step = record["steps"].as_array().unwrap().iter().find(|step| step["facts"].is_object()).unwrap();
    assert_eq!((&step["facts"]["clerks"], &step["omits"][0]), (&4.into(), &"drafts".into()), "{step}");
    place.gullet(&["show", "app@latest"]).exits(0).says("facts: clerks 4").says("omits: drafts").says("left \"two\"");
}
