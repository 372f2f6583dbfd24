//! What parts capture: files with all they have, exports, discoveries, facts, drift.

use std::fs;
use std::process::Command;

use crate::harness::{Mounted, Place};

const FILES: &str = "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n";

fn counts(place: &Place, part: &str) -> [u64; 4] {
    let capture = place.capture(part);
    ["new", "changed", "unchanged", "vanished"].map(|what| capture["counts"][what].as_u64().unwrap())
}

/// Makes files old enough for their marks to be settled.
fn settle() {
    std::thread::sleep(std::time::Duration::from_millis(120));
}

#[test]
fn a_second_run_of_unchanged_files_reads_and_stores_nothing_of_them() {
    let place = Place::with_parts(FILES);
    for number in 0..50 {
        place.file(&format!("docs/{number:03}.txt"), format!("list {number}\n").repeat(1000));
    }
    settle();
    place.gullet(&["run", "app"]).exits(0);
    assert_eq!(counts(&place, "docs"), [50, 0, 0, 0]);
    place.gullet(&["run", "app"]).exits(0);
    let capture = place.capture("docs");
    assert_eq!(counts(&place, "docs"), [0, 0, 50, 0]);
    assert_eq!((capture["counts"]["bytes_read"].as_u64(), capture["counts"]["bytes_new"].as_u64()), (Some(0), Some(0)));
    let record = place.record();
    assert_eq!(record["holdings"]["wrote"], serde_json::json!([]), "nothing is stored, not even the listing");
    assert_eq!(record["holdings"]["needs"].as_array().unwrap().len(), 1);
}

#[test]
fn new_changed_and_vanished_files_are_counted() {
    let place = Place::with_parts(FILES);
    for name in ["a", "b", "c", "d"] {
        place.file(&format!("docs/{name}"), name);
    }
    settle();
    place.gullet(&["run", "app"]).exits(0);
    fs::remove_file(place.path("docs/a")).unwrap();
    place.file("docs/b", "other");
    place.file("docs/e", "new");
    settle();
    place.gullet(&["run", "app"]).exits(0);
    assert_eq!(counts(&place, "docs"), [1, 1, 2, 1]);
}

#[test]
fn a_file_rewritten_with_its_old_times_is_captured_as_it_is() {
    let place = Place::with_parts(FILES);
    let path = place.file("docs/a", "before");
    settle();
    place.gullet(&["run", "app"]).exits(0);
    let times = fs::metadata(&path).unwrap().modified().unwrap();
    fs::write(&path, "after!").unwrap();
    fs::File::options().write(true).open(&path).unwrap().set_modified(times).unwrap();
    place.gullet(&["run", "app"]).exits(0);
    assert_eq!(counts(&place, "docs"), [0, 1, 0, 0]);
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    let restored = place.path("out/files").join(path.strip_prefix("/").unwrap());
    assert_eq!(fs::read_to_string(restored).unwrap(), "after!");
}

#[test]
fn marks_can_be_distrusted() {
    let place = Place::with_parts(FILES);
    place.file("docs/a", "x");
    settle();
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["run", "app"]).exits(0);
    assert_eq!(place.capture("docs")["counts"]["bytes_read"], 0);
    place.gullet(&["run", "app", "--reread"]).exits(0);
    assert_eq!(place.capture("docs")["counts"]["bytes_read"], 1, "--reread distrusts marks");
}

#[test]
fn a_file_changed_through_a_memory_map_between_two_runs_is_read_again() {
    let place = Place::with_parts(FILES);
    let path = place.file("docs/a", vec![b'a'; 8192]);
    settle();
    // The page is dirty and mapped before the first look, and written to again after it without any other call.
    let script = "import mmap,sys,time\nf=open(sys.argv[1],'r+b');m=mmap.mmap(f.fileno(),0);m[0:1]=b'b'\nprint('1',flush=True);sys.stdin.readline();m[0:1]=b'c'\nprint('2',flush=True);sys.stdin.readline()";
    let mut python = Command::new("python3");
    python.args(["-c", script]).arg(&path).stdin(std::process::Stdio::piped()).stdout(std::process::Stdio::piped());
    let mut mapped = python.spawn().unwrap();
    let mut said = std::io::BufReader::new(mapped.stdout.take().unwrap());
    let mut line = String::new();
    std::io::BufRead::read_line(&mut said, &mut line).unwrap();
    settle();
    place.gullet(&["run", "app"]).exits(0);
    let mut stdin = mapped.stdin.take().unwrap();
    std::io::Write::write_all(&mut stdin, b"\n").unwrap();
    std::io::BufRead::read_line(&mut said, &mut line).unwrap();
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    let restored = fs::read(place.path("out/files").join(path.strip_prefix("/").unwrap())).unwrap();
    assert_eq!(char::from(restored[0]), 'c');
    drop(stdin);
    mapped.wait().unwrap();
}

