//! Gullet's heart: what is done to an application, and in which order, without any interface code.
//!
//! - [`definition`]: the administrator's TOML, checked with file, line and column.
//! - [`plan`]: every step that a run will execute, as a value that is shown or applied.
//! - [`preflight`]: all that can be known before a run.
//! - [`machine`]: decides the next step; pure, so that it can be tried with every fault.
//! - [`run`]: the driver that performs the steps and emits [`event`]s.
//! - [`hold`]: the hold and its guard, a second process that leaves it whatever happens.
//! - [`hook`]: the administrator's commands and probes as processes.
//! - `engine`: database servers over the wire.
//! - [`part`]: how each kind of part is captured.
//! - [`record`] and [`logbook`]: what is kept about a run, and finding it again.
//! - [`compare`]: what differs between two runs, or a run and what is there now; where a path was captured.
//! - [`drill`]: the proof that a run restores.
//! - [`restore`], [`verify`], [`status`]: the way back, the proof, the answer.
//! - [`words`]: figures in words.
//! - [`world`]: the clock, randomness, host and stop signal that the core is handed.
//!
//! The core never prints, prompts or exits, and reads neither the environment nor the clock by itself (`clippy.toml`).

pub mod compare;
pub mod definition;
pub mod drill;
mod engine;
pub mod event;
pub mod hold;
pub mod hook;
pub mod ids;
pub mod logbook;
pub mod machine;
pub mod outcome;
pub mod part;
pub mod permissions;
pub mod plan;
pub mod preflight;
pub mod record;
pub mod restore;
pub mod run;
mod sealed;
pub mod state;
pub mod status;
pub mod step;
pub mod steps;
pub mod sweep;
pub mod verify;
pub mod words;
pub mod world;

pub use ids::RunId;
pub use outcome::Outcome;
