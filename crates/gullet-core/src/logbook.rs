//! The logbook: all records and remarks of a store, and finding one run among them.

use std::collections::BTreeMap;
use std::fs;

use gullet_store::{DocumentName, Holdings, Need, Recipients, Store, StoreError};
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use crate::outcome::Outcome;
use crate::record::{RECORD_VERSION, Record, Remark, RemarkKind};
use crate::sealed::{self, Draft, Opened};
use crate::state::State;
use crate::world::World;

/// One run as the logbook knows it: its record and what was said about it later.
#[derive(Clone, Debug)]
pub struct Logged {
    /// The record's name in the store, or its path where it waits for the store.
    pub name: String,
    /// Whether the record is in the store.
    pub in_store: bool,
    /// The record.
    pub record: Record,
    /// The remarks, oldest first.
    pub remarks: Vec<Remark>,
    /// The public keys that it is sealed for.
    pub keys: Vec<String>,
    /// Whether it is sealed and no identity at hand opens it: then only what is in clear is known of it.
    pub is_locked: bool,
}

impl Logged {
    /// What is shown: the worse of the record and its remarks.
    pub fn outcome(&self) -> Outcome {
        self.remarks.iter().fold(self.record.outcome, |worst, remark| worst.combine(remark.outcome))
    }

    /// When everything was last read back and found sound; `None` when it never was, or damage was found since.
    pub fn verified(&self) -> Option<Timestamp> {
        let kinds = [RemarkKind::Verified, RemarkKind::Damaged];
        let last = self.remarks.iter().rev().find(|remark| kinds.contains(&remark.what))?;
        (last.what == RemarkKind::Verified).then_some(last.at)
    }

    /// The public keys that it is sealed for; what is said about it is sealed for them too.
    pub fn recipients(&self) -> Recipients {
        // They were keys when the record was written.
        Recipients::parse(&self.keys).unwrap_or_default()
    }

    /// A statement about it, to be stored with [`Logged::store_remark`].
    pub(crate) fn remark(&self, at: Timestamp, what: RemarkKind, outcome: Outcome, text: String) -> Remark {
        Remark::new(&self.record.run, &self.name, at, what, outcome, text)
    }

    /// When it was last proven to restore, by a drill; `None` when it never was, or the last drill failed.
    pub fn proven(&self) -> Option<Timestamp> {
        let last = self.remarks.iter().rev().find(|remark| remark.what == RemarkKind::Drilled)?;
        (last.outcome == Outcome::Complete).then_some(last.at)
    }

    /// Whether it is marked to stay.
    pub fn is_kept(&self) -> bool {
        let kinds = [RemarkKind::Kept, RemarkKind::NotKept];
        self.remarks
            .iter()
            .rev()
            .find(|remark| kinds.contains(&remark.what))
            .is_some_and(|r| r.what == RemarkKind::Kept)
    }

    /// Says something about it, now and for as long as its record is kept.
    ///
    /// # Errors
    /// When the store cannot take it.
    pub fn say(
        &self,
        what: RemarkKind,
        outcome: Outcome,
        text: String,
        store: &Store,
        state: Option<&State>,
        world: World<'_>,
    ) -> Result<(), StoreError> {
        self.store_remark(&self.remark(world.clock.now(), what, outcome, text), store, state)
    }

    /// Stores a remark about it, sealed for whom it is sealed.
    ///
    /// # Errors
    /// When the store cannot take it.
    pub(crate) fn store_remark(&self, remark: &Remark, store: &Store, state: Option<&State>) -> Result<(), StoreError> {
        Draft::of_remark(remark, &self.record, &self.recipients())?.store(store, state).map(drop)
    }

    /// What it stands on now: as its record says, but for what was moved since.
    pub fn holdings(&self) -> Holdings {
        let mut holdings = self.record.holdings.clone();
        for moved in self.remarks.iter().flat_map(|remark| &remark.moved) {
            holdings.wrote.retain(|file| file.name != moved.from);
            holdings.needs.retain(|need| need.name != moved.from);
            let frames = moved.frames.clone();
            holdings.needs.push(Need { name: moved.to.name.clone(), length: moved.to.length, frames });
        }
        holdings
    }

    /// Whether its captures were given up.
    pub fn is_thinned(&self) -> bool {
        self.remarks.iter().any(|remark| remark.what == RemarkKind::Thinned)
    }

    /// Whether the run can stand for the application: whole, not narrowed, in the store, not damaged.
    pub fn is_good(&self) -> bool {
        self.in_store && !self.record.partial && !self.is_thinned() && self.outcome().is_whole()
    }
}

/// All runs, oldest first, and what could not be read.
#[derive(Debug, Default)]
pub struct Logbook {
    /// The runs, oldest first.
    pub runs: Vec<Logged>,
    /// Documents that are damaged or cannot be read, with the reason.
    pub unreadable: Vec<(String, String)>,
}

