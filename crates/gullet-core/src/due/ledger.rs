//! Which moments were handled, and what is open of them.

use std::collections::BTreeMap;
use std::fmt;

use gullet_host::hook::Process;
use gullet_model::words::time;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use super::{Job, Scheduled};

/// So many missed moments of one schedule are told one by one; of more, after days off, the oldest are told by one record.
const FOLLOWED_UP: usize = 24;

/// What is handled is at most so far ahead of a clock that was set back. One that is further behind was wrong before: nothing would
/// run until its time had come again.
const SET_BACK_AT_MOST: SignedDuration = SignedDuration::from_hours(24);

/// The ledger of what is due.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Ledger {
    /// When `due` was called last.
    #[serde(default)]
    pub called: Option<Timestamp>,
    /// Up to when moments are handled, by application and schedule. It does not go back with a clock that is set, but with one that
    /// was wrong by more than a day.
    #[serde(default)]
    handled: BTreeMap<String, Timestamp>,
    /// Up to when they were handled by a clock that was wrong: until then one may have a record already.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    handled_before: BTreeMap<String, Timestamp>,
    /// Since when each is known.
    #[serde(default)]
    since: BTreeMap<String, Timestamp>,
    /// What is not over.
    #[serde(default)]
    pub open: Vec<DueEntry>,
}

/// A due moment that is not over.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct DueEntry {
    /// What is done.
    #[serde(default)]
    pub job: Job,
    /// The application, store or report.
    pub app: String,
    /// The schedule's name.
    pub schedule: String,
    /// When it is due.
    pub at: Timestamp,
    /// How far it is.
    pub stage: Stage,
    /// Earlier missed moments of the same schedule that its record stands for: how many, and the first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub with_earlier: Option<(u64, Timestamp)>,
    /// Whether there may be a record of it already: it is of an earlier call, or its time has come before.
    #[serde(skip)]
    pub may_be_told: bool,
}

/// How far an entry is.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Stage {
    /// It waits for its turn.
    Waiting,
    /// It is about to be started.
    Starting,
    /// A process of this machine is running it.
    Running(Process),
    /// Its process is over, and its record is not found yet.
    Over,
    /// It is to be told that it was missed.
    Missed(MissedWhy),
}

/// Why a moment was missed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum MissedWhy {
    /// `due` was not called in time; when it was called before.
    NotCalled(Option<Timestamp>),
    /// A later moment of the same schedule had come as well.
    Overtaken,
    /// Others were running until it could not start any more.
    Busy,
    /// It could not be started.
    NotStarted,
    /// It was started, or was about to be, and died before it left a record.
    Died,
    /// The definition has no such schedule any more.
    Gone,
}

impl fmt::Display for MissedWhy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NotCalled(Some(before)) => {
                write!(
                    f,
                    "`gullet due` was not called in time: the machine was off or asleep, or its timer did not work; before that it was called at {}",
                    time(*before)
                )
            }
            Self::NotCalled(None) => f.write_str("`gullet due` was not called in time"),
            Self::Overtaken => {
                f.write_str("it was not run in time, and a later moment of the same schedule had come as well")
            }
            Self::Busy => f.write_str("other runs went on until it could not start any more"),
            Self::NotStarted => f.write_str("the program could not be started"),
            Self::Died => f.write_str("it was started, and died before it left a record"),
            Self::Gone => f.write_str("the definition has no such schedule any more"),
        }
    }
}

impl DueEntry {
    /// What its record names as the trigger; one moment has one.
    pub fn trigger(&self) -> String {
        match self.job {
            Job::Run => format!("schedule {}, due {}", self.schedule, self.at),
            // An application of the group may have a schedule that is called so, too.
            Job::Group => format!("schedule {} of group {}, due {}", self.schedule, self.app, self.at),
            job => format!("{}, due {}", job.word(), self.at),
        }
    }

    /// What its record that it was missed says.
    pub fn missed_text(&self, why: &MissedWhy) -> String {
        let earlier = self.with_earlier.map(|(count, first)| {
            let moments = gullet_model::words::count(count, "earlier moment");
            format!("; so it was with {moments} of this schedule, the first at {}", time(first))
        });
        format!("{why}{}", earlier.unwrap_or_default())
    }

    fn is(&self, other: &Self) -> bool {
        (self.job, &self.app, &self.schedule, self.at) == (other.job, &other.app, &other.schedule, other.at)
    }
}

/// What a schedule is known by in the ledger.
fn key(job: Job, app: &str, schedule: &str) -> String {
    match job {
        Job::Run => format!("{app}/{schedule}"),
        // No application is called so.
        Job::Group => format!("group: {app}/{schedule}"),
        job => format!("{}: {app}", job.word()),
    }
}

impl Ledger {
    /// Since when a schedule is known; nothing before that is due.
    pub fn since(&self, scheduled: &Scheduled) -> Option<Timestamp> {
        self.since.get(&key(scheduled.job, &scheduled.app, scheduled.name())).copied()
    }

    /// What an earlier call left is looked for: what it was about to start runs, or is over.
    pub(super) fn follow_up(&mut self, find: &mut dyn FnMut(&DueEntry) -> Option<Process>) {
        for entry in &mut self.open {
            entry.may_be_told = true;
            if entry.stage == Stage::Starting {
                entry.stage = find(entry).map_or(Stage::Over, Stage::Running);
            }
        }
    }

