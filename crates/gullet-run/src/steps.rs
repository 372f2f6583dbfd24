//! The plan as a person reads it: one line for each step, in the order in which they happen.

use std::time::Duration;

use serde::Serialize;

use gullet_capture::plan::{Plan, PlannedPart};
use gullet_host::hook::Limits;
use gullet_model::definition::HookMoment;
use gullet_model::definition::{CaptureMethod, CommandSpec, OneOrMany, PartKind, Probe, Span, When, command_text};

/// One step, to be shown.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct PlanStep {
    /// When.
    pub when: &'static str,
    /// What.
    pub what: String,
    /// The command, where there is one, as it will be executed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub command: Option<String>,
    /// Limits and conditions.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub condition: Option<String>,
}

/// All steps in the order of their execution.
pub fn steps(plan: &Plan) -> Vec<PlanStep> {
    let mut steps = Vec::new();
    for require in &plan.spec.require {
        steps.push(probe_step("preflight", format!("require: {}", require.name), &require.probe, None));
    }
    let location = plan.store.display();
    steps
        .push(plain("preflight", format!("the store `{}` at {location} is there and can be written", plan.store_name)));
    hook_steps(plan, &mut steps, HookMoment::Before);
    ready_steps(plan, &mut steps);
    for step in &plan.spec.hold {
        let probes = step.released.as_ref().or(step.entered.as_ref());
        if let Some(probes) = probes {
            probe_steps(&mut steps, "before", format!("{}: state found", step.name), probes, None);
        }
    }
    for step in &plan.spec.hold {
        let command = |what, command: &Option<CommandSpec>, limit| {
            command.as_ref().map(|spec| command_step("hold", format!("{}: {what}", step.name), spec, limit))
        };
        if let Some(lock) = &step.lock {
            steps.push(plain("hold", format!("{}: wait for the lock `{lock}`, which applications share", step.name)));
        }
        steps.extend(command("enter", &step.enter, Limits::HOOK));
        steps.extend(command("open a session that holds it", &step.session, Limits::HOOK));
        if let Some(probes) = &step.drained {
            let within = Some(Limits::SETTLED);
            probe_steps(&mut steps, "hold", format!("{}: wait until drained", step.name), probes, within);
        }
        if let Some(probes) = &step.entered {
            let within = Some(Limits::WITHIN);
            probe_steps(&mut steps, "hold", format!("{}: prove it is held", step.name), probes, within);
        }
    }
    hook_steps(plan, &mut steps, HookMoment::Held);
    if plan.spec.hold.is_empty() {
        steps.extend(plan.parts.iter().flat_map(|part| part_steps(part, "capture")));
    } else {
        snapshot_steps(plan, &mut steps);
        steps.extend(parts_at(plan, When::Held).flat_map(|part| part_steps(part, "held")));
    }
    for step in &plan.spec.hold {
        if let Some(probes) = &step.entered {
            probe_steps(&mut steps, "held", format!("{}: prove it is still held", step.name), probes, None);
        }
    }
    for step in plan.spec.hold.iter().rev() {
        if step.session.is_some() {
            steps.push(plain("release", format!("{}: close the session", step.name)));
        }
        if let Some(leave) = &step.release {
            steps.push(command_step("release", format!("{}: release", step.name), leave, Limits::HOOK));
        }
        if let Some(probes) = &step.released {
            let within = Some(Limits::WITHIN);
            probe_steps(&mut steps, "release", format!("{}: prove it serves", step.name), probes, within);
        }
    }
    hook_steps(plan, &mut steps, HookMoment::Released);
    if !plan.spec.hold.is_empty() {
        steps.extend(parts_at(plan, When::After).flat_map(|part| part_steps(part, "released")));
    }
    if let Some(hooks) = &plan.spec.snapshot {
        let what = "remove the snapshot".to_owned();
        steps.push(command_step("store", what, &hooks.remove, Limits::HOOK));
    }
    steps.push(plain("store", format!("store what is new in {location}, make it durable, read it back")));
    steps.push(plain("record", "write the record; nothing earlier is changed or removed".to_owned()));
    for moment in [HookMoment::Succeeded, HookMoment::Failed, HookMoment::Finished] {
        if moment != HookMoment::Succeeded || !plan.is_partial() {
            hook_steps(plan, &mut steps, moment);
        }
    }
    steps
}

fn parts_at(plan: &Plan, when: When) -> impl Iterator<Item = &PlannedPart> {
    plan.parts.iter().filter(move |part| part.spec.when.unwrap_or_default() == when)
}

/// What makes the hold short, before it.
fn ready_steps(plan: &Plan, steps: &mut Vec<PlanStep>) {
    if plan.spec.hold.is_empty() {
        return;
    }
    steps.push(plain("before", "sync the sources, and find out how they can be captured".to_owned()));
    for part in plan.parts.iter().filter(|part| part.spec.precopy) {
        let mut step = plain("before", format!("copy {} once, so that the hold has less to do", part.name));
        step.condition = Some(part.source_text());
        steps.push(step);
    }
    steps.extend(parts_at(plan, When::Before).flat_map(|part| part_steps(part, "before")));
}

fn snapshot_steps(plan: &Plan, steps: &mut Vec<PlanStep>) {
    match (&plan.spec.snapshot, plan.secure()) {
        (Some(hooks), _) => {
            steps.push(command_step("held", "make the snapshot".to_owned(), &hooks.make, Limits::HOOK));
        }
        (None, CaptureMethod::Snapshot) => steps.push(plain("held", "make a snapshot of the sources".to_owned())),
        (None, CaptureMethod::Auto) => {
            let what =
                "capture the sources: by a snapshot where they can have one, else by a clone or a copy".to_owned();
            steps.push(plain("held", what));
        }
        (None, CaptureMethod::Copy) => {
            steps.push(plain("held", "clone or copy the sources, to store them later".to_owned()));
        }
        (None, CaptureMethod::Stream) => {}
    }
}

