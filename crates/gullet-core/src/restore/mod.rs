//! Restoring a run into an empty folder.
//!
//! - [`RestorePlan`]: which parts go where; a value that is shown and applied.
//! - `write`: one entry of a listing onto the filesystem, never outside its folder.
//!
//! Layout of the folder: `files/` holds what was read from paths, under those same paths; `exports/PART/` holds what
//! commands gave. So `files/` can be compared with `/` as it is.

mod into;
mod write;

pub use into::{PartResult, RestoreError, RestorePart, RestorePlan, RestoreReport};
