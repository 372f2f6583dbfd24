//! The logbook on a store in memory: what is found by which name, what damage and remarks do to it.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on should panic")]

use std::sync::Arc;

use gullet_host::state::State;
use gullet_logbook::logbook::{FindError, Logbook, Logged, Recent, RunSpec};
use gullet_logbook::sweep::may_thin;
use gullet_model::ids::Random;
use gullet_model::record::{Moved, Record, Remark, RemarkKind};
use gullet_model::{Outcome, RunId};
use gullet_store::{Hash, Location, Memory, Need, PayloadFile, Store};
use jiff::Timestamp;
use jiff::tz::TimeZone;

struct Book {
    memory: Memory,
    store: Store,
}

impl Book {
    fn new() -> Self {
        let memory = Memory::default();
        let store =
            Store::create(Arc::new(memory.clone()), "s".to_owned(), "now".to_owned(), &Default::default()).unwrap();
        Self { memory, store }
    }

    fn add(&self, run: &str, app: &str, started: &str, outcome: Outcome) -> String {
        let started: Timestamp = started.parse().unwrap();
        let record = Record::bare(RunId::from(run), app, "w", started, outcome);
        let bytes = serde_json::to_vec(&record).unwrap();
        self.store.add_document(&format!("records/{app}/w"), &record.stem(), &bytes).unwrap().to_string()
    }

    fn remark(&self, record: &str, run: &str, at: &str, what: RemarkKind, outcome: Outcome) {
        let (run_id, at_time) = (RunId::from(run), at.parse().unwrap());
        let remark = Remark::new(&run_id, record, at_time, what, outcome, "later events".to_owned());
        let bytes = serde_json::to_vec(&remark).unwrap();
        self.store.add_document(&format!("remarks/quaybook/w/{run}"), &remark.stem(), &bytes).unwrap();
    }

    /// A remark with more in it than an outcome.
    fn say(&self, remark: &Remark) {
        let bytes = serde_json::to_vec(remark).unwrap();
        self.store.add_document(&format!("remarks/quaybook/w/{}", remark.run), &remark.stem(), &bytes).unwrap();
    }

    fn logged(&self, run: &str) -> Logged {
        self.read().runs.into_iter().find(|logged| logged.record.run.as_str() == run).unwrap()
    }

    fn may_thin(&self, run: &str, own: &str) -> Result<(), String> {
        may_thin(&self.read(), &self.logged(run), &self.store, own).map_err(|error| error.to_string())
    }

    fn read(&self) -> Logbook {
        Logbook::read(&self.store, None, None).unwrap()
    }

    fn find(&self, text: &str) -> Result<String, FindError> {
        let spec: RunSpec = text.parse()?;
        self.read().find(&spec, &TimeZone::UTC, now()).map(|logged| logged.record.run.to_string())
    }
}

fn now() -> Timestamp {
    "2026-11-05T12:00:00Z".parse().unwrap()
}

fn three() -> Book {
    let book = Book::new();
    book.add("aa11", "quaybook", "2026-11-01T23:30:00Z", Outcome::Complete);
    book.add("aa22", "quaybook", "2026-11-02T01:30:00Z", Outcome::Warnings);
    book.add("bb33", "quaybook", "2026-11-03T01:30:00Z", Outcome::Failed);
    book.add("cc44", "ledger", "2026-11-04T01:30:00Z", Outcome::Complete);
    book
}

