//! What a run captures, and how.
//!
//! - [`plan`]: what is asked for, the application's definition and its parts with everything filled in. Begin reading here.
//! - [`capture`]: a part on its way: secured in the hold, stored afterwards.
//! - [`kinds`]: the kinds of parts, one file or folder each.
//! - [`part`]: what capturing them has in common.
//! - [`engine`]: database servers over the wire.
//!
//! It may use `gullet-logbook` and what is below it. It neither holds nor releases an application.

pub mod capture;
pub mod engine;
pub mod kinds;
pub mod part;
pub mod plan;
