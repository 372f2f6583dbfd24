//! What happens when the program meets a mistake of its own: it says so and ends, at once and as a whole.
//!
//! Nothing is unwound. What a thread was in the middle of is left as it would be left by a kill, which is proven at each event: guards release
//! what was held, and nothing half counts as whole. Another thread never goes on with what the broken one has left behind.

use std::fmt::Write as _;
use std::io::{IsTerminal, Write as _};
use std::panic::{PanicHookInfo, set_hook};

use crate::exit::Exit;
use crate::text::harmless;

/// From now on a mistake of the program is told in its words and ends it with this code.
pub fn ends_with(exit: Exit) {
    set_hook(Box::new(move |panic| tell(panic, exit)));
}

/// Tells it, and ends the program without unwinding; no core is written, which would have keys in it.
#[expect(clippy::exit, reason = "nothing of the program can be relied upon any more")]
fn tell(panic: &PanicHookInfo<'_>, exit: Exit) {
    let mut stderr = std::io::stderr();
    let payload = panic.payload();
    let words =
        payload.downcast_ref::<&str>().copied().or_else(|| payload.downcast_ref::<String>().map(String::as_str));
    let what = words.unwrap_or("no words");
    let place = panic.location().map(ToString::to_string).unwrap_or_default();
    // A progress bar may be on the line.
    let mut text = String::from(if stderr.is_terminal() { "\r\x1b[K" } else { "" });
    let _ = writeln!(text, "error: gullet has a defect: {}", harmless(what));
    let _ = writeln!(text, "caused by: {place}, version {}", env!("CARGO_PKG_VERSION"));
    let _ =
        writeln!(text, "hint: what was going on does not count as done, and what is held is released by its guard.");
    let _ = writeln!(text, "      `gullet status` says how it stands. Please report these lines.");
    if std::env::var_os("RUST_BACKTRACE").is_some_and(|value| value != "0") {
        let _ = writeln!(text, "{}", std::backtrace::Backtrace::force_capture());
    }
    let _ = stderr.write_all(text.as_bytes());
    std::process::exit(exit.code().into());
}
