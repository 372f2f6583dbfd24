//! The command line as it is typed.

use std::ffi::OsString;

use clap::Parser;

use crate::args::Global;
use crate::commands::{self, Command};
use crate::defect;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::narrate;
use crate::ui::Ui;

/// Back up line-of-business applications so that it can be trusted and proven
///
/// Gullet reads a definition of an application, puts it into backup mode (the hold), proves that it is held, captures
/// every part of it, proves that it was still held, releases it, stores what is new, reads it back, and writes a record
/// of all of it.
///
/// Exit codes: 0 complete, 1 failed, 2 usage, 3 the definition is wrong, 4 refused before anything was touched,
/// 5 incomplete, 6 complete with warnings, 7 the application is not released, 8 interrupted and released.
/// `gullet status` alone ends with 0 to 3: ok, warning, critical, unknown.
#[derive(Parser)]
#[command(name = "gullet", version, propagate_version = true, disable_help_subcommand = true)]
pub struct Cli {
    #[command(flatten)]
    global: Global,
    #[command(subcommand)]
    command: Command,
}

/// Parses the arguments and executes the command.
pub fn run(arguments: Vec<OsString>) -> Exit {
    crate::complete::answer();
    let cli = match Cli::try_parse_from(arguments) {
        Ok(cli) => cli,
        Err(error) => {
            let _ = error.print();
            return if error.use_stderr() { Exit::Usage } else { Exit::Complete };
        }
    };
    let mut ui = Ui::new(cli.global.color, cli.global.quiet, cli.global.json);
    let is_about_work = cli.command.is_about_work();
    if let Command::Status(_) = &cli.command {
        defect::ends_with(Exit::Monitoring(3));
    }
    narrate::fall_over(0);
    let exit = match commands::execute(&mut ui, &cli.global, cli.command) {
        Ok(exit) => exit,
        Err(error) => {
            ui.error(&error);
            error.exit
        }
    };
    ui.clear();
    let Some(error) = ui.unprinted() else { return exit };
    ui.error(&CommandError::text(Exit::Failed, format!("standard output cannot be written: {error}")));
    match exit {
        Exit::Monitoring(_) => Exit::Monitoring(3),
        Exit::Complete if !is_about_work => Exit::Failed,
        other => other,
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_arguments_are_sound() {
        crate::command().debug_assert();
    }
}
