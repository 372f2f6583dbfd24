//! What a plan shows is what the sequence does, for every shape of an application.

use std::path::PathBuf;

use gullet_model::definition::Definition;
use gullet_model::ids::RunId;
use gullet_model::outcome::Outcome;
use gullet_model::record::Record;
use jiff::Timestamp;
use proptest::prelude::*;

use super::*;

/// A plan of an application `app` with this text as its definition.
fn plan_of(text: &str) -> Plan {
    let definition: Definition = toml::from_str(text).unwrap();
    let spec = definition.app["app"].clone();
    let run: RunId = serde_json::from_str("\"abcdefghjkmn\"").unwrap();
    let mut record = Record::bare(run, "app", "machine", Timestamp::UNIX_EPOCH, Outcome::Complete);
    record.definition = text.to_owned();
    let mut plan = Plan::of_record(&record, (PathBuf::from("/depot"), Vec::new()), PathBuf::from("/state")).unwrap();
    plan.parts = spec.part.iter().map(|part| PlannedPart::of(part.clone()).unwrap()).collect();
    plan
}

fn hold(number: usize, (drained, entered, released): (bool, bool, bool)) -> String {
    let probe = |key: &str, said: bool| {
        if said { format!("{key} = {{ run = [\"ask\", \"{key}\"] }}\n") } else { String::new() }
    };
    format!(
        "[[app.app.hold]]\nname = \"hold {number}\"\nenter = {{ run = [\"enter\"] }}\nrelease = {{ run = [\"release\"] }}\n{}{}{}",
        probe("drained", drained),
        probe("entered", entered),
        probe("released", released)
    )
}

fn part(number: usize, (kind, when, precopy): (u8, u8, bool)) -> String {
    let source = match kind {
        0 => "files = [\"/srv/docs\"]".to_owned(),
        1 => "sqlite = \"/srv/till.db\"".to_owned(),
        2 => "command = [\"print\"]".to_owned(),
        3 => "export = { script = \"x > $GULLET_SCRATCH/x\" }\nstable = { fact = \"serial\", run = [\"serial\"] }"
            .to_owned(),
        _ => "outside = { begin = { run = [\"begin\"] }, done = { run = [\"done\"] } }".to_owned(),
    };
    let when = ["before", "held", "after"][usize::from(when)];
    let precopy = if precopy && kind == 0 { "precopy = true\n" } else { "" };
    format!("[[app.app.part]]\nname = \"part {number}\"\nwhen = \"{when}\"\n{precopy}{source}\n")
}

proptest! {
    /// The names of what is shown are those of the sequence's tasks, in the same order; nothing else is shown, and nothing is
    /// left out but what has nothing to do.
    #[test]
    fn a_plan_shows_what_the_sequence_does(
        holds in prop::collection::vec(any::<(bool, bool, bool)>(), 0..3),
        parts in prop::collection::vec((0u8..5, 0u8..3, any::<bool>()), 1..4),
        hooks in any::<[bool; 6]>(),
        method in 0usize..4,
    ) {
        let method = ["auto", "stream", "snapshot", "copy"][method];
        let mut text = format!("[app.app]\ncapture_method = \"{method}\"\n");
        let moments = ["before", "held", "released", "succeeded", "failed", "finished"];
        for (moment, said) in moments.iter().zip(hooks) {
            if said {
                text += &format!("hooks.{moment} = [{{ run = [\"{moment}\"] }}]\n");
            }
        }
        text.extend(holds.iter().enumerate().map(|(number, said)| hold(number, *said)));
        text.extend(parts.iter().enumerate().map(|(number, said)| part(number, *said)));
        let plan = plan_of(&text);
        let mut shown: Vec<_> = steps(&plan).into_iter().map(|step| (step.kind.unwrap(), step.about)).collect();
        shown.dedup();
        let failed = (StepKind::Hooks, Some("failed".to_owned()));
        prop_assert_eq!(shown.contains(&failed), hooks[4]);
        shown.retain(|step| *step != failed);
        let has_nothing = |task: &Task| match task {
            Task::Hooks(moment) => plan.spec.hooks.at(*moment).is_empty(),
            // Where there is no probe the state is not asked.
            Task::ProbeInitialState(step) => !holds[*step].1 && !holds[*step].2,
            _ => false,
        };
        let tasks = Sequence::faultless(Shape::of(&plan));
        let done: Vec<_> = tasks.iter().filter(|task| !has_nothing(task)).map(|task| name(&plan, *task)).collect();
        prop_assert_eq!(shown, done);
    }
}
