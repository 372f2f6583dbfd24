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

pub use account::Account;
pub use account::AccountError;
pub use family::Process;
pub use family::{MARK, end_found, marked, with_variable};
pub use notes::{Notes, NotesError};
pub use probe::{Verdict, judge};
pub use process::{Cancellation, Finished, HttpAnswer, Invocation, run_process};
pub use process::{script_in_memory, usual_memory_score};
pub use redactor::Redactor;
pub use runner::PATH;
pub use runner::{Call, CallOutcome, HookError, Limits, Runner, argv_of};
