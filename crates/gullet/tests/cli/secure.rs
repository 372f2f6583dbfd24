//! Short holds: snapshots, clones, copies, the warm copy, parts outside the hold; what they leave behind when a run dies.

use std::fs;
use std::os::unix::process::ExitStatusExt;
use std::process::{Command, Stdio};

use serde_json::Value;

use crate::harness::{Called, Desk, Disk, Mounted, Place, audit};

/// How each part of the newest run was secured.
fn secured(place: &Place) -> Vec<(String, Value)> {
    let record = place.record();
    let captures = record["captures"].as_array().unwrap().iter();
    captures.map(|capture| (capture["part"].as_str().unwrap().to_owned(), capture["secured"].clone())).collect()
}

/// An application that is held by a file; `enter` is more that is done on entering, `app` more of its definition.
fn held(enter: &str, app: &str, parts: &str) -> String {
    format!(
        "[app.app]\n{app}\n[[app.app.hold]]\nname = \"flag\"\n\
         enter = {{ script = '''touch @/held\n{enter}''' }}\nrelease = {{ run = [\"rm\", \"-f\", \"@/held\"] }}\n\
         entered = {{ run = [\"test\", \"-e\", \"@/held\"] }}\nreleased = {{ run = [\"test\", \"!\", \"-e\", \"@/held\"] }}\n{parts}"
    )
}

fn place(disk: Option<&str>, definition: &str) -> (Place, Option<Disk>) {
    let place = Place::new();
    let disk = disk.map(|kind| Disk::at(&place.path("data"), kind));
    fs::create_dir_all(place.path("data/files")).unwrap();
    place.define(definition);
    place.gullet(&["store", "new", "depot"]).exits(0);
    (place, disk)
}

const FILES: &str = "[[app.app.part]]\nname = \"files\"\nfiles = [\"@/data/files\"]\n";

/// Restores the newest run and gives the contents of a file in it.
fn restored(place: &Place, into: &str, file: &str) -> String {
    place.gullet(&["restore", "app@latest", "--into", into]).exits(0);
    let below = place.path(file).strip_prefix("/").unwrap().to_path_buf();
    fs::read_to_string(place.path(into).join("files").join(below)).unwrap()
}

#[test]
fn a_desk_on_btrfs_is_secured_by_a_snapshot_and_on_xfs_by_clones() {
    for (kind, by) in [("btrfs", "snapshot"), ("xfs", "clone")] {
        let place = Place::new();
        let disk = Disk::at(&place.path("desk"), kind);
        // Files of this size are copied; this one is cloned.
        fs::create_dir_all(place.path("desk/manifests")).unwrap();
        fs::write(place.path("desk/manifests/old.json"), vec![b' '; 200_000]).unwrap();
        let desk = Desk::at(place, |definition| definition);
        desk.run().completes().says(&format!("by a {by}"));
        let of = secured(&desk.place);
        for part in ["bookings", "till", "manifests"] {
            assert!(of.contains(&(part.to_owned(), by.into())), "{kind}: {of:?}");
        }
        assert_eq!(disk.hidden(), Vec::<String>::new(), "{kind}: nothing is left");
        audit(&desk.restore("one")).exits(0);
        // What the snapshot or clone was of is known the next time.
        desk.run().completes();
        let files = desk.place.capture("manifests");
        assert!(files["counts"]["unchanged"].as_u64() >= Some(1), "{files}");
        assert!(files["counts"]["bytes_read"].as_u64().unwrap() < 200_000, "{files}");
        audit(&desk.restore("two")).exits(0);
    }
}

#[test]
fn elsewhere_files_are_copied_or_streamed_as_the_definition_says() {
    for (secure, by) in [("auto", "copy".into()), ("copy", "copy".into()), ("stream", Value::Null)] {
        let app = format!("capture_method = \"{secure}\"");
        let (place, _disk) = place(Some("ext4"), &held("", &app, FILES));
        place.file("data/files/list", "aboard");
        place.gullet(&["run", "app"]).exits(0);
        assert_eq!(secured(&place), [("files".to_owned(), by)], "{secure}");
        assert_eq!(restored(&place, "out", "data/files/list"), "aboard");
    }
}

