use super::*;
use crate::location::Memory;
use crate::payload::{OpenPayload, TocChunk};
use crate::reader::ChunkReader;
use crate::seal::Identities;

fn deposit(memory: &Memory, cache: &mut Cache, run: &str, chunks: &[&[u8]]) -> (Holdings, DepositTally) {
    sealed_deposit(memory, cache, run, &Recipients::default(), chunks)
}

fn sealed_deposit(
    memory: &Memory,
    cache: &mut Cache,
    run: &str,
    seal: &Recipients,
    chunks: &[&[u8]],
) -> (Holdings, DepositTally) {
    let options = DepositOptions { seal: seal.clone(), ..DepositOptions::default() };
    let mut deposit = Deposit::new(Arc::new(memory.clone()), cache, "w", run, &options).unwrap();
    for chunk in chunks {
        deposit.put(chunk).unwrap();
    }
    let done = deposit.finish().unwrap();
    (done.holdings, done.tally)
}

#[test]
fn only_what_every_key_of_the_run_opens_is_stood_on() {
    let folder = tempfile::tempdir().unwrap();
    let (memory, mut cache) = (Memory::default(), Cache::open(&folder.path().join("cache.db")).unwrap());
    let key = || crate::seal::new_identity("today", None).unwrap().1;
    let (one, two) = (key(), key());
    let keys = |texts: &[&String]| Recipients::parse(texts).unwrap();
    let mut new = |run, seal: &Recipients| sealed_deposit(&memory, &mut cache, run, seal, &[b"alpha"]).1.new_chunks;
    assert_eq!(new("a", &Recipients::default()), 1);
    assert_eq!(new("b", &keys(&[&one])), 1, "what is not encrypted is not stood on by what is");
    assert_eq!(new("c", &keys(&[&one])), 0);
    assert_eq!(new("d", &keys(&[&one, &two])), 1, "the new key could not open it");
}

#[test]
fn what_was_noted_is_found_by_file_and_frame() {
    let folder = tempfile::tempdir().unwrap();
    let (memory, mut cache) = (Memory::default(), Cache::open(&folder.path().join("cache.db")).unwrap());
    let (first, _) = deposit(&memory, &mut cache, "one", &[b"alpha"]);
    let options = DepositOptions::default();
    let mut second = Deposit::new(Arc::new(memory.clone()), &mut cache, "w", "two", &options).unwrap();
    second.put(b"unnoted").unwrap();
    second.note();
    second.put(b"alpha").unwrap();
    second.put(b"beta").unwrap();
    let uses = second.noted();
    let done = second.finish().unwrap();
    let frames = done.frames(&uses);
    assert_eq!(frames.get(&first.wrote[0].name), Some(&vec![[0, 0]]));
    assert_eq!(frames.get(&done.holdings.wrote[0].name), Some(&vec![[0, 0]]));
    let mut third = Deposit::new(Arc::new(memory.clone()), &mut cache, "w", "three", &options).unwrap();
    assert!(third.reuse_frames(&frames).unwrap());
    assert_eq!(third.finish().unwrap().holdings.needs.len(), 2);
    memory.remove(&first.wrote[0].name).unwrap();
    let mut fourth = Deposit::new(Arc::new(memory), &mut cache, "w", "four", &options).unwrap();
    assert!(!fourth.reuse_frames(&frames).unwrap());
}

#[test]
fn a_chunk_is_stored_once_and_the_second_run_names_what_it_needs() {
    let folder = tempfile::tempdir().unwrap();
    let (memory, mut cache) = (Memory::default(), Cache::open(&folder.path().join("cache.db")).unwrap());
    let (first, tally) = deposit(&memory, &mut cache, "one", &[b"alpha", b"beta", b"alpha"]);
    assert_eq!((tally.chunks, tally.new_chunks, first.wrote.len(), first.needs.len()), (3, 2, 1, 0));
    let (second, tally) = deposit(&memory, &mut cache, "two", &[b"beta", b"alpha"]);
    assert_eq!((tally.new_chunks, second.wrote.len()), (0, 0));
    assert_eq!(second.needs[0].name, first.wrote[0].name);
    assert_eq!(second.needs[0].frames, [[0, 0]]);

    let mut reader = ChunkReader::new(Arc::new(memory), Identities::default());
    reader.add(&second.needs[0].name).unwrap();
    assert_eq!(reader.get(&Hash::of(b"beta")).unwrap(), b"beta");
    assert!(matches!(reader.get(&Hash::of(b"gamma")), Err(StoreError::NoChunk { .. })));
}

