//! The guard: whatever ends or stops the main process, the application is released; and holds by hand.

use std::fs;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::harness::{Called, Desk, Mounted, Place, called, wait_until_dead};

/// A desk whose runs are held for ten seconds (or until it is hurried), and at most so long.
fn desk_held(at_most: &str) -> Desk {
    let desk = Desk::open();
    let wait = format!("for i in $(seq 100); do [ -e {} ] && break; sleep 0.1; done; echo x", desk.place.text("hurry"));
    let slow = format!("[[app.quaybook.part]]\nname = \"slow\"\ncommand = [\"sh\", \"-c\", \"{wait}\"]");
    let path = desk.place.path("gullet.toml");
    let text = fs::read_to_string(&path).unwrap().replace("\"settings\"]", &format!("\"settings\"]\n{slow}"));
    fs::write(path, text).unwrap();
    limit(&desk, "1m", at_most);
    desk
}

/// A run that does not wait.
fn run_at_once(desk: &Desk) -> Called {
    desk.place.file("hurry", "");
    desk.run()
}

/// A desk whose runs are held for a while, far from their limit: what releases them early is not the limit.
fn slow_desk() -> Desk {
    desk_held("2m")
}

/// Sets another limit.
fn limit(desk: &Desk, before: &str, now: &str) {
    let path = desk.place.path("gullet.toml");
    let text = fs::read_to_string(&path).unwrap();
    let of = |limit: &str| format!("max_hold = \"{limit}\"");
    assert!(text.contains(&of(before)), "{text}");
    fs::write(path, text.replace(&of(before), &of(now))).unwrap();
}

fn held_run(desk: &Desk) -> Child {
    let mut command = desk.place.command(&["run", "quaybook"]);
    let child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    desk.wait_for("paused");
    child
}

fn signal(name: &str, pid: u32) {
    assert!(Command::new("kill").args([&format!("-{name}"), &pid.to_string()]).status().unwrap().success());
}

fn note(desk: &Desk) -> serde_json::Value {
    let bytes = fs::read(desk.place.path("state/holds/quaybook.note")).unwrap();
    serde_json::from_slice(&bytes[..4096]).unwrap()
}

/// Waits until the guard has noted why it left, or could not: it leaves first and writes afterwards.
#[track_caller]
fn why_is_noted(desk: &Desk, why: &str) {
    let began = Instant::now();
    while !note(desk)["why"].as_str().is_some_and(|noted| noted.contains(why)) {
        assert!(began.elapsed() < Duration::from_secs(20), "{}", note(desk));
        std::thread::sleep(Duration::from_millis(10));
    }
}

fn guard_of(desk: &Desk) -> u32 {
    u32::try_from(note(desk)["pid"].as_u64().unwrap()).unwrap()
}

/// Waits until a process has stopped itself, or has ended before.
#[track_caller]
fn is_stopped(child: &mut Child) -> bool {
    let began = Instant::now();
    let stat = format!("/proc/{}/stat", child.id());
    while !fs::read_to_string(&stat).unwrap_or_default().contains(") T ") {
        if child.try_wait().unwrap().is_some() {
            return false;
        }
        assert!(began.elapsed() < Duration::from_secs(30), "it never stopped");
        std::thread::sleep(Duration::from_millis(10));
    }
    true
}

#[track_caller]
fn serves_soon(desk: &Desk) {
    let began = Instant::now();
    while desk.state() != "serving" {
        assert!(began.elapsed() < Duration::from_secs(20), "the desk is {}", desk.state());
        std::thread::sleep(Duration::from_millis(10));
    }
}

#[test]
fn main_is_killed_and_the_guard_leaves_at_once() {
    let desk = slow_desk();
    let mut run = held_run(&desk);
    run.kill().unwrap();
    run.wait().unwrap();
    serves_soon(&desk);
    let runs = desk.place.gullet(&["runs", "--json"]).exits(0).says("died before its end");
    assert_eq!(runs.json()[0]["outcome"], "interrupted");
    let record = desk.place.record();
    assert!(record["causes"][0]["text"].as_str().unwrap().contains("the process that held it is gone"), "{record}");
    run_at_once(&desk).completes();
}

