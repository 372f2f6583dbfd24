use super::*;

fn head(token: &str) -> NoteHead {
    NoteHead {
        note: 1,
        state: NoteState::Preparing,
        app: "quaybook".to_owned(),
        run: "r1".to_owned(),
        token: token.to_owned(),
        pid: 0,
        boot: boot_id(),
        account: "root (0)".to_owned(),
        entered: Vec::new(),
        began: None,
        limit_ms: 1000,
        by_hand: false,
        why: None,
        started: 0,
        began_up_ms: None,
        running: None,
        is_handed_over: false,
        heeded: 0,
    }
}

fn step(name: &str) -> HoldStep {
    toml::from_str(&format!("name = \"{name}\"\nrelease = {{ run = [\"true\"] }}")).unwrap()
}

#[test]
fn a_hold_is_owned_then_forgotten_then_left() {
    let folder = tempfile::tempdir().unwrap();
    let steps = [step("one"), step("two")];
    let mut note = HoldNote::create(folder.path(), head("t1"), &steps).unwrap();
    note.entering(0, Timestamp::UNIX_EPOCH, Duration::ZERO).unwrap();
    assert!(
        matches!(HoldNote::look(folder.path(), "quaybook").unwrap(), FoundNote::Alive(Some(head)) if head.token == "t1")
    );
    assert!(matches!(HoldNote::create(folder.path(), head("t2"), &steps), Err(NoteError::Held(_))));
    drop(note);
    assert!(matches!(HoldNote::create(folder.path(), head("t2"), &steps), Err(NoteError::Forgotten(_))));
    match HoldNote::look(folder.path(), "quaybook").unwrap() {
        FoundNote::Forgotten(mut note, found) => {
            assert_eq!((note.head().entered.as_slice(), found.as_slice()), ([0].as_slice(), steps.as_slice()));
            note.leaving(&[], Some("a later command".to_owned())).unwrap();
        }
        other => panic!("{other:?}"),
    }
    assert!(matches!(HoldNote::look(folder.path(), "quaybook").unwrap(), FoundNote::Nothing));
    HoldNote::create(folder.path(), head("t2"), &steps).unwrap();
}

#[test]
fn the_state_never_moves_back() {
    let folder = tempfile::tempdir().unwrap();
    let mut note = HoldNote::create(folder.path(), head("t1"), &[step("one")]).unwrap();
    note.entering(0, Timestamp::UNIX_EPOCH, Duration::ZERO).unwrap();
    note.leaving(&[], None).unwrap();
    note.entering(0, Timestamp::UNIX_EPOCH, Duration::ZERO).unwrap();
    assert_eq!(note.head().state, NoteState::Left);
}

#[test]
fn a_head_that_does_not_fit_stays_readable_and_what_cannot_be_read_is_never_released() {
    let folder = tempfile::tempdir().unwrap();
    let mut note = HoldNote::create(folder.path(), head("t1"), &[step("one")]).unwrap();
    note.entering(0, Timestamp::UNIX_EPOCH, Duration::ZERO).unwrap();
    note.leaving(&[0], Some("\u{1b}[31mö\"".repeat(5000))).unwrap();
    let found = HoldNote::peek(folder.path(), "quaybook").unwrap();
    assert!(found.state == NoteState::Leaving && found.entered == [0] && found.why.unwrap().ends_with('…'));
    drop(note);
    let path = folder.path().join("quaybook.note");
    let whole = fs::read(&path).unwrap();
    let is_unreadable = |bytes: &[u8]| {
        fs::write(&path, bytes).unwrap();
        let found = matches!(HoldNote::look(folder.path(), "quaybook"), Err(NoteError::Unreadable(_)));
        found && HoldNote::create(folder.path(), head("t2"), &[step("one")]).is_err()
    };
    assert!(is_unreadable(&whole[..HEAD]), "the steps are gone");
    assert!(is_unreadable(&whole[..HEAD + 4]), "the steps are cut");
    assert!(is_unreadable(&vec![0; HEAD]) && is_unreadable(b""), "nothing is left");
    assert_eq!(HoldNote::status(folder.path(), "quaybook"), NoteStatus::Unreadable);
    HoldNote::set_aside(folder.path(), "quaybook", Timestamp::UNIX_EPOCH).unwrap();
    assert!(matches!(HoldNote::look(folder.path(), "quaybook").unwrap(), FoundNote::Nothing));
}

#[test]
fn of_many_makers_of_one_note_one_wins() {
    let folder = tempfile::tempdir().unwrap();
    let made: Vec<bool> = std::thread::scope(|scope| {
        let makers: Vec<_> = (0..8)
            .map(|number| {
                let folder = folder.path();
                scope.spawn(move || {
                    let mut note = HoldNote::create(folder, head(&format!("t{number}")), &[step("one")]).ok()?;
                    note.entering(0, Timestamp::UNIX_EPOCH, Duration::ZERO).ok()?;
                    Some(note)
                })
            })
            .collect();
        let notes: Vec<Option<HoldNote>> = makers.into_iter().map(|maker| maker.join().unwrap()).collect();
        notes.iter().map(Option::is_some).collect()
    });
    assert_eq!(made.iter().filter(|made| **made).count(), 1, "{made:?}");
}

#[test]
fn looking_hinders_nobody() {
    let folder = tempfile::tempdir().unwrap();
    let mut note = HoldNote::create(folder.path(), head("t1"), &[step("one")]).unwrap();
    note.entering(0, Timestamp::UNIX_EPOCH, Duration::ZERO).unwrap();
    assert!(matches!(HoldNote::status(folder.path(), "quaybook"), NoteStatus::Owned(_)));
    drop(note);
    assert!(matches!(HoldNote::status(folder.path(), "quaybook"), NoteStatus::Forgotten(_)));
    assert!(matches!(HoldNote::look(folder.path(), "quaybook").unwrap(), FoundNote::Forgotten(..)));
}

#[test]
fn a_head_that_was_cut_off_means_that_everything_may_be_held() {
    let folder = tempfile::tempdir().unwrap();
    let note = HoldNote::create(folder.path(), head("t1"), &[step("one"), step("two")]).unwrap();
    drop(note);
    let file = OpenOptions::new().write(true).open(folder.path().join("quaybook.note")).unwrap();
    file.write_all_at(&[0; 512], 0).unwrap();
    assert!(matches!(HoldNote::look(folder.path(), "quaybook").unwrap(),
        FoundNote::Forgotten(note, steps) if note.head().entered == [0, 1] && steps.len() == 2));
}
