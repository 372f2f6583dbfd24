//! What `gullet restore --in-place` shows: its plan, its steps, what came of it.

use gullet_restore::restore::place::{PlacePlan, PlaceReport, PlaceStep, RestoreMethod};
use jiff::Timestamp;

use crate::table::table;
use crate::text::{ago, duration, harmless, size, time};
use crate::ui::{BAD, BOLD, DIM, GOOD, Ui, WARN, outcome, step as step_line, styled};

pub(super) fn show_step(ui: &mut Ui, step: &PlaceStep) {
    if !ui.is_json() && !ui.is_quiet() {
        ui.say(step_line(step.ok, &step.what, step.took_ms, &step.note));
    }
}

pub(super) fn show_plan(ui: &mut Ui, plan: &PlacePlan, now: Timestamp) {
    let from = format!("{} from run {} ({})", plan.app, plan.run, outcome(plan.outcome));
    ui.say(format!("{}: {from}", styled(BOLD, "restore in place")));
    let age = ago(plan.as_of, now);
    ui.say(format!("as it was at {}, {age}: what was written since then is not in it", time(plan.as_of)));
    let rows = plan.parts.iter().map(|part| {
        let how = match &part.way {
            RestoreMethod::Files { roots } => {
                format!(
                    "replaces {}",
                    roots.iter().map(|root| root.display().to_string()).collect::<Vec<_>>().join(", ")
                )
            }
            RestoreMethod::Command { command, stopped } => {
                let when = if *stopped { "while it is stopped" } else { "when it is started" };
                format!("by a command, {when}: {command}")
            }
            RestoreMethod::Import { server } => format!("into {server}, where none of it may be yet"),
            RestoreMethod::Within { other } => format!("with {other}, which has all of it"),
            RestoreMethod::ByHand => "by hand: it is put into a folder of its own".to_owned(),
        };
        vec![harmless(&part.part), part.files.to_string(), size(part.bytes), harmless(&how)]
    });
    let missing = plan.missing.iter().map(|(part, why)| {
        vec![harmless(part), String::new(), String::new(), styled(BAD, harmless(&format!("✗ missing: {why}")))]
    });
    let outside = plan.outside.iter().map(|(part, id)| {
        vec![harmless(part), String::new(), String::new(), harmless(&format!("another system has it, by the id {id}"))]
    });
    ui.say(table(&["part", ">files", ">size", "how"], rows.chain(missing).chain(outside).collect()));
    for target in plan.targets.iter().filter(|target| target.inside.is_some()) {
        let why = target.inside.as_deref().unwrap_or("");
        ui.say(format!(
            "  {}",
            harmless(&format!("what is in {} is swapped, not the folder: {why}", target.root.display()))
        ));
    }
    if !plan.leftovers.is_empty() {
        ui.say(styled(BOLD, "there now, and not in the run"));
        let rows = plan.leftovers.iter().map(|left| {
            let more = if left.count > left.paths.len() as u64 { ", …" } else { "" };
            let paths = left.paths.iter().map(|path| path.display().to_string()).collect::<Vec<_>>().join(", ");
            let what = if left.carried { "goes on" } else { "set aside" };
            vec![what.to_owned(), left.count.to_string(), harmless(&left.why), harmless(&format!("{paths}{more}"))]
        });
        ui.say(table(&["what becomes of it", ">paths", "why", "which"], rows.collect()));
    }
    ui.say(styled(BOLD, "steps"));
    for (when, what) in &plan.steps {
        ui.say(format!("  {:<26} {}", harmless(when), harmless(what)).trim_end());
    }
    if !plan.differences.is_empty() {
        ui.say(styled(BOLD, "to agree to"));
        for difference in &plan.differences {
            let mark = if difference.accepted { styled(GOOD, "✓") } else { styled(WARN, "!") };
            ui.say(format!("  {mark} {:<10} {}", difference.name, harmless(&difference.text)));
        }
    }
    if let Some(why) = &plan.no_hold {
        ui.warning(&format!("the parts are not from one point in time; the application is never held: {why}"));
    }
}

pub(super) fn show_report(ui: &mut Ui, plan: &PlacePlan, report: &PlaceReport) {
    for warning in &report.warnings {
        ui.warning(warning);
    }
    for (part, folder) in &report.by_hand {
        ui.warning(&format!("{part} is to be brought back by hand: it lies in {}", folder.display()));
    }
    for part in &report.parts {
        for problem in &part.problems {
            ui.complain(format!("{} {}", styled(BAD, "error:"), harmless(&format!("{}: {problem}", part.part))));
        }
    }
    let app = &plan.app;
    match &report.failed {
        None => {
            if !report.after.is_empty() && !ui.is_quiet() {
                ui.say(styled(BOLD, "to do by hand"));
                for after in &report.after {
                    let text =
                        if after.is_lack { format!("it does not carry {}", after.text) } else { after.text.clone() };
                    let (mark, more) = match &after.done {
                        None => ("-".to_owned(), String::new()),
                        Some(Ok(())) => (styled(GOOD, "✓"), String::new()),
                        Some(Err(why)) => (styled(WARN, "!"), format!("  {}", styled(DIM, harmless(&why.to_string())))),
                    };
                    ui.say(format!("  {mark} {}{more}", harmless(&format!("{}: {text}", after.part))));
                }
            }
            let stopped = report.stopped_ms.map(|ms| format!("; stopped for {}", duration(ms))).unwrap_or_default();
            ui.say(format!("{}{stopped}", outcome(report.outcome)));
            if report.kept_in.is_empty() {
                ui.tell("nothing was set aside: what commands brought back cannot be undone");
            } else {
                ui.tell(format!(
                    "the old state is kept; gullet restore {app} --discard-old removes it, --undo puts it back"
                ));
            }
        }
        Some(why) => {
            ui.complain(format!("{} {}", styled(BAD, "error:"), harmless(why)));
            let state = match (report.went_back, report.outcome) {
                (_, gullet_model::Outcome::NotReleased) => "the application is not started",
                (true, _) => "the old state is in place again",
                (false, _) => "the old state is in place",
            };
            ui.say(format!("{}; {state}", outcome(report.outcome)));
            if let Some(by_hand) = plan_by_hand(plan).filter(|_| report.outcome == gullet_model::Outcome::NotReleased) {
                ui.hint(&by_hand);
            }
            if report.is_ready {
                ui.hint(&format!(
                    "the new state lies ready: gullet restore {app} --continue tries again, --undo removes it"
                ));
            } else if report.went_back {
                ui.hint(&format!(
                    "what was written while it was started is kept: gullet restore {app} --continue --yes writes the new state \
                     anew and tries again, --undo --yes removes it"
                ));
            }
        }
    }
}

fn plan_by_hand(plan: &PlacePlan) -> Option<String> {
    plan.by_hand().map(str::to_owned)
}
