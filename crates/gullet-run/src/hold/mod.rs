//! The hold: entered, proven, left; by a second process that owns it, whatever happens to the first.
//!
//! - [`Keeper`]: enters and leaves steps, runs their probes, keeps sessions, measures. Lives in the guard.
//! - [`guard`]: the second process. It serves the main process's requests, and releases by itself at the limit, at
//!   main's death, or when it is told to by a signal.
//! - [`Guarded`]: the main process's end of it.
//! - [`HoldNote`]: what is held, on disk, so that a later command can leave what guard and main both could not.
//! - [`forgotten`]: leaving such a hold.
//! - [`OldState`]: what a restore in place has to put back before its application is released.

pub mod forgotten;
pub mod guard;
mod initial;
mod keeper;
mod note;
mod old_state;
mod protocol;
mod remote;
mod session;

pub use initial::{InitialState, initial_state};
pub use keeper::Keeper;
pub use note::{FoundNote, HoldNote, NoteError, NoteHead, NoteState, NoteStatus};
pub use old_state::OldState;
pub use protocol::{GuardAnswer, Loss, Op, Order};
pub use remote::{GuardError, Guarded, notes_folder};
