//! Copies between stores in memory: what goes wrong on the way never looks like a second copy.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on should panic")]

use std::collections::BTreeMap;
use std::io::{self, Read, Seek, SeekFrom};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use gullet_host::state::State;
use gullet_host::world::{Clock, Stop, World};
use gullet_logbook::copies::{CopyReport, Copying, USUAL_SAMPLE};
use gullet_logbook::logbook::Logbook;
use gullet_model::definition::Share;
use gullet_model::ids::Random;
use gullet_model::record::{Host, Record};
use gullet_model::{Outcome, RunId};
use gullet_store::{Hash, Location, Memory, NewObject, ObjectInfo, PayloadFile, SeekRead, Store, StoreError};
use jiff::Timestamp;

mod meddling;

use meddling::Meddling;

struct Still;

impl Random for Still {
    fn fill(&self, bytes: &mut [u8]) {
        bytes.fill(7);
    }
}

impl Clock for Still {
    fn now(&self) -> Timestamp {
        "2026-11-05T12:00:00Z".parse().unwrap()
    }

    fn uptime(&self) -> Duration {
        Duration::ZERO
    }

    fn sleep(&self, _: Duration) {}
}

struct Place {
    state: State,
    from: Store,
    sample: Share,
    _folder: tempfile::TempDir,
}

impl Place {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let state = State::open(&folder.path().join("state"), &Still).unwrap();
        let keys = Default::default();
        let from = Store::create(Arc::new(Memory::default()), "s".to_owned(), "now".to_owned(), &keys).unwrap();
        Self { state, from, sample: USUAL_SAMPLE, _folder: folder }
    }

    fn copy_to(
        &self,
        memory: &Memory,
        before: impl Fn(&str) -> Result<(), StoreError> + Send + Sync + 'static,
    ) -> CopyReport {
        self.copy_into(Arc::new(Meddling { memory: memory.clone(), before: Box::new(before), after: Box::new(|_| ()) }))
    }

    fn copy_into(&self, to: Arc<dyn Location>) -> CopyReport {
        let (host, environment, stop) = (Host::default(), BTreeMap::new(), Stop::default());
        let world = World { clock: &Still, random: &Still, host: &host, environment: &environment, stop: &stop };
        let (name, sample, state) = (Some("far"), self.sample, &self.state);
        let copying = Copying { from: &self.from, to, name, may_make: true, sample, state, world };
        copying.copy(&mut |_, _| {}).unwrap()
    }

    fn copied(&self) -> Vec<bool> {
        let book = Logbook::read(&self.from, None, Some(&self.state)).unwrap();
        book.runs.iter().map(|logged| logged.is_copied("far")).collect()
    }
}

/// A run of a machine with a payload file of its own, as it lies in a store; gives its record.
fn add_run(store: &Store, machine: &str, run: &str) -> String {
    add_run_of(store, machine, run, 100)
}

/// The same with a payload file of so many times its name.
fn add_run_of(store: &Store, machine: &str, run: &str, times: usize) -> String {
    let (payload, bytes) = (format!("payload/{machine}/{run}/000001.zst"), run.repeat(times));
    store.location().write(&payload, bytes.as_bytes()).unwrap();
    let at = "2026-11-01T01:30:00Z".parse().unwrap();
    let mut record = Record::bare(RunId::from(run), "desk", machine, at, Outcome::Complete);
    let blake3 = Hash::of(bytes.as_bytes());
    let length = bytes.len() as u64;
    record.holdings.wrote.push(PayloadFile { name: payload, length, blake3, frames: 1, chunks: 1 });
    let listing = serde_json::json!({ "root": blake3.to_string(), "entries": 1, "bytes": 1 });
    record.captures.push(capture(at, &listing));
    let bytes = serde_json::to_vec(&record).unwrap();
    store.add_document(&format!("records/desk/{machine}"), &record.stem(), &bytes).unwrap().to_string()
}

fn capture(at: Timestamp, listing: &serde_json::Value) -> gullet_model::record::Capture {
    let counts = serde_json::to_value(gullet_model::record::Counts::default()).unwrap();
    serde_json::from_value(serde_json::json!({
        "part": "docs", "kind": "files", "required": true, "problem": null, "started": at, "took_ms": 1, "layout": "source",
        "listing": listing, "counts": counts,
    }))
    .unwrap()
}

