//! A plan: as a text that says all that a run would do and nothing that is measured, so that it can be kept and compared; and its
//! steps one by one.

use std::time::Duration;

use anstyle::Style;
use gullet_capture::kinds::source_text;
use gullet_capture::plan::{Plan, PlannedPart};
use gullet_model::definition::{Nature, Span, shell_words};
use gullet_model::step::StepKind;
use gullet_run::steps::{PlanStep, PlannedCommand, steps};

use crate::table::pairs;
use crate::text::{count, harmless};
use crate::ui::{BAD, BOLD, DIM, styled};

/// What people call the application of a plan.
pub fn plan_title(plan: &Plan) -> String {
    plan.spec.title.as_ref().map_or_else(|| plan.app.clone(), |title| format!("{title} ({})", plan.app))
}

/// Everything that a run would do. The same definition and the same parts give the same text, whatever there is to capture.
pub fn full_plan(plan: &Plan) -> String {
    let mut lines = vec![styled(BOLD, harmless(&plan_title(plan)))];
    let mut about = vec![("store", harmless(&format!("{} at {}", plan.store_name, plan.store.display())))];
    about.push(("hold", harmless(&hold_text(plan))));
    about.extend(plan.spec.log.map(|log| ("its logs", log.word().to_owned())));
    lines.push(pairs(&about));
    lines.extend([String::new(), styled(BOLD, "parts")]);
    lines.extend(plan.parts.iter().flat_map(part_lines).map(|line| harmless(&line)));
    lines.extend(plan.not_asked_for.iter().map(|name| harmless(&format!("  {name}: not asked for"))));
    lines.extend([String::new(), styled(BOLD, "steps")]);
    lines.extend(merged(steps(plan)).iter().flat_map(|step| step_lines(None, step, true)));
    lines.join("\n")
}

/// A part, and what the definition says about it that no step shows.
fn part_lines(part: &PlannedPart) -> Vec<String> {
    let (spec, kind) = (&part.spec, part.source.kind());
    let required = if spec.required { ", required" } else { "" };
    let mut lines = vec![format!("  {}: {}{required}", part.name, kind.word())];
    let mut say = |name: &str, value: String| lines.push(format!("    {name} {value}"));
    if !matches!(kind.nature(), Nature::Export | Nature::Elsewhere) {
        say("from", source_text(part));
    }
    let lists = [("include", &spec.include), ("exclude", &spec.exclude), ("must contain", &spec.must_contain)];
    for (name, list) in lists.into_iter().chain([("does not carry", &spec.omits)]).filter(|(_, list)| !list.is_empty())
    {
        say(name, list.join(", "));
    }
    lines
}

pub fn hold_text(plan: &Plan) -> String {
    match &plan.spec.no_hold {
        None if plan.spec.hold.is_empty() => {
            let why = plan.spec.self_consistent.as_deref().unwrap_or("it has no hold step");
            format!("none needed, its export is consistent by itself: {}", harmless(why))
        }
        Some(why) => format!("none, so the parts will not be from one point in time: {}", harmless(why)),
        None => {
            let names: Vec<&str> = plan.spec.hold.iter().map(|step| step.name.as_str()).collect();
            let limit = Span(plan.longest_hold());
            format!("{} (backup mode), for {limit} at most", names.join(", then "))
        }
    }
}

/// Names beyond this many columns are counted instead.
const NAMES_WIDTH: usize = 60;

/// Steps without a command that do the same with several parts as one line.
pub fn merged(steps: Vec<PlanStep>) -> Vec<PlanStep> {
    let mut merged: Vec<(PlanStep, Vec<String>)> = Vec::new();
    let is_plain = |step: &PlanStep| step.command.is_none() && step.detail.is_none() && step.about.is_some();
    for step in steps {
        let names = Vec::from_iter(step.about.clone());
        match merged.last_mut().filter(|(last, _)| is_plain(last) && is_plain(&step)) {
            Some((last, all)) if (last.when, last.kind, &last.what) == (step.when, step.kind, &step.what) => {
                all.extend(names);
            }
            _ => merged.push((step, names)),
        }
    }
    let named = |(step, names): (PlanStep, Vec<String>)| {
        let all = names.join(", ");
        let about = if all.chars().count() > NAMES_WIDTH { count(names.len() as u64, "part") } else { all };
        PlanStep { about: step.about.is_some().then_some(about), ..step }
    };
    merged.into_iter().map(named).collect()
}

/// A step of a run: what it does, and below it the command that it executes.
pub fn step_lines(number: Option<usize>, step: &PlanStep, full: bool) -> Vec<String> {
    let mut conditions: Vec<String> = step.command.iter().map(PlannedCommand::conditions).collect();
    conditions.extend(step.detail.clone());
    conditions.retain(|text| !text.is_empty());
    let conditions = match conditions.as_slice() {
        [] => String::new(),
        conditions => styled(DIM, format!("  [{}]", harmless(&conditions.join(", ")))),
    };
    let is_hook = step.kind == Some(StepKind::Hooks);
    let about = step.about.as_ref().filter(|_| !is_hook).map(|about| format!("{about}: ")).unwrap_or_default();
    let number = number.map_or_else(String::new, |number| format!("{number:>3}"));
    let what = harmless(&format!("{about}{}", step.what));
    let mut all = vec![format!("{number}  {:<10} {what}{conditions}", step.when)];
    if let Some(command) = &step.command {
        let lines = command_lines(command, full);
        all.extend(lines.into_iter().map(|(style, line)| format!("{:16} {}", "", styled(style, harmless(&line)))));
    }
    all
}

/// A command, with all that it is executed with where everything is asked for.
fn command_lines(command: &PlannedCommand, full: bool) -> Vec<(Style, String)> {
    let mut all: Vec<(Style, String)> = command.problem.iter().map(|problem| (BAD, problem.clone())).collect();
    let mut say = |line: String| all.push((DIM, line));
    if !full {
        say(format!("$ {}", command.text));
        return all;
    }
    say(format!("$ {}", if command.argv.is_empty() { command.text.clone() } else { shell_words(&command.argv) }));
    for line in command.script.iter().chain(&command.body).flat_map(|text| text.lines()) {
        say(format!("  | {line}"));
    }
    let limit = format!("limit {}", Span(Duration::from_millis(command.limit_ms)));
    let mut more = Vec::from_iter(command.expects.is_some().then_some(limit));
    more.extend(command.dir.as_ref().map(|dir| format!("in {}", dir.display())));
    more.extend((!command.env.is_empty()).then(|| format!("variables {}", command.env.join(", "))));
    if !more.is_empty() {
        say(format!("  ({})", more.join(", ")));
    }
    all
}
