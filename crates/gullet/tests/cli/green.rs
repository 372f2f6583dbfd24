//! What is called complete, intact or ok must be so: whatever the clock says, whoever else writes, whatever was removed.

use std::fs;
use std::process::{Command, Stdio};

use crate::harness::{Desk, Mounted, Place};

const FILES: &str = "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n";

fn place() -> Place {
    let place = Place::with_parts(FILES);
    place.file("docs/a.txt", "alpha ".repeat(2000));
    place.file("docs/b.txt", "beta ".repeat(2000));
    place
}

fn why(status: &serde_json::Value) -> String {
    status["reasons"].to_string()
}

#[test]
fn a_verification_by_a_clock_that_was_ahead_hides_nothing_later() {
    let place = place();
    place.gullet(&["run", "app"]).exits(0);
    place.gullet_at("+400d", &["verify"]).exits(0);
    let file = place.files_below("depot/payload").remove(0);
    place.flip(&file, 60);
    place.gullet(&["verify"]).exits(1).says("damaged");
    place.flip(&file, 60);
    place.gullet_at("+400d", &["verify"]).exits(0);
    place.flip(&file, 60);
    place.gullet(&["verify", "--afresh"]).exits(1).says("damaged");
    place.flip(&file, 60);
    place.gullet_at("+400d", &["verify", "--share", "100%"]).exits(0);
    place.flip(&file, 60);
    place.gullet(&["verify", "--share", "100%"]).exits(1).says("damaged");
}

#[test]
fn a_key_that_does_not_open_a_run_does_not_make_it_damaged() {
    let (place, _) = Place::sealed_with_parts(FILES);
    place.file("docs/a.txt", "alpha ".repeat(2000));
    place.gullet(&["run", "app"]).exits(0);
    place.json(&["key", "new", "other.key"]);
    place.gullet(&["verify", "--identity", "other.key"]).exits(0);
    assert_eq!(place.runs()[0]["outcome"], "complete");
    place.gullet(&["verify", "--identity", "safe.key"]).exits(0);
    let file = place.files_below("depot/payload").remove(0);
    place.flip(&file, 300);
    place.gullet(&["verify", "--identity", "other.key"]).exits(1).says("damaged");
}

#[test]
fn a_store_that_is_unmounted_during_a_run_gets_nothing_and_neither_does_what_is_below_it() {
    let place = Place::new();
    place.define(
        "[app.app]\nno_hold = \"a test\"\n[[app.app.part]]\nname = \"printed\"\n\
         command = [\"sh\", \"-c\", \"umount -l @/depot; echo x\"]\n",
    );
    let mounted = Mounted::at(&place.path("depot"), "20m");
    place.gullet(&["store", "new", "depot"]).exits(0);
    let run = place.gullet(&["run", "app"]);
    assert!(run.code == 1, "{} {}", run.out, run.err);
    run.says("is not the one that was opened");
    assert_eq!(place.files_below("depot"), Vec::<std::path::PathBuf>::new(), "nothing below the mount point");
    drop(mounted);
}

#[test]
fn a_store_that_must_be_mounted_and_is_not_is_neither_made_nor_written_to() {
    let place = Place::new();
    place.define(&format!("mounted = true\n[app.app]\nno_hold = \"a test\"\n{FILES}"));
    place.file("docs/a.txt", "alpha");
    place.gullet(&["store", "new", "depot"]).exits(4).says("is not a mount point").says("mount it");
    assert!(!place.path("depot").exists());
    let refused = place.gullet(&["run", "app"]).exits(4).says("is not a mount point").says("mount it");
    assert!(!refused.err.contains("store new"), "{}", refused.err);
    // One that lies there by mistake does not even get the record.
    place.gullet(&["store", "new", &place.text("depot")]).exits(0);
    place.gullet(&["run", "app"]).exits(4).says("is not a mount point");
    assert_eq!(place.files_below("depot").len(), 1, "only store.json");
}