#[test]
fn payload_that_is_gone_is_stored_anew() {
    let folder = tempfile::tempdir().unwrap();
    let (memory, mut cache) = (Memory::default(), Cache::open(&folder.path().join("cache.db")).unwrap());
    let (first, _) = deposit(&memory, &mut cache, "one", &[b"alpha"]);
    memory.remove(&first.wrote[0].name).unwrap();
    let (second, tally) = deposit(&memory, &mut cache, "two", &[b"alpha"]);
    assert_eq!((tally.new_chunks, second.wrote.len(), second.needs.len()), (1, 1, 0));
}

#[test]
fn changed_bytes_are_never_handed_out() {
    let folder = tempfile::tempdir().unwrap();
    let (memory, mut cache) = (Memory::default(), Cache::open(&folder.path().join("cache.db")).unwrap());
    let (first, _) = deposit(&memory, &mut cache, "one", &[b"a passenger list that is long enough"]);
    let file = &first.wrote[0];
    let whole = memory.read(&file.name).unwrap();
    for at in 0..whole.len() {
        memory.tamper(&file.name, |bytes| bytes[at] ^= 0x10);
        let mut reader = ChunkReader::new(Arc::new(memory.clone()), Identities::default());
        let got = reader.add(&file.name).and_then(|()| reader.get(&Hash::of(b"a passenger list that is long enough")));
        if let Ok(bytes) = got {
            assert_eq!(bytes, b"a passenger list that is long enough", "flip at {at}");
        }
        memory.tamper(&file.name, |bytes| bytes[at] ^= 0x10);
    }
}

#[test]
fn ranges_join_neighbours() {
    assert_eq!(ranges(&BTreeSet::from([0, 1, 2, 5, 7, 8])), [[0, 2], [5, 5], [7, 8]]);
}

#[test]
fn what_was_noted_is_found_in_whichever_file_of_the_run_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let (memory, mut cache) = (Memory::default(), Cache::open(&folder.path().join("cache.db")).unwrap());
    let options = DepositOptions { level: 1, ..DepositOptions::default() };
    let mut deposit = Deposit::new(Arc::new(memory.clone()), &mut cache, "w", "one", &options).unwrap();
    let mut rng = fastrand::Rng::with_seed(5);
    let mut chunk = || -> Vec<u8> { std::iter::repeat_with(|| rng.u8(..)).take(1 << 20).collect() };
    // More than fits one file.
    let mut noted = Vec::new();
    for _ in 0..90 {
        let bytes = chunk();
        deposit.note();
        let hash = deposit.put(&bytes).unwrap();
        noted.push((hash, deposit.noted()));
    }
    let done = deposit.finish().unwrap();
    assert!(done.holdings.wrote.len() > 1);
    for (hash, uses) in [&noted[0], &noted[44], &noted[89]] {
        let frames = done.frames(uses);
        let (name, ranges) = frames.iter().next().unwrap();
        let file = done.holdings.wrote.iter().find(|file| file.name == *name).unwrap();
        let [first, last] = ranges[0];
        assert!(ranges.len() == 1 && frames.len() == 1 && last < file.frames, "{frames:?} of {}", file.frames);
        let toc = OpenPayload::open(&memory, &Identities::default(), name).unwrap().contents().unwrap();
        let has = |chunk: &TocChunk| chunk.id == *hash && (first..=last).contains(&chunk.frame);
        assert!(toc.chunks.iter().any(has), "the frames that are named have the chunk");
    }
}
