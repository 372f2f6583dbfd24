//! Runs, thinnings, sweeps, crashes and restores in random order, against a model that is a map of files for each run.

use std::collections::BTreeMap;
use std::fs;
use std::process::Stdio;
use std::time::Duration;

use serde_json::Value;

use crate::harness::Place;

const FILES: &str = "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\nempty = \"ok\"\n";
const STEPS: u32 = 140;

type Files = BTreeMap<String, Vec<u8>>;

/// xorshift64*: the same order for the same seed.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, below: u64) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_F491_4F6C_DD1D) % below
    }

    fn bytes(&mut self, length: u64) -> Vec<u8> {
        (0..length / 8 + 1).flat_map(|_| self.roll(u64::MAX).to_le_bytes()).take(length as usize).collect()
    }
}

struct Model {
    place: Place,
    dice: Dice,
    /// What the source has now.
    source: Files,
    /// What each run that is complete and not given up must give back, oldest first.
    runs: Vec<(String, Files)>,
    log: Vec<String>,
}

impl Model {
    fn change(&mut self) {
        for _ in 0..=self.dice.roll(4) {
            let name = format!("f{}", self.dice.roll(12));
            let path = self.place.path(&format!("docs/{name}"));
            match self.dice.roll(4) {
                0 => {
                    self.source.remove(&name);
                    let _ = fs::remove_file(path);
                }
                _ => {
                    let length = [0, 10, 4000, 700_000, 2_500_000][self.dice.roll(5) as usize];
                    let bytes = self.dice.bytes(length);
                    fs::write(path, &bytes).unwrap();
                    self.source.insert(name, bytes);
                }
            }
        }
    }

    fn run(&mut self) {
        // A run that was killed before it is warned of.
        let call = self.place.gullet(&["run", "app"]);
        assert!([0, 6].contains(&call.code), "{}{}\n{}", call.out, call.err, self.log.join("\n"));
        let run = self.place.record()["run"].as_str().unwrap().to_owned();
        self.runs.push((run, self.source.clone()));
    }

    /// A call that is killed after a while.
    fn killed(&mut self, arguments: &[&str], within: u64) {
        let mut command = self.place.command(arguments);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(self.dice.roll(within)));
        let _ = child.kill();
        child.wait().unwrap();
    }

    fn killed_run(&mut self) {
        self.killed(&["run", "app"], 120);
        // It may have come to its end: then it counts, and what it captured is what is there.
        let runs = self.place.json(&["runs"]);
        let last = runs.as_array().unwrap().last().unwrap();
        let name = last["run"].as_str().unwrap().to_owned();
        if ["complete", "warnings"].contains(&last["outcome"].as_str().unwrap())
            && !self.runs.iter().any(|(run, _)| *run == name)
        {
            self.runs.push((name, self.source.clone()));
        }
    }

    fn thin(&mut self) {
        if self.runs.len() < 2 {
            return;
        }
        let at = self.dice.roll(self.runs.len() as u64 - 1) as usize;
        let run = self.runs[at].0.clone();
        let stays = self.newest_without_warnings().is_some_and(|newest| newest == run);
        let arguments = ["thin", "--run", &run, "--because", "the model says so", "--yes"];
        if self.dice.roll(3) == 0 {
            // Killed in the middle: given up or not, it is not asked for again, unless it has to stay.
            self.killed(&arguments, 60);
        } else {
            self.place.gullet(&arguments).exits(if stays { 4 } else { 0 });
        }
        if !stays {
            self.runs.remove(at);
        }
    }

    /// The run that is never thinned, even where newer ones are complete with warnings: those that were killed after
    /// their commit and those that found what a killed one had left.
    fn newest_without_warnings(&self) -> Option<String> {
        let runs = self.place.json(&["runs"]);
        let clean = |run: &&Value| run["outcome"] == "complete" && run["thinned"] == false;
        runs.as_array().unwrap().iter().rev().find(clean).map(|run| run["run"].as_str().unwrap().to_owned())
    }

    fn check(&mut self) {
        if self.runs.is_empty() {
            return;
        }
        let at = self.dice.roll(self.runs.len() as u64) as usize;
        let (run, files) = &self.runs[at];
        let _ = fs::remove_dir_all(self.place.path("out"));
        let restored = self.place.gullet(&["restore", run, "--into", "out"]);
        assert_eq!(restored.code, 0, "{run}: {}{}\n{}", restored.out, restored.err, self.log.join("\n"));
        let root = self.place.path("out/files").join(self.place.path("docs").strip_prefix("/").unwrap());
        let mut found = Files::new();
        for entry in fs::read_dir(root).unwrap() {
            let entry = entry.unwrap();
            found.insert(entry.file_name().into_string().unwrap(), fs::read(entry.path()).unwrap());
        }
        let names = |files: &Files| files.iter().map(|(name, bytes)| (name.clone(), bytes.len())).collect::<Vec<_>>();
        assert_eq!(names(&found), names(files), "{run}\n{}", self.log.join("\n"));
        assert!(found == *files, "{run} has other contents\n{}", self.log.join("\n"));
    }
}

#[test]
fn nothing_that_is_needed_is_ever_lost() {
    let place = Place::with_parts(FILES);
    fs::create_dir(place.path("docs")).unwrap();
    // Other seeds are for scripts/prove.sh.
    let seed = std::env::var("MODEL_SEED").map_or(0x05EE_D0F5_EA00, |seed| seed.parse().expect("a whole number"));
    let mut model = Model { place, dice: Dice(seed), source: Files::new(), runs: Vec::new(), log: Vec::new() };
    model.run();
    for step in 0..STEPS {
        let what = model.dice.roll(10);
        model.log.push(format!("{step}: {what}, {} runs", model.runs.len()));
        match what {
            0 | 1 => model.change(),
            2 | 3 => {
                model.change();
                model.run();
            }
            4 => model.killed_run(),
            5 | 6 => model.thin(),
            7 => model.killed(&["store", "sweep", "depot", "--yes"], 50),
            8 => {
                model.place.gullet(&["store", "sweep", "depot", "--yes"]).exits(0);
            }
            _ => model.check(),
        }
        if step % 20 == 19 {
            model.place.gullet(&["verify"]).exits(0);
        }
    }
    model.place.gullet(&["verify", "--afresh"]).exits(0);
    for _ in 0..5 {
        model.check();
    }
}
