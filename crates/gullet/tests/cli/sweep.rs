//! Giving runs up, sweeping, retiring and rebuilding: nothing needed is ever gone.

use std::fs;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::Duration;

use crate::harness::{Mounted, Place};

const FILES: &str = "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n";

/// Bytes without a pattern (xorshift64).
pub fn noise(length: usize, seed: u64) -> Vec<u8> {
    let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
    let mut bytes = Vec::with_capacity(length + 8);
    while bytes.len() < length {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        bytes.extend_from_slice(&state.to_le_bytes());
    }
    bytes.truncate(length);
    bytes
}

fn stored(place: &Place) -> u64 {
    let found = Command::new("du").arg("-sb").arg(place.path("depot/payload")).output().unwrap();
    String::from_utf8(found.stdout).unwrap().split_whitespace().next().unwrap().parse().unwrap()
}

pub fn payload(place: &Place) -> Vec<PathBuf> {
    let found = Command::new("find").arg(place.path("depot/payload")).args(["-type", "f"]).output().unwrap();
    String::from_utf8(found.stdout).unwrap().lines().map(PathBuf::from).collect()
}

/// Who this machine is.
fn machine(place: &Place) -> String {
    let file: serde_json::Value = serde_json::from_slice(&fs::read(place.path("state/machine.json")).unwrap()).unwrap();
    file["machine"].as_str().unwrap().to_owned()
}

fn run(place: &Place) -> String {
    place.gullet(&["run", "app"]).exits(0);
    place.record()["run"].as_str().unwrap().to_owned()
}

#[track_caller]
fn restores(place: &Place, run: &str, expected: &[(&str, &[u8])]) {
    let out = format!("out-{run}-{}", expected.len());
    let _ = fs::remove_dir_all(place.path(&out));
    place.gullet(&["restore", run, "--into", &out]).exits(0);
    let root = place.path(&format!("{out}/files")).join(place.path("docs").strip_prefix("/").unwrap());
    for (name, bytes) in expected {
        assert_eq!(fs::read(root.join(name)).unwrap(), *bytes, "{name} of {run}");
    }
}

/// A store with two runs: the first has eleven files, the second only one of them.
fn two_runs() -> (Place, String, String, Vec<u8>) {
    let place = Place::with_parts(FILES);
    let (first, second, kept) = shrunk(&place);
    (place, first, second, kept)
}

/// Runs once with eleven files and once with one of them; gives both runs and that one's contents.
fn shrunk(place: &Place) -> (String, String, Vec<u8>) {
    let kept = noise(3 << 20, 1);
    place.file("docs/kept", &kept);
    for number in 2..12 {
        place.file(&format!("docs/gone-{number}"), noise(3 << 20, number));
    }
    let first = run(place);
    for number in 2..12 {
        fs::remove_file(place.path(&format!("docs/gone-{number}"))).unwrap();
    }
    (first, run(place), kept)
}

#[test]
fn thinning_is_shown_first_and_keeps_the_newest() {
    let (place, first, second, kept) = two_runs();
    let before = stored(&place);
    let nothing = place.gullet(&["store", "sweep", "depot"]).exits(0).says("✓ nothing to remove");
    assert!(!nothing.err.contains("--yes"), "{}", nothing.err);
    place.gullet(&["thin", "--run", &second, "--reason", "test"]).exits(4).says("it is the newest complete one");
    place.gullet(&["thin", "--run", &first, "--reason", "test"]).exits(0).says("nothing was changed");
    assert_eq!(stored(&place), before);
    place.gullet(&["thin", "--run", &first, "--reason", "test data", "--yes"]).exits(0).says("removed");
    assert!(stored(&place) < before / 3, "{} of {before} left", stored(&place));
    restores(&place, &second, &[("kept", &kept)]);
    place.gullet(&["verify"]).exits(0).says("only its record is left");
    place.gullet(&["restore", &first, "--into", "gone"]).exits(4);
    place.gullet(&["show", &first]).exits(0).says("its captures were removed").says("test data");
    place.gullet(&["runs"]).exits(0).says("removed: only its record is left");
    place.gullet(&["thin", "--run", &first, "--reason", "again"]).exits(4).says("thinned already");
    // What was written anew is known again: nothing is stored twice.
    let third = run(&place);
    assert_eq!(place.record()["captures"][0]["counts"]["bytes_new"], 0);
    restores(&place, &third, &[("kept", &kept)]);
}

