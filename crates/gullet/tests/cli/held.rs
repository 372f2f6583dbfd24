//! Held means held and released means released: orphans, locks, stopped and stubborn processes, damaged notes, other hands.

use std::fs;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::harness::{Called, Place, called};

/// An application that is held as long as the file `held` is there; `enter` and `release` are scripts.
pub fn application(enter: &str, leave: &str, more: &str) -> Place {
    let place = Place::new();
    place.define(&format!(
        "[app.app]\nmax_hold = \"2m\"\n[[app.app.hold]]\nname = \"one\"\n\
         enter = {{ script = \"{enter}\" }}\nrelease = {{ script = \"{leave}\" }}\n\
         entered = {{ run = [\"test\", \"-e\", \"@/held\"], within = \"300ms\" }}\n\
         released = {{ run = [\"test\", \"!\", \"-e\", \"@/held\"], within = \"300ms\" }}\n{more}"
    ));
    place.gullet(&["store", "new", "depot"]).exits(0);
    place
}

pub const PART: &str = "[[app.app.part]]\nname = \"a\"\ncommand = [\"echo\", \"x\"]\n";
/// A part that is captured until the file `go` is there.
const SLOW: &str = "[[app.app.part]]\nname = \"a\"\ncommand = [\"sh\", \"-c\", \"touch @/capturing; until [ -e @/go ]; do sleep 0.05; done; echo x\"]\n";

