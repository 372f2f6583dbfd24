//! A run, from its preflight to its record.
//!
//! - [`sequence`]: decides the next step; pure, so that it can be tried with every fault. Begin reading here.
//! - [`run`]: the driver that performs the steps and emits events.
//! - [`hold`]: the hold and its guard, a second process that releases it whatever happens.
//! - [`preflight`]: all that can be known before a run. [`steps`]: all steps of a plan, to be shown.
//!
//! It may use `gullet-capture` and what is below it. It knows nothing of restores; what one has to put back is handed in.

pub mod hold;
pub mod preflight;
pub mod run;
pub mod sequence;
pub mod steps;
