//! Second copies: whole stores that are proven, go on where they were cut off, and are waited for by the keep rules.

use std::fs;
use std::process::Stdio;
use std::time::Duration;

use crate::harness::Place;

const PART: &str = "[app.app]\nno_hold = \"a test\"\n[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n";

/// A place with a store `depot` and its copy `far`, which is not made yet.
fn place(more: &str) -> Place {
    let place = Place::new();
    place.define(&format!("copies = [\"far\"]\n{more}[store.far]\nlocation = \"@/far\"\n{PART}"));
    place.file("docs/a", noise(1));
    place.gullet(&["store", "new", "depot"]).exits(0);
    place
}

fn noise(seed: u64) -> Vec<u8> {
    let mut rng = fastrand::Rng::with_seed(seed);
    (0..300_000).map(|_| rng.u8(..)).collect()
}

fn restored(place: &Place, arguments: &[&str]) -> Vec<u8> {
    let _ = fs::remove_dir_all(place.path("out"));
    place.gullet(&[&["restore", "app@latest", "--into", "out"], arguments].concat()).exits(0);
    let docs = place.path("docs/a");
    fs::read(place.path("out/files").join(docs.strip_prefix("/").unwrap())).unwrap()
}

/// Names and contents of everything in a store.
fn contents(place: &Place, store: &str) -> Vec<(String, Vec<u8>)> {
    let root = place.path(store);
    let files = place.files_below(store).into_iter();
    let files = files.map(|path| (path.strip_prefix(&root).unwrap().display().to_string(), fs::read(&path).unwrap()));
    files.filter(|(name, _)| !name.starts_with('.')).collect()
}

#[test]
fn the_place_of_a_copy_is_tried_before_it_is_made() {
    let place = place("");
    let test = || place.gullet(&["store", "test", "far"]);
    // A folder that is not there may be a disk that is not mounted.
    test().exits(4).says("gullet store copy depot makes it");
    assert!(!place.path("far").exists());
    fs::create_dir(place.path("far")).unwrap();
    test().exits(0).says("✓ usable").says("There is no store there yet; gullet store copy depot makes it");
    assert_eq!(place.json(&["store", "test", "far"])["has_store"], false);
    // What was tried and could not be removed does not keep the store away; anything else does.
    place.file("far/probes/0123-0", "tried");
    place.gullet(&["store", "copy", "depot"]).exits(0);
    let after = test().exits(0);
    assert!(!after.err.contains("no store there yet") && place.json(&["store", "test", "far"])["has_store"] == true);
    place.file("mine/letter", "not ours");
    place.gullet(&["store", "test", &place.text("mine")]).exits(4).says("there is no store at");
    assert_eq!(place.files_below("mine").len(), 1);
}

#[test]
fn a_copy_is_a_whole_store_and_the_first_can_be_made_anew_from_it() {
    let place = place("");
    place.gullet(&["store", "new", "far"]).exits(2).says("gullet store copy depot");
    // A run never makes the place of a copy: it may be a disk that is not mounted.
    place.gullet(&["run", "app"]).exits(0).says("there is no second copy on far yet").says("gullet store copy depot");
    assert!(!place.path("far").exists());
    place.gullet(&["status"]).exits(0).says("no second copy on far yet");
    place.gullet_at("+25h", &["status"]).exits(1).says("! warning").says("no second copy on far yet");
    place.gullet(&["store", "copy", "depot"]).exits(0).says("1 run copied now");
    place.gullet(&["store", "copy", "depot"]).exits(0).says("nothing was missing");
    place.file("docs/a", noise(2));
    place.gullet(&["run", "app"]).exits(0).says("copied to far: ");
    assert_eq!(contents(&place, "depot"), contents(&place, "far"));
    let status = place.gullet(&["status"]).exits(0);
    assert!(!status.out.contains("second copy"), "{}", status.out);
    place.gullet(&["show", "app@latest"]).exits(0).says("copied to far at ").says("every byte read back there");
    // Each run is listed once, and the copy is read by its name.
    assert_eq!(place.json(&["runs"]).as_array().unwrap().len(), 2);
    assert_eq!(place.json(&["runs", "--store", "far"]).as_array().unwrap().len(), 2);
    place.gullet(&["verify", "--store", "far"]).exits(0);
    assert_eq!(contents(&place, "depot"), contents(&place, "far"), "reading leaves no trace in a copy");
    // The first store burns down.
    fs::rename(place.path("depot"), place.path("ashes")).unwrap();
    assert_eq!(restored(&place, &["--store", "far"]), noise(2));
    place.gullet(&["store", "copy", "far", "--to", "depot"]).exits(4).says("--make").says("is its disk mounted?");
    place.gullet(&["store", "copy", "far", "--to", "depot", "--make"]).exits(0);
    assert_eq!(contents(&place, "depot"), contents(&place, "ashes"));
    place.gullet(&["verify"]).exits(0);
    place.gullet(&["run", "app"]).exits(0).says("copied to far");
    assert_eq!(restored(&place, &[]), noise(2));
}

