//! What is called complete, intact or ok must be so: whatever the clock says, whoever else writes, whatever was removed.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::process::Stdio;

use crate::harness::{Desk, Mounted, Place};

pub const FILES: &str = "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n";

pub fn place() -> Place {
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
    place.gullet(&["verify", "--all-again"]).exits(1).says("damaged");
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
    place.define(&format!("must_be_mounted = true\n[app.app]\nno_hold = \"a test\"\n{FILES}"));
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
    // A server that takes what it is asked and never answers.
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    let location = format!("location = \"{}\"", place.text("depot"));
    let far = format!("location = \"s3://depot/quay\"\nendpoint = \"http://{}\"", silent.local_addr().unwrap());
    assert!(text.contains(&location));
    let keys = place.file("keys", "AWS_ACCESS_KEY_ID=AK\nAWS_SECRET_ACCESS_KEY=SK\n");
    fs::set_permissions(&keys, fs::Permissions::from_mode(0o600)).unwrap();
    let far = format!("{far}\ncredentials = {{ file = \"{}\" }}", keys.display());
    place.file("gullet.toml", text.replace(&location, &far));
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
fn what_a_machine_remarked_upon_the_runs_of_another_is_missed_only_when_it_is_gone() {
    let place = place();
    second_machine(&place);
    place.file("docs-b/only-b.txt", "of b");
    let b = |arguments: &[&str]| place.gullet(&[&["--definition", "b.toml"], arguments].concat());
    b(&["run", "app"]).exits(0);
    place.gullet(&["run", "app"]).exits(0);
    // It is noted of each run that it was read, by whom it is.
    place.gullet(&["verify"]).exits(0);
    for _ in 0..2 {
        place.gullet(&["run", "app"]).exits(0);
        let status = place.gullet(&["status"]);
        assert!(status.code < 2 && !status.out.contains("missing"), "{}", status.out);
    }
    let (theirs, other) = (place.runs()[0].clone(), b(&["status"]));
    let remark = place.files_below(&format!("depot/remarks/app/{}", theirs["machine"].as_str().unwrap())).remove(0);
    fs::rename(&remark, place.path("taken")).unwrap();
    place
        .gullet(&["status"])
        .exits(2)
        .says(remark.file_name().unwrap().to_str().unwrap())
        .says("this machine wrote it");
    assert_eq!(b(&["status"]).code, other.code, "who did not write it knows nothing of it");
    fs::rename(place.path("taken"), &remark).unwrap();
    assert!(place.gullet(&["status"]).code < 2);
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
    assert!(lines[0].ends_with("✓ intact") && lines[1].ends_with("- nothing was captured"), "{full}");
    let quick = place.gullet(&["verify", "--quick"]).exits(0).out;
    assert!(quick.contains("✓ all there") && !quick.contains("intact"), "{quick}");
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
    let outside = "[[app.app.part]]\nname = \"images\"\nrequired = true\n[app.app.part.outside]\nbegin = { run = [\"echo\", \"id-1\"] }\ndone = { run = [\"true\"] }\n";
    place.file("gullet.toml", format!("{text}\n{outside}\n{check}"));
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["drill", "app"]).exits(6).says("images is required, and another system has it");
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
fn damage_that_a_restore_or_a_drill_finds_is_remembered_until_all_is_whole_again() {
    let check = "[app.app.drill]\nchecks = [{ name = \"it is there\", run = [\"grep\", \"-q\", \"alpha\", \"{files}@/docs/a.txt\"] }]\n";
    let place = Place::with_parts(&format!("{FILES}{check}"));
    place.file("docs/a.txt", "alpha ".repeat(2000));
    place.gullet(&["run", "app"]).exits(0);
    let file = place.files_below("depot/payload").remove(0);
    let finders: [(&[&str], i32); 2] = [(&["restore", "app@latest", "--into", "out"], 5), (&["drill", "app"], 1)];
    for (command, code) in finders {
        place.flip(&file, 60);
        place.gullet(command).exits(code);
        let (code, status) = place.status("app");
        assert!(code == 2 && why(&status).contains("no complete run"), "{command:?}: {status}");
        // Every byte is as it was; only who reads all of it may say so.
        place.flip(&file, 60);
        assert_eq!(place.status("app").0, 2);
        place.gullet(&["verify"]).exits(0);
        assert_eq!(place.status("app").0, if command[0] == "drill" { 2 } else { 0 }, "{command:?}");
    }
    // A drill that failed stands until the next one.
    assert_eq!(place.runs()[0]["outcome"], "warnings");
    place.gullet(&["drill", "app"]).exits(0);
    assert_eq!(place.runs()[0]["outcome"], "complete");
    assert_eq!(place.status("app").0, 0);
}