#[test]
fn a_snapshot_that_is_wanted_and_cannot_be_fails_before_anything_is_touched() {
    let (place, _disk) = place(Some("ext4"), &held("echo entered >> @/log", "capture_method = \"snapshot\"", FILES));
    place.file("data/files/list", "aboard");
    place.gullet(&["run", "app"]).exits(1).says("cannot be captured by a snapshot").says("capture_method = \"auto\"");
    assert!(!place.path("log").exists(), "it was never entered");
}

#[test]
fn everything_a_filesystem_has_survives_a_clone_and_a_copy() {
    for kind in ["xfs", "ext4"] {
        let (place, _disk) = place(Some(kind), &held("", "capture_method = \"copy\"", FILES));
        let files = place.path("data/files");
        let script = "cd \"$1\"; truncate -s 3M sparse; printf data | dd of=sparse bs=1 seek=1500000 conv=notrunc status=none
            head -c 300000 /dev/urandom > big; ln big other; ln -s big link; mkfifo pipe; touch empty
            setfattr -n user.note -v hello big; chmod 4711 empty; head -c 100 /dev/urandom > \"$(printf 'odd\\nname')\"";
        let made = Command::new("bash").args(["-ec", script, "-"]).arg(&files).status().unwrap();
        assert!(made.success());
        place.gullet(&["run", "app"]).exits(0);
        place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
        let below = files.strip_prefix("/").unwrap().to_path_buf();
        let look = |folder: &std::path::Path| {
            let script = "cd \"$1\"; find . -printf '%p %y %m %n %T@ %l\\n' | sort; find . -type f -printf '%p %s\\n' | sort; find . -type f -exec sha256sum {} + | sort;
                getfattr -d big; du -k sparse | cut -f1 | awk '{ print ($1 < 100) }'";
            let output = Command::new("bash").args(["-ec", script, "-"]).arg(folder).output().unwrap();
            String::from_utf8_lossy(&output.stdout).into_owned()
        };
        let (before, after) = (look(&files), look(&place.path("out/files").join(below)));
        assert!(before.contains("user.note") && before.lines().count() > 12, "{before}");
        assert_eq!(before, after, "{kind}");
    }
}

/// A database with a log that is not yet put into it, kept so by an open reader.
fn with_a_log(place: &Place, folder: &str) -> std::process::Child {
    let script = format!(
        "import sqlite3, sys, time\nc = sqlite3.connect('{folder}/till.db')\nc.execute('pragma journal_mode = wal')\n\
         c.execute('pragma wal_autocheckpoint = 0')\nc.execute('create table sale (n)')\nc.commit()\n\
         r = sqlite3.connect('{folder}/till.db'); r.execute('begin'); r.execute('select * from sale').fetchall()\n\
         [c.execute('insert into sale values (?)', (n,)) for n in range(700)]\nc.commit()\nprint('ready', flush=True)\ntime.sleep(60)\n",
        folder = place.path(folder).display()
    );
    let mut child = Command::new("python3").args(["-c", &script]).stdout(Stdio::piped()).spawn().unwrap();
    let mut line = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(child.stdout.as_mut().unwrap()), &mut line).unwrap();
    assert_eq!(line, "ready\n");
    child
}

#[test]
fn a_database_with_a_log_is_whole_from_a_snapshot_a_clone_and_a_copy() {
    let part = "[[app.app.part]]\nname = \"till\"\nsqlite = \"@/data/files/till.db\"\n";
    for (kind, by) in [("btrfs", "snapshot"), ("xfs", "clone"), ("ext4", "copy")] {
        let (place, _disk) = place(Some(kind), &held("", "", part));
        let mut machine = with_a_log(&place, "data/files");
        assert!(fs::metadata(place.path("data/files/till.db-wal")).unwrap().len() > 4096);
        let run = place.gullet(&["run", "app"]);
        machine.kill().unwrap();
        machine.wait().unwrap();
        run.exits(0);
        let capture = place.capture("till");
        assert_eq!(
            (&capture["secured"], &capture["facts"]["rows.sale"]),
            (&by.into(), &700.into()),
            "{kind}: {capture}"
        );
    }
}