#[test]
fn a_strangers_store_does_not_get_the_record_of_a_refused_run() {
    let place = place();
    place.gullet(&["run", "app"]).exits(0);
    fs::rename(place.path("depot"), place.path("mine")).unwrap();
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["run", "app"]).exits(4).says("is another one than before");
    assert_eq!(place.files_below("depot").len(), 1, "only store.json");
    fs::remove_dir_all(place.path("depot")).unwrap();
    fs::rename(place.path("mine"), place.path("depot")).unwrap();
    place.gullet(&["run", "app"]).exits(0);
    let outcomes: Vec<_> = place.runs().iter().map(|run| run["outcome"].clone()).collect();
    assert_eq!(outcomes, ["complete", "refused", "complete"]);
    place.gullet(&["verify"]).exits(0);
}

#[test]
fn a_run_that_was_refused_while_the_store_was_away_is_intact_once_it_is_back() {
    let place = place();
    place.gullet(&["run", "app"]).exits(0);
    fs::rename(place.path("depot"), place.path("away")).unwrap();
    place.gullet(&["run", "app"]).exits(4);
    place.gullet(&["run", "app"]).exits(4);
    fs::rename(place.path("away"), place.path("depot")).unwrap();
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["verify"]).exits(0);
    let runs = place.runs();
    let records: Vec<_> = runs.iter().map(|run| run["record"].as_str().unwrap()).collect();
    assert_eq!(records.len(), 4);
    for pair in records.windows(2) {
        let record: serde_json::Value =
            serde_json::from_slice(&fs::read(place.path("depot").join(pair[1])).unwrap()).unwrap();
        assert_eq!(record["previous"], pair[0], "one chain, in the order of the runs");
    }
    place.gullet(&["status"]).exits(0);
}

#[test]
fn status_ages_and_misses_what_was_removed() {
    let place = place();
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["status"]).exits(0);
    place.gullet_at("+30d", &["status"]).exits(2).says("30 days old");
    let payload = place.path("depot/payload");
    fs::rename(&payload, place.path("away")).unwrap();
    place.gullet(&["status"]).exits(2).says("missing");
    fs::rename(place.path("away"), &payload).unwrap();
    place.gullet(&["status"]).exits(0);
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    let define = |more: &str, status: &str| {
        let text = text.replace("no_hold = \"a test\"", &format!("no_hold = \"a test\"\n{more}"));
        place.file("gullet.toml", format!("{text}\n{status}"));
    };
    define("expected_every = \"1h\"", "");
    place.gullet_at("+2h", &["status"]).exits(2);
    let checks =
        "[app.app.drill]\nchecks = [{ name = \"alpha\", run = [\"grep\", \"-rq\", \"alpha\", \"{files}\"] }]\n";
    define(
        "expected_every = \"1w\"",
        &format!("{checks}[status]\nverified_within = \"1w\"\ndrilled_within = \"1w\"\n"),
    );
    let (code, status) = place.status("app");
    assert_eq!(code, 1, "{status}");
    place.gullet(&["verify"]).exits(0);
    place.gullet(&["drill", "app"]).exits(0);
    let (code, status) = place.status("app");
    assert_eq!(code, 0, "{status}");
}

#[test]
fn status_answers_in_time_when_the_store_does_not() {
    let place = place();
    place.gullet(&["run", "app"]).exits(0);
    // Opening a pipe that nobody writes to waits for ever, as a network that went away does.
    fs::remove_file(place.path("depot/store.json")).unwrap();
    Command::new("mkfifo").arg(place.path("depot/store.json")).status().unwrap();
    let began = std::time::Instant::now();
    place.gullet(&["status"]).exits(3).says("did not answer in time");
    assert!(began.elapsed() < std::time::Duration::from_secs(10), "{:?}", began.elapsed());
}

/// A second machine: another state folder on the same store, with the same application, whose files lie in `docs-b`.
pub fn second_machine(place: &Place) {
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    place.file("b.toml", text.replace("/state\"", "/state-b\"").replace("/docs\"", "/docs-b\""));
}

