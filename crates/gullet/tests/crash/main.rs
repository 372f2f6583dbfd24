//! The crash matrix: the main process killed with SIGKILL at every event of a run and at random moments. Each time the
//! desk serves again by itself, nothing looks complete that is not, and the next run works.
//!
//! A test binary of its own, so that it has the machine for itself. `GULLET_KILLS` says how many random kills there are
//! besides those at every event; `scripts/prove.sh` takes 500.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on should panic")]

mod guard;
#[path = "../cli/harness.rs"]
#[allow(dead_code, reason = "shared with the other tests, which need more of it")]
mod harness;
mod place;

use std::os::unix::process::ExitStatusExt;
use std::process::Stdio;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use harness::{Desk, Disk, Place, audit};

/// Each test of this file has the machine for itself: both keep it busy.
static ALONE: std::sync::Mutex<()> = std::sync::Mutex::new(());

/// When a run is killed.
#[derive(Clone, Copy, Debug)]
enum Kill {
    /// At its n-th event.
    Event(usize),
    /// After so many milliseconds.
    After(u64),
}

/// Kills at random moments.
const KILLS: u64 = 100;
/// Kills of one desk; a new one keeps the logbooks short.
const A_DESK: usize = 20;

/// Kills that came after the first event and before the commit.
static IN_THE_MIDDLE: AtomicUsize = AtomicUsize::new(0);

/// Where the desks are, in turn: what is staged differs.
const DISKS: [Option<&str>; 3] = [Some("btrfs"), None, Some("xfs")];

fn desk(kind: Option<&str>) -> (Desk, Option<Disk>) {
    let place = Place::new();
    let disk = kind.map(|kind| Disk::at(&place.path("desk"), kind));
    let change = |definition: String| {
        let definition = definition.replace("max_hold = \"1m\"", "max_hold = \"2m\"");
        definition.replace("[\"index.json\"]", "[\"index.json\"]\nprecopy = true")
    };
    (Desk::at(place, change), disk)
}

fn kill_one(desk: &Desk, kill: Kill) {
    let mut command = desk.place.command(&["run", "quaybook", "--json"]);
    command.stdout(Stdio::piped()).stderr(Stdio::null());
    if let Kill::Event(number) = kill {
        command.env("GULLET_AT_EVENT", format!("{number}:KILL"));
    }
    let mut child = command.spawn().unwrap();
    if let Kill::After(ms) = kill {
        std::thread::sleep(Duration::from_millis(ms));
        let _ = child.kill();
    }
    let output = child.wait_with_output().unwrap();
    let killed = output.status.signal() == Some(9);
    let lines = String::from_utf8_lossy(&output.stdout).into_owned();
    let recorded = lines.contains("\"event\":\"recorded\"");
    if matches!(kill, Kill::After(_)) && killed && !lines.is_empty() && !lines.contains("\"kind\":\"commit\"") {
        IN_THE_MIDDLE.fetch_add(1, Ordering::Relaxed);
    }

    // The desk serves again by itself, well before the limit of two minutes.
    let began = Instant::now();
    while desk.state() != "serving" {
        assert!(began.elapsed() < Duration::from_secs(20), "{kill:?}: the desk is {}\n{lines}", desk.state());
        std::thread::sleep(Duration::from_millis(5));
    }

    // A guard leaves first and writes afterwards; until it has, the run is not said to be dead.
    let tells = killed && !lines.is_empty() && !lines.contains("\"kind\":\"commit\"");
    let mut before = desk.place.gullet(&["runs", "--json"]).exits(0);
    let mut died = before.err.contains("died before its end");
    while tells && !died && began.elapsed() < Duration::from_secs(20) {
        std::thread::sleep(Duration::from_millis(50));
        before = desk.place.gullet(&["runs", "--json"]).exits(0);
        died = before.err.contains("died before its end");
    }
    let runs = before.json();
    let of_this = |run: &&serde_json::Value| lines.contains(run["run"].as_str().unwrap());
    if let Some(run) = runs.as_array().unwrap().iter().find(of_this) {
        let whole = run["outcome"] == "complete";
        assert!(!whole || recorded || !killed || lines.contains("\"kind\":\"commit\""), "{kill:?}: {run}\n{lines}");
    }
    if tells {
        assert!(died, "{kill:?}: nobody says that the run died\n{}\n{lines}", before.err);
    }
    // Told once.
    let again = desk.place.gullet(&["runs"]).exits(0).err;
    assert!(!again.contains("died") && !again.contains("staged"), "{kill:?}: {again}");

    let next = desk.run();
    assert!(next.code == 0 || next.code == 6, "{kill:?}: {} {}", next.out, next.err);
}

fn kill_all(kills: &[Kill]) {
    for (number, some) in kills.chunks(A_DESK).enumerate() {
        let (desk, disk) = desk(DISKS[number % DISKS.len()]);
        for kill in some {
            kill_one(&desk, *kill);
        }
        desk.place.gullet(&["verify"]).exits(0);
        audit(&desk.restore(&format!("restored-{number}"))).exits(0);
        let scratch = std::fs::read_dir(desk.place.path("state/scratch/quaybook")).unwrap().count();
        assert_eq!(scratch, 0, "leftovers are gone");
        let incoming = std::fs::read_dir(desk.place.path("depot/.incoming")).unwrap();
        let payload =
            incoming.filter(|entry| entry.as_ref().unwrap().file_name().to_string_lossy().starts_with("payload"));
        assert_eq!(payload.count(), 0, "space is freed");
        let staged = std::fs::read_dir(desk.place.path("state/staging/quaybook")).map_or(0, Iterator::count);
        assert_eq!(staged, 0, "nothing is noted as staged");
        assert_eq!(disk.map(|disk| disk.hidden()).unwrap_or_default(), Vec::<String>::new(), "nothing is staged");
    }
}

#[test]
fn killed_at_every_event_and_at_random_moments() {
    let _alone = ALONE.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    let (events, takes) = {
        let (desk, _disk) = desk(DISKS[0]);
        let began = Instant::now();
        let run = desk.place.gullet(&["run", "quaybook", "--json"]).exits(0);
        (run.out.lines().count(), u64::try_from(began.elapsed().as_millis()).unwrap())
    };
    assert!(events > 40, "only {events} events");
    let mut kills: Vec<Kill> = (1..=events).map(Kill::Event).collect();
    // Spread over half as much again as a run took, without a random source, so that a failure can be had again.
    let within = takes.max(100) * 3 / 2;
    let random = std::env::var("GULLET_KILLS").map_or(KILLS, |number| number.parse().unwrap());
    let spread = (0..random).map(|number| Kill::After(number.wrapping_mul(0x9E37_79B9) % within));
    kills.extend(spread);
    let halves = kills.split_at(kills.len() / 2);
    std::thread::scope(|scope| {
        scope.spawn(|| kill_all(halves.0));
        scope.spawn(|| kill_all(halves.1));
    });
    let landed = IN_THE_MIDDLE.load(Ordering::Relaxed);
    assert!(landed as u64 * 10 >= random, "of {random} random kills only {landed} came in the middle of a run");
}
