//! *quaybook*, the booking desk of *Skerry Line*, an invented ferry company between invented islands.
//!
//! It is a small real program, and Gullet's demo: it takes bookings all the time and writes each into `bookings.db`,
//! its payment into `till.db` and its boarding list into a file, in that order and not at once. Copied while it serves,
//! the three disagree; copied while it is paused, they agree. [`Audit`] tells which.
//!
//! - [`Desk`]: the folder that everything lies in.
//! - `serve`: takes bookings and answers on a Unix socket; `client`: the other side of that socket.
//! - `web`: the desk over HTTP.
//! - [`ObjectStorage`]: an object storage in memory, for a second copy on the tour.
//! - [`Misbehaviour`]: the ways in which a desk can lie to whoever backs it up.
//!
//! This is a program's own crate, not a core: it prints and reads the clock.
#![allow(clippy::print_stdout, clippy::print_stderr, reason = "a command-line program; its output is its purpose")]

mod audit;
mod cli;
mod client;
mod desk;
mod misbehave;
mod objects;
mod serve;
mod web;

pub use audit::Audit;
pub use cli::run;
pub use desk::{Desk, LEDGERS};
pub use misbehave::Misbehaviour;
pub use objects::ObjectStorage;
