//! A listing that takes over blocks of the last one, against one that is built from nothing: they must be the same, and what
//! the run says it stands on must be enough to read all of it.

use std::collections::BTreeMap;
use std::sync::Arc;

use gullet_store::listing::{Entry, ListingReader};
use gullet_store::{Cache, ChunkReader, DepositOptions, Deposited, Identities, Memory};
use proptest::prelude::*;

use super::*;

/// Paths, and the contents at each.
type Tree = BTreeMap<String, u32>;

struct Desk {
    memory: Memory,
    folder: tempfile::TempDir,
    cache: Cache,
}

fn entry(path: &str, contents: u32, chunk: Hash) -> Entry {
    Entry {
        mode: 0o640,
        uid: 7,
        gid: 8,
        mtime: (1_795_000_000, contents),
        size: 4,
        chunks: vec![chunk],
        ..Entry::bare(PathName::new(path), Kind::File)
    }
}

impl Desk {
    fn new() -> Self {
        let folder = tempfile::tempdir_in("/dev/shm").unwrap();
        let cache = Cache::open(&folder.path().join("cache.db")).unwrap();
        Self { memory: Memory::default(), folder, cache }
    }

    fn marks(&self) -> PathBuf {
        self.folder.path().join("marks")
    }

    /// Lists a tree as a run does; whole blocks are taken over where `last` has them unchanged.
    fn list(&mut self, run: &str, tree: &Tree, last: Marks) -> (ListingRef, Counts, Deposited) {
        let new = self.folder.path().join(run);
        let options = DepositOptions::default();
        let location = Arc::new(self.memory.clone());
        let mut deposit = Deposit::new(location, &mut self.cache, "w", run, &options).unwrap();
        let wanted = MustContain::new(&[], std::iter::empty());
        let mut lister = Lister::new(last.clone(), new, wanted, &mut deposit).unwrap();
        let mut sorted: Vec<_> =
            tree.iter().map(|(path, contents)| (PathName::new(path.as_str()), *contents)).collect();
        sorted.sort();
        let mut rest = sorted.as_slice();
        let mut number = 0;
        while let Some(((path, contents), after)) = rest.split_first() {
            while last.blocks().get(number).is_some_and(|block| block.last < *path) {
                number += 1;
            }
            let block = last.blocks().get(number).filter(|block| block.first == *path);
            let length = block.map_or(0, |block| block.entries as usize).min(rest.len());
            let is_same = block.is_some() && {
                let before = last.entries_of(number).unwrap();
                let now = rest[..length].iter().map(|(path, contents)| (path, *contents));
                before.len() == length && before.iter().map(|m| (&m.entry.path, m.entry.mtime.1)).eq(now)
            };
            if is_same && deposit.can_reuse(&last.blocks()[number].frames).unwrap() {
                lister.push_block(&last, number, &mut deposit).unwrap();
                rest = &rest[length..];
                continue;
            }
            let known = lister.last_of(path);
            let chunk = deposit.put(&contents.to_le_bytes()).unwrap();
            let entry = entry(&path.to_string(), *contents, chunk);
            let marked = Marked { entry, ctime: (0, 0), inode: 1, settled: true, news: News::New, staged: None };
            lister.push(marked, known.as_ref(), &mut deposit).unwrap();
            rest = after;
        }
        let listed = lister.finish(&mut deposit).unwrap();
        let done = deposit.finish().unwrap();
        if let Some(marks) = listed.marks {
            marks.keep(&self.marks(), &done).unwrap();
        }
        (listed.listing, listed.counts, done)
    }

    /// What a listing has, read with nothing but what its run says it stands on.
    fn read(&self, listing: &ListingRef, done: &Deposited) -> Tree {
        let mut reader = ChunkReader::new(Arc::new(self.memory.clone()), Identities::default());
        let wrote = done.holdings.wrote.iter().map(|file| &file.name);
        for name in wrote.chain(done.holdings.needs.iter().map(|need| &need.name)) {
            reader.add(name).unwrap();
        }
        let mut tree = Tree::new();
        let mut frames: BTreeMap<&str, &[[u32; 2]]> = BTreeMap::new();
        frames.extend(done.holdings.needs.iter().map(|need| (need.name.as_str(), need.frames.as_slice())));
        let is_named = |reader: &mut ChunkReader, id: &Hash| {
            let place = reader.place(id).unwrap();
            match frames.get(place.payload.as_str()) {
                Some(ranges) => ranges.iter().any(|[first, last]| (*first..=*last).contains(&place.frame)),
                None => done.holdings.wrote.iter().any(|file| file.name == place.payload),
            }
        };
        ListingReader::new(&mut reader)
            .for_each(&listing.root, |entry, chunks| {
                let bytes = chunks.get(&entry.chunks[0])?;
                assert!(is_named(chunks, &entry.chunks[0]), "{} lies in a frame that is not named", entry.path);
                tree.insert(entry.path.to_string(), u32::from_le_bytes(bytes.try_into().unwrap()));
                Ok::<_, StoreError>(())
            })
            .unwrap();
        assert!(is_named(&mut reader, &listing.root));
        tree
    }
}

