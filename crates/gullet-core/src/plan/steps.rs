//! The plan as a person reads it: one line for each step, in the order in which they happen.

use std::time::Duration;

use serde::Serialize;

use super::{Plan, PlannedPart};
use crate::definition::{CommandSpec, OneOrMany, PartKind, Probe, Secure, Span, When};
use crate::hook::Limits;
use crate::machine::Moment;

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

impl Plan {
    /// All steps in the order of their execution.
    pub fn steps(&self) -> Vec<PlanStep> {
        let mut steps = Vec::new();
        for require in &self.spec.require {
            steps.push(probe_step("preflight", format!("require: {}", require.name), &require.probe, None));
        }
        let location = self.store.display();
        steps.push(plain(
            "preflight",
            format!("the store `{}` at {location} is there and can be written", self.store_name),
        ));
        self.hook_steps(&mut steps, Moment::Before);
        self.ready_steps(&mut steps);
        for step in &self.spec.hold {
            let probes = step.left.as_ref().or(step.entered.as_ref());
            if let Some(probes) = probes {
                probe_steps(&mut steps, "look", format!("{}: state found", step.name), probes, None);
            }
        }
        for step in &self.spec.hold {
            let command = |what, command: &Option<CommandSpec>, limit| {
                command.as_ref().map(|spec| command_step("hold", format!("{}: {what}", step.name), spec, limit))
            };
            if let Some(lock) = &step.lock {
                steps.push(plain(
                    "hold",
                    format!("{}: wait for the lock `{lock}`, which applications share", step.name),
                ));
            }
            steps.extend(command("enter", &step.enter, Limits::HOOK));
            steps.extend(command("open a session that holds it", &step.session, Limits::HOOK));
            if let Some(probes) = &step.settled {
                let within = Some(Limits::SETTLED);
                probe_steps(&mut steps, "hold", format!("{}: wait until settled", step.name), probes, within);
            }
            if let Some(probes) = &step.entered {
                let within = Some(Limits::WITHIN);
                probe_steps(&mut steps, "hold", format!("{}: prove it is held", step.name), probes, within);
            }
        }
        self.hook_steps(&mut steps, Moment::Held);
        if self.spec.hold.is_empty() {
            steps.extend(self.parts.iter().flat_map(|part| part.steps("capture")));
        } else {
            self.snapshot_steps(&mut steps);
            steps.extend(self.parts_at(When::Held).flat_map(|part| part.steps("held")));
        }
        for step in &self.spec.hold {
            if let Some(probes) = &step.entered {
                probe_steps(&mut steps, "held", format!("{}: prove it is still held", step.name), probes, None);
            }
        }
        for step in self.spec.hold.iter().rev() {
            if step.session.is_some() {
                steps.push(plain("release", format!("{}: close the session", step.name)));
            }
            if let Some(leave) = &step.leave {
                steps.push(command_step("release", format!("{}: leave", step.name), leave, Limits::HOOK));
            }
            if let Some(probes) = &step.left {
                let within = Some(Limits::WITHIN);
                probe_steps(&mut steps, "release", format!("{}: prove it serves", step.name), probes, within);
            }
        }
        self.hook_steps(&mut steps, Moment::Released);
        if !self.spec.hold.is_empty() {
            steps.extend(self.parts_at(When::After).flat_map(|part| part.steps("released")));
        }
        if let Some(hooks) = &self.spec.snapshot {
            let what = "remove the snapshot".to_owned();
            steps.push(command_step("store", what, &hooks.remove, Limits::HOOK));
        }
        steps.push(plain("store", format!("store what is new in {location}, make it durable, read it back")));
        steps.push(plain("record", "write the record; nothing earlier is changed or removed".to_owned()));
        for moment in [Moment::Succeeded, Moment::Failed, Moment::Finished] {
            if moment != Moment::Succeeded || !self.is_partial() {
                self.hook_steps(&mut steps, moment);
            }
        }
        steps
    }

    fn parts_at(&self, when: When) -> impl Iterator<Item = &PlannedPart> {
        self.parts.iter().filter(move |part| part.spec.when.unwrap_or_default() == when)
    }

    /// What makes the hold short, before it.
    fn ready_steps(&self, steps: &mut Vec<PlanStep>) {
        if self.spec.hold.is_empty() {
            return;
        }
        steps.push(plain("before", "sync the sources, and find out how they can be secured".to_owned()));
        for part in self.parts.iter().filter(|part| part.spec.warm) {
            let mut step = plain("before", format!("copy {} once, so that the hold has less to do", part.name));
            step.condition = Some(part.source_text());
            steps.push(step);
        }
        steps.extend(self.parts_at(When::Before).flat_map(|part| part.steps("before")));
    }

