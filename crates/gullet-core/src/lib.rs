//! What commands do, without a terminal: another front end could stand on it.
//!
//! - [`agenda`]: what will run when, and what waits for what.
//! - [`due`]: what is due by the schedules, and what becomes of it.
//! - [`notify`]: who is told of what.
//! - [`overview`]: how applications stood over a time.
//! - [`run`]: a run of an application or of a group, from the lock to the last hook. Begin reading here.
//! - [`simulate`]: what the keep rules would leave.
//! - [`status`]: whether an application is protected, from all that is known of it.
//!
//! It may use every floor below. It never prints, prompts or exits, and reads neither the environment nor the clock by itself
//! (`clippy.toml`), nor does any floor below it.

pub mod agenda;
pub mod due;
pub mod notify;
pub mod overview;
pub mod run;
pub mod simulate;
pub mod status;
