//! The logbook: all records and remarks of a store, and finding one run among them.

use std::collections::BTreeMap;
use std::fs;

use gullet_store::{DocumentName, Store, StoreError};
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use crate::outcome::Outcome;
use crate::record::{RECORD_VERSION, Record, Remark, RemarkKind};
use crate::state::State;

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

    /// Whether the run can stand for the application: whole, not narrowed, in the store, not damaged.
    pub fn is_good(&self) -> bool {
        self.in_store && !self.record.partial && self.outcome().is_whole()
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
    /// Reads the logbook of a store; with the local state also the records that wait for it.
    ///
    /// # Errors
    /// When the store cannot be listed. Documents that cannot be read are listed, not fatal.
    pub fn read(store: &Store, app: Option<&str>, state: Option<&State>) -> Result<Self, StoreError> {
        let mut book = Self::default();
        let below = |folder: &str| app.map_or(folder.to_owned(), |app| format!("{folder}/{app}"));
        let mut remarks: BTreeMap<String, Vec<Remark>> = BTreeMap::new();
        for name in store.documents(&below("remarks"))? {
            match store.document(&name).and_then(|document| document.parse::<Remark>()) {
                Ok(remark) => remarks.entry(remark.record.clone()).or_default().push(remark),
                Err(error) => book.unreadable.push((name.to_string(), error.to_string())),
            }
        }
        for name in store.documents(&below("records"))? {
            match read_record(store, &name) {
                Ok(record) => {
                    let remarks = remarks.remove(name.as_str()).unwrap_or_default();
                    book.runs.push(Logged { name: name.to_string(), in_store: true, record, remarks });
                }
                Err(error) => book.unreadable.push((name.to_string(), error.to_string())),
            }
        }
        for (_, path) in state.map(|state| state.waiting(app)).unwrap_or_default() {
            let record = fs::read(&path).map_err(|error| error.to_string());
            match record.and_then(|bytes| serde_json::from_slice(&bytes).map_err(|error| error.to_string())) {
                Ok(record) => {
                    let name = path.display().to_string();
                    book.runs.push(Logged { name, in_store: false, record, remarks: Vec::new() });
                }
                Err(error) => book.unreadable.push((path.display().to_string(), error)),
            }
        }
        book.runs.sort_by_key(|logged| (logged.record.started, logged.record.run.clone()));
        for logged in &mut book.runs {
            logged.remarks.sort_by_key(|remark| remark.at);
        }
        Ok(book)
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

/// Reads a record and refuses one of a newer form.
pub(crate) fn read_record(store: &Store, name: &DocumentName) -> Result<Record, StoreError> {
    let document = store.document(name)?;
    let version: serde_json::Value = document.parse()?;
    let version = version.get("record").and_then(serde_json::Value::as_u64).unwrap_or(0);
    if version > u64::from(RECORD_VERSION) {
        let what = format!("it is a record of version {version}; this program knows versions up to {RECORD_VERSION}");
        return Err(StoreError::Damaged { name: name.to_string(), what });
    }
    document.parse()
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
