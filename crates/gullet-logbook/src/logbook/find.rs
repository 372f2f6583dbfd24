//! Finding one run by what a person wrote.

use std::collections::BTreeMap;
use std::fmt;

use jiff::civil::{Date, DateTime};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

use super::{Logbook, Logged, RunLine, RunList};
use gullet_model::ids::RunId;

/// Which run is meant: `[MACHINE:]ID`, `[MACHINE:]APP@latest`, `[MACHINE:]APP@MOMENT`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RunSpec {
    /// The machine: the beginning of its id, or the name of its host.
    pub machine: Option<String>,
    /// Which of its runs.
    pub which: Which,
}

/// Which run of a machine is meant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Which {
    /// A run's id or its beginning.
    Id(String),
    /// The newest whole and complete run of an application.
    Latest(String),
    /// The newest whole and complete run of an application that began at or before a moment.
    Before(String, Moment),
}

/// A moment as a person writes it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Moment {
    /// The end of the day before today.
    Yesterday,
    /// The end of a day.
    Day(Date),
    /// A time of a day; all of its last named unit counts.
    Time(DateTime),
    /// A point in time, with its offset.
    Point(Timestamp),
}

impl Moment {
    /// The moment in a zone: the last nanosecond of what was written.
    pub fn in_zone(self, zone: &TimeZone, now: Timestamp) -> Option<Timestamp> {
        let end = |day: Date| {
            day.tomorrow().ok()?.to_zoned_datetime(zone.clone()).ok()?.timestamp().checked_sub(1.nanosecond()).ok()
        };
        match self {
            Self::Yesterday => end(now.to_zoned_datetime(zone.clone()).date().yesterday().ok()?),
            Self::Day(day) => end(day),
            Self::Time(time) => Some(time.to_zoned_datetime(zone.clone()).ok()?.timestamp()),
            Self::Point(point) => Some(point),
        }
    }

    /// Reads what a person wrote; hours alone and minutes alone are enough.
    pub fn parse(text: &str) -> Option<Self> {
        if text == "yesterday" {
            return Some(Self::Yesterday);
        }
        if let Ok(point) = text.parse() {
            return Some(Self::Point(point));
        }
        let Some((day, time)) = text.split_once(['T', ' ']) else { return text.parse().ok().map(Self::Day) };
        let day: Date = day.parse().ok()?;
        let time = match time.len() {
            2 => format!("{time}:00:00"),
            5 => format!("{time}:00"),
            _ => time.to_owned(),
        };
        format!("{day}T{time}").parse().ok().map(Self::Time)
    }
}

impl fmt::Display for Moment {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Yesterday => f.write_str("yesterday"),
            Self::Day(day) => write!(f, "{day}"),
            Self::Time(time) => write!(f, "{time}"),
            Self::Point(point) => write!(f, "{point}"),
        }
    }
}

/// A machine that has runs: its id, and the name of its host where that is known.
pub type MachineName = (String, String);

/// A run could not be found.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FindError {
    /// The text is not a run.
    #[error(
        "`{0}` is not a run: write an id, the beginning of one, `APP@latest`, `APP@yesterday`, `APP@2026-11-03` or `APP@2026-11-03T12:00`"
    )]
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
        /// The ids of the runs that it may mean.
        found: Vec<String>,
    },
    /// Several machines have an application of this name.
    #[error("several machines have runs of `{app}`, so it must be said which one is meant")]
    Machines {
        /// The name of the application.
        app: String,
        /// The machines that have runs of it.
        machines: Vec<MachineName>,
    },
    /// The application has no whole and complete run.
    #[error("`{app}` has no complete run{}", if elsewhere.is_empty() { "" } else { " by this machine" })]
    NoGood {
        /// The name of the application.
        app: String,
        /// Other machines that have one.
        elsewhere: Vec<MachineName>,
    },
}

impl std::str::FromStr for RunSpec {
    type Err = FindError;