#[test]
fn a_copy_that_is_cut_off_anywhere_has_nothing_half_and_goes_on() {
    let place = place("");
    for number in 0..6 {
        place.file("docs/a", noise(number));
        place.gullet(&["run", "app", "--quiet"]).exits(0);
    }
    let mut rng = fastrand::Rng::with_seed(7);
    let mut killed = 0;
    for _ in 0..12 {
        let mut command = place.command(&["store", "copy", "depot"]);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(rng.u64(4..40)));
        let _ = child.kill();
        killed += u32::from(child.wait().unwrap().code().is_none());
        if place.path("far/store.json").exists() {
            // Whatever record is there can be restored.
            place.gullet(&["verify", "--store", "far"]).exits(0);
        }
    }
    assert!(killed >= 3, "{killed}");
    place.gullet(&["store", "copy", "depot", "--make"]).exits(0);
    assert_eq!(contents(&place, "depot"), contents(&place, "far"));
    let copied = place
        .json(&["runs"])
        .as_array()
        .unwrap()
        .iter()
        .map(|run| {
            let remarks = place.json(&["show", run["run"].as_str().unwrap()])["remarks"].clone();
            remarks.as_array().unwrap().iter().filter(|remark| remark["what"] == "copied").count()
        })
        .collect::<Vec<_>>();
    assert_eq!(copied, [1; 6], "each run is said to be copied once");
    assert!(place.files_below("far/.incoming").is_empty() || killed > 0);
}

#[test]
fn damage_does_not_spread_and_what_is_damaged_in_the_copy_is_sent_anew() {
    let place = place("");
    place.gullet(&["run", "app"]).exits(0);
    let flip = |store: &str| {
        let path = place.files_below(&format!("{store}/payload")).remove(0);
        let mut bytes = fs::read(&path).unwrap();
        let middle = bytes.len() / 2;
        bytes[middle] ^= 1;
        fs::write(path, bytes).unwrap();
    };
    flip("depot");
    let copy = place.gullet(&["store", "copy", "depot"]).exits(1).says("it is not copied");
    assert!(!copy.out.contains("copied now"), "{}", copy.out);
    assert_eq!(place.files_below("far/payload").len() + place.files_below("far/records").len(), 0, "nor what needs it");
    flip("depot");
    // Cut, and damaged, before anything says that the copy was read back.
    place.gullet(&["store", "copy", "depot"]).exits(0);
    let fresh = || {
        for path in place.files_below("far/remarks").into_iter().chain(place.files_below("depot/remarks")) {
            fs::remove_file(path).unwrap();
        }
    };
    fresh();
    flip("far");
    place.gullet(&["store", "copy", "depot"]).exits(0).says("sent and checked");
    fresh();
    let path = place.files_below("far/payload").remove(0);
    fs::write(&path, &fs::read(&path).unwrap()[..1000]).unwrap();
    place.gullet(&["store", "copy", "depot"]).exits(0).says("sent and checked");
    place.gullet(&["verify", "--store", "far"]).exits(0);
    // Another store, or something else, is never written to.
    for (what, why) in [("store", "there is another store at"), ("files", "is not empty and no store")] {
        fs::remove_dir_all(place.path("far")).unwrap();
        if what == "store" {
            place.gullet(&["store", "new", &place.text("far")]).exits(0);
        } else {
            place.file("far/holiday.jpg", "a picture");
        }
        let before = contents(&place, "far");
        place.gullet(&["store", "copy", "depot", "--make"]).exits(4).says(why);
        assert_eq!(contents(&place, "far"), before);
    }
}

