//! Applications that belong together, and all of a definition.

use std::fs;

use crate::harness::Place;

/// An application that notes what is done to it, and that can be told to fail.
fn app(name: &str, enter: &str, more: &str) -> String {
    format!(
        "[app.{name}]\n[[app.{name}.hold]]\nname = \"{name}\"\n\
         enter = {{ script = 'echo enter {name} >> @/log; {enter}; touch @/{name}.held' }}\n\
         entered = {{ run = [\"test\", \"-e\", \"@/{name}.held\"], within = \"1s\" }}\n\
         release = {{ script = 'rm -f @/{name}.held; echo leave {name} >> @/log' }}\n\
         released = {{ script = 'test ! -e @/{name}.held' }}\n\
         [[app.{name}.part]]\nname = \"files\"\nfiles = [\"@/{name}\"]\nwhen = \"held\"\n{more}\n\
         [[app.{name}.hooks.held]]\nscript = 'echo held {name} $(ls @ | grep -c held) >> @/log'\n"
    )
}

fn place(ledger: &str, desk: &str, more: &str) -> Place {
    let place = Place::new();
    for name in ["ledger", "desk", "lone"] {
        place.file(&format!("{name}/a"), name);
    }
    let apps = app("ledger", ledger, "") + &app("desk", desk, more) + &app("lone", "true", "");
    place.define(&format!("{apps}[group.counter]\napps = [\"ledger\", \"desk\"]\n"));
    place.gullet(&["store", "new", "depot"]).exits(0);
    place
}

fn log(place: &Place) -> Vec<String> {
    fs::read_to_string(place.path("log")).unwrap_or_default().lines().map(str::to_owned).collect()
}

#[test]
fn a_group_is_entered_in_order_held_together_and_left_in_reverse() {
    let place = place("sleep 0.2", "true", "");
    place.gullet(&["run", "--group", "counter"]).exits(0).says("ledger").says("desk");
    let log = log(&place);
    assert_eq!(log[..2], ["enter ledger", "enter desk"]);
    assert_eq!(log[4..], ["leave desk", "leave ledger"]);
    // Whoever is captured is captured while both are held.
    let mut held = log[2..4].to_vec();
    held.sort();
    assert_eq!(held, ["held desk 2", "held ledger 2"]);
    for name in ["ledger", "desk"] {
        place.gullet(&["restore", &format!("{name}@latest"), "--into", &place.text(&format!("out-{name}"))]).exits(0);
    }
    assert!(!place.path("lone.held").exists());
}

#[test]
fn one_that_is_never_held_is_captured_while_the_others_are() {
    let place = place("sleep 0.2", "true", "");
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    let base = "[app.base]\nno_hold = \"a test\"\n[[app.base.part]]\nname = \"a\"\nexport = { script = 'ls @ | grep -c held > $GULLET_SCRATCH/a' }\n\
                [[app.base.part]]\nname = \"b\"\nexport = { script = 'ls @ | grep -c held > $GULLET_SCRATCH/b' }\n";
    for order in ["\"ledger\", \"base\", \"desk\"", "\"base\", \"ledger\", \"desk\"", "\"ledger\", \"desk\", \"base\""]
    {
        let base = base.replace('@', &place.path("").display().to_string());
        place.file("gullet.toml", text.replace("\"ledger\", \"desk\"", order) + &base);
        place.gullet(&["run", "--group", "counter"]).exits(0);
        let into = place.path("out");
        place.gullet(&["restore", "base@latest", "--into", into.to_str().unwrap()]).exits(0);
        for part in ["a", "b"] {
            assert_eq!(fs::read_to_string(into.join("exports").join(part).join(part)).unwrap(), "2\n", "{order}");
        }
        fs::remove_dir_all(into).unwrap();
    }
}

#[test]
fn when_one_cannot_be_held_nothing_of_the_group_is_captured() {
    // The second one.
    let second = place("true", "exit 7", "");
    second
        .gullet(&["run", "--group", "counter"])
        .exits(1)
        .says("`desk`, which belongs to the same group, could not be held");
    assert_eq!(log(&second).last().unwrap(), "leave ledger");
    for run in second.json(&["runs"]).as_array().unwrap() {
        assert_eq!(run["outcome"], "failed", "{run}");
    }
    // The first one: the second is never touched.
    let first = place("exit 7", "true", "");
    first.gullet(&["run", "--group", "counter"]).exits(1);
    assert!(!log(&first).contains(&"enter desk".to_owned()));
    // One is refused beforehand: neither is touched.
    let busy = place("true", "true", "");
    fs::remove_dir_all(busy.path("desk")).unwrap();
    let text = fs::read_to_string(busy.path("gullet.toml")).unwrap();
    busy.file(
        "gullet.toml",
        text.replace("[[app.desk.hold]]", "[[app.desk.require]]\nname = \"x\"\nrun = [\"false\"]\n[[app.desk.hold]]"),
    );
    busy.gullet(&["run", "--group", "counter"]).exits(4).says("could not be held");
    assert_eq!(log(&busy), Vec::<String>::new());
}

#[test]
fn all_are_run_and_the_worst_outcome_counts() {
    let place = place("true", "true", "required = true\nmust_contain = [\"missing\"]\n");
    place.gullet(&["run", "--all"]).exits(1).says("missing");
    let runs = place.json(&["runs"]);
    let outcome = |app: &str| runs.as_array().unwrap().iter().find(|run| run["app"] == app).unwrap()["outcome"].clone();
    assert_eq!(
        (outcome("ledger"), outcome("desk"), outcome("lone")),
        ("complete".into(), "failed".into(), "complete".into())
    );
    place.gullet(&["run", "--group", "nothing"]).exits(2).says("no group `nothing`");
    place.gullet(&["run"]).exits(2);
    place.gullet(&["run", "--all", "desk"]).exits(2);
}

#[test]
fn groups_are_checked_in_the_definition() {
    let place = Place::new();
    let apps = app("ledger", "true", "") + &app("desk", "true", "");
    let cases = [
        ("[group.x]\napps = [\"ledger\"]", "two applications or more"),
        ("[group.x]\napps = [\"ledger\", \"desc\"]", "did you mean \"desk\"?"),
        (
            "[group.x]\napps = [\"ledger\", \"desk\"]\n[group.y]\napps = [\"desk\", \"ledger\"]",
            "belongs to the group `x` already",
        ),
        ("[group.x]\nmembers = [\"ledger\", \"desk\"]", "is not a key of a group"),
    ];
    for (group, says) in cases {
        place.define(&format!("{apps}{group}\n"));
        place.gullet(&["run", "--all"]).exits(3).says(says);
    }
}

#[test]
fn a_member_that_dies_or_is_stopped_lets_the_others_go() {
    let place = place("true", "sleep 20", "");
    let quiet = std::process::Stdio::null;
    let mut run = place.command(&["run", "--group", "counter"]).stdout(quiet()).stderr(quiet()).spawn().unwrap();
    crate::servers::wait_until("the hold", || log(&place).contains(&"enter desk".to_owned()));
    std::process::Command::new("kill").args(["-TERM", &run.id().to_string()]).status().unwrap();
    assert_eq!(run.wait().unwrap().code(), Some(8));
    assert!(!place.path("ledger.held").exists() && !place.path("desk.held").exists());
    let log = log(&place);
    assert!(log.contains(&"leave ledger".to_owned()) && log.contains(&"leave desk".to_owned()), "{log:?}");
}
