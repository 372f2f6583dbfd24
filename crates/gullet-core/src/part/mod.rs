//! How each kind of part is captured.
//!
//! A part is *secured* while the application is held and *stored* afterwards. Files are read into the store at once;
//! databases and exports are first copied into the run's private folder, so that checking, counting and storing them
//! costs no time of the hold.
//!
//! - [`secure`]: secures a part, whatever its kind; gives a [`Secured`].
//! - [`Secured::quiet`]: whether the source changed since, while the application said that it was held.
//! - [`Secured::store`]: stores what was secured and completes the [`Capture`](crate::record::Capture).
//! - `walk`: the files below some roots, in the order of a listing. `marks`: which of them can be believed unchanged.
//! - `lister`: a listing while it is made, with its counts. `wanted`: what must be in it.
//! - `files`, `sqlite`, `produce` (command and export), `tree` (a folder in scratch): the kinds. `drift`: the checks
//!   against the last good run.

mod drift;
mod entry;
mod files;
mod lister;
mod marks;
mod produce;
mod secured;
mod sqlite;
mod stored;
mod walk;
mod wanted;

pub use secured::{PartError, Quiet, Secured, Securing, secure};
pub(crate) use secured::{chain, failed_capture};
pub use walk::{Survey, survey};