#[test]
fn a_damaged_store_is_mended_from_its_copy() {
    let place = place("");
    place.gullet(&["store", "copy", "depot"]).exits(0);
    place.gullet(&["run", "app"]).exits(0);
    let whole = contents(&place, "depot");
    for folder in ["payload", "records", "remarks"] {
        let path = place.files_below(&format!("depot/{folder}")).remove(0);
        let mut bytes = fs::read(&path).unwrap();
        bytes[40] ^= 1;
        fs::write(path, bytes).unwrap();
    }
    place.gullet(&["verify"]).exits(1);
    let found = place.gullet(&["store", "copy", "far", "--to", "depot"]).exits(0).says("3 objects sent and checked");
    assert!(found.out.contains("depot: "), "{}", found.out);
    let mended = contents(&place, "depot");
    assert!(whole.iter().all(|object| mended.contains(object)), "all that was there is there again");
    place.gullet(&["verify"]).exits(0);
    assert_eq!(restored(&place, &[]), noise(1));
    place.gullet(&["store", "copy", "far", "--to", "depot"]).exits(0).says("nothing was missing");
}

#[test]
fn a_verification_mends_what_another_store_has() {
    let place = place("");
    place.gullet(&["store", "copy", "depot"]).exits(0);
    place.gullet(&["run", "app"]).exits(0);
    let damage = |folder: &str| {
        let path = place.files_below(&format!("{folder}/payload")).remove(0);
        place.flip(&path, 40);
    };
    damage("depot");
    place.gullet(&["verify", "--mend"]).exits(0).says("damaged:").says("1 object sent and checked").says("✓ intact");
    place.gullet(&["verify"]).exits(0);
    let (code, status) = place.status("app");
    assert_eq!(code, 0, "{status}");
    damage("far");
    place.gullet(&["verify", "--store", "far"]).exits(1).says("1 run noted to have no second copy on far");
    let (_, status) = place.status("app");
    assert!(status.to_string().contains("no second copy on far"), "{status}");
    place.gullet(&["verify", "--store", "far", "--mend"]).exits(0).says("1 run copied now").says("✓ intact");
    place.gullet(&["verify", "--store", "far"]).exits(0);
    let (code, status) = place.status("app");
    assert!(code == 0 && !status.to_string().contains("no second copy"), "{status}");
    // A record that is damaged in the copy is found too, and sent anew by the next copy.
    let record = place.files_below("far/records").remove(0);
    place.flip(&record, 40);
    place.gullet(&["store", "copy", "depot"]).exits(0).says("nothing was missing");
    place.gullet(&["verify", "--store", "far"]).exits(1).says("1 run noted to have no second copy on far");
    place.gullet(&["store", "copy", "depot"]).exits(0).says("1 run copied now");
    place.gullet(&["verify", "--store", "far"]).exits(0);
    // What nobody has whole any more stays damaged, and is said to be.
    damage("far");
    damage("depot");
    place.gullet(&["verify", "--mend"]).exits(1).says("✗ damaged").says("was not copied");
    place.gullet(&["verify", "--store", &place.text("far"), "--mend"]).exits(1);
    // Where the definition has no other store there is nothing to mend from.
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    fs::write(
        place.path("gullet.toml"),
        text.replace("copies = [\"far\"]", "").replace("[app.app]\n", "[app.app]\nstore = 'depot'\n"),
    )
    .unwrap();
    place.gullet(&["verify", "--mend"]).exits(1).says("has no copy, and is none");
}

