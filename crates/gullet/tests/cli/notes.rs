//! Hold notes that cannot be read, or say what cannot be.

use std::fs;
use std::path::PathBuf;

use crate::harness::Place;
use crate::held::{PART, application, guard, is_held, note, signal, wait_until};

/// An application that is held while its guard is dead, and its note.
fn forgotten() -> (Place, PathBuf) {
    let place = application("touch @/held", "rm -f @/held", PART);
    place.gullet(&["hold", "app", "--limit", "10m"]).exits(0);
    signal("KILL", guard(&place));
    let path = place.path("state/holds/app.note");
    (place, path)
}

#[test]
fn a_damaged_note_never_means_released() {
    let (place, path) = forgotten();
    let whole = fs::read(&path).unwrap();
    fs::write(&path, &whole[..2000]).unwrap();
    for arguments in [&["release", "app"][..], &["release", "--forgotten"], &["release"]] {
        place.gullet(arguments).exits(7);
    }
    place.gullet(&["status"]).exits(2).says("may be held");
    assert_ne!(place.gullet(&["run", "app"]).code, 0);
    assert!(is_held(&place), "nobody touched it");
    fs::write(&path, &whole).unwrap();
    place.gullet(&["release", "app"]).exits(0);
    assert!(!is_held(&place));
    fs::write(&path, &whole[..2000]).unwrap();
    place.gullet(&["release", "app", "--declare", "released by hand"]).exits(0).says("declared");
    place.gullet(&["run", "app"]).exits(0);
}

#[test]
fn a_note_of_steps_that_there_are_not_is_damaged() {
    let (place, path) = forgotten();
    let boot = fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap();
    assert_eq!(note(&place)["boot"], boot.trim(), "process numbers mean something within one boot");
    let good = fs::read(&path).unwrap();
    let mut whole = good.clone();
    let text = String::from_utf8(whole[..4096].to_vec()).unwrap();
    let changed = text.replace("\"entered\":[0]", "\"entered\":[0,1,7]");
    assert_ne!(changed, text);
    // The head has a fixed length, with spaces before its last byte.
    whole[..4095].copy_from_slice(&changed.as_bytes()[..4095]);
    fs::write(&path, &whole).unwrap();
    place.gullet(&["release", "app"]).exits(7).says("is damaged");
    assert!(is_held(&place));
    fs::write(&path, &good).unwrap();
    place.gullet(&["release", "app"]).exits(0);
    assert!(!is_held(&place));
}

#[test]
fn a_release_that_fails_with_very_much_text_stays_readable() {
    let place = application("touch @/held", "[ -e @/gentle ] && rm -f @/held; exit 1", PART);
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    let (held, before) = (place.text("held"), "run = [\"test\", \"!\", \"-e\", ");
    let long = format!("script = \"[ ! -e {held} ] || {{ head -c 30000 /dev/zero | tr '\\\\0' x >&2; exit 1; }}\"");
    place.file("gullet.toml", text.replace(&format!("{before}\"{held}\"]"), &long));
    place.gullet(&["hold", "app", "--limit", "10m"]).exits(0);
    place.gullet(&["release", "app"]).exits(7);
    assert_eq!(note(&place)["state"], "leaving");
    place.gullet(&["release"]).exits(0).says("cannot be released");
    place.file("gentle", "");
    wait_until("it is released", || !is_held(&place));
}