#[test]
fn patterns_leave_out_and_it_is_said() {
    let part = "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\nexclude = [\"*.tmp\", \"cache/**\"]\n";
    let place = Place::with_parts(part);
    for name in ["a.txt", "b.tmp", "sub/c.tmp", "sub/d.txt", "cache/e", "sub/cache/f"] {
        place.file(&format!("docs/{name}"), "x");
    }
    place.gullet(&["run", "app"]).exits(0);
    let capture = place.capture("docs");
    assert_eq!(capture["counts"]["files"], 3, "a.txt, sub/d.txt, sub/cache/f");
    let left: Vec<String> = capture["left_out"]
        .as_array()
        .unwrap()
        .iter()
        .map(|left| format!("{} {}", left["count"], left["why"]))
        .collect();
    assert_eq!(left, ["2 \"excluded by `*.tmp`\"", "1 \"excluded by `cache/**`\""]);
    place.gullet(&["plan", "app"]).exits(0).says("2 excluded by `*.tmp`");
}

#[test]
fn what_is_mounted_below_a_root_is_captured_when_asked_and_else_named() {
    let place = Place::with_parts(FILES);
    place.file("docs/a", "x");
    let _mounted = Mounted::at(&place.path("docs/other"), "1m");
    place.file("docs/other/b", "y");
    place.gullet(&["run", "app"]).exits(0);
    let capture = place.capture("docs");
    assert_eq!(capture["counts"]["files"], 1);
    assert!(
        capture["left_out"].to_string().contains("another filesystem")
            && capture["left_out"].to_string().contains("docs/other")
    );
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    fs::write(place.path("gullet.toml"), text + "cross_mounts = true\n").unwrap();
    place.gullet(&["run", "app"]).exits(0);
    assert_eq!(place.capture("docs")["counts"]["files"], 2);
}

#[test]
fn a_root_on_another_filesystem_than_last_time_fails_its_part() {
    let place = Place::with_parts(FILES);
    let mounted = Mounted::at(&place.path("docs"), "1m");
    place.file("docs/a", "x");
    place.gullet(&["run", "app"]).exits(0);
    drop(mounted);
    // What lies below a mount that is missing is not what was meant.
    place.file("docs/b", "y");
    place.gullet(&["run", "app"]).exits(1).says("another filesystem than last time").says("is something not mounted?");
}

#[test]
fn files_that_vanish_while_they_are_read_are_told_and_stop_nothing() {
    let place = Place::with_parts(FILES);
    for number in 0..3000 {
        place.file(&format!("docs/{number:05}"), "x".repeat(2000));
    }
    // Removes from the end while the run reads from the beginning.
    let script = "while [ ! -e \"$0/../depot/probes\" ]; do :; done; for f in $(ls -r \"$0\" | head -n 2000); do rm \"$0/$f\"; done";
    let mut remover = Command::new("sh").args(["-c", script]).arg(place.path("docs")).spawn().unwrap();
    let ran = place.gullet(&["run", "app"]);
    remover.wait().unwrap();
    assert!(ran.code == 0 || ran.code == 6, "{}{}", ran.out, ran.err);
    let capture = place.capture("docs");
    assert_eq!(ran.code == 6, capture["warnings"].to_string().contains("vanished"), "{}", capture["warnings"]);
    assert!(capture["counts"]["files"].as_u64().unwrap() >= 1000);
    place.gullet(&["verify"]).exits(0);
}

#[test]
fn only_what_is_included() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\ninclude = [\"*.txt\"]\n");
    for name in ["a.txt", "b.bin", "sub/c.txt"] {
        place.file(&format!("docs/{name}"), "x");
    }
    place.gullet(&["run", "app"]).exits(0);
    assert_eq!(place.capture("docs")["counts"]["files"], 2);
}

#[test]
fn the_store_and_what_belongs_to_other_parts_is_not_captured_twice() {
    let parts =
        "[[app.app.part]]\nname = \"all\"\nfiles = [\"@\"]\n[[app.app.part]]\nname = \"db\"\nsqlite = \"@/app.db\"\n";
    let place = Place::with_parts(parts);
    let database = rusqlite::Connection::open(place.path("app.db")).unwrap();
    database.execute_batch("pragma journal_mode = wal; create table t (x); insert into t values (1);").unwrap();
    place.file("other.txt", "x");
    place.gullet(&["run", "app"]).exits(0);
    let capture = place.capture("all");
    let left = capture["left_out"].to_string();
    for text in ["the store itself", "Gullet's own state", "belongs to the part `db`", "app.db-wal"] {
        assert!(left.contains(text), "{text}: {left}");
    }
    let listing = place.gullet(&["show", "app@latest", "--listing", "--part", "all"]).exits(0).out;
    assert!(listing.contains("other.txt") && !listing.contains("app.db") && !listing.contains("store.json"));
}

