use std::os::unix::fs::PermissionsExt;

use super::*;

fn mode(path: &Path) -> u32 {
    fs::metadata(path).unwrap().permissions().mode() & 0o7777
}

#[test]
fn what_is_stored_is_private_to_the_account() {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path().join("above/store");
    let location = Folder::new(&root);
    location.prepare().unwrap();
    location.write("payload/w/one.zst", b"x").unwrap();
    for name in ["", "payload", "payload/w", INCOMING] {
        assert_eq!(mode(&root.join(name)), 0o700, "{name}");
    }
    assert_eq!(mode(&root.join("payload/w/one.zst")), 0o600);
}

#[test]
fn a_folder_that_was_replaced_is_not_written_to_and_neither_is_what_replaced_it() {
    let folder = tempfile::tempdir().unwrap();
    let (root, away) = (folder.path().join("store"), folder.path().join("away"));
    let location = Folder::new(&root);
    location.prepare().unwrap();
    location.write("one", b"1").unwrap();
    let begun = location.create("two").unwrap();
    location.confirm().unwrap();
    fs::rename(&root, &away).unwrap();
    for there in [false, true] {
        if there {
            fs::create_dir(&root).unwrap();
        }
        assert!(matches!(location.confirm(), Err(StoreError::Moved { .. })));
        assert!(matches!(location.write("three", b"3"), Err(StoreError::Moved { .. })));
        assert!(matches!(location.remove("one"), Err(StoreError::Moved { .. })));
        assert_eq!(location.read("one").unwrap(), b"1", "what was opened can still be read");
    }
    assert!(matches!(begun.publish(Hash::of(b"")), Err(StoreError::Moved { .. })));
    assert_eq!(fs::read_dir(&root).unwrap().count(), 0, "nothing was written to what lies there now");
}

#[test]
fn a_folder_that_is_not_there_is_made_on_purpose_only() {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path().join("store");
    let location = Folder::new(&root);
    assert!(matches!(location.write("one", b"1"), Err(StoreError::Moved { .. })));
    assert!(matches!(location.read("one"), Err(StoreError::Missing { .. })));
    assert_eq!(location.list("").unwrap(), []);
    assert!(!root.exists());
}

#[test]
fn two_makers_of_a_folder_do_not_hinder_each_other_and_an_error_is_told() {
    let folder = tempfile::tempdir().unwrap();
    std::thread::scope(|scope| {
        for _ in 0..8 {
            scope.spawn(|| make_folders(&folder.path().join("a/b/c/d/e/f")).unwrap());
        }
    });
    fs::write(folder.path().join("file"), b"").unwrap();
    assert!(make_folders(&folder.path().join("file")).is_err());
    assert!(make_folders(&folder.path().join("file/below")).is_err());
}

#[test]
fn what_a_dead_writer_left_is_discarded_and_nothing_else() {
    let folder = tempfile::tempdir().unwrap();
    let location = Folder::new(folder.path());
    location.write("payload/w/one/000000.zst", b"published").unwrap();
    let incoming = folder.path().join(INCOMING);
    for name in ["payload+w+one+000001.zst.12-0", "payload+w+two+000000.zst.12-1"] {
        fs::write(incoming.join(name), b"half").unwrap();
        let file = File::options().write(true).open(incoming.join(name)).unwrap();
        file.set_modified(std::time::UNIX_EPOCH).unwrap();
    }
    let mut living = location.create("payload/w/one/000002.zst").unwrap();
    living.write_all(b"half").unwrap();
    location.discard_unpublished("payload/w/one/", false).unwrap();
    let left: Vec<_> = fs::read_dir(folder.path().join(INCOMING)).unwrap().map(|e| e.unwrap().file_name()).collect();
    let of_one: Vec<_> = left.iter().filter(|name| name.to_string_lossy().contains("+one+")).collect();
    assert!(left.len() == 2 && of_one.len() == 1, "{left:?}");
    assert!(of_one[0].to_string_lossy().starts_with("payload+w+one+000002"), "what is being written stays");
    living.publish(Hash::of(b"half")).unwrap();
    assert_eq!(location.read("payload/w/one/000000.zst").unwrap(), b"published");
}