#[test]
fn main_is_stopped_and_the_guard_leaves_at_the_limit_and_main_cannot_commit_later() {
    let desk = desk_held("3s");
    let began = Instant::now();
    let mut run = held_run(&desk);
    signal("STOP", run.id());
    serves_soon(&desk);
    assert!(began.elapsed() >= Duration::from_secs(3), "left before its limit");
    why_is_noted(&desk, "limit");
    // While it is stopped nothing else may run, and nothing of it is committed when it goes on.
    desk.run().exits(4).says("is going on");
    signal("CONT", run.id());
    assert_eq!(run.wait().unwrap().code(), Some(1));
    let record = desk.place.record();
    assert_eq!(record["outcome"], "failed");
    assert!(record["captures"].as_array().unwrap().iter().all(|capture| capture["listing"].is_null()));
    assert_eq!(desk.state(), "serving");
    limit(&desk, "3s", "2m");
    run_at_once(&desk).completes();
}

#[test]
fn main_is_stopped_at_any_event_of_the_hold_and_goes_on_after_the_guard_has_left() {
    let desk = Desk::open();
    let lines = desk.place.gullet(&["run", "quaybook", "--json"]).exits(0).out;
    let number = |what: &str| lines.lines().position(|line| line.contains(what)).unwrap() + 1;
    let hold = number("\"hold_began\"") + 1..number("\"leaving_began\"");
    limit(&desk, "1m", "2s");
    for event in hold.step_by(4) {
        let mut command = desk.place.command(&["run", "quaybook"]);
        command.env("GULLET_AT_EVENT", format!("{event}:STOP")).stdout(Stdio::null()).stderr(Stdio::null());
        // A busy machine may come to the limit before it comes to the event.
        let tries = (0..5).map(|_| command.spawn().unwrap());
        let mut run = tries.into_iter().find_map(|mut run| is_stopped(&mut run).then_some(run)).expect("it stops");
        std::thread::sleep(Duration::from_millis(2300));
        serves_soon(&desk);
        signal("CONT", run.id());
        let code = run.wait().unwrap().code();
        let record = desk.place.record();
        assert_eq!(code, Some(1), "stopped at event {event}: {}", record["causes"]);
        assert!(record["captures"].as_array().unwrap().iter().all(|capture| capture["listing"].is_null()));
        assert_eq!(desk.state(), "serving", "stopped at event {event}");
    }
    limit(&desk, "2s", "1m");
    desk.run().completes();
}

#[test]
fn the_guard_is_killed_and_main_leaves_and_fails() {
    let desk = slow_desk();
    let mut run = held_run(&desk);
    signal("KILL", guard_of(&desk));
    assert_eq!(run.wait().unwrap().code(), Some(1));
    assert_eq!(desk.state(), "serving");
    assert!(desk.place.record()["captures"].as_array().unwrap().iter().all(|capture| capture["listing"].is_null()));
    run_at_once(&desk).completes();
}

#[test]
fn both_are_killed_and_the_next_command_leaves() {
    for command in
        [&["runs"][..], &["show", "x"], &["release", "--forgotten"], &["release", "quaybook"], &["run", "quaybook"]]
    {
        let desk = slow_desk();
        let mut run = held_run(&desk);
        let guard = guard_of(&desk);
        signal("STOP", guard);
        run.kill().unwrap();
        signal("KILL", guard);
        run.wait().unwrap();
        wait_until_dead(guard);
        assert_eq!(desk.state(), "paused");
        desk.place.file("hurry", "");
        // A command that the guard was just starting has its lock until it is another program.
        let began = Instant::now();
        while !desk.place.gullet(&["status"]).exits(2).out.contains("nobody is left who releases it") {
            assert!(began.elapsed() < Duration::from_secs(10), "the lock of a dead guard is still held");
        }
        // Who only looks changes nothing.
        assert_eq!(desk.state(), "paused");
        let next = desk.place.gullet(command);
        assert!(next.err.contains("it is released now"), "{command:?}: {}{}", next.out, next.err);
        assert_eq!(desk.state(), "serving", "{command:?}");
        assert!(!desk.place.gullet(&["runs"]).exits(0).err.contains("released now"), "told once");
    }
}