#[test]
fn a_run_whose_record_did_not_arrive_has_no_second_copy() {
    let place = Place::new();
    add_run(&place.from, place.state.machine(), "aa11");
    let far = Memory::default();
    let refused = |name: &str| match name.starts_with("records/") {
        true => Err(StoreError::Name(name.to_owned())),
        false => Ok(()),
    };
    let report = place.copy_to(&far, refused);
    assert_eq!((report.runs.len(), report.problems.len()), (0, 1), "{report:?}");
    assert_eq!(place.copied(), [false]);
    let report = place.copy_to(&far, |_| Ok(()));
    assert_eq!((report.runs.len(), place.copied()), (1, vec![true]), "{report:?}");
}

#[test]
fn a_record_that_lies_in_the_copy_with_other_bytes_is_no_second_copy_and_is_sent_anew() {
    let place = Place::new();
    let record = add_run(&place.from, place.state.machine(), "aa11");
    let far = Memory::default();
    far.write("store.json", &place.from.location().read("store.json").unwrap()).unwrap();
    far.write(&record, b"somebody put it there").unwrap();
    // The place takes no record for now.
    let refused = |name: &str| match name.starts_with("records/") {
        true => Err(StoreError::Name(name.to_owned())),
        false => Ok(()),
    };
    let report = place.copy_to(&far, refused);
    assert_eq!((report.runs.len(), place.copied()), (0, vec![false]), "{report:?}");
    assert!(report.problems[0].0 == record, "{report:?}");
    let report = place.copy_to(&far, |_| Ok(()));
    assert_eq!((report.runs.len(), report.problems.len(), place.copied()), (1, 0, vec![true]), "{report:?}");
    assert_eq!(far.read(&record).unwrap(), place.from.location().read(&record).unwrap());
}

#[test]
fn a_document_that_was_not_proven_to_have_arrived_is_read_back_by_the_next_copy() {
    let place = Place::new();
    add_run(&place.from, place.state.machine(), "aa11");
    let far = Memory::default();
    place.copy_to(&far, |_| Ok(()));
    let remark = far.names("remarks/").unwrap().pop().unwrap();
    // As if the call before had been ended between sending it and reading it back.
    let noted = place.state.folder().join("stores/s/copied");
    let file = std::fs::read_dir(&noted).unwrap().next().unwrap().unwrap().path();
    let text = std::fs::read_to_string(&file).unwrap();
    assert!(text.contains(&remark));
    std::fs::write(&file, text.replace(&remark, &remark[..20])).unwrap();
    far.tamper(&remark, |bytes| bytes[0] ^= 1);
    place.copy_to(&far, |_| Ok(()));
    assert_eq!(far.read(&remark).unwrap(), place.from.location().read(&remark).unwrap());
    // Once proven it is not read again, whatever happens to it: that is what a verification is for.
    far.tamper(&remark, |bytes| bytes[0] ^= 1);
    let report = place.copy_to(&far, |_| Ok(()));
    assert_eq!((report.objects, report.bytes_read_back), (0, 0));
}

#[test]
fn a_run_that_is_recorded_meanwhile_comes_with_the_next_copy_and_whole() {
    let place = Place::new();
    let machine = place.state.machine().to_owned();
    add_run(&place.from, &machine, "aa11");
    let (far, from, is_done) = (Memory::default(), place.from.clone(), AtomicBool::new(false));
    let writing = machine.clone();
    let report = place.copy_to(&far, move |name| {
        if name.starts_with("payload/") && !is_done.swap(true, Ordering::SeqCst) {
            // Both of this machine and of another one.
            add_run(&from, &writing, "bb22");
            add_run(&from, "other", "cc33");
        }
        Ok(())
    });
    assert_eq!((report.runs.len(), report.problems.len()), (1, 0), "{report:?}");
    let whole = |expected: usize| {
        let copy = Store::open(Arc::new(far.clone())).unwrap();
        let book = Logbook::read(&copy, None, None).unwrap();
        for logged in &book.runs {
            for (name, length) in logged.holdings().files() {
                assert_eq!(far.length(name).unwrap(), Some(length), "{name}");
            }
        }
        assert_eq!(book.runs.len(), expected);
    };
    whole(1);
    let report = place.copy_to(&far, |_| Ok(()));
    assert_eq!((report.runs.len(), report.problems.len()), (1, 0), "{report:?}");
    whole(3);
}

