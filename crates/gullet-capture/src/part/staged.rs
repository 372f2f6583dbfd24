//! Captures that are complete and not stored yet: the application is released, and the store still has to take them.

use std::path::PathBuf;

use gullet_store::Cut;
use gullet_store::listing::PathName;

use super::context::{CaptureContext, PartError};
use super::lister::{Listed, Lister};
use super::marks::{MadeMarks, Marks};
use super::stored;
use super::wanted::MustContain;
use crate::plan::PlannedPart;
use gullet_model::definition::OutputForm;
use gullet_model::record::Capture;

/// Whether a source was written to since it was secured.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SourceChange {
    /// It was not.
    None,
    /// It cannot be told: nothing was read from the source by Gullet itself.
    Unknown,
    /// It does not matter: it was captured in an instant.
    Instant,
    /// It does not matter: its engine makes what was captured fit together.
    Engine,
    /// Files changed: the first of them, and how many.
    FilesChanged(Vec<String>, u64),
    /// The database was written to.
    Written,
}

/// A part that is secured, and how it gets into the store.
pub(crate) trait Staged {
    /// Looks whether the source was written to since.
    ///
    /// # Errors
    /// When the source can no longer be looked at.
    fn source_change(&self) -> Result<SourceChange, PartError> {
        Ok(SourceChange::Unknown)
    }

    /// Stores what is not in the store yet, and completes the capture. Gives the new marks of what was listed.
    ///
    /// # Errors
    /// When it cannot be read or stored.
    fn store(
        &mut self,
        part: &PlannedPart,
        capture: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Option<MadeMarks>, PartError>;

    /// Whether a capture without any bytes is nothing to warn of.
    fn may_be_empty(&self) -> bool {
        false
    }
}

/// A lister of what lies in private places, where only `must_contain` says what must be in it.
pub(crate) fn lister(part: &PlannedPart, context: &mut CaptureContext<'_, '_>) -> Result<Lister, PartError> {
    let wanted = MustContain::new(&part.spec.must_contain, std::iter::empty());
    let new_marks = context.scratch.join("marks");
    Ok(Lister::new(Marks::open(&context.marks), new_marks, wanted, context.deposit)?)
}

/// Ends a listing, and takes it into the capture.
pub(crate) fn finish(
    lister: Lister,
    capture: &mut Capture,
    context: &mut CaptureContext<'_, '_>,
) -> Result<Option<MadeMarks>, PartError> {
    Ok(take_listed(lister.finish(context.deposit)?, capture))
}

/// Takes a complete listing into the capture.
pub(crate) fn take_listed(listed: Listed, capture: &mut Capture) -> Option<MadeMarks> {
    capture.listing = Some(listed.listing);
    capture.counts = listed.counts;
    listed.marks
}

/// What a command or a server gave: one file, as bytes or as a tar.
pub(crate) struct OutputFile {
    pub(crate) path: PathBuf,
    pub(crate) output: OutputForm,
}

impl Staged for OutputFile {
    fn store(
        &mut self,
        part: &PlannedPart,
        capture: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Option<MadeMarks>, PartError> {
        let mut lister = lister(part, context)?;
        match self.output {
            OutputForm::Tar => stored::tar(&self.path, &mut lister, context.deposit)?,
            OutputForm::Bytes => {
                let name = PathName::new(gullet_host::state::file_name(&part.name));
                stored::file(&self.path, name, None, Cut::Contents, &mut lister, context.deposit)?;
            }
        }
        finish(lister, capture, context)
    }
}

/// What an export wrote into its private folder.
pub(crate) struct ExportFolder {
    pub(crate) path: PathBuf,
}

impl Staged for ExportFolder {
    fn store(
        &mut self,
        part: &PlannedPart,
        capture: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Option<MadeMarks>, PartError> {
        let mut lister = lister(part, context)?;
        stored::folder(&self.path, &mut lister, context.deposit)?;
        finish(lister, capture, context)
    }
}
