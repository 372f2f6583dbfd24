use super::entry::NAMED_MAX;
use super::writer::{BLOCK_MAX, LINE_MAX, is_boundary};
use super::*;
use crate::cache::Cache;
use crate::deposit::{Deposit, DepositOptions};
use crate::location::Memory;
use crate::reader::ChunkReader;
use std::sync::Arc;

pub(crate) fn file(path: &str, size: u64) -> Entry {
    Entry {
        mode: 0o640,
        uid: 7,
        gid: 8,
        mtime: (1_795_000_000, 5),
        size,
        chunks: vec![Hash::of(path.as_bytes())],
        ..Entry::bare(PathName::new(path), Kind::File)
    }
}

fn stored(entries: &[Entry]) -> (ChunkReader, ListingRef, u64) {
    let folder = tempfile::tempdir().unwrap();
    let memory = Memory::default();
    let mut cache = Cache::open(&folder.path().join("cache.db")).unwrap();
    let options = DepositOptions::default();
    let mut deposit = Deposit::new(Arc::new(memory.clone()), &mut cache, "w", "r", &options).unwrap();
    let mut listing = ListingWriter::default();
    let mut put = |bytes: &[u8]| deposit.put(bytes);
    for entry in entries {
        listing.push_any(entry, &mut put).unwrap();
    }
    let root = listing.finish(&mut put).unwrap();
    let done = deposit.finish().unwrap();
    let mut reader = ChunkReader::new(Arc::new(memory), crate::Identities::default());
    for file in &done.holdings.wrote {
        reader.add(&file.name).unwrap();
    }
    (reader, root, done.tally.new_chunks)
}

#[test]
fn what_is_listed_is_read_and_found_again() {
    let mut entries: Vec<Entry> = (0..5000).map(|n| file(&format!("lists/{n:05}.json"), n + 1)).collect();
    entries.push(file("lists/a-b", 1));
    entries.push(file("lists/a/b", 1));
    entries.sort_by(|a, b| a.path.cmp(&b.path));
    let (mut reader, root, _) = stored(&entries);
    let mut seen = Vec::new();
    let mut listing = ListingReader::new(&mut reader);
    listing
        .for_each(&root.root, |entry, _| {
            seen.push(entry);
            Ok::<_, StoreError>(())
        })
        .unwrap();
    assert_eq!(seen, entries);
    assert_eq!(root.entries, 5002);
    for path in ["lists/00000.json", "lists/03217.json", "lists/a-b", "lists/a/b"] {
        assert_eq!(listing.find(&root.root, &PathName::new(path)).unwrap().unwrap().path, PathName::new(path));
    }
    for (below, expected) in [("lists/a", 1), ("lists", 5002), ("lists/03217.json", 1), ("li", 0), ("z", 0)] {
        let mut count = 0;
        listing
            .for_each_below(&root.root, Some(&PathName::new(below)), |_, _| {
                count += 1;
                Ok::<_, StoreError>(())
            })
            .unwrap();
        assert_eq!(count, expected, "{below}");
    }
    assert_eq!(listing.find(&root.root, &PathName::new("lists")).unwrap(), None);
    assert_eq!(listing.find(&root.root, &PathName::new("z")).unwrap(), None);
}

