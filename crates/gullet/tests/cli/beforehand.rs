//! What a definition says is taken as it is meant, or refused before anything is touched; and what is refused is told.

use std::fs;
use std::process::Stdio;

use crate::green::{FILES, place};
use crate::harness::{Mounted, Place};

#[test]
fn an_included_file_may_hold_groups() {
    let place = place();
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    place.file("gullet.toml", format!("include = [\"apps/*.toml\"]\n{text}"));
    place.file(
        "apps/two.toml",
        "[app.two]\nno_hold = \"a test\"\n[[app.two.part]]\nname = \"p\"\ncommand = [\"echo\", \"x\"]\n\
         [group.both]\napps = [\"app\", \"two\"]\n",
    );
    place.gullet(&["run", "--group", "both"]).exits(0).says("two");
    place.file("apps/status.toml", "[status]\ndrilled_within = \"1d\"\n");
    place.gullet(&["status"]).exits(3).says("an included file holds");
}

#[test]
fn two_files_of_new_can_be_included_together() {
    let place = Place::new();
    for app in ["desk", "ledger"] {
        place.gullet(&["new", app]).exits(0);
    }
    place.file("gullet.toml", "include = [\"*.toml\"]\n");
    let hint = place.gullet(&["plan", "--definition", "gullet.toml", "nobody"]);
    assert!(!hint.err.contains("another file"), "{}", hint.err);
    hint.says("nobody");
    let text = fs::read_to_string(place.path("ledger.toml")).unwrap();
    fs::write(place.path("ledger.toml"), text.replace("\"/srv/depot\"", "\"/srv/other\"")).unwrap();
    place.gullet(&["plan", "desk"]).exits(3).says("`store.depot` is defined in another file already");
    fs::write(place.path("ledger.toml"), text.replace("\"/var/lib/gullet\"", "\"/var/lib/other\"")).unwrap();
    place
        .gullet(&["plan", "desk"])
        .exits(3)
        .says("`state` is `/var/lib/gullet` in another file already")
        .says("ledger.toml:2:9");
}

#[test]
fn what_can_be_known_beforehand_refuses_a_run_before_anything_is_held() {
    let place = Place::new();
    let define = |more: &str| {
        place.define(&format!(
            "[app.app]\n[[app.app.hold]]\nname = \"one\"\nenter = {{ run = [\"touch\", \"@/held\"] }}\nrelease = {{ run = [\"rm\", \"@/held\"] }}\n\
             entered = {{ run = [\"test\", \"-e\", \"@/held\"] }}\nreleased = {{ run = [\"test\", \"!\", \"-e\", \"@/held\"] }}\n{more}"
        ));
    };
    define(&format!("{FILES}[app.app.hooks]\nsucceeded = [{{ run = [\"/nowhere/purge\"] }}]\n"));
    place.file("docs/a", "x");
    place.gullet(&["store", "new", "depot"]).exits(0);
    let refused = place.gullet(&["run", "app"]).exits(4).says("/nowhere/purge");
    assert!(!refused.out.contains("enter"), "{}", refused.out);
    define("[[app.app.part]]\nname = \"docs\"\nrequired = true\nfiles = [\"@/gone\"]\n");
    place.gullet(&["run", "app"]).exits(3).says("is required");
    drop(place);
    let place = Place::new();
    let _disk = Mounted::at(&place.path("depot"), "1m");
    place.define(&format!("[app.app]\nno_hold = \"a test\"\n{FILES}"));
    place.allocated("docs/large", 64 << 20);
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["run", "app"]).exits(4).says("make room");
}