#[test]
fn two_machines_with_an_application_of_one_name_are_told_apart() {
    let place = place();
    second_machine(&place);
    place.file("docs-b/only-b.txt", "of b");
    place.gullet(&["run", "app"]).exits(0);
    let b = |arguments: &[&str]| place.gullet(&[&["--definition", "b.toml"], arguments].concat());
    b(&["status"]).exits(2).says("never been run");
    b(&["restore", "app", "--into", "out-none"]).exits(2).says("no complete run by this machine");
    b(&["run", "app"]).exits(0);
    let runs = place.runs();
    assert_ne!(runs[0]["machine"], runs[1]["machine"]);
    place.gullet(&["restore", "app@latest", "--into", "out-a"]).exits(0);
    b(&["restore", "app", "--into", "out-b"]).exits(0);
    let names = |folder: &str| -> Vec<String> {
        let files = place.files_below(folder);
        files.iter().map(|path| path.file_name().unwrap().to_string_lossy().into_owned()).collect()
    };
    assert_eq!(names("out-a/files"), ["a.txt", "b.txt"]);
    assert_eq!(names("out-b/files"), ["only-b.txt"]);
    // On a bare machine neither is simply the latest, and each can be named.
    let store = place.text("depot");
    place.gullet(&["restore", "app", "--into", "out-c", "--store", &store]).exits(2).says("several machines");
    let named = format!("{}:app@latest", runs[1]["machine"].as_str().unwrap());
    place.gullet(&["restore", &named, "--into", "out-c", "--store", &store]).exits(0);
    assert_eq!(names("out-c/files"), ["only-b.txt"]);
    place.gullet(&["restore", &named, "--into", "out-d"]).exits(0);
    assert_eq!(names("out-d/files"), ["only-b.txt"]);
}

#[test]
fn a_run_by_a_clock_that_was_ahead_neither_stays_the_newest_nor_makes_a_second_machine() {
    let place = place();
    place.gullet(&["run", "app"]).exits(0);
    place.gullet_at("+400d", &["run", "app"]).exits(0);
    place.file("docs/c.txt", "later");
    let run = place.gullet(&["run", "app"]).exits(6).says("one of them is wrong");
    assert!(!run.err.contains("copy"), "{}", run.err);
    let runs = place.runs();
    assert_eq!(runs.len(), 3);
    assert!(runs.iter().all(|run| run["machine"] == runs[0]["machine"]), "it is one machine");
    assert_eq!(runs[2]["run"], place.record()["run"], "the last one that was made is the last one shown");
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    let files = place.files_below("out/files");
    assert!(files.iter().any(|path| path.ends_with("c.txt")), "{files:?}");
    // A later failure shows, and so does that the clock was wrong.
    fs::remove_dir_all(place.path("docs")).unwrap();
    place.gullet(&["run", "app"]).exits(1);
    let (code, status) = place.status("app");
    assert_eq!((code, status["last"]["run"].as_str()), (2, place.runs()[3]["run"].as_str()));
}

#[test]
fn the_last_complete_run_being_from_the_future_is_said() {
    let place = place();
    place.gullet_at("+400d", &["run", "app"]).exits(0);
    let (code, status) = place.status("app");
    assert!(code == 2 && why(&status).contains("in the future"), "{status}");
}

#[test]
fn a_record_or_a_remark_that_was_removed_is_missed() {
    let place = place();
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["verify"]).exits(0);
    let records = place.files_below("depot/records");
    let newest = records.last().unwrap();
    let remark = place.files_below("depot/remarks").remove(0);
    for gone in [newest, &remark] {
        let bytes = fs::read(gone).unwrap();
        fs::remove_file(gone).unwrap();
        place.gullet(&["verify"]).exits(1).says("is missing").says(gone.file_name().unwrap().to_str().unwrap());
        let (code, status) = place.status("app");
        assert!(code == 2 && why(&status).contains("is missing"), "{status}");
        // What only a missing record needs must not be taken for what nobody needs.
        if gone == newest {
            place.gullet(&["store", "sweep", "depot", "--yes"]).exits(4).says("is missing");
        }
        fs::write(gone, bytes).unwrap();
    }
    // On a bare machine the remark about it still tells.
    let bytes = fs::read(newest).unwrap();
    fs::remove_file(newest).unwrap();
    place.gullet(&["verify", "--store", &place.text("depot")]).exits(1).says("is missing");
    fs::write(newest, bytes).unwrap();
    place.gullet(&["verify"]).exits(0);
}

