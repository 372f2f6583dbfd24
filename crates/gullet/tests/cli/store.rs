//! The store through the program: made on purpose only, damage found and named, full disks survived.

use std::fs;
use std::path::PathBuf;
use std::process::Command;

use crate::harness::{Desk, Mounted, Place};

const FILES: &str = "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n";

fn payload(place: &Place) -> Vec<PathBuf> {
    let output = Command::new("find").arg(place.path("depot/payload")).args(["-type", "f"]).output().unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    let mut files: Vec<PathBuf> = text.lines().map(PathBuf::from).collect();
    files.sort();
    files
}

fn flip(path: &PathBuf, at: usize) {
    let mut bytes = fs::read(path).unwrap();
    bytes[at] ^= 0x40;
    fs::write(path, bytes).unwrap();
}

#[test]
fn a_run_never_makes_a_store_nor_takes_another_one() {
    let place = Place::new();
    place.define(&format!("[app.app]\nno_hold = \"a test\"\n{FILES}"));
    place.file("docs/a", "x");
    place.gullet(&["run", "app"]).exits(4).says("there is no store").says("gullet store new depot");
    assert!(!place.path("depot").exists());
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["store", "new", "depot"]).exits(4).says("is not empty");
    place.gullet(&["run", "app"]).exits(0);
    fs::rename(place.path("depot"), place.path("elsewhere")).unwrap();
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["run", "app"]).exits(4).says("is another one than before");
}

#[test]
fn the_record_of_a_refused_run_waits_for_the_store() {
    let place = Place::with_parts(FILES);
    place.file("docs/a", "x");
    fs::rename(place.path("depot"), place.path("away")).unwrap();
    place.gullet(&["run", "app"]).exits(4).says("the record waits in");
    fs::rename(place.path("away"), place.path("depot")).unwrap();
    let runs = place.json(&["runs"]);
    assert_eq!((runs[0]["outcome"].as_str(), runs[0]["in_store"].as_bool()), (Some("refused"), Some(false)));
    place.gullet(&["run", "app"]).exits(0);
    let runs = place.json(&["runs"]);
    assert_eq!(runs.as_array().unwrap().len(), 2);
    assert_eq!(runs[0]["in_store"], true, "the next run brought it there");
}

#[test]
fn damage_is_found_named_noted_and_stored_anew() {
    let place = Place::with_parts(FILES);
    place.file("docs/a.txt", "alpha ".repeat(5000));
    place.file("docs/b.txt", "beta ".repeat(5000));
    std::thread::sleep(std::time::Duration::from_millis(120));
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["verify"]).exits(0).says("✓ intact");
    let file = payload(&place).remove(0);
    let whole = fs::read(&file).unwrap();
    flip(&file, 60);
    let verified = place.gullet(&["verify"]).exits(1).says("✗ damaged").says("docs");
    assert!(verified.out.contains("a.txt") || verified.out.contains("b.txt") || verified.out.contains("listing"));
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(2).says("no complete run");
    place.gullet(&["status"]).exits(2);
    // The files did not change, and are read and stored again all the same.
    place.gullet(&["run", "app"]).exits(0);
    let capture = place.capture("docs");
    assert_eq!(capture["counts"]["bytes_read"], 30_000 + 25_000);
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    fs::write(&file, whole).unwrap();
    place.gullet(&["verify"]).exits(0);
}

#[test]
fn no_flipped_byte_is_missed_and_none_is_restored_silently() {
    let place = Place::with_parts(FILES);
    place.file("docs/a.txt", "alpha ".repeat(300));
    place.file("docs/b.bin", (0..=255u8).cycle().take(4000).map(|b| b.wrapping_mul(31)).collect::<Vec<_>>());
    place.gullet(&["run", "app"]).exits(0);
    let run = place.record()["run"].as_str().unwrap().to_owned();
    let file = payload(&place).remove(0);
    let length = fs::read(&file).unwrap().len();
    let store = place.text("depot");
    for step in 0..200 {
        let at = step * length / 200;
        flip(&file, at);
        place.gullet(&["verify", "--store", &store]).exits(1);
        let out = format!("out-{step}");
        let restored = place.gullet(&["restore", &run, "--into", &out, "--store", &store]);
        let root = place.path(&format!("{out}/files")).join(place.path("docs").strip_prefix("/").unwrap());
        for name in ["a.txt", "b.bin"] {
            if let Ok(bytes) = fs::read(root.join(name)) {
                assert_eq!(bytes, fs::read(place.path("docs").join(name)).unwrap(), "flip at {at}: {name}");
            } else {
                assert_ne!(restored.code, 0, "flip at {at}: {name} is missing and nothing was said");
            }
        }
        flip(&file, at);
    }
    place.gullet(&["verify", "--store", &store]).exits(0);
}

