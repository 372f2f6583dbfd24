//! Parts that another system keeps, such as a snapshot on a storage appliance. The part's commands ask that system for a snapshot while
//! the application is held, wait until it is ready, and check it. Gullet stores none of its bytes, and never counts them as stored.

use std::collections::BTreeMap;

use super::{KindStep, KindSteps, SourceKind, probed};
use crate::part::context::{CaptureContext, PartError};
use crate::part::marks::MadeMarks;
use crate::part::produce;
use crate::part::staged::Staged;
use crate::plan::PlannedPart;
use gullet_host::hook::{Call, Limits};
use gullet_model::definition::{CommandSpec, Outside, command_text};
use gullet_model::record::{Capture, OutsideProof};

impl SourceKind for Outside {
    fn can_be_made_anew(&self) -> bool {
        false
    }

    fn describe(&self, _: &PlannedPart) -> String {
        command_text(&self.begin)
    }

    fn steps(&self, _: &PlannedPart) -> KindSteps {
        let mut capture = vec![KindStep::run("begin it", &self.begin, Limits::HOOK)];
        capture.extend(self.begun.iter().map(|begun| KindStep::ask("its moment is fixed", begun, Limits::WITHIN)));
        let mut store = vec![KindStep::ask("wait until it is complete", &self.done, Limits::EXPORT)];
        store.extend(self.check.iter().map(|check| KindStep::ask("prove that it is there", check, Limits::WITHIN)));
        KindSteps { capture, store, ..KindSteps::default() }
    }

    fn commands(&self) -> Vec<CommandSpec> {
        let probes = self.begun.iter().chain([&self.done]).chain(&self.check);
        [&self.begin].into_iter().chain(&self.remove).cloned().chain(probed(probes)).collect()
    }

    fn capture(
        &self,
        part: &PlannedPart,
        capture: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Box<dyn Staged>, PartError> {
        capture.outside = Some(begin(part, self, context)?);
        Ok(Box::new(Begun(self.clone())))
    }
}

/// What another system was asked to begin.
struct Begun(Outside);

impl Staged for Begun {
    fn store(
        &mut self,
        part: &PlannedPart,
        capture: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Option<MadeMarks>, PartError> {
        if let Some(proof) = &mut capture.outside {
            complete(part, &self.0, proof, context)?;
        }
        Ok(None)
    }

    /// Its bytes are not here.
    fn may_be_empty(&self) -> bool {
        true
    }
}

/// Begins it; gives its id.
fn begin(
    part: &PlannedPart,
    outside: &Outside,
    context: &mut CaptureContext<'_, '_>,
) -> Result<OutsideProof, PartError> {
    let call = Call { limit: Limits::HOOK, ..produce::call(part, context) };
    let outcome = context.runner.run(&outside.begin, call);
    let id = outcome.text.lines().next_back().unwrap_or("").trim().to_owned();
    produce::take(outcome, context)?;
    if id.is_empty() || id.chars().any(char::is_control) {
        return Err(PartError::failed("`begin` printed no id by which it could be found again"));
    }
    let requested_at = context.world.clock.now();
    if let Some(begun) = &outside.begun {
        let call = Call { values: values(part, &id), ..probing(part, context) };
        produce::wait_for(begun, call, Limits::WITHIN, context)
            .map_err(|error| PartError::failed(format!("{id}: its moment was not fixed: {error}")))?;
    }
    let fixed_at = context.world.clock.now();
    Ok(OutsideProof { id, requested_at, fixed_at, done: None, proof: None })
}

/// Waits until it is complete, and has it proven.
fn complete(
    part: &PlannedPart,
    outside: &Outside,
    proof: &mut OutsideProof,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(), PartError> {
    let call = Call { values: values(part, &proof.id), ..probing(part, context) };
    produce::wait_for(&outside.done, call, Limits::EXPORT, context)
        .map_err(|error| PartError::failed(format!("{}: it is not complete: {error}", proof.id)))?;
    proof.done = Some(context.world.clock.now());
    if let Some(check) = &outside.check {
        let call = Call { values: values(part, &proof.id), ..probing(part, context) };
        let outcome = context.runner.wait_for(check, &call, Limits::WITHIN);
        let text: String = outcome.text.chars().take(400).collect();
        produce::take(outcome, context)
            .map_err(|error| PartError::failed(format!("{}: it could not be proven: {error}", proof.id)))?;
        proof.proof = Some(text);
    }
    Ok(())
}

fn probing<'a>(part: &PlannedPart, context: &CaptureContext<'a, '_>) -> Call<'a> {
    Call { limit: Limits::PROBE, ..produce::call(part, context) }
}

fn values(part: &PlannedPart, id: &str) -> BTreeMap<String, String> {
    let mut values = part.values.clone();
    values.insert("id".to_owned(), id.to_owned());
    values
}
