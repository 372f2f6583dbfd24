//! What the sequence must know of a plan.

use super::{PartShape, Shape, StepShape};
use gullet_capture::plan::Plan;
use gullet_model::definition::{CaptureMethod, FoundHeld};

impl Shape {
    /// The shape of a run that a plan says.
    pub fn of(plan: &Plan) -> Self {
        let steps = plan.spec.hold.iter().map(|step| StepShape {
            settles: step.drained.is_some(),
            proves: step.entered.is_some(),
            proves_left: step.released.is_some(),
            goes_on_if_held: step.if_held == Some(FoundHeld::GoOn),
        });
        let parts = plan.parts.iter().map(|part| PartShape {
            required: part.spec.required,
            precopy: part.spec.precopy,
            when: part.spec.when.unwrap_or_default(),
        });
        Self {
            steps: steps.collect(),
            parts: parts.collect(),
            partial: plan.is_partial(),
            snapshot: matches!(plan.secure(), CaptureMethod::Snapshot | CaptureMethod::Auto),
        }
    }
}
