//! A part on its way: secured while the application is held, stored afterwards.

use std::fs;
use std::path::{Path, PathBuf};

use gullet_host::hook::{Cancellation, Notes, Runner};
use gullet_host::state::State;
use gullet_store::{Deposit, Deposited, PathError};
use jiff::Timestamp;

use crate::kinds;
use crate::part::blank::blank;
use crate::part::marks::{MadeMarks, Marks};
use crate::part::staged::{SourceChange, Staged};
use crate::part::walk::Walk;
use crate::part::{CaptureContext, Filesystems, PartError, Staging, WarmCopy, drift, files, produce};
use crate::plan::{Plan, PlannedPart};
use gullet_model::definition::PartSource;
use gullet_model::record::Capture;
use gullet_model::words::millis;

/// How often a capture whose `stable` fact changed is taken again.
const STEADY_TRIES: u32 = 3;

/// Copies a part before the hold, so that in the hold only what changed since need be read.
///
/// # Errors
/// When it cannot be read or stored. Nothing is lost by it: the hold then has more to do.
pub fn warm(part: &PlannedPart, context: &mut CaptureContext<'_, '_>) -> Result<WarmCopy, PartError> {
    gullet_host::state::private_folder(&context.scratch)?;
    let marks = context.scratch.with_extension("warm");
    let PartSource::Files(source) = &part.source else {
        return Err(PartError::failed("only files are copied before the hold"));
    };
    let walk = Walk::of_files(&source.paths, part, context.plan).passing_over(context.staging.folders());
    let last = Marks::open(&context.marks);
    let (marks, counts) = files::warm(&walk, last, marks, context)?;
    Ok(WarmCopy { marks, counts })
}

/// A part that is secured.
pub struct CapturedPart {
    /// The capture as far as it is known.
    pub capture: Capture,
    staged: Box<dyn Staged>,
    /// Where its marks belong when the run is recorded.
    marks: PathBuf,
    /// Where they are until then, once it is stored.
    new_marks: Option<MadeMarks>,
}

/// Secures a part.
///
/// # Errors
/// When it could not be captured.
pub fn secure(part: &PlannedPart, context: &mut CaptureContext<'_, '_>) -> Result<CapturedPart, PartError> {
    let started = context.world.clock.now();
    let began = context.world.clock.uptime();
    let mut secured = match &part.spec.stable {
        None => attempt(part, context, started)?,
        Some(steady) => {
            let mut tries = 0;
            loop {
                tries += 1;
                let before = produce::fact(part, &steady.command, context)?;
                let secured = attempt(part, context, started)?;
                let after = produce::fact(part, &steady.command, context)?;
                if before == after {
                    context.notes.facts.insert(steady.fact.clone(), after);
                    break secured;
                }
                if tries == STEADY_TRIES {
                    let text = format!(
                        "`{}` was {before} before and {after} after the capture, {tries} times over",
                        steady.fact
                    );
                    return Err(PartError::failed(text));
                }
            }
        }
    };
    produce::facts(part, context)?;
    let capture = &mut secured.capture;
    capture.facts.append(&mut context.notes.facts);
    capture.omits.append(&mut context.notes.omits);
    capture.warnings.append(&mut context.notes.warnings);
    let took = context.world.clock.uptime().saturating_sub(began);
    capture.took_ms = millis(took);
    Ok(secured)
}

