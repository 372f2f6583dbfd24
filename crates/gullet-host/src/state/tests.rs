use super::*;
use std::os::unix::fs::PermissionsExt;

struct Counting;

impl Random for Counting {
    fn fill(&self, bytes: &mut [u8]) {
        for (byte, number) in bytes.iter_mut().zip(0..) {
            *byte = number;
        }
    }
}

fn state() -> (tempfile::TempDir, State) {
    let folder = tempfile::tempdir().unwrap();
    let state = State::open(&folder.path().join("gullet"), &Counting).unwrap();
    (folder, state)
}

#[test]
fn the_writer_id_stays_and_the_folder_is_private() {
    let (_folder, state) = state();
    let again = State::open(state.folder(), &Counting).unwrap();
    assert_eq!(state.machine(), again.machine());
    assert_eq!(fs::metadata(state.folder()).unwrap().permissions().mode() & 0o777, 0o700);
}

#[test]
fn one_run_at_a_time_and_the_lock_goes_with_its_holder() {
    let (_folder, state) = state();
    let lock = state.lock("quaybook", "run r1, process 12").unwrap();
    match state.lock("quaybook", "run r2") {
        Err(StateError::Busy { who, .. }) => assert_eq!(who, "run r1, process 12"),
        other => panic!("{other:?}"),
    }
    state.lock("ledger", "another application").unwrap();
    drop(lock);
    state.lock("quaybook", "run r2").unwrap();
}

#[test]
fn what_a_dead_run_left_is_removed_and_named_once() {
    let (_folder, state) = state();
    let lock = state.lock("quaybook", "x").unwrap();
    let (scratch, left) = state.scratch("quaybook", "r1", &lock).unwrap();
    assert_eq!(left, Vec::<String>::new());
    fs::write(scratch.join("half"), b"half").unwrap();
    let (_, left) = state.scratch("quaybook", "r2", &lock).unwrap();
    assert_eq!(left, ["r1"]);
    assert!(!scratch.exists());
}

#[test]
fn what_was_written_is_known_missed_and_ordered_by_the_writing() {
    let (_folder, state) = state();
    let names = ["records/q/w/2030-r1-x.json", "remarks/q/w/r1/m.json", "records/q/w/2026-r2-x.json"];
    let there: HashSet<&str> = names.into_iter().collect();
    assert!(!state.written("s", "q").knows(names[0]), "a record in the store that was never written here");
    state.note_document("s", "q", names[0], false).unwrap();
    assert!(state.written("s", "q").knows(names[0]), "it died between writing and noting");
    assert_eq!(state.written("s", "q").newest_record(&there).as_deref(), Some(names[0]));
    assert_eq!(state.written("s", "q").newest_record(&HashSet::new()), None, "it was never written");
    state.note_document("s", "q", names[0], true).unwrap();
    for name in &names[1..] {
        state.note_document("s", "q", name, false).unwrap();
        state.note_document("s", "q", name, true).unwrap();
    }
    let written = state.written("s", "q");
    assert_eq!(written.newest_record(&there).as_deref(), Some(names[2]), "not the one with the latest time");
    assert_eq!(written.missing(&there), Vec::<String>::new());
    assert_eq!(written.missing(&[names[0]].into()), [names[2], names[1]]);
    assert_eq!(written.newest_record(&[names[0]].into()).as_deref(), Some(names[2]), "a link to what is gone shows");
    assert_eq!(state.written_apps("s"), ["q"]);
    assert!(!state.written("s", "other").knows(names[0]));
}

#[test]
fn another_store_at_a_known_place_is_refused() {
    let (_folder, state) = state();
    state.recognise_store("/srv/depot", "abc").unwrap();
    state.recognise_store("/srv/depot", "abc").unwrap();
    assert!(matches!(state.recognise_store("/srv/depot", "def"), Err(StateError::OtherStore { .. })));
}
