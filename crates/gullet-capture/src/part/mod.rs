//! Capturing a part: what all kinds share.
//!
//! A part is *secured* while the application is held and *stored* afterwards, so that storing costs no time of the hold.
//! Files and databases are secured by an atomic snapshot, by clones, by private copies, or (files only) by reading them into
//! the store at once; exports lie in the run's private folder. How each kind does that is in `kinds`, which builds on this.
//!
//! - [`CaptureContext`]: what capturing a part needs; [`PartError`]: how it can fail.
//! - `staged`: what was secured and waits to be stored. `walked`: files that a walk finds, in their three ways.
//! - [`Staging`]: snapshots and clones, noted before they are made; `btrfs`: the kernel's calls for them.
//! - `walk`: the files below some roots, in the order of a listing. `marks`: which of them can be believed unchanged;
//!   [`Filesystems`]: the filesystems they are on.
//! - `lister`: a listing while it is made, with its counts. `wanted`: what must be in it.
//! - `files`: capturing what a walk finds. `in_order`: a walk compared with the marks, block by block. `contents`: reading
//!   files. `pending`: what was copied in the hold and waits to be stored. `seen`: what was seen in the hold, to tell whether
//!   it changed.
//! - `produce`: running a part's commands. `stored`: storing what lies in the private folder. `rows`: rows of tables as
//!   facts. `drift`: the checks against the last good run.
//! - `owners`: who owns what is captured. `remaining`: what is at the sources now
//!   that a capture does not have.

pub(crate) mod blank;
mod btrfs;
mod contents;
pub(crate) mod context;
pub(crate) mod drift;
pub(crate) mod entry;
pub(crate) mod files;
mod in_order;
mod left;
pub(crate) mod lister;
pub(crate) mod marks;
pub(crate) mod own;
pub(crate) mod owners;
pub(crate) mod pending;
pub(crate) mod produce;
mod remaining;
pub(crate) mod rows;
pub(crate) mod seen;
pub(crate) mod staged;
pub(crate) mod staging;
pub(crate) mod stored;
pub(crate) mod walk;
pub(crate) mod walked;
pub(crate) mod wanted;

pub use context::{CaptureContext, PartError, WarmCopy};
pub use entry::{bare as entry_of, flags as flags_of, xattrs as xattrs_of};
pub use left::LeftReason;
pub use marks::Filesystems;
pub use own::{ARENA, is_arena};
pub use owners::{group_here, user_here};
pub(crate) use remaining::remaining;
pub use remaining::{RemainingError, Why};
pub use staged::SourceChange;
pub use staging::{Staging, clear_leftovers, foresee, has_leftovers};
pub use walk::Survey;
pub use walk::name_of;
pub(crate) use walk::survey_of;
