//! When an application is run, as it is written; [`crate::definition::calendar`] is what it means.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::types::OneOrMany;
use super::values::{Period, Share};

/// When to run an application: `every` with its keys, or `cron`.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "a schedule", deny_unknown_fields)]
pub struct ScheduleSpec {
    /// Its name, which no other schedule of the application has; records name it.
    pub name: String,
    /// How often: each hour, day, week, month or year. Without it there must be `cron`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub every: Option<Every>,
    /// Instead: cron notation of five fields, as in `30 1 * * 1-5`. Without it there must be `every`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cron: Option<String>,
    /// The times of day, as in `01:30`; with `every = "hour"` the minutes, as in `05`. Without it `every` is an
    /// error.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<OneOrMany<String>>,
    /// The days: of a week or a day `mon` or `mon-fri`; of a month `1`, `last`, `first sat`, `last fri`; of a year
    /// `12-31`. Without it `every` of a week, a month or a year is an error; of a day all days are meant.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on: Option<OneOrMany<OnDay>>,
    /// The zone of all times: an IANA name such as `Europe/Lisbon`, or `local`.
    pub zone: String,
    /// Days on which it is not run: `01-01`, `2026-12-24`, `2026-12-24..2026-12-26`, `sun`. Without it no day is
    /// left out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub not_on: Vec<String>,
    /// The time of day by which it must have started; what could not is missed. Without it one hour.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start_by: Option<String>,
    /// The time of day by which it must be done; a run that still goes on is ended then, released first. Without it
    /// a run may go on for as long as it takes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finish_by: Option<String>,
    /// A run that could not start in time starts as soon as it can, instead of being recorded as missed. Without it
    /// a night on which the machine was off stays without a run.
    #[serde(default, skip_serializing_if = "super::types::is_false")]
    pub catch_up: bool,
    /// Only these parts; such runs are partial. Without it all of them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<String>,
}

/// When something other than a run is done: the keys of a schedule that make sense for it, all of which may be missing.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "a calendar", deny_unknown_fields)]
pub struct CalendarSpec {
    /// How often: each hour, day, week, month or year. Without it there must be `cron`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub every: Option<Every>,
    /// Instead: cron notation of five fields, as in `30 1 * * 1-5`. Without it there must be `every`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cron: Option<String>,
    /// The times of day, as in `01:30`; with `every = "hour"` the minutes, as in `05`. Without it `every` is an
    /// error.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<OneOrMany<String>>,
    /// The days, as in a schedule. Without it `every` of a week, a month or a year is an error; of a day all days
    /// are meant.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on: Option<OneOrMany<OnDay>>,
    /// The zone of all times: an IANA name such as `Europe/Lisbon`, or `local`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// Days on which it is not done. Without it no day is left out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub not_on: Vec<String>,
    /// The time of day by which it must have started; what could not is missed. Without it one hour.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start_by: Option<String>,
    /// What could not start in time is done as soon as it can be, instead of being recorded as missed. Without it a
    /// night on which the machine was off stays without a run.
    #[serde(default, skip_serializing_if = "super::types::is_false")]
    pub catch_up: bool,
}

impl CalendarSpec {
    /// The schedule that it makes, of a name; `None` where nothing is said of when.
    pub fn schedule(&self, name: &str) -> Option<ScheduleSpec> {
        (*self != Self::default()).then(|| ScheduleSpec {
            name: name.to_owned(),
            every: self.every,
            cron: self.cron.clone(),
            at: self.at.clone(),
            on: self.on.clone(),
            zone: self.zone.clone().unwrap_or_default(),
            not_on: self.not_on.clone(),
            start_by: self.start_by.clone(),
            catch_up: self.catch_up,
            ..ScheduleSpec::default()
        })
    }
}

/// When a store is verified.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "the verification", deny_unknown_fields)]
pub struct VerifySpec {
    /// When.
    #[serde(flatten)]
    pub calendar: CalendarSpec,
    /// How much of all bytes each time, what was read longest ago first; all of them by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub share: Option<Share>,
}

/// Which runs of an application keep what they captured. A run stays if any of these keeps it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "keep rules", deny_unknown_fields)]
pub struct KeepSpec {
    /// So many of the newest complete runs. Without it no run stays for that reason.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub newest: Option<u32>,
    /// Every run that is younger, however it ended. Without it no run stays for that reason.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub everything_for: Option<Period>,
    /// The newest complete run of each day, for so long. Without it no run stays for that reason.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub one_a_day_for: Option<Period>,
    /// The newest complete run of each week, which begins on Monday. Without it no run stays for that reason.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub one_a_week_for: Option<Period>,
    /// The newest complete run of each month. Without it no run stays for that reason.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub one_a_month_for: Option<Period>,
    /// The newest complete run of each year. Without it no run stays for that reason.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub one_a_year_for: Option<Period>,
    /// The event logs of runs in the state folder; one year by default. What hooks printed is in the records, which stay.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub logs_for: Option<Period>,
    /// The zone of days, weeks, months and years: an IANA name, or `local`, which it is by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
}

impl KeepSpec {
    /// Whether it says anything of captures; where it does not, those of every run stay.
    pub fn has_rules(&self) -> bool {
        let Self { newest, everything_for, one_a_day_for, one_a_week_for, one_a_month_for, one_a_year_for, .. } = self;
        let periods = [everything_for, one_a_day_for, one_a_week_for, one_a_month_for, one_a_year_for];
        newest.is_some() || periods.into_iter().any(Option::is_some)
    }
}

/// How often a schedule comes round.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Every {
    /// Every hour.
    Hour,
    /// Every day.
    Day,
    /// Every week.
    Week,
    /// Every month.
    Month,
    /// Every year.
    Year,
}

/// A day of a week, a month or a year.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum OnDay {
    /// Of a month, by its number.
    Number(u8),
    /// In words.
    Words(String),
}
