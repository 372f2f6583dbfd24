//! Runs and restores with somebody at the terminal: what cannot be done by the hooks is asked for, calmly, and the application is asked
//! again. Without a terminal it is a clear failure.

use std::io::{Read, Write};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use crate::harness::{Desk, GULLET, Place, audit};
use crate::place::documents;

/// A run on a terminal of its own.
struct Terminal {
    child: Child,
    keys: ChildStdin,
    shown: Receiver<Vec<u8>>,
    text: String,
}

impl Terminal {
    fn run(desk: &Desk, more: &str) -> Self {
        Self::start(&desk.place, &format!("run quaybook {more}"))
    }

    fn start(place: &Place, command: &str) -> Self {
        let mut script = Command::new("script");
        script.args(["-qec", &format!("{GULLET} {command}"), "/dev/null"]).current_dir(place.path(""));
        let mut child = script.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        let keys = child.stdin.take().unwrap();
        let mut output = child.stdout.take().unwrap();
        let (send, shown) = channel();
        std::thread::spawn(move || {
            let mut buffer = [0; 4096];
            while let Ok(read) = output.read(&mut buffer)
                && read > 0
                && send.send(buffer[..read].to_vec()).is_ok()
            {}
        });
        Self { child, keys, shown, text: String::new() }
    }

    /// Waits until the terminal shows `wanted`, after what was waited for before.
    #[track_caller]
    fn wait_for(&mut self, wanted: &str) {
        let began = Instant::now();
        while !self.text.contains(wanted) {
            assert!(began.elapsed() < Duration::from_secs(20), "no {wanted:?} in {}", self.text);
            if let Ok(bytes) = self.shown.recv_timeout(Duration::from_millis(100)) {
                self.text.push_str(&String::from_utf8_lossy(&bytes));
            }
        }
        let end = self.text.find(wanted).unwrap() + wanted.len();
        self.text.drain(..end);
    }

    fn type_line(&mut self, line: &str) {
        writeln!(self.keys, "{line}").unwrap();
    }

    fn code(mut self) -> (Option<i32>, String) {
        let code = self.child.wait().unwrap().code();
        self.text.extend(self.shown.iter().map(|bytes| String::from_utf8_lossy(&bytes).into_owned()));
        (code, self.text)
    }
}

fn desk() -> Desk {
    Desk::with(|definition| {
        definition
            .replacen(
                "manual_release = ",
                "manual_enter = \"open the Desk panel and press Pause\"\nmanual_release = ",
                1,
            )
            .replace("tries = 3", "tries = 1")
            .replace("within = \"5s\"", "within = \"200ms\"")
    })
}

#[test]
fn an_application_that_refuses_to_pause_is_paused_by_hand_and_the_run_goes_on() {
    let desk = desk();
    desk.misbehave("refuse-pause");
    let mut terminal = Terminal::run(&desk, "");
    terminal.wait_for("Your hand is needed: desk cannot be entered");
    terminal.wait_for("open the Desk panel and press Pause");
    terminal.wait_for("> ");
    // Said to be done and not done: it is asked for again.
    terminal.type_line("");
    terminal.wait_for("Your hand is needed: desk is not held");
    terminal.wait_for("> ");
    desk.misbehave("none");
    desk.ask(&["pause"]).exits(0);
    terminal.type_line("");
    let (code, text) = terminal.code();
    assert_eq!(code, Some(0), "{text}");
    assert_eq!(desk.state(), "serving");
    let steps = desk.place.record()["steps"].clone();
    assert!(
        steps.as_array().unwrap().iter().any(|step| step["kind"] == "enter" && step["note"] == "by hand"),
        "{steps}"
    );
    audit(&desk.restore("out")).exits(0);
}

#[test]
fn who_gives_up_fails_the_run_and_nothing_is_held() {
    let desk = desk();
    desk.misbehave("refuse-pause");
    let mut terminal = Terminal::run(&desk, "");
    terminal.wait_for("> ");
    terminal.type_line("stop");
    let (code, text) = terminal.code();
    assert_eq!(code, Some(1), "{text}");
    assert!(text.contains("cannot be entered"), "{text}");
    assert_eq!(desk.state(), "serving");
}

#[test]
fn nobody_answers_and_it_is_left_at_the_limit() {
    let desk = Desk::with(|definition| definition.replace("max_hold = \"1m\"", "max_hold = \"1s\""));
    desk.misbehave("refuse-pause");
    let began = Instant::now();
    let mut terminal = Terminal::run(&desk, "");
    terminal.wait_for("> ");
    let (code, text) = terminal.code();
    assert_eq!(code, Some(1), "{text}");
    assert!(text.contains("limit") && began.elapsed() < Duration::from_secs(30), "{text}");
    assert_eq!(desk.state(), "serving");
}

