//! `gullet completions` and `gullet manual`: what is generated from the arguments.

use std::path::PathBuf;

use clap::Args;

use gullet_model::definition::reference::tables;

use crate::error::CommandError;
use crate::exit::Exit;
use crate::render::reference::manual as manual_of_definition;
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
/// `gullet.toml(5)`, the definition, goes beside a folder `man1` into `man5`.
///
/// Example: gullet manual /usr/local/share/man/man1
#[derive(Args)]
pub struct ManualArgs {
    /// The folder; it must exist
    folder: PathBuf,
}

pub fn completions(ui: &mut Ui, args: &CompletionsArgs) -> Result<Exit, CommandError> {
    let mut bytes = Vec::new();
    let name = args.shell.to_string();
    let shells = clap_complete::env::Shells::builtins();
    let Some(shell) = shells.completer(&name) else {
        return Err(CommandError::text(Exit::Usage, format!("there are no completions for {name}")));
    };
    // The shell asks the program each time, so that it knows the applications and runs that there are then.
    shell
        .write_registration("COMPLETE", "gullet", "gullet", "gullet", &mut bytes)
        .map_err(|error| CommandError::new(Exit::Failed, &error))?;
    ui.write(&bytes);
    Ok(Exit::Complete)
}

pub fn manual(ui: &mut Ui, args: &ManualArgs) -> Result<Exit, CommandError> {
    clap_mangen::generate_to(crate::command(), &args.folder).map_err(|error| {
        CommandError::new(Exit::Failed, &error).hint(format!("the folder {} must exist", args.folder.display()))
    })?;
    // The definition's page is of section 5: beside a folder `man1` in its own.
    let folder = if args.folder.ends_with("man1") { args.folder.with_file_name("man5") } else { args.folder.clone() };
    let page = folder.join("gullet.toml.5");
    let text = manual_of_definition(&tables());
    std::fs::create_dir_all(&folder)
        .and_then(|()| std::fs::write(&page, text))
        .map_err(|error| CommandError::text(Exit::Failed, format!("cannot write {}: {error}", page.display())))?;
    ui.tell(format!("the manual pages are in {}", args.folder.display()));
    Ok(Exit::Complete)
}
