use super::*;
use gullet_model::record::{Problem, Record};
use gullet_run::hold::{NoteHead, NoteState};

fn run(outcome: Outcome, second: i64) -> Logged {
    let at = Timestamp::new(second, 0).unwrap();
    let cause = Problem {
        kind: ProblemKind::NotReleased,
        about: None,
        text: "the till is on fire".to_owned(),
        advice: Some("press Resume".to_owned()),
    };
    let id = gullet_model::RunId::from(format!("r{second}").as_str());
    let record = Record {
        causes: if outcome > Outcome::Warnings { vec![cause] } else { Vec::new() },
        ..Record::bare(id, "quaybook", "w", at, outcome)
    };
    let name = format!("records/quaybook/w/{second}");
    Logged { name, in_store: true, record, remarks: Vec::new(), keys: Vec::new(), is_locked: false }
}

/// An hour after the epoch, near which all runs of these tests are.
fn soon() -> Circumstances {
    Circumstances { now: Timestamp::new(3600, 0).unwrap(), ..Circumstances::default() }
}

fn level(runs: Vec<Logged>) -> (Severity, String) {
    let book = Logbook { runs, ..Logbook::default() };
    let status = status("quaybook", &book, &NoteStatus::Nothing, &soon());
    (status.level, status.reasons.join("; "))
}

#[test]
fn the_last_run_counts_and_a_good_one_must_exist() {
    assert_eq!(level(vec![]).0, Severity::Critical);
    assert_eq!(level(vec![run(Outcome::Complete, 1)]).0, Severity::Ok);
    assert_eq!(level(vec![run(Outcome::Complete, 1), run(Outcome::Warnings, 2)]).0, Severity::Warning);
    for bad in [Outcome::Incomplete, Outcome::Refused, Outcome::Failed, Outcome::Interrupted] {
        let (level, why) = level(vec![run(Outcome::Complete, 1), run(bad, 2)]);
        assert_eq!(level, Severity::Critical);
        assert!(why.contains("the till is on fire"), "{why}");
    }
    let (not_released, why) = level(vec![run(Outcome::Complete, 1), run(Outcome::NotReleased, 2)]);
    assert!(not_released == Severity::Critical && why.contains("press Resume"), "{why}");
    assert_eq!(level(vec![run(Outcome::Failed, 1), run(Outcome::Complete, 2)]).0, Severity::Ok);
}

#[test]
fn a_partial_run_or_one_that_waits_for_the_store_never_stands_for_the_application() {
    let mut partial = run(Outcome::Complete, 1);
    partial.record.partial = true;
    assert_eq!(level(vec![partial]).0, Severity::Critical);
    let waiting = Logged { in_store: false, ..run(Outcome::Complete, 1) };
    assert_eq!(level(vec![waiting]).0, Severity::Critical);
}

#[test]
fn it_ages_by_what_is_usual_or_said_and_a_time_in_the_future_is_no_proof() {
    const DAY: i64 = 86_400;
    let runs = || vec![run(Outcome::Complete, 0), run(Outcome::Complete, 7 * DAY), run(Outcome::Complete, 14 * DAY)];
    let at = |runs: Vec<Logged>, day: i64, every: Option<i64>| {
        let book = Logbook { runs, ..Logbook::default() };
        let now = Timestamp::new(day * DAY + 60, 0).unwrap();
        let expected_every = every.map(|days| SignedDuration::from_hours(24 * days));
        let about = Circumstances { now, expected_every, ..Circumstances::default() };
        status("quaybook", &book, &NoteStatus::Nothing, &about).level
    };
    assert_eq!(at(vec![run(Outcome::Complete, 0)], 1, None), Severity::Ok);
    assert_eq!(at(vec![run(Outcome::Complete, 0)], 2, None), Severity::Critical, "two days, where nothing is usual");
    assert_eq!((at(runs(), 27, None), at(runs(), 29, None)), (Severity::Ok, Severity::Critical), "twice a week");
    let uneven = || [0, 1, 3, 13, 23].map(|day| run(Outcome::Complete, day * DAY)).to_vec();
    assert_eq!((at(uneven(), 42, None), at(uneven(), 44, None)), (Severity::Ok, Severity::Critical), "the usual gap");
    assert_eq!((at(runs(), 15, Some(2)), at(runs(), 17, Some(2))), (Severity::Ok, Severity::Critical), "as it is said");
    assert_eq!(at(runs(), 13, None), Severity::Critical, "a run from tomorrow");
}