#[test]
fn a_sweep_that_is_killed_anywhere_loses_nothing() {
    let (place, first, second, kept) = two_runs();
    // Given up, and not swept yet: a run that goes on keeps sweeps away, so the remark alone is written.
    let lock = fs::File::open(place.path("state/locks/sweep")).unwrap();
    rustix::fs::flock(&lock, rustix::fs::FlockOperation::LockShared).unwrap();
    place.gullet(&["thin", "--run", &first, "--reason", "test", "--yes"]).exits(0).says("nothing is removed now");
    drop(lock);
    let copy = |from: &str, to: &str| {
        let _ = fs::remove_dir_all(place.path(to));
        let done = Command::new("cp").arg("-a").arg(place.path(from)).arg(place.path(to)).status().unwrap();
        assert!(done.success());
    };
    copy("depot", "depot.kept");
    copy("state", "state.kept");
    let files = || -> Vec<String> {
        let relative = |path: PathBuf| path.strip_prefix(place.path("depot")).unwrap().display().to_string();
        place.files_below("depot").into_iter().map(relative).collect()
    };
    let before = files();
    let mut in_the_middle = 0;
    for round in 0..60 {
        if round >= 20 && in_the_middle >= 5 {
            break;
        }
        copy("depot.kept", "depot");
        copy("state.kept", "state");
        let mut sweep = place.command(&["store", "sweep", "depot", "--yes"]);
        let mut sweep = sweep.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        // Every other kill waits for the first change in the store, so that some come in the middle however fast this is.
        if round % 2 == 0 {
            while files() == before && sweep.try_wait().unwrap().is_none() {}
        } else {
            std::thread::sleep(Duration::from_millis(4 * round));
        }
        let _ = sweep.kill();
        let was_killed = !sweep.wait().unwrap().success();
        in_the_middle += u32::from(was_killed && files() != before);
        place.gullet(&["verify"]).exits(0);
        restores(&place, &second, &[("kept", &kept)]);
        place.gullet(&["store", "sweep", "depot", "--yes"]).exits(0);
        place.gullet(&["verify"]).exits(0);
        restores(&place, &second, &[("kept", &kept)]);
    }
    assert!(in_the_middle >= 3, "only {in_the_middle} kills came in the middle of the work");
    assert!(stored(&place) < 5 << 20);
}

#[test]
fn what_a_dead_run_left_is_swept_and_a_damaged_record_stops_the_sweep() {
    let (place, _, second, kept) = two_runs();
    let machine = place.record()["machine"].as_str().unwrap().to_owned();
    let left = place.file(&format!("depot/payload/{machine}/deadrun/000000.zst"), noise(1000, 99));
    place.gullet(&["store", "sweep", "depot"]).exits(0).says("1 payload file").says("nothing was changed");
    assert!(left.exists());
    let record = Command::new("find").arg(place.path("depot/records")).args(["-name", "*.json"]).output().unwrap();
    let record = PathBuf::from(String::from_utf8(record.stdout).unwrap().lines().next().unwrap());
    let whole = fs::read(&record).unwrap();
    fs::write(&record, b"{}").unwrap();
    place.gullet(&["store", "sweep", "depot", "--yes"]).exits(4).says("nothing is removed");
    assert!(left.exists());
    fs::write(&record, whole).unwrap();
    place.gullet(&["store", "sweep", "depot", "--yes"]).exits(0);
    assert!(!left.exists());
    restores(&place, &second, &[("kept", &kept)]);
}

#[test]
fn a_machine_with_public_keys_only_removes_whole_files_and_stores_the_rest_anew() {
    let (place, _) = Place::sealed_with_parts(FILES);
    let (first, second, kept) = shrunk(&place);
    let thinned = place.gullet(&["thin", "--run", &first, "--reason", "test", "--yes"]).exits(0);
    thinned.says("stored anew by the next run");
    let third = run(&place);
    assert_eq!(place.record()["captures"][0]["counts"]["bytes_new"], 3 << 20, "it lay in a mostly dead file");
    place.gullet(&["thin", "--run", &second, "--reason", "test", "--yes"]).exits(0);
    assert!(stored(&place) < 4 << 20, "{}", stored(&place));
    let out = ["restore", &third, "--into", "out", "--identity", "safe.key"];
    place.gullet(&out).exits(0);
    let root = place.path("out/files").join(place.path("docs").strip_prefix("/").unwrap());
    assert_eq!(fs::read(root.join("kept")).unwrap(), kept);
}