/// A far place that counts the bytes that are read from it, and gives one of them wrong.
struct Far {
    memory: Memory,
    wrong: Option<usize>,
    read: Arc<AtomicU64>,
}

struct Counted {
    there: Box<dyn SeekRead>,
    read: Arc<AtomicU64>,
}

impl Read for Counted {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let some = self.there.read(into)?;
        self.read.fetch_add(some as u64, Ordering::Relaxed);
        Ok(some)
    }
}

impl Seek for Counted {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.there.seek(to)
    }
}

impl Location for Far {
    fn describe(&self) -> String {
        self.memory.describe()
    }

    fn list(&self, prefix: &str) -> Result<Vec<ObjectInfo>, StoreError> {
        self.memory.list(prefix)
    }

    fn length(&self, name: &str) -> Result<Option<u64>, StoreError> {
        self.memory.length(name)
    }

    fn open(&self, name: &str) -> Result<Box<dyn SeekRead>, StoreError> {
        let there: Box<dyn SeekRead> = match self.wrong {
            Some(at) if name.starts_with("payload/") => {
                let mut bytes = self.memory.read(name)?;
                bytes[at] ^= 1;
                Box::new(io::Cursor::new(bytes))
            }
            _ => self.memory.open(name)?,
        };
        Ok(Box::new(Counted { there, read: Arc::clone(&self.read) }))
    }

    fn create(&self, name: &str) -> Result<Box<dyn NewObject>, StoreError> {
        self.memory.create(name)
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        self.memory.remove(name)
    }

    fn free_space(&self) -> Result<Option<u64>, StoreError> {
        Ok(None)
    }

    fn is_far(&self) -> bool {
        true
    }
}

const MIB: usize = 1 << 20;

/// What a far place that may give a byte wrong gets of 40 MiB; how many bytes were read there, and what is said of the run.
fn copied_far(sample: f64, wrong: Option<usize>) -> (CopyReport, Vec<bool>, usize, String) {
    let place = Place { sample: Share(sample), ..Place::new() };
    add_run_of(&place.from, place.state.machine(), "aa11", 10 * MIB);
    let read = Arc::new(AtomicU64::new(0));
    let report = place.copy_into(Arc::new(Far { memory: Memory::default(), wrong, read: Arc::clone(&read) }));
    let book = Logbook::read(&place.from, None, Some(&place.state)).unwrap();
    let said = book.runs[0].remarks.iter().map(|remark| remark.text.clone()).collect();
    (report, place.copied(), read.load(Ordering::Relaxed) as usize, said)
}

#[test]
fn of_what_a_far_place_got_a_sample_is_read_back_and_the_remark_says_how_much() {
    let (report, copied, read, said) = copied_far(10.0, None);
    assert!(said.ends_with("1 payload file, about 10% of each read back there"), "{said}");
    assert_eq!((report.problems.len(), copied), (0, vec![true]), "{report:?}");
    // Of 40 pieces the first, the last and about four more: twenty are never drawn.
    assert!((2 * MIB..20 * MIB).contains(&read), "{read}");
    let (report, copied, read, _) = copied_far(0.0, None);
    assert_eq!((report.problems.len(), copied), (0, vec![true]), "{report:?}");
    assert!((2 * MIB..3 * MIB).contains(&read), "{read}");
    let (report, copied, read, said) = copied_far(100.0, None);
    assert!(said.ends_with("every byte read back there"), "{said}");
    assert_eq!((report.problems.len(), copied), (0, vec![true]), "{report:?}");
    assert!(read >= 40 * MIB, "{read}");
}

#[test]
fn what_is_wrong_where_it_is_read_back_is_no_second_copy() {
    for (sample, wrong) in [(0.0, 0), (0.0, 40 * MIB - 1), (100.0, 20 * MIB)] {
        let (report, copied, _, said) = copied_far(sample, Some(wrong));
        assert_eq!((report.problems.len(), copied), (1, vec![false]), "{sample} {wrong}: {report:?}");
        assert_eq!(said, "");
    }
}
