//! Holds by a session: a process that has a lock for as long as it lives.

use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::harness::Place;

/// An application held by a session: a process that has a lock file for as long as it lives.
fn session_place(session: &str, part: &str) -> Place {
    let place = Place::new();
    place.define(&format!(
        "[app.app]\nmax_hold = \"1m\"\n[[app.app.hold]]\nname = \"lock\"\nsession = {{ script = \"{session}\", limit = \"3s\" }}\n\
         entered = {{ run = [\"test\", \"-e\", \"@/locked\"] }}\nreleased = {{ run = [\"test\", \"!\", \"-e\", \"@/locked\"], within = \"3s\" }}\n\
         [[app.app.part]]\nname = \"p\"\ncommand = [\"sh\", \"-c\", \"{part}\"]\n"
    ));
    place.gullet(&["store", "new", "depot"]).exits(0);
    place
}

const GOOD_SESSION: &str = "touch @/locked; echo held; cat > /dev/null; rm @/locked";

#[test]
fn a_session_holds_for_as_long_as_it_lives() {
    let place = session_place(GOOD_SESSION, "test -e @/locked && echo captured");
    place.gullet(&["run", "app"]).exits(0);
    assert!(!place.path("locked").exists());
    assert_eq!(place.record()["hold"]["proven"], true);
}

#[test]
fn what_a_session_prints_is_kept_up_to_a_length() {
    let script = "touch @/locked; echo held; echo the lock is 17; yes beneath the tide | tr -d '\\\\n' | head -c 400000 | fold -w 3000; cat > /dev/null; rm @/locked";
    let place = session_place(script, "sleep 1; echo captured");
    place.gullet(&["run", "app"]).exits(0);
    let record = place.record();
    let commands =
        record["steps"].as_array().unwrap().iter().flat_map(|step| step["commands"].as_array().into_iter().flatten());
    let texts = |command: &serde_json::Value| -> String {
        command["output"].as_array().into_iter().flatten().map(|piece| piece["text"].as_str().unwrap()).collect()
    };
    let session = commands.clone().find(|command| texts(command).contains("the lock is 17"));
    let session = session.unwrap_or_else(|| panic!("{}", serde_json::to_string_pretty(&record["steps"]).unwrap()));
    let (kept, dropped) = (texts(session).len() as u64, session["dropped_bytes"].as_u64().unwrap());
    assert!((29_700..=32 << 10).contains(&kept), "{kept}");
    assert!((400_000..400_300).contains(&(kept + dropped)), "{kept} {dropped}");
}

#[test]
fn a_session_that_ends_by_itself_voids_the_hold_at_once() {
    let place = session_place("touch @/locked; echo held; sleep 1; rm @/locked", "sleep 30; echo x");
    let began = Instant::now();
    place.gullet(&["run", "app"]).exits(1).says("ended by itself, and its lock with it");
    // Long before its limit.
    assert!(began.elapsed() < Duration::from_secs(25));
}

#[test]
fn a_session_that_never_says_held_is_not_waited_for() {
    for session in ["sleep 60", "echo refused; exit 1", "echo helf; cat > /dev/null"] {
        let place = session_place(session, "echo x");
        place.gullet(&["run", "app"]).exits(1).says("`held`");
    }
}

#[test]
fn killed_main_and_the_session_lets_go() {
    let place = session_place(GOOD_SESSION, "sleep 30; echo x");
    let mut run = place.command(&["run", "app"]).stdout(Stdio::null()).spawn().unwrap();
    let began = Instant::now();
    while !place.path("locked").exists() {
        assert!(began.elapsed() < Duration::from_secs(20), "the session never had its lock");
        std::thread::sleep(Duration::from_millis(10));
    }
    run.kill().unwrap();
    run.wait().unwrap();
    let began = Instant::now();
    while place.path("locked").exists() {
        assert!(began.elapsed() < Duration::from_secs(20), "the lock is kept until the run would have ended");
        std::thread::sleep(Duration::from_millis(10));
    }
}