fn hook_steps(plan: &Plan, steps: &mut Vec<PlanStep>, moment: HookMoment) {
    for hook in plan.spec.hooks.at(moment) {
        let mut step = command_step(moment.word(), "hook".to_owned(), &hook.command, Limits::HOOK);
        if !hook.needs.is_empty() {
            let needs = format!("needs {}", hook.needs.join(", "));
            step.condition = Some(step.condition.map_or(needs.clone(), |limit| format!("{limit}, {needs}")));
        }
        steps.push(step);
    }
}

fn part_steps(part: &PlannedPart, when: &'static str) -> Vec<PlanStep> {
    let mut steps = Vec::new();
    let with_each =
        |spec: &CommandSpec| CommandSpec { run: spec.run.as_ref().map(|run| part.filled(run)), ..spec.clone() };
    let steady = part.spec.stable.as_ref().map(|steady| {
        let what = format!("{}: fact `{}`, before and after", part.name, steady.fact);
        command_step(when, what, &with_each(&steady.command), Limits::PROBE)
    });
    steps.extend(steady);
    let kind = part.spec.kind();
    let must = if part.spec.required { ", required" } else { "" };
    let mut capture = plain(when, format!("capture {} ({}{must})", part.name, kind.word()));
    match kind {
        PartKind::Files | PartKind::Sqlite | PartKind::Postgres | PartKind::Mariadb => {
            capture.condition = Some(part.source_text());
        }
        PartKind::Command | PartKind::Export => capture.command = Some(part.source_text()),
        PartKind::Http | PartKind::Outside => {}
    }
    steps.push(capture);
    service_steps(part, when, &mut steps);
    for (fact, command) in &part.spec.facts {
        let what = format!("{}: fact `{fact}`", part.name);
        steps.push(command_step(when, what, &with_each(command), Limits::PROBE));
    }
    steps
}

/// The steps of what stands for a service, one by one.
fn service_steps(part: &PlannedPart, when: &'static str, steps: &mut Vec<PlanStep>) {
    let name = &part.name;
    if let Some(http) = &part.spec.http {
        steps.extend(http.ask.iter().map(|ask| command_step(when, format!("{name}: ask for it"), ask, Limits::HOOK)));
        if let Some(ready) = &http.ready {
            probe_steps(steps, when, format!("{name}: wait until it is ready"), ready, Some(Limits::SETTLED));
        }
        steps.push(command_step(when, format!("{name}: fetch it"), &http.fetch, Limits::EXPORT));
    }
    if let Some(outside) = &part.spec.outside {
        steps.push(command_step(when, format!("{name}: begin it"), &outside.begin, Limits::HOOK));
        if let Some(begun) = &outside.begun {
            probe_steps(steps, when, format!("{name}: its moment is fixed"), begun, Some(Limits::WITHIN));
        }
        let wait = format!("{name}: wait until it is complete");
        probe_steps(steps, "store", wait, &outside.done, Some(Limits::EXPORT));
        if let Some(check) = &outside.check {
            probe_steps(steps, "store", format!("{name}: prove that it is there"), check, Some(Limits::WITHIN));
        }
    }
}

fn plain(when: &'static str, what: String) -> PlanStep {
    PlanStep { when, what, command: None, condition: None }
}

fn command_step(when: &'static str, what: String, command: &CommandSpec, limit: Duration) -> PlanStep {
    let limit = command.limit.unwrap_or(Span(limit));
    let tries = command.tries.filter(|tries| *tries > 1).map(|tries| format!(", {tries} tries")).unwrap_or_default();
    let condition = Some(format!("limit {limit}{tries}"));
    PlanStep { when, what, command: Some(command_text(command)), condition }
}

fn probe_steps(
    steps: &mut Vec<PlanStep>,
    when: &'static str,
    what: String,
    probes: &OneOrMany<Probe>,
    within: Option<Duration>,
) {
    steps.extend(probes.all().iter().map(|probe| probe_step(when, what.clone(), probe, within)));
}

fn probe_step(when: &'static str, what: String, probe: &Probe, within: Option<Duration>) -> PlanStep {
    let mut wants: Vec<String> = Vec::new();
    wants.extend(probe.prints.as_ref().map(|text| format!("prints {text:?}")));
    wants.extend(probe.contains.as_ref().map(|text| format!("contains {text:?}")));
    wants.extend(probe.matches.as_ref().map(|text| format!("matches {text:?}")));
    wants.extend(probe.every_line.as_ref().map(|text| format!("every line matches {text:?}")));
    wants.extend(probe.json.iter().map(|(pointer, value)| format!("{pointer} is {value}")));
    wants.extend(probe.status.map(|status| format!("status {status}")));
    wants.extend(match &probe.exit {
        Some(gullet_model::definition::ExitWanted::Code(code)) => Some(format!("exits with {code}")),
        Some(gullet_model::definition::ExitWanted::Word(_)) => None,
        None if wants.is_empty() && probe.command.asked().is_some() => Some("status 200 to 299".to_owned()),
        None if wants.is_empty() => Some("exits with 0".to_owned()),
        None => None,
    });
    let within = within.map(|usual| probe.within.unwrap_or(Span(usual)));
    wants.extend(within.map(|within| format!("within {within}")));
    let condition = Some(wants.join(", ")).filter(|text| !text.is_empty());
    PlanStep { when, what, command: Some(command_text(&probe.command)), condition }
}
