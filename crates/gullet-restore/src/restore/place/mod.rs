//! Restoring in the place of what is there now.
//!
//! The new state is written beside the old one, on the same filesystem; then the application is stopped, the two change
//! hands, and it is started and checked. Where that fails the old state comes back by itself. What is not in place is kept
//! in a folder of Gullet's own until it is discarded.
//!
//! - [`PlacePlan`]: what changes hands, what goes on in the new state, what is stopped; a value that is shown and applied.
//! - [`apply`](fn@apply), [`go_on`], [`take_back`]: do it, go on with it, take it back.
//!   `beside`: the new state is written; `fill`: what changes hands; `ways`: what comes back other than by files; `back`: the
//!   guard, and taking back; `attended`: a person does what a command could not.
//! - [`Journal`]: how far it is, on disk; [`settle`]: putting the old state back where nobody else does.
//! - `swap`: two states change hands, and can be cut off anywhere. `mounts`: whether a root can be renamed. `busy`: who still
//!   uses it.
//!
//! The application is stopped and started by the guard of a hold, as a hold step whose `enter` is `stop` and whose `release` is
//! `start`: main dead, the guard puts the old state back and starts it; both dead, the next command does.

mod apply;
mod attended;
mod back;
mod beside;
mod busy;
mod fill;
mod journal;
mod mounts;
mod plan;
mod swap;
mod ways;

use std::path::{Path, PathBuf};

use gullet_capture::part::ARENA;
use gullet_host::world::Clock;
use gullet_model::Reason;
use gullet_run::hold::OldState;

pub use apply::{Applying, PlaceReport, PlaceStep, apply, go_on};
pub use attended::Attend;
pub use back::take_back;
pub(crate) use journal::go_back;
pub use journal::is_open;
pub use journal::{Journal, JournalError, JournalStage, PlaceRequest, all, why_not_whole};
pub use plan::{
    AfterRestore, Leftover, LiveDifference, PlaceContext, PlacePart, PlacePlan, PlannedTarget, RestoreMethod,
};
pub use swap::{FileIdentity, SwapError};

fn arena_name(id: &str) -> PathBuf {
    format!("{ARENA}{id}").into()
}

/// Puts the old state back where a swap of the application was cut off and nobody owns it any more. Call it with the
/// application's lock and after forgotten holds were left. Whether there was one.
///
/// # Errors
/// When it cannot be put back.
pub fn settle(state: &Path, app: &str, clock: &dyn Clock) -> Result<bool, JournalError> {
    go_back(state, app, clock)
}

/// The old state of restores in place, as their journals tell.
#[derive(Clone, Copy, Debug)]
pub struct Journals;

impl OldState for Journals {
    fn is_away(&self, state: &Path, app: &str) -> bool {
        is_open(state, app)
    }

    fn put_back(&self, state: &Path, app: &str, clock: &dyn Clock) -> Result<(), Reason> {
        Ok(go_back(state, app, clock).map(drop)?)
    }
}