#[test]
fn a_missing_payload_file_and_a_changed_record_are_found() {
    let place = Place::with_parts(FILES);
    place.file("docs/a.txt", "alpha");
    place.gullet(&["run", "app"]).exits(0);
    let file = payload(&place).remove(0);
    let away = place.path("away");
    fs::rename(&file, &away).unwrap();
    place.gullet(&["verify"]).exits(1).says("it is missing");
    fs::rename(&away, &file).unwrap();
    let found = Command::new("find").arg(place.path("depot/records")).args(["-name", "*.json"]).output().unwrap();
    let record = PathBuf::from(String::from_utf8(found.stdout).unwrap().trim());
    let text = fs::read_to_string(&record).unwrap();
    fs::write(&record, text.replace("\"outcome\": \"complete\"", "\"outcome\": \"incomplete\"")).unwrap();
    place.gullet(&["verify"]).exits(1).says("its bytes do not have the hash in its name");
    place.gullet(&["runs"]).exits(0).says("cannot be read");
}

#[test]
fn a_missing_record_breaks_the_chain() {
    let place = Place::with_parts(FILES);
    place.file("docs/a.txt", "alpha");
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["run", "app"]).exits(0);
    let found = Command::new("sh")
        .args(["-c", "find \"$0\" -name '*.json' | sort | head -1"])
        .arg(place.path("depot/records"))
        .output()
        .unwrap();
    fs::remove_file(String::from_utf8(found.stdout).unwrap().trim()).unwrap();
    place.gullet(&["verify"]).exits(1).says("the record before it is missing");
}

#[test]
fn payload_is_read_by_the_general_tool() {
    let place = Place::with_parts(FILES);
    place.file("docs/a.txt", "the boarding list of the gannet\n".repeat(100));
    place.gullet(&["run", "app"]).exits(0);
    let output = Command::new("zstd").arg("-dc").arg(payload(&place).remove(0)).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert!(String::from_utf8_lossy(&output.stdout).contains("the boarding list of the gannet"));
}

#[test]
fn a_full_disk_under_the_store_releases_and_harms_nothing() {
    let desk = Desk::open();
    desk.run().completes();
    let first = desk.place.record()["run"].as_str().unwrap().to_owned();
    let mount = desk.place.path("depot");
    let kept = desk.place.path("kept");
    fs::rename(&mount, &kept).unwrap();
    let mounted = Mounted::at(&mount, "2m");
    let copied = Command::new("cp").arg("-a").arg(format!("{}/.", kept.display())).arg(&mount).status().unwrap();
    assert!(copied.success());
    // Incompressible, and larger than the room that is left.
    let noise = desk.place.path("desk/manifests/noise.list.bin");
    let made = Command::new("sh").args(["-c", "head -c 8000000 /dev/urandom > \"$0\""]).arg(&noise).status().unwrap();
    assert!(made.success());
    desk.run().exits(1).says("No space left on device");
    assert_eq!(desk.state(), "serving");
    fs::remove_file(&noise).unwrap();
    desk.place.gullet(&["verify", &first]).exits(0);
    desk.run().completes();
    let used = Command::new("find").arg(&mount).args(["-name", "*+*"]).output().unwrap();
    assert_eq!(String::from_utf8_lossy(&used.stdout), "", "space is freed");
    drop(mounted);
}

#[test]
fn a_store_that_must_be_mounted_and_is_not_is_refused() {
    let place = Place::with_parts(FILES);
    place.file("docs/a", "x");
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    fs::write(place.path("gullet.toml"), text.replace("[app.app]", "must_be_mounted = true\n[app.app]")).unwrap();
    place.gullet(&["run", "app"]).exits(4).says("is not a mount point");
}