/// A stand-in for a volume manager: its "snapshot" is a copy made in an instant, as nothing writes meanwhile.
const BY_HOOK: &str = "[app.app.snapshot]\nmake = { run = [\"cp\", \"-a\", \"@/data\", \"@/snap\"] }\n\
                       remove = { run = [\"rm\", \"-rf\", \"@/snap\"] }\nshows = { \"@/data\" = \"@/snap\" }\n";

#[test]
fn a_snapshot_by_commands_is_read_under_the_names_of_the_source_and_removed() {
    let definition = held("", "", &format!("{BY_HOOK}{FILES}"));
    // What is written after the leaving is not in it.
    let definition =
        format!("{definition}[app.app.hooks]\nreleased = [{{ script = 'echo later > @/data/files/list' }}]\n");
    let (place, _) = place(None, &definition);
    place.file("data/files/list", "aboard");
    place.gullet(&["run", "app"]).exits(0).says("snapshot").says("clean up");
    assert_eq!(secured(&place), [("files".to_owned(), "snapshot".into())]);
    assert!(!place.path("snap").exists());
    assert_eq!(restored(&place, "out", "data/files/list"), "aboard");
    assert_eq!(fs::read_to_string(place.path("data/files/list")).unwrap(), "later\n");
}

#[test]
fn a_snapshot_that_cannot_be_made_fails_the_run_or_is_done_without() {
    for (secure, code) in [("snapshot", 1), ("auto", 6)] {
        let hooks = BY_HOOK.replace("make = { run = [\"cp\"", "make = { run = [\"false\"");
        let definition = held("", &format!("capture_method = \"{secure}\""), &format!("{hooks}{FILES}"));
        let (place, _) = place(None, &definition);
        place.file("data/files/list", "aboard");
        place.gullet(&["run", "app"]).exits(code).says("exit code 1");
        assert!(!place.path("held").exists(), "released");
    }
}

/// Runs until the first event that contains `at`, and is killed there.
fn killed_at(place: &Place, app: &str, at: &str) {
    let lines = place.gullet(&["run", app, "--json"]).out;
    let number = lines.lines().position(|line| line.contains(at)).unwrap_or_else(|| panic!("no {at} in {lines}")) + 1;
    let mut command = place.command(&["run", app, "--json"]);
    command.env("GULLET_AT_EVENT", format!("{number}:KILL")).stdout(Stdio::null()).stderr(Stdio::null());
    assert_eq!(command.status().unwrap().signal(), Some(9));
}

fn told_once(place: &Place) -> Called {
    let first = place.gullet(&["runs"]).exits(0);
    let second = place.gullet(&["runs"]).exits(0);
    assert!(!second.err.contains("had staged"), "{}", second.err);
    first
}

#[test]
fn what_a_dead_run_had_staged_is_removed_by_the_next_command_and_told_once() {
    for kind in ["btrfs", "xfs"] {
        let (place, disk) = place(Some(kind), &held("", "", FILES));
        place.file("data/files/list", vec![b'x'; 200_000]);
        killed_at(&place, "app", "\"kind\":\"store\"");
        let disk = disk.unwrap();
        assert_eq!(disk.hidden().len(), 1, "{kind}: {:?}", disk.hidden());
        told_once(&place).says("had staged was removed");
        assert_eq!(disk.hidden(), Vec::<String>::new(), "{kind}");
        place.gullet(&["run", "app"]).exits(0);
    }
}

#[test]
fn a_snapshot_by_commands_of_a_dead_run_is_removed_too() {
    let (place, _) = place(None, &held("", "", &format!("{BY_HOOK}{FILES}")));
    place.file("data/files/list", "aboard");
    killed_at(&place, "app", "\"kind\":\"store\"");
    assert!(place.path("snap").exists());
    told_once(&place).says("had staged was removed");
    assert!(!place.path("snap").exists());
}