#[track_caller]
pub fn wait_until(what: &str, holds: impl Fn() -> bool) {
    let began = Instant::now();
    while !holds() {
        assert!(began.elapsed() < Duration::from_secs(40), "in vain: {what}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

fn start(place: &Place, arguments: &[&str]) -> Child {
    place.command(arguments).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
}

pub fn signal(name: &str, pid: u32) {
    assert!(Command::new("kill").args([&format!("-{name}"), &pid.to_string()]).status().unwrap().success());
}

pub fn note(place: &Place) -> serde_json::Value {
    let bytes = fs::read(place.path("state/holds/app.note")).unwrap_or_default();
    serde_json::from_slice(bytes.get(..4096).unwrap_or_default()).unwrap_or_default()
}

pub fn guard(place: &Place) -> u32 {
    u32::try_from(note(place)["pid"].as_u64().unwrap()).unwrap()
}

pub fn is_held(place: &Place) -> bool {
    place.path("held").exists()
}

#[test]
fn an_enter_that_outlives_its_guard_is_ended_before_anything_is_released() {
    // It pauses the application only after the guard is dead, from a process that has left its group and its parent.
    let place = application(
        "touch @/entering; setsid sh -c 'until [ -e @/late ]; do sleep 0.02; done; sleep 1; touch @/held' & until [ -e @/late ]; do sleep 0.02; done; sleep 1; touch @/held",
        "rm -f @/held",
        PART,
    );
    let mut run = start(&place, &["run", "app"]);
    wait_until("it is entered", || place.path("entering").exists());
    signal("KILL", guard(&place));
    place.file("late", "");
    let code = run.wait().unwrap().code();
    std::thread::sleep(Duration::from_millis(1500));
    assert!(!is_held(&place), "it was held again after it was released");
    assert_eq!(code, Some(1));
}

#[test]
fn both_die_while_it_is_entered_and_the_next_command_ends_the_orphan_first() {
    let place = application(
        "touch @/entering; until [ -e @/late ]; do sleep 0.02; done; sleep 1; touch @/held",
        "rm -f @/held",
        PART,
    );
    let mut run = start(&place, &["run", "app"]);
    wait_until("it is entered", || place.path("entering").exists());
    let guard = guard(&place);
    signal("STOP", guard);
    run.kill().unwrap();
    run.wait().unwrap();
    signal("KILL", guard);
    place.file("late", "");
    place.gullet(&["release", "--forgotten"]).exits(0);
    std::thread::sleep(Duration::from_millis(1500));
    assert!(!is_held(&place), "it was held again after it was released");
}

#[test]
fn a_guard_that_is_stopped_does_not_stop_its_run_for_ever() {
    let place = application("touch @/held", "rm -f @/held", SLOW);
    let mut run = start(&place, &["run", "app"]);
    wait_until("it is captured", || place.path("capturing").exists());
    signal("STOP", guard(&place));
    place.file("go", "");
    let began = Instant::now();
    assert_eq!(run.wait().unwrap().code(), Some(1));
    assert!(began.elapsed() < Duration::from_secs(60), "{:?}", began.elapsed());
    assert!(!is_held(&place));
}

#[test]
fn the_guard_goes_on_releasing_whatever_main_does() {
    // It lets go only when it is told so the third time, and main is stopped after the first.
    let place = application("touch @/held", "echo >> @/tries; [ $(wc -l < @/tries) -lt 3 ] || rm -f @/held", SLOW);
    let mut run = start(&place, &["run", "app"]);
    wait_until("it is captured", || place.path("capturing").exists());
    place.file("go", "");
    wait_until("it is left", || place.path("tries").exists());
    signal("STOP", run.id());
    wait_until("it is released", || !is_held(&place));
    signal("CONT", run.id());
    run.wait().unwrap();
    place.gullet(&["release"]).exits(0).says("nothing is held");
}

#[test]
fn a_run_in_the_background_of_a_terminal_does_not_wait_for_it() {
    let place = application("touch @/held", "echo >> @/tries; [ $(wc -l < @/tries) -lt 3 ] || rm -f @/held", PART);
    let mut terminal = Command::new("script");
    let line = format!("{} run app & wait; touch over", crate::harness::GULLET);
    terminal.args(["-qec", &format!("bash -ic '{line}'"), "/dev/null"]).current_dir(place.path(""));
    let mut terminal = terminal.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    wait_until("it is over", || place.path("over").exists());
    wait_until("it is released", || !is_held(&place));
    let _ = terminal.kill();
    terminal.wait().unwrap();
}

#[test]
fn all_locks_are_taken_before_anything_is_held_and_in_one_order() {
    let place = Place::new();
    let step = |app: &str, name: &str, lock: &str| {
        format!(
            "[[app.{app}.hold]]\nname = \"{name}\"\nlock = \"{lock}\"\nenter = {{ run = [\"touch\", \"@/{app}-{name}\"] }}\n\
             release = {{ run = [\"rm\", \"@/{app}-{name}\"] }}\nentered = {{ run = [\"test\", \"-e\", \"@/{app}-{name}\"] }}\n\
             released = {{ run = [\"test\", \"!\", \"-e\", \"@/{app}-{name}\"] }}\n"
        )
    };
    let app = |app: &str, first: &str, second: &str| {
        let part = format!("[[app.{app}.part]]\nname = \"p\"\ncommand = [\"sh\", \"-c\", \"sleep 0.3; echo x\"]\n");
        format!("[app.{app}]\nmax_hold = \"1m\"\n{}{}{part}", step(app, "one", first), step(app, "two", second))
    };
    place.define(&format!("{}{}", app("a", "pier", "quay"), app("b", "quay", "pier")));
    place.gullet(&["store", "new", "depot"]).exits(0);
    for _ in 0..3 {
        let runs = ["a", "b"].map(|app| start(&place, &["run", app]));
        let codes = runs.map(|mut run| run.wait().unwrap().code());
        assert_eq!(codes, [Some(0), Some(0)]);
    }
    let held = |app: &str| {
        place.gullet(&["show", &format!("{app}@latest"), "--json"]).json()["record"]["hold"]["held_ms"]
            .as_u64()
            .unwrap()
    };
    assert!(held("a") < 10_000 && held("b") < 10_000, "nothing waits for a lock while it is held");
    place.define(&app("a", "pier", "pier"));
    place.gullet(&["plan", "a"]).exits(3).says("is taken by an earlier step already");
}

#[test]
fn a_session_that_cannot_be_ended_by_its_group_is_ended_all_the_same() {
    let place = Place::new();
    // It ignores the end of its input and every mild signal, and has a helper in another session that owns the lock.
    let session = "trap '' TERM HUP INT; setsid sh -c 'trap \\\"\\\" TERM; touch @/held; while :; do sleep 0.1; done' & sleep 0.3; echo held; while :; do sleep 0.1; done";
    place.define(&format!(
        "[app.app]\n[[app.app.hold]]\nname = \"one\"\nsession = {{ script = \"{session}\" }}\n\
         entered = {{ run = [\"test\", \"-e\", \"@/held\"] }}\n{PART}"
    ));
    place.gullet(&["store", "new", "depot"]).exits(0);
    let began = Instant::now();
    let run = place.gullet(&["run", "app"]);
    assert!(began.elapsed() < Duration::from_secs(60), "{:?}", began.elapsed());
    assert!(matches!(run.code, 0 | 6), "{}{}", run.out, run.err);
    let left = Command::new("pgrep").args(["-f", &place.text("held")]).output().unwrap();
    assert!(left.stdout.is_empty(), "still there: {}", String::from_utf8_lossy(&left.stdout));
}

#[test]
fn a_session_that_prints_without_end_fills_no_memory() {
    let place = Place::new();
    let session = "echo held; exec yes a line that says nothing";
    place.define(&format!(
        "[app.app]\n[[app.app.hold]]\nname = \"one\"\nsession = {{ script = \"{session}\" }}\n{SLOW}"
    ));
    place.gullet(&["store", "new", "depot"]).exits(0);
    let mut run = start(&place, &["run", "app"]);
    wait_until("it is captured", || place.path("capturing").exists());
    std::thread::sleep(Duration::from_secs(2));
    let status = fs::read_to_string(format!("/proc/{}/status", guard(&place))).unwrap();
    let line = status.lines().find(|line| line.starts_with("RssAnon:")).unwrap();
    let kib: u64 = line.split_whitespace().nth(1).unwrap().parse().unwrap();
    place.file("go", "");
    run.wait().unwrap();
    assert!(kib < 30_000, "the guard has {kib} KiB");
}

#[test]
fn a_request_to_release_is_tried_at_once_and_answered_by_what_came_of_that() {
    let place = application("touch @/held", "echo >> @/tries; [ -e @/gentle ] && rm -f @/held", PART);
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    let (first, last) = text.rsplit_once("within = \"300ms\"").unwrap();
    place.file("gullet.toml", format!("{first}within = \"30s\"{last}"));
    place.gullet(&["hold", "app", "--limit", "10m"]).exits(0);
    let mut vain = start(&place, &["release", "app"]);
    wait_until("its guard waits for it to serve", || place.path("tries").exists());
    place.file("gentle", "");
    let began = Instant::now();
    place.gullet(&["release", "app"]).exits(0);
    assert!(!is_held(&place) && began.elapsed() < Duration::from_secs(15), "{:?}", began.elapsed());
    vain.wait().unwrap();
}

#[test]
fn the_command_that_settled_a_hold_is_not_taken_for_its_guard() {
    let place = application("touch @/held", "[ -e @/gentle ] && rm -f @/held", PART);
    place.gullet(&["hold", "app", "--limit", "10m"]).exits(0);
    let dead = guard(&place);
    signal("KILL", dead);
    wait_until("the guard is gone", || !Path::new(&format!("/proc/{dead}")).exists());
    place.gullet(&["release", "app"]).exits(7);
    let noted = note(&place);
    assert_ne!(noted["pid"].as_u64(), Some(u64::from(dead)), "the note still names the dead guard");
    // A stranger that has the noted number by now is not signalled: its start time is another one.
    let mut stranger = Command::new("sleep").arg("60").spawn().unwrap();
    let path = place.path("state/holds/app.note");
    let text = fs::read_to_string(&path).unwrap();
    let pid = format!("\"pid\":{}", noted["pid"]);
    let other = format!("{:<width$}", format!("\"pid\":{}", stranger.id()), width = pid.len());
    fs::write(&path, text.replace(&pid, &other)).unwrap();
    let locked = fs::File::open(&path).unwrap();
    locked.lock().unwrap();
    let mut release = start(&place, &["release", "app"]);
    std::thread::sleep(Duration::from_secs(1));
    assert!(stranger.try_wait().unwrap().is_none(), "a stranger was signalled");
    release.kill().unwrap();
    release.wait().unwrap();
    stranger.kill().unwrap();
    stranger.wait().unwrap();
    drop(locked);
    place.file("gentle", "");
    place.gullet(&["release", "app"]).exits(0);
}

#[test]
fn a_take_over_that_fails_leaves_the_hold_with_its_guard() {
    let place = application("touch @/held", "rm -f @/held", PART);
    place.gullet(&["hold", "app", "--limit", "10m"]).exits(0);
    let old = guard(&place);
    // A guard that cannot even start: it is asked to let go, and nobody comes.
    signal("USR1", old);
    std::thread::sleep(Duration::from_secs(7));
    assert_eq!(guard(&place), old);
    assert!(is_held(&place) && Path::new(&format!("/proc/{old}")).exists(), "its guard is still there");
    place.gullet(&["release"]).exits(0).says("held");
    place.gullet(&["run", "app"]).exits(0);
    assert!(!is_held(&place));
    let hold = place.record()["hold"].clone();
    assert!(hold["held_ms"].as_u64().unwrap() >= 7000, "the time by hand counts: {hold}");
}

#[test]
fn a_hold_by_hand_looks_first_and_ends_nobody_elses_pause() {
    let place = application("touch @/held", "rm -f @/held", PART);
    place.file("held", "a person did it");
    place.gullet(&["hold", "app"]).exits(4).says("held already");
    assert!(is_held(&place));
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    let text = text.replace(&place.text("held"), "HELD");
    let define = |text: String| place.file("gullet.toml", text.replace("HELD", &place.text("held")));
    define(text.replace("\"test\", \"!\", \"-e\"", "\"test\", \"-d\""));
    fs::remove_file(place.path("held")).unwrap();
    place.gullet(&["hold", "app"]).exits(4).says("neither serving nor held");
    // Probes that both pass prove nothing.
    let same = text.replace("\"test\", \"-e\", \"HELD\"", "\"true\"");
    define(same.replace("\"test\", \"!\", \"-e\", \"HELD\"", "\"true\""));
    place.gullet(&["hold", "app"]).exits(4).says("both pass");
    place.gullet(&["run", "app"]).exits(4).says("both pass");
    place.gullet(&["preflight", "app"]).exits(4).says("both pass");
}

#[test]
fn a_probe_for_serving_that_passes_while_it_is_held_voids_the_hold() {
    // It says `serving` of everything, but for the first time it is asked for `held`.
    let place = application("touch @/held", "rm -f @/held", PART);
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    let held = place.text("held");
    place.file("gullet.toml", text.replace(&format!("\"test\", \"!\", \"-e\", \"{held}\""), "\"true\""));
    place.gullet(&["run", "app"]).exits(1).says("they cannot tell");
    assert!(!is_held(&place));
}

#[test]
fn release_is_heeded_while_it_is_entered_and_while_work_in_hand_is_waited_for() {
    for (enter, more) in [
        ("touch @/held; touch @/entering; sleep 60", String::new()),
        ("touch @/held; touch @/entering", "drained = { run = [\"false\"], within = \"10m\" }\n".to_owned()),
    ] {
        let place = application(enter, "rm -f @/held", &format!("{more}{PART}"));
        let mut hold = start(&place, &["hold", "app"]);
        wait_until("it is entered", || place.path("entering").exists());
        std::thread::sleep(Duration::from_millis(300));
        let began = Instant::now();
        place.gullet(&["release", "app"]).exits(0);
        assert!(began.elapsed() < Duration::from_secs(20), "{:?}", began.elapsed());
        assert!(!is_held(&place));
        let code = hold.wait().unwrap().code();
        assert!(code.is_some_and(|code| code != 0 && code != 7), "{code:?}");
    }
}

#[test]
fn a_hold_by_hand_that_is_killed_before_it_is_complete_is_left_at_once() {
    let place = application(
        "touch @/held; touch @/entering",
        "rm -f @/held",
        &format!("drained = {{ run = [\"false\"], within = \"10m\" }}\n{PART}"),
    );
    let mut hold = start(&place, &["hold", "app", "--limit", "1h"]);
    wait_until("it is entered", || place.path("entering").exists());
    hold.kill().unwrap();
    hold.wait().unwrap();
    wait_until("it is left", || !is_held(&place));
}

#[test]
fn a_hold_that_is_interrupted_or_has_an_absurd_limit_ends_with_its_own_code() {
    let place = application(
        "touch @/held; touch @/entering",
        "rm -f @/held",
        &format!("drained = {{ run = [\"false\"], within = \"10m\" }}\n{PART}"),
    );
    let mut hold = start(&place, &["hold", "app"]);
    wait_until("it is entered", || place.path("entering").exists());
    signal("INT", hold.id());
    assert_eq!(hold.wait().unwrap().code(), Some(8));
    assert!(!is_held(&place));
    place.gullet(&["hold", "app", "--limit", "9999999d"]).exits(2).says("too long");
    place.gullet(&["release", "ap"]).exits(2).says("no application `ap`");
}

#[test]
fn a_lost_state_folder_does_not_make_the_guard_give_up() {
    let place = application("touch @/held", "echo >> @/tries; [ $(wc -l < @/tries) -lt 3 ] || rm -f @/held", SLOW);
    let mut run = start(&place, &["run", "app"]);
    wait_until("it is captured", || place.path("capturing").exists());
    fs::rename(place.path("state"), place.path("lost")).unwrap();
    run.kill().unwrap();
    run.wait().unwrap();
    wait_until("it is released", || !is_held(&place));
    place.file("go", "");
}

#[test]
fn what_leaves_its_group_or_its_parent_is_ended_at_the_limit_too() {
    let place = Place::with_parts(
        "[[app.app.part]]\nname = \"a\"\nlimit = \"500ms\"\n\
         command = [\"sh\", \"-c\", \"setsid sh -c 'setsid sleep 77 & exit 0' & sleep 77\"]\n",
    );
    place.gullet(&["run", "app"]).exits(1);
    let own = place.text("");
    let left = fs::read_dir("/proc").unwrap().flatten().filter(|entry| {
        let read = |name: &str| fs::read(entry.path().join(name)).unwrap_or_default();
        let environ = String::from_utf8_lossy(&read("environ")).into_owned();
        String::from_utf8_lossy(&read("cmdline")).contains("sleep\u{0}77")
            && environ.contains("GULLET_APP=app")
            && !own.is_empty()
    });
    assert_eq!(left.count(), 0);
}

#[test]
fn captures_of_a_main_that_was_killed_are_ended_by_the_next_command() {
    let place = Place::with_parts(SLOW);
    let mut run = start(&place, &["run", "app"]);
    wait_until("it is captured", || place.path("capturing").exists());
    run.kill().unwrap();
    run.wait().unwrap();
    let lives = || !Command::new("pgrep").args(["-f", &place.text("go")]).output().unwrap().stdout.is_empty();
    assert!(lives());
    place.gullet(&["runs"]).exits(0).says("died before its end");
    assert!(!lives(), "its capture lives on");
}

#[test]
fn secrets_reach_nothing_however_they_are_printed() {
    let place = Place::new();
    // In two writes, across the cut of what is kept, in an answer that is compared, in a fact, and by a session.
    let tell = "printf %s ${WORD%?????}; sleep 0.3; echo ${WORD#???????}; yes 0123456789abcde | head -c 32760; echo $WORD; yes filler | head -c 90000";
    let secret = "env = { WORD = { file = \"@/word\" } }";
    place.define(&format!(
        "[app.app]\n[[app.app.require]]\nname = \"r\"\nrun = [\"sh\", \"-c\", \"echo it is $WORD\"]\nmatches = \"^it is .secret.$\"\n{secret}\n\
         [[app.app.hold]]\nname = \"one\"\nsession = {{ script = \"echo $WORD; echo held; cat > /dev/null\", {secret} }}\n\
         entered = {{ run = [\"sh\", \"-c\", \"echo $WORD\"], prints = \"nothing\", within = \"100ms\", {secret} }}\n\
         [[app.app.part]]\nname = \"a\"\ncommand = [\"echo\", \"x\"]\nfacts = {{ f = {{ run = [\"sh\", \"-c\", \"echo $WORD\"], {secret} }} }}\n\
         [app.app.hooks]\nbefore = [{{ run = [\"sh\", \"-c\", \"{tell}\"], {secret} }}]\nfailed = [{{ run = [\"sh\", \"-c\", \"{tell}\"], {secret} }}]\n"
    ));
    let word = place.file("word", "sesame-opens\n");
    Command::new("chmod").arg("600").arg(&word).status().unwrap();
    place.gullet(&["store", "new", "depot"]).exits(0);
    let run = place.gullet(&["run", "app"]).exits(1);
    assert!(!run.out.contains("sesame-opens") && !run.err.contains("sesame-opens"), "{}{}", run.out, run.err);
    assert!(run.err.contains("[secret]"), "the answer of the probe is told without it: {}", run.err);
    for folder in ["depot", "state"] {
        for path in place.files_below(folder) {
            let text = String::from_utf8_lossy(&fs::read(&path).unwrap()).into_owned();
            assert!(!text.contains("sesame-opens"), "{}", path.display());
            assert!(!text.contains("sesame-"), "half of it in {}", path.display());
        }
    }
}

#[test]
fn a_run_under_nohup_is_not_ended_by_the_end_of_its_terminal() {
    let place = application("touch @/held", "rm -f @/held", SLOW);
    let mut command = Command::new("nohup");
    command.arg(crate::harness::GULLET).args(["run", "app"]).current_dir(place.path(""));
    let mut run = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    wait_until("it is captured", || place.path("capturing").exists());
    signal("HUP", run.id());
    std::thread::sleep(Duration::from_millis(300));
    place.file("go", "");
    assert_eq!(run.wait().unwrap().code(), Some(0));
}

#[test]
fn a_file_that_grows_beyond_the_systems_limit_is_an_error_in_words() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n");
    let mut bytes = vec![0u8; 3 << 20];
    let mut seed = 7u64;
    for byte in &mut bytes {
        seed = seed.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
        *byte = (seed >> 33) as u8;
    }
    place.file("docs/a", bytes);
    let mut command = Command::new("sh");
    command
        .args(["-c", &format!("ulimit -f 1000; exec {} run app", crate::harness::GULLET)])
        .current_dir(place.path(""));
    let run: Called = called(command);
    assert!(run.code == 1 && run.err.contains("large"), "{} {} {}", run.code, run.out, run.err);
}
