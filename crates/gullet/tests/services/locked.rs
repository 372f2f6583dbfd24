//! Objects that are locked against everybody, in an object storage that locks (moto).

use std::process::Command;
use std::time::Duration;

use gullet_store::{Location, bucket};
use jiff::{SignedDuration, Timestamp};

use crate::far::{Moto, PART, bucket_at, careless, noise, place, restored, write};
use crate::harness::Place;

/// A bucket that can lock, in a server that is running.
fn locking() -> Moto {
    let moto = Moto::start();
    let made = Command::new("curl")
        .args(["-sSf", "-X", "PUT", "-H", "x-amz-bucket-object-lock-enabled: true"])
        .arg(format!("{}/safe", moto.endpoint()))
        .status();
    assert!(made.unwrap().success(), "a bucket that locks is made");
    moto
}

fn define(place: &Place, port: u16, bucket: &str) {
    place.define(&format!(
        "copies = [\"far\"]\n[store.far]\nlocation = \"s3://{bucket}/quay\"\nendpoint = \"http://127.0.0.1:{port}\"\n\
         limit = \"2s\"\ncredentials = {{ file = \"@/keys\" }}\nlocked_for = \"1h\"\n{PART}"
    ));
}

/// The bucket as somebody sees it who has the same keys and locks nothing.
fn seen(moto: &Moto) -> std::sync::Arc<dyn Location> {
    bucket(&bucket_at(moto.endpoint(), "safe", "quay")).unwrap()
}

fn locked_until(place: &dyn Location, name: &str) -> Timestamp {
    place.versioned().unwrap().locked_until(name).unwrap().unwrap_or_else(|| panic!("{name} is not locked"))
}

#[test]
fn what_was_copied_outlives_a_thief_with_all_keys_of_the_machine() {
    let (moto, place) = (locking(), place());
    define(&place, moto.port, "safe");
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["run", "desk", "--quiet"]).exits(0);
    place.gullet(&["store", "copy", "depot"]).exits(0).says("locked until ");
    place.gullet(&["store", "test", "far"]).exits(0);
    assert!(!place.gullet(&["status"]).exits(0).out.contains("locked"));
    let (far, hour) = (seen(&moto), SignedDuration::from_hours(1));
    let names = far.names("").unwrap();
    let now = Timestamp::now();
    for name in names.iter().filter(|name| !name.starts_with("probes/")) {
        assert!(locked_until(far.as_ref(), name) >= now + hour, "{name}");
    }
    // A later run stands on the same payload, so that is locked for longer.
    let payload = names.iter().find(|name| name.starts_with("payload/")).unwrap();
    let before = locked_until(far.as_ref(), payload);
    place.gullet_at("+50m", &["run", "desk"]).exits(0).says("copied to far");
    let later = locked_until(far.as_ref(), payload);
    assert!(later > before && later >= now + SignedDuration::from_mins(110), "{before} {later}");
    place.gullet(&["verify", "--store", "far"]).exits(0).says("intact: 2 runs");

    std::thread::sleep(Duration::from_millis(1100));
    let good = Timestamp::now().to_string();
    std::thread::sleep(Duration::from_millis(1100));
    let all = far.names("").unwrap();
    for name in &all {
        far.remove(name).unwrap();
    }
    far.write(payload, b"ransom").unwrap();
    // What is locked stays, whoever asks: the server itself refuses.
    for version in far.versioned().unwrap().versions().unwrap().iter().filter(|version| !version.is_removal) {
        if version.name.starts_with("payload/") && version.length > 6 {
            let url = format!("{}/safe/quay/{}?versionId={}", moto.endpoint(), version.name, version.version);
            let ask = ["-s", "-o", "/dev/null", "-w", "%{http_code}", "-X", "DELETE", &url];
            let code = Command::new("curl").args(ask).output().unwrap();
            assert_eq!(String::from_utf8_lossy(&code.stdout), "403", "{}", version.name);
        }
    }
    place.gullet(&["verify", "--store", "far"]).exits(4).says("there is no store at");

    let told = place.gullet(&["store", "bring-back", "far", "--as-of", &good]).exits(0);
    told.says("1 replaced").says("nothing was changed");
    place.gullet(&["store", "bring-back", "far", "--as-of", &good, "--yes"]).exits(0).says("brought back");
    assert_eq!(far.names("").unwrap(), all);
    place.gullet(&["verify", "--store", "far"]).exits(0).says("intact: 2 runs");
    std::fs::rename(place.path("depot"), place.path("ashes")).unwrap();
    assert_eq!(restored(&place, &["desk@latest", "--store", "far"]), noise(1));
    assert!(locked_until(far.as_ref(), payload) >= now + hour, "what was brought back is locked again");
    place.gullet(&["store", "bring-back", "far", "--as-of", &good]).exits(0).says("0 objects removed, 0 replaced");
}

