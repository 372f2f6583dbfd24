//! What a verification reads, counts and says, and what thinning removes elsewhere.

use std::fs;

use serde_json::{Value, json};

use crate::harness::Place;
use crate::sweep::{noise, payload};

const TWO: &str = "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n[[app.app.part]]\nname = \"large\"\nfiles = [\"@/large\"]\n";

/// Two parts in one payload file: many small files in its first frame, and frames after it with nothing but a large one.
fn two_parts() -> Place {
    let place = Place::with_parts(TWO);
    for number in 0..25 {
        // All the same, so that all of them are one chunk.
        place.file(&format!("docs/{number:02}"), noise(1000, 5));
    }
    place.file("large/file", noise(20 << 20, 77));
    place.gullet(&["run", "app"]).exits(0);
    place
}

fn verified(place: &Place, arguments: &[&str], code: i32) -> Value {
    place.gullet(&[&["verify", "--json"], arguments].concat()).exits(code).json()
}

/// The remarks of a kind.
fn remarks(place: &Place, what: &str) -> Vec<Value> {
    let named = |path: &std::path::PathBuf| path.display().to_string().contains(&format!("-{what}-"));
    let files = place.files_below("depot/remarks").into_iter().filter(named);
    files.map(|path| serde_json::from_slice(&fs::read(path).unwrap()).unwrap()).collect()
}

#[test]
fn a_verification_counts_what_it_read() {
    let place = two_parts();
    let holdings = |record: &Value| record["holdings"]["wrote"].as_array().unwrap().clone();
    let mut wrote = holdings(&place.record());
    place.file("large/other", noise(1 << 20, 78));
    place.gullet(&["run", "app"]).exits(0);
    wrote.extend(holdings(&place.record()));
    let sum = |key: &str| wrote.iter().map(|file| file[key].as_u64().unwrap()).sum::<u64>();
    let bytes: u64 = payload(&place).iter().map(|path| fs::metadata(path).unwrap().len()).sum();
    assert_eq!((wrote.len(), sum("length")), (2, bytes));
    let report = verified(&place, &[], 0);
    let counted =
        |report: &Value| ["files", "of", "read_before", "bytes", "chunks", "locked"].map(|key| report[key].clone());
    assert_eq!(counted(&report), [2, 2, 0, bytes, sum("chunks"), 0].map(Value::from), "{report}");
    for remark in remarks(&place, "verified") {
        assert_eq!(remark["opened"], true, "{remark}");
    }

    // One that was stopped a while ago is gone on with; one that was stopped long ago is not.
    let state = place.files_below("state/stores").into_iter().find(|path| path.ends_with("proven.json")).unwrap();
    let proven: Value = serde_json::from_slice(&fs::read(&state).unwrap()).unwrap();
    let first = wrote[0]["name"].as_str().unwrap();
    for (days, read) in [(6, 1), (8, 2)] {
        let began = place.record()["started"].as_str().unwrap().parse::<jiff::Timestamp>().unwrap();
        let began = began - jiff::SignedDuration::from_hours(24 * days);
        let mut open = proven.clone();
        open["files"] = json!({ first: 7 });
        (open["readings"], open["open"]) = (7.into(), json!({ "after": 6, "began": began }));
        fs::write(&state, open.to_string()).unwrap();
        let report = verified(&place, &[], 0);
        assert_eq!(counted(&report)[..3], [read, 2, 2 - read].map(Value::from), "{days} days: {report}");
    }
    let report = verified(&place, &["--quick"], 0);
    assert_eq!(counted(&report)[..2], [0, 2].map(Value::from));
}

#[test]
fn damage_is_named_by_part_and_path_and_remembered_with_its_file() {
    let place = two_parts();
    let file = place.files_below("depot/payload").remove(0);
    let name = file.strip_prefix(place.path("depot")).unwrap().display().to_string();
    let whole = fs::read(&file).unwrap();
    // In the middle there is nothing but the large file.
    let at = whole.len() / 2;
    place.flip(&file, at);
    let report = verified(&place, &[], 1);
    let lost = |report: &Value| report["runs"][0]["lost"].as_array().unwrap().clone();
    assert_eq!(
        lost(&report),
        [json!({ "part": "large", "paths": [path(&place, "large/file")], "count": 1, "listing": null })]
    );
    assert_eq!(report["runs"][0]["payload"], json!([name]));
    let remark = remarks(&place, "damaged").remove(0);
    assert_eq!((&remark["text"], &remark["payload"]), (&json!("damaged: large"), &json!([name])));
    fs::write(&file, &whole).unwrap();
    // At the front lie the small ones; of many the first are named and all are counted.
    place.flip(&file, 600);
    let report = verified(&place, &[], 1);
    let docs = lost(&report).remove(0);
    assert_eq!(
        (&docs["part"], &docs["count"], docs["paths"].as_array().unwrap().len()),
        (&json!("docs"), &json!(25), 20)
    );
    // What lies in a damaged file is not stood on again: the next run stores it anew, and is whole.
    place.gullet(&["run", "app"]).exits(0);
    let run = place.record()["run"].as_str().unwrap().to_owned();
    place.gullet(&["verify", &run]).exits(0);
    place.gullet(&["restore", &run, "--into", "out"]).exits(0);
    // A payload file that is gone is the text of the remark where nothing else can be said.
    fs::write(&file, b"").unwrap();
    verified(&place, &[], 1);
    let remark = remarks(&place, "damaged").pop().unwrap();
    assert_eq!(remark["text"], "damaged: docs, large");
}

