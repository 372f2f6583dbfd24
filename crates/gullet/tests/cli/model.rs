//! Runs, thinnings, sweeps, crashes and restores in random order, against a model that is a map of files for each run; then the
//! same by two machines that share a store, by clocks that jump, with a store that goes and documents that are removed.

use std::collections::BTreeMap;
use std::fs;
use std::process::Stdio;
use std::time::Duration;

use serde_json::Value;

use crate::harness::{Called, Place};

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
    /// Calls that were killed before their end.
    killed: u32,
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
        self.killed += u32::from(child.wait().unwrap().code().is_none());
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
        let arguments = ["thin", "--run", &run, "--reason", "the model says so", "--yes"];
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

/// Other seeds are for `scripts/prove.sh`.
fn seed() -> u64 {
    std::env::var("MODEL_SEED").map_or(0x05EE_D0F5_EA00, |seed| seed.parse().expect("a whole number"))
}

#[test]
fn nothing_that_is_needed_is_ever_lost() {
    let place = Place::with_parts(FILES);
    fs::create_dir(place.path("docs")).unwrap();
    let mut model =
        Model { place, dice: Dice(seed()), source: Files::new(), runs: Vec::new(), log: Vec::new(), killed: 0 };
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
    assert!(model.killed >= 5, "only {} calls were killed before their end", model.killed);
    model.place.gullet(&["verify", "--all-again"]).exits(0);
    for _ in 0..5 {
        model.check();
    }
}

/// One of the machines that share a store.
struct Machine {
    definition: &'static str,
    docs: &'static str,
    id: String,
    source: Files,
    /// As those of [`Model`].
    runs: Vec<(String, Files)>,
}

struct World {
    place: Place,
    dice: Dice,
    machines: [Machine; 2],
    log: Vec<String>,
    /// How often each thing was done to which nothing may fall.
    met: BTreeMap<&'static str, u32>,
}

/// Clocks that a call may go by; most go by the right one.
const CLOCKS: [&str; 8] = ["", "", "", "", "-40d", "-1h", "+1h", "+400d"];

impl World {
    fn story(&self) -> String {
        self.log.join("\n")
    }

    fn call(&self, machine: usize, clock: &str, arguments: &[&str]) -> Called {
        let definition = self.machines[machine].definition;
        let arguments = [&["--definition", definition], arguments].concat();
        if clock.is_empty() { self.place.gullet(&arguments) } else { self.place.gullet_at(clock, &arguments) }
    }

    fn own_runs(&self, machine: usize) -> Vec<Value> {
        let all = self.call(machine, "", &["runs", "--json"]).exits(0).json();
        let id = &self.machines[machine].id;
        all.as_array().unwrap().iter().filter(|run| id.is_empty() || run["machine"] == **id).cloned().collect()
    }

    fn change(&mut self, machine: usize) {
        let name = format!("f{}", self.dice.roll(6));
        let length = [10, 4000, 700_000][self.dice.roll(3) as usize];
        let bytes = self.dice.bytes(length);
        self.place.file(&format!("{}/{name}", self.machines[machine].docs), &bytes);
        self.machines[machine].source.insert(name, bytes);
    }

    fn run(&mut self, machine: usize, clock: &str) {
        let call = self.call(machine, clock, &["run", "app"]);
        assert!([0, 6].contains(&call.code), "{}{}\n{}", call.out, call.err, self.story());
        let runs = self.own_runs(machine);
        let last = runs.last().unwrap();
        let name = last["run"].as_str().unwrap().to_owned();
        let known = self.machines[machine].runs.iter().any(|(run, _)| *run == name);
        assert!(!known, "the run that was just made is not the last one: {name}\n{}", self.story());
        let this = &mut self.machines[machine];
        this.id = last["machine"].as_str().unwrap().to_owned();
        this.runs.push((name, this.source.clone()));
    }

    /// A run while the store is away, which is refused; the record of that comes into the store with the next run.
    fn refused(&mut self, machine: usize, clock: &str) {
        fs::rename(self.place.path("depot"), self.place.path("away")).unwrap();
        let call = self.call(machine, clock, &["run", "app"]);
        assert_eq!(call.code, 4, "{}{}\n{}", call.out, call.err, self.story());
        assert!(!self.place.path("depot").exists(), "no store is made in its place");
        fs::rename(self.place.path("away"), self.place.path("depot")).unwrap();
    }

    /// A record or a remark is removed, which the machine misses that wrote it, and comes back.
    fn removed(&mut self, machine: usize) {
        let id = self.machines[machine].id.clone();
        let mut documents = self.place.files_below(&format!("depot/records/app/{id}"));
        documents.extend(self.place.files_below(&format!("depot/remarks/app/{id}")));
        let document = documents.swap_remove(self.dice.roll(documents.len() as u64) as usize);
        fs::rename(&document, self.place.path("taken")).unwrap();
        let name = document.file_name().unwrap().to_string_lossy().into_owned();
        // A remark about a run of this machine may be one that the other made: each misses what it wrote, and its status says so.
        // Who verifies may find more, for what others wrote may be about it.
        let missed = |machine: usize| {
            let is_damaged = self.call(machine, "", &["verify"]).code == 1;
            let status = self.call(machine, "", &["status"]);
            is_damaged && status.code == 2 && status.out.contains(&name)
        };
        let missed = [missed(0), missed(1)];
        assert!(missed[0] || missed[1], "{name} is not missed\n{}", self.story());
        fs::rename(self.place.path("taken"), &document).unwrap();
        for machine in 0..2 {
            let status = self.call(machine, "", &["status"]);
            assert!(!status.out.contains("is missing"), "{}\n{}", status.out, self.story());
        }
    }