#[test]
fn a_bucket_that_cannot_lock_is_told_and_a_folder_keeps_no_versions() {
    let (moto, place) = (Moto::start(), place());
    define(&place, moto.port, "depot");
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["run", "desk", "--quiet"]).exits(0);
    let copy = place.gullet(&["store", "copy", "depot"]);
    assert!(copy.code == 1 && copy.err.contains("can the bucket lock (object lock)?"), "{}{}", copy.out, copy.err);
    // One that takes no notice of locks: what is asked of it must not replace what it has.
    let (careless, _server) = careless();
    define(&place, careless, "depot");
    place.gullet(&["store", "copy", "depot", "--make"]).exits(6).says("can the bucket lock (object lock)?");
    place.gullet(&["store", "test", "far"]).exits(6).says("nothing is locked there");
    place.gullet(&["status"]).exits(1).says("not everything of the last complete run is locked on far");
    place.gullet(&["verify", "--store", "far"]).exits(0).says("intact: 1 run");
    define(&place, moto.port, "depot");
    place.gullet(&["store", "bring-back", "depot", "--as-of", "2026-11-03"]).exits(2).says("keeps no versions");
    write(&place, 2);
    place.define(&format!("locked_for = \"1h\"\n{PART}"));
    place.gullet(&["plan", "desk"]).exits(3).says("locked_for");
}

#[test]
fn a_store_in_a_bucket_that_locks_is_swept_out_of_sight_only() {
    let (moto, place) = (locking(), place());
    place.file(
        "gullet.toml",
        format!(
            "state = \"{}\"\n[store.depot]\nlocation = \"s3://safe/quay\"\nendpoint = \"{}\"\n\
             credentials = {{ file = \"{}\" }}\nlocked_for = \"1h\"\n{}",
            place.text("state"),
            moto.endpoint(),
            place.text("keys"),
            PART.replace('@', &place.text(""))
        ),
    );
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["run", "desk", "--quiet"]).exits(0);
    write(&place, 2);
    let second = place.gullet(&["run", "desk"]).exits(0);
    assert!(!second.err.contains("locked"), "{}", second.err);
    assert!(!place.gullet(&["status"]).exits(0).out.contains("locked"));
    let far = seen(&moto);
    let before = (far.names("payload/").unwrap(), Timestamp::now().to_string());
    std::thread::sleep(Duration::from_millis(1100));
    let first = place.json(&["runs"])[0]["run"].as_str().unwrap().to_owned();
    place
        .gullet(&["thin", "--run", &first, "--reason", "a test", "--yes"])
        .exits(0)
        .says("the bucket hides it until its lock ends");
    assert!(far.names("payload/").unwrap().len() < before.0.len());
    place
        .gullet(&["store", "bring-back", "depot", "--as-of", &before.1, "--yes"])
        .exits(0)
        .says("1 object brought back");
    assert_eq!(far.names("payload/").unwrap(), before.0);
    place.gullet(&["verify"]).exits(0);
}