fn path(place: &Place, name: &str) -> String {
    place.text(name).trim_start_matches('/').to_owned()
}

#[test]
fn what_another_system_has_of_a_thinned_run_is_removed_there_by_its_own_command() {
    let outside = |name: &str, remove: bool| {
        let script = format!("echo \\\"$GULLET_MOMENT {{id}}\\\" >> @/removed-{name}");
        let remove =
            if remove { format!("remove = {{ run = [\"sh\", \"-c\", \"{script}\"] }}\n") } else { String::new() };
        format!(
            "[[app.app.part]]\nname = \"{name}\"\n[app.app.part.outside]\n\
             begin = {{ run = [\"echo\", \"id-{name}\"] }}\ndone = {{ run = [\"true\"] }}\n{remove}"
        )
    };
    let parts = [outside("images", true), outside("volumes", true), outside("tapes", false)].concat();
    let docs = "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n";
    let place = Place::with_parts(&format!("{docs}{parts}"));
    place.file("docs/a", "x");
    let mut runs = Vec::new();
    for _ in 0..2 {
        place.gullet(&["run", "app"]).exits(0);
        runs.push(place.record()["run"].as_str().unwrap().to_owned());
    }
    let held = place.status("app").1["outside"].clone();
    assert_eq!(held, json!([["images", "id-images"], ["volumes", "id-volumes"], ["tapes", "id-tapes"]]));
    let thinned = place.gullet(&["thin", "--run", &runs[0], "--reason", "test", "--yes"]).exits(6);
    thinned.says("id-tapes").says("the definition does not say how");
    for name in ["images", "volumes"] {
        assert_eq!(fs::read_to_string(place.path(&format!("removed-{name}"))).unwrap(), format!("thin id-{name}\n"));
    }
}

#[test]
fn a_lost_state_is_filled_anew_and_says_with_how_much() {
    let (place, _) = Place::sealed_with_parts("[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n");
    for number in 0..2 {
        place.file(&format!("docs/{number}"), noise(2 << 20, number));
        place.gullet(&["run", "app"]).exits(0);
    }
    place.gullet(&["verify", "--identity", "safe.key"]).exits(0);
    let machine: Value = serde_json::from_slice(&fs::read(place.path("state/machine.json")).unwrap()).unwrap();
    let machine = machine["machine"].as_str().unwrap();
    let rebuild = |more: &[&str]| {
        fs::remove_dir_all(place.path("state")).unwrap();
        let report = place.json(&[&["store", "rebuild", "depot", "--machine", machine], more].concat());
        assert_eq!(report["machine"], machine);
        ["runs", "locked", "documents", "chunks"].map(|key| report[key].as_u64().unwrap())
    };
    let documents = (place.files_below("depot/records").len() + place.files_below("depot/remarks").len()) as u64;
    assert_eq!((documents, payload(&place).len()), (4, 2));
    assert_eq!(rebuild(&[]), [2, 2, 0, 0], "without the key nothing is opened");
    let [runs, locked, kept, chunks] = rebuild(&["--identity", "safe.key"]);
    assert_eq!((runs, locked, kept), (2, 0, documents));
    let wrote = |run: &Value| {
        let record = &place.json(&["show", run["run"].as_str().unwrap()])["record"];
        record["holdings"]["wrote"].as_array().unwrap().iter().map(|file| file["chunks"].as_u64().unwrap()).sum::<u64>()
    };
    assert_eq!(chunks, place.runs().iter().map(wrote).sum::<u64>());
    // What lies in a store of no key is known without one.
    let plain = two_parts();
    let machine: Value = serde_json::from_slice(&fs::read(plain.path("state/machine.json")).unwrap()).unwrap();
    fs::remove_dir_all(plain.path("state")).unwrap();
    let report = plain.json(&["store", "rebuild", "depot", "--machine", machine["machine"].as_str().unwrap()]);
    assert_eq!((&report["documents"], &report["locked"], &report["runs"]), (&json!(0), &json!(0), &json!(1)));
}