#[test]
fn a_root_with_nothing_in_it_fails_unless_that_may_be() {
    let place = Place::with_parts(FILES);
    fs::create_dir(place.path("docs")).unwrap();
    place.gullet(&["run", "app"]).exits(1).says("there is nothing in").says("empty = \"ok\"");
    let place = Place::with_parts(&format!("{FILES}empty = \"ok\"\n"));
    fs::create_dir(place.path("docs")).unwrap();
    place.gullet(&["run", "app"]).exits(0);
}

#[test]
fn what_must_be_in_a_part_is_looked_for() {
    let place = Place::with_parts(&format!("{FILES}must_contain = [\"index.json\"]\n"));
    place.file("docs/a", "x");
    place.gullet(&["run", "app"]).exits(1).says("it does not hold index.json");
    place.file("docs/index.json", "{}");
    place.gullet(&["run", "app"]).exits(0);
}

#[test]
fn a_file_that_is_written_to_all_the_while_is_named() {
    let place = Place::with_parts(FILES);
    let path = place.file("docs/busy.log", vec![b'x'; 8 << 20]);
    let mut machine =
        Command::new("sh").args(["-c", "while :; do printf x >> \"$0\"; done"]).arg(&path).spawn().unwrap();
    while fs::metadata(&path).unwrap().len() == 8 << 20 {
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    let ran = place.gullet(&["run", "app"]);
    machine.kill().unwrap();
    machine.wait().unwrap();
    ran.exits(6).says("busy.log changed while it was read");
}

#[test]
fn an_export_must_write_and_a_command_must_succeed() {
    for (part, says) in [
        ("export = { run = [\"true\", \"{scratch}\"] }", "the export succeeded and wrote nothing"),
        (
            "export = { run = [\"sh\", \"-c\", \"echo half > $0/f; echo broken >&2; exit 3\", \"{scratch}\"] }",
            "exit code 3: broken",
        ),
        ("command = [\"sh\", \"-c\", \"echo half; exit 4\"]", "exit code 4"),
        ("command = [\"sleep\", \"9\"]\nlimit = \"200ms\"", "killed at its limit of 200ms"),
    ] {
        let place = Place::with_parts(&format!("[[app.app.part]]\nname = \"p\"\n{part}\n"));
        place.gullet(&["run", "app"]).exits(1).says(says);
        assert_eq!(place.capture("p")["listing"], serde_json::Value::Null, "{part}");
    }
    let place = Place::with_parts("[[app.app.part]]\nname = \"p\"\ncommand = [\"/nonexistent/dump\"]\n");
    place.gullet(&["run", "app"]).exits(4).says("`/nonexistent/dump` is not found");
}

#[test]
fn a_stale_export_is_refused() {
    let part = "[[app.app.part]]\nname = \"p\"\nexport = { run = [\"true\"] }\ncollect = [\"@/dump.sql\"]\n";
    let place = Place::with_parts(part);
    place.file("dump.sql", "old");
    settle();
    place.gullet(&["run", "app"]).exits(1).says("was not written by this export");
    fs::remove_file(place.path("dump.sql")).unwrap();
    place.gullet(&["run", "app"]).exits(1).says("is not there");

    let fresh = Place::with_parts(&part.replace("\"true\"", "\"sh\", \"-c\", \"echo new > @/dump.sql\""));
    fresh.file("dump.sql", "old");
    fresh.gullet(&["run", "app"]).exits(0);
    assert_eq!(fresh.capture("p")["layout"], "source");
}

#[test]
fn nothing_printed_is_a_warning() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"p\"\ncommand = [\"true\"]\n");
    place.gullet(&["run", "app"]).exits(6).says("it has no bytes in it");
}

#[test]
fn hooks_note_facts_warnings_and_lacks() {
    let script = "printf '%s\\\\n' '{\\\"fact\\\":\\\"rows\\\",\\\"value\\\":4211}' '{\\\"omits\\\":\\\"roles\\\"}' '{\\\"warning\\\":\\\"slow\\\"}' > $GULLET_NOTES; echo x > $GULLET_SCRATCH/f";
    let place = Place::with_parts(&format!("[[app.app.part]]\nname = \"p\"\nexport = {{ script = \"{script}\" }}\n"));
    place.gullet(&["run", "app"]).exits(6).says("slow");
    let capture = place.capture("p");
    assert_eq!(capture["facts"]["rows"], 4211);
    assert_eq!(capture["omits"], serde_json::json!(["roles"]));
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0).says("it does not carry roles");
}