/// What a run must know of the runs before it, by the same writer; reading it takes no longer the more runs there are.
#[derive(Debug, Default)]
pub struct Recent {
    /// The newest run that can stand for the application.
    pub last_good: Option<Logged>,
    /// The name of the newest record.
    pub previous: Option<String>,
    /// Payload files that were found damaged.
    pub damaged: Vec<String>,
    /// Documents that are damaged or cannot be read, with the reason.
    pub unreadable: Vec<(String, String)>,
}

impl Recent {
    /// Looks from the newest run of `app` by `writer` back to the first good one.
    ///
    /// # Errors
    /// When the store cannot be listed.
    pub fn read(store: &Store, app: &str, writer: &str, state: &State) -> Result<Self, StoreError> {
        let mut recent = Self::default();
        let names = store.documents(&format!("records/{app}/{writer}"))?;
        let remark_names = store.documents(&format!("remarks/{app}/{writer}"))?;
        recent.previous = names.last().map(ToString::to_string);
        let damaged = format!("-{}", RemarkKind::Damaged.word());
        for name in remark_names.iter().filter(|name| name.stem().ends_with(&damaged)) {
            let remark = read_remark(store, name, Some(state), &mut recent.unreadable);
            recent.damaged.extend(remark.into_iter().flat_map(|remark| remark.payload));
        }
        for name in names.iter().rev() {
            let mut unreadable = Vec::new();
            let of_run = |record: &Record| {
                let folder = format!("remarks/{app}/{writer}/{}", record.run);
                let names = remark_names.iter().filter(|name| name.folder() == folder);
                names.filter_map(|name| read_remark(store, name, Some(state), &mut unreadable)).collect()
            };
            let logged = read_run(store, name, Some(state), of_run, &mut recent.unreadable);
            recent.unreadable.append(&mut unreadable);
            let Some(logged) = logged else { continue };
            if logged.is_good() {
                recent.last_good = Some(logged);
                break;
            }
        }
        Ok(recent)
    }
}

/// Which run is meant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RunSpec {
    /// A run's id or its beginning.
    Id(String),
    /// The newest whole and complete run of an application.
    Latest(String),
    /// The last run of an application that began on a day.
    Day(String, Date),
}

/// A run could not be found.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FindError {
    /// The text is not a run.
    #[error("`{0}` is not a run: write an id, the beginning of one, `APP@latest` or `APP@2026-11-03`")]
    Form(String),
    /// There is none.
    #[error("there is no run `{wanted}`")]
    None {
        /// What was asked for.
        wanted: String,
        /// The ids of some runs that are there.
        known: Vec<String>,
    },
    /// There are several.
    #[error("`{wanted}` is the beginning of several runs")]
    Several {
        /// What was asked for.
        wanted: String,
        /// Their ids.
        found: Vec<String>,
    },
    /// The application has no whole and complete run.
    #[error("`{app}` has no complete run")]
    NoGood {
        /// The application.
        app: String,
    },
}

impl std::str::FromStr for RunSpec {
    type Err = FindError;

    fn from_str(text: &str) -> Result<Self, FindError> {
        let form = || FindError::Form(text.to_owned());
        match text.split_once('@') {
            Some((app, "latest")) if !app.is_empty() => Ok(Self::Latest(app.to_owned())),
            Some((app, day)) if !app.is_empty() => {
                day.parse().map(|day| Self::Day(app.to_owned(), day)).map_err(|_| form())
            }
            None if !text.is_empty() && text.chars().all(|c| c.is_ascii_alphanumeric()) => {
                Ok(Self::Id(text.to_owned()))
            }
            _ => Err(form()),
        }
    }
}

impl Logbook {
    /// Reads the logbook of a store. What is sealed is opened with what this machine kept in its `state`, or with the
    /// store's identities.
    ///
    /// # Errors
    /// When the store cannot be listed. Documents that cannot be read are listed, not fatal.
    pub fn read(store: &Store, app: Option<&str>, state: Option<&State>) -> Result<Self, StoreError> {
        let mut book = Self::default();
        let below = |folder: &str| app.map_or(folder.to_owned(), |app| format!("{folder}/{app}"));
        let mut remarks: BTreeMap<String, Vec<Remark>> = BTreeMap::new();
        for name in store.documents(&below("remarks"))? {
            if let Some(remark) = read_remark(store, &name, state, &mut book.unreadable) {
                remarks.entry(remark.record.clone()).or_default().push(remark);
            }
        }
        for name in store.documents(&below("records"))? {
            let of_run = |_: &Record| remarks.remove(name.as_str()).unwrap_or_default();
            book.runs.extend(read_run(store, &name, state, of_run, &mut book.unreadable));
        }
        book.sort();
        Ok(book)
    }

    fn sort(&mut self) {
        self.runs.sort_by_key(|logged| (logged.record.started, logged.record.run.clone()));
    }