#[test]
fn a_listing_that_would_cost_without_end_is_refused_at_once() {
    let folder = tempfile::tempdir().unwrap();
    let memory = Memory::default();
    let mut cache = Cache::open(&folder.path().join("cache.db")).unwrap();
    let mut deposit = Deposit::new(Arc::new(memory.clone()), &mut cache, "w", "r", &DepositOptions::default()).unwrap();
    let mut bombs = Vec::new();
    let one = format!("{}\n", serde_json::to_string(&file("a", 1)).unwrap());
    for bottom in ["\n", one.as_str()] {
        let mut at = deposit.put(bottom.as_bytes()).unwrap();
        for level in 0..LEVELS_MAX {
            // Each level has the one below it ten thousand times.
            let child = || Child { first: PathName::new("a"), chunk: at, entries: 1 };
            let children = (0..10_000).map(|_| child()).collect();
            let node = Node { listing: LISTING_VERSION, level, children };
            at = deposit.put(&serde_json::to_vec(&node).unwrap()).unwrap();
        }
        bombs.push(at);
    }
    let nothing = Node { listing: LISTING_VERSION, level: 0, children: Vec::new() };
    let nothing = deposit.put(&serde_json::to_vec(&nothing).unwrap()).unwrap();
    let child = || Child { first: PathName::new("a"), chunk: nothing, entries: 0 };
    let above = Node { listing: LISTING_VERSION, level: 1, children: (0..10_000).map(|_| child()).collect() };
    bombs.push(deposit.put(&serde_json::to_vec(&above).unwrap()).unwrap());
    let done = deposit.finish().unwrap();
    let mut reader = ChunkReader::new(Arc::new(memory), crate::Identities::default());
    for file in &done.holdings.wrote {
        reader.add(&file.name).unwrap();
    }
    for bomb in bombs {
        let mut seen = 0;
        let result = ListingReader::new(&mut reader).for_each(&bomb, |_, _| {
            seen += 1;
            Ok::<_, StoreError>(())
        });
        assert!(matches!(result, Err(StoreError::Damaged { .. })) && seen <= 1, "{seen}");
    }
    assert!(
        ListingReader::new(&mut reader).for_each(&nothing, |_, _| Ok::<_, StoreError>(())).is_ok(),
        "no entries at all"
    );
}

#[test]
fn a_file_of_very_many_chunks_and_attributes_is_listed_and_read_again() {
    let folder = tempfile::tempdir().unwrap();
    let memory = Memory::default();
    let mut cache = Cache::open(&folder.path().join("cache.db")).unwrap();
    let mut deposit = Deposit::new(Arc::new(memory.clone()), &mut cache, "w", "r", &DepositOptions::default()).unwrap();
    let ids = |count: u32| -> Vec<Hash> { (0..count).map(|number| Hash::of(&number.to_le_bytes())).collect() };
    let counts = [0, 1, NAMED_MAX as u32, NAMED_MAX as u32 + 1, 100_000];
    let mut listing = ListingWriter::default();
    let mut put = |bytes: &[u8]| {
        assert!(bytes.len() <= BLOCK_MAX + LINE_MAX);
        deposit.put(bytes)
    };
    for count in counts {
        let mut entry = file(&format!("f{count:06}"), u64::from(count));
        entry.set_chunks(ids(count), &mut put).unwrap();
        assert_eq!(entry.lists.is_empty(), count <= NAMED_MAX as u32);
        // What else makes a line long.
        entry.xattrs = (0..40).map(|number| (format!("user.{number}"), "x".repeat(64 << 10))).collect();
        listing.push(&entry, &mut put).unwrap();
    }
    let mut beyond = file("g", 1);
    beyond.xattrs = (0..100).map(|number| (format!("user.{number}"), "x".repeat(64 << 10))).collect();
    assert!(listing.push(&beyond, &mut put).is_err());
    let root = listing.finish(&mut put).unwrap();
    let done = deposit.finish().unwrap();
    let mut reader = ChunkReader::new(Arc::new(memory), crate::Identities::default());
    for file in &done.holdings.wrote {
        reader.add(&file.name).unwrap();
    }
    let mut seen = Vec::new();
    let mut listing = ListingReader::new(&mut reader);
    listing
        .for_each(&root.root, |entry, chunks| {
            let mut found = Vec::new();
            entry.each_chunk(chunks, |id, _| {
                found.push(*id);
                Ok::<_, StoreError>(())
            })?;
            assert_eq!(found, ids(entry.size as u32));
            seen.push(entry.size as u32);
            Ok::<_, StoreError>(())
        })
        .unwrap();
    assert_eq!(seen, counts);
    // A list that is none is refused.
    let mut wrong = file("w", 1);
    wrong.lists = vec![root.root];
    assert!(wrong.each_chunk(&mut reader, |_, _| Ok::<_, StoreError>(())).is_err());
}

