//! Processes of hooks: output, limits, scripts, environment.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on should panic")]
#![allow(clippy::disallowed_methods, reason = "a test stands outside of the core and hands it the real clock")]

use std::collections::BTreeMap;
use std::process::Command;
use std::time::{Duration, Instant};

use gullet_host::hook::{Cancellation, Finished, Invocation, MARK, end_found, marked, run_process};
use gullet_host::world::{Clock, Stop};
use gullet_model::step::{ProcessExit, Stream};

struct RealClock(Instant);

impl Clock for RealClock {
    fn now(&self) -> jiff::Timestamp {
        jiff::Timestamp::now()
    }

    fn uptime(&self) -> Duration {
        self.0.elapsed()
    }

    fn sleep(&self, time: Duration) {
        std::thread::sleep(time);
    }
}

fn clock() -> RealClock {
    RealClock(Instant::now())
}

fn shell(script: &str, limit_ms: u64) -> Invocation<'static> {
    Invocation {
        argv: ["/bin/sh", "-c", script].map(str::to_owned).to_vec(),
        dir: "/".into(),
        env: BTreeMap::from([("PATH".to_owned(), "/usr/bin:/bin".to_owned())]),
        limit: Duration::from_millis(limit_ms),
        ..Invocation::default()
    }
}

fn run(script: &str, limit_ms: u64) -> Finished {
    run_process(shell(script, limit_ms), &clock(), Cancellation::default())
}

#[test]
fn both_streams_are_kept_in_order_with_their_times() {
    let finished = run("echo one; sleep 0.2; echo two >&2; sleep 0.2; echo three", 5000);
    let pieces: Vec<(Stream, &str)> = finished.report.output.iter().map(|p| (p.stream, p.text.as_str())).collect();
    assert_eq!(pieces, [(Stream::Out, "one\n"), (Stream::Err, "two\n"), (Stream::Out, "three\n")]);
    assert!(finished.report.output[2].at_ms >= 350);
    assert_eq!(finished.text(), "one\nthree");
}

#[test]
fn how_it_ended_is_told_apart() {
    assert_eq!(run("exit 0", 5000).report.exit, ProcessExit::Code(0));
    assert_eq!(run("exit 42", 5000).report.exit, ProcessExit::Code(42));
    assert_eq!(run("kill -9 $$", 5000).report.exit, ProcessExit::Signal(9));
    assert_eq!(run("sleep 30", 100).report.exit, ProcessExit::Limit(100));
    let missing = Invocation { argv: vec!["/nonexistent".to_owned()], ..shell("", 100) };
    let finished = run_process(missing, &clock(), Cancellation::default());
    assert!(
        matches!(&finished.report.exit, ProcessExit::NotStarted(why) if why.contains("/nonexistent")),
        "{:?}",
        finished.report.exit
    );
    let nowhere = Invocation { dir: "/nonexistent".into(), ..shell("true", 100) };
    let finished = run_process(nowhere, &clock(), Cancellation::default());
    assert!(
        matches!(&finished.report.exit, ProcessExit::NotStarted(why) if why.contains("folder")),
        "{:?}",
        finished.report.exit
    );
}

#[test]
fn a_wish_to_stop_and_the_end_of_patience_end_it() {
    let stop = Stop::default();
    stop.ask(15);
    let finished = run_process(
        shell("sleep 30", 60_000),
        &clock(),
        Cancellation { stop: Some(&stop), until: None, ..Cancellation::default() },
    );
    assert_eq!(finished.report.exit, ProcessExit::Stopped);
    let until = Cancellation { stop: None, until: Some(Duration::from_millis(200)), ..Cancellation::default() };
    let finished = run_process(shell("sleep 30", 60_000), &clock(), until);
    assert_eq!(finished.report.exit, ProcessExit::Stopped);
    assert!((150..3000).contains(&finished.report.took_ms), "{}", finished.report.took_ms);
}

#[test]
fn one_that_ignores_term_is_killed_after_a_grace() {
    let finished = run("trap '' TERM; while :; do sleep 0.1; done", 100);
    assert_eq!(finished.report.exit, ProcessExit::Limit(100));
    assert!((2000..6000).contains(&finished.report.took_ms), "{}", finished.report.took_ms);
    assert!(finished.report.escaped.is_empty(), "{:?}", finished.report.escaped);
}

#[test]
fn success_is_the_exit_of_the_hooks_own_process() {
    let finished = run("sleep 20 & echo done", 5000);
    assert!(finished.succeeded() && finished.text() == "done");
    assert!(finished.report.took_ms < 3000, "{}", finished.report.took_ms);
}

#[test]
fn a_script_is_handed_over_in_memory() {
    let call = Invocation {
        argv: ["/bin/sh", "-eu"].map(str::to_owned).to_vec(),
        script: Some("echo \"$0\" | head -c 14; false; echo not reached".to_owned()),
        ..shell("", 5000)
    };
    let finished = run_process(call, &clock(), Cancellation::default());
    assert_eq!(finished.report.exit, ProcessExit::Code(1));
    assert_eq!(finished.text(), "/proc/self/fd/");
    assert!(finished.report.script.unwrap().contains("not reached"));
}

#[test]
fn output_that_is_not_text_and_output_without_end() {
    let finished = run("printf 'a\\377b'", 5000);
    assert_eq!(finished.report.output[0].text, "a\u{fffd}b");
    assert_eq!(finished.stdout, b"a\xffb");
    let finished = run("yes | head -c 100000000", 20_000);
    assert!(finished.stdout_cut && finished.stdout.len() == 1 << 20);
    assert!(finished.report.dropped_bytes > 99_000_000);
}

#[test]
fn secrets_are_not_kept() {
    let call = Invocation { secrets: vec!["tide".to_owned()], ..shell("echo the tide is high", 5000) };
    let finished = run_process(call, &clock(), Cancellation::default());
    assert_eq!(finished.report.output[0].text, "the [secret] is high\n");
    assert!(!format!("{:?}", finished.report).contains("tide"));
}

#[test]
fn what_is_started_by_a_process_that_is_ended_is_ended_too() {
    let folder = tempfile::tempdir().unwrap();
    let ready = folder.path().join("ready");
    let script = format!("trap 'sleep 62 & exit' TERM; touch {}; while :; do sleep 0.02; done", ready.display());
    let mut child =
        Command::new("setsid").args(["sh", "-c", &script]).env(MARK, "a-family-that-grows.1").spawn().unwrap();
    while !ready.exists() {
        std::thread::sleep(Duration::from_millis(5));
    }
    let find = || marked("a-family-that-grows.", |_| true);
    assert_eq!(end_found(find, &clock()), Vec::<String>::new());
    assert_eq!(find(), []);
    child.wait().unwrap();
}

#[test]
fn what_a_command_starts_when_it_is_ended_at_its_limit_is_ended_too() {
    let folder = tempfile::tempdir().unwrap();
    let late = folder.path().join("late");
    // Out of its group, and it starts one more process when it is told to end.
    let inner = format!("trap 'sleep 0.5; touch {}; exit' TERM; while :; do sleep 0.02; done", late.display());
    let mut call = shell(&format!("setsid sh -c \"{inner}\" & wait"), 300);
    call.env.insert(MARK.to_owned(), "a-command-at-its-limit.1".to_owned());
    assert_eq!(run_process(call, &clock(), Cancellation::default()).report.exit, ProcessExit::Limit(300));
    assert_eq!(marked("a-command-at-its-limit.", |_| true), []);
}
