//! The list of runs through its index: it says what the logbook says, whatever became of the store and the index.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on should panic")]

use std::fs;
use std::path::PathBuf;
use std::sync::Arc;

use gullet_host::state::State;
use gullet_logbook::logbook::{Logbook, RunLine, RunList, RunSpec};
use gullet_logbook::sealed::Draft;
use gullet_model::ids::Random;
use gullet_model::record::{Problem, Record, Remark, RemarkKind};
use gullet_model::{Outcome, RunId};
use gullet_store::{Identities, Location, Memory, Store, new_identity};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

struct Sevens;

impl Random for Sevens {
    fn fill(&self, bytes: &mut [u8]) {
        bytes.fill(7);
    }
}

struct Place {
    memory: Memory,
    store: Store,
    state: State,
    folder: tempfile::TempDir,
    rng: fastrand::Rng,
    /// Application and record of each run.
    runs: Vec<(&'static str, Record, String)>,
}

impl Place {
    fn new(seed: u64) -> Self {
        let memory = Memory::default();
        let keys = Default::default();
        let store = Store::create(Arc::new(memory.clone()), "s".to_owned(), "now".to_owned(), &keys).unwrap();
        let folder = tempfile::tempdir().unwrap();
        let state = State::open(&folder.path().join("state"), &Sevens).unwrap();
        Self { memory, store, state, folder, rng: fastrand::Rng::with_seed(seed), runs: Vec::new() }
    }

    fn machine(&self) -> String {
        self.state.machine().to_owned()
    }

    fn add_run(&mut self) {
        let app = ["ledger", "quaybook"][self.rng.usize(..2)];
        let machine = if self.rng.u8(..4) == 0 { "other".to_owned() } else { self.machine() };
        // The clock jumps.
        let at = Timestamp::UNIX_EPOCH + SignedDuration::from_secs(self.rng.i64(0..1_000_000));
        let outcome = [Outcome::Complete, Outcome::Warnings, Outcome::Failed][self.rng.usize(..3)];
        let id = format!("{:010}", self.rng.u32(..));
        let mut record = Record::bare(RunId::from(id.as_str()), app, &machine, at, outcome);
        record.partial = self.rng.u8(..5) == 0;
        record.host.name = format!("host-{machine}");
        record.reason = Some(format!("number {}", self.runs.len()));
        let text = "it failed".to_owned();
        record.causes.push(Problem { kind: Default::default(), about: None, text, advice: None });
        let before = self.runs.iter().rev().find(|(of, record, _)| *of == app && record.machine == machine);
        record.previous = before.map(|(_, _, name)| name.clone());
        let bytes = serde_json::to_vec(&record).unwrap();
        let folder = format!("records/{app}/{machine}");
        let name = self.store.add_document(&folder, &record.stem(), &bytes).unwrap().to_string();
        self.runs.push((app, record, name));
    }

    fn add_remark(&mut self) {
        use RemarkKind::{Damaged, Drilled, Kept, NotKept, Thinned, Verified};
        if self.runs.is_empty() {
            return;
        }
        let number = self.rng.usize(..self.runs.len());
        let (app, record, name) = &self.runs[number];
        let what = [Verified, Damaged, Drilled, Kept, NotKept, Thinned][self.rng.usize(..6)];
        let outcome = [Outcome::Complete, Outcome::Incomplete][self.rng.usize(..2)];
        let at = Timestamp::UNIX_EPOCH + SignedDuration::from_secs(self.rng.i64(0..1_000_000));
        let mut remark = Remark::new(&record.run, name, at, what, outcome, "later".to_owned());
        remark.opened = self.rng.bool();
        remark.number = self.rng.u32(1..1000);
        let folder = format!("remarks/{app}/{}/{}", record.machine, record.run);
        self.store.add_document(&folder, &remark.stem(), &serde_json::to_vec(&remark).unwrap()).unwrap();
    }

    fn index(&self, app: &str) -> PathBuf {
        self.state.index_path("s", app).unwrap()
    }

    /// Damages, cuts or removes the index.
    fn spoil_index(&mut self) {
        let app = ["ledger", "quaybook"][self.rng.usize(..2)];
        let path = self.index(app);
        let Ok(bytes) = fs::read(&path) else { return };
        match self.rng.u8(..3) {
            0 => fs::remove_file(path).unwrap(),
            1 => fs::write(path, &bytes[..self.rng.usize(..bytes.len())]).unwrap(),
            _ => {
                let text = String::from_utf8(bytes).unwrap();
                fs::write(path, text.replace("\"index\":1", "\"index\":0")).unwrap();
            }
        }
    }