#[test]
fn a_change_in_a_large_file_changes_few_of_its_lists() {
    let lists = |chunks: &[Hash]| {
        let mut entry = file("f", 1);
        entry.set_chunks(chunks.to_vec(), &mut |bytes: &[u8]| Ok(Hash::of(bytes))).unwrap();
        entry.lists
    };
    let mut ids: Vec<Hash> = (0..200_000u32).map(|number| Hash::of(&number.to_le_bytes())).collect();
    let before = lists(&ids);
    ids.insert(70_000, Hash::of(b"inserted"));
    let after = lists(&ids);
    let new = after.iter().filter(|list| !before.contains(list)).count();
    assert!(before.len() > 20 && new <= 2, "{new} of {}", before.len());
}

#[test]
fn an_empty_listing_has_a_root() {
    let (mut reader, root, _) = stored(&[]);
    let mut listing = ListingReader::new(&mut reader);
    listing.for_each(&root.root, |entry, _| -> Result<(), StoreError> { panic!("{entry:?}") }).unwrap();
    assert_eq!(root.entries, 0);
}

#[test]
fn a_folder_is_followed_by_all_that_is_in_it() {
    let mut paths: Vec<PathName> = ["a-b", "a/c", "a", "a.b", "b"].map(PathName::new).into();
    paths.sort();
    assert_eq!(paths, ["a", "a/c", "a-b", "a.b", "b"].map(PathName::new));
}

#[test]
fn names_that_are_not_text_survive_json() {
    for bytes in [&b"caf\xe9"[..], b"new\nline", b"\xff\xfe", "ferry-\u{1f6a2}".as_bytes()] {
        let path = PathName::new(bytes);
        let json = serde_json::to_string(&path).unwrap();
        assert!(!json.contains('\n'));
        assert_eq!(serde_json::from_str::<PathName>(&json).unwrap(), path);
    }
}

proptest::proptest! {
    #![proptest_config(proptest::prelude::ProptestConfig::with_cases(300))]

    /// Whatever a node and a block hold, reading them ends, with entries in order whose paths stay below.
    #[test]
    fn a_listing_of_anything_is_read_or_refused(
        edits in proptest::collection::vec((proptest::prelude::any::<u16>(), proptest::prelude::any::<u8>()), 1..8),
        in_node: bool,
    ) {
        let mut entries: Vec<Entry> = ["a", "a/b", "c"].map(|path| file(path, 1)).into();
        entries[1].same_as = Some(PathName::new("a"));
        let block: Vec<u8> =
            entries.iter().flat_map(|entry| [serde_json::to_vec(entry).unwrap(), b"\n".to_vec()].concat()).collect();
        let change = |mut bytes: Vec<u8>| {
            for (at, byte) in &edits {
                let at = usize::from(*at) % bytes.len();
                bytes[at] = *byte;
            }
            bytes
        };
        let block = if in_node { block } else { change(block) };
        let children = vec![Child { first: PathName::new("a"), chunk: Hash::of(&block), entries: 3 }];
        let node = serde_json::to_vec(&Node { listing: LISTING_VERSION, level: 0, children }).unwrap();
        let node = if in_node { change(node) } else { node };
        let folder = tempfile::tempdir_in("/dev/shm").unwrap();
        let memory = Memory::default();
        let mut cache = Cache::open(&folder.path().join("cache.db")).unwrap();
        let options = DepositOptions::default();
        let mut deposit = Deposit::new(Arc::new(memory.clone()), &mut cache, "w", "r", &options).unwrap();
        deposit.put(&block).unwrap();
        let root = deposit.put(&node).unwrap();
        let done = deposit.finish().unwrap();
        let mut reader = ChunkReader::new(Arc::new(memory), crate::Identities::default());
        reader.add(&done.holdings.wrote[0].name).unwrap();
        let mut last = PathName::default();
        let _ = ListingReader::new(&mut reader).for_each(&root, |entry, _| {
            assert!(entry.path.is_plain() && last < entry.path);
            last = entry.path;
            Ok::<_, StoreError>(())
        });
        let _ = ListingReader::new(&mut reader).find(&root, &PathName::new("a/b"));
    }
}

