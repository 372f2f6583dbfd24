//! The desk as a program: it serves, pauses, exports, and misbehaves when it is told to.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on should panic")]

use std::path::Path;
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

struct Open {
    folder: tempfile::TempDir,
    server: Child,
}

fn quaybook(folder: &Path, words: &[&str]) -> Output {
    Command::new(env!("CARGO_BIN_EXE_quaybook")).arg("--desk").arg(folder).args(words).output().unwrap()
}

impl Open {
    fn new(options: &[&str]) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let mut serve = Command::new(env!("CARGO_BIN_EXE_quaybook"));
        serve.arg("--desk").arg(folder.path()).arg("serve").args(options);
        let server = serve.stdin(Stdio::null()).spawn().unwrap();
        let open = Self { folder, server };
        open.wait_for("serving");
        open
    }

    fn ask(&self, words: &[&str]) -> (bool, String) {
        let output = quaybook(self.folder.path(), words);
        let text = [output.stdout, output.stderr].concat();
        (output.status.success(), String::from_utf8(text).unwrap().trim().to_owned())
    }

    fn said(&self, words: &[&str]) -> String {
        let (good, text) = self.ask(words);
        assert!(good, "{words:?}: {text}");
        text
    }

    fn wait_for(&self, state: &str) {
        let began = Instant::now();
        while self.ask(&["state"]).1 != state {
            assert!(began.elapsed() < Duration::from_secs(10), "it is {}, not {state}", self.ask(&["state"]).1);
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    fn audit(&self) -> (bool, String) {
        let output = quaybook(self.folder.path(), &["audit", self.folder.path().to_str().unwrap()]);
        (output.status.success(), String::from_utf8(output.stdout).unwrap())
    }
}

impl Drop for Open {
    fn drop(&mut self) {
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}

#[test]
fn paused_it_agrees_and_stays_as_it_is() {
    let desk = Open::new(&[]);
    std::thread::sleep(Duration::from_millis(200));
    for _ in 0..10 {
        desk.said(&["pause"]);
        desk.wait_for("paused");
        assert_eq!(desk.said(&["busy"]), "0");
        let before = desk.audit();
        assert!(before.0, "{}", before.1);
        std::thread::sleep(Duration::from_millis(20));
        assert_eq!(desk.audit(), before, "a paused desk does not move");
        for _ in 0..5 {
            assert_eq!(desk.said(&["state"]), "paused", "nor does it flicker");
        }
        desk.said(&["resume"]);
        desk.wait_for("serving");
    }
}

#[test]
fn exports_and_counts_agree_while_paused() {
    let desk = Open::new(&[]);
    std::thread::sleep(Duration::from_millis(200));
    desk.said(&["pause"]);
    desk.wait_for("paused");
    let mut total = 0;
    for line in desk.said(&["ledgers"]).lines() {
        let ledger: serde_json::Value = serde_json::from_str(line).unwrap();
        let name = ledger["name"].as_str().unwrap();
        let out = tempfile::tempdir().unwrap();
        desk.said(&["export", name, out.path().to_str().unwrap()]);
        let rows = std::fs::read_to_string(out.path().join(format!("{name}.csv"))).unwrap().lines().count() - 1;
        assert_eq!(desk.said(&["count", name]), rows.to_string());
        total += rows;
    }
    assert_eq!(desk.said(&["serial"]), total.to_string());
    assert!(desk.said(&["purge", "--up-to", "3"]).starts_with("3 "));
    assert!(!desk.ask(&["count", "no-such-ledger"]).0);
}

#[test]
fn every_misbehaviour_is_what_it_says() {
    let refuses = Open::new(&["--misbehave", "refuse-pause"]);
    assert!(!refuses.ask(&["pause"]).0);
    assert_eq!(refuses.said(&["state"]), "serving");

    let lies = Open::new(&["--misbehave", "lie"]);
    lies.said(&["pause"]);
    assert_eq!((lies.said(&["state"]).as_str(), lies.said(&["busy"]).as_str()), ("paused", "0"));
    let before: i64 = lies.said(&["serial"]).parse().unwrap();
    std::thread::sleep(Duration::from_millis(200));
    assert!(lies.said(&["serial"]).parse::<i64>().unwrap() > before, "it goes on writing");

    let impatient = Open::new(&["--misbehave", "resume-by-itself"]);
    impatient.said(&["pause"]);
    impatient.wait_for("paused");
    impatient.wait_for("serving");

    let jammed = Open::new(&["--misbehave", "refuse-resume"]);
    jammed.said(&["pause"]);
    assert!(!jammed.ask(&["resume"]).0);
    jammed.wait_for("paused");
    jammed.said(&["misbehave", "ignore-resume"]);
    jammed.said(&["resume"]);
    assert_eq!(jammed.said(&["state"]), "paused");
    jammed.said(&["misbehave", "none"]);
    jammed.said(&["resume"]);
    jammed.wait_for("serving");
}

#[test]
fn a_closed_desk_says_so_and_a_second_one_is_refused() {
    let desk = Open::new(&[]);
    let second = quaybook(desk.folder.path(), &["serve"]);
    assert!(!second.status.success() && String::from_utf8_lossy(&second.stderr).contains("open already"));
    desk.said(&["stop"]);
    std::thread::sleep(Duration::from_millis(300));
    let (good, text) = desk.ask(&["state"]);
    assert!(!good && text.contains("no desk is open"), "{text}");
}
