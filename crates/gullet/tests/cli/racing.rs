//! Files that change while they are captured: what is stored could have been true, or a warning says that it is not.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use crate::harness::{Disk, GULLET, Place};

const FILES: &str = "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n";

/// A file that takes a while to read, and comes first.
fn large(place: &Place, name: &str) {
    let file = fs::File::create(place.path(name)).unwrap();
    file.set_len(0).unwrap();
    let block = vec![7u8; 1 << 20];
    for _ in 0..400 {
        std::io::Write::write_all(&mut (&file), &block).unwrap();
    }
}

/// Starts a run and waits until it has a file open.
fn run_until_it_reads(place: &Place, path: &str) -> Child {
    let child = place.command(&["run", "app"]).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
    let wanted = place.path(path);
    let began = Instant::now();
    let reads = || {
        let mut open = fs::read_dir(format!("/proc/{}/fd", child.id())).into_iter().flatten().flatten();
        open.any(|fd| fs::read_link(fd.path()).is_ok_and(|link| link == wanted))
    };
    while !reads() {
        assert!(began.elapsed() < Duration::from_secs(20), "it never reads {path}");
    }
    child
}

fn restored(place: &Place, out: &str) -> PathBuf {
    place.gullet(&["restore", "app@latest", "--into", out]).exits(0);
    place.path(&format!("{out}/files")).join(place.path("docs").strip_prefix("/").unwrap())
}

#[test]
fn a_name_that_goes_to_another_file_in_the_middle_does_not_change_what_the_other_name_has() {
    let place = Place::with_parts(FILES);
    fs::create_dir(place.path("docs")).unwrap();
    large(&place, "docs/a-large");
    place.file("docs/log.cur", "the old log");
    fs::hard_link(place.path("docs/log.cur"), place.path("docs/log.keep")).unwrap();
    place.file("new", "the new log");
    let child = run_until_it_reads(&place, "docs/a-large");
    fs::rename(place.path("new"), place.path("docs/log.cur")).unwrap();
    let output = child.wait_with_output().unwrap();
    let text = String::from_utf8_lossy(&output.stderr).into_owned();
    let root = restored(&place, "out");
    assert_eq!(fs::read_to_string(root.join("log.keep")).unwrap(), "the old log", "{text}");
    let cur = fs::read_to_string(root.join("log.cur")).unwrap();
    assert!(cur == "the new log" || cur == "the old log", "{cur}");
}

#[test]
fn a_first_name_that_vanishes_leaves_the_contents_to_the_second() {
    let place = Place::with_parts(FILES);
    fs::create_dir(place.path("docs")).unwrap();
    large(&place, "docs/a-large");
    place.file("docs/one", "both names");
    fs::hard_link(place.path("docs/one"), place.path("docs/two")).unwrap();
    let child = run_until_it_reads(&place, "docs/a-large");
    fs::remove_file(place.path("docs/one")).unwrap();
    child.wait_with_output().unwrap();
    assert_eq!(fs::read_to_string(restored(&place, "out").join("two")).unwrap(), "both names");
}

/// What a writer does to its files, over and over. A snapshot may cut off what was written and not yet synced, as a lost power
/// supply does, so beside one the writer syncs before it renames.
fn disturb(folder: &Path, round: u64, syncs: bool) {
    let name = |what: &str, number: u64| folder.join(format!("{what}-{}", number % 5));
    let line = |number: u64| format!("{number:08} ").repeat(3000);
    let _ = match round % 8 {
        // Written elsewhere and renamed: each name has one whole version at any moment.
        0 | 1 => fs::write(folder.join("new"), line(round))
            .and_then(|()| if syncs { fs::File::open(folder.join("new"))?.sync_all() } else { Ok(()) })
            .and_then(|()| fs::rename(folder.join("new"), name("whole", round))),
        // Linked to another name, and taken away from it again.
        2 => {
            let _ = fs::remove_file(name("link", round));
            fs::hard_link(name("whole", round), name("link", round))
        }
        3 => fs::rename(name("link", round), name("moved", round)),
        // In place: what is read of it may be torn, and is warned of.
        4 => fs::write(name("torn", round), line(round)),
        // With holes, cut and extended.
        5 => fs::File::create(name("holes", round)).and_then(|file| {
            file.set_len(1 << 20)?;
            std::os::unix::fs::FileExt::write_all_at(&file, line(round).as_bytes(), 500_000)
        }),
        6 => fs::OpenOptions::new().write(true).open(name("holes", round)).and_then(|file| file.set_len(510_000)),
        _ => fs::remove_file(name("moved", round)),
    };
}

