//! The drill: it proves what restores, says why what does not, and touches nothing.

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};

use crate::harness::{Desk, Mounted, Place};

/// Everything that is known of a live folder, to the nanosecond, access times apart.
fn untouched(folder: &Path) -> String {
    let script = "cd \"$0\" && find . -printf '%P %y %m %U %G %T@ %C@ %i %s\\n' | LC_ALL=C sort";
    let output = Command::new("sh").args(["-c", script]).arg(folder).output().unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

#[test]
fn a_good_run_is_proven_the_live_desk_is_not_touched_and_everybody_sees_the_date() {
    let desk = Desk::open();
    desk.run().completes();
    // Paused, nobody but the drill could change it.
    desk.ask(&["pause"]).exits(0);
    desk.wait_for("paused");
    std::thread::sleep(std::time::Duration::from_millis(200));
    let before = untouched(&desk.place.path("desk"));
    let drill = desk.place.gullet(&["drill", "quaybook"]).exits(0);
    for line in ["✓ proven", "the desk adds up", "counts as recorded", "the scratch place is cleared"] {
        assert!(drill.out.contains(line), "{line}: {}", drill.out);
    }
    assert_eq!(untouched(&desk.place.path("desk")), before);
    assert_eq!(desk.state(), "paused");
    assert_eq!(fs::read_dir(desk.place.path("state/drills")).unwrap().count(), 0);
    let runs = desk.place.json(&["runs"]);
    assert!(runs[0]["proven"].is_string(), "{runs}");
    let status = desk.place.json(&["status"]);
    assert!(status["applications"][0]["proven"].is_string() && status["level"] == "ok", "{status}");
    desk.place.gullet(&["status"]).says("last drilled");
    // The newest proven one and one that is marked are never given up.
    desk.ask(&["resume"]).exits(0);
    desk.wait_for("serving");
    for _ in 0..3 {
        desk.run().completes();
    }
    let runs = desk.place.json(&["runs"]);
    let run = |number: usize| runs[number]["run"].as_str().unwrap().to_owned();
    let thin = |run: &str| desk.place.gullet(&["thin", "--run", run, "--reason", "a test", "--yes"]);
    thin(&run(0)).exits(4).says("a drill has proven");
    desk.place.gullet(&["keep", &run(1), "--reason", "before the upgrade"]).exits(0);
    thin(&run(1)).exits(4).says("marked to stay");
    desk.place.gullet(&["show", &run(1)]).exits(0).says("before the upgrade");
    desk.place.gullet(&["runs"]).exits(0).says("kept");
    desk.place.gullet(&["keep", &run(1), "--undo"]).exits(0);
    thin(&run(1)).exits(0);
    desk.place.gullet(&["keep", &run(1)]).exits(4).says("removed already");
    desk.place.gullet(&["drill", "quaybook", "--run", &run(1)]).exits(4).says("were removed");
}

#[test]
fn a_run_whose_pieces_do_not_fit_together_is_not_proven_and_that_is_critical() {
    // Copied while it serves, as if that were good enough.
    let desk = Desk::with(|text| {
        let (head, rest) = text.split_once("[[app.quaybook.hold]]").unwrap();
        let rest = &rest[rest.find("[[app.quaybook.part]]").unwrap()..];
        let parts = "[[app.quaybook.part]]\nname = \"all\"\nfiles = [\"@DESK@\"]\nexclude = [\"*.sock\"]\n";
        let desk = head.split("quaybook\", \"--desk\", \"").nth(1).map(|_| ()).map_or("", |()| "");
        let folder = rest.split("/bookings.db").next().unwrap().rsplit('"').next().unwrap().to_owned() + desk;
        let tail = &rest[rest.find("[app.quaybook.restore]").unwrap()..];
        format!("{head}{}\n{tail}", parts.replace("@DESK@", &folder))
            .replace("max_hold = \"1m\"", "no_hold = \"nobody thought of it\"")
    });
    let mut not_proven = None;
    for _ in 0..30 {
        desk.place.gullet(&["run", "quaybook"]);
        let drill = desk.place.gullet(&["drill", "quaybook"]);
        if drill.code == 1 {
            not_proven = Some(drill);
            break;
        }
    }
    let drill = not_proven.expect("a desk that is copied while it serves agrees every time");
    assert!(drill.out.contains("✗ not proven") && drill.out.contains("✗ the desk adds up"), "{}", drill.out);
    let status = desk.place.gullet(&["status"]).exits(2);
    assert!(status.out.contains("the last drill failed: the desk adds up"), "{}", status.out);
    assert_eq!(desk.place.json(&["runs"]).as_array().unwrap().last().unwrap()["outcome"], "warnings");
}

#[test]
fn what_is_damaged_in_the_store_or_has_no_room_is_said_and_cleared() {
    let desk = Desk::open();
    desk.run().completes();
    let full = desk.place.path("full");
    let _mounted = Mounted::at(&full, "16k");
    let text = fs::read_to_string(desk.place.path("gullet.toml")).unwrap();
    let small =
        text.replace("[app.quaybook.drill]", &format!("[app.quaybook.drill]\nscratch = \"{}\"", full.display()));
    desk.place.file("small.toml", small);
    desk.place.gullet(&["--definition", "small.toml", "drill", "quaybook"]).exits(4).says("and the drill needs");
    let inside = format!("[app.quaybook.drill]\nscratch = \"{}\"", desk.place.path("desk/manifests").display());
    desk.place.file("inside.toml", text.replace("[app.quaybook.drill]", &inside));
    desk.place.gullet(&["--definition", "inside.toml", "drill", "quaybook"]).exits(4).says("live application");
    let script = "for f in $(find \"$0\" -name '*.zst'); do printf 'XXXX' | dd of=$f bs=1 seek=30 conv=notrunc 2>/dev/null; done";
    assert!(Command::new("sh").args(["-c", script]).arg(desk.place.path("depot/payload")).status().unwrap().success());
    desk.place.gullet(&["drill", "quaybook"]).exits(1).says("✗ restore").says("not proven");
    assert_eq!(fs::read_dir(desk.place.path("state/drills")).unwrap().count(), 0);
    desk.place.gullet(&["drill", "nobody"]).exits(2).says("it defines: quaybook");
}

#[test]
fn a_drill_that_is_killed_leaves_nothing_for_long_and_says_nothing_of_the_run() {
    let place = Place::with_parts(
        "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n\
         [app.app.drill]\nstart = { run = [\"touch\", \"@/started\"] }\nchecks = [{ name = \"slow\", script = \"sleep 30\" }]\n\
         stop = { run = [\"touch\", \"@/stopped\"] }\n",
    );
    place.file("docs/a", "x");
    place.gullet(&["run", "app"]).exits(0);
    let begin = || {
        let child = place.command(&["drill", "app"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let began = std::time::Instant::now();
        while !place.path("started").exists() {
            assert!(began.elapsed().as_secs() < 20, "it does not start");
            std::thread::sleep(std::time::Duration::from_millis(10));
        }
        fs::remove_file(place.path("started")).unwrap();
        child
    };
    let mut killed = begin();
    place.gullet(&["drill", "app"]).exits(4).says("going on");
    killed.kill().unwrap();
    killed.wait().unwrap();
    assert_eq!(fs::read_dir(place.path("state/drills")).unwrap().count(), 1);
    let mut stopped = begin();
    assert_eq!(fs::read_dir(place.path("state/drills")).unwrap().count(), 1, "what the killed one left is gone");
    assert!(Command::new("kill").args(["-TERM", &stopped.id().to_string()]).status().unwrap().success());
    assert_eq!(stopped.wait().unwrap().code(), Some(8));
    assert!(place.path("stopped").exists() && fs::read_dir(place.path("state/drills")).unwrap().count() == 0);
    assert!(place.json(&["runs"])[0]["proven"].is_null());
    let remarks = place.json(&["show", "app@latest"])["remarks"].to_string();
    assert!(!remarks.contains("drill"), "{remarks}");
}

#[test]
fn facts_and_folders_are_filled_into_checks() {
    let place = Place::with_parts(
        "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\nfacts = { pages = { run = [\"cat\", \"@/docs/pages\"] } }\n\
         [[app.app.part]]\nname = \"list\"\ncommand = [\"echo\", \"of it\"]\n\
         [app.app.drill]\nchecks = [\n\
         { name = \"pages\", run = [\"cat\", \"{files}@/docs/pages\"], prints = \"{fact.docs.pages}\" },\n\
         { name = \"list\", run = [\"cat\", \"{exports}/list/list\"], contains = \"of it\" },\n]\n",
    );
    place.file("docs/pages", "17");
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["drill", "app"]).exits(0);
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    fs::write(place.path("gullet.toml"), text.replace("{fact.docs.pages}", "18")).unwrap();
    place.gullet(&["drill", "app"]).exits(1).says("not \"18\"");
    fs::write(place.path("gullet.toml"), text.replace("{fact.docs.pages}", "{fact.nope.pages}")).unwrap();
    place.gullet(&["drill", "app"]).exits(1).says("fact.nope.pages");
}

#[test]
fn what_a_store_has_is_proven_on_any_machine() {
    let desk = Desk::open();
    desk.run().completes();
    let depot = desk.place.text("depot");
    let here = desk.place.json(&["runs"]);
    // A machine with nothing but the program: databases are opened by their engine, and no command of the record is executed.
    let bare = Place::new();
    let scratch = bare.text("scratch");
    let marker = bare.path("executed");
    let drill = bare.gullet(&["drill", "quaybook", "--store", &depot, "--scratch", &scratch]).exits(6);
    for line in ["no definition here has `quaybook`", "restored intact, not proven", "the engine finds it intact"] {
        assert!(drill.out.contains(line) || drill.err.contains(line), "{line}: {}{}", drill.out, drill.err);
    }
    assert!(!drill.out.contains("the desk adds up"), "{}", drill.out);
    let left: Vec<_> = bare.files_below("scratch").into_iter().filter(|path| path.ends_with("bookings.db")).collect();
    assert!(left.is_empty(), "{left:?}");
    // One that has a definition of it asks its own checks.
    bare.define(&format!(
        "[app.quaybook]\nno_hold = 'x'\n[[app.quaybook.part]]\nname = 'a'\ncommand = ['true']\n\
         [app.quaybook.drill]\nchecks = [{{ name = 'the databases are there', run = ['sh', '-c', 'find \"$1\" -name bookings.db | grep -q . && touch \"$0\"', '{}', '{{files}}'] }}]\n",
        marker.display()
    ));
    bare.gullet(&["drill", "quaybook", "--store", &depot, "--scratch", &scratch])
        .exits(0)
        .says("the databases are there")
        .says("✓ proven");
    assert!(marker.is_file());
    assert!(fs::read_dir(bare.path("state")).is_err(), "the state of this machine is another matter");
    // Where it was captured they see it.
    let runs = desk.place.json(&["runs"]);
    assert!(here[0]["proven"].is_null() && runs[0]["proven"].is_string(), "{here} {runs}");
    desk.place.gullet(&["status"]).exits(0).says("last drilled");
    bare.gullet(&["drill", "ledger", "--store", &depot, "--scratch", &scratch]).exits(2);
    let run = runs[0]["run"].as_str().unwrap();
    bare.gullet(&["drill", "ledger", "--run", run, "--store", &depot]).exits(2).says("is one of `quaybook`");
    bare.gullet(&["drill", "quaybook", "--scratch", &scratch]).exits(2);
}
