//! A restore in place at its limits: no room, a swap that is open, an undo that does not start, hard links.

use std::fs;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::harness::{Desk, Mounted, Place};
use crate::place::{FILES, GO, documents, kill_both, look, stopped_in_the_swap};

#[test]
fn without_room_for_both_states_nothing_is_touched() {
    let place = Place::with_parts(FILES);
    let _mounted = Mounted::at(&place.path("small"), "6m");
    fs::create_dir(place.path("small/docs")).unwrap();
    std::os::unix::fs::symlink("small/docs", place.path("docs")).unwrap();
    let noise: Vec<u8> = (0..3_500_000_u32).map(|n| n.wrapping_mul(0x9E37_79B9).to_be_bytes()[0]).collect();
    place.file("docs/big", noise);
    place.file("docs/a", "small");
    place.gullet(&["run", "app"]).exits(0);
    place.file("docs/since", "made since");
    let changed = look(&place.path("small/docs"));
    place.gullet(&GO).exits(1).says("free at").says("which is written beside the old one");
    assert_eq!(look(&place.path("small/docs")), changed);
    assert_eq!(fs::read_dir(place.path("small")).unwrap().count(), 1, "nothing is left beside it");
    // What is selected needs no more room than it has itself.
    place.file("docs/a", "changed since");
    place.gullet(&[&GO[..], &["--path", &place.text("docs/a")]].concat()).exits(0);
    assert_eq!(fs::read_to_string(place.path("docs/a")).unwrap(), "small");
    assert_eq!(fs::read_to_string(place.path("docs/since")).unwrap(), "made since");
    place.gullet(&["restore", "app", "--discard-old", "--yes"]).exits(0);
    // Full in the middle of the writing: each of these takes twice its length on the disk.
    fs::remove_file(place.path("docs/big")).unwrap();
    let script = "for n in $(seq 400); do head -c 4097 /dev/urandom > \"$0/$n\"; done";
    assert!(Command::new("sh").args(["-c", script]).arg(place.path("docs")).status().unwrap().success());
    place.gullet(&["run", "app"]).exits(0);
    let changed = look(&place.path("small/docs"));
    place.gullet(&GO).exits(1).says("so nothing was touched");
    assert_eq!(look(&place.path("small/docs")), changed);
    assert_eq!(fs::read_dir(place.path("small")).unwrap().count(), 1, "what was written is removed again");
}

#[test]
fn while_a_swap_is_open_nothing_is_written_anew_nor_removed() {
    let desk = Desk::open();
    desk.run().completes();
    let mark = desk.place.file("desk/manifests/mark", "of the old state");
    let (restore, guard) = stopped_in_the_swap(&desk);
    kill_both(restore, guard);
    // Somebody works in the folder, so that the old state cannot be put back.
    let mut sleeper = Command::new("sleep");
    let mut sleeper =
        sleeper.arg("120").current_dir(desk.place.path("desk/manifests")).stdin(Stdio::null()).spawn().unwrap();
    let continued = desk.place.gullet(&["restore", "quaybook", "--continue", "--yes"]);
    sleeper.kill().unwrap();
    sleeper.wait().unwrap();
    continued.exits(1).says("something still uses it").says("the swap is still open");
    desk.place.gullet(&["runs"]).exits(0).says("it is released now");
    desk.wait_for("serving");
    assert!(mark.exists(), "the old state was not lost");
}

#[test]
fn an_undo_after_which_it_does_not_start_is_not_over_and_what_may_be_the_only_good_state_is_kept() {
    // It starts on what has the line `new`, and on nothing else while `broken` is there.
    let stop = "[app.app.restore]\nstop = { run = [\"touch\", \"@/stopped\"] }\nstopped = { run = [\"test\", \"-e\", \"@/stopped\"] }\n\
                start = { script = \"[ -e @/broken ] || rm -f @/stopped\" }\nstarted = { run = [\"test\", \"!\", \"-e\", \"@/stopped\"], within = \"300ms\" }\n\
                at_boot = \"stay stopped\"\n";
    let (place, _, _) = documents(stop);
    place.gullet(&["restore", "app", "--in-place", "--yes"]).exits(0);
    place.file("broken", "");
    place.gullet(&["restore", "app", "--undo", "--yes"]).exits(7).says("it does not start");
    place.gullet(&["status"]).exits(2).says("did not start on the old state");
    place.gullet(&["restore", "app", "--discard-old", "--yes"]).exits(4).says("may be the only good one");
    place.gullet(&["run", "app"]).exits(4).says("is not captured");
    let again = place.gullet(&["restore", "app", "--undo", "--yes"]);
    assert_ne!(again.code, 0, "{}", again.out);
    let held = place.gullet(&["release"]);
    assert!(!held.out.contains(" h "), "no limit of a year is shown: {}", held.out);
    fs::remove_file(place.path("broken")).unwrap();
    let began = Instant::now();
    while place.path("stopped").exists() {
        assert!(began.elapsed().as_secs() < 60, "its guard does not start it");
        std::thread::sleep(Duration::from_millis(20));
    }
    let began = Instant::now();
    while place.gullet(&["restore", "app", "--undo", "--yes"]).code != 0 {
        assert!(began.elapsed().as_secs() < 60);
        std::thread::sleep(Duration::from_millis(200));
    }
    place.gullet(&["restore", "app", "--discard-old", "--yes"]).exits(0);
    place.gullet(&["run", "app"]).exits(0);
}

