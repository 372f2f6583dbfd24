//! Every byte of a small store is changed, sealed and not; objects are cut, swapped and lost; readers are fed nonsense. A full
//! verification finds it, nothing wrong is restored silently, and nothing panics.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on should panic")]
#![allow(clippy::disallowed_methods, reason = "a test stands outside of the core and hands it the real clock")]

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use gullet_host::world::{Clock, Stop, World};
use gullet_logbook::logbook::Logbook;
use gullet_logbook::sealed::document;
use gullet_logbook::verify::{Depth, Proven, Verification};
use gullet_model::definition;
use gullet_model::ids::Random;
use gullet_model::record::Host;
use gullet_model::record::{Capture, Counts, Layout, Record, Remark, RemarkKind};
use gullet_model::{Outcome, RunId};
use gullet_restore::restore::RestorePlan;
use gullet_store::listing::{Entry, Kind, ListingWriter, PathName};
use gullet_store::{
    Cache, Deposit, DepositOptions, Identities, Location, MachineInfo, Memory, Recipients, Store, new_identity,
};
use proptest::prelude::*;

struct Still;

impl Clock for Still {
    fn now(&self) -> jiff::Timestamp {
        "2026-11-25T01:00:00Z".parse().unwrap()
    }

    fn uptime(&self) -> Duration {
        Duration::ZERO
    }

    fn sleep(&self, _: Duration) {}
}

impl Random for Still {
    fn fill(&self, bytes: &mut [u8]) {
        bytes.fill(7);
    }
}

const TEXTS: [(&str, &str); 3] = [
    ("desk/lists/gannet.txt", "Una Tangle, berth 14"),
    ("desk/lists/tern.txt", "Brendan Wrack"),
    ("desk/port", "Tern Point"),
];

/// A folder in memory: tens of thousands of syncs of a disk would be all that is tested.
fn scratch() -> tempfile::TempDir {
    tempfile::tempdir_in("/dev/shm").unwrap()
}

struct Small {
    memory: Memory,
    identities: Identities,
}

/// A store with two runs of a few files, a remark and a retired machine.
fn small(sealed: bool) -> Small {
    small_with(sealed, |_| {})
}

/// The same, where the record of the second run was changed before it was written.
fn small_with(sealed: bool, change: impl Fn(&mut Record)) -> Small {
    let memory = Memory::default();
    let (file, public) = new_identity("today", None).unwrap();
    let keys = if sealed { Recipients::parse(&[public]).unwrap() } else { Recipients::default() };
    let identities = if sealed { Identities::read(&file, &|| None).unwrap() } else { Identities::default() };
    let location: Arc<dyn Location> = Arc::new(memory.clone());
    let store = Store::create(location, "s".to_owned(), "now".to_owned(), &keys).unwrap();
    let machine = MachineInfo { machine: "w".to_owned(), host: "skerry".to_owned(), since: "now".to_owned() };
    let machine_json = store.register(&machine).unwrap();
    let folder = scratch();
    let mut cache = Cache::open(&folder.path().join("cache.db")).unwrap();
    let mut previous = None;
    for (run, files) in [("one", 2), ("two", 3)] {
        let options = DepositOptions { seal: keys.clone(), ..DepositOptions::default() };
        let mut deposit = Deposit::new(Arc::new(memory.clone()), &mut cache, "w", run, &options).unwrap();
        let mut listing = ListingWriter::default();
        for (path, text) in &TEXTS[..files] {
            let chunks = vec![deposit.put(text.as_bytes()).unwrap()];
            let entry = Entry {
                mode: 0o640,
                mtime: (1_795_000_000, 5),
                size: text.len() as u64,
                chunks,
                ..Entry::bare(PathName::new(*path), Kind::File)
            };
            listing.push(&entry, &mut |bytes: &[u8]| deposit.put(bytes)).unwrap();
        }
        let listing = listing.finish(&mut |bytes: &[u8]| deposit.put(bytes)).unwrap();
        let holdings = deposit.finish().unwrap().holdings;
        let capture = Capture {
            part: "lists".to_owned(),
            each_of: None,
            each: Default::default(),
            kind: definition::PartKind::Files,
            required: true,
            problem: None,
            started: Still.now(),
            when: Default::default(),
            secured: None,
            took_ms: 1,
            layout: Layout::Source,
            roots: Vec::new(),
            listing: Some(listing),
            counts: Counts { files: files as u64, ..Counts::default() },
            facts: Default::default(),
            omits: Vec::new(),
            after_restore: Vec::new(),
            users: Vec::new(),
            groups: Vec::new(),
            outside: None,
            warnings: Vec::new(),
            left_out: Vec::new(),
            unreadable: 0,
        };
        let mut record = Record {
            title: Some("Skerry Line booking desk".to_owned()),
            store: "s".to_owned(),
            store_json: Some(store.info_hash()),
            machine_json: Some(machine_json),
            previous: previous.clone(),
            definition: "[app.desk]".to_owned(),
            captures: vec![capture],
            holdings,
            ..Record::bare(RunId::from(run), "desk", "w", Still.now(), Outcome::Complete)
        };
        if run == "two" {
            change(&mut record);
        }
        let bytes = document(&record, &keys).unwrap();
        let name = store.add_document("records/desk/w", &record.stem(), &bytes).unwrap();
        previous = Some(name.to_string());
    }
    let (run, text) = (RunId::from("two"), "the hooks succeeded".to_owned());
    let remark = Remark::new(&run, &previous.unwrap(), Still.now(), RemarkKind::Hooks, Outcome::Complete, text);
    store.add_document("remarks/desk/w/two", "20261125T010000.000Z-hooks", &document(&remark, &keys).unwrap()).unwrap();
    let retired = br#"{"machine":"gone","at":"2026-11-25T01:00:00Z","by":"skerry"}"#;
    store.add_document("retired/gone", "20261125T010000.000Z", retired).unwrap();
    Small { memory, identities }
}