    fn list(&self, app: Option<&str>) -> RunList {
        RunList::read(&self.store, app, Some(&self.state)).unwrap()
    }

    fn must_agree(&self, app: Option<&str>, seed: u64) {
        let book = Logbook::read(&self.store, app, Some(&self.state)).unwrap();
        let list = self.list(app);
        let expected: Vec<RunLine> = book.runs.iter().map(RunLine::from).collect();
        assert_eq!(list.runs, expected, "seed {seed}");
        assert_eq!((list.unreadable.len(), list.locked), (book.unreadable.len(), 0), "seed {seed}");
        let good = |line: &RunLine| line.is_good();
        let as_book: Vec<bool> = book.runs.iter().map(gullet_logbook::logbook::Logged::is_good).collect();
        assert_eq!(list.runs.iter().map(good).collect::<Vec<_>>(), as_book, "seed {seed}");
        for text in ["quaybook@latest", "ledger@1970-01-05", "other:ledger@latest", "0", "1"] {
            let spec: RunSpec = text.parse().unwrap();
            let in_book = book.find(&spec, &TimeZone::UTC, Timestamp::UNIX_EPOCH);
            let in_list = list.find(&spec, &TimeZone::UTC, Timestamp::UNIX_EPOCH);
            let in_book = in_book.map(|logged| &logged.record.run);
            assert_eq!(in_list.map(|line| &line.run), in_book, "{text}, seed {seed}");
        }
        for line in list.runs.iter().take(3) {
            let read = Logbook::read_run(&self.store, line, Some(&self.state)).unwrap();
            assert_eq!(RunLine::from(&read), *line, "seed {seed}");
        }
    }
}

#[test]
fn a_list_says_what_the_logbook_says_whatever_became_of_its_index() {
    for seed in 0..40 {
        let mut place = Place::new(seed);
        for _ in 0..60 {
            match place.rng.u8(..10) {
                0..4 => place.add_run(),
                4..7 => place.add_remark(),
                7 => place.spoil_index(),
                8 => {
                    let app = ["ledger", "quaybook"][place.rng.usize(..2)];
                    place.must_agree(Some(app), seed);
                }
                _ => place.must_agree(None, seed),
            }
        }
        place.must_agree(None, seed);
    }
}

#[test]
fn a_run_that_was_read_once_is_not_read_again_until_a_remark_is_added() {
    let mut place = Place::new(1);
    place.add_run();
    let list = place.list(None);
    assert_eq!(list.runs.len(), 1);
    let name = list.runs[0].record.clone();
    place.memory.tamper(&name, |bytes| bytes[10] ^= 1);
    assert_eq!(place.list(None).runs, list.runs, "it is in the index");
    assert!(Logbook::read_run(&place.store, &list.runs[0], Some(&place.state)).is_err(), "who reads it sees it");
    place.add_remark();
    let now = place.list(None);
    assert!(now.runs.is_empty() && now.unreadable[0].0 == name, "{now:?}");
    let again = place.list(None);
    assert_eq!(again.unreadable, now.unreadable, "damage is never indexed");
}

#[test]
fn what_only_a_given_identity_opens_is_not_written_down() {
    let (file, public) = new_identity("today", None).unwrap();
    let keys = gullet_store::Recipients::parse(&[public]).unwrap();
    let memory = Memory::default();
    let store = Store::create(Arc::new(memory.clone()), "s".to_owned(), "now".to_owned(), &keys).unwrap();
    let place = Place::new(2);
    let mut record = Record::bare(RunId::from("aa11"), "desk", "other", Timestamp::UNIX_EPOCH, Outcome::Complete);
    record.reason = Some("berth fourteen".to_owned());
    Draft::of_record(&record, &keys).unwrap().store(&store, None).unwrap();
    let closed = RunList::read(&store, None, Some(&place.state)).unwrap();
    assert_eq!((closed.locked, closed.runs[0].reason.as_deref()), (1, None));
    let opened = store.with_identities(Identities::read(&file, &|| None).unwrap());
    let list = RunList::read(&opened, None, Some(&place.state)).unwrap();
    assert_eq!((list.locked, list.runs[0].reason.as_deref()), (0, Some("berth fourteen")));
    assert!(!place.index("desk").exists());
    assert!(memory.list("").unwrap().len() > 1);
    drop(place.folder);
}
