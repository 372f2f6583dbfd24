//! What a run captures, and how.
//!
//! - [`plan`]: what is asked for, the application's definition and its parts with everything filled in. Begin reading here.
//! - [`part`]: how each kind of part is captured.
//! - [`engine`]: database servers over the wire.
//!
//! It may use `gullet-logbook` and what is below it. It neither holds nor releases an application.

pub mod engine;
pub mod part;
pub mod plan;