#[test]
fn a_record_or_remark_under_another_name_is_not_accepted() {
    let place = place();
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["verify"]).exits(0);
    let record = place.files_below("depot/records").remove(0);
    let name = record.file_name().unwrap().to_str().unwrap().to_owned();
    let folder = record.parent().unwrap();
    // As of another time: the hash at the end is right.
    let later = folder.join(format!("2031{}", &name[4..]));
    let machine = folder.file_name().unwrap();
    let other = place.path("depot/records/other").join(machine).join(&name);
    fs::create_dir_all(other.parent().unwrap()).unwrap();
    for copy in [later, other] {
        fs::copy(&record, &copy).unwrap();
        place.gullet(&["verify"]).exits(1).says("it is a copy");
        assert_eq!(place.runs().len(), 1);
        fs::remove_file(copy).unwrap();
    }
    let remark = place.files_below("depot/remarks").remove(0);
    let elsewhere = remark.parent().unwrap().with_file_name("aaaaaaaaaa");
    fs::create_dir_all(&elsewhere).unwrap();
    fs::copy(&remark, elsewhere.join(remark.file_name().unwrap())).unwrap();
    place.gullet(&["verify"]).exits(1).says("it is a copy");
}

#[test]
fn what_is_to_be_encrypted_is_never_stored_in_clear_because_a_key_is_none() {
    let (place, public) = Place::sealed_with_parts(FILES);
    place.file("docs/a.txt", "alpha");
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    place.file("gullet.toml", text.replace(&public, &public[..20]));
    place.gullet(&["run", "app"]).exits(3);
    place.file("gullet.toml", text);
    place.gullet(&["run", "app"]).exits(0);
    // A record that somebody changed to name what is no key.
    let record = place.files_below("depot/records").remove(0);
    let changed = fs::read_to_string(&record).unwrap().replace(&public, "age1nothing");
    let temporary = place.file("changed", &changed);
    let mut python = Command::new("python3");
    python.args(["-c", "import blake3,sys;print(blake3.blake3(open(sys.argv[1],'rb').read()).hexdigest())"]);
    let output = python.arg(&temporary).output().unwrap();
    let hash = String::from_utf8(output.stdout).unwrap().trim().to_owned();
    let name = record.file_name().unwrap().to_str().unwrap();
    let stem = name.rsplit_once('-').unwrap().0.to_owned();
    fs::remove_file(&record).unwrap();
    fs::write(record.with_file_name(format!("{stem}-{hash}.json")), &changed).unwrap();
    let before = place.files_below("depot/remarks").len();
    let verified = place.gullet(&["verify"]);
    assert_ne!(verified.code, 0, "{}", verified.out);
    assert_eq!(place.files_below("depot/remarks").len(), before, "nothing was said of it in clear");
}

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
fn accounts_are_those_that_the_system_knows_and_not_only_those_of_its_file() {
    let place = place();
    place.define(
        "[app.app]\nno_hold = \"a test\"\n[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n\
         [[app.app.part]]\nname = \"who\"\nexport = { script = \"id -u > $GULLET_SCRATCH/who\", as = \"of-the-directory\" }\n",
    );
    place.gullet(&["run", "app"]).exits(4).says("there is no account `of-the-directory`");
    let chown = Command::new("chown").arg("65534:71235").arg(place.path("docs/a.txt")).status().unwrap();
    assert!(chown.success());
    // A library that answers as a directory would.
    place.file("passwd", "root:x:0:0::/root:/bin/sh\nof-the-directory:x:65534:71235::/nowhere:/bin/false\n");
    place.file("group", "root:x:0:\npilots:x:71235:\n");
    let libraries = fs::read_dir("/usr/lib").unwrap().flatten().map(|entry| entry.path().join("libnss_wrapper.so"));
    let library = libraries.into_iter().find(|path| path.exists()).expect("libnss-wrapper is installed");
    let mut command = place.command(&["run", "app"]);
    command.env("LD_PRELOAD", library).env("NSS_WRAPPER_PASSWD", place.path("passwd"));
    command.env("NSS_WRAPPER_GROUP", place.path("group"));
    crate::harness::called(command).exits(0);
    assert_eq!(place.capture("docs")["users"][1]["name"], "of-the-directory");
    let groups = place.capture("docs")["groups"].clone();
    assert!(groups.as_array().unwrap().iter().any(|group| group["name"] == "pilots"), "{groups}");
    place.gullet(&["restore", "app", "--part", "who", "--into", "out"]).exits(0);
    assert_eq!(fs::read_to_string(place.path("out/exports/who/who")).unwrap(), "65534\n");
}