#[test]
fn a_copy_of_a_machine_goes_on_under_a_new_writer_id() {
    let place = Place::with_parts(FILES);
    place.file("docs/a", "x");
    place.gullet(&["run", "app"]).exits(0);
    let copied = Command::new("cp").arg("-a").arg(place.path("state")).arg(place.path("copy")).status().unwrap();
    assert!(copied.success());
    place.gullet(&["run", "app"]).exits(0);
    let first = place.record()["machine"].clone();
    fs::remove_dir_all(place.path("state")).unwrap();
    fs::rename(place.path("copy"), place.path("state")).unwrap();
    place.gullet(&["run", "app"]).exits(0).says("goes on as the new machine");
    let record = place.record();
    assert_ne!(record["machine"], first);
    assert_eq!(record["previous"], serde_json::Value::Null);
    assert_eq!(record["holdings"]["needs"], serde_json::json!([]), "a machine reuses its own payload only");
    place.gullet(&["verify"]).exits(0);
}

#[test]
fn losing_the_state_folder_loses_no_run() {
    let place = Place::with_parts(FILES);
    place.file("docs/a", "x");
    place.gullet(&["run", "app"]).exits(0);
    fs::remove_dir_all(place.path("state")).unwrap();
    place.gullet(&["run", "app"]).exits(0);
    assert_eq!(place.json(&["runs"]).as_array().unwrap().len(), 2);
    place.gullet(&["verify"]).exits(0).says("2 runs");
}

#[test]
fn store_info_counts() {
    let place = Place::with_parts(FILES);
    place.file("docs/a", "x");
    place.gullet(&["run", "app"]).exits(0);
    let info = place.json(&["store", "info", "depot"]);
    assert_eq!(
        (info["records"].as_u64(), info["payload_files"].as_u64(), info["machines"].as_u64()),
        (Some(1), Some(1), Some(1))
    );
    place.gullet(&["store", "info", "nope"]).exits(2).says("it defines: depot");
}

#[test]
fn many_commands_at_once_on_a_fresh_state_folder_agree() {
    let apps: String = (0..6)
        .map(|n| {
            format!("[app.a{n}]\nno_hold = \"x\"\n[[app.a{n}.part]]\nname = \"p\"\ncommand = [\"echo\", \"{n}\"]\n")
        })
        .collect();
    let place = Place::new();
    place.define(&apps);
    place.gullet(&["store", "new", "depot"]).exits(0);
    let started: Vec<_> = (0..6)
        .map(|n| place.command(&["run", &format!("a{n}")]).stdout(std::process::Stdio::null()).spawn().unwrap())
        .collect();
    for (number, mut child) in started.into_iter().enumerate() {
        assert_eq!(child.wait().unwrap().code(), Some(0), "application a{number}");
    }
    let runs = place.json(&["runs"]);
    assert_eq!(runs.as_array().unwrap().len(), 6);
    let machines = fs::read_dir(place.path("depot/machines")).unwrap().count();
    assert_eq!(machines, 1, "one machine is one machine");
    place.gullet(&["verify"]).exits(0);
}

#[test]
fn a_level_of_its_own_packs_a_part_harder() {
    let parts = "[[app.app.part]]\nname = \"light\"\nfiles = [\"@/docs\"]\nzstd_level = 1\n";
    let stored = |parts: &str| {
        let place = Place::with_parts(parts);
        let lines = (0..40_000u32)
            .map(|n| format!("{n} sails from Tern Point to pier {}\n", n.wrapping_mul(2_654_435_761) % 977));
        place.file("docs/a.txt", lines.collect::<String>());
        place.gullet(&["run", "app"]).exits(0);
        fs::metadata(payload(&place).remove(0)).unwrap().len()
    };
    let (light, hard) = (stored(parts), stored(&parts.replace("zstd_level = 1", "zstd_level = 19")));
    assert!(hard < light * 9 / 10, "{hard} of {light}");
    let place = Place::new();
    for beyond in ["0", "20", "-1"] {
        let parts = parts.replace("zstd_level = 1", &format!("zstd_level = {beyond}"));
        place.define(&format!("[app.app]\nno_hold = \"a test\"\n{parts}"));
        place.gullet(&["plan", "app"]).exits(3).says("must lie between 1 and 19");
    }
}