    fn thin(&mut self, machine: usize, clock: &str) {
        let runs = self.own_runs(machine);
        let clean = |run: &&Value| run["outcome"] == "complete" && run["thinned"] == false;
        let newest = runs.iter().rev().find(clean).map(|run| run["run"].as_str().unwrap().to_owned());
        let count = self.machines[machine].runs.len() as u64;
        if count < 2 {
            return;
        }
        let at = self.dice.roll(count - 1) as usize;
        let run = self.machines[machine].runs[at].0.clone();
        let stays = newest.as_ref() == Some(&run);
        let call = self.call(machine, clock, &["thin", "--run", &run, "--reason", "the model says so", "--yes"]);
        assert_eq!(call.code, if stays { 4 } else { 0 }, "{run}: {}{}\n{}", call.out, call.err, self.story());
        if !stays {
            self.machines[machine].runs.remove(at);
        }
    }

    fn check(&mut self, machine: usize) {
        let count = self.machines[machine].runs.len() as u64;
        let at = self.dice.roll(count) as usize;
        let newest = &self.machines[machine].runs[count as usize - 1];
        for (asked, files) in [&self.machines[machine].runs[at], &("app@latest".to_owned(), newest.1.clone())] {
            let _ = fs::remove_dir_all(self.place.path("out"));
            let call = self.call(machine, "", &["restore", asked, "--into", "out"]);
            assert_eq!(call.code, 0, "{asked}: {}{}\n{}", call.out, call.err, self.story());
            let found: Files = { self.place.files_below("out/files").into_iter() }
                .map(|path| (path.file_name().unwrap().to_str().unwrap().to_owned(), fs::read(&path).unwrap()))
                .collect();
            let runs = || {
                self.own_runs(machine)
                    .iter()
                    .map(|run| format!("{} {} {} {}\n", run["run"], run["outcome"], run["thinned"], run["started"]))
                    .collect::<String>()
            };
            assert!(found == *files, "{asked}, {}, has other contents\n{}\n{}", newest.0, runs(), self.story());
        }
    }

    fn step(&mut self) {
        let machine = self.dice.roll(2) as usize;
        let clock = CLOCKS[self.dice.roll(CLOCKS.len() as u64) as usize];
        let what = ["run", "run", "run", "refused", "removed", "thin", "sweep", "verify", "check"];
        let what = what[self.dice.roll(what.len() as u64) as usize];
        self.log.push(format!("machine {machine}, clock {clock}: {what}"));
        *self.met.entry(what).or_default() += 1;
        *self.met.entry("clocks").or_default() += u32::from(!clock.is_empty());
        match what {
            "run" => {
                self.change(machine);
                self.run(machine, clock);
            }
            "refused" => self.refused(machine, clock),
            "removed" => self.removed(machine),
            "thin" => self.thin(machine, clock),
            "sweep" => {
                self.call(machine, clock, &["store", "sweep", "depot", "--yes"]).exits(0);
            }
            "verify" => {
                let call = self.call(machine, clock, &["verify"]);
                assert_eq!(call.code, 0, "{}{}\n{}", call.out, call.err, self.story());
            }
            _ => self.check(machine),
        }
    }
}

#[test]
fn nothing_is_lost_or_hidden_where_clocks_jump_and_machines_share_a_store() {
    let place = Place::with_parts(FILES);
    crate::green::second_machine(&place);
    let machine =
        |definition, docs| Machine { definition, docs, id: String::new(), source: Files::new(), runs: Vec::new() };
    let machines = [machine("gullet.toml", "docs"), machine("b.toml", "docs-b")];
    let mut world = World { place, dice: Dice(seed()), machines, log: Vec::new(), met: BTreeMap::new() };
    for machine in 0..2 {
        let docs = world.place.path(world.machines[machine].docs);
        let _ = fs::remove_dir_all(&docs);
        world.change(machine);
        assert_eq!(world.call(machine, "", &["run", "app"]).code, 0);
        // The first record tells which machine it is.
        let runs = world.own_runs(machine);
        let other = world.machines[0].id.clone();
        let own = runs.iter().rev().find(|run| run["machine"] != *other).unwrap();
        world.machines[machine].id = own["machine"].as_str().unwrap().to_owned();
        let files = world.machines[machine].source.clone();
        world.machines[machine].runs.push((own["run"].as_str().unwrap().to_owned(), files));
    }
    for _ in 0..STEPS / 2 {
        world.step();
    }
    for what in ["run", "refused", "removed", "thin", "sweep", "verify", "check", "clocks"] {
        assert!(world.met.get(what).is_some_and(|count| *count >= 2), "{what} came too seldom: {:?}", world.met);
    }
    for machine in 0..2 {
        let call = world.call(machine, "", &["verify", "--all-again"]);
        assert_eq!(call.code, 0, "{}{}\n{}", call.out, call.err, world.story());
        world.check(machine);
    }
}
