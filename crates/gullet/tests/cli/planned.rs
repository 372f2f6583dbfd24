//! A plan shows all that a run will execute: what its record then has, word for word.

use serde_json::Value;

use crate::harness::Place;

/// An application with one of nearly everything that runs a command.
const DESK: &str = r#"
[app.desk]
[[app.desk.require]]
name = "the desk is there"
run = ["test", "-d", "@/docs"]
[[app.desk.hold]]
name = "desk"
enter = { script = "touch @/held\n# the second line\n" }
drained = { run = ["echo", "0"], prints = "0" }
entered = { run = ["test", "-e", "@/held"] }
release = { run = ["rm", "-f", "@/held"] }
released = { run = ["test", "!", "-e", "@/held"] }
[[app.desk.part]]
name = "docs"
files = ["@/docs"]
facts = { pages = { run = ["echo", "3"] } }
[[app.desk.part]]
name = "said"
command = ["env", "echo", "it's said"]
[[app.desk.part]]
name = "list-{each.name}"
each = { run = ["printf", "north\nsouth\n"] }
export = { run = ["sh", "-c", "echo {each.name} > @/out-{each.name}"], through = ["env"], limit = "30s" }
collect = ["@/out-{each.name}"]
stable = { fact = "serial", run = ["echo", "7", "{each.name}"] }
[app.desk.hooks]
before = [{ script = "true", interpreter = ["/bin/sh", "-e"] }]
held = [{ run = ["true", "held"], dir = "/tmp", env = { PASSWORD = { env = "DESK_PASSWORD" } } }]
released = [{ run = ["true", "released"], as = "root" }]
failed = [{ run = ["true", "failed"] }]
"#;

fn desk() -> Place {
    let place = Place::new();
    place.define(DESK);
    place.file("docs/a.txt", "alpha");
    place.gullet(&["store", "new", "depot"]).exits(0);
    place
}

/// Kind, what it is about, and the commands of each step, without repetitions of a probe that was asked again.
fn told(steps: &[Value], command: impl Fn(&Value) -> Vec<Value>) -> Vec<(Value, Value, Vec<Value>)> {
    let mut told: Vec<(Value, Value, Vec<Value>)> = Vec::new();
    for step in steps {
        let words = |command: Value| serde_json::json!([command["argv"], command["script"]]);
        let commands: Vec<Value> = command(step).into_iter().map(words).collect();
        match told.last_mut().filter(|last| (&last.0, &last.1) == (&step["kind"], &step["about"])) {
            Some(last) => last.2.extend(commands),
            None => told.push((step["kind"].clone(), step["about"].clone(), commands)),
        }
    }
    for step in &mut told {
        step.2.dedup();
    }
    told
}

#[test]
fn the_record_of_a_run_has_the_commands_of_its_plan_word_for_word() {
    let place = desk();
    let with_password = |arguments: &[&str]| {
        let mut command = place.command(arguments);
        command.env("DESK_PASSWORD", "wrack");
        crate::harness::called(command)
    };
    let plan = with_password(&["plan", "desk", "--json"]).exits(0).json();
    let planned: Vec<Value> = plan["steps"].as_array().unwrap().clone();
    assert_eq!((&planned[0]["when"], &planned[0]["command"]["argv"][0]), (&"plan".into(), &"printf".into()));
    let planned = told(&planned[1..], |step| step.get("command").cloned().into_iter().collect());
    with_password(&["run", "desk"]).exits(0);
    let record = place.record();
    let done =
        told(record["steps"].as_array().unwrap(), |step| step["commands"].as_array().cloned().unwrap_or_default());
    // Some steps have nothing to do where there are no snapshots; what follows the record is not in it.
    let in_record = |step: &&(Value, Value, Vec<Value>)| {
        let absent = ["snapshot", "clean_up", "commit"].map(Value::from);
        !absent.contains(&step.0) && step.1 != "failed"
    };
    let planned: Vec<_> = planned.iter().filter(in_record).collect();
    let done: Vec<_> = done.iter().filter(in_record).collect();
    assert!(done.iter().map(|step| step.2.len()).sum::<usize>() > 20, "{done:?}");
    assert_eq!(planned, done);
}

#[test]
fn a_full_plan_shows_whole_scripts_accounts_folders_and_names_of_variables() {
    let place = desk();
    let short = place.gullet(&["plan", "desk"]).exits(0).says("as root").says("--full").says("collects ");
    assert!(!short.out.contains("the second line"), "{}", short.out);
    let full = place.gullet(&["plan", "desk", "--full"]).exits(0);
    let full = full.says("| # the second line").says("in /tmp").says("variables PASSWORD").says("as root");
    full.says("$ env sh -c").says("limit 30s").says("$ /bin/sh -e\n");
}

#[test]
fn two_plans_are_compared_line_by_line_and_a_kept_one_stays_the_same() {
    let place = desk();
    let kept = place.file("kept.txt", place.gullet(&["plan", "desk", "--full"]).exits(0).out);
    let kept = kept.to_str().unwrap();
    let mut run = place.command(&["run", "desk"]);
    run.env("DESK_PASSWORD", "wrack");
    crate::harness::called(run).completes();
    place.file("docs/more", "more to capture");
    place.gullet(&["plan", "desk", kept]).exits(0).says("they are the same");
    place.gullet(&["plan", "desk@latest", "desk"]).exits(0).says("as run ").says("they are the same");
    let changed = |args: &[&str]| {
        let lines = place.json(&[&["plan"], args].concat())["lines"].clone();
        let lines = lines.as_array().unwrap().iter().map(|line| line.as_str().unwrap().to_owned());
        lines.filter(|line| line.starts_with(['+', '-'])).collect::<Vec<_>>()
    };
    assert!(changed(&["desk", "desk"]).is_empty());
    // One scope beside the other.
    let parts = place.json(&["plan", "desk"])["parts"].clone();
    let names: Vec<&str> = parts.as_array().unwrap().iter().map(|part| part["name"].as_str().unwrap()).collect();
    let narrow = changed(&["desk", "desk", "--other-part", names[0]]);
    for name in &names[1..] {
        assert!(narrow.contains(&format!("+  {name}: not asked for")), "{narrow:?}");
    }
    // What is changed in the definition is what differs, from the kept text and from the last run alike.
    let text = std::fs::read_to_string(place.path("gullet.toml")).unwrap();
    let (old, new) = ("# the second line", "# another second line");
    assert!(text.contains(old));
    std::fs::write(place.path("gullet.toml"), text.replace(old, new)).unwrap();
    for other in [kept, "desk@latest"] {
        let lines = changed(&[other, "desk"]);
        assert!(!lines.is_empty() && lines.iter().all(|line| line.contains("second line")), "{other}: {lines:?}");
    }
    place.gullet(&["plan", "desk", "nobody"]).exits(2).says("there is no run `nobody`");
    place.gullet(&["plan", "desk", "./nothing"]).exits(2).says("gullet plan APP --full > FILE");
    place.gullet(&["plan", "desk", kept, "--other-part", "x"]).exits(2).says("is no application");
}
