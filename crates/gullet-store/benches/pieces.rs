//! The pieces of the store by themselves: cutting, hashing, storing, sealing, reading back, listing.
//!
//! Run with `cargo bench -p gullet-store`. For the whole against general tools see `scripts/bench.sh`.
#![allow(clippy::unwrap_used, reason = "a bench that cannot go on should panic")]
#![allow(missing_docs, reason = "criterion's macros make undocumented functions")]

use std::convert::Infallible;
use std::hint::black_box;
use std::sync::Arc;

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use gullet_store::listing::{Entry, Kind, ListingWriter, PathName};
use gullet_store::{
    Cache, ChunkReader, Cut, Deposit, DepositOptions, Hash, Identities, Memory, PayloadFile, Recipients, check_payload,
    cut_all, new_identity,
};

const SIZE: usize = 32 << 20;

/// Bytes without a pattern (xorshift64).
fn noise(length: usize) -> Vec<u8> {
    let mut state = 0x9E37_79B9_7F4A_7C15u64;
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state.to_le_bytes()
    };
    (0..length / 8).flat_map(|_| next()).collect()
}

/// Lines as a dump has them.
fn lines(length: usize) -> Vec<u8> {
    let mut text = String::with_capacity(length + 100);
    let mut number = 0u64;
    while text.len() < length {
        number += 1;
        let hash = number.wrapping_mul(0x9E37_79B9_7F4A_7C15);
        text.push_str(&format!(
            "INSERT INTO booking VALUES ({number}, 'Gannet Skerry', 'Tern Point', '{hash:016x}');\n"
        ));
    }
    text.truncate(length);
    text.into_bytes()
}

fn cut(bytes: &[u8], how: Cut) -> u64 {
    let each = |piece: &[u8]| {
        black_box(Hash::of(piece));
        Ok::<_, Infallible>(())
    };
    cut_all(bytes, how, |error| panic!("{error}"), each).unwrap()
}

fn deposit(bytes: &[u8], seal: &Recipients) -> (Memory, Vec<PayloadFile>) {
    let folder = tempfile::tempdir().unwrap();
    let memory = Memory::default();
    let mut cache = Cache::open(&folder.path().join("cache.db")).unwrap();
    let options = DepositOptions { seal: seal.clone(), ..DepositOptions::default() };
    let mut deposit = Deposit::new(Arc::new(memory.clone()), &mut cache, "w", "r", &options).unwrap();
    for piece in bytes.chunks(512 << 10) {
        deposit.put(piece).unwrap();
    }
    (memory, deposit.finish().unwrap().holdings.wrote)
}

fn pieces(criterion: &mut Criterion) {
    let (noise, lines) = (noise(SIZE), lines(SIZE));
    let (file, public) = new_identity("now", None).unwrap();
    let (keys, identities) = (Recipients::parse(&[public]).unwrap(), Identities::read(&file, &|| None).unwrap());

    let mut group = criterion.benchmark_group("bytes");
    group.throughput(Throughput::Bytes(SIZE as u64)).sample_size(10);
    group.bench_function("cut by contents, and hash", |bench| bench.iter(|| cut(&noise, Cut::Contents)));
    group.bench_function("cut into pages, and hash", |bench| bench.iter(|| cut(&noise, Cut::Pages)));
    group.bench_function("store lines", |bench| bench.iter(|| deposit(&lines, &Recipients::default())));
    group.bench_function("store noise", |bench| bench.iter(|| deposit(&noise, &Recipients::default())));
    group.bench_function("store noise, sealed", |bench| bench.iter(|| deposit(&noise, &keys)));
    for (name, seal) in [("read back", Recipients::default()), ("read back, sealed", keys)] {
        let (memory, files) = deposit(&lines, &seal);
        group.bench_function(name, |bench| {
            bench.iter(|| {
                for file in &files {
                    let report = check_payload(&memory, &identities, &file.name, Some(file), &|| false).unwrap();
                    assert!(report.is_sound());
                }
            });
        });
        let mut reader = ChunkReader::new(Arc::new(memory), identities.clone());
        files.iter().for_each(|file| reader.add(&file.name).unwrap());
        let ids: Vec<Hash> = lines.chunks(512 << 10).map(Hash::of).collect();
        let name = format!("{name}, by chunks");
        group.bench_function(name, |bench| bench.iter(|| ids.iter().for_each(|id| drop(reader.get(id).unwrap()))));
    }
    group.finish();

    let entries: Vec<Entry> = (0..20_000u32)
        .map(|number| Entry {
            mode: 0o640,
            uid: 7,
            gid: 8,
            mtime: (1_795_000_000, number),
            size: 4000,
            chunks: vec![Hash::of(&number.to_le_bytes())],
            ..Entry::bare(
                PathName::new(format!("var/lib/desk/lists/{:04}/list-{number:07}.json", number / 100)),
                Kind::File,
            )
        })
        .collect();
    let mut group = criterion.benchmark_group("entries");
    group.throughput(Throughput::Elements(entries.len() as u64)).sample_size(10);
    group.bench_function("list", |bench| {
        bench.iter(|| {
            let mut put = |bytes: &[u8]| Ok(Hash::of(bytes));
            let mut listing = ListingWriter::default();
            for entry in &entries {
                listing.push(entry, &mut put).unwrap();
            }
            listing.finish(&mut put).unwrap()
        });
    });
    group.finish();
}

criterion_group!(benches, pieces);
criterion_main!(benches);
