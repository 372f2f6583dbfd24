//! What a run captures, and how.
//!
//! - [`plan`]: what is asked for, the application's definition and its parts with everything filled in. Begin reading here.
//! - [`capture`]: a part on its way: secured in the hold, stored afterwards.
//! - [`kinds`]: the kinds of parts, one file each; those of database servers are in [`engines`], one folder an engine.
//! - [`part`]: what capturing them has in common.
//!
//! It may use `gullet-logbook` and what is below it. It neither holds nor releases an application.

pub mod capture;
pub mod engines;
pub mod kinds;
pub mod part;
pub mod plan;