/// Whether the program is running in another process namespace.
fn in_another_namespace() -> bool {
    let own = fs::read_link("/proc/self/ns/pid").unwrap();
    fs::read_dir("/proc").unwrap().flatten().any(|entry| {
        let link = |name: &str| fs::read_link(entry.path().join(name)).ok();
        link("exe").is_some_and(|program| program == Path::new(crate::harness::GULLET))
            && link("ns/pid").is_some_and(|space| space != own)
    })
}

#[test]
fn a_whole_process_namespace_dies_and_the_next_command_leaves() {
    let desk = slow_desk();
    let mut command = Command::new("unshare");
    command
        .args(["--pid", "--fork", "--mount-proc", "--kill-child"])
        .arg(crate::harness::GULLET)
        .args(["run", "quaybook"]);
    command.current_dir(desk.place.path("")).stdout(Stdio::null()).stderr(Stdio::null());
    let mut run = command.spawn().unwrap();
    desk.wait_for("paused");
    std::thread::sleep(Duration::from_millis(200));
    run.kill().unwrap();
    run.wait().unwrap();
    // Its first process is gone, and the kernel ends the others.
    let began = Instant::now();
    while in_another_namespace() {
        assert!(began.elapsed() < Duration::from_secs(20), "the guard lives on");
        std::thread::sleep(Duration::from_millis(10));
    }
    assert_eq!(desk.state(), "paused", "everything in the namespace died with its first process");
    desk.place.gullet(&["release"]).exits(0).says("it is released now");
    assert_eq!(desk.state(), "serving");
}

#[test]
fn the_guard_is_told_to_leave_by_a_signal() {
    let desk = slow_desk();
    let mut run = held_run(&desk);
    signal("TERM", guard_of(&desk));
    serves_soon(&desk);
    assert_eq!(run.wait().unwrap().code(), Some(1));
    let causes = desk.place.record()["causes"].to_string();
    assert!(causes.contains("told to by a signal"), "{causes}");
}

#[test]
fn the_terminal_is_closed_and_the_application_is_released() {
    let desk = slow_desk();
    let mut terminal = Command::new("script");
    terminal.args(["-qec", &format!("{} run quaybook", crate::harness::GULLET), "/dev/null"]);
    terminal.current_dir(desk.place.path("")).stdin(Stdio::piped()).stdout(Stdio::null());
    let mut terminal = terminal.spawn().unwrap();
    desk.wait_for("paused");
    terminal.kill().unwrap();
    terminal.wait().unwrap();
    serves_soon(&desk);
}

#[test]
fn what_does_not_let_go_is_tried_again_until_it_does() {
    let desk = Desk::with(|definition| {
        definition
            .replace("tries = 3", "tries = 1")
            .replace("within = \"5s\" }\nmanual_release", "within = \"100ms\" }\nmanual_release")
    });
    desk.misbehave("ignore-resume");
    desk.run().exits(7);
    why_is_noted(&desk, "");
    desk.place.gullet(&["release"]).exits(0).says("quaybook");
    desk.place.gullet(&["status"]).exits(2).says("it is being released, and is still held");
    // A run does not begin what the guard of the last one is still busy with.
    desk.run().exits(4);
    desk.misbehave("none");
    serves_soon(&desk);
    std::thread::sleep(Duration::from_millis(600));
    desk.run().completes();
}

