//! The command line of Gullet: arguments in, text out. What is done is decided in `gullet-core`.
//!
//! - `cli`: the arguments. `args`: options that several commands have. `commands`: one file a command.
//! - `ui`: where text goes and how it is styled. `text`: sizes, times, lists. `table`: aligned columns.
//! - `error`: the one error of the command line and its rendering. `exit`: the exit codes. `defect`: how a mistake of the program ends it.
//! - `outside`: the clock, the host, the signals that the core is handed. `open`: definition, state, stores. `reading`: the stores
//!   that reading commands read, with their logbooks.
//! - `render`: what is shown, made of data. `post`: how messages reach people.
//! - `complete`: what a shell may complete words to.
//! - `forgotten`: what every command does first about holds and runs whose processes died.
//! - `narrate`: the events of a run as lines of text. `demo`: the demo application, open in a temporary folder.

mod args;
mod cli;
mod commands;
mod complete;
mod defect;
mod demo;
mod error;
mod exit;
mod forgotten;
mod narrate;
mod open;
mod outside;
mod post;
mod reading;
mod recipes;
mod render;
mod table;
mod text;
mod ui;

use std::ffi::OsString;
use std::path::Path;
use std::process::ExitCode;

pub use exit::Exit;
pub use render::reference::{markdown as definition_reference, schema_markdown};

/// Runs the program with its arguments, the program's own name first.
pub fn main(arguments: Vec<OsString>) -> ExitCode {
    let name = arguments.first().map(Path::new).and_then(Path::file_name);
    if name.is_some_and(|name| name == "quaybook") {
        return quaybook::run(arguments);
    }
    defect::ends_with(Exit::Failed);
    cli::run(arguments).into()
}

/// The command as clap knows it, for generated documents.
pub fn command() -> clap::Command {
    <cli::Cli as clap::CommandFactory>::command()
}