    /// Takes up the moments that came since the last look. A schedule that is seen for the first time begins now.
    pub(super) fn look(&mut self, now: Timestamp, schedules: &[Scheduled]) {
        let before = self.called;
        for scheduled in schedules {
            let key = key(scheduled.job, &scheduled.app, scheduled.name());
            self.since.entry(key.clone()).or_insert(now);
            let handled = *self.handled.entry(key.clone()).or_insert(now);
            if handled.duration_since(now) > SET_BACK_AT_MOST {
                self.since.insert(key.clone(), now);
                self.handled_before.insert(key.clone(), handled);
                self.handled.insert(key, now);
                continue;
            }
            if now <= handled {
                continue;
            }
            let may_be_told = |at: Timestamp| self.handled_before.get(&key).is_some_and(|before| at <= *before);
            let mut due = scheduled.rule.between(handled, now, usize::MAX);
            let first = due.first().map_or(now, |moment| moment.at);
            let many = due.len().saturating_sub(FOLLOWED_UP);
            due.drain(..many);
            let newest = due.last().map(|moment| moment.at);
            let mut with_earlier = (many > 0).then_some((many as u64, first));
            for moment in due {
                let in_time = now <= scheduled.rule.starts_until(moment.at);
                let is_newest = Some(moment.at) == newest;
                let stage = match (in_time || scheduled.rule.spec().catch_up, is_newest) {
                    (true, true) => Stage::Waiting,
                    (true, false) => Stage::Missed(MissedWhy::Overtaken),
                    (false, _) => Stage::Missed(MissedWhy::NotCalled(before)),
                };
                let (job, app, schedule) = (scheduled.job, scheduled.app.clone(), scheduled.name().to_owned());
                let (at, with_earlier, may_be_told) = (moment.at, with_earlier.take(), may_be_told(moment.at));
                self.open.push(DueEntry { job, app, schedule, at, stage, with_earlier, may_be_told });
            }
            self.handled.insert(key, now);
        }
        // A clock that went back says nothing about when it was called.
        self.called = Some(now);
    }

    /// Gives up what waits and could not start in time, or whose schedule is gone.
    pub(super) fn give_up(&mut self, now: Timestamp, schedules: &[Scheduled]) {
        for entry in self.open.iter_mut().filter(|entry| entry.stage == Stage::Waiting) {
            let scheduled = schedules.iter().find(|one| one.is_of(entry));
            let why = match scheduled {
                None => Some(MissedWhy::Gone),
                Some(one) if one.rule.spec().catch_up || now <= one.rule.starts_until(entry.at) => None,
                Some(_) if entry.may_be_told => Some(MissedWhy::NotCalled(None)),
                Some(_) => Some(MissedWhy::Busy),
            };
            if let Some(why) = why {
                entry.stage = Stage::Missed(why);
            }
        }
    }

    /// Those whose processes are over.
    pub(super) fn take_over(&mut self, is_over: &mut dyn FnMut(Process) -> bool) -> Vec<DueEntry> {
        for entry in &mut self.open {
            if let Stage::Running(process) = entry.stage
                && is_over(process)
            {
                entry.stage = Stage::Over;
            }
        }
        self.of(|stage| *stage == Stage::Over)
    }

    /// Those that are to be told as missed.
    pub(super) fn missed(&self) -> Vec<DueEntry> {
        self.of(|stage| matches!(stage, Stage::Missed(_)))
    }

    /// What may start now: the earliest first, then by name; of one application one at a time.
    pub(super) fn next<'s>(&self, at_once: usize, schedules: &'s [Scheduled]) -> Option<(DueEntry, &'s Scheduled)> {
        let running = self.of(|stage| matches!(stage, Stage::Running(_) | Stage::Starting));
        let is_full = running.len() >= at_once;
        // A report is made in a moment, and is wanted while a run goes on for hours, too.
        let may_start = |entry: &DueEntry| entry.job == Job::Report || !is_full;
        let waiting = self.of(|stage| *stage == Stage::Waiting).into_iter().filter(may_start);
        let free = waiting.filter(|entry| !running.iter().any(|other| other.app == entry.app));
        let known = free.filter_map(|entry| Some((schedules.iter().find(|one| one.is_of(&entry))?, entry)));
        let first =
            known.min_by(|(_, a), (_, b)| (a.at, a.job, &a.app, &a.schedule).cmp(&(b.at, b.job, &b.app, &b.schedule)));
        first.map(|(scheduled, entry)| (entry, scheduled))
    }

    /// Whether something waits or runs that this call is to see to its end.
    pub(super) fn has_work(&self) -> bool {
        !self.of(|stage| matches!(stage, Stage::Waiting | Stage::Running(_) | Stage::Starting)).is_empty()
    }

    pub(super) fn set(&mut self, entry: &DueEntry, stage: Stage) {
        self.open.iter_mut().filter(|one| one.is(entry)).for_each(|one| one.stage = stage.clone());
    }

    pub(super) fn close(&mut self, entry: &DueEntry) {
        self.open.retain(|one| !one.is(entry));
    }

    fn of(&self, is_meant: impl Fn(&Stage) -> bool) -> Vec<DueEntry> {
        self.open.iter().filter(|entry| is_meant(&entry.stage)).cloned().collect()
    }
}
