//! The driver of a run: performs what the [`machine`](crate::machine) decides, and emits events.
//!
//! - [`execute`]: one run from preflight to its last hook; gives an [`Ended`].
//! - `hold`: looking, entering, proving, leaving. `keep`: making durable, reading back, recording, remarks.
//! - [`recover`]: records of runs that died.

mod driver;
mod hold;
mod keep;
mod recover;

pub use driver::{Ended, Setup, execute};
pub(crate) use keep::add_remark;
pub use keep::remark_declared;
pub use recover::recover;
