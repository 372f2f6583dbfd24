//! A command whose standard output is the capture.

use super::{KindSteps, SourceKind};
use crate::part::context::{CaptureContext, PartError};
use crate::part::produce;
use crate::part::staged::{OutputFile, Staged};
use crate::plan::PlannedPart;
use gullet_host::hook::{Call, Limits};
use gullet_model::definition::{CommandSource, CommandSpec, command_text};
use gullet_model::record::Capture;

impl SourceKind for CommandSource {
    fn describe(&self, part: &PlannedPart) -> String {
        command_text(&part.filled_command(&self.command))
    }

    fn steps(&self, part: &PlannedPart) -> KindSteps {
        KindSteps { command: Some((part.filled_command(&self.command), Limits::EXPORT)), ..KindSteps::default() }
    }

    fn commands(&self) -> Vec<CommandSpec> {
        vec![self.command.clone()]
    }

    fn capture(
        &self,
        part: &PlannedPart,
        _: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Box<dyn Staged>, PartError> {
        // Into the run's private folder: what is printed is stored after the hold.
        let path = context.scratch.join("output");
        let call = Call { stdout: Some(path.clone()), ..produce::call(part, context) };
        let outcome = context.runner.run(&self.command, call);
        if outcome.left_open {
            let text = "a process that it started was still running when it ended, so its output may be cut";
            context.notes.warnings.push(text.to_owned());
        }
        produce::take(outcome, context)?;
        Ok(Box::new(OutputFile { path, output: self.output }))
    }
}
