//! Parts that a command produces: its standard output, or what it writes.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use gullet_store::IoPath;

use super::secured::{CaptureContext, PartError};
use crate::plan::PlannedPart;
use gullet_host::hook::{Call, CallOutcome, Limits};
use gullet_model::definition::{CommandSpec, OneOrMany, Probe};

/// A file may seem older than the start of the command that wrote it by this much: filesystems take their times from
/// a clock that ticks, in nanoseconds; those without fractions are given two seconds.
const LAG: i128 = 30_000_000;
const COARSE_LAG: i128 = 2_000_000_000;

/// Waits until probes of the capture hold.
pub(super) fn wait_for(
    probes: &OneOrMany<Probe>,
    call: Call<'_>,
    within: Duration,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(), PartError> {
    let outcome = context.runner.wait_for(probes, &call, within);
    take(outcome, context)
}

/// Runs `command` with its standard output in a file of the run's private folder; gives the file.
pub(super) fn command(part: &PlannedPart, context: &mut CaptureContext<'_, '_>) -> Result<PathBuf, PartError> {
    let output = context.scratch.join("output");
    let spec = CommandSpec { run: Some(part.spec.command.clone()), limit: part.spec.limit, ..CommandSpec::default() };
    let call = Call { stdout: Some(output.clone()), ..call(part, context) };
    let outcome = context.runner.run(&spec, call);
    if outcome.left_open {
        let text = "a process that it started was still running when it ended, so its output may be cut";
        context.notes.warnings.push(text.to_owned());
    }
    take(outcome, context)?;
    Ok(output)
}

/// Runs `export`; gives the folder it could write to.
pub(super) fn export(part: &PlannedPart, context: &mut CaptureContext<'_, '_>) -> Result<PathBuf, PartError> {
    let folder = context.scratch.join("export");
    fs::create_dir(&folder).at(&folder)?;
    let Some(spec) = &part.spec.export else { return Ok(folder) };
    let started = context.world.clock.now().as_nanosecond();
    let call = Call { scratch: Some(folder.clone()), ..call(part, context) };
    perform(spec, call, context)?;
    for path in &part.spec.collect {
        fresh(path, started)?;
    }
    if part.spec.collect.is_empty() && fs::read_dir(&folder).at(&folder)?.next().is_none() {
        return Err(PartError::Other("the export succeeded and wrote nothing".to_owned()));
    }
    Ok(folder)
}

pub(super) fn call<'a>(part: &PlannedPart, context: &CaptureContext<'a, '_>) -> Call<'a> {
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
pub(super) fn perform(
    spec: &CommandSpec,
    call: Call<'_>,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(), PartError> {
    let outcome = context.runner.run(spec, call);
    take(outcome, context)
}

/// Takes the processes and notes of a command into the step, and gives its result.
pub(super) fn take(outcome: CallOutcome, context: &mut CaptureContext<'_, '_>) -> Result<(), PartError> {
    context.commands.extend(outcome.tries);
    context.notes.facts.extend(outcome.notes.facts);
    context.notes.warnings.extend(outcome.notes.warnings);
    context.notes.omits.extend(outcome.notes.omits);
    context.check_stop()?;
    outcome.result.map_err(PartError::Other)
}

/// Refuses a file that is older than the export that should have written it.
fn fresh(path: &Path, started: i128) -> Result<(), PartError> {
    let meta = fs::symlink_metadata(path).map_err(|error| {
        PartError::Other(format!("the export succeeded and `{}` is not there: {error}", path.display()))
    })?;
    if meta.is_dir() {
        for entry in fs::read_dir(path).at(path)? {
            fresh(&entry.at(path)?.path(), started)?;
        }
        return Ok(());
    }
    let written = i128::from(meta.mtime()) * 1_000_000_000 + i128::from(meta.mtime_nsec());
    let lag = if meta.mtime_nsec() == 0 { COARSE_LAG } else { LAG };
    if written + lag < started {
        let ago = (started - written) / 1_000_000_000;
        let text = format!("`{}` was not written by this export: it is {ago} s older than its start", path.display());
        return Err(PartError::Other(text));
    }
    Ok(())
}

/// Runs the commands of `facts` and keeps what they print.
pub(super) fn facts(part: &PlannedPart, context: &mut CaptureContext<'_, '_>) -> Result<(), PartError> {
    for (name, spec) in &part.spec.facts {
        let value = fact(part, spec, context)
            .map_err(|error| PartError::Other(format!("the fact `{name}` could not be had: {error}")))?;
        context.notes.facts.insert(name.clone(), value);
    }
    Ok(())
}

/// Runs one command that prints a fact.
pub(super) fn fact(
    part: &PlannedPart,
    spec: &CommandSpec,
    context: &mut CaptureContext<'_, '_>,
) -> Result<serde_json::Value, PartError> {
    let call = Call { limit: Limits::PROBE, ..call(part, context) };
    let outcome = context.runner.run(spec, call);
    context.commands.extend(outcome.tries);
    outcome.result.map_err(PartError::Other)?;
    Ok(value_of(&outcome.text))
}

/// A number where the text is one, else the text.
fn value_of(text: &str) -> serde_json::Value {
    let text = text.trim();
    text.parse::<i64>().map(Into::into).or_else(|_| text.parse::<f64>().map(Into::into)).unwrap_or_else(|_| text.into())
}