/// Whether contents are one whole version: all lines the same.
fn is_whole(bytes: &[u8]) -> bool {
    bytes.len() == 27_000 && bytes.chunks(9).all(|chunk| chunk == &bytes[..9])
}

fn files_of(root: &Path) -> BTreeMap<String, Vec<u8>> {
    let entries = fs::read_dir(root).unwrap().flatten().filter(|entry| entry.file_type().unwrap().is_file());
    entries.map(|entry| (entry.file_name().to_string_lossy().into_owned(), fs::read(entry.path()).unwrap())).collect()
}

/// Whether a run said that a file changed: by its name, or among so many that not all were named.
fn is_told(err: &str, name: &str) -> bool {
    let more_than_named = |line: &str| {
        let number = line
            .split(": ")
            .find_map(|text| text.strip_suffix(" files changed while the application said that it was held"));
        number.and_then(|number| number.parse::<u32>().ok()).is_some_and(|number| number > 5)
    };
    err.contains(&format!("/{name} changed")) || err.contains("of this kind") || err.lines().any(more_than_named)
}

/// Captures a folder that is being written to, so many times, and compares what comes back with what may be: a name that is
/// always renamed into place is whole, whatever is said.
fn race(place: &Place, docs: &Path, syncs: bool, rounds: u32) {
    let over = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let mut round = 0;
            while !over.load(Ordering::SeqCst) {
                disturb(docs, round, syncs);
                round += 1;
            }
        });
        let result = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
            for round in 0..rounds {
                let run = place.gullet(&["run", "app"]);
                assert!(matches!(run.code, 0 | 6), "round {round}: {} {} {}", run.code, run.out, run.err);
                let out = format!("out-{round}");
                place.gullet(&["restore", "app@latest", "--into", &out]).exits(0);
                let root = place.path(&format!("{out}/files")).join(docs.strip_prefix("/").unwrap());
                for (name, bytes) in files_of(&root) {
                    let may_be = match name.split('-').next() {
                        Some("whole" | "link" | "moved") => is_whole(&bytes),
                        // Written in place. By a snapshot nothing is read twice, and the application had said that it was held.
                        Some("torn") if !syncs => is_whole(&bytes) || bytes.is_empty() || is_told(&run.err, &name),
                        _ => true,
                    };
                    let length = bytes.len();
                    assert!(may_be, "round {round}: {name} is torn, {length} bytes, and nothing was said: {}", run.err);
                }
                fs::remove_dir_all(place.path(&out)).unwrap();
            }
        }));
        over.store(true, Ordering::SeqCst);
        result.unwrap();
    });
    place.gullet(&["verify"]).exits(0);
}

fn racing(method: &str) -> String {
    format!(
        "[app.app]\ncapture_method = \"{method}\"\n[[app.app.hold]]\nname = \"liar\"\nenter = {{ run = [\"touch\", \"@/held\"] }}\n\
         release = {{ run = [\"rm\", \"@/held\"] }}\nentered = {{ run = [\"test\", \"-e\", \"@/held\"] }}\n\
         released = {{ run = [\"test\", \"!\", \"-e\", \"@/held\"] }}\n{FILES}"
    )
}

/// Rounds of each method; many more are run by `scripts/prove.sh`.
fn rounds() -> u32 {
    std::env::var("GULLET_RACES").ok().and_then(|rounds| rounds.parse().ok()).unwrap_or(6)
}

#[test]
fn a_writer_that_races_with_a_stream_and_with_a_copy() {
    for method in ["stream", "copy"] {
        let place = Place::new();
        place.define(&racing(method));
        place.gullet(&["store", "new", "depot"]).exits(0);
        let docs = place.path("docs");
        fs::create_dir(&docs).unwrap();
        race(&place, &docs, false, rounds());
    }
}

#[test]
fn a_writer_that_races_with_clones_and_with_a_snapshot() {
    for (kind, method) in [("xfs", "copy"), ("btrfs", "snapshot")] {
        let place = Place::new();
        let _disk = Disk::at(&place.path("docs-disk"), kind);
        let inner = place.path("docs-disk/docs");
        if kind == "btrfs" {
            let made = Command::new("btrfs").args(["-q", "subvolume", "create"]).arg(&inner).status().unwrap();
            assert!(made.success());
        } else {
            fs::create_dir(&inner).unwrap();
        }
        let text = racing(method).replace("@/docs", "@/docs-disk/docs");
        place.define(&text);
        place.gullet(&["store", "new", "depot"]).exits(0);
        race(&place, &inner, kind == "btrfs", rounds());
    }
}