#[test]
fn runs_are_found_by_id_beginning_day_and_as_the_latest() {
    let book = three();
    assert_eq!(book.find("aa11").unwrap(), "aa11");
    assert_eq!(book.find("b").unwrap(), "bb33");
    assert!(matches!(book.find("aa"), Err(FindError::Several { found, .. }) if found == ["aa11", "aa22"]));
    assert!(matches!(book.find("zz"), Err(FindError::None { known, .. }) if known[0] == "cc44"));
    assert_eq!(book.find("quaybook@latest").unwrap(), "aa22", "a failed run never is");
    assert_eq!(book.find("quaybook@2026-11-03").unwrap(), "aa22", "the newest complete one of that day or before");
    assert_eq!(book.find("quaybook@yesterday").unwrap(), "aa22");
    assert_eq!(book.find("quaybook@2026-11-02T01:30").unwrap(), "aa22");
    assert_eq!(book.find("quaybook@2026-11-02T01").unwrap(), "aa11", "not the newest of that day");
    let none = book.find("quaybook@2026-10-31").unwrap_err();
    assert!(matches!(&none, FindError::None { known, .. } if known[0] == "bb33"), "of that application only: {none:?}");
    assert!(matches!(book.find("nothing@latest"), Err(FindError::NoGood { .. })));
}

#[test]
fn a_day_is_one_of_the_zone_that_is_asked_in() {
    let book = three().read();
    let spec: RunSpec = "quaybook@2026-11-02".parse().unwrap();
    let found = |zone: &str| book.find(&spec, &TimeZone::get(zone).unwrap(), now()).unwrap().record.run.to_string();
    assert_eq!(found("UTC"), "aa22");
    // Half past eleven at night in UTC is the next day in Lisbon's summer, not in its winter.
    let azores: RunSpec = "quaybook@2026-11-01".parse().unwrap();
    assert_eq!(
        book.find(&azores, &TimeZone::get("Atlantic/Azores").unwrap(), now()).unwrap().record.run.as_str(),
        "aa11"
    );
    assert_eq!(found("Asia/Tokyo"), "aa22");
}

#[test]
fn remarks_make_an_outcome_worse_and_what_is_answered_anew_better() {
    let book = Book::new();
    let record = book.add("aa11", "quaybook", "2026-11-01T01:30:00Z", Outcome::Complete);
    let outcome = || book.read().runs[0].outcome();
    assert_eq!(outcome(), Outcome::Complete);
    book.remark(&record, "aa11", "2026-11-01T02:00:00Z", RemarkKind::Verified, Outcome::Complete);
    assert!(book.read().runs[0].verified().is_some());
    book.remark(&record, "aa11", "2026-11-01T03:00:00Z", RemarkKind::Damaged, Outcome::Incomplete);
    assert_eq!(outcome(), Outcome::Incomplete);
    assert!(book.read().runs[0].verified().is_none(), "damage was found since");
    assert!(book.read().last_good("quaybook").is_none());
    book.remark(&record, "aa11", "2026-11-01T04:00:00Z", RemarkKind::Verified, Outcome::Complete);
    assert_eq!(outcome(), Outcome::Incomplete, "what was not opened answers nothing");
    let (id, at) = (RunId::from("aa11"), "2026-11-01T05:00:00Z".parse().unwrap());
    let opened = Remark::new(&id, &record, at, RemarkKind::Verified, Outcome::Complete, "whole".to_owned());
    book.say(&Remark { opened: true, ..opened });
    assert_eq!(outcome(), Outcome::Complete);
    book.remark(&record, "aa11", "2026-11-01T06:00:00Z", RemarkKind::Damaged, Outcome::Incomplete);
    assert_eq!(outcome(), Outcome::Incomplete, "what came before answers nothing");
    let record = book.add("bb22", "quaybook", "2026-11-02T01:30:00Z", Outcome::Complete);
    let outcome = || book.logged("bb22").outcome();
    book.remark(&record, "bb22", "2026-11-02T02:00:00Z", RemarkKind::Drilled, Outcome::Warnings);
    book.remark(&record, "bb22", "2026-11-02T03:00:00Z", RemarkKind::RestoredIntact, Outcome::Complete);
    assert_eq!(outcome(), Outcome::Warnings, "nobody opened it");
    book.remark(&record, "bb22", "2026-11-02T04:00:00Z", RemarkKind::Drilled, Outcome::Complete);
    assert_eq!(outcome(), Outcome::Complete);
    book.remark(&record, "bb22", "2026-11-02T05:00:00Z", RemarkKind::Hooks, Outcome::Warnings);
    book.remark(&record, "bb22", "2026-11-02T06:00:00Z", RemarkKind::Hooks, Outcome::Complete);
    assert_eq!(outcome(), Outcome::Warnings, "hooks are not asked again");
}

