use std::collections::BTreeMap;
use std::panic::{AssertUnwindSafe, catch_unwind};

use gullet_model::definition::calendar::Rule;
use jiff::SignedDuration;

use super::*;

/// A machine whose clock is moved by the test: it runs what is started for as long as is said, and dies when it is told to.
#[derive(Default)]
struct Machine {
    now: Timestamp,
    /// The ledger as the disk has it.
    kept: Ledger,
    /// Until when each process runs, and what it is for.
    running: BTreeMap<i32, (Timestamp, String)>,
    /// Triggers of what ran, and of what was missed.
    ran: Vec<String>,
    missed: Vec<(String, MissedWhy)>,
    takes: SignedDuration,
    next_pid: i32,
    /// Dies at the so manieth thing that it does.
    dies_in: Option<u32>,
}

/// What an entry is known by.
fn key(entry: &DueEntry) -> String {
    format!("{}: {}", entry.app, entry.trigger())
}

/// How a machine dies in a test.
struct PowerCut;

impl Machine {
    fn act(&mut self) {
        if let Some(left) = &mut self.dies_in {
            *left = left.saturating_sub(1);
            if *left == 0 {
                self.dies_in = None;
                std::panic::resume_unwind(Box::new(PowerCut));
            }
        }
    }

    /// A call of `due`. Whether it came to its end.
    fn due(&mut self, schedules: &[Scheduled]) -> bool {
        let mut ledger = self.kept.clone();
        let done = catch_unwind(AssertUnwindSafe(|| serve(&mut ledger, schedules, 1, self).unwrap()));
        if done.is_err() {
            // With the power all processes go; a run that began leaves its record at the next boot.
            self.running.clear();
        }
        done.is_ok()
    }

    fn told(&self) -> Vec<String> {
        let mut all: Vec<String> = self.ran.clone();
        all.extend(self.missed.iter().map(|(trigger, _)| trigger.clone()));
        all.sort();
        all
    }
}

impl DueWorld for Machine {
    type Error = ();

    fn now(&self) -> Timestamp {
        self.now
    }

    fn is_stopped(&self) -> bool {
        false
    }

    fn keep(&mut self, ledger: &Ledger) -> Result<(), ()> {
        self.act();
        self.kept = serde_json::from_slice(&serde_json::to_vec(ledger).unwrap()).unwrap();
        self.act();
        Ok(())
    }

    fn start(&mut self, entry: &DueEntry, _: &Scheduled) -> Result<Option<Process>, ()> {
        self.act();
        self.next_pid += 1;
        self.running.insert(self.next_pid, (self.now + self.takes, key(entry)));
        self.ran.push(key(entry));
        self.act();
        Ok(Some(Process { pid: self.next_pid, started: 1 }))
    }

    fn find(&mut self, entry: &DueEntry) -> Option<Process> {
        let found = self.running.iter().find(|(_, (_, trigger))| *trigger == key(entry));
        found.map(|(pid, _)| Process { pid: *pid, started: 1 })
    }

    fn is_over(&mut self, process: Process) -> bool {
        self.running.get(&process.pid).is_none_or(|(until, _)| *until <= self.now)
    }

    fn has_record(&mut self, entry: &DueEntry) -> Result<bool, ()> {
        Ok(self.told().contains(&key(entry)))
    }

    fn miss(&mut self, entry: &DueEntry, why: &MissedWhy) -> Result<(), ()> {
        self.act();
        self.missed.push((key(entry), why.clone()));
        self.act();
        Ok(())
    }

    fn wait(&mut self, _: Duration) {
        self.now += SignedDuration::from_secs(20);
    }
}

fn schedules(toml: &[(&str, &str)]) -> Vec<Scheduled> {
    let rule = |text: &str| Rule::new(&toml::from_str(&format!("name = \"nightly\"\n{text}")).unwrap()).unwrap();
    toml.iter().map(|(app, text)| Scheduled { job: Job::Run, app: (*app).to_owned(), rule: rule(text) }).collect()
}

/// Every moment of the schedules in a time, as its trigger, sorted.
fn expected(schedules: &[Scheduled], from: Timestamp, until: Timestamp) -> Vec<String> {
    let of = |one: &Scheduled| {
        let (app, schedule) = (one.app.clone(), one.name().to_owned());
        let entry = move |at| DueEntry {
            job: Job::Run,
            app: app.clone(),
            schedule: schedule.clone(),
            at,
            stage: Stage::Waiting,
            with_earlier: None,
            may_be_told: false,
        };
        one.rule
            .between(from, until, usize::MAX)
            .into_iter()
            .map(move |moment| key(&entry(moment.at)))
            .collect::<Vec<_>>()
    };
    let mut all: Vec<String> = schedules.iter().flat_map(of).collect();
    all.sort();
    all
}