#[test]
fn a_file_with_holes_that_shrinks_while_it_is_read_can_be_restored() {
    let place = Place::with_parts(FILES);
    fs::create_dir(place.path("docs")).unwrap();
    let sparse = place.path("docs/sparse");
    let file = fs::File::create(&sparse).unwrap();
    file.set_len(900 << 20).unwrap();
    for at in 0..30u64 {
        std::os::unix::fs::FileExt::write_all_at(&file, &vec![at as u8 + 1; 10 << 20], at * (30 << 20)).unwrap();
    }
    let child = run_until_it_reads(&place, "docs/sparse");
    for size in [800u64 << 20, 500 << 20, 120 << 20] {
        file.set_len(size).unwrap();
        std::thread::sleep(Duration::from_millis(30));
    }
    let output = child.wait_with_output().unwrap();
    let text = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(matches!(output.status.code(), Some(0 | 6)), "{text}");
    let root = restored(&place, "out");
    let bytes = fs::read(root.join("sparse")).unwrap();
    assert!(bytes.len() as u64 <= 900 << 20);
    place.gullet(&["verify"]).exits(0);
}

#[test]
fn what_is_rewritten_in_place_at_the_same_length_while_it_is_read_is_told() {
    let place = Place::with_parts(FILES);
    fs::create_dir(place.path("docs")).unwrap();
    large(&place, "docs/a-large");
    let path = place.path("docs/a-large");
    let child = run_until_it_reads(&place, "docs/a-large");
    let over = AtomicBool::new(false);
    let output = std::thread::scope(|scope| {
        scope.spawn(|| {
            let file = fs::OpenOptions::new().write(true).open(&path).unwrap();
            let mut round = 0u64;
            while !over.load(Ordering::SeqCst) {
                round += 1;
                std::os::unix::fs::FileExt::write_all_at(
                    &file,
                    &[round as u8; 4096],
                    (round * 7919 * 4096) % (400 << 20),
                )
                .unwrap();
                std::thread::sleep(Duration::from_millis(1));
            }
        });
        let output = child.wait_with_output().unwrap();
        over.store(true, Ordering::SeqCst);
        output
    });
    let text = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.code() == Some(6) && text.contains("a-large changed while it was read"), "{text}");
}

#[test]
fn one_path_that_cannot_be_read_is_named_and_the_others_are_captured() {
    let place = Place::with_parts(FILES);
    place.file("docs/a", "readable");
    place.file("docs/locked/inside", "not for this account");
    place.file("docs/secret", "not for this account");
    let program = place.path("gullet-of-nobody");
    fs::copy(GULLET, &program).unwrap();
    for (path, mode) in [("", 0o755), ("docs/locked", 0o700), ("docs/secret", 0o600)] {
        fs::set_permissions(place.path(path), fs::Permissions::from_mode(mode)).unwrap();
    }
    fs::create_dir(place.path("state")).unwrap();
    for folder in ["state", "depot"] {
        let owned = Command::new("chown").args(["-R", "nobody"]).arg(place.path(folder)).status().unwrap();
        assert!(owned.success());
    }
    let as_nobody = |arguments: &[&str]| {
        let mut command = Command::new("setpriv");
        command.args(["--reuid=nobody", "--regid=nogroup", "--clear-groups"]).arg(&program).args(arguments);
        command.current_dir(place.path("")).env_clear().env("PATH", "/usr/bin:/bin").stdin(Stdio::null());
        crate::harness::called(command)
    };
    let run = as_nobody(&["run", "app"]).exits(5);
    assert!(
        run.err.contains("docs/secret cannot be read") && run.err.contains("docs/locked cannot be read"),
        "{}",
        run.err
    );
    let runs = as_nobody(&["runs", "--json"]).json();
    let shown = as_nobody(&["show", runs[0]["run"].as_str().unwrap(), "--json"]).json();
    let record = &shown["record"];
    assert_eq!(
        (record["captures"][0]["counts"]["files"].as_u64(), record["captures"][0]["unreadable"].as_u64()),
        (Some(1), Some(2))
    );
    as_nobody(&["status"]).exits(2);
    place.gullet(&["status"]).exits(3).says("belongs to another account");
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    place.file("gullet.toml", text + "unreadable = \"ok\"\n");
    as_nobody(&["run", "app"]).exits(6).says("docs/secret cannot be read");
}

