//! A command that writes the capture: into its private folder, or to paths that it is known to write to.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use gullet_store::IoPath;

use super::{KindSteps, SourceKind, paths_text};
use crate::part::context::{CaptureContext, PartError};
use crate::part::staged::{ExportFolder, Staged};
use crate::part::walk::Walk;
use crate::part::{produce, walked};
use crate::plan::PlannedPart;
use gullet_host::hook::{Call, Limits};
use gullet_model::definition::{CommandSpec, ExportSource, command_text};
use gullet_model::record::{Capture, Layout};

/// A file may seem older than the start of the command that wrote it by this much: filesystems take their times from
/// a clock that ticks, in nanoseconds; those without fractions are given two seconds.
const LAG: i128 = 30_000_000;
const COARSE_LAG: i128 = 2_000_000_000;

impl SourceKind for ExportSource {
    fn describe(&self, part: &PlannedPart) -> String {
        command_text(&part.filled_command(&self.command))
    }

    fn layout(&self) -> Layout {
        if self.collect.is_empty() { Layout::Export } else { Layout::Source }
    }

    fn steps(&self, part: &PlannedPart) -> KindSteps {
        let command = Some((part.filled_command(&self.command), Limits::EXPORT));
        let detail = (!self.collect.is_empty()).then(|| format!("collects {}", paths_text(&self.collect)));
        KindSteps { command, detail, ..KindSteps::default() }
    }

    fn commands(&self) -> Vec<CommandSpec> {
        vec![self.command.clone()]
    }

    fn capture(
        &self,
        part: &PlannedPart,
        capture: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Box<dyn Staged>, PartError> {
        let path = context.scratch.join("export");
        fs::create_dir(&path).at(&path)?;
        let started = context.world.clock.now().as_nanosecond();
        let call = Call { scratch: Some(path.clone()), ..produce::call(part, context) };
        produce::perform(&self.command, call, context)?;
        if self.collect.is_empty() {
            if fs::read_dir(&path).at(&path)?.next().is_none() {
                return Err(PartError::failed("the export succeeded and wrote nothing"));
            }
            return Ok(Box::new(ExportFolder { path }));
        }
        for path in &self.collect {
            fresh(path, started)?;
        }
        let walk = Walk::of_collected(&self.collect, part, context.plan).passing_over(context.staging.folders());
        walked::secured(part, walk, capture, context)
    }
}

/// Refuses a file that is older than the export that should have written it.
fn fresh(path: &Path, started: i128) -> Result<(), PartError> {
    let meta = fs::symlink_metadata(path).map_err(|error| {
        PartError::failed(format!("the export succeeded and `{}` is not there: {error}", path.display()))
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
        return Err(PartError::failed(text));
    }
    Ok(())
}
