//! A hostile store restores nothing outside its folder, and overwrites nothing.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::sync::Arc;

use gullet_store::{Cache, Deposit, DepositOptions, Hash, Memory};

use super::*;

struct Stage {
    folder: tempfile::TempDir,
    chunks: ChunkReader,
    id: Hash,
}

/// An empty target beside a folder with a precious file, and a store with one chunk.
fn stage() -> Stage {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("target")).unwrap();
    fs::write(folder.path().join("precious"), "mine").unwrap();
    let memory = Memory::default();
    let mut cache = Cache::open(&folder.path().join("cache.db")).unwrap();
    let mut deposit = Deposit::new(Arc::new(memory.clone()), &mut cache, "w", "r", &DepositOptions::default()).unwrap();
    let id = deposit.put(b"evil").unwrap();
    let holdings = deposit.finish().unwrap().holdings;
    let mut chunks = ChunkReader::new(Arc::new(memory), gullet_store::Identities::default());
    chunks.add(&holdings.wrote[0].name).unwrap();
    Stage { folder, chunks, id }
}

impl Stage {
    fn target(&self) -> Target {
        Target::open(&self.folder.path().join("target")).unwrap()
    }

    fn entry(&self, path: &str, kind: Kind) -> Entry {
        Entry {
            mode: 0o644,
            uid: rustix::process::geteuid().as_raw(),
            gid: rustix::process::getegid().as_raw(),
            mtime: (1_000_000_000, 0),
            size: if kind == Kind::File { 4 } else { 0 },
            chunks: if kind == Kind::File { vec![self.id] } else { Vec::new() },
            ..Entry::bare(PathName::new(path), kind)
        }
    }

    fn link(&self, path: &str, target: &str) -> Entry {
        Entry { target: Some(PathName::new(target)), ..self.entry(path, Kind::Symlink) }
    }

    /// Nothing but what the test put there lies beside the target.
    fn outside_is_untouched(&self) {
        assert_eq!(fs::read_to_string(self.folder.path().join("precious")).unwrap(), "mine");
        let mut names: Vec<String> =
            fs::read_dir(self.folder.path()).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
        names.retain(|name| !name.starts_with("cache."));
        names.sort();
        assert_eq!(names, ["precious", "target"]);
    }
}

#[test]
fn nothing_is_written_through_a_link_that_the_listing_made() {
    for (link, target, then) in
        [("a", "..", "a/evil"), ("a", "../precious", "a"), ("a/b", "../..", "a/b/evil"), ("a", "/tmp", "a/gullet-evil")]
    {
        let mut stage = stage();
        let mut to = stage.target();
        to.write(&stage.link(link, target), &mut stage.chunks).unwrap();
        let file = stage.entry(then, Kind::File);
        assert!(to.write(&file, &mut stage.chunks).is_err(), "{link} -> {target}, then {then}");
        let folder = stage.entry(then, Kind::Folder);
        assert!(to.write(&folder, &mut stage.chunks).is_err(), "{link} -> {target}, then folder {then}");
        to.finish();
        stage.outside_is_untouched();
        assert!(!Path::new("/tmp/gullet-evil").exists());
    }
}

#[test]
fn hard_links_to_elsewhere_are_refused() {
    let mut stage = stage();
    let mut to = stage.target();
    to.write(&stage.link("a", ".."), &mut stage.chunks).unwrap();
    for first in ["../precious", "/etc/passwd", "a/precious"] {
        let entry = Entry { same_as: Some(PathName::new(first)), ..stage.entry("stolen", Kind::File) };
        assert!(to.write(&entry, &mut stage.chunks).is_err(), "{first}");
    }
    stage.outside_is_untouched();
}

#[test]
fn nothing_that_exists_is_overwritten() {
    let mut stage = stage();
    let mut to = stage.target();
    let file = stage.entry("twice", Kind::File);
    to.write(&file, &mut stage.chunks).unwrap();
    fs::write(stage.folder.path().join("target/twice"), "changed since").unwrap();
    assert!(matches!(to.write(&file, &mut stage.chunks), Err(WriteError::System(_))));
    assert_eq!(fs::read_to_string(stage.folder.path().join("target/twice")).unwrap(), "changed since");
}

#[test]
fn a_file_whose_bytes_cannot_be_proven_is_not_left_behind() {
    let mut stage = stage();
    let mut to = stage.target();
    let lost = Entry { chunks: vec![Hash::of(b"never stored")], ..stage.entry("lost", Kind::File) };
    assert!(matches!(to.write(&lost, &mut stage.chunks), Err(WriteError::Bytes(_))));
    for size in [0, 3, 5, 1 << 60] {
        let wrong = Entry { size, ..stage.entry("wrong", Kind::File) };
        let written = to.write(&wrong, &mut stage.chunks);
        assert!(matches!(written, Err(WriteError::Length { .. })), "{size}: {written:?}");
    }
    let holes = Entry { size: 100, data: Some(vec![(u64::MAX - 2, 4)]), ..stage.entry("holes", Kind::File) };
    assert!(to.write(&holes, &mut stage.chunks).is_err(), "a place beyond every file");
    assert_eq!(fs::read_dir(stage.folder.path().join("target")).unwrap().count(), 0);
}

#[test]
fn attributes_are_set_and_folders_get_theirs_last() {
    let mut stage = stage();
    let mut to = stage.target();
    let folder = Entry { mode: 0o500, ..stage.entry("d", Kind::Folder) };
    to.write(&folder, &mut stage.chunks).unwrap();
    to.write(&Entry { mode: 0o4750, ..stage.entry("d/f", Kind::File) }, &mut stage.chunks).unwrap();
    to.finish();
    let meta = |name: &str| fs::metadata(stage.folder.path().join("target").join(name)).unwrap();
    assert_eq!((meta("d").mode() & 0o7777, meta("d").mtime()), (0o500, 1_000_000_000));
    assert_eq!((meta("d/f").mode() & 0o7777, meta("d/f").mtime()), (0o4750, 1_000_000_000));
    assert!(to.not_set.is_empty(), "{:?}", to.not_set);
}