#[test]
fn a_path_longer_than_the_system_takes_at_once_does_not_fail_the_others() {
    let place = Place::with_parts(FILES);
    place.file("docs/a", "short");
    // Any account that may write there can make one, folder by folder.
    let made = Command::new("python3")
        .args(["-c", "import os,sys\nos.chdir(sys.argv[1])\nfor n in range(20):\n os.mkdir('d'*250); os.chdir('d'*250)\nopen('deep','w').write('x')"])
        .arg(place.path("docs"))
        .status()
        .unwrap();
    assert!(made.success());
    place.gullet(&["run", "app"]).exits(5).says("cannot be read: File name too long");
    let id = place.record()["run"].as_str().unwrap().to_owned();
    place.gullet(&["restore", &id, "--into", "out"]);
    let root = place.path("out/files").join(place.path("docs").strip_prefix("/").unwrap());
    assert_eq!(fs::read_to_string(root.join("a")).unwrap(), "short");
    let _ = Command::new("python3")
        .args(["-c", "import shutil,sys\nshutil.rmtree(sys.argv[1])"])
        .arg(place.path("docs"))
        .status();
}

#[test]
fn every_file_is_in_one_part_or_named_as_left_out() {
    let place = Place::with_parts(
        "[[app.app.part]]\nname = \"outer\"\nfiles = [\"@/docs\"]\nexclude = [\"@/docs/tmp\"]\n\
         [[app.app.part]]\nname = \"inner\"\nfiles = [\"@/docs/pictures\"]\ninclude = [\"*.png\"]\nexclude = [\"cache\"]\n",
    );
    for name in [
        "a",
        "tmp/t",
        "pictures/one.png",
        "pictures/notes.txt",
        "pictures/more/two.png",
        "pictures/more/index",
        "pictures/cache/x.txt",
    ] {
        place.file(&format!("docs/{name}"), name);
    }
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    let root = place.path("out/files").join(place.path("docs").strip_prefix("/").unwrap());
    for name in ["a", "pictures/one.png", "pictures/notes.txt", "pictures/more/two.png", "pictures/more/index"] {
        assert_eq!(fs::read_to_string(root.join(name)).unwrap(), name);
    }
    assert!(!root.join("tmp").exists() && !root.join("pictures/cache").exists());
    let outer = place.capture("outer").to_string();
    assert!(outer.contains("belongs to the part `inner`") && outer.contains("excluded by"), "{outer}");
    let (outer, inner) = (place.capture("outer"), place.capture("inner"));
    assert_eq!((outer["counts"]["files"].as_u64(), inner["counts"]["files"].as_u64()), (Some(3), Some(2)));
}

#[test]
fn a_pattern_that_matches_nothing_is_said() {
    let place = Place::with_parts(
        "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\nexclude = [\"cahce\", \"*.tmp\"]\n",
    );
    place.file("docs/cache/a", "x");
    place.gullet(&["plan", "app"]).exits(0).says("nothing matches the pattern `cahce`");
    let checked = place.gullet(&["preflight", "app"]).says("nothing matches `cahce`");
    assert!(!checked.out.contains("nothing matches `*.tmp`"), "{}", checked.out);
    fs::remove_dir_all(place.path("docs")).unwrap();
    place.gullet(&["plan", "app"]).exits(4);
}

#[test]
fn output_that_may_be_cut_is_a_warning() {
    let place = Place::with_parts(
        "[[app.app.part]]\nname = \"p\"\ncommand = [\"sh\", \"-c\", \"echo first; (sleep 3; echo late) & exit 0\"]\n",
    );
    place.gullet(&["run", "app"]).exits(6).says("its output may be cut");
}

#[test]
fn a_source_that_is_unmounted_while_it_is_captured_fails_the_part() {
    let place = Place::new();
    place.define("[app.app]\nno_hold = \"a test\"\n[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n");
    place.gullet(&["store", "new", "depot"]).exits(0);
    let _mounted = crate::harness::Mounted::at(&place.path("docs"), "500m");
    large(&place, "docs/a-large");
    place.file("docs/z", "comes after it");
    let child = run_until_it_reads(&place, "docs/a-large");
    Command::new("umount").arg("-l").arg(place.path("docs")).status().unwrap();
    let output = child.wait_with_output().unwrap();
    let text = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.code() == Some(1) && text.contains("was it unmounted or replaced?"), "{text}");
}