#[test]
fn an_age_is_said_in_the_unit_that_fits() {
    let words = |minutes| age_words(SignedDuration::from_mins(minutes));
    assert_eq!(
        [59, 60, 90, 47 * 60 + 59, 48 * 60, 100 * 60].map(words),
        ["59 min", "1 h", "1 h", "47 h", "2 days", "4 days"]
    );
}

#[test]
fn a_severity_has_its_word_and_its_code() {
    let all = [Severity::Ok, Severity::Warning, Severity::Critical, Severity::Unknown];
    assert_eq!(
        all.map(|severity| (severity.word(), severity.code())),
        [("ok", 0), ("warning", 1), ("critical", 2), ("unknown", 3)]
    );
}

#[test]
fn what_was_never_verified_or_drilled_is_a_warning_where_that_is_wanted() {
    let month = Some(SignedDuration::from_hours(720));
    let of = |verified_within, drilled_within| {
        let about = Circumstances { verified_within, drilled_within, ..soon() };
        let book = Logbook { runs: vec![run(Outcome::Complete, 1)], ..Logbook::default() };
        status("quaybook", &book, &NoteStatus::Nothing, &about).level
    };
    assert_eq!(
        (of(None, None), of(month, None), of(None, month)),
        (Severity::Ok, Severity::Warning, Severity::Warning)
    );
}

#[test]
fn a_drill_by_a_clock_that_was_ahead_hides_no_later_failure() {
    let drilled = |run: i64, drills: &[(i64, Outcome)]| {
        let mut logged = self::run(Outcome::Complete, run);
        for (second, outcome) in drills {
            let at = Timestamp::new(*second, 0).unwrap();
            let remark = logged.remark(at, RemarkKind::Drilled, *outcome, "drill failed: it is on fire".to_owned());
            logged.remarks.push(remark);
        }
        logged
    };
    const AHEAD: i64 = 400 * 86_400;
    let (passed, failed) = (Outcome::Complete, Outcome::Failed);
    let of = |runs: Vec<Logged>| level(runs).1.contains("on fire");
    assert!(of(vec![drilled(1, &[(AHEAD, passed)]), drilled(2, &[(20, failed)])]));
    assert!(of(vec![drilled(1, &[(AHEAD, passed), (20, failed)])]), "the order of one run is known");
    assert!(of(vec![drilled(1, &[(20, failed)]), drilled(2, &[(10, passed)])]));
    assert!(!of(vec![drilled(1, &[(20, failed)]), drilled(2, &[(30, passed)])]));
    assert!(!of(vec![drilled(1, &[(AHEAD, failed), (20, passed)])]));
}

#[test]
fn payload_or_documents_that_are_gone_are_critical() {
    let book = |missing: &[&str]| Logbook {
        runs: vec![run(Outcome::Complete, 1)],
        missing: missing.iter().map(|name| ((*name).to_owned(), "a test".to_owned())).collect(),
        ..Logbook::default()
    };
    let of = |book: &Logbook, gone: &[&str]| {
        let payload_gone = gone.iter().map(|name| (*name).to_owned()).collect();
        status("quaybook", book, &NoteStatus::Nothing, &Circumstances { payload_gone, ..soon() }).level
    };
    assert_eq!(of(&book(&[]), &[]), Severity::Ok);
    assert_eq!(of(&book(&[]), &["payload/w/r/000000.zst"]), Severity::Critical);
    assert_eq!(of(&book(&["records/quaybook/w/x"]), &[]), Severity::Critical);
    assert_eq!(of(&book(&["records/other/w/x"]), &[]), Severity::Ok);
}

#[test]
fn another_machines_runs_never_stand_for_this_ones() {
    let other = Logged {
        record: Record { machine: "b".to_owned(), ..run(Outcome::Complete, 1).record },
        ..run(Outcome::Complete, 1)
    };
    let book = Logbook { runs: vec![other], machine: Some("w".to_owned()), ..Logbook::default() };
    let status = status("quaybook", &book, &NoteStatus::Nothing, &soon());
    assert!(status.level == Severity::Critical && status.last.is_none());
}