/// A tree large enough for several blocks.
fn first_tree() -> Tree {
    (0..1500).map(|number| (format!("lists/{:02}/list-{number:05}.json", number % 37), number)).collect()
}

fn changes() -> impl Strategy<Value = Vec<(u32, u8)>> {
    prop::collection::vec((0u32..1700, 0u8..3), 0..12)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn taking_blocks_over_gives_the_listing_that_building_it_gives(rounds in prop::collection::vec(changes(), 1..4)) {
        let mut desk = Desk::new();
        let mut tree = first_tree();
        desk.list("r0", &tree, Marks::default());
        for (round, changes) in rounds.into_iter().enumerate() {
            let before = tree.clone();
            for (number, how) in changes {
                let path = format!("lists/{:02}/list-{number:05}.json", number % 37);
                if how == 0 {
                    tree.remove(&path);
                } else {
                    tree.insert(path, 10_000 * (round as u32 + 1) + number);
                }
            }
            let run = format!("r{}", round + 1);
            let (listing, counts, done) = desk.list(&run, &tree, Marks::open(&desk.marks()));
            let (scratch, _, _) = desk.list(&format!("{run}s"), &tree, Marks::default());
            prop_assert_eq!(listing, scratch);
            prop_assert_eq!(&desk.read(&listing, &done), &tree);
            let same = tree.iter().filter(|(path, contents)| before.get(*path) == Some(contents)).count() as u64;
            let gone = before.keys().filter(|path| !tree.contains_key(*path)).count() as u64;
            let new = tree.keys().filter(|path| !before.contains_key(*path)).count() as u64;
            prop_assert_eq!((counts.unchanged, counts.vanished, counts.new), (same, gone, new));
            prop_assert_eq!(counts.files, tree.len() as u64);
        }
    }
}

#[test]
fn an_unchanged_listing_stores_nothing_and_keeps_its_marks() {
    let mut desk = Desk::new();
    let tree = first_tree();
    let (first, _, _) = desk.list("one", &tree, Marks::default());
    let before = std::fs::read(desk.marks()).unwrap();
    let (second, counts, done) = desk.list("two", &tree, Marks::open(&desk.marks()));
    assert_eq!((first, counts.unchanged), (second, 1500));
    assert!(done.holdings.wrote.is_empty() && done.tally.new_chunks == 0);
    assert_eq!(std::fs::read(desk.marks()).unwrap(), before);
    assert_eq!(desk.read(&second, &done), tree);
}

#[test]
fn what_a_run_stands_on_does_not_grow_from_run_to_run() {
    let mut desk = Desk::new();
    let mut tree = first_tree();
    desk.list("r0", &tree, Marks::default());
    let mut frames = Vec::new();
    for round in 1..12u32 {
        // The same file changes every time: what it was before is needed no more.
        tree.insert("lists/05/list-00005.json".to_owned(), 50_000 + round);
        let (_, _, done) = desk.list(&format!("r{round}"), &tree, Marks::open(&desk.marks()));
        frames.push(done.holdings.needs.iter().flat_map(|need| &need.frames).count());
    }
    assert!(frames[10] <= frames[1] + 1, "{frames:?}");
}

#[test]
fn damaged_lines_are_not_believed() {
    let mut desk = Desk::new();
    let tree = first_tree();
    desk.list("one", &tree, Marks::default());
    let mut bytes = std::fs::read(desk.marks()).unwrap();
    let at = bytes.windows(6).position(|window| window == b"\"mode\"").unwrap();
    bytes[at + 7] ^= 1;
    std::fs::write(desk.marks(), bytes).unwrap();
    let mut marks = Marks::open(&desk.marks());
    let broken = marks.blocks().iter().enumerate().filter(|(number, _)| marks.entries_of(*number).is_none()).count();
    assert_eq!(broken, 1);
    let path = marks.blocks()[0].first.clone();
    assert!(marks.of(&path).is_none(), "it is read again from its source");
}
