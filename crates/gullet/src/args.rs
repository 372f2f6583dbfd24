//! Options that several commands have.

use std::path::PathBuf;

use clap::Args;

use crate::ui::Color;

/// What the options of every command stand under.
const COMMON: &str = "Common options";
/// The same of those that say what is read, and what opens it.
const READING: &str = "Which store, and what opens it";

/// Options of every command.
#[derive(Args, Clone)]
pub struct Global {
    /// The definition file
    ///
    /// Without it `./gullet.toml` is read, or else `/etc/gullet/gullet.toml`.
    #[arg(long, global = true, env = "GULLET_DEFINITION", value_name = "FILE", help_heading = COMMON)]
    pub definition: Option<PathBuf>,
    /// Tell only what went wrong
    #[arg(long, short, global = true, help_heading = COMMON)]
    pub quiet: bool,
    /// When output is coloured
    #[arg(long, global = true, value_enum, default_value_t, value_name = "WHEN", help_heading = COMMON)]
    pub color: Color,
    /// Print data as JSON
    #[arg(long, global = true, help_heading = COMMON)]
    pub json: bool,
}

/// Where a reading command reads.
#[derive(Args, Clone, Debug, Default)]
pub struct ReadingArgs {
    /// Read this store: one that the definition names, or a place (a folder, s3://…, sftp://…); of that no definition is needed
    #[arg(long, value_name = "NAME|PLACE", help_heading = READING)]
    pub store: Option<PathBuf>,
    #[command(flatten)]
    pub opening: OpeningArgs,
}

/// What opens encrypted contents.
#[derive(Args, Clone, Debug, Default)]
pub struct OpeningArgs {
    /// Open what is encrypted with the identities in this file (can be repeated): lines of `AGE-SECRET-KEY-1…`, the same under
    /// a passphrase, or an SSH private key
    #[arg(long, value_name = "FILE", help_heading = READING)]
    pub identity: Vec<PathBuf>,
    /// Take the passphrase of an identity file from the first line of this file instead of asking at the terminal
    #[arg(long, value_name = "FILE", help_heading = READING)]
    pub passphrase_from: Option<PathBuf>,
}