#[test]
fn a_hold_that_nobody_releases_is_critical_and_one_by_hand_is_a_warning() {
    let book = Logbook { runs: vec![run(Outcome::Complete, 1)], ..Logbook::default() };
    let mut head = NoteHead {
        note: 1,
        state: NoteState::Held,
        app: "quaybook".to_owned(),
        run: "by hand".to_owned(),
        token: "t".to_owned(),
        pid: 1,
        boot: String::new(),
        account: "root (0)".to_owned(),
        entered: vec![0],
        began: None,
        limit_ms: 1,
        by_hand: true,
        why: None,
        started: 0,
        began_up_ms: None,
        running: None,
        is_handed_over: false,
        heeded: 0,
    };
    let of = |hold: NoteStatus| status("quaybook", &book, &hold, &soon());
    let held = of(NoteStatus::Owned(head.clone()));
    assert!(held.level == Severity::Warning && held.reasons[0].contains("it is held by hand"), "{held:?}");
    assert_eq!(of(NoteStatus::Forgotten(head.clone())).level, Severity::Critical);
    assert_eq!(of(NoteStatus::Unreadable).level, Severity::Critical);
    head.by_hand = false;
    assert_eq!(of(NoteStatus::Owned(head.clone())).level, Severity::Ok, "a run is going on");
    head.state = NoteState::Leaving;
    head.why = Some("the drawer is jammed".to_owned());
    assert_eq!(of(NoteStatus::Owned(head.clone())).level, Severity::Critical);
    head.state = NoteState::Left;
    assert_eq!(of(NoteStatus::Over(head)).level, Severity::Ok);
}

#[test]
fn ages_are_said_in_the_unit_that_fits() {
    let said =
        |hours: i64, minutes: i64| age_words(SignedDuration::from_hours(hours) + SignedDuration::from_mins(minutes));
    assert_eq!(said(0, 59), "59 min");
    assert_eq!(said(1, 0), "1 h");
    assert_eq!(said(47, 59), "47 h");
    assert_eq!(said(48, 0), "2 days");
    assert_eq!(said(24 * 7 + 5, 0), "7 days");
}

#[test]
fn what_is_said_of_an_application_has_a_word_for_monitoring() {
    assert_eq!(
        [Severity::Ok, Severity::Warning, Severity::Critical].map(Severity::word),
        ["ok", "warning", "critical"]
    );
}

#[test]
fn a_run_is_expected_within_twice_the_usual_time_and_two_days_at_least() {
    let book = |hours: &[i64]| {
        let runs = hours.iter().map(|hour| run(Outcome::Complete, hour * 3600)).collect();
        Logbook { runs, ..Logbook::default() }
    };
    let within = |hours: &[i64]| expected_within("quaybook", &book(hours), None).as_hours();
    assert_eq!(within(&[0]), 48, "of one run nothing is usual");
    assert_eq!(within(&[0, 24, 48, 72]), 48);
    assert_eq!(within(&[0, 100, 200, 300]), 200);
    assert_eq!(within(&[0, 1, 2, 102]), 48, "one long gap is not what is usual");
    let said = Some(SignedDuration::from_hours(3));
    assert_eq!(expected_within("quaybook", &book(&[0, 100, 200]), said).as_hours(), 3);
}

#[test]
fn what_was_verified_or_drilled_too_long_ago_is_a_warning_only_when_it_is() {
    const HOUR: i64 = 3600;
    let of = |age: i64| {
        let mut one = run(Outcome::Complete, 1);
        let at = Timestamp::new(1, 0).unwrap();
        let said = |what| Remark::new(&one.record.run, &one.name, at, what, Outcome::Complete, String::new());
        one.remarks = vec![said(RemarkKind::Verified), said(RemarkKind::Drilled)];
        let within = Some(SignedDuration::from_hours(24));
        let now = Timestamp::new(1 + age, 0).unwrap();
        let about = Circumstances { now, verified_within: within, drilled_within: within, ..Circumstances::default() };
        let book = Logbook { runs: vec![one], ..Logbook::default() };
        let status = status("quaybook", &book, &NoteStatus::Nothing, &about);
        (status.level, status.reasons.len())
    };
    assert_eq!(of(24 * HOUR), (Severity::Ok, 0), "just so");
    assert_eq!(of(24 * HOUR + 1), (Severity::Warning, 2));
}

#[test]
fn that_nobody_looks_for_what_is_due_is_critical_after_ten_minutes_or_what_is_said() {
    let now = Timestamp::new(1_000_000, 0).unwrap();
    let of = |minutes: i64, within: Option<i64>| {
        let called = Some(now - SignedDuration::from_mins(minutes));
        let about = Circumstances {
            now,
            calendar: Some(CalendarState::Scheduled { called, due: None }),
            due_within: within.map(SignedDuration::from_mins),
            ..Circumstances::default()
        };
        let book = Logbook { runs: vec![run(Outcome::Complete, 999_990)], ..Logbook::default() };
        status("quaybook", &book, &NoteStatus::Nothing, &about).level
    };
    assert_eq!((of(10, None), of(11, None)), (Severity::Ok, Severity::Critical));
    assert_eq!(
        (of(60, Some(60)), of(61, Some(60)), of(2, Some(1))),
        (Severity::Ok, Severity::Critical, Severity::Critical)
    );
    assert_eq!(of(-6, Some(60)), Severity::Critical, "a time from the future says nothing");
}