impl Small {
    fn open(&self) -> Option<Store> {
        let location: Arc<dyn Location> = Arc::new(self.memory.clone());
        Some(Store::open(location).ok()?.with_identities(self.identities.clone()))
    }

    /// Whether a full verification finds everything sound; a store that cannot be opened is not.
    fn is_sound(&self) -> bool {
        let (host, environment, stop) = (Host::default(), BTreeMap::new(), Stop::default());
        let world = World { clock: &Still, random: &Still, host: &host, environment: &environment, stop: &stop };
        let Some(store) = self.open() else { return false };
        let Ok(book) = Logbook::read(&store, None, None) else { return false };
        let runs: Vec<_> = book.runs.iter().collect();
        let work =
            Verification { store: &store, book: &book, runs: &runs, depth: Depth::Full, anchor: None, all_again: true };
        let report = work.verify(&mut Proven::default(), &world, &mut |_, _| {});
        report.is_ok_and(|report| report.is_sound() && report.runs.len() == 2)
    }

    /// Restores the second run; what is there afterwards must be right, and all of it if nothing was said.
    fn restores_nothing_wrong(&self, what: &str) {
        let Some(store) = self.open() else { return };
        let Ok(book) = Logbook::read(&store, None, None) else { return };
        let Some(logged) = book.runs.iter().find(|logged| logged.record.run.as_str() == "two") else { return };
        let folder = scratch();
        let Ok(plan) = RestorePlan::into_folder(logged, folder.path(), &[], &[]) else { return };
        let report = plan.apply(&store, logged, &Stop::default(), &mut |_, _, _| {});
        let said = !report.is_ok_and(|report| report.outcome == Outcome::Complete);
        for (path, text) in TEXTS {
            match fs::read_to_string(folder.path().join("files").join(path)) {
                Ok(found) => assert_eq!(found, text, "{what}: {path}"),
                Err(_) => assert!(said, "{what}: {path} is missing and nothing was said"),
            }
        }
    }
}

fn flips(sealed: bool, masks: &[u8]) -> u64 {
    let small = small(sealed);
    assert!(small.is_sound());
    let mut tried = 0;
    for object in small.memory.list("").unwrap() {
        for at in 0..object.length as usize {
            for &mask in masks {
                small.memory.tamper(&object.name, |bytes| bytes[at] ^= mask);
                let what = format!("{} at byte {at} with {mask:#x}", object.name);
                assert!(!small.is_sound(), "not found: {what}");
                if tried % 17 == 0 {
                    small.restores_nothing_wrong(&what);
                }
                small.memory.tamper(&object.name, |bytes| bytes[at] ^= mask);
                tried += 1;
            }
        }
    }
    assert!(small.is_sound());
    tried
}

#[test]
fn a_run_that_cannot_be_put_together_is_damaged_though_every_stored_byte_is_what_was_stored() {
    for sealed in [false, true] {
        assert!(small(sealed).is_sound());
        let without_needs = small_with(sealed, |record| record.holdings.needs.clear());
        assert!(!without_needs.is_sound(), "what it needs is in no payload that it names");
        let other_frames = small_with(sealed, |record| record.holdings.needs[0].frames = vec![[7, 7]]);
        assert!(!other_frames.is_sound(), "what it needs is there and not named, so a sweep may remove it");
        let no_listing = small_with(sealed, |record| {
            record.captures[0].listing.as_mut().unwrap().root = gullet_store::Hash::of(b"nowhere");
        });
        assert!(!no_listing.is_sound());
    }
}

