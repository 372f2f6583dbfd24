//! The program `gullet`. Called by the name `quaybook` it is the demo application.

use std::process::ExitCode;

fn main() -> ExitCode {
    gullet::main(std::env::args_os().collect())
}
