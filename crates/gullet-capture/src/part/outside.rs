//! What is kept by another system: it is begun while the application is held, waited for and proven afterwards. Gullet stores
//! none of its bytes, and never counts them as stored.

use std::collections::BTreeMap;

use super::produce;
use super::secured::{CaptureContext, PartError};
use crate::plan::PlannedPart;
use gullet_host::hook::{Call, Limits};
use gullet_model::definition::Outside;
use gullet_model::record::OutsideProof;

/// Begins it; gives its id.
pub(super) fn begin(
    part: &PlannedPart,
    outside: &Outside,
    context: &mut CaptureContext<'_, '_>,
) -> Result<OutsideProof, PartError> {
    let call = Call { limit: Limits::HOOK, ..produce::call(part, context) };
    let outcome = context.runner.run(&outside.begin, call);
    let id = outcome.text.lines().next_back().unwrap_or("").trim().to_owned();
    produce::take(outcome, context)?;
    if id.is_empty() || id.chars().any(char::is_control) {
        return Err(PartError::Other("`begin` printed no id by which it could be found again".to_owned()));
    }
    let requested_at = context.world.clock.now();
    if let Some(begun) = &outside.begun {
        let call = Call { values: values(part, &id), ..probing(part, context) };
        produce::wait_for(begun, call, Limits::WITHIN, context)
            .map_err(|error| PartError::Other(format!("{id}: its moment was not fixed: {error}")))?;
    }
    let fixed_at = context.world.clock.now();
    Ok(OutsideProof { id, requested_at, fixed_at, done: None, proof: None })
}

/// Waits until it is complete, and has it proven.
pub(super) fn complete(
    part: &PlannedPart,
    outside: &Outside,
    proof: &mut OutsideProof,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(), PartError> {
    let call = Call { values: values(part, &proof.id), ..probing(part, context) };
    produce::wait_for(&outside.done, call, Limits::EXPORT, context)
        .map_err(|error| PartError::Other(format!("{}: it is not complete: {error}", proof.id)))?;
    proof.done = Some(context.world.clock.now());
    if let Some(check) = &outside.check {
        let call = Call { values: values(part, &proof.id), ..probing(part, context) };
        let outcome = context.runner.wait_for(check, &call, Limits::WITHIN);
        let text: String = outcome.text.chars().take(400).collect();
        produce::take(outcome, context)
            .map_err(|error| PartError::Other(format!("{}: it could not be proven: {error}", proof.id)))?;
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