#[test]
fn hard_links_between_roots_are_told_and_those_within_one_are_kept() {
    use std::os::unix::fs::MetadataExt;
    let place = Place::with_parts("[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\", \"@/more\"]\n");
    place.file("docs/a", "one file");
    fs::create_dir(place.path("more")).unwrap();
    for name in ["b", "c"] {
        fs::hard_link(place.path("docs/a"), place.path("more").join(name)).unwrap();
    }
    place.gullet(&["run", "app"]).exits(0);
    let inode = |path: &str| fs::metadata(place.path(path)).unwrap().ino();
    place.file("docs/a", "changed");
    let call = place.gullet(&GO).exits(6);
    assert!(call.err.contains("the hard link to a name that is not restored beside it"), "{}", call.err);
    assert!(call.err.contains("on 1 path: ") && call.err.contains("more/b"), "{}", call.err);
    assert_eq!(fs::read_to_string(place.path("more/c")).unwrap(), "one file");
    assert_eq!(inode("more/b"), inode("more/c"));
    assert_ne!(inode("docs/a"), inode("more/b"));
    // What is asked for by itself comes by itself, and as one file.
    let more = place.path("more");
    let out = place.path("out");
    let [into, only] = [&out, &more].map(|path| path.to_str().unwrap());
    place.gullet(&["restore", "app", "--into", into, "--path", only]).exits(0);
    let out = out.join("files").join(more.strip_prefix("/").unwrap());
    assert_eq!(fs::metadata(out.join("b")).unwrap().ino(), fs::metadata(out.join("c")).unwrap().ino());
}

#[test]
fn a_service_is_stopped_for_a_restore_as_it_is_for_a_hold() {
    let place = Place::new();
    let hold = "[[app.app.hold]]\nname = \"service\"\nenter = { run = [\"touch\", \"@/off\"] }\nrelease = { script = \"date >> @/starts; rm -f @/off\" }\n\
                entered = { run = [\"test\", \"-e\", \"@/off\"] }\nreleased = { run = [\"test\", \"!\", \"-e\", \"@/off\"] }\n\
                [[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n";
    let define = |restore: &str| {
        place.define(&format!("[app.app]\n{hold}[app.app.restore]\nat_boot = \"stay stopped\"\n{restore}\n"));
    };
    define("like_hold = \"service\"");
    place.file("docs/a", "good");
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["run", "app"]).exits(0);
    place.file("docs/a", "bad");
    let used = place.gullet(&["show", "app@latest", "--definition-used"]).exits(0);
    assert!(!used.out.contains("like_hold"), "it has the commands in its place, and can be read again: {}", used.out);
    let plan = place.gullet(&["restore", "app@latest", "--in-place", "--plan"]);
    plan.says(&format!("touch {}", place.text("off")));
    place.gullet(&["restore", "app@latest", "--in-place", "--yes"]).exits(0);
    assert_eq!(fs::read_to_string(place.path("docs/a")).unwrap(), "good");
    assert_eq!(
        fs::read_to_string(place.path("starts")).unwrap().lines().count(),
        2,
        "one of the hold, one of the restore"
    );
    assert!(!place.path("off").exists());
    define("like_hold = \"servise\"");
    place.gullet(&["plan", "app"]).exits(3).says("there is no hold step `servise`").says("hold steps: service");
    define("like_hold = \"service\"\nstop = { run = [\"true\"] }\nstart = { run = [\"true\"] }");
    place.gullet(&["plan", "app"]).exits(3).says("either `like_hold` or `stop`, not both");
}

#[test]
fn parts_that_each_makes_keep_their_paths_when_another_part_comes_back() {
    let place = Place::with_parts(
        "[[app.app.part]]\nname = \"all\"\nfiles = [\"@/shelf\"]\n\
         [[app.app.part]]\nname = \"book-{each.name}\"\nfiles = [\"@/shelf/{each.name}\"]\n\
         each = { run = [\"printf\", \"north\\nsouth\\n\"] }\n",
    );
    for name in ["list", "north/a", "south/a"] {
        place.file(&format!("shelf/{name}"), "as it was");
    }
    place.gullet(&["run", "app"]).exits(0);
    for name in ["list", "north/a", "north/since"] {
        place.file(&format!("shelf/{name}"), "changed since");
    }
    let compared = place.json(&["compare", "app", "--now"]);
    let tally = |part: &str| {
        let parts = compared["parts"].as_array().unwrap().iter();
        let part = parts.clone().find(|one| one["part"] == part).unwrap();
        (part["tally"]["added"].as_u64().unwrap(), part["tally"]["changed"].as_u64().unwrap())
    };
    assert_eq!((tally("all"), tally("book-north"), tally("book-south")), ((0, 1), (1, 1), (0, 0)), "{compared}");
    // What belongs to another part is neither brought back nor set aside with it.
    place.gullet(&[&GO[..], &["--part", "all", "--accept", "parts"]].concat()).exits(0);
    let is = |name: &str| fs::read_to_string(place.path(&format!("shelf/{name}"))).unwrap_or_default();
    assert_eq!(
        (is("list"), is("north/a"), is("north/since")),
        ("as it was".into(), "changed since".into(), "changed since".into())
    );
    place.gullet(&["restore", "app", "--discard-old", "--yes"]).exits(0);
    place.gullet(&[&GO[..], &["--part", "book-north", "--accept", "parts", "--set-aside-extra"]].concat()).exits(0);
    assert_eq!(
        (is("north/a"), is("north/since"), is("south/a")),
        ("as it was".into(), String::new(), "as it was".into())
    );
}
