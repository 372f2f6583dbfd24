//! The steps of a run: their names, their order and what each will do.
//!
//! The order is that of the [`Sequence`], asked here as if nothing went wrong; the driver performs it, the record names it
//! by [`name`], and `plan` shows what [`steps`] says of each task. Nothing else says which steps a run has.

mod command;

use std::time::Duration;

use serde::Serialize;

use crate::sequence::{Sequence, Shape, Task};
use gullet_capture::kinds::{self, KindCommand, KindStep, KindSteps};
use gullet_capture::plan::{Plan, PlannedPart};
use gullet_host::hook::Limits;
use gullet_model::definition::{CaptureMethod, CommandSpec, HoldStep, HookMoment, OneOrMany, Probe, When};
use gullet_model::step::StepKind;

pub use command::PlannedCommand;

/// One line of a plan: a step, or one command of a step.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct PlanStep {
    /// The time of the run at which it happens, in words.
    pub when: &'static str,
    /// Which step, as the record will name it; none for what is asked before the run begins.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kind: Option<StepKind>,
    /// The hold step, the part or the moment that it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub about: Option<String>,
    /// What is done.
    pub what: String,
    /// The command, where there is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub command: Option<PlannedCommand>,
    /// The source, or a condition.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
}

/// What a task is called in the record: its kind, and the hold step, the part or the moment that it is about.
pub fn name(plan: &Plan, task: Task) -> (StepKind, Option<String>) {
    let step = |number: usize| Some(plan.spec.hold[number].name.clone());
    let part = |number: usize| Some(plan.parts[number].name.clone());
    match task {
        Task::Preflight => (StepKind::Preflight, None),
        Task::Hooks(moment) => (StepKind::Hooks, Some(moment.word().to_owned())),
        Task::Prepare => (StepKind::Prepare, None),
        Task::Precopy(number) => (StepKind::Precopy, part(number)),
        Task::ProbeInitialState(number) => (StepKind::ProbeInitialState, step(number)),
        Task::Enter(number) => (StepKind::Enter, step(number)),
        Task::Drain(number) => (StepKind::Drain, step(number)),
        Task::Prove(number) => (StepKind::Prove, step(number)),
        Task::Snapshot => (StepKind::Snapshot, None),
        Task::Capture(number) => (StepKind::Capture, part(number)),
        Task::CheckNoWrites(number) => (StepKind::CheckNoWrites, part(number)),
        Task::ProveAgain(number) => (StepKind::ProveAgain, step(number)),
        Task::Release(number) => (StepKind::Release, step(number)),
        Task::ProveReleased(number) => (StepKind::ProveReleased, step(number)),
        Task::Store(number) => (StepKind::Store, part(number)),
        Task::CleanUp => (StepKind::CleanUp, None),
        Task::Finish => (StepKind::Finish, None),
        Task::ReadBack => (StepKind::ReadBack, None),
        Task::Commit => (StepKind::Commit, None),
    }
}

/// All steps of a run in which nothing goes wrong, in the order of their execution, and the hooks of a run in which
/// something does.
pub fn steps(plan: &Plan) -> Vec<PlanStep> {
    let mut steps = Vec::new();
    for part in &plan.spec.part {
        if let Some(each) = &part.each {
            let command = Some(PlannedCommand::new(&each.command, Limits::PROBE));
            let (about, what) = (Some(part.name.clone()), "ask which there are".to_owned());
            steps.push(PlanStep { when: "plan", kind: None, about, what, command, detail: None });
        }
    }
    for task in Sequence::faultless(Shape::of(plan)) {
        if task == Task::Hooks(HookMoment::Finished) {
            TaskSteps::of(plan, Task::Hooks(HookMoment::Failed), &mut steps);
        }
        TaskSteps::of(plan, task, &mut steps);
    }
    steps.extend(plan.copies.iter().map(|copy| {
        let place = &copy.spec.location;
        let what = format!("send what is new to the copy `{}` at {place}, and check it there", copy.name);
        PlanStep { when: "copy", kind: None, about: None, what, command: None, detail: None }
    }));
    steps
}

