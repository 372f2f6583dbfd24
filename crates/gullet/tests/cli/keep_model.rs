//! Keep rules in random histories with kills anywhere: what must stay stays, and what is not given up can be restored.

use std::collections::BTreeMap;
use std::fs;
use std::process::Stdio;
use std::time::Duration;

use serde_json::Value;

use crate::harness::Place;

const DESK: &str = r#"
[app.desk]
no_hold = "a test"
[[app.desk.part]]
name = "docs"
files = ["@/docs"]
[[app.desk.part]]
name = "said"
required = false
command = ["sh", "-c", "test ! -e @/lacks && echo said"]
[app.desk.hooks]
before = [{ run = ["test", "!", "-e", "@/fails"] }]
succeeded = [{ run = ["test", "!", "-e", "@/warns"] }]
[app.desk.drill]
checks = [{ name = "it is there", run = ["test", "-s", "{files}@/docs/a"] }]
[app.desk.keep]
newest = 2
"#;
const STEPS: u32 = 70;

struct Model {
    place: Place,
    rng: fastrand::Rng,
    /// What `docs/a` had in it when each run began whose captures are whole.
    texts: BTreeMap<String, String>,
    text: String,
    log: Vec<String>,
    killed: u32,
    /// Whether the store has a copy `far` that must have a run before it may go.
    has_copy: bool,
}

impl Model {
    fn runs(&self) -> Vec<Value> {
        self.place.runs()
    }

    fn story(&self) -> String {
        let runs = self
            .runs()
            .iter()
            .map(|run| {
                format!(
                    "{} {} thinned {} proven {} kept {}\n",
                    run["run"], run["outcome"], run["thinned"], run["proven"], run["kept"]
                )
            })
            .collect::<String>();
        format!("{}\n{runs}", self.log.join("\n"))
    }

    fn call(&mut self, arguments: &[&str], may_be_killed: bool) -> Option<i32> {
        self.log.push(arguments.join(" "));
        if !may_be_killed || self.rng.u8(..3) > 0 {
            return Some(self.place.gullet(arguments).code);
        }
        let mut command = self.place.command(arguments);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(self.rng.u64(..60)));
        let _ = child.kill();
        let code = child.wait().unwrap().code();
        self.killed += u32::from(code.is_none());
        self.log.push(format!("  killed: {}", code.is_none()));
        code
    }

    fn run(&mut self) {
        let what = ["", "", "", "lacks", "fails", "warns"][self.rng.usize(..6)];
        self.text = format!("number {} ", self.log.len()).repeat(200);
        self.place.file("docs/a", &self.text);
        if !what.is_empty() {
            self.place.file(what, "");
        }
        self.call(&["run", "desk", "--quiet"], true);
        if !what.is_empty() {
            fs::remove_file(self.place.path(what)).unwrap();
        }
        for run in self.runs() {
            let is_new = !self.texts.contains_key(run["run"].as_str().unwrap());
            if is_new && run["parts"].as_u64().unwrap() > 0 {
                self.texts.insert(run["run"].as_str().unwrap().to_owned(), self.text.clone());
            }
        }
    }

    fn mark(&mut self) {
        let runs = self.runs();
        let standing: Vec<&Value> = runs.iter().filter(|run| run["thinned"] == false && run["parts"] != 0).collect();
        if standing.is_empty() {
            return;
        }
        let run = standing[self.rng.usize(..standing.len())]["run"].as_str().unwrap().to_owned();
        let undo = self.rng.bool();
        let arguments: &[&str] = if undo { &["keep", &run, "--undo"] } else { &["keep", &run] };
        self.call(arguments, false);
    }

    /// The disk of the copy goes or comes back.
    fn unplug(&mut self) {
        let (far, gone) = (self.place.path("far"), self.place.path("far-unplugged"));
        let (from, to) = if far.exists() { (far, gone) } else { (gone, far) };
        fs::rename(&from, to).unwrap();
        self.log.push(format!("moved {}", from.display()));
    }

    /// What went in this step had reached the copy before, and what the copy has it gives back.
    fn check_copy(&self, before: &[Value]) {
        let standing = |run: &&Value| run["thinned"] == false && run["parts"].as_u64().unwrap() > 0;
        let stood: Vec<&Value> = before.iter().filter(standing).collect();
        for run in
            self.runs().iter().filter(|run| run["thinned"] == true && stood.iter().any(|old| old["run"] == run["run"]))
        {
            let remarks =
                self.place.gullet(&["show", run["run"].as_str().unwrap(), "--json"]).json()["remarks"].clone();
            let at = |kind: &str| {
                let found = remarks.as_array().unwrap().iter().find(|remark| remark["what"] == kind);
                found.and_then(|remark| remark["at"].as_str()).map(str::to_owned)
            };
            assert!(at("copied").is_some() && at("copied") <= at("thinned"), "{remarks}\n{}", self.story());
        }
        if !self.place.path("far").exists() {
            return;
        }
        let copied = self.place.gullet(&["runs", "--store", "far", "--json"]).json();
        let there: Vec<&Value> = copied.as_array().unwrap().iter().filter(standing).collect();
        if let Some(run) = there.last() {
            let name = run["run"].as_str().unwrap();
            let _ = fs::remove_dir_all(self.place.path("out"));
            let arguments = ["restore", name, "--store", "far", "--part", "docs", "--into", "out"];
            let restored = self.place.gullet(&arguments);
            assert!(restored.code == 0, "{}{}\n{}", restored.out, restored.err, self.story());
            let docs = self.place.path("docs/a");
            let path = self.place.path("out/files").join(docs.strip_prefix("/").unwrap());
            assert!(fs::read_to_string(path).unwrap() == self.texts[name], "{name}\n{}", self.story());
        }
    }

    /// What must stay has its captures, and what has its captures can be restored.
    fn check(&mut self, before: &[Value]) {
        let runs = self.runs();
        let standing = |run: &&Value| run["thinned"] == false && run["parts"].as_u64().unwrap() > 0;
        let good = |run: &Value| ["complete", "warnings"].contains(&run["outcome"].as_str().unwrap());
        let newest = |fits: &dyn Fn(&Value) -> bool| before.iter().rev().find(|run| standing(run) && fits(run));
        // A newer one may take the place of the newest; of a mark and of a drill there is no other meanwhile.
        let mut must_stay: Vec<(&Value, bool)> = Vec::new();
        must_stay.extend(before.iter().filter(|run| standing(run) && run["kept"] == true).map(|run| (run, false)));
        must_stay.extend(newest(&good).map(|run| (run, true)));
        must_stay.extend(newest(&|run| run["outcome"] == "complete").map(|run| (run, true)));
        must_stay.extend(newest(&|run| good(run) && run["proven"].is_string()).map(|run| (run, false)));
        for (run, may_be_replaced) in must_stay {
            let now = runs.iter().find(|now| now["run"] == run["run"]).unwrap();
            let newer = runs.iter().rev().find(standing);
            let is_replaced = may_be_replaced && newer.is_some_and(|newer| newer["run"] != run["run"] && good(newer));
            assert!(now["thinned"] == false || is_replaced, "{} went\n{}", run["run"], self.story());
        }
        let left: Vec<&Value> = runs.iter().filter(standing).collect();
        if let Some(run) = (!left.is_empty()).then(|| left[self.rng.usize(..left.len())]) {
            let name = run["run"].as_str().unwrap();
            let _ = fs::remove_dir_all(self.place.path("out"));
            let code = self.place.gullet(&["restore", name, "--part", "docs", "--into", "out"]).code;
            assert_eq!(code, 0, "{name}\n{}", self.story());
            let docs = self.place.path("docs/a");
            let path = self.place.path("out/files").join(docs.strip_prefix("/").unwrap());
            assert!(fs::read_to_string(path).unwrap() == self.texts[name], "{name}\n{}", self.story());
        }
    }
}