#[test]
fn a_copy_is_verified_by_the_calendar_share_by_share() {
    let place = place("[store.far.verify]\nevery = \"day\"\nat = \"05:00\"\nzone = \"UTC\"\nshare = \"30%\"\n");
    place.gullet(&["store", "copy", "depot"]).exits(0);
    for number in 0..3 {
        place.file("docs/a", noise(number));
        place.gullet(&["run", "app", "--quiet"]).exits(0);
    }
    // What was read is remembered: three times a share reads another file each.
    let payload = place.files_below("far/payload");
    assert_eq!(payload.len(), 3);
    // Whichever is damaged is found by the third share at the latest; what was read before is not read again.
    for path in &payload {
        place.flip(path, 40);
        let codes: Vec<i32> =
            (0..3).map(|_| place.gullet(&["verify", "--store", "far", "--share", "30%", "--quiet"]).code).collect();
        assert!(codes.contains(&1) && codes.iter().all(|code| *code < 2), "{codes:?}");
        place.gullet(&["verify", "--store", "far", "--mend"]).exits(0);
    }
    // What was read of the copy says nothing of the first store.
    assert_eq!(place.gullet(&["verify", "--share", "30%", "--json"]).exits(0).json()["files"], 1);
    // By the calendar.
    place.gullet_at("@2027-03-01 04:50:00", &["due"]).exits(0);
    let due = place.gullet_at("@2027-03-01 05:00:30", &["due"]);
    assert!(due.out.contains("intact") || due.err.contains("intact"), "{}{}", due.out, due.err);
    place.gullet(&["agenda"]).exits(0).says("far verify: every day at 05:00");
}

#[test]
fn keep_rules_wait_for_the_copy_and_what_goes_goes_from_it_by_its_own_remarks() {
    let place = place("");
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    fs::write(place.path("gullet.toml"), format!("{text}[app.app.keep]\nnewest = 1\n")).unwrap();
    let left = || place.runs().iter().filter(|run| run["thinned"] == false).count();
    for number in 0..3 {
        place.file("docs/a", noise(number));
        place.gullet(&["run", "app", "--quiet"]).exits(0);
    }
    assert_eq!(left(), 3, "none of them has a second copy");
    place.gullet(&["thin", "app"]).exits(0).says("it has no second copy yet");
    place.gullet(&["store", "copy", "depot"]).exits(0);
    place.gullet(&["thin", "app", "--yes"]).exits(0);
    assert_eq!(left(), 1);
    // The copy does not know of it yet: there all of them stand.
    place.gullet(&["store", "sweep", "far", "--yes"]).exits(0).says("nothing to remove");
    assert_eq!(place.files_below("far/payload").len(), 3);
    place.gullet(&["store", "copy", "depot"]).exits(0);
    place.gullet(&["store", "sweep", "far"]).exits(0).says("2 payload files of ");
    place.gullet(&["store", "sweep", "far", "--yes"]).exits(0).says("2 payload files removed");
    place.gullet(&["verify", "--store", "far"]).exits(0);
    assert_eq!(restored(&place, &["--store", "far"]), noise(2));
    // What the first store lost is no reason to remove anything.
    for path in place.files_below("depot/payload").into_iter().chain(place.files_below("depot/records")) {
        fs::remove_file(path).unwrap();
    }
    place.gullet(&["store", "sweep", "far", "--yes"]).exits(0).says("nothing to remove");
    assert_eq!(restored(&place, &["--store", "far"]), noise(2));
}