#[test]
fn a_failed_drill_is_hidden_by_a_later_one_that_passed_and_by_no_other() {
    let with = |second: i64, drill: Outcome, at: i64| {
        let run = run(Outcome::Complete, second);
        let text = if drill == Outcome::Complete { "drill passed" } else { "drill failed: nothing adds up" };
        let remark = run.remark(Timestamp::new(at, 0).unwrap(), RemarkKind::Drilled, drill, text.to_owned());
        Logged { remarks: vec![remark], ..run }
    };
    let told = |passed: i64| {
        let runs = vec![with(1, Outcome::Complete, passed), with(2, Outcome::Failed, 3000)];
        level(runs).1.contains("nothing adds up")
    };
    assert_eq!([2900, 3000, 3001].map(told), [true, true, false], "one that passed in the same second hides nothing");
    // The clocks of two machines differ a little; one that is far ahead proves nothing.
    assert_eq!([3601, 3600 + 30, 3600 + 86_400].map(told), [false, false, true]);
}

#[test]
fn that_it_was_never_run_by_hand_is_said_only_where_that_is_known() {
    let said = |is_whole_book: bool, is_scheduled: bool, trigger: &str, outcome: Outcome| {
        let mut scheduled = run(Outcome::Complete, 1);
        scheduled.record.trigger = "schedule nightly".to_owned();
        let mut other = run(outcome, 2);
        other.record.trigger = trigger.to_owned();
        let book = Logbook { runs: vec![scheduled, other], ..Logbook::default() };
        let calendar = is_scheduled.then(|| CalendarState::Scheduled { called: Some(soon().now), due: None });
        let about = Circumstances { is_whole_book, calendar, ..soon() };
        let status = status("quaybook", &book, &NoteStatus::Nothing, &about);
        status.reasons.iter().any(|reason| reason == "it was never run by hand")
    };
    let complete = Outcome::Complete;
    assert!(said(true, true, "schedule nightly", complete) && said(true, true, BY_HAND, Outcome::Failed));
    assert!(!said(true, true, BY_HAND, complete));
    assert!(!said(false, true, "schedule nightly", complete) && !said(true, false, "schedule nightly", complete));
}

#[test]
fn what_is_not_locked_as_it_should_be_is_a_warning() {
    let of = |copied: bool, unlocked: &[&str]| {
        let mut run = run(Outcome::Complete, 1);
        if copied {
            let remark = run.remark(soon().now, RemarkKind::Copied, Outcome::Complete, "copied".to_owned());
            run.remarks.push(Remark { copy: Some("far".to_owned()), ..remark });
        }
        let book = Logbook { runs: vec![run], ..Logbook::default() };
        let unlocked = unlocked.iter().map(|name| (*name).to_owned()).collect();
        let about = Circumstances { copies: vec!["far".to_owned()], unlocked, ..soon() };
        let status = status("quaybook", &book, &NoteStatus::Nothing, &about);
        (status.level, status.reasons.iter().filter(|reason| reason.contains("is locked on")).count())
    };
    assert_eq!(of(true, &[]), (Severity::Ok, 0));
    assert_eq!(of(true, &["far"]), (Severity::Warning, 1));
    assert_eq!(of(false, &["far"]), (Severity::Ok, 0), "that it has no copy yet is said already");
    assert_eq!(of(true, &["depot"]), (Severity::Warning, 1), "the store itself");
}

#[test]
fn a_proof_that_is_noted_for_the_future_is_a_warning() {
    let of = |at: i64| {
        let mut run = run(Outcome::Complete, 1);
        let at = Timestamp::new(at, 0).unwrap();
        run.remarks.push(run.remark(at, RemarkKind::Verified, Outcome::Complete, "verified".to_owned()));
        let (level, why) = level(vec![run]);
        (level, why.contains("it is noted for the future"))
    };
    assert_eq!([of(3000), of(3600 + 60)], [(Severity::Ok, false); 2], "clocks differ a little");
    assert_eq!(of(3600 + 3600), (Severity::Warning, true));
}