#[test]
fn paths_that_lead_elsewhere_are_refused() {
    for path in ["/etc/passwd", "../x", "a/../../x", "a//b", "", ".", "a/./b", "a\0b"] {
        assert!(!PathName::new(path).is_plain(), "{path:?}");
        let (mut reader, root, _) = stored(&[file(path, 1)]);
        let read = ListingReader::new(&mut reader).for_each(&root.root, |_, _| Ok::<_, StoreError>(()));
        assert!(read.is_err(), "{path:?}");
    }
}

/// What differs, found by looking at every entry of both.
fn by_looking(first: &[Entry], second: &[Entry]) -> Vec<Difference> {
    let map = |entries: &[Entry]| -> std::collections::BTreeMap<PathName, Entry> {
        entries.iter().map(|entry| (entry.path.clone(), entry.clone())).collect()
    };
    let (a, b) = (map(first), map(second));
    let paths: std::collections::BTreeSet<&PathName> = a.keys().chain(b.keys()).collect();
    let differs = |path: &PathName| match (a.get(path).cloned(), b.get(path).cloned()) {
        (Some(one), Some(other)) if one != other => Some(Difference::Changed(Box::new(one), Box::new(other))),
        (Some(one), None) => Some(Difference::Gone(Box::new(one))),
        (None, Some(other)) => Some(Difference::Added(Box::new(other))),
        _ => None,
    };
    paths.into_iter().filter_map(differs).collect()
}

#[test]
fn two_listings_of_any_shapes_differ_where_their_entries_do() {
    let all: Vec<Entry> = (0..3000).map(|n| file(&format!("lists/{n:05}.json"), 1)).collect();
    let changed = |wanted: &dyn Fn(usize) -> bool| -> Vec<Entry> {
        let change =
            |(n, entry): (usize, &Entry)| Entry { size: if wanted(n) { 2 } else { entry.size }, ..entry.clone() };
        all.iter().enumerate().map(change).collect()
    };
    let kept = |wanted: &dyn Fn(usize) -> bool| -> Vec<Entry> {
        all.iter().enumerate().filter(|(n, _)| wanted(*n)).map(|(_, entry)| entry.clone()).collect()
    };
    let shapes = [
        Vec::new(),
        all[..1].to_vec(),
        all[2999..].to_vec(),
        all[..40].to_vec(),
        all[1000..].to_vec(),
        kept(&|n| n % 7 != 3),
        kept(&|n| !(500..2500).contains(&n)),
        changed(&|n| n == 1234),
        changed(&|n| n % 300 == 299),
        all.clone(),
    ];
    let kept: Vec<_> = shapes.iter().map(|entries| stored(entries)).collect();
    for (x, first) in shapes.iter().enumerate() {
        for (y, second) in shapes.iter().enumerate() {
            let (mut a, one) = (kept[x].0.another(), kept[x].1);
            let (mut b, other) = (kept[y].0.another(), kept[y].1);
            let mut found = Vec::new();
            let took = |difference| {
                found.push(difference);
                Ok::<_, StoreError>(())
            };
            compare((&mut a, &one.root), (&mut b, &other.root), took).unwrap();
            assert!(found == by_looking(first, second), "shape {x} against shape {y}: {} found", found.len());
        }
    }
}

#[test]
fn what_two_listings_share_is_passed_over_unread() {
    let folder = tempfile::tempdir().unwrap();
    let memory = Memory::default();
    let mut cache = Cache::open(&folder.path().join("cache.db")).unwrap();
    let mut entries: Vec<Entry> = (0..5000).map(|n| file(&format!("lists/{n:05}.json"), 1)).collect();
    let mut put = |entries: &[Entry], run: &str| {
        let options = DepositOptions::default();
        let mut deposit = Deposit::new(Arc::new(memory.clone()), &mut cache, "w", run, &options).unwrap();
        let mut listing = ListingWriter::default();
        for entry in entries {
            listing.push(entry, &mut |bytes| deposit.put(bytes)).unwrap();
        }
        let root = listing.finish(&mut |bytes| deposit.put(bytes)).unwrap();
        (root, deposit.finish().unwrap().holdings)
    };
    put(&entries, "shared");
    // The files of the two hold what is new in them, and of what they share nothing.
    let mut changed = |size: u64, run: &str| {
        entries[3210].size = size;
        let (root, holdings) = put(&entries, run);
        let mut reader = ChunkReader::new(Arc::new(memory.clone()), crate::Identities::default());
        for file in &holdings.wrote {
            reader.add(&file.name).unwrap();
        }
        (reader, root)
    };
    let ((mut a, one), (mut b, other)) = (changed(2, "one"), changed(3, "other"));
    let mut found = Vec::new();
    let took = |difference| {
        found.push(difference);
        Ok::<_, StoreError>(())
    };
    compare((&mut a, &one.root), (&mut b, &other.root), took).unwrap();
    let [Difference::Changed(one_file, other_file)] = &found[..] else { panic!("{found:?}") };
    assert_eq!((one_file.size, other_file.size), (2, 3));
    // That is so: neither can be read whole.
    let whole = ListingReader::new(&mut a).for_each(&one.root, |_, _| Ok::<_, StoreError>(()));
    assert!(matches!(whole, Err(StoreError::NoChunk { .. })), "{whole:?}");
}

