//! The operating system, as Gullet uses it.
//!
//! - [`world`]: the clock, randomness, the host and the wish to stop, which are handed in. Begin reading here.
//! - [`hook`]: the administrator's commands, probes and requests, as processes with limits.
//! - [`state`]: the local state folder, its locks and files that are written whole.
//! - [`mail`], [`mod@syslog`]: handing a message to a mail server, a line to the system log.
//! - [`place`]: the place of a store, with what signs in there.
//! - [`disks`]: on which disks a path lies.
//! - [`running`]: what runs here that keeps state.
//! - [`permissions`]: who else may write to what is trusted.
//!
//! It may use `gullet-model` and `gullet-store`. It knows no application, run or store layout.

pub mod disks;
pub mod hook;
pub mod mail;
pub mod permissions;
pub mod place;
pub mod running;
pub mod state;
pub mod syslog;
pub mod world;
