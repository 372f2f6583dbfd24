//! The booking desk of Skerry Line as a program of its own.

use std::process::ExitCode;

fn main() -> ExitCode {
    quaybook::run(std::env::args_os())
}