#[test]
fn a_declaration_is_a_remark_upon_the_run_that_held() {
    let desk = Desk::with(|definition| {
        definition.replace("tries = 3", "tries = 1").replace("within = \"5s\"", "within = \"100ms\"")
    });
    desk.misbehave("ignore-resume");
    desk.run().exits(7);
    desk.place.gullet(&["release", "quaybook", "--declare", "checked by hand"]).exits(0).says("checked by hand");
    let run = desk.place.record()["run"].as_str().unwrap().to_owned();
    desk.place.gullet(&["show", &run]).exits(0).says("declared by root (0): checked by hand");
}

#[test]
fn a_hold_that_reaches_its_limit_while_it_is_entered_does_not_hang_its_command() {
    // Paused, it never comes to be what the probe asks for; it serves again, and the exit code says so.
    let desk = Desk::with(|definition| definition.replace("prints = \"paused\"", "prints = \"closed\""));
    let began = Instant::now();
    desk.place.gullet(&["hold", "quaybook", "--limit", "300ms"]).exits(1).says("left again");
    assert!(began.elapsed() < Duration::from_secs(60), "{:?}", began.elapsed());
    serves_soon(&desk);
    desk.place.gullet(&["release", "quaybook"]).exits(0).says("is not held");
}

#[test]
fn a_wrong_probe_is_overruled_by_a_declaration() {
    let desk = Desk::with(|definition| {
        definition.replace("tries = 3", "tries = 1").replace("within = \"5s\"", "within = \"100ms\"")
    });
    desk.place.gullet(&["hold", "quaybook", "--limit", "4s"]).exits(0);
    // It serves again, and answers the probe of the hold with something else from now on.
    let wrong = desk.place.file("wrong", "#!/bin/sh\necho open\n");
    Command::new("chmod").arg("755").arg(&wrong).status().unwrap();
    let quaybook = desk.place.path("quaybook");
    fs::rename(&quaybook, desk.place.path("quaybook-as-it-was")).unwrap();
    fs::rename(&wrong, &quaybook).unwrap();
    desk.place.gullet(&["release", "quaybook"]).exits(7).says("--declare");
    desk.place.gullet(&["release", "quaybook", "--declare", "checked by hand"]).exits(0).says("checked by hand");
    fs::rename(desk.place.path("quaybook-as-it-was"), &quaybook).unwrap();
    desk.ask(&["resume"]).exits(0);
    desk.place.gullet(&["release"]).exits(0).says("nothing is held");
    let logs = Command::new("grep").args(["-rh", "declared by"]).arg(desk.place.path("state/logs")).output().unwrap();
    assert!(String::from_utf8_lossy(&logs.stdout).contains("checked by hand"), "it is kept");
}

#[test]
fn a_hold_by_hand_is_left_by_command_or_by_itself() {
    let desk = Desk::open();
    desk.place.gullet(&["hold", "quaybook", "--limit", "10m"]).exits(0).says("✓ drain").says("after 10m");
    assert_eq!(desk.state(), "paused");
    desk.place.gullet(&["release"]).exits(0).says("by hand");
    desk.place.gullet(&["hold", "quaybook"]).exits(4).says("is held already");
    // Nobody's word stands against a hold that is well.
    desk.place.gullet(&["release", "quaybook", "--declare", "it is over"]).exits(4).says("release it first");
    assert_eq!(desk.state(), "paused");
    desk.place.gullet(&["release", "quaybook"]).exits(0).says("released");
    assert_eq!(desk.state(), "serving");
    desk.place.gullet(&["release", "quaybook"]).exits(0).says("is not held");

    let began = Instant::now();
    desk.place.gullet(&["hold", "quaybook", "--limit", "4s"]).exits(0);
    assert_eq!(desk.state(), "paused");
    serves_soon(&desk);
    assert!(began.elapsed() >= Duration::from_secs(4), "left before its limit");
}

#[test]
fn a_run_takes_a_hold_by_hand_over_and_leaves_it() {
    let desk = Desk::open();
    desk.place.gullet(&["hold", "quaybook", "--limit", "10m"]).exits(0);
    desk.run().completes().says("this run takes the hold over");
    assert_eq!(desk.state(), "serving");
    assert_eq!(desk.place.record()["hold"]["proven"], true);
    desk.place.gullet(&["release"]).exits(0).says("nothing is held");
}