#[test]
fn the_parts_there_are_are_asked_for_and_differences_told() {
    let parts = "[[app.app.part]]\nname = \"db-{each.name}\"\neach = { run = [\"cat\", \"@/names\"], min = 1 }\n\
                 command = [\"echo\", \"dump of {each.name}\"]\n";
    let place = Place::with_parts(parts);
    place.file("names", "sales\n{\"name\":\"stock\",\"rows\":3}\n");
    place.gullet(&["run", "app"]).exits(0);
    assert_eq!(place.record()["captures"].as_array().unwrap().len(), 2);
    place.file("names", "sales\nPort Office\n");
    let ran = place.gullet(&["run", "app"]).exits(5);
    let ran = ran.says("`db-Port Office` is new since run").says("`db-stock` is gone since run");
    assert!(ran.out.contains("db-Port Office"));
    place.file("names", "");
    place.gullet(&["run", "app"]).exits(4).says("there are 0, and at least 1 are wanted");
    place.file("names", "../../etc\n");
    place.gullet(&["run", "app"]).exits(4).says("cannot be the name of a part");
}

#[test]
fn an_unsteady_fact_takes_the_capture_again() {
    // The fact changes during the first capture only.
    let part = "[[app.app.part]]\nname = \"p\"\nstable = { fact = \"serial\", run = [\"cat\", \"@/serial\"] }\n\
                command = [\"sh\", \"-c\", \"test -e @/once || echo 2 > @/serial; touch @/once; cat @/serial\"]\n";
    let place = Place::with_parts(part);
    place.file("serial", "1\n");
    place.gullet(&["run", "app"]).exits(0);
    assert_eq!(place.capture("p")["facts"]["serial"], 2);
    let never = Place::with_parts(&part.replace("test -e @/once ||", "").replace("echo 2", "date +%s%N"));
    never.file("serial", "1\n");
    never.gullet(&["run", "app"]).exits(1).says("3 times over");
}

#[test]
fn shrinking_and_too_little_is_told() {
    let part = "[[app.app.part]]\nname = \"p\"\ncommand = [\"cat\", \"@/dump\"]\nfacts = { rows = { run = [\"cat\", \"@/rows\"] } }\n\
                max_shrink = { rows = \"10%\", bytes = \"50%\" }\nmin = { rows = 1 }\n";
    let place = Place::with_parts(part);
    place.file("dump", "x".repeat(1000));
    place.file("rows", "1000");
    place.gullet(&["run", "app"]).exits(0);
    place.file("rows", "850");
    place.gullet(&["run", "app"]).exits(6).says("`rows` fell from 1000 to 850, by more than 10%");
    place.file("dump", "x".repeat(100));
    place.gullet(&["run", "app"]).exits(6).says("`bytes` fell from 1000 to 100");
    place.file("rows", "0");
    place.gullet(&["run", "app"]).exits(1).says("`rows` is 0, and at least 1 is wanted");
}

#[test]
fn a_file_that_is_no_database_is_said_to_be_none() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"db\"\nsqlite = \"@/app.db\"\n");
    place.file("app.db", "this is certainly not a database, but long enough to be taken for one".repeat(100));
    place.gullet(&["run", "app"]).exits(1).says("encrypted, or not an SQLite database");
    place.file("app.db", "");
    place.gullet(&["run", "app"]).exits(1).says("it is not a database yet");
}

#[test]
fn a_damaged_database_fails_the_engines_own_check() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"db\"\nsqlite = \"@/app.db\"\n");
    let database = rusqlite::Connection::open(place.path("app.db")).unwrap();
    database.execute_batch("create table t (x text); create index i on t (x);").unwrap();
    for number in 0..2000 {
        database.execute("insert into t values (?1)", [format!("row {number}")]).unwrap();
    }
    drop(database);
    let mut bytes = fs::read(place.path("app.db")).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle..middle + 600].fill(0xAB);
    fs::write(place.path("app.db"), bytes).unwrap();
    place.gullet(&["run", "app"]).exits(1);
}