#[test]
fn what_started_a_run_that_died_is_in_its_record_all_the_same() {
    let place = place();
    let mut command = place.command(&["run", "app", "--trigger", "the night timer"]);
    let killed = command.env("GULLET_AT_EVENT", "4:KILL").stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap();
    assert!(!killed.success());
    place.gullet(&["runs"]).exits(0).says("died before its end");
    place.gullet(&["run", "app"]).exits(0);
    let first = place.runs().remove(0)["run"].as_str().unwrap().to_owned();
    assert_eq!(place.json(&["show", &first])["record"]["trigger"], "the night timer");
}

#[test]
fn a_verification_says_no_more_than_it_looked_at() {
    let place = place();
    place.gullet(&["run", "app"]).exits(0);
    fs::rename(place.path("docs"), place.path("away")).unwrap();
    place.gullet(&["run", "app"]).exits(1);
    let full = place.gullet(&["verify"]).exits(0).out;
    let lines: Vec<&str> = full.lines().collect();
    assert!(lines[0].ends_with("✓ sound") && lines[1].ends_with("- nothing was captured"), "{full}");
    let quick = place.gullet(&["verify", "--quick"]).exits(0).out;
    assert!(quick.contains("✓ all there") && !quick.contains("sound"), "{quick}");
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
fn a_moment_names_the_newest_run_at_or_before_it() {
    let place = place();
    place.gullet_at("-3d", &["run", "app"]).exits(0);
    place.file("docs/c.txt", "later");
    place.gullet(&["run", "app"]).exits(0);
    let runs = place.runs();
    let shown = |spec: &str| place.gullet(&["show", spec, "--json"]).exits(0).json()["record"]["run"].clone();
    assert_eq!(shown("app@yesterday"), runs[0]["run"]);
    let day = |run: usize| runs[run]["started"].as_str().unwrap()[..10].to_owned();
    assert_eq!(shown(&format!("app@{}", day(1))), runs[1]["run"]);
    assert_eq!(shown(&format!("app@{}T00:00", day(1))), runs[0]["run"]);
    place.gullet(&["show", "app@yesterday"]).exits(0).says("(UTC) is run");
    place.gullet(&["show", "app@2020-01-01"]).exits(2).says("there is no run");
    let only = |arguments: &[&str]| place.json(&[&["runs"], arguments].concat()).as_array().unwrap().len();
    assert_eq!((only(&["--since", "yesterday"]), only(&["--until", "yesterday"])), (1, 1));
    place.gullet(&["runs", "--since", "soon"]).exits(2);
}

#[test]
fn a_desk_that_is_held_by_hand_is_not_ok() {
    let desk = Desk::open();
    desk.run().completes();
    desk.place.gullet(&["hold", "quaybook", "--limit", "2m"]).exits(0);
    let (code, status) = desk.place.status("quaybook");
    assert!(code == 1 && why(&status).contains("held by hand"), "{status}");
    desk.place.gullet(&["release", "quaybook"]).exits(0);
    assert_eq!(desk.place.status("quaybook").0, 0);
}

#[test]
fn a_drill_without_anybody_who_opens_it_is_not_called_proven() {
    let part = "[[app.app.part]]\nname = \"export\"\ncommand = [\"echo\", \"x\"]\n";
    let place = Place::with_parts(&format!("{FILES}{part}"));
    place.file("docs/a", "x");
    place.gullet(&["run", "app"]).exits(0);
    let drill =
        place.gullet(&["drill", "app"]).exits(6).says("restored intact, not proven").says("export that nobody opened");
    assert!(!drill.out.contains("✓ proven"), "{}", drill.out);
    assert!(place.runs()[0]["proven"].is_null());
    assert_ne!(place.status("app").0, 2, "nothing failed");
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    let check = "[app.app.drill]\nchecks = [{ name = \"it is x\", run = [\"grep\", \"-q\", \"x\", \"{exports}/export/export\"] }]\n";
    place.file("gullet.toml", format!("{text}\n{check}"));
    place.gullet(&["drill", "app"]).exits(0).says("✓ proven");
    assert!(place.runs()[0]["proven"].is_string());
    // What is kept by another system and is required was not restored at all.
    let outside = "[[app.app.part]]\nname = \"images\"\nmust = true\n[app.app.part.outside]\nbegin = { run = [\"echo\", \"id-1\"] }\ndone = { run = [\"true\"] }\n";
    place.file("gullet.toml", format!("{text}\n{outside}\n{check}"));
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["drill", "app"]).exits(6).says("images is required, and other machinery has it");
}