#[test]
fn every_changed_byte_of_a_store_is_found() {
    let tried = flips(false, &[0x01, 0x02, 0x08, 0x20, 0x80, 0xFF]);
    assert!(tried > 20_000, "{tried}");
}

#[test]
fn every_changed_byte_of_a_sealed_store_is_found() {
    let tried = flips(true, &[0x10]);
    assert!(tried > 5_000, "{tried}");
}

#[test]
fn cut_swapped_and_missing_objects_are_found() {
    for sealed in [false, true] {
        let small = small(sealed);
        let objects = small.memory.list("").unwrap();
        for object in &objects {
            let whole = small.memory.read(&object.name).unwrap();
            for length in [0, 1, whole.len() / 2, whole.len() - 1] {
                small.memory.tamper(&object.name, |bytes| bytes.truncate(length));
                assert!(!small.is_sound(), "{} cut to {length}", object.name);
                small.memory.tamper(&object.name, |bytes| *bytes = whole.clone());
            }
            small.memory.tamper(&object.name, |bytes| bytes.push(b'\n'));
            assert!(!small.is_sound(), "{} is longer", object.name);
            small.memory.tamper(&object.name, |bytes| *bytes = whole.clone());
            for other in objects.iter().filter(|other| other.name != object.name) {
                let others = small.memory.read(&other.name).unwrap();
                small.memory.tamper(&object.name, |bytes| *bytes = others.clone());
                small.memory.tamper(&other.name, |bytes| *bytes = whole.clone());
                assert!(!small.is_sound(), "{} and {} swapped", object.name, other.name);
                small.memory.tamper(&object.name, |bytes| *bytes = whole.clone());
                small.memory.tamper(&other.name, |bytes| *bytes = others.clone());
            }
            // That a remark or the last record is gone only a hash kept elsewhere can prove.
            let is_vital = ["payload/", "machines/", "store.json"].iter().any(|begin| object.name.starts_with(begin));
            if is_vital || object.name.contains("-one-") {
                small.memory.remove(&object.name).unwrap();
                assert!(!small.is_sound(), "{} is missing", object.name);
                small.memory.write(&object.name, &whole).unwrap();
            }
        }
        assert!(small.is_sound());
    }
}

/// A text with some of its bytes replaced, inserted and cut.
fn mangled(text: Vec<u8>) -> impl Strategy<Value = Vec<u8>> {
    let length = text.len();
    let edits = prop::collection::vec((0..length, any::<u8>(), 0u8..3), 1..12);
    (Just(text), edits).prop_map(|(mut text, edits)| {
        for (at, byte, how) in edits {
            let at = at.min(text.len().saturating_sub(1));
            match how {
                0 if !text.is_empty() => text[at] = byte,
                1 => text.insert(at, byte),
                _ => text.truncate(text.len() - text.len() / 8),
            }
        }
        text
    })
}

fn an_object(part: &str) -> Vec<u8> {
    let small = small(false);
    let object = small.memory.list(part).unwrap().remove(0);
    small.memory.read(&object.name).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn readers_of_documents_take_anything(record in mangled(an_object("records/")), remark in mangled(an_object("remarks/"))) {
        // What is taken means the same when it is written again.
        if let Ok(record) = serde_json::from_slice::<Record>(&record) {
            prop_assert_eq!(serde_json::from_slice::<Record>(&serde_json::to_vec(&record).unwrap()).unwrap(), record);
        }
        if let Ok(remark) = serde_json::from_slice::<Remark>(&remark) {
            prop_assert_eq!(serde_json::from_slice::<Remark>(&serde_json::to_vec(&remark).unwrap()).unwrap(), remark);
        }
    }

    #[test]
    fn a_payload_file_of_anything_is_damage(bytes in mangled(an_object("payload/"))) {
        let small = small(false);
        let name = small.memory.list("payload/").unwrap().remove(0).name;
        let whole = small.memory.read(&name).unwrap();
        prop_assume!(bytes != whole);
        small.memory.tamper(&name, |stored| *stored = bytes);
        prop_assert!(!small.is_sound());
        small.restores_nothing_wrong("a mangled payload file");
    }

    #[test]
    fn a_definition_of_anything_is_errors_with_places(text in mangled(include_bytes!("../../gullet/src/demo.toml").to_vec())) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("gullet.toml");
        fs::write(&path, text).unwrap();
        let _ = definition::load(Path::new(&path), "quay");
    }
}