#[test]
fn after_the_warm_copy_the_hold_reads_what_changed_and_nothing_else() {
    // On entering one file is written through a memory map whose page was dirty before, one is rewritten with its old times.
    let enter = "python3 - <<'E'\nimport mmap, os\nf = open('@/data/files/mapped', 'r+b')\nm = mmap.mmap(f.fileno(), 0)\n\
                 m[0:4] = b'held'\ns = os.stat('@/data/files/timed')\nopen('@/data/files/timed', 'w').write('held, and longer' [:8])\n\
                 os.utime('@/data/files/timed', ns=(s.st_atime_ns, s.st_mtime_ns))\nE\n";
    for (kind, secure) in [("ext4", "stream"), ("ext4", "auto"), ("btrfs", "auto"), ("xfs", "copy")] {
        let (place, _disk) = place(
            Some(kind),
            &held(enter, &format!("capture_method = \"{secure}\""), &format!("{FILES}precopy = true\n")),
        );
        place.file("data/files/mapped", vec![b'-'; 4096]);
        place.file("data/files/timed", "before!!");
        place.file("data/files/large", vec![b'l'; 3_000_000]);
        std::thread::sleep(std::time::Duration::from_millis(100));
        let run = place.gullet(&["run", "app"]).exits(0).says("precopy");
        assert!(run.out.contains("3 files, 2.9 MiB read"), "{}", run.out);
        let counts = place.capture("files")["counts"].clone();
        let read = counts["bytes_read"].as_u64().unwrap();
        assert_eq!(read, 2 * (4096 + 8) + 3_000_000, "{kind} {secure}: {counts}");
        assert!(restored(&place, "out", "data/files/mapped").starts_with("held"), "{kind} {secure}");
        assert_eq!(restored(&place, "again", "data/files/timed"), "held, an", "{kind} {secure}");
    }
}

#[test]
fn parts_are_captured_before_in_and_after_the_hold_and_the_record_says_so() {
    let part = |when: &str| {
        format!(
            "[[app.app.part]]\nname = \"{when}\"\nwhen = \"{when}\"\ncommand = [\"sh\", \"-c\", \"ls @ | grep -c held || true\"]\n"
        )
    };
    let parts = ["after", "before", "held"].map(part).join("");
    let (place, _) = place(None, &held("", "", &parts));
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    for (when, seen) in [("before", "0\n"), ("held", "1\n"), ("after", "0\n")] {
        let output = place.path(&format!("out/exports/{when}/{when}"));
        assert_eq!(fs::read_to_string(output).unwrap(), seen, "{when}");
    }
    let words: Vec<Value> = ["after", "before", "held"].map(|part| place.capture(part)["when"].clone()).to_vec();
    assert_eq!(words, [Value::from("after"), "before".into(), Value::Null]);
    let run = place.record()["run"].as_str().unwrap().to_owned();
    place.gullet(&["show", &run]).exits(0).says("captured before the hold").says("captured after the hold");
}

#[test]
fn a_disk_that_fills_while_staging_is_told_the_application_released_and_the_space_given_back() {
    let place = Place::new();
    let _small = Mounted::at(&place.path("state"), "6m");
    let definition = held("", "capture_method = \"copy\"", FILES);
    place.define(&definition);
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.file("data/files/list", "aboard");
    place.gullet(&["run", "app"]).exits(0);
    let free = || free_bytes(&place);
    let before = free();
    place.file("data/files/large", vec![b'l'; 12_000_000]);
    place.gullet(&["run", "app"]).exits(1).says("No space left");
    assert!(!place.path("held").exists(), "released");
    assert!(before.abs_diff(free()) < 200_000, "{before} {}", free());
    place.gullet(&["verify"]).exits(0);
    assert_eq!(restored(&place, "out", "data/files/list"), "aboard");
}

/// Free bytes under the state folder.
fn free_bytes(place: &Place) -> u64 {
    let output = Command::new("df").args(["--output=avail", "-B1"]).arg(place.path("state")).output().unwrap();
    String::from_utf8_lossy(&output.stdout).lines().last().unwrap().trim().parse().unwrap()
}