fn play(has_copy: bool) -> Model {
    let place = Place::new();
    let copies = if has_copy { "copies = [\"far\"]\n[store.far]\nlocation = \"@/far\"\n" } else { "" };
    place.define(&format!("{copies}{DESK}"));
    place.gullet(&["store", "new", "depot"]).exits(0);
    if has_copy {
        place.gullet(&["store", "copy", "depot", "--make"]).exits(0);
    }
    let seed = std::env::var("MODEL_SEED").map_or(20_261_129, |seed| seed.parse().expect("a whole number"));
    let rng = fastrand::Rng::with_seed(seed);
    let (texts, text, log) = (BTreeMap::new(), String::new(), Vec::new());
    let mut model = Model { place, rng, texts, text, log, killed: 0, has_copy };
    for step in 0..STEPS {
        let before = model.runs();
        match model.rng.u8(..10) {
            0..6 => model.run(),
            6 => model.mark(),
            7 => {
                model.call(&["thin", "desk", "--yes"], true);
            }
            8 if model.place.gullet(&["runs", "desk", "--json"]).json() != serde_json::json!([]) => {
                model.call(&["drill", "desk"], true);
            }
            _ => {
                model.call(&["store", "sweep", "depot", "--yes"], true);
            }
        }
        if model.has_copy {
            model.check_copy(&before);
            match model.rng.u8(..8) {
                0 | 1 => model.unplug(),
                2 | 3 => {
                    model.call(&["store", "copy", "depot"], true);
                }
                4 => {
                    model.call(&["store", "sweep", "far", "--yes"], true);
                }
                _ => {}
            }
        }
        model.check(&before);
        if step % 35 == 34 {
            model.place.gullet(&["verify"]).exits(0);
        }
    }
    model
}

#[test]
fn what_must_stay_stays_wherever_a_run_or_a_thinning_is_killed() {
    let model = play(false);
    let runs = model.runs();
    let count = |fits: &dyn Fn(&Value) -> bool| runs.iter().filter(|run| fits(run)).count();
    let met = (model.killed, count(&|run| run["thinned"] == true), count(&|run| run["proven"].is_string()));
    assert!(met.0 >= 4 && met.1 >= 6 && met.2 >= 1, "killed, thinned, drilled: {met:?}\n{}", model.story());
}

#[test]
fn what_is_lacking_in_a_copy_stays_wherever_a_run_a_thinning_or_a_copy_is_killed() {
    let model = play(true);
    let runs = model.runs();
    let thinned = runs.iter().filter(|run| run["thinned"] == true).count();
    // Without the disk of the copy nothing may go: it must have been away, and more must have stayed than the rules ask for.
    let unplugged = model.log.iter().filter(|line| line.starts_with("moved ")).count();
    assert!(model.killed >= 4 && thinned >= 4 && unplugged >= 3, "{thinned} {unplugged}\n{}", model.story());
}
