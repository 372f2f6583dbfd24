//! The runs that are asked for, of all there are.

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
