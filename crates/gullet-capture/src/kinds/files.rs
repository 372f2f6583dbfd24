//! Files and folders.

use std::path::PathBuf;

use super::{KindSteps, SourceKind, paths_text};
use crate::part::context::{CaptureContext, PartError};
use crate::part::staged::Staged;
use crate::part::walk::Walk;
use crate::part::{Survey, survey_of, walked};
use crate::plan::{Plan, PlannedPart};
use gullet_model::definition::FilesSource;
use gullet_model::record::{Capture, Layout};

impl SourceKind for FilesSource {
    fn describe(&self, _: &PlannedPart) -> String {
        paths_text(&self.paths)
    }

    fn can_be_made_anew(&self) -> bool {
        false
    }

    fn layout(&self) -> Layout {
        Layout::Source
    }

    fn staged_paths(&self) -> Vec<&PathBuf> {
        self.paths.iter().collect()
    }

    fn walk(&self, part: &PlannedPart, plan: &Plan) -> Option<Walk> {
        Some(Walk::of_files(&self.paths, part, plan))
    }

    fn survey(&self, part: &PlannedPart, plan: &Plan) -> Option<Survey> {
        Some(survey_of(&Walk::of_files(&self.paths, part, plan), true))
    }

    fn steps(&self, part: &PlannedPart) -> KindSteps {
        KindSteps::of_source(self.describe(part))
    }

    fn capture(
        &self,
        part: &PlannedPart,
        capture: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Box<dyn Staged>, PartError> {
        let walk = Walk::of_files(&self.paths, part, context.plan).passing_over(context.staging.folders());
        walked::through_snapshot_or_not(part, walk, capture, context)
    }
}
