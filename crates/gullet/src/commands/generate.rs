//! `gullet completions` and `gullet manual`: what is generated from the arguments.

use std::path::PathBuf;

use clap::Args;

use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;

/// Print completions for a shell
///
/// Example: gullet completions bash > /etc/bash_completion.d/gullet
#[derive(Args)]
pub struct CompletionsArgs {
    /// The shell
    #[arg(value_enum)]
    shell: clap_complete::Shell,
}

/// Write the manual pages into a folder
///
/// Example: gullet manual /usr/local/share/man/man1
#[derive(Args)]
pub struct ManualArgs {
    /// The folder; it must exist
    folder: PathBuf,
}

pub fn completions(ui: &mut Ui, args: &CompletionsArgs) -> Result<Exit, CommandError> {
    let mut bytes = Vec::new();
    clap_complete::generate(args.shell, &mut crate::command(), "gullet", &mut bytes);
    ui.write(&bytes);
    Ok(Exit::Complete)
}

pub fn manual(ui: &mut Ui, args: &ManualArgs) -> Result<Exit, CommandError> {
    clap_mangen::generate_to(crate::command(), &args.folder).map_err(|error| {
        CommandError::new(Exit::Failed, &error).hint(format!("the folder {} must exist", args.folder.display()))
    })?;
    ui.tell(format!("the manual pages are in {}", args.folder.display()));
    Ok(Exit::Complete)
}