#[test]
fn a_hold_that_cannot_be_entered_by_hand_is_left_again() {
    let desk = Desk::with(|definition| definition.replace("prints = \"paused\"", "prints = \"halted\""));
    desk.place
        .gullet(&["hold", "quaybook"])
        .exits(1)
        .says("prove held")
        .says("everything that was entered is left again");
    assert_eq!(desk.state(), "serving");
}

#[test]
fn a_daemon_that_leave_starts_lives_on() {
    let place = Place::new();
    place.define(
        "[app.app]\n[[app.app.hold]]\nname = \"stop\"\nenter = { run = [\"touch\", \"@/held\"] }\n\
         release = { script = \"rm @/held; sleep 7.31 >/dev/null 2>&1 & echo $! > @/daemon\" }\n\
         entered = { run = [\"test\", \"-e\", \"@/held\"] }\n\
         [[app.app.part]]\nname = \"p\"\ncommand = [\"echo\", \"x\"]\n",
    );
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["run", "app"]).exits(0);
    let daemon = fs::read_to_string(place.path("daemon")).unwrap();
    assert!(fs::exists(format!("/proc/{}", daemon.trim())).unwrap(), "it was taken down with the guard");
    let score = fs::read_to_string(format!("/proc/{}/oom_score_adj", daemon.trim())).unwrap();
    assert_eq!(score.trim(), "0", "nor does it inherit what protects the guard");
}

#[test]
fn a_full_disk_under_the_state_folder_refuses_the_hold_or_releases_it() {
    let desk = slow_desk();
    desk.place.file("hurry", "");
    let state = desk.place.path("state");
    let _mounted = Mounted::at(&state, "1m");
    let filled = Command::new("sh")
        .args(["-c", "head -c 2000000 /dev/zero > \"$0\" 2>/dev/null; true"])
        .arg(state.join("fill"))
        .status();
    assert!(filled.unwrap().success());
    let mut command = desk.place.command(&["run", "quaybook"]);
    command.env("PATH", "/usr/bin:/bin");
    let ran = called(command);
    assert_ne!(ran.code, 0);
    assert_eq!(desk.state(), "serving", "{}{}", ran.out, ran.err);
}

#[test]
fn applications_that_share_a_lock_are_held_one_after_the_other() {
    let place = Place::new();
    let app = |name: &str| {
        format!(
            "[app.{name}]\n[[app.{name}.hold]]\nname = \"s\"\nlock = \"desk\"\nenter = {{ script = \"echo enter {name} >> @/journal\" }}\n\
             release = {{ script = \"echo leave {name} >> @/journal\" }}\n\
             [[app.{name}.part]]\nname = \"p\"\ncommand = [\"sh\", \"-c\", \"sleep 3; echo x\"]\n"
        )
    };
    place.define(&[app("one"), app("two")].concat());
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["plan", "one"]).exits(0).says("wait for the lock `desk`");
    let start = |app: &str| {
        let mut command = place.command(&["run", app]);
        command.stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap()
    };
    // No `entered` probe: complete with warnings.
    for run in [start("one"), start("two")] {
        let output = run.wait_with_output().unwrap();
        assert_eq!(output.status.code(), Some(6), "{}", String::from_utf8_lossy(&output.stderr));
    }
    let journal = fs::read_to_string(place.path("journal")).unwrap();
    let lines: Vec<&str> = journal.lines().collect();
    assert_eq!(lines.len(), 4, "{journal}");
    let name = |line: &str| line.split(' ').next_back().unwrap().to_owned();
    assert_eq!((name(lines[0]), name(lines[2])), (name(lines[1]), name(lines[3])), "{journal}");
    // Waiting for the lock counts as no time held.
    for run in place.json(&["runs"]).as_array().unwrap() {
        assert!(run["held_ms"].as_u64().unwrap() < 6000, "{run}");
    }
}
