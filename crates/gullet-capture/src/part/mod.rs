//! How each kind of part is captured.
//!
//! A part is *secured* while the application is held and *stored* afterwards, so that storing costs no time of the hold.
//! Files and databases are secured by an atomic snapshot, by clones, by private copies, or (files only) by reading them into
//! the store at once; exports lie in the run's private folder.
//!
//! - [`warm`]: the copy before the hold, after which the hold has only to look at what changed.
//! - [`secure`]: secures a part, whatever its kind; gives a [`CapturedPart`].
//! - [`CapturedPart::quiet`]: whether the source changed since, while the application said that it was held.
//! - [`CapturedPart::store`]: stores what was secured and completes the [`Capture`](gullet_model::record::Capture).
//! - [`Staging`]: snapshots and clones, noted before they are made; `btrfs`: the kernel's calls for them.
//! - `walk`: the files below some roots, in the order of a listing. `marks`: which of them can be believed unchanged;
//!   [`Filesystems`]: the filesystems they are on.
//! - `lister`: a listing while it is made, with its counts. `wanted`: what must be in it.
//! - `in_order`: a walk compared with the marks, block by block. `contents`: reading files. `pending`: what was copied in the
//!   hold and waits to be stored. `seen`: what was seen in the hold, to tell whether it changed.
//! - `import`: databases back into a server. `owners`: who owns what is captured.
//! - `remaining`: what is at the sources now that a capture does not have.
//! - `files`, `sqlite`, `produce` (command and export), `postgres`, `mariadb`, `http`, `outside`: the kinds. `stored`: what lies
//!   in the private folder. `server`: what database servers share. [`check_service`]: what can be known of one beforehand. `drift`: the checks
//!   against the last good run.

mod btrfs;
mod contents;
mod drift;
mod entry;
mod files;
mod http;
mod import;
mod in_order;
mod lister;
mod mariadb;
mod marks;
mod outside;
mod own;
mod owners;
mod pending;
mod postgres;
mod produce;
mod remaining;
mod secured;
mod seen;
mod server;
mod sqlite;
mod staging;
mod stored;
mod walk;
mod wanted;

pub use entry::{bare as entry_of, flags as flags_of, xattrs as xattrs_of};
pub use import::DatabaseImport;
pub use mariadb::{OWN as OWN_OF_MARIADB, count as count_mariadb, kept_elsewhere};
pub use marks::Filesystems;
pub use own::{ARENA, is_arena};
pub use owners::{group_here, user_here};
pub use postgres::{count as count_postgres, places as postgres_programs};
pub use remaining::{Why, remaining};
pub use secured::failed_capture;
pub use secured::{CaptureContext, CapturedPart, PartError, SourceChange, WarmCopy, secure, warm};
pub use server::check_service;
pub use server::leading_out;
pub use server::rows as facts_of_rows;
pub use sqlite::examine as examine_sqlite;
pub use staging::{Staging, clear_leftovers, foresee, has_leftovers};
pub use walk::name_of;
pub use walk::{Survey, survey};