#[test]
fn damaged_notes_of_the_last_capture_cost_a_reading_and_nothing_else() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n");
    for number in 0..40 {
        place.file(&format!("docs/list-{number:02}.txt"), format!("list {number}"));
    }
    std::thread::sleep(std::time::Duration::from_millis(120));
    place.gullet(&["run", "app"]).exits(0);
    let found = Command::new("find").arg(place.path("state")).args(["-name", "*.marks"]).output().unwrap();
    let marks = std::path::PathBuf::from(String::from_utf8(found.stdout).unwrap().trim());
    let mut bytes = fs::read(&marks).unwrap();
    let at = bytes.windows(6).position(|window| window == b"\"mode\"").unwrap();
    bytes[at + 7] ^= 1;
    fs::write(&marks, bytes).unwrap();
    // One file changed, so that what is noted of the others is looked at.
    place.file("docs/list-20.txt", "another list");
    place.gullet(&["run", "app"]).exits(0);
    let counts = &place.capture("docs")["counts"];
    assert_eq!(
        (counts["files"].as_u64(), counts["bytes_new"].as_u64().map(|new| new < 20_000)),
        (Some(40), Some(true))
    );
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    let root = place.path("out/files").join(place.path("docs").strip_prefix("/").unwrap());
    for number in 0..40 {
        let name = format!("list-{number:02}.txt");
        assert_eq!(fs::read(root.join(&name)).unwrap(), fs::read(place.path("docs").join(&name)).unwrap());
    }
    std::thread::sleep(std::time::Duration::from_millis(120));
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["run", "app"]).exits(0);
    assert_eq!(place.capture("docs")["counts"]["bytes_read"], 0, "the notes are sound again");
}

#[test]
fn a_path_may_be_written_in_any_way_that_means_it() {
    for written in ["@/docs/", "@//docs", "/@/docs", "@/./docs", "@/docs/."] {
        let place = Place::new();
        place.file("docs/a", "a");
        place.file("docs/sub/b", "b");
        place.define(&format!(
            "[app.app]\nno_hold = \"a test\"\nno_schedule = \"a test\"\n[[app.app.part]]\nname = \"docs\"\nfiles = [\"{written}\"]\n"
        ));
        place.gullet(&["store", "new", "depot"]).exits(0);
        place.gullet(&["run", "app"]).exits(0);
        place.gullet(&["verify"]).exits(0).says("✓ intact: 1 run");
        let only = format!("{}/", place.text("docs/sub"));
        place.gullet(&["restore", "app@latest", "--into", "some", "--path", &only]).exits(0);
        assert_eq!(place.files_below("some").len(), 1, "{written}");
        place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
        let docs = place.text("docs");
        assert_eq!(fs::read(place.path("out/files").join(format!("{}/a", &docs[1..]))).unwrap(), b"a", "{written}");
    }
    let place = Place::new();
    place.define("[app.app]\nno_hold = \"a test\"\n[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs/../docs\"]\n");
    place.gullet(&["plan", "app"]).exits(3).says("write the path without `..`");
}

#[test]
fn many_files_are_captured_again_block_by_block() {
    let place = Place::with_parts(FILES);
    let name = |number: usize| format!("docs/{number:05}-{}.txt", "a long name of a list ".repeat(5));
    for number in 0..4000 {
        place.file(&name(number), format!("list {number}\n"));
    }
    settle();
    place.gullet(&["run", "app"]).exits(0);
    let first = place.capture("docs");
    place.gullet(&["run", "app"]).exits(0);
    let second = place.capture("docs");
    assert_eq!((&second["listing"], second["counts"]["bytes_read"].as_u64()), (&first["listing"], Some(0)));
    assert_eq!(place.record()["holdings"]["wrote"], serde_json::json!([]), "nothing is stored, not even the listing");
    // One that changes, one that comes, one that goes: all others stay as they are.
    place.file(&name(1234), "another list\n");
    place.file(&name(7000), "a new list\n");
    fs::remove_file(place.path(&name(3210))).unwrap();
    settle();
    place.gullet(&["run", "app"]).exits(0);
    assert_eq!(counts(&place, "docs"), [1, 1, 3998, 1]);
    let third = place.capture("docs");
    assert_eq!(third["listing"]["entries"], first["listing"]["entries"]);
    let grown = (third["listing"]["bytes"].as_i64().unwrap() - first["listing"]["bytes"].as_i64().unwrap()).abs();
    assert!(grown < 1000, "the length of a listing is that of all its lines: {grown}");
    place.gullet(&["verify"]).exits(0).says("✓ intact: 3 runs");
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    let docs = place.text("docs");
    let restored = place.path("out/files").join(docs.strip_prefix('/').unwrap());
    let compared = Command::new("diff").arg("-r").args([place.path("docs"), restored]).output().unwrap();
    assert!(compared.status.success(), "{}", String::from_utf8_lossy(&compared.stdout));
}
