//! The runs that are asked for, of all there are.

use std::sync::Arc;

use gullet_model::ids::RunId;
use gullet_model::outcome::Outcome;
use gullet_model::problem::ProblemKind;
use gullet_model::record::{Problem, Record};
use gullet_store::{Folder, Store};
use jiff::{SignedDuration, Timestamp};

use crate::harness::Place;

#[test]
fn runs_are_chosen_by_outcome_cause_trigger_and_machine() {
    let place = Place::with_parts(
        "[[app.app.part]]\nname = \"said\"\ncommand = [\"sh\", \"-c\", \"test -e @/there && echo x\"]\n",
    );
    place.gullet(&["run", "app"]).exits(1);
    place.file("there", "");
    place.gullet(&["run", "app", "--trigger", "the timer"]).exits(0);
    let chosen = |more: &[&str]| {
        let runs = place.json(&[&["runs"], more].concat());
        runs.as_array().unwrap().iter().map(|run| run["outcome"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(chosen(&[]).len(), 2);
    for (more, wanted) in [
        (&["--cause", "capture"][..], "failed"),
        (&["--outcome", "failed"], "failed"),
        (&["--outcome", "complete"], "complete"),
        (&["--trigger", "timer"], "complete"),
        (&["--trigger", "by hand"], "failed"),
    ] {
        assert_eq!(chosen(more), [wanted], "{more:?}");
    }
    assert_eq!(place.json(&["runs", "--cause", "capture"])[0]["causes"][0], "capture");
    let host = place.record()["host"]["name"].as_str().unwrap().to_owned();
    assert_eq!(chosen(&["--machine", &host]).len(), 2);
    assert!(chosen(&["--machine", "elsewhere"]).is_empty() && chosen(&["--cause", "hold_limit"]).is_empty());
    place.gullet(&["runs", "--cause", "bad luck"]).exits(2).says("gullet runs --json");
    place.gullet(&["runs", "--outcome", "splendid"]).exits(2).says("complete with warnings");
}

/// Puts records of another machine's runs into the store: one a minute, of every outcome and cause, by several triggers.
fn many(place: &Place, count: u32) {
    let store = Store::open(Arc::new(Folder::new(place.path("depot")))).unwrap();
    let triggers = ["by hand", "schedule nightly 2026-11-03T01:30:00+00:00", "deployment"];
    let kinds = [ProblemKind::Store, ProblemKind::HoldLimit, ProblemKind::Capture];
    for number in 0..count {
        let pick = |of: usize| fastrand::Rng::with_seed(u64::from(number) * 31 + of as u64).usize(..of);
        let at = "2026-11-01T00:00:00Z".parse::<Timestamp>().unwrap() + SignedDuration::from_mins(i64::from(number));
        let run = RunId::from(format!("{number:010}").as_str());
        let mut record = Record::bare(run, "app", "away", at, Outcome::ALL[pick(Outcome::ALL.len())]);
        record.trigger = triggers[pick(triggers.len())].to_owned();
        record.reason = (pick(2) == 0).then(|| format!("before release {}", pick(7)));
        record.host.name = "pier".to_owned();
        for kind in &kinds[..pick(4)] {
            let problem = Problem { kind: *kind, about: None, text: "so it is".to_owned(), advice: None };
            if pick(5) == 0 { record.causes.push(problem) } else { record.warnings.push(problem) }
        }
        let bytes = serde_json::to_vec(&record).unwrap();
        store.add_document("records/app/away", &record.stem(), &bytes).unwrap();
    }
}

#[test]
fn a_thousand_runs_are_chosen_as_jq_chooses_them() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"said\"\ncommand = [\"echo\", \"x\"]\n");
    many(&place, 1000);
    place.gullet(&["run", "app"]).exits(0);
    let all = place.file("all.json", place.gullet(&["runs", "--json"]).exits(0).out);
    let by_jq = |filter: &str| {
        let filter = format!("[.[] | select({filter})]");
        let given = std::process::Command::new("jq").arg(filter).arg(&all).output().expect("jq");
        assert!(given.status.success(), "{}", String::from_utf8_lossy(&given.stderr));
        serde_json::from_slice::<serde_json::Value>(&given.stdout).unwrap()
    };
    assert_eq!(by_jq("true").as_array().unwrap().len(), 1001);
    for (options, filter) in [
        (&["--outcome", "failed"][..], ".outcome == \"failed\""),
        (&["--failed"], ".outcome != \"complete\""),
        (&["--cause", "hold_limit"], "(.causes + .warnings) | index(\"hold_limit\")"),
        (&["--trigger", "nightly"], ".trigger | contains(\"nightly\")"),
        (&["--machine", "pier"], ".host == \"pier\""),
        (&["--reason", "release 3"], "(.reason // \"\") | contains(\"release 3\")"),
        (
            &["--since", "2026-11-01T06:00Z", "--until", "2026-11-01T06:59Z"],
            ".started >= \"2026-11-01T06:00\" and .started < \"2026-11-01T06:59:01\"",
        ),
        (
            &["--trigger", "by hand", "--cause", "store", "--outcome", "refused"],
            ".trigger == \"by hand\" and ((.causes + .warnings) | index(\"store\")) and .outcome == \"refused\"",
        ),
    ] {
        let given = place.json(&[&["runs"], options].concat());
        assert_eq!(given, by_jq(filter), "{options:?}");
        let found = given.as_array().unwrap().len();
        assert!((1..1001).contains(&found), "{options:?} gives {found}");
    }
    let table = place.gullet(&["runs"]).exits(0).says("and 901 runs before: `--all` shows them, too");
    assert_eq!(table.out.lines().filter(|line| line.contains("  app ")).count(), 100);
    assert!(place.gullet(&["runs", "--all"]).exits(0).out.lines().count() > 1001);
    let last = place.json(&["runs", "--last", "3"]);
    assert_eq!(last.as_array().unwrap()[..], by_jq("true").as_array().unwrap()[998..]);
}
