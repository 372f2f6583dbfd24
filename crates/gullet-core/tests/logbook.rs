//! The logbook on a store in memory: what is found by which name, what damage and remarks do to it.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on should panic")]

use std::sync::Arc;

use gullet_core::logbook::{FindError, Logbook, RunSpec};
use gullet_core::record::{HoldReport, RECORD_VERSION, Record, Remark, RemarkKind};
use gullet_core::{Outcome, RunId};
use gullet_store::{Hash, Location, Memory, Store};
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
        let record = Record {
            record: RECORD_VERSION,
            run: RunId::from(run),
            app: app.to_owned(),
            title: None,
            writer: "w".to_owned(),
            store: "s".to_owned(),
            store_json: Hash::of(b""),
            writer_json: None,
            previous: None,
            started,
            ended: started,
            trigger: "by hand".to_owned(),
            reason: None,
            partial: false,
            outcome,
            causes: Vec::new(),
            warnings: Vec::new(),
            host: Default::default(),
            definition: String::new(),
            hold: HoldReport::default(),
            steps: Vec::new(),
            captures: Vec::new(),
            holdings: Default::default(),
            sealed: None,
        };
        let bytes = serde_json::to_vec(&record).unwrap();
        self.store.add_document(&format!("records/{app}/w"), &record.stem(), &bytes).unwrap().to_string()
    }

    fn remark(&self, record: &str, run: &str, at: &str, what: RemarkKind, outcome: Outcome) {
        let remark = Remark {
            remark: 1,
            run: RunId::from(run),
            record: record.to_owned(),
            at: at.parse().unwrap(),
            what,
            outcome,
            text: "said later".to_owned(),
            steps: Vec::new(),
            payload: Vec::new(),
            moved: Vec::new(),
            sealed: None,
        };
        let bytes = serde_json::to_vec(&remark).unwrap();
        self.store
            .add_document(&format!("remarks/quaybook/w/{run}"), &format!("{at}-x").replace(':', ""), &bytes)
            .unwrap();
    }

    fn read(&self) -> Logbook {
        Logbook::read(&self.store, None, None).unwrap()
    }

    fn find(&self, text: &str) -> Result<String, FindError> {
        let spec: RunSpec = text.parse()?;
        self.read().find(&spec, &TimeZone::UTC).map(|logged| logged.record.run.to_string())
    }
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
    assert_eq!(book.find("quaybook@2026-11-03").unwrap(), "bb33", "a day names any run");
    assert!(matches!(book.find("nothing@latest"), Err(FindError::NoGood { .. })));
}

#[test]
fn a_day_is_one_of_the_zone_that_is_asked_in() {
    let book = three().read();
    let spec: RunSpec = "quaybook@2026-11-02".parse().unwrap();
    let found = |zone: &str| book.find(&spec, &TimeZone::get(zone).unwrap()).unwrap().record.run.to_string();
    assert_eq!(found("UTC"), "aa22");
    // Half past eleven at night in UTC is the next day in Lisbon's summer, not in its winter.
    let azores: RunSpec = "quaybook@2026-11-01".parse().unwrap();
    assert_eq!(book.find(&azores, &TimeZone::get("Atlantic/Azores").unwrap()).unwrap().record.run.as_str(), "aa11");
    assert_eq!(found("Asia/Tokyo"), "aa22");
}

#[test]
fn remarks_make_an_outcome_worse_and_never_better() {
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
    assert_eq!(outcome(), Outcome::Incomplete);
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
