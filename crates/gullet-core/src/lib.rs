//! What commands do, without a terminal: another front end could stand on it.
//!
//! - [`due`]: what is due by the schedules, and what becomes of it.
//! - [`status`]: whether an application is protected, from all that is known of it.
//!
//! It may use every floor below. It never prints, prompts or exits, and reads neither the environment nor the clock by itself
//! (`clippy.toml`), nor does any floor below it.

pub mod due;
pub mod status;