/// When a task happens, in a word.
fn moment(plan: &Plan, task: Task) -> &'static str {
    match task {
        Task::Preflight => "preflight",
        Task::Hooks(moment) => moment.word(),
        Task::Prepare | Task::Precopy(_) | Task::ProbeInitialState(_) => "before",
        Task::Enter(_) | Task::Drain(_) | Task::Prove(_) => "hold",
        Task::Capture(_) if plan.spec.hold.is_empty() => "capture",
        Task::Capture(number) => match plan.parts[number].spec.when.unwrap_or_default() {
            When::Before => "before",
            When::Held => "held",
            When::After => "released",
        },
        Task::Snapshot | Task::CheckNoWrites(_) | Task::ProveAgain(_) => "held",
        Task::Release(_) | Task::ProveReleased(_) => "release",
        Task::Store(_) | Task::CleanUp | Task::Finish | Task::ReadBack => "store",
        Task::Commit => "record",
    }
}

/// Collects the lines of one task.
struct TaskSteps<'s> {
    when: &'static str,
    kind: StepKind,
    about: Option<String>,
    steps: &'s mut Vec<PlanStep>,
}

impl TaskSteps<'_> {
    /// Adds what a task will do.
    fn of(plan: &Plan, task: Task, steps: &mut Vec<PlanStep>) {
        let (kind, about) = name(plan, task);
        let mut lines = TaskSteps { when: moment(plan, task), kind, about, steps };
        let hold = |number: usize| &plan.spec.hold[number];
        match task {
            Task::Preflight => lines.preflight(plan),
            Task::Hooks(moment) => lines.hooks(plan, moment),
            Task::Prepare => lines.plain("sync the sources, and find out how they can be captured"),
            Task::Precopy(number) => {
                let source = Some(kinds::source_text(&plan.parts[number]));
                lines.line("copy it once, so that the hold has less to do", None, source);
            }
            Task::ProbeInitialState(number) => {
                lines.probes("does it serve?", hold(number).released.as_ref(), None);
                lines.probes("or is it held already?", hold(number).entered.as_ref(), None);
            }
            Task::Enter(number) => lines.enter(hold(number)),
            Task::Drain(number) => {
                lines.probes("wait until drained", hold(number).drained.as_ref(), Some(Limits::SETTLED));
            }
            Task::Prove(number) => {
                lines.probes("prove it is held", hold(number).entered.as_ref(), Some(Limits::WITHIN));
                lines.opposite("prove it does not serve", hold(number).released.as_ref());
            }
            Task::Snapshot => lines.snapshot(plan),
            Task::Capture(number) => lines.part(&plan.parts[number]),
            Task::CheckNoWrites(_) => lines.plain("check that nothing was written since the capture"),
            Task::ProveAgain(number) => lines.probes("prove it is still held", hold(number).entered.as_ref(), None),
            Task::Release(number) => lines.release(hold(number)),
            Task::ProveReleased(number) => {
                lines.probes("prove it serves", hold(number).released.as_ref(), Some(Limits::WITHIN));
            }
            Task::Store(number) => lines.store(&plan.parts[number]),
            Task::CleanUp => {
                let remove = plan.spec.snapshot.as_ref().map(|hooks| &hooks.remove);
                lines.commands("remove the snapshot", remove, Limits::HOOK);
                lines.plain("remove snapshots and copies that the run made of the sources");
            }
            Task::Finish => lines.plain(&format!("make what is new durable in {}", plan.store.display())),
            Task::ReadBack => lines.plain("read back and compare what was stored"),
            Task::Commit => lines.plain("write the record; nothing earlier is changed or removed"),
        }
    }

    fn line(&mut self, what: &str, command: Option<PlannedCommand>, detail: Option<String>) {
        let (when, kind, about) = (self.when, Some(self.kind), self.about.clone());
        self.steps.push(PlanStep { when, kind, about, what: what.to_owned(), command, detail });
    }

    fn plain(&mut self, what: &str) {
        self.line(what, None, None);
    }

    fn commands<'c>(&mut self, what: &str, commands: impl IntoIterator<Item = &'c CommandSpec>, limit: Duration) {
        for command in commands {
            self.line(what, Some(PlannedCommand::new(command, limit)), None);
        }
    }

    fn probes(&mut self, what: &str, probes: Option<&OneOrMany<Probe>>, within: Option<Duration>) {
        for probe in probes.into_iter().flat_map(OneOrMany::all) {
            self.line(what, Some(PlannedCommand::probe(probe, Limits::PROBE, within)), None);
        }
    }

    /// Probes of which one must not pass.
    fn opposite(&mut self, what: &str, probes: Option<&OneOrMany<Probe>>) {
        for probe in probes.into_iter().flat_map(OneOrMany::all) {
            let mut command = PlannedCommand::probe(probe, Limits::PROBE, None);
            command.expects = command.expects.map(|expects| format!("not: {expects}"));
            self.line(what, Some(command), None);
        }
    }

    fn preflight(&mut self, plan: &Plan) {
        let location = plan.store.display();
        self.plain(&format!("the store `{}` at {location} is there and can be written", plan.store_name));
        for require in &plan.spec.require {
            let command = PlannedCommand::probe(&require.probe, Limits::PROBE, None);
            self.line(&format!("require: {}", require.name), Some(command), None);
        }
        for part in &plan.parts {
            if kinds::steps(part).asks_server {
                self.plain(&format!("the server of {} answers, and its user may do what is needed", part.name));
            }
        }
    }

    fn hooks(&mut self, plan: &Plan, moment: HookMoment) {
        for hook in plan.spec.hooks.at(moment) {
            let needs = (!hook.needs.is_empty()).then(|| format!("needs {}", hook.needs.join(", ")));
            self.line("hook", Some(PlannedCommand::new(&hook.command, Limits::HOOK)), needs);
        }
    }

    fn enter(&mut self, step: &HoldStep) {
        if let Some(lock) = &step.lock {
            self.plain(&format!("wait for the lock `{lock}`, which applications share"));
        }
        self.commands("enter", &step.enter, Limits::HOOK);
        self.commands("open a session that holds it", &step.session, Limits::HOOK);
    }

    fn release(&mut self, step: &HoldStep) {
        if step.session.is_some() {
            self.plain("close the session");
        }
        self.commands("release", &step.release, Limits::HOOK);
    }

    fn snapshot(&mut self, plan: &Plan) {
        match (&plan.spec.snapshot, plan.secure()) {
            (Some(hooks), _) => self.commands("make the snapshot", [&hooks.make], Limits::HOOK),
            (None, CaptureMethod::Snapshot) => self.plain("make a snapshot of the sources"),
            (None, CaptureMethod::Auto) => self.plain("make a snapshot of the sources that can have one"),
            (None, CaptureMethod::Copy | CaptureMethod::Stream) => {}
        }
    }

    /// Everything that capturing a part runs, in order.
    fn part(&mut self, part: &PlannedPart) {
        let filled = |command: &CommandSpec| part.filled_command(command);
        let stable =
            part.spec.stable.as_ref().map(|stable| (filled(&stable.command), format!("fact `{}`", stable.fact)));
        if let Some((command, what)) = &stable {
            self.commands(&format!("{what}, before"), [command], Limits::PROBE);
        }
        let KindSteps { command, detail, capture, .. } = kinds::steps(part);
        let must = if part.spec.required { ", required" } else { "" };
        let what = format!("capture ({}{must})", part.source.kind().word());
        self.line(&what, command.map(|(command, limit)| PlannedCommand::new(&command, limit)), detail);
        self.of_kind(capture);
        if let Some((command, what)) = &stable {
            self.commands(&format!("{what}, after: it must be the same"), [command], Limits::PROBE);
        }
        for (fact, command) in &part.spec.facts {
            self.commands(&format!("fact `{fact}`"), [&filled(command)], Limits::PROBE);
        }
    }

    fn of_kind(&mut self, steps: Vec<KindStep>) {
        for KindStep { what, runs } in steps {
            match runs {
                KindCommand::Run(command, limit) => self.commands(what, [command.as_ref()], limit),
                KindCommand::Ask(probes, within) => self.probes(what, Some(&probes), Some(within)),
            }
        }
    }

    fn store(&mut self, part: &PlannedPart) {
        match kinds::steps(part).store {
            steps if steps.is_empty() => self.plain("store what is new"),
            steps => self.of_kind(steps),
        }
    }
}

#[cfg(test)]
mod tests;
