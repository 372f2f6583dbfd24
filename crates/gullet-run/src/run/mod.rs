//! The driver of a run: performs what the [`machine`](crate::sequence) decides, and emits events.
//!
//! - [`load_history`]: what a run must know of the runs before it, and under which id it goes on.
//! - [`execute`]: one run from preflight to its last hook; gives an [`Ended`].
//! - `hold`: looking, entering, proving, leaving. `parts`: securing and storing them. `keep`: making durable, reading back,
//!   recording, remarks.
//! - [`Group`]: runs that wait for each other, so that applications are held together.
//! - [`recover`]: records of runs that died.

mod driver;
mod group;
mod history;
mod hold;
mod keep;
mod parts;
mod recover;
mod refused;

pub use driver::{Ended, FINISH_BY, Setup, execute};
pub use group::{Group, Member};
pub use history::{HistoryError, load_history};
pub use keep::remark_declared;
pub use recover::recover;
pub use refused::Refusal;
