//! What will run when, and where one run is foreseen to wait for another.

use std::collections::BTreeMap;

use gullet_model::definition::calendar::DueMoment;
use jiff::{SignedDuration, Timestamp};

use crate::due::{Job, Scheduled};

/// A run that is to come.
#[derive(Clone, Debug)]
pub struct ForeseenRun<'s> {
    /// The schedule that asks for it, and what it is of.
    pub scheduled: &'s Scheduled,
    /// When it is due.
    pub moment: DueMoment,
    /// For how long it will wait, and for which application.
    pub waits: Option<(SignedDuration, &'s str)>,
    /// Whether it will not start in time for that, and is not caught up with.
    pub is_missed: bool,
}

/// What is due in a time, in the order in which it is started, at most so many; `took` is how long runs of each application take,
/// and `at_once` how many go on at once. Of one application never more than one does.
pub fn foresee<'s>(
    schedules: &'s [Scheduled],
    took: &BTreeMap<String, SignedDuration>,
    (from, until): (Timestamp, Timestamp),
    at_once: usize,
    most: usize,
) -> Vec<ForeseenRun<'s>> {
    let of = |one: &'s Scheduled| one.rule.between(from, until, most).into_iter().map(move |moment| (one, moment));
    let mut due: Vec<(&Scheduled, DueMoment)> = schedules.iter().flat_map(of).collect();
    due.sort_by(|(a, x), (b, y)| (x.at, a.job, &a.app, a.name()).cmp(&(y.at, b.job, &b.app, b.name())));
    due.truncate(most);
    let mut running: Vec<(Timestamp, &str)> = Vec::new();
    let mut foreseen = Vec::new();
    for (scheduled, moment) in due {
        let (mut starts, mut waits) = (moment.at, None);
        if scheduled.job == Job::Report {
            // It is made in a moment, whatever goes on.
            foreseen.push(ForeseenRun { scheduled, moment, waits, is_missed: false });
            continue;
        }
        running.retain(|(end, _)| *end > moment.at);
        loop {
            let active = || running.iter().filter(|(end, _)| *end > starts);
            let own = active().find(|(_, app)| *app == scheduled.app);
            let first = active().min().filter(|_| active().count() >= at_once);
            let Some((end, app)) = own.or(first).copied() else { break };
            starts = end;
            waits = Some((end.duration_since(moment.at), app));
        }
        let is_missed = starts > scheduled.rule.starts_until(moment.at) && !scheduled.rule.spec().catch_up;
        if let Some(end) = took
            .get(&scheduled.app)
            // How long anything but a run takes is not known.
            .filter(|_| scheduled.job == Job::Run && !is_missed)
            .and_then(|took| starts.checked_add(*took).ok())
        {
            running.push((end, &scheduled.app));
        }
        foreseen.push(ForeseenRun { scheduled, moment, waits, is_missed });
    }
    foreseen
}

#[cfg(test)]
mod tests {
    use super::*;
    use gullet_model::definition::calendar::Rule;

    fn scheduled(app: &str, at: &str, more: &str) -> Scheduled {
        let text = format!("name = \"nightly\"\nevery = \"day\"\nat = {at}\nzone = \"UTC\"\n{more}");
        Scheduled { job: Job::Run, app: app.to_owned(), rule: Rule::new(&toml::from_str(&text).unwrap()).unwrap() }
    }

    #[test]
    fn a_run_waits_for_others_as_many_as_may_go_on_and_always_for_its_own() {
        let all = [
            scheduled("desk", "[\"01:00\", \"01:20\"]", ""),
            scheduled("ledger", "\"01:10\"", "start_by = \"01:20\""),
            scheduled("store", "\"01:10\"", "start_by = \"01:20\"\ncatch_up = true"),
        ];
        let took =
            |minutes| ["desk", "ledger", "store"].map(|app| (app.to_owned(), SignedDuration::from_mins(minutes)));
        let time = ("2026-11-29T00:30:00Z".parse().unwrap(), "2026-11-29T12:00:00Z".parse().unwrap());
        let of = |minutes, at_once| {
            let foreseen = foresee(&all, &BTreeMap::from(took(minutes)), time, at_once, 100);
            let shown = |run: &ForeseenRun<'_>| {
                let waits = run.waits.map_or((0, ""), |(waits, app)| (waits.as_mins(), app));
                (run.scheduled.app.clone(), waits.0, waits.1.to_owned(), run.is_missed)
            };
            foreseen.iter().map(shown).collect::<Vec<_>>()
        };
        let row = |app: &str, minutes, other: &str, is_missed| (app.to_owned(), minutes, other.to_owned(), is_missed);
        let alone = [
            row("desk", 0, "", false),
            row("ledger", 0, "", false),
            row("store", 0, "", false),
            row("desk", 0, "", false),
        ];
        assert_eq!(of(5, 2), alone);
        assert_eq!(
            of(30, 1),
            [
                row("desk", 0, "", false),
                row("ledger", 20, "desk", true),
                row("store", 20, "desk", false),
                row("desk", 40, "store", false)
            ],
            "who is missed keeps nobody waiting"
        );
        assert_eq!(
            of(30, 2),
            [
                row("desk", 0, "", false),
                row("ledger", 0, "", false),
                row("store", 20, "desk", false),
                row("desk", 20, "ledger", false)
            ]
        );
        assert_eq!(of(30, 9)[3], row("desk", 10, "desk", false), "one of one application");
        let report =
            [scheduled("desk", "\"01:00\"", ""), Scheduled { job: Job::Report, ..scheduled("desk", "\"01:10\"", "") }];
        let foreseen = foresee(&report, &BTreeMap::from(took(30)), time, 1, 100);
        assert_eq!(foreseen[1].waits, None, "a report waits for nobody");
    }
}