#[test]
fn a_year_of_nights_gives_each_moment_one_run_or_one_record_that_it_was_missed() {
    let nights = schedules(&[
        (
            "desk",
            "every = \"day\"\nat = [\"01:30\", \"13:00\"]\nzone = \"Europe/Lisbon\"\nnot_on = [\"sun\"]\nstart_by = \"15:00\"",
        ),
        ("ledger", "every = \"day\"\nat = \"01:30\"\nzone = \"Europe/Lisbon\""),
        ("store", "every = \"week\"\non = \"sat\"\nat = \"02:10\"\nzone = \"Europe/Lisbon\"\ncatch_up = true"),
    ]);
    // A year takes some ten seconds without optimisation.
    for seed in [2] {
        let mut dice = fastrand::Rng::with_seed(seed);
        let began: Timestamp = "2026-01-01T12:00:00Z".parse().unwrap();
        let mut machine = Machine { now: began, takes: SignedDuration::from_mins(12), ..Machine::default() };
        let mut dies = 0;
        machine.due(&nights);
        let mut newest = machine.now;
        while machine.now < "2027-01-01T12:00:00Z".parse().unwrap() {
            machine.now += match dice.u32(..1000) {
                0 => SignedDuration::from_hours(60),
                1 => SignedDuration::from_mins(100),
                // The clock is set back.
                2 => -SignedDuration::from_mins(90),
                _ => SignedDuration::from_mins(5),
            };
            if dice.u32(..20) == 0 {
                machine.dies_in = Some(dice.u32(1..=12));
            }
            dies += u32::from(!machine.due(&nights));
            newest = newest.max(machine.now);
        }
        machine.dies_in = None;
        machine.now = newest + SignedDuration::from_hours(3);
        let until = machine.now;
        machine.due(&nights);
        assert!(dies > 100, "the power went {dies} times");
        let until = until.max(machine.kept.called.unwrap());
        let (told, expected) = (machine.told(), expected(&nights, began, until));
        let different = told.iter().zip(&expected).find(|(told, expected)| told != expected);
        assert_eq!((different, told.len()), (None, expected.len()), "seed {seed}");
        assert!(
            machine.ran.len() > 300 && machine.missed.len() > 10,
            "{} and {}",
            machine.ran.len(),
            machine.missed.len()
        );
    }
}

#[test]
fn what_was_missed_says_why() {
    let nights = schedules(&[
        ("desk", "every = \"day\"\nat = \"01:30\"\nzone = \"UTC\"\nstart_by = \"02:00\""),
        ("ledger", "every = \"day\"\nat = \"01:31\"\nzone = \"UTC\"\nstart_by = \"01:40\""),
    ]);
    let at = |text: &str| -> Timestamp { format!("2026-11-{text}:00Z").parse().unwrap() };
    let mut machine = Machine { now: at("27T12:00"), takes: SignedDuration::from_mins(20), ..Machine::default() };
    machine.due(&nights);
    machine.now = at("28T01:31");
    machine.due(&nights);
    assert_eq!(machine.ran, ["desk: schedule nightly, due 2026-11-28T01:30:00Z"]);
    assert_eq!(machine.missed, [("ledger: schedule nightly, due 2026-11-28T01:31:00Z".to_owned(), MissedWhy::Busy)]);
    machine.missed.clear();
    machine.now = at("30T01:35");
    machine.due(&nights);
    let called = Some(at("28T01:51"));
    let whys: Vec<&MissedWhy> = machine.missed.iter().map(|(_, why)| why).collect();
    assert!(
        matches!(whys.as_slice(), [MissedWhy::NotCalled(Some(before)), MissedWhy::NotCalled(Some(_)), MissedWhy::Busy] if called.is_some_and(|called| *before >= called)),
        "{whys:?}"
    );
}

#[test]
fn a_clock_that_was_wrong_by_far_keeps_nothing_from_running_and_nothing_runs_twice() {
    let nights = schedules(&[("desk", "every = \"day\"\nat = \"01:30\"\nzone = \"UTC\"")]);
    let at = |text: &str| -> Timestamp { format!("{text}:00Z").parse().unwrap() };
    let mut machine =
        Machine { now: at("2026-11-27T12:00"), takes: SignedDuration::from_mins(5), ..Machine::default() };
    let mut due = |time: &str| {
        machine.now = at(time);
        machine.due(&nights);
        (machine.ran.clone(), machine.missed.len())
    };
    let night = |day: u8| format!("desk: schedule nightly, due 2026-11-{day}T01:30:00Z");
    due("2026-11-27T12:00");
    assert_eq!(due("2026-11-28T01:30").0, [night(28)]);
    // Ahead by years once; each day that is skipped is missed, the oldest of them in one record.
    let (_, missed) = due("2030-01-01T12:00");
    assert_eq!(missed, 24);
    due("2026-11-28T12:00");
    assert_eq!(due("2026-11-29T01:30").0, [night(28), night(29)], "as before");
    // Set back by two days: what ran does not run again, and is not missed either.
    due("2026-11-27T01:00");
    let (ran, still_missed) = due("2026-11-29T01:45");
    assert_eq!((ran, still_missed), (vec![night(28), night(29)], missed + 1), "the 27th was before it was known");
    assert_eq!(due("2026-11-30T01:30").0, [night(28), night(29), night(30)]);
}