#[test]
fn machines_write_to_one_store_at_once_and_a_retired_one_is_swept_with_a_delay() {
    let first = Place::with_parts(FILES);
    let places: Vec<Place> = (0..3)
        .map(|number| {
            let place = Place::new();
            let text = fs::read_to_string(first.path("gullet.toml")).unwrap();
            let text = text.replace(&first.text("state"), &place.text("state"));
            place.file("gullet.toml", text.replace(&first.text("docs"), &place.text("docs")));
            place.file("docs/own", noise(2 << 20, number));
            place.file("docs/same", noise(1 << 20, 77));
            place
        })
        .collect();
    std::thread::scope(|scope| {
        for place in &places {
            scope.spawn(move || {
                for turn in 0..6u64 {
                    place.file("docs/turn", noise(500_000, 1000 + turn));
                    place.gullet(&["run", "app"]).exits(0);
                    let runs = place.json(&["runs"]);
                    let machine = machine(place);
                    let own = runs.as_array().unwrap().iter();
                    let own: Vec<_> = own.filter(|run| run["record"].as_str().unwrap().contains(&machine)).collect();
                    if own.len() > 2 {
                        let oldest = own[own.len() - 3]["run"].as_str().unwrap();
                        place.gullet(&["thin", "--run", oldest, "--reason", "turn", "--yes"]).exits(0);
                    }
                }
            });
        }
    });
    first.gullet(&["verify", "--store", &first.text("depot")]).exits(0);
    // The third machine is gone for good.
    let gone = machine(&places[2]);
    let of_gone = |place: &Place| payload(place).iter().filter(|path| path.to_string_lossy().contains(&gone)).count();
    let before = of_gone(&first);
    let own = machine(&places[0]);
    places[0].gullet(&["store", "sweep", "depot", "--yes", "--retire", &own]).exits(4).says("this machine's own");
    places[0].gullet(&["store", "sweep", "depot", "--yes", "--retire", &gone]).exits(0).says("may be removed from");
    assert_eq!(of_gone(&first), before, "not before the delay is over");
    first.file(&format!("depot/payload/{gone}/dead/000000.zst"), "left by a dead run");
    places[0].gullet(&["store", "sweep", "depot", "--yes", "--delay", "0s"]).exits(0);
    assert_eq!(of_gone(&first), before, "what its runs need stays");
    // It was not gone after all: it goes on as another machine.
    places[2].gullet(&["run", "app"]).exits(0).says("was retired as a machine");
    assert_ne!(machine(&places[2]), gone);
    first.gullet(&["verify", "--store", &first.text("depot")]).exits(0);
}

#[test]
fn a_lost_state_comes_back_from_the_store() {
    let (place, _, second, kept) = two_runs();
    let machine = place.record()["machine"].as_str().unwrap().to_owned();
    let before = stored(&place);
    fs::remove_dir_all(place.path("state")).unwrap();
    place.gullet(&["store", "rebuild", "depot"]).exits(2).says(&machine);
    place.gullet(&["store", "rebuild", "depot", "--machine", &machine]).exits(0).says("2 runs");
    run(&place);
    let record = place.record();
    assert_eq!(
        (record["machine"].as_str(), record["captures"][0]["counts"]["bytes_new"].as_u64()),
        (Some(&*machine), Some(0))
    );
    assert!(record["previous"].as_str().unwrap().contains(&second));
    assert!(stored(&place) < before + 4096);
    restores(&place, &second, &[("kept", &kept)]);
    // Once it has written under one id it takes no other.
    place.gullet(&["store", "rebuild", "depot", "--machine", "nobody"]).exits(2);
}

#[test]
fn a_full_store_is_thinned_and_swept() {
    let place = Place::new();
    let _disk = Mounted::at(&place.path("depot"), "12m");
    place.define(&format!("[app.app]\nno_hold = \"a test\"\n{FILES}"));
    place.gullet(&["store", "new", "depot"]).exits(0);
    let contents = |turn: u64| noise(4 << 20, turn);
    place.file("docs/all", contents(1));
    let first = run(&place);
    place.file("docs/all", contents(2));
    let second = run(&place);
    place.file("docs/all", contents(3));
    place.gullet(&["run", "app"]).exits(1).says("make room in the store");
    place.gullet(&["thin", "--run", &first, "--reason", "the disk is full", "--yes"]).exits(0);
    let third = run(&place);
    restores(&place, &second, &[("all", &contents(2))]);
    restores(&place, &third, &[("all", &contents(3))]);
    place.gullet(&["verify"]).exits(0);
}

#[test]
fn verification_in_its_depths() {
    let (place, _, second, _) = two_runs();
    place.gullet(&["verify", "--quick"]).exits(0).says("nothing was read");
    let record = place.json(&["runs"]).as_array().unwrap().last().unwrap()["record"].as_str().unwrap().to_owned();
    let hash = record.trim_end_matches(".json").rsplit('-').next().unwrap().to_owned();
    place.gullet(&["verify", "--quick", "--anchor", &hash]).exits(0).says("so are 1 before it");
    let wrong = hash.replace(&hash[..2], if hash.starts_with("ab") { "cd" } else { "ab" });
    place.gullet(&["verify", "--quick", "--anchor", &wrong]).exits(1).says("no record has this hash");
    place.gullet(&["verify", "--anchor", "short"]).exits(2);
    // Shares prove everything in turn; when the turn is over the runs are proven.
    let files = payload(&place).len();
    assert_eq!(place.json(&["status"])["applications"][0]["verified"], serde_json::Value::Null);
    for _ in 0..files {
        place.gullet(&["verify", "--share", "1%"]).exits(0).says("✓ intact");
    }
    assert_ne!(place.json(&["status"])["applications"][0]["verified"], serde_json::Value::Null);
    let file = payload(&place).into_iter().max_by_key(|path| fs::metadata(path).unwrap().len()).unwrap();
    let bytes = fs::read(&file).unwrap();
    fs::write(&file, &bytes[..bytes.len() - 1]).unwrap();
    place.gullet(&["verify", "--quick", &second]).exits(1).says("bytes instead of");
}
