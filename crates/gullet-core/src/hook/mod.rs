//! The administrator's commands.
//!
//! - [`Runner`]: runs a command of the definition with its environment, limit, tries and notes.
//! - `probe`: runs a probe and compares what it printed.
//! - `request`: a request over HTTP in a command's place.
//! - `process`: one process, its output and its end; `family`: all that it started; `redactor`: secrets taken out of its output.
//! - `account`: running as another account.
//! - [`secret`]: values that never reach a record.

mod account;
mod family;
mod notes;
mod probe;
mod process;
mod redactor;
mod request;
mod runner;
pub mod secret;

pub(crate) use account::Account;
pub use account::AccountError;
pub use family::Process;
pub(crate) use family::{MARK, end_all, marked};
pub use notes::{Notes, NotesError};
pub use probe::{Verdict, judge};
pub use process::{Answer, Finished, Invocation, Patience, run_process};
pub(crate) use process::{script_in_memory, usual_memory_score};
pub(crate) use redactor::Redactor;
pub(crate) use runner::PATH;
pub use runner::{Call, HookError, Limits, Outcome as CallOutcome, Runner};