#[test]
fn what_cannot_be_read_is_named_and_hides_nothing_else() {
    let book = three();
    let name = book.read().runs[1].name.clone();
    book.memory.tamper(&name, |bytes| bytes[20] ^= 1);
    let read = book.read();
    assert_eq!(read.runs.len(), 3);
    assert_eq!(read.unreadable.len(), 1);
    assert_eq!(read.unreadable[0].0, name);
    assert_eq!(book.find("quaybook@latest").unwrap(), "aa11");
}

#[test]
fn a_record_of_a_newer_form_is_refused_by_its_number() {
    let book = Book::new();
    let bytes = br#"{"record": 99, "run": "zz99", "surprise": true}"#;
    book.store.add_document("records/quaybook/w", "20261101T013000.000Z-zz99", bytes).unwrap();
    let read = book.read();
    assert!(read.runs.is_empty());
    assert!(read.unreadable[0].1.contains("version 99"), "{:?}", read.unreadable);
}

#[test]
fn keys_that_a_later_version_adds_are_passed_over() {
    let book = Book::new();
    let name = book.add("aa11", "quaybook", "2026-11-01T01:30:00Z", Outcome::Complete);
    let text = String::from_utf8(book.memory.read(&name).unwrap()).unwrap();
    let more = text.replacen('{', "{\"added_later\": [1, 2], ", 1);
    book.memory.remove(&name).unwrap();
    book.store.add_document("records/quaybook/w", "20261101T013000.000Z-aa11", more.as_bytes()).unwrap();
    assert_eq!(book.find("aa11").unwrap(), "aa11");
}

struct Sevens;

impl Random for Sevens {
    fn fill(&self, bytes: &mut [u8]) {
        bytes.fill(7);
    }
}

#[test]
fn a_run_looks_back_to_the_last_good_one_and_no_further() {
    let folder = tempfile::tempdir().unwrap();
    let state = State::open(&folder.path().join("state"), &Sevens).unwrap();
    let book = Book::new();
    let recent = |book: &Book| Recent::read(&book.store, "quaybook", "w", &state).unwrap();
    assert!(recent(&book).previous.is_none() && recent(&book).last_good.is_none());
    let oldest = book.add("aa11", "quaybook", "2026-11-01T01:30:00Z", Outcome::Complete);
    let good = book.add("aa22", "quaybook", "2026-11-02T01:30:00Z", Outcome::Warnings);
    let failed = book.add("bb33", "quaybook", "2026-11-03T01:30:00Z", Outcome::Failed);
    book.add("cc44", "ledger", "2026-11-04T01:30:00Z", Outcome::Complete);
    let last_good = |book: &Book| recent(book).last_good.map(|logged| logged.name);
    assert_eq!((last_good(&book), recent(&book).previous), (Some(good.clone()), Some(failed.clone())));
    // What lies behind the last good run is not read, so its damage is not this run's matter.
    book.memory.tamper(&oldest, |bytes| bytes[20] ^= 1);
    assert!(recent(&book).unreadable.is_empty());
    book.memory.tamper(&failed, |bytes| bytes[20] ^= 1);
    assert_eq!(recent(&book).unreadable[0].0, failed);
    assert_eq!(last_good(&book), Some(good.clone()));
    book.memory.tamper(&oldest, |bytes| bytes[20] ^= 1);
    let at = "2026-11-05T01:00:00Z".parse().unwrap();
    let text = "damaged".to_owned();
    let remark = Remark::new(&RunId::from("aa22"), &good, at, RemarkKind::Damaged, Outcome::Incomplete, text);
    book.say(&Remark { payload: vec!["payload/w/aa22/000000.zst".to_owned()], ..remark });
    assert_eq!(last_good(&book), Some(oldest), "what is damaged is not good");
    assert_eq!(recent(&book).damaged, ["payload/w/aa22/000000.zst"]);
}