#[test]
fn an_application_that_does_not_resume_is_resumed_by_hand() {
    let desk = desk();
    desk.misbehave("ignore-resume");
    let mut terminal = Terminal::run(&desk, "");
    terminal.wait_for("Your hand is needed: desk is not released");
    terminal.wait_for("open the Desk panel and press Resume");
    terminal.wait_for("> ");
    assert_eq!(desk.state(), "paused");
    desk.misbehave("none");
    desk.ask(&["resume"]).exits(0);
    terminal.type_line("");
    let (code, text) = terminal.code();
    assert_eq!(code, Some(0), "{text}");
    assert_eq!(desk.place.record()["outcome"], "complete");
}

#[test]
fn unattended_it_is_a_clear_failure() {
    let desk = desk();
    desk.misbehave("refuse-pause");
    let terminal = Terminal::run(&desk, "--unattended");
    let (code, text) = terminal.code();
    assert_eq!(code, Some(1), "{text}");
    assert!(text.contains("a ferry is boarding") && !text.contains("Your hand"), "{text}");
    // And without a terminal there is nobody to ask.
    desk.run().exits(1).says("a ferry is boarding");
}

/// Documents of an application that does not stop while there is `stuck`, and does not start while there is `broken`.
fn stubborn() -> Place {
    let (place, _, _) = documents(
        "[app.app.restore]\nmanual_start = \"turn the key\"\n\
         stop = { script = \"[ -e @/stuck ] || touch @/stopped\" }\nstopped = { run = [\"test\", \"-e\", \"@/stopped\"], within = \"200ms\" }\n\
         start = { script = \"[ -e @/broken ] || rm -f @/stopped\" }\nstarted = { run = [\"test\", \"!\", \"-e\", \"@/stopped\"], within = \"200ms\" }\n\
         at_boot = \"stay stopped\"\n",
    );
    place
}

fn now(place: &Place) -> String {
    std::fs::read_to_string(place.path("docs/a")).unwrap()
}

#[test]
fn a_restore_waits_for_a_person_who_stops_and_starts_what_does_not_stop_and_start() {
    let place = stubborn();
    place.file("stuck", "");
    place.file("broken", "");
    let mut terminal = Terminal::start(&place, "restore app --in-place --yes");
    terminal.wait_for("Your hand is needed: app does not stop");
    terminal.wait_for("stop it by hand: /bin/sh -eu");
    terminal.wait_for("> ");
    assert_eq!(now(&place), "changed", "nothing changes hands while it is not stopped");
    // Said to be done and not done: it is asked for again.
    terminal.type_line("");
    terminal.wait_for("Your hand is needed: app does not stop");
    terminal.wait_for("> ");
    place.file("stopped", "");
    terminal.type_line("");
    terminal.wait_for("Your hand is needed: app does not start on the new state");
    terminal.wait_for("turn the key");
    terminal.wait_for("> ");
    assert_eq!(now(&place), "as it was");
    std::fs::remove_file(place.path("stopped")).unwrap();
    terminal.type_line("");
    let (code, text) = terminal.code();
    assert_eq!(code, Some(0), "{text}");
    assert!(text.contains("by hand, proven"), "{text}");
    assert_eq!(now(&place), "as it was");
    // What did not stop by a command does not when it is taken back either.
    let mut terminal = Terminal::start(&place, "restore app --undo --yes");
    terminal.wait_for("Your hand is needed: app does not stop");
    terminal.wait_for("> ");
    place.file("stopped", "");
    terminal.type_line("");
    terminal.wait_for("Your hand is needed: app does not start on the old state");
    terminal.wait_for("> ");
    std::fs::remove_file(place.path("stopped")).unwrap();
    terminal.type_line("");
    let (code, text) = terminal.code();
    assert_eq!(code, Some(0), "{text}");
    assert_eq!(now(&place), "changed");
    place.gullet(&["status"]).exits(0);
}

#[test]
fn who_gives_up_on_a_restore_has_the_old_state_back() {
    let place = stubborn();
    place.file("broken", "");
    let mut terminal = Terminal::start(&place, "restore app --in-place --yes");
    terminal.wait_for("does not start on the new state");
    terminal.wait_for("> ");
    terminal.type_line("stop");
    terminal.wait_for("does not start on the old state, which is in place");
    terminal.wait_for("> ");
    assert_eq!(now(&place), "changed");
    std::fs::remove_file(place.path("stopped")).unwrap();
    terminal.type_line("");
    let (code, text) = terminal.code();
    assert_eq!(code, Some(1), "it serves, but what was asked for is not in place: {text}");
    assert_eq!(now(&place), "changed");
    // Who is told that nobody is there asks nobody.
    let mut terminal = Terminal::start(&place, "restore app --continue --yes --unattended");
    terminal.wait_for("does not start");
    let (code, text) = terminal.code();
    assert_eq!(code, Some(7), "{text}");
    assert!(!text.contains("Your hand"), "{text}");
}