    /// Adds the records of this machine that wait for the store.
    #[must_use]
    pub fn with_waiting(mut self, state: &State, app: Option<&str>) -> Self {
        for (_, path) in state.waiting(app) {
            let record = fs::read(&path).map_err(|error| error.to_string());
            match record.and_then(|bytes| serde_json::from_slice(&bytes).map_err(|error| error.to_string())) {
                Ok(record) => {
                    let name = path.display().to_string();
                    let (remarks, keys) = (Vec::new(), Vec::new());
                    self.runs.push(Logged { name, in_store: false, record, remarks, keys, is_locked: false });
                }
                Err(error) => self.unreadable.push((path.display().to_string(), error)),
            }
        }
        self.sort();
        self
    }

    /// Finds a run.
    ///
    /// # Errors
    /// When there is none, or several.
    pub fn find(&self, spec: &RunSpec, zone: &TimeZone) -> Result<&Logged, FindError> {
        let none = |wanted: String| FindError::None {
            wanted,
            known: self.runs.iter().rev().take(3).map(|logged| logged.record.run.to_string()).collect(),
        };
        match spec {
            RunSpec::Latest(app) => self.last_good(app).ok_or_else(|| FindError::NoGood { app: app.clone() }),
            RunSpec::Day(app, day) => {
                let of_day = |logged: &&Logged| {
                    logged.record.app == *app && logged.record.started.to_zoned_datetime(zone.clone()).date() == *day
                };
                self.runs.iter().rev().find(of_day).ok_or_else(|| none(format!("{app}@{day}")))
            }
            RunSpec::Id(id) => {
                let found: Vec<&Logged> =
                    self.runs.iter().filter(|logged| logged.record.run.as_str().starts_with(id.as_str())).collect();
                match found.as_slice() {
                    [] => Err(none(id.clone())),
                    [one] => Ok(one),
                    many => Err(FindError::Several {
                        wanted: id.clone(),
                        found: many.iter().map(|logged| logged.record.run.to_string()).collect(),
                    }),
                }
            }
        }
    }

    /// The newest run that can stand for an application.
    pub fn last_good(&self, app: &str) -> Option<&Logged> {
        self.runs.iter().rev().find(|logged| logged.record.app == app && logged.is_good())
    }

    /// The newest run of an application, whatever its outcome.
    pub fn last(&self, app: &str) -> Option<&Logged> {
        self.runs.iter().rev().find(|logged| logged.record.app == app)
    }
}

/// Reads a remark; what cannot be read is noted.
fn read_remark(
    store: &Store,
    name: &DocumentName,
    state: Option<&State>,
    unreadable: &mut Vec<(String, String)>,
) -> Option<Remark> {
    let read = sealed::read::<Remark>(store, name, state);
    read.map_err(|error| unreadable.push((name.to_string(), error.to_string()))).ok().map(|opened| opened.document)
}

/// Reads a run: its record, and what was said about it later; what cannot be read is noted.
fn read_run(
    store: &Store,
    name: &DocumentName,
    state: Option<&State>,
    remarks: impl FnOnce(&Record) -> Vec<Remark>,
    unreadable: &mut Vec<(String, String)>,
) -> Option<Logged> {
    let read = read_record(store, name, state);
    let opened = read.map_err(|error| unreadable.push((name.to_string(), error.to_string()))).ok()?;
    let Opened { document: record, keys, is_locked } = opened;
    let mut remarks = remarks(&record);
    remarks.sort_by_key(|remark| remark.at);
    Some(Logged { name: name.to_string(), in_store: true, record, remarks, keys, is_locked })
}

/// Reads a record and refuses one of a newer form.
pub(crate) fn read_record(
    store: &Store,
    name: &DocumentName,
    state: Option<&State>,
) -> Result<Opened<Record>, StoreError> {
    let document = store.document(name)?;
    let version: serde_json::Value = document.parse()?;
    let version = version.get("record").and_then(serde_json::Value::as_u64).unwrap_or(0);
    if version > u64::from(RECORD_VERSION) {
        let what = format!("it is a record of version {version}; this program knows versions up to {RECORD_VERSION}");
        return Err(StoreError::Damaged { name: name.to_string(), what });
    }
    sealed::read(store, name, state)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_are_named_in_three_ways() {
        assert_eq!("k3v9".parse(), Ok(RunSpec::Id("k3v9".to_owned())));
        assert_eq!("quaybook@latest".parse(), Ok(RunSpec::Latest("quaybook".to_owned())));
        let day = Date::constant(2026, 11, 3);
        assert_eq!("quaybook@2026-11-03".parse(), Ok(RunSpec::Day("quaybook".to_owned(), day)));
        for wrong in ["", "@latest", "quaybook@", "quaybook@yesterday", "a b", "../x"] {
            assert!(matches!(wrong.parse::<RunSpec>(), Err(FindError::Form(_))), "{wrong}");
        }
    }
}
