//! Values that every other floor speaks of. They are made, compared, and read and written with serde; nothing here touches a
//! file but [`definition::load`], nothing runs a process or asks the time.
//!
//! - [`definition`]: the administrator's TOML, checked with file, line and column. Begin reading here.
//! - [`record`]: what is kept about a run, and remarks about it. [`step`]: its steps and the processes they ran.
//! - [`event`]: what happens in a run, as it happens.
//! - [`definition::calendar`]: which moments come of a schedule.
//! - [`notice`]: what there is to tell of something that ended.
//! - [`ids`], [`outcome`]: names of runs, and how they end. [`words`]: figures in words. [`reason`]: why something failed.
//!
//! It may use `gullet-store`, for keys and listings that records name.

pub mod definition;
pub mod event;
pub mod ids;
pub mod notice;
pub mod outcome;
pub mod problem;
pub mod reason;
pub mod record;
pub mod step;
pub mod words;

pub use ids::RunId;
pub use outcome::Outcome;
pub use reason::{Reason, ReasonAbout};
