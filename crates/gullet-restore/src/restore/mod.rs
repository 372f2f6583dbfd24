//! The way back.
//!
//! - [`RestorePlan`]: a run into an empty folder; a value that is shown and applied. `files/` holds what was read from paths, under
//!   those same paths; `exports/PART/` holds what commands gave. So `files/` can be compared with `/` as it is.
//! - [`place`]: a run in the place of what is there now, which is kept until it is discarded.
//! - [`tar()`], [`one_file`]: a run, or one file of it, as a stream.
//! - `contents`: the bytes of a captured file, with zeros for its holes.
//! - [`OwnerMap`]: who owns here what somebody else owned there.
//! - [`Selection`]: which paths are meant.
//! - `writing`: a listing onto the filesystem, by several threads; `write`: one entry of it, never outside its folder.

mod contents;
mod into;
mod owners;
pub mod place;
mod select;
mod stream;
mod write;
mod writing;

pub(crate) use contents::{Contents, WholeFile};
pub use into::{RestoreError, RestorePart, RestorePlan, RestoreReport};
pub use owners::{OwnerError, OwnerMap};
pub use select::{PatternError, Selection, each_selected, is_selected};
pub use stream::{StreamReport, one_file, tar};
pub use writing::{PartResult, say_damage};