    fn from_str(text: &str) -> Result<Self, FindError> {
        let form = || FindError::Form(text.to_owned());
        // A time has colons too, but only behind the `@`.
        let (machine, rest) = match text.split_once(':') {
            Some((machine, rest)) if !machine.contains('@') => (Some(machine.to_owned()), rest),
            _ => (None, text),
        };
        if machine.as_ref().is_some_and(String::is_empty) {
            return Err(form());
        }
        let which = match rest.split_once('@') {
            Some((app, "latest")) if !app.is_empty() => Which::Latest(app.to_owned()),
            Some((app, moment)) if !app.is_empty() => {
                Which::Before(app.to_owned(), Moment::parse(moment).ok_or_else(form)?)
            }
            None if !rest.is_empty() && rest.chars().all(|c| c.is_ascii_alphanumeric()) => Which::Id(rest.to_owned()),
            _ => return Err(form()),
        };
        Ok(Self { machine, which })
    }
}

/// A run among others, as a search for one sees it.
trait Findable {
    fn run(&self) -> &RunId;
    fn app(&self) -> &str;
    fn machine(&self) -> &str;
    fn host(&self) -> &str;
    fn started(&self) -> Timestamp;
    fn is_good(&self) -> bool;

    /// Whether it is of a machine, by the beginning of its id or by the name of its host.
    fn is_of(&self, machine: Option<&str>) -> bool {
        machine.is_none_or(|machine| self.machine().starts_with(machine) || self.host() == machine)
    }
}

impl Findable for Logged {
    fn run(&self) -> &RunId {
        &self.record.run
    }

    fn app(&self) -> &str {
        &self.record.app
    }

    fn machine(&self) -> &str {
        &self.record.machine
    }

    fn host(&self) -> &str {
        &self.record.host.name
    }

    fn started(&self) -> Timestamp {
        self.record.started
    }

    fn is_good(&self) -> bool {
        Self::is_good(self)
    }
}

impl Findable for RunLine {
    fn run(&self) -> &RunId {
        &self.run
    }

    fn app(&self) -> &str {
        &self.app
    }

    fn machine(&self) -> &str {
        &self.machine
    }

    fn host(&self) -> &str {
        &self.host
    }

    fn started(&self) -> Timestamp {
        self.started
    }

    fn is_good(&self) -> bool {
        Self::is_good(self)
    }
}

impl Logbook {
    /// Finds a run.
    ///
    /// # Errors
    /// When there is none, or several.
    pub fn find(&self, spec: &RunSpec, zone: &TimeZone, now: Timestamp) -> Result<&Logged, FindError> {
        Search { runs: &self.runs, machine: self.machine.as_deref() }.find(spec, zone, now)
    }
}

impl RunList {
    /// Finds a run; as [`Logbook::find`].
    ///
    /// # Errors
    /// When there is none, or several.
    pub fn find(&self, spec: &RunSpec, zone: &TimeZone, now: Timestamp) -> Result<&RunLine, FindError> {
        Search { runs: &self.runs, machine: self.machine.as_deref() }.find(spec, zone, now)
    }
}

/// Runs, oldest first, and the machine that looks for one of them.
struct Search<'a, T> {
    runs: &'a [T],
    machine: Option<&'a str>,
}