#[test]
fn what_can_be_known_beforehand_refuses_a_run_before_anything_is_held() {
    let place = Place::new();
    let define = |more: &str| {
        place.define(&format!(
            "[app.app]\n[[app.app.hold]]\nname = \"one\"\nenter = {{ run = [\"touch\", \"@/held\"] }}\nleave = {{ run = [\"rm\", \"@/held\"] }}\n\
             entered = {{ run = [\"test\", \"-e\", \"@/held\"] }}\nleft = {{ run = [\"test\", \"!\", \"-e\", \"@/held\"] }}\n{more}"
        ));
    };
    define(&format!("{FILES}[app.app.hooks]\nsucceeded = [{{ run = [\"/nowhere/purge\"] }}]\n"));
    place.file("docs/a", "x");
    place.gullet(&["store", "new", "depot"]).exits(0);
    let refused = place.gullet(&["run", "app"]).exits(4).says("/nowhere/purge");
    assert!(!refused.out.contains("enter"), "{}", refused.out);
    define("[[app.app.part]]\nname = \"docs\"\nmust = true\nfiles = [\"@/gone\"]\n");
    place.gullet(&["run", "app"]).exits(3).says("is a must");
    drop(place);
    let place = Place::new();
    let _disk = Mounted::at(&place.path("depot"), "1m");
    place.define(&format!("[app.app]\nno_hold = \"a test\"\n{FILES}"));
    fs::create_dir(place.path("docs")).unwrap();
    fs::File::create(place.path("docs/large")).unwrap().set_len(1 << 30).unwrap();
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
    let mut first = place.command(&["run", "app"]).stdout(std::process::Stdio::null()).spawn().unwrap();
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
fn a_quiet_run_that_went_well_says_nothing_and_another_names_its_application() {
    let place = place();
    let quiet = place.gullet(&["run", "app", "-q"]).exits(0);
    assert_eq!((quiet.out.as_str(), quiet.err.as_str()), ("", ""));
    fs::remove_dir_all(place.path("docs")).unwrap();
    place.gullet(&["run", "app", "-q"]).exits(1).says("app: ✗ failed");
    assert_eq!(place.json(&["show", "app@latest"])["record"]["trigger"], "by hand");
}

#[test]
fn nothing_that_is_stored_or_restored_of_an_export_can_be_read_by_others() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"p\"\ncommand = [\"echo\", \"private\"]\n");
    place.gullet(&["run", "app"]).exits(0);
    let mode = |path: &std::path::Path| {
        use std::os::unix::fs::PermissionsExt;
        fs::metadata(path).unwrap().permissions().mode() & 0o077
    };
    for path in place.files_below("depot") {
        assert_eq!(mode(&path), 0, "{}", path.display());
    }
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    assert_eq!(mode(&place.path("out/exports/p/p")), 0);
}