/// Captures a part apart from any run: nothing is held for it, and nothing that earlier runs know of it is used.
///
/// # Errors
/// When it could not be captured or stored.
pub fn apart(
    part: &PlannedPart,
    plan: &Plan,
    (state, runner): (&State, &Runner<'_>),
    deposit: &mut Deposit<'_>,
    scratch: PathBuf,
) -> Result<Capture, PartError> {
    let (mut grounds, mut staging) = (Filesystems::default(), Staging::new(state, &plan.app, &runner.run));
    let mut context = CaptureContext {
        world: runner.world,
        plan,
        runner,
        patience: Cancellation { stop: Some(runner.world.stop), ..Cancellation::default() },
        deposit,
        progress: &mut |_, _| {},
        marks: scratch.with_extension("marks"),
        scratch,
        grounds: &mut grounds,
        staging: &mut staging,
        in_hold: false,
        is_live: false,
        warm: None,
        last: None,
        reread: true,
        commands: Vec::new(),
        notes: Notes::default(),
    };
    let mut secured = secure(part, &mut context)?;
    secured.store(part, &mut context)?;
    Ok(secured.capture)
}

/// The capture of a part that could not be captured.
pub fn failed_capture(part: &PlannedPart, problem: String, started: Timestamp) -> Capture {
    Capture { problem: Some(problem), ..blank(part, kinds::of(&part.source).layout(), started) }
}

/// Attempts to secure a part; once more, without marks, where those are damaged.
fn attempt(
    part: &PlannedPart,
    context: &mut CaptureContext<'_, '_>,
    started: Timestamp,
) -> Result<CapturedPart, PartError> {
    match attempt_once(part, context, started) {
        Err(PartError::MarksGone) => {
            drop_marks(&context.marks);
            attempt_once(part, context, started)
        }
        other => other,
    }
}

fn drop_marks(marks: &Path) {
    // Where they cannot be removed either, the part fails again, and says why.
    let _ = fs::remove_file(marks);
}

fn attempt_once(
    part: &PlannedPart,
    context: &mut CaptureContext<'_, '_>,
    started: Timestamp,
) -> Result<CapturedPart, PartError> {
    if context.scratch.exists() {
        fs::remove_dir_all(&context.scratch).map_err(|error| PathError::new(&context.scratch, error))?;
    }
    gullet_host::state::private_folder(&context.scratch)?;
    let kind = kinds::of(&part.source);
    let mut capture = blank(part, kind.layout(), started);
    let staged = kind.capture(part, &mut capture, context)?;
    Ok(CapturedPart { capture, staged, marks: context.marks.clone(), new_marks: None })
}

impl CapturedPart {
    /// Looks whether the source was written to since. Asked while the application says that it is held, so that a yes
    /// means that it lied.
    ///
    /// # Errors
    /// When the source can no longer be looked at.
    pub fn source_change(&self) -> Result<SourceChange, PartError> {
        self.staged.source_change()
    }

    /// Stores what is not in the store yet, and judges the capture.
    ///
    /// # Errors
    /// When it could not be stored, or is not what it must be.
    pub fn store(&mut self, part: &PlannedPart, context: &mut CaptureContext<'_, '_>) -> Result<(), PartError> {
        let stored = self.staged.store(part, &mut self.capture, context);
        self.new_marks = stored.inspect_err(|error| {
            if matches!(error, PartError::MarksGone) {
                drop_marks(&self.marks);
            }
        })?;
        let capture = &mut self.capture;
        if let Some(warm) = context.warm {
            capture.counts.bytes_read += warm.counts.bytes_read;
            capture.counts.bytes_new += warm.counts.bytes_new;
        }
        if capture.counts.bytes == 0 && !self.staged.may_be_empty() {
            capture.warnings.push("it has no bytes in it".to_owned());
        }
        let judgement = drift::judge(&part.spec, capture, context.last);
        capture.warnings.extend(judgement.warnings);
        match judgement.failures.as_slice() {
            [] => Ok(()),
            failures => Err(PartError::failed(failures.join("; "))),
        }
    }

    /// Puts the new marks in their place, now that the run is recorded.
    ///
    /// # Errors
    /// When they cannot be; everything is then read again by the next run, and nothing else is lost.
    pub fn keep_marks(&mut self, stored: &Deposited) -> Result<(), PathError> {
        self.new_marks.take().map_or(Ok(()), |marks| marks.keep(&self.marks, stored))
    }
}