#[test]
fn the_newest_runs_are_never_given_up() {
    let book = Book::new();
    book.add("aa11", "quaybook", "2026-11-01T01:30:00Z", Outcome::Complete);
    book.add("aa22", "quaybook", "2026-11-02T01:30:00Z", Outcome::Complete);
    let warned = book.add("aa33", "quaybook", "2026-11-03T01:30:00Z", Outcome::Warnings);
    book.add("bb44", "quaybook", "2026-11-04T01:30:00Z", Outcome::Failed);
    assert_eq!(book.may_thin("aa11", "w"), Ok(()));
    assert!(book.may_thin("aa22", "w").unwrap_err().contains("newest one without warnings"));
    assert!(book.may_thin("aa33", "w").unwrap_err().contains("newest complete one"));
    assert_eq!(book.may_thin("bb44", "w"), Ok(()), "a failed run protects nothing");
    assert!(book.may_thin("aa11", "other").unwrap_err().contains("another machine wrote it"));
    // Once another run is newest and clean, the former ones may go; given up twice is once.
    let clean = book.add("cc55", "quaybook", "2026-11-05T01:30:00Z", Outcome::Complete);
    assert_eq!((book.may_thin("aa22", "w"), book.may_thin("aa33", "w")), (Ok(()), Ok(())));
    book.remark(&warned, "aa33", "2026-11-06T01:00:00Z", RemarkKind::Thinned, Outcome::Complete);
    assert!(book.may_thin("aa33", "w").unwrap_err().contains("already"));
    assert!(!book.logged("aa33").is_good() && book.logged("aa33").is_thinned());
    // Damage makes the newest one worthless, and the one before it precious again.
    book.remark(&clean, "cc55", "2026-11-07T01:00:00Z", RemarkKind::Damaged, Outcome::Incomplete);
    assert!(book.may_thin("aa22", "w").unwrap_err().contains("newest complete one"));
}

#[test]
fn what_was_moved_is_stood_on_where_it_lies_now() {
    let book = Book::new();
    let name = book.add("aa11", "quaybook", "2026-11-01T01:30:00Z", Outcome::Complete);
    let file =
        |name: &str| PayloadFile { name: name.to_owned(), length: 9, blake3: Hash::of(b"x"), frames: 2, chunks: 2 };
    let mut logged = book.logged("aa11");
    logged.record.holdings.wrote = vec![file("own"), file("kept")];
    let need = |name: &str| Need { name: name.to_owned(), length: 9, frames: vec![[0, 1]] };
    logged.record.holdings.needs = vec![need("old"), need("older")];
    let moved = |from: &str, to: &str| Moved { from: from.to_owned(), to: file(to), frames: vec![[1, 1]] };
    let (run, text) = (RunId::from("aa11"), "moved".to_owned());
    let at = "2026-11-05T01:00:00Z".parse().unwrap();
    let remark = Remark::new(&run, &name, at, RemarkKind::Moved, Outcome::Complete, text);
    // What lay in one file may lie in two, and be moved once more.
    logged.remarks.push(Remark { moved: vec![moved("old", "new-1"), moved("old", "new-2")], ..remark.clone() });
    logged.remarks.push(Remark { moved: vec![moved("new-1", "newest")], ..remark });
    let holdings = logged.holdings();
    let names = |needs: &[Need]| needs.iter().map(|need| need.name.clone()).collect::<Vec<_>>();
    assert_eq!(names(&holdings.needs), ["older", "new-2", "newest"]);
    assert_eq!(holdings.wrote.len(), 2);
    assert_eq!(holdings.needs[2].frames, [[1, 1]]);
}
