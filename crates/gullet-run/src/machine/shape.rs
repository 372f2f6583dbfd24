//! What the machine must know of a plan.

use super::{PartShape, Shape, StepShape};
use gullet_capture::plan::Plan;
use gullet_model::definition::{FoundHeld, Secure};

impl Shape {
    /// The shape of a run that a plan says.
    pub fn of(plan: &Plan) -> Self {
        let steps = plan.spec.hold.iter().map(|step| StepShape {
            settles: step.settled.is_some(),
            proves: step.entered.is_some(),
            proves_left: step.left.is_some(),
            goes_on_if_held: step.found_held == Some(FoundHeld::GoOn),
        });
        let parts = plan.parts.iter().map(|part| PartShape {
            must: part.spec.must,
            warm: part.spec.warm,
            when: part.spec.when.unwrap_or_default(),
        });
        Self {
            steps: steps.collect(),
            parts: parts.collect(),
            partial: plan.is_partial(),
            snapshot: matches!(plan.secure(), Secure::Snapshot | Secure::Auto),
        }
    }
}