    fn snapshot_steps(&self, steps: &mut Vec<PlanStep>) {
        match (&self.spec.snapshot, self.secure()) {
            (Some(hooks), _) => {
                steps.push(command_step("held", "make the snapshot".to_owned(), &hooks.make, Limits::HOOK));
            }
            (None, Secure::Snapshot) => steps.push(plain("held", "make a snapshot of the sources".to_owned())),
            (None, Secure::Auto) => {
                let what =
                    "secure the sources: by a snapshot where they can have one, else by a clone or a copy".to_owned();
                steps.push(plain("held", what));
            }
            (None, Secure::Stage) => {
                steps.push(plain("held", "clone or copy the sources, to store them later".to_owned()));
            }
            (None, Secure::Stream) => {}
        }
    }

    fn hook_steps(&self, steps: &mut Vec<PlanStep>, moment: Moment) {
        for hook in self.hooks(moment) {
            let mut step = command_step(moment.word(), "hook".to_owned(), &hook.command, Limits::HOOK);
            if !hook.needs.is_empty() {
                let needs = format!("needs {}", hook.needs.join(", "));
                step.condition = Some(step.condition.map_or(needs.clone(), |limit| format!("{limit}, {needs}")));
            }
            steps.push(step);
        }
    }
}

impl PlannedPart {
    fn steps(&self, when: &'static str) -> Vec<PlanStep> {
        let mut steps = Vec::new();
        let with_each =
            |spec: &CommandSpec| CommandSpec { run: spec.run.as_ref().map(|run| self.filled(run)), ..spec.clone() };
        let steady = self.spec.steady.as_ref().map(|steady| {
            let what = format!("{}: fact `{}`, before and after", self.name, steady.fact);
            command_step(when, what, &with_each(&steady.command), Limits::PROBE)
        });
        steps.extend(steady);
        let kind = self.spec.kind();
        let must = if self.spec.must { ", a must" } else { "" };
        let mut capture = plain(when, format!("capture {} ({}{must})", self.name, kind.word()));
        match kind {
            PartKind::Files | PartKind::Sqlite | PartKind::Postgres | PartKind::Mariadb => {
                capture.condition = Some(self.source_text());
            }
            PartKind::Command | PartKind::Export => capture.command = Some(self.source_text()),
            PartKind::Http | PartKind::Outside => {}
        }
        steps.push(capture);
        self.service_steps(when, &mut steps);
        for (fact, command) in &self.spec.facts {
            let what = format!("{}: fact `{fact}`", self.name);
            steps.push(command_step(when, what, &with_each(command), Limits::PROBE));
        }
        steps
    }

    /// The steps of what stands for a service, one by one.
    fn service_steps(&self, when: &'static str, steps: &mut Vec<PlanStep>) {
        let name = &self.name;
        if let Some(http) = &self.spec.http {
            steps.extend(
                http.ask.iter().map(|ask| command_step(when, format!("{name}: ask for it"), ask, Limits::HOOK)),
            );
            if let Some(ready) = &http.ready {
                probe_steps(steps, when, format!("{name}: wait until it is ready"), ready, Some(Limits::SETTLED));
            }
            steps.push(command_step(when, format!("{name}: fetch it"), &http.fetch, Limits::EXPORT));
        }
        if let Some(outside) = &self.spec.outside {
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
        Some(crate::definition::ExitWanted::Code(code)) => Some(format!("exits with {code}")),
        Some(crate::definition::ExitWanted::Word(_)) => None,
        None if wants.is_empty() && probe.command.asked().is_some() => Some("status 200 to 299".to_owned()),
        None if wants.is_empty() => Some("exits with 0".to_owned()),
        None => None,
    });
    let within = within.map(|usual| probe.within.unwrap_or(Span(usual)));
    wants.extend(within.map(|within| format!("within {within}")));
    let condition = Some(wants.join(", ")).filter(|text| !text.is_empty());
    PlanStep { when, what, command: Some(command_text(&probe.command)), condition }
}

/// A command as a person would type it.
pub fn command_text(command: &CommandSpec) -> String {
    if let Some((method, url)) = command.asked() {
        return format!("{method} {url}");
    }
    match (&command.run, &command.script) {
        (Some(run), _) => shell_words(run),
        (None, Some(script)) => {
            let interpreter =
                command.interpreter.clone().unwrap_or_else(|| vec!["/bin/sh".to_owned(), "-eu".to_owned()]);
            let first = script.lines().find(|line| !line.trim().is_empty()).unwrap_or("").trim();
            format!("{} <script: {first} …>", shell_words(&interpreter))
        }
        (None, None) => String::new(),
    }
}

/// Arguments joined so that a shell would read them apart again.
pub fn shell_words(words: &[String]) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_./:=@%+,{}".contains(c);
    let quote = |word: &String| {
        if !word.is_empty() && word.chars().all(plain) {
            word.clone()
        } else {
            format!("'{}'", word.replace('\'', "'\\''"))
        }
    };
    words.iter().map(quote).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn arguments_are_shown_so_that_they_can_be_typed() {
        let words = ["a b", "it's", "", "--x=1"].map(str::to_owned);
        assert_eq!(shell_words(&words), r"'a b' 'it'\''s' '' --x=1");
    }
}