#[test]
fn a_refused_run_is_told_to_its_hooks_and_leaves_a_record_and_so_does_a_busy_one() {
    let place = Place::new();
    place.define(
        "[app.app]\nno_hold = \"a test\"\n[[app.app.require]]\nname = \"open\"\nrun = [\"test\", \"-e\", \"@/open\"]\n\
         [[app.app.part]]\nname = \"a\"\ncommand = [\"sh\", \"-c\", \"touch @/capturing; until [ -e @/go ]; do sleep 0.05; done; echo x\"]\n\
         [app.app.hooks]\nfailed = [{ script = \"echo failed $GULLET_OUTCOME >> @/told\" }]\nfinished = [{ script = \"echo finished $GULLET_OUTCOME >> @/told\" }]\n",
    );
    place.gullet(&["store", "new", "depot"]).exits(0);
    let told = || fs::read_to_string(place.path("told")).unwrap_or_default();
    place.gullet(&["run", "app"]).exits(4);
    assert_eq!(told(), "failed refused\nfinished refused\n");
    place.file("open", "");
    fs::remove_file(place.path("told")).unwrap();
    let mut first = place.command(&["run", "app"]).stdout(Stdio::null()).spawn().unwrap();
    while !place.path("capturing").exists() {
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    place.gullet(&["run", "app", "--trigger", "the nightly timer"]).exits(4).says("is going on");
    assert_eq!(told(), "failed refused\nfinished refused\n");
    place.file("go", "");
    first.wait().unwrap();
    place.gullet(&["run", "app"]).exits(0);
    let runs = place.runs();
    let outcomes: Vec<_> = runs.iter().map(|run| run["outcome"].as_str().unwrap()).collect();
    assert_eq!(outcomes.iter().filter(|outcome| **outcome == "refused").count(), 2, "{outcomes:?}");
    let busy =
        runs.iter().find(|run| run["cause"].as_str().is_some_and(|cause| cause.contains("is going on"))).unwrap();
    let record = place.json(&["show", busy["run"].as_str().unwrap()])["record"].clone();
    assert_eq!(record["trigger"], "the nightly timer");
    place.gullet(&["verify"]).exits(0);
}

#[test]
fn placeholders_are_filled_everywhere_or_refused_with_their_place() {
    let each = |more: &str| {
        format!(
            "[app.app]\nno_hold = \"a test\"\n[[app.app.part]]\nname = \"zone-{{each.name}}\"\neach = {{ run = [\"printf\", \"north\\nsouth\\n\"] }}\n{more}"
        )
    };
    let place = Place::new();
    place.define(&each("command = [\"sh\", \"-c\", \"echo $ZONE $GULLET_EACH_NAME\"]\n"));
    place.gullet(&["store", "new", "depot"]).exits(0);
    let run_and_read = |definition: &str, name: &str| {
        place.define(definition);
        place.gullet(&["run", "app"]).exits(0);
        let out = format!("out-{}", place.runs().len());
        place.gullet(&["restore", "app@latest", "--into", &out]).exits(0);
        let found = place.files_below(&out).into_iter().find(|path| path.ends_with(name)).unwrap();
        fs::read_to_string(found).unwrap()
    };
    let export = "export = { script = \"echo $ZONE $GULLET_EACH_NAME > $GULLET_SCRATCH/zone\", env = { ZONE = \"zone of {each.name}\" } }\n";
    assert_eq!(run_and_read(&each(export), "zone-south/zone"), "zone of south south\n");
    place.file("zones/south/data", "of the south");
    place.file("zones/north/data", "of the north");
    assert_eq!(run_and_read(&each("files = [\"@/zones/{each.name}\"]\n"), "zones/south/data"), "of the south");
    assert_eq!(place.capture("zone-north")["counts"]["files"], 1);
    let refused = |more: &str, what: &str| {
        place.define(&each(more));
        place.gullet(&["plan", "app"]).exits(3).says(what).says("gullet.toml:");
    };
    refused("export = { script = \"echo {each.name} > $GULLET_SCRATCH/zone\" }\n", "write \"$GULLET_EACH_NAME\"");
    refused("files = [\"@/zones/{fact.a.b}\"]\n", "has no value here");
    place.define("[app.app]\nno_hold = \"a test\"\n[[app.app.part]]\nname = \"a\"\nsqlite = \"@/{each.name}.db\"\n");
    place.gullet(&["plan", "app"]).exits(3).says("has no value here");
    // What is printed cannot lead out of the place that it is filled into.
    place.define(
        &each("files = [\"@/zones/{each.name}\"]\n")
            .replace("north\\nsouth", "..")
            .replace("name = \"zone-{each.name}\"", "name = \"zone-{each.name}-x\""),
    );
    place.gullet(&["plan", "app"]).exits(4).says("cannot be a piece of the path");
}

#[test]
fn one_native_export_needs_no_hold_and_no_warning() {
    let define = |more: &str| {
        let place = Place::new();
        place.define(&format!("[app.app]\nself_consistent = \"one transaction\"\n[[app.app.part]]\nname = \"p\"\ncommand = [\"echo\", \"x\"]\n{more}"));
        place.gullet(&["store", "new", &place.text("depot")]).exits(0);
        place
    };
    let place = define("");
    place.gullet(&["run", "app"]).exits(0);
    let checked = place.gullet(&["preflight", "app"]);
    assert!(checked.out.contains("none needed") && !checked.out.contains("one moment"), "{}", checked.out);
    let shown = place.gullet(&["show", "app@latest"]).exits(0).says("not needed: one transaction");
    assert!(!shown.out.contains("one moment"));
    define("[[app.app.part]]\nname = \"q\"\ncommand = [\"echo\", \"x\"]\n")
        .gullet(&["plan", "app"])
        .exits(3)
        .says("one part");
}

#[test]
fn a_path_that_matches_nothing_is_an_error_wherever_it_is_asked_for() {
    let place = place();
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["show", "app@latest", "--listing", "--path", "inv-9.txt"]).exits(2).says("has none of these paths");
    place
        .gullet(&["restore", "app@latest", "--into", "out", "--path", "inv-9.txt"])
        .exits(2)
        .says("has none of these paths");
    // Two at once, siblings, and one within another.
    place.file("docs/deep/c.txt", "c");
    place.file("docs/deep/d.txt", "d");
    place.gullet(&["run", "app"]).exits(0);
    let docs = place.text("docs");
    let names = |paths: &[&str], out: &str| -> Vec<String> {
        let paths: Vec<String> =
            paths.iter().flat_map(|path| ["--path".to_owned(), format!("{docs}/{path}")]).collect();
        let paths: Vec<&str> = paths.iter().map(String::as_str).collect();
        place.gullet(&[&["restore", "app@latest", "--into", out], paths.as_slice()].concat()).exits(0);
        let files = place.files_below(out);
        files.iter().map(|path| path.file_name().unwrap().to_string_lossy().into_owned()).collect()
    };
    assert_eq!(names(&["a.txt", "b.txt"], "two"), ["a.txt", "b.txt"]);
    assert_eq!(names(&["b.txt", "deep/d.txt"], "far"), ["b.txt", "d.txt"]);
    assert_eq!(names(&["deep", "deep/c.txt"], "nested"), ["c.txt", "d.txt"]);
}

#[test]
fn a_file_that_is_mostly_holes_needs_no_room_for_them() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n");
    place.file("docs/lastlog", "x");
    fs::File::options().write(true).open(place.path("docs/lastlog")).unwrap().set_len(10 << 40).unwrap();
    place.gullet(&["run", "app"]).exits(0).says("10.0 TiB");
    place.gullet(&["preflight", "app"]).says("free in the store");
}

#[test]
fn a_store_is_only_to_be_made_where_there_is_none() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n");
    place.file("docs/a.txt", "x");
    let whole = fs::read(place.path("depot/store.json")).unwrap();
    for (text, is_advised) in [(None, true), (Some("{"), false)] {
        match text {
            Some(text) => drop(place.file("depot/store.json", text)),
            None => fs::remove_file(place.path("depot/store.json")).unwrap(),
        }
        for command in ["run", "preflight"] {
            let called = place.gullet(&[command, "app"]).exits(4);
            assert_eq!(format!("{}{}", called.out, called.err).contains("gullet store new"), is_advised, "{command}");
        }
    }
    place.file("depot/store.json", whole);
    place.gullet(&["run", "app"]).exits(0);
}
