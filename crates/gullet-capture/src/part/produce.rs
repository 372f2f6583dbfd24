//! Running the commands of a part, and keeping what they print as facts.

use std::time::Duration;

use super::context::{CaptureContext, PartError};
use crate::plan::PlannedPart;
use gullet_host::hook::{Call, CallOutcome, Limits};
use gullet_model::definition::{CommandSpec, OneOrMany, Probe};
use gullet_model::step::fact_value;

/// Waits until probes of the capture hold.
pub(crate) fn wait_for(
    probes: &OneOrMany<Probe>,
    call: Call<'_>,
    within: Duration,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(), PartError> {
    let outcome = context.runner.wait_for(probes, &call, within);
    take(outcome, context)
}

pub(crate) fn call<'a>(part: &PlannedPart, context: &CaptureContext<'a, '_>) -> Call<'a> {
    Call {
        values: part.values.clone(),
        moment: "capture",
        notes: true,
        limit: Limits::EXPORT,
        patience: context.patience,
        ..Call::default()
    }
}

/// Runs a command, and takes its processes and notes into the step.
pub(crate) fn perform(
    spec: &CommandSpec,
    call: Call<'_>,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(), PartError> {
    let outcome = context.runner.run(spec, call);
    take(outcome, context)
}

/// Takes the processes and notes of a command into the step, and gives its result.
pub(crate) fn take(outcome: CallOutcome, context: &mut CaptureContext<'_, '_>) -> Result<(), PartError> {
    context.commands.extend(outcome.tries);
    context.notes.facts.extend(outcome.notes.facts);
    context.notes.warnings.extend(outcome.notes.warnings);
    context.notes.omits.extend(outcome.notes.omits);
    context.check_stop()?;
    outcome.result.map_err(PartError::Failed)
}

/// Runs the commands of `facts` and keeps what they print.
pub(crate) fn facts(part: &PlannedPart, context: &mut CaptureContext<'_, '_>) -> Result<(), PartError> {
    for (name, spec) in &part.spec.facts {
        let value = fact(part, spec, context)
            .map_err(|error| PartError::failed(format!("the fact `{name}` could not be had: {error}")))?;
        context.notes.facts.insert(name.clone(), value);
    }
    Ok(())
}

/// Runs one command that prints a fact.
pub(crate) fn fact(
    part: &PlannedPart,
    spec: &CommandSpec,
    context: &mut CaptureContext<'_, '_>,
) -> Result<serde_json::Value, PartError> {
    let call = Call { limit: Limits::PROBE, ..call(part, context) };
    let outcome = context.runner.run(spec, call);
    context.commands.extend(outcome.tries);
    outcome.result.map_err(PartError::Failed)?;
    Ok(fact_value(&outcome.text))
}