#[test]
fn a_restore_lets_nobody_in_by_what_a_folder_hands_down() {
    let place = place();
    let acl = |path: &std::path::Path| {
        let output = Command::new("getfacl").args(["-cp"]).arg(path).output().unwrap();
        String::from_utf8(output.stdout).unwrap()
    };
    Command::new("chmod").arg("640").arg(place.path("docs/a.txt")).status().unwrap();
    Command::new("mkfifo").arg(place.path("docs/pipe")).status().unwrap();
    place.gullet(&["run", "app"]).exits(0);
    fs::create_dir(place.path("out")).unwrap();
    Command::new("setfacl").args(["-m", "default:user:nobody:rwx"]).arg(place.path("out")).status().unwrap();
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    for path in place.files_below("out") {
        assert!(!acl(&path).contains("nobody"), "{}: {}", path.display(), acl(&path));
    }
    let restored = place.files_below("out").into_iter().find(|path| path.ends_with("a.txt")).unwrap();
    assert_eq!(acl(&restored), acl(&place.path("docs/a.txt")));
    for folder in restored.ancestors().skip(1).take_while(|folder| !folder.ends_with("out")) {
        assert!(!acl(folder).contains("nobody"), "{}: {}", folder.display(), acl(folder));
    }
}

#[test]
fn what_others_may_write_is_not_trusted() {
    let place = place();
    place.gullet(&["run", "app"]).exits(0);
    let chmod = |mode: &str, name: &str| {
        assert!(Command::new("chmod").arg(mode).arg(place.path(name)).status().unwrap().success());
    };
    chmod("777", "state");
    place.gullet(&["run", "app"]).exits(4).says("cannot be trusted");
    place.gullet(&["status"]).exits(3).says("cannot be trusted");
    chmod("700", "state");
    chmod("666", "gullet.toml");
    place.gullet(&["run", "app"]).exits(3).says("others could change it");
    chmod("644", "gullet.toml");
    place.file("hooks/hook", "#!/bin/sh\nexit 0\n");
    chmod("755", "hooks/hook");
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    let hook = place.text("hooks/hook");
    place.file("gullet.toml", format!("{text}[app.app.hooks]\nbefore = [{{ run = [\"{hook}\"] }}]\n"));
    place.gullet(&["run", "app"]).exits(0);
    chmod("777", "hooks");
    place.gullet(&["run", "app"]).exits(4).says("would run as root, and others could change it");
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
fn a_foreign_record_cannot_command_a_terminal() {
    let place = place();
    place.gullet(&["run", "app"]).exits(0);
    let record = place.files_below("depot/records").remove(0);
    let text = fs::read_to_string(&record).unwrap();
    let mut value: serde_json::Value = serde_json::from_str(&text).unwrap();
    for field in ["name", "system", "account"] {
        value["host"][field] = "\u{1b}]0;taken\u{7}\u{1b}[2J".into();
    }
    let changed = place.file("changed", serde_json::to_vec(&value).unwrap());
    let mut python = Command::new("python3");
    python.args(["-c", "import blake3,sys;print(blake3.blake3(open(sys.argv[1],'rb').read()).hexdigest())"]);
    let hash = String::from_utf8(python.arg(&changed).output().unwrap().stdout).unwrap().trim().to_owned();
    let name = record.file_name().unwrap().to_str().unwrap().rsplit_once('-').unwrap().0.to_owned();
    fs::remove_file(&record).unwrap();
    fs::rename(&changed, record.with_file_name(format!("{name}-{hash}.json"))).unwrap();
    let store = place.text("depot");
    let run = value["run"].as_str().unwrap();
    for arguments in [&["runs"][..], &["show", run], &["restore", "app"], &["verify"]] {
        let call = place.gullet(&[arguments, &["--store", &store]].concat());
        assert!(
            !call.out.contains('\u{1b}') && !call.err.contains('\u{1b}'),
            "{arguments:?}: {}{}",
            call.out,
            call.err
        );
        assert!(!call.out.contains('\u{7}') && !call.err.contains('\u{7}'));
    }
}
