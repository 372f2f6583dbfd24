//! The guard killed, the guard stopped, main stopped and both killed, each at every event of a run: the desk serves again,
//! nothing looks complete whose hold was lost, and the next run works.
//!
//! Some of the events are tried, another share for each fault; `GULLET_FAULTS=all` tries each fault at all of them.

use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::ALONE;
use crate::harness::{Desk, audit, lives};

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Fault {
    GuardKilled,
    GuardStopped,
    MainStopped,
    BothKilled,
}

/// Each fault with the share of events that it is tried at: one in so many.
const FAULTS: [(Fault, usize); 4] =
    [(Fault::GuardKilled, 4), (Fault::GuardStopped, 12), (Fault::MainStopped, 4), (Fault::BothKilled, 4)];

fn signal(name: &str, process: u32) {
    let _ = Command::new("kill").arg(format!("-{name}")).arg(process.to_string()).stderr(Stdio::null()).status();
}

/// The state of a process as the kernel tells it, and who started it.
fn stat(process: u32) -> Option<(String, u32)> {
    let text = std::fs::read_to_string(format!("/proc/{process}/stat")).ok()?;
    let mut words = text.rsplit_once(") ")?.1.split(' ');
    Some((words.next()?.to_owned(), words.next()?.parse().ok()?))
}

fn guard_of(main: u32) -> Option<u32> {
    let processes = std::fs::read_dir("/proc").unwrap().flatten();
    let mut numbers = processes.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
    numbers.find(|process| {
        let words = std::fs::read_to_string(format!("/proc/{process}/cmdline")).unwrap_or_default();
        stat(*process).is_some_and(|(state, parent)| parent == main && state != "Z")
            && words.split('\0').nth(1) == Some("guard")
    })
}

/// Waits until a process stopped itself; whether it did, or ended before.
fn has_stopped(child: &mut Child) -> bool {
    loop {
        if stat(child.id()).is_some_and(|(state, _)| state == "T") {
            return true;
        }
        if child.try_wait().unwrap().is_some() {
            return false;
        }
        std::thread::sleep(Duration::from_millis(2));
    }
}

/// What a fault came in the middle of.
#[derive(Debug, Default)]
struct Met {
    guards: u32,
    holds: u32,
}

fn serves_within(desk: &Desk, seconds: u64, what: &str) {
    let began = Instant::now();
    while desk.state() != "serving" {
        assert!(began.elapsed() < Duration::from_secs(seconds), "{what}: the desk is {}", desk.state());
        std::thread::sleep(Duration::from_millis(10));
    }
}

fn one(desk: &Desk, fault: Fault, event: usize, met: &mut Met) {
    let what = format!("{fault:?} at event {event}");
    let mut command = desk.place.command(&["run", "quaybook", "--json"]);
    let out = desk.place.path("events");
    command.stdout(std::fs::File::create(&out).unwrap()).stderr(Stdio::null());
    let mut child = command.env("GULLET_AT_EVENT", format!("{event}:STOP")).spawn().unwrap();
    if !has_stopped(&mut child) {
        return;
    }
    let main = child.id();
    let guard = guard_of(main);
    let was_held = desk.state() != "serving";
    met.guards += u32::from(guard.is_some());
    met.holds += u32::from(was_held);
    match (fault, guard) {
        (Fault::GuardKilled, Some(guard)) => signal("KILL", guard),
        (Fault::GuardStopped, Some(guard)) => signal("STOP", guard),
        (Fault::BothKilled, guard) => {
            guard.inspect(|guard| signal("KILL", *guard));
            signal("KILL", main);
        }
        // The limit of the hold is two seconds.
        (Fault::MainStopped, _) => serves_within(desk, 15, &what),
        (_, None) => {}
    }
    signal("CONT", main);
    let began = Instant::now();
    while child.try_wait().unwrap().is_none() {
        assert!(began.elapsed() < Duration::from_secs(90), "{what}: the run does not end");
        std::thread::sleep(Duration::from_millis(5));
    }
    // A process that was killed is gone when the system comes to it, which may take a while on a busy machine.
    while fault == Fault::BothKilled && guard.is_some_and(lives) {
        assert!(began.elapsed() < Duration::from_secs(90), "{what}: the guard lives on");
        std::thread::sleep(Duration::from_millis(5));
    }
    // Nobody is left to release it after both were killed but the next command.
    let runs = desk.place.gullet(&["runs", "--json"]).exits(0).json();
    serves_within(desk, 20, &what);
    let lines = std::fs::read_to_string(&out).unwrap();
    let of_this = runs.as_array().unwrap().iter().find(|run| lines.contains(run["run"].as_str().unwrap()));
    let outcome = of_this.map_or("none", |run| run["outcome"].as_str().unwrap());
    let secured = lines.contains("\"event\":\"released\"") || lines.contains("\"kind\":\"release\"");
    if was_held && guard.is_some() && !secured {
        assert!(!matches!(outcome, "complete" | "warnings"), "{what}: {outcome}\n{lines}");
    }
    desk.place.gullet(&["release"]).exits(0).says("nothing is held");
    // On a machine that is busy with something else a run may take longer than its hold may.
    let mut next = desk.run();
    for _ in 0..4 {
        if !next.err.contains("reached its limit") {
            break;
        }
        next = desk.run();
    }
    assert!(next.code == 0 || next.code == 6, "{what}: {} {}", next.out, next.err);
    assert_eq!(
        guard.filter(|guard| stat(*guard).is_some_and(|(state, _)| state != "Z")),
        None,
        "{what}: a guard is left"
    );
}

#[test]
fn the_guard_or_main_is_killed_or_stopped_at_every_event() {
    let _alone = ALONE.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    let short = |definition: String| definition.replace("max_hold = \"1m\"", "max_hold = \"2s\"");
    let events = Desk::with(short).place.gullet(&["run", "quaybook", "--json"]).exits(0).out.lines().count();
    let all = std::env::var("GULLET_FAULTS").is_ok_and(|which| which == "all");
    let work = |fault: Fault, share: usize| {
        let desk = Desk::with(short);
        let mut met = Met::default();
        let share = if all { 1 } else { share };
        for event in (1..=events).filter(|event| event % share == fault as usize % share) {
            one(&desk, fault, event, &mut met);
        }
        assert!(met.guards >= 2 && met.holds >= 2, "{fault:?} met too little: {met:?}");
        desk.place.gullet(&["verify"]).exits(0);
        audit(&desk.restore("restored")).exits(0);
    };
    std::thread::scope(|scope| {
        for (fault, share) in FAULTS {
            let work = &work;
            scope.spawn(move || work(fault, share));
        }
    });
}