#[test]
fn an_encrypted_store_is_copied_by_a_machine_that_cannot_open_it() {
    let place = Place::new();
    let public = place.json(&["key", "new", "safe.key"])["public"].as_str().unwrap().to_owned();
    place.define(&format!(
        "encrypt_to = [\"{public}\"]\ncopies = [\"far\"]\n[store.far]\nlocation = \"@/far\"\nencrypt_to = [\"{public}\"]\n{PART}"
    ));
    place.file("docs/a", noise(1));
    place.gullet(&["store", "new", "depot"]).exits(0);
    fs::rename(place.path("safe.key"), place.path("elsewhere.key")).unwrap();
    place.gullet(&["store", "copy", "depot"]).exits(0);
    place.gullet(&["run", "app"]).exits(0).says("copied to far");
    assert_eq!(contents(&place, "depot"), contents(&place, "far"));
    let key = place.text("elsewhere.key");
    assert_eq!(restored(&place, &["--store", "far", "--identity", &key]), noise(1));
}

#[test]
fn copies_are_checked_in_the_definition() {
    let place = Place::new();
    let of = |depot: &str, far: &str, app: &str| {
        place.define(&format!(
            "{depot}\n[store.far]\nlocation = \"@/far\"\n{far}\n[app.app]\n{app}\nno_hold = \"a test\"\n\
             [[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n"
        ));
        place.gullet(&["plan", "app"])
    };
    of("copies = [\"fra\"]", "", "").exits(3).says("there is no store `fra`").says("did you mean `far`?");
    of("copies = [\"depot\"]", "", "store = \"far\"").exits(3).says("no copy of itself");
    of("copies = [\"far\"]", "copies = [\"depot\"]", "").exits(3).says("has copies of its own");
    of("copies = [\"far\"]", "", "store = \"far\"").exits(3).says("`far` is a copy").says("store = \"depot\"");
    let verify = "[store.far.verify]\nevery = \"day\"\nat = \"05:00\"\nzone = \"UTC\"";
    place.file("docs/a", "x");
    of("copies = [\"far\"]", verify, "").exits(0);
    of("copies = [\"far\"]", "", "").exits(0);
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["store", "copy", "far"]).exits(2).says("names no copies of `far`");
    place.gullet(&["store", "copy", "nothing"]).exits(2).says("it defines: depot, far");
}

#[test]
fn a_copy_within_a_source_belongs_to_no_part_and_is_left_alone_by_a_restore() {
    let place = Place::new();
    place.define(&format!(
        "copies = [\"far\"]\n[store.far]\nlocation = \"@/docs/far\"\n{PART}{}",
        "[store.other]\nlocation = \"@/docs/other\"\n"
    ));
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    fs::write(place.path("gullet.toml"), text.replace("[app.app]\n", "[app.app]\nstore = \"depot\"\n")).unwrap();
    place.file("docs/a", "as it was");
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["store", "copy", "depot"]).exits(0);
    place.gullet(&["preflight", "app"]).says("far is on the same filesystem as the store");
    place.gullet(&["plan", "app"]).exits(0).says("send what is new to the copy `far` at ").says("a copy of the store");
    place.gullet(&["run", "app"]).exits(0).says("copied to far");
    place.file("docs/a", "changed since");
    let compared = place.json(&["compare", "app", "--now"])["parts"][0]["paths"].clone();
    assert!(!compared.to_string().contains("docs/far"), "{compared}");
    let before = contents(&place, "docs/far");
    // What is restored in place changes hands as a whole, and no store with it.
    for more in [&[][..], &["--store", "far"], &["--set-aside-extra"]] {
        let go = ["restore", "app", "--in-place", "--yes", "--accept", "running"];
        place.gullet(&[&go[..], more].concat()).exits(4).says(" lies in `").says("--into FOLDER");
        assert_eq!(contents(&place, "docs/far"), before);
    }
    assert_eq!(fs::read_to_string(place.path("docs/a")).unwrap(), "changed since", "nothing was touched");
    let _ = fs::remove_dir_all(place.path("out"));
    place.gullet(&["restore", "app", "--into", "out"]).exits(0);
    assert!(place.files_below("out").iter().all(|path| !path.to_string_lossy().contains("/far/")));
}
