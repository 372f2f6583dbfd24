//! `gullet timer`.

use clap::{Args, ValueEnum};
use gullet_core::plan::shell_words;

use crate::cli::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::ui::Ui;

/// Print entries for the system's own scheduler
///
/// The boot entry leaves holds that were forgotten because the machine went down in the middle of a run. The entries have
/// the absolute path of this program and of the definition.
///
/// Example: gullet timer --boot systemd > /etc/systemd/system/gullet-boot.service
#[derive(Args)]
pub struct TimerArgs {
    /// The boot entry for this scheduler
    #[arg(long, value_enum, value_name = "SCHEDULER", required = true)]
    boot: Scheduler,
}

/// A scheduler of the system's.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Scheduler {
    /// A systemd unit
    Systemd,
    /// A line for /etc/cron.d
    Cron,
}

pub fn timer(ui: &mut Ui, global: &Global, args: &TimerArgs) -> Result<Exit, CommandError> {
    let loaded = open::definition(global)?;
    let program = std::env::current_exe()?.display().to_string();
    let definition = loaded.path.display().to_string();
    let words = [program.as_str(), "--definition", &definition, "release", "--forgotten"].map(str::to_owned);
    let command = shell_words(&words);
    ui.say(match args.boot {
        Scheduler::Systemd => format!(
            "# Leaves what was held when the machine went down. Written by: gullet timer --boot systemd\n\
             [Unit]\nDescription=Release applications that a run held when the machine went down\nAfter=local-fs.target\n\n\
             [Service]\nType=oneshot\nExecStart={command}\n\
             # A service manager otherwise kills guard and application together.\nKillMode=process\nOOMPolicy=continue\n\n\
             [Install]\nWantedBy=multi-user.target"
        ),
        Scheduler::Cron => {
            format!("# Leaves what was held when the machine went down. Written by: gullet timer --boot cron\n@reboot root {command}")
        }
    });
    Ok(Exit::Complete)
}
