//! The way back.
//!
//! - [`restore`]: into a folder, as a stream, in place. Begin reading here.
//! - [`compare`]: what differs between two runs, or a run and what is there now; where a path was captured.
//! - [`drill`]: the proof that a run restores.
//!
//! It may use `gullet-run`, whose guard stops and starts applications, and what is below it.

pub mod compare;
pub mod drill;
pub mod restore;