impl<'a, T: Findable> Search<'a, T> {
    fn find(&self, spec: &RunSpec, zone: &TimeZone, now: Timestamp) -> Result<&'a T, FindError> {
        match &spec.which {
            Which::Latest(app) => self.newest(spec, app, |_| true),
            Which::Before(app, moment) => {
                let until = moment.in_zone(zone, now);
                let found = self.newest(spec, app, |run| until.is_some_and(|until| run.started() <= until));
                found.map_err(|error| match error {
                    FindError::NoGood { .. } => self.none(format!("{app}@{moment}"), Some(app)),
                    other => other,
                })
            }
            Which::Id(id) => {
                let is_meant =
                    |run: &&T| run.run().as_str().starts_with(id.as_str()) && run.is_of(spec.machine.as_deref());
                let found: Vec<&T> = self.runs.iter().filter(is_meant).collect();
                match found.as_slice() {
                    [] => Err(self.none(id.clone(), None)),
                    [one] => Ok(one),
                    many => Err(FindError::Several {
                        wanted: id.clone(),
                        found: many.iter().map(|run| run.run().to_string()).collect(),
                    }),
                }
            }
        }
    }

    /// The newest good run of an application of one machine.
    fn newest(&self, spec: &RunSpec, app: &str, fits: impl Fn(&T) -> bool) -> Result<&'a T, FindError> {
        let machine = spec.machine.as_deref().or(self.machine);
        let good = || self.runs.iter().filter(|run| run.app() == app && run.is_good() && fits(run));
        let names = |runs: &mut dyn Iterator<Item = &T>| -> Vec<MachineName> {
            let names: BTreeMap<String, String> =
                runs.map(|run| (run.machine().to_owned(), run.host().to_owned())).collect();
            names.into_iter().collect()
        };
        let machines = names(&mut good().filter(|run| run.is_of(machine)));
        if machines.len() > 1 {
            return Err(FindError::Machines { app: app.to_owned(), machines });
        }
        let found = good().rfind(|run| run.is_of(machine));
        found.ok_or_else(|| FindError::NoGood { app: app.to_owned(), elsewhere: names(&mut good()) })
    }

    fn none(&self, wanted: String, app: Option<&str>) -> FindError {
        let of_app = self.runs.iter().rev().filter(|run| app.is_none_or(|app| run.app() == app));
        FindError::None { wanted, known: of_app.take(3).map(|run| run.run().to_string()).collect() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_are_named_in_several_ways() {
        let which = |text: &str| text.parse::<RunSpec>().map(|spec| (spec.machine, spec.which));
        let app = || "quaybook".to_owned();
        assert_eq!(which("k3v9"), Ok((None, Which::Id("k3v9".to_owned()))));
        assert_eq!(which("quaybook@latest"), Ok((None, Which::Latest(app()))));
        let day = Date::constant(2026, 11, 3);
        assert_eq!(which("quaybook@2026-11-03"), Ok((None, Which::Before(app(), Moment::Day(day)))));
        assert_eq!(which("quaybook@yesterday"), Ok((None, Which::Before(app(), Moment::Yesterday))));
        for (text, hour, minute) in [("T01", 1, 0), ("T12:30", 12, 30), (" 12:30:00", 12, 30)] {
            let time = Moment::Time(day.at(hour, minute, 0, 0));
            assert_eq!(which(&format!("quaybook@2026-11-03{text}")), Ok((None, Which::Before(app(), time))), "{text}");
        }
        let point = Moment::Point("2026-11-03T11:30:00Z".parse().unwrap());
        assert_eq!(which("quaybook@2026-11-03T12:30+01:00"), Ok((None, Which::Before(app(), point))));
        assert_eq!(which("pier:quaybook@latest"), Ok((Some("pier".to_owned()), Which::Latest(app()))));
        assert_eq!(which("pier:k3v9"), Ok((Some("pier".to_owned()), Which::Id("k3v9".to_owned()))));
        for wrong in ["", "@latest", "quaybook@", "quaybook@tomorrow", "a b", "../x", ":k3v9", "quaybook@2026-11-03T25"]
        {
            assert!(matches!(which(wrong), Err(FindError::Form(_))), "{wrong}");
        }
    }

    #[test]
    fn a_moment_is_in_the_zone_of_who_asks() {
        let zone = TimeZone::get("Atlantic/Azores").unwrap();
        let at = |moment: Moment| moment.in_zone(&zone, "2026-11-04T00:30:00Z".parse().unwrap()).unwrap().to_string();
        assert_eq!(at(Moment::Day(Date::constant(2026, 11, 3))), "2026-11-04T00:59:59.999999999Z");
        assert_eq!(at(Moment::Yesterday), "2026-11-03T00:59:59.999999999Z", "there it is the third still");
        assert_eq!(at(Moment::Time(Date::constant(2026, 11, 3).at(12, 0, 0, 0))), "2026-11-03T13:00:00Z");
    }
}