#[test]
fn what_cannot_be_made_durable_is_written_anew_and_only_if_it_is_still_what_it_was() {
    let failing = || io::Error::other("a bad sector");
    thread_local! {
        static FAILURES: std::cell::Cell<u32> = const { std::cell::Cell::new(0) };
    }
    let written = |sync: fn(&File) -> io::Result<()>| {
        FAILURES.set(0);
        let folder = tempfile::tempdir().unwrap();
        let location = Folder { sync, ..Folder::new(folder.path()) };
        let written = location.write("one", b"0123456789");
        let left = fs::read_dir(folder.path().join(INCOMING)).unwrap().count();
        assert_eq!(left, 0, "nothing is left behind");
        (written, location.read("one").ok())
    };
    // Once: it is written anew.
    let (once, bytes) = written(|_| {
        FAILURES.set(FAILURES.get() + 1);
        if FAILURES.get() == 1 { Err(io::Error::other("a bad sector")) } else { Ok(()) }
    });
    assert_eq!((once.is_ok(), bytes.as_deref()), (true, Some(b"0123456789".as_slice())));
    // Always: it is not there, and the first error is told.
    let (always, bytes) = written(|_| Err(io::Error::other("a bad sector")));
    assert!(matches!(always, Err(StoreError::Io(error)) if error.source.to_string() == failing().to_string()));
    assert_eq!(bytes, None);
    // Once, and what was written is lost with it.
    let (lost, bytes) = written(|file| {
        FAILURES.set(FAILURES.get() + 1);
        if FAILURES.get() > 1 {
            return Ok(());
        }
        file.set_len(4)?;
        Err(io::Error::other("a bad sector"))
    });
    assert_eq!((lost.is_err(), bytes), (true, None));
}

#[test]
fn a_race_for_one_name_has_one_winner() {
    let folder = tempfile::tempdir().unwrap();
    let location = Folder::new(folder.path());
    let object = location.create("one").unwrap();
    fs::write(folder.path().join("one"), b"earlier").unwrap();
    assert!(matches!(object.publish(Hash::of(b"")), Err(StoreError::Exists { .. })));
    assert_eq!(location.read("one").unwrap(), b"earlier");
}

#[test]
fn a_folder_says_where_it_is_and_how_much_room_there_is() {
    let folder = tempfile::tempdir().unwrap();
    let location = Folder::new(folder.path());
    location.prepare().unwrap();
    assert_eq!(location.describe(), folder.path().display().to_string());
    assert!(location.free_space().unwrap().is_some_and(|free| free > 1 << 20));
}

#[test]
fn a_folder_that_cannot_be_looked_at_is_another_trouble_than_one_that_moved() {
    let folder = tempfile::tempdir().unwrap();
    let above = folder.path().join("above");
    let location = Folder::new(above.join("store"));
    location.prepare().unwrap();
    location.write("one", b"1").unwrap();
    fs::rename(&above, folder.path().join("away")).unwrap();
    assert!(matches!(location.confirm(), Err(StoreError::Moved { .. })));
    // A file where a folder was: the system says that it is no folder.
    fs::write(&above, "x").unwrap();
    assert!(matches!(location.confirm(), Err(StoreError::Io(_))), "{:?}", location.confirm());
}

#[test]
fn only_what_is_not_there_has_no_length() {
    let folder = tempfile::tempdir().unwrap();
    let location = Folder::new(folder.path());
    location.write("payload/one", b"123").unwrap();
    assert_eq!(location.length("payload/one").unwrap(), Some(3));
    assert_eq!(location.length("payload/two").unwrap(), None);
    assert!(matches!(location.length("payload/one/three"), Err(StoreError::Io(_))), "a file is no folder");
}

#[test]
fn a_folder_of_very_many_folders_is_listed_whole_and_in_order() {
    let place = tempfile::tempdir().unwrap();
    let folder = Folder::new(place.path());
    let mut wanted = Vec::new();
    for number in 0..MANY_FOLDERS + 90 {
        let name = format!("remarks/desk/w/{number:05}/{}", number % 7);
        fs::create_dir_all(place.path().join(&name).parent().unwrap()).unwrap();
        fs::write(place.path().join(&name), vec![b'x'; number]).unwrap();
        wanted.push(ObjectInfo { name, length: number as u64 });
    }
    fs::write(place.path().join("remarks/desk/w/beside"), "").unwrap();
    wanted.push(ObjectInfo { name: "remarks/desk/w/beside".to_owned(), length: 0 });
    wanted.sort();
    assert_eq!(folder.list("remarks/").unwrap(), wanted);
    let names: Vec<String> = wanted.into_iter().map(|object| object.name).collect();
    assert_eq!(folder.names("").unwrap(), names);
}

#[test]
fn what_is_no_file_is_not_read_and_not_waited_for() {
    let folder = tempfile::tempdir().unwrap();
    let location = Folder::new(folder.path());
    location.write("payload/w/one.zst", b"x").unwrap();
    for name in ["payload/w/pipe.zst", ".incoming/payload.w.1-1"] {
        let made = std::process::Command::new("mkfifo").arg(folder.path().join(name)).status().unwrap();
        assert!(made.success());
    }
    std::os::unix::fs::symlink("/dev/zero", folder.path().join("payload/w/zero.zst")).unwrap();
    for name in ["payload/w/pipe.zst", "payload/w/zero.zst", "payload/w"] {
        assert!(matches!(location.open(name), Err(StoreError::Io(_))), "{name}");
    }
    location.discard_unpublished("payload", true).unwrap();
    assert_eq!(location.read("payload/w/one.zst").unwrap(), b"x");
}