#[test]
fn what_could_not_be_read_again_is_not_written() {
    let mut put = |_: &[u8]| -> Result<Hash, StoreError> { unreachable!("a block is not closed") };
    for path in ["", "/a", "a//b", "a/", "a/.", "./a", "a/../b", ".."] {
        let error = ListingWriter::default().push(&file(path, 1), &mut put).unwrap_err();
        assert!(error.to_string().contains("no plain path"), "{path:?}: {error}");
    }
}

#[test]
fn a_listing_of_several_levels_is_read_and_found_again() {
    // Paths so long that a node is full with few blocks, and after each 18 of them one that ends a block.
    let long = "x".repeat(3900);
    let path = |number: usize, more: u32| format!("{number:05}/{more}{long}");
    let ends = |number: &usize| (0..).find(|more| is_boundary(&PathName::new(path(*number, *more))));
    let more_of = |number: usize| if number % 19 == 18 { ends(&number).unwrap() } else { 0 };
    let entries: Vec<Entry> = (0..4000).map(|number| file(&path(number, more_of(number)), 1)).collect();
    let (mut reader, root, _) = stored(&entries);
    assert_eq!(root.entries, 4000);
    let top: serde_json::Value = serde_json::from_slice(&reader.get(&root.root).unwrap()).unwrap();
    assert_eq!(top["level"], 1, "{top}");
    let mut listing = ListingReader::new(&mut reader);
    let mut seen = 0;
    listing
        .for_each(&root.root, |entry, _| {
            assert_eq!(entry.path, entries[seen].path);
            seen += 1;
            Ok::<_, StoreError>(())
        })
        .unwrap();
    assert_eq!(seen, 4000);
    for number in [0, 1, 1999, 2000, 3999] {
        assert_eq!(listing.find(&root.root, &entries[number].path).unwrap().as_ref(), Some(&entries[number]));
        let mut below = 0;
        let folder = PathName::new(format!("{number:05}"));
        let count = |_: Entry, _: &mut ChunkReader| {
            below += 1;
            Ok::<_, StoreError>(())
        };
        listing.for_each_below(&root.root, Some(&folder), count).unwrap();
        assert_eq!(below, 1);
    }
    assert_eq!(listing.find(&root.root, &PathName::new("02000/y")).unwrap(), None);
    // Trees of other heights, and ones that begin elsewhere.
    for other in [&entries[1000..], &entries[..5], &entries[3990..]] {
        let ((mut b, there, _), mut a) = (stored(other), reader.another());
        for is_swapped in [false, true] {
            let (mut gone, mut added) = (0, 0);
            let count = |difference: Difference| {
                match difference {
                    Difference::Gone(_) => gone += 1,
                    Difference::Added(_) => added += 1,
                    Difference::Changed(..) => panic!("nothing is changed"),
                }
                Ok::<_, StoreError>(())
            };
            match is_swapped {
                false => compare((&mut a, &root.root), (&mut b, &there.root), count).unwrap(),
                true => compare((&mut b, &there.root), (&mut a, &root.root), count).unwrap(),
            }
            let lacking = 4000 - other.len();
            assert_eq!((gone, added), if is_swapped { (0, lacking) } else { (lacking, 0) });
        }
    }
}
