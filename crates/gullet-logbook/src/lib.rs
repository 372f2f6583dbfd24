//! What a store knows of runs.
//!
//! - [`logbook`]: records and remarks of a store, in the order of their chain. Begin reading here.
//! - [`copies`]: second copies of a store.
//! - [`keep`]: which runs the keep rules keep.
//! - [`parallel`]: work on many things by several threads.
//! - [`sealed`]: documents whose sensitive contents are encrypted.
//! - [`verify`]: whether everything that the records name is there and intact.
//! - [`sweep`]: giving runs up, removing what no run needs, filling a lost state folder anew.
//!
//! It may use `gullet-host`, `gullet-model` and `gullet-store`.

pub mod copies;
pub mod keep;
pub mod locks;
pub mod logbook;
pub mod parallel;
pub mod sealed;
pub mod sweep;
pub mod verify;
