//! `gullet timer`.

use clap::{Args, ValueEnum};
use gullet_model::definition::shell_words;

use crate::args::Global;
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
#[group(required = true, multiple = false)]
pub struct TimerArgs {
    /// The boot entry for this scheduler
    #[arg(long, value_enum, value_name = "SCHEDULER")]
    boot: Option<Scheduler>,
    /// A systemd service that runs this application, for a systemd timer to start
    #[arg(long, value_name = "APP")]
    service: Option<String>,
}

/// A scheduler of the system's.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Scheduler {
    /// A systemd unit
    Systemd,
    /// A line for /etc/cron.d
    Cron,
}

/// A service manager otherwise kills guard and application together when it ends a unit, or when memory runs out.
const LET_THE_GUARD_LIVE: &str = "# The guard of a hold must outlive the run.\nKillMode=process\nOOMPolicy=continue";

pub fn timer(ui: &mut Ui, global: &Global, args: &TimerArgs) -> Result<Exit, CommandError> {
    let loaded = open::definition(global)?;
    let program = std::env::current_exe()?.display().to_string();
    let definition = loaded.path.display().to_string();
    let command = |words: &[&str]| {
        let all = [[program.as_str(), "--definition", &definition].as_slice(), words].concat();
        shell_words(&all.iter().map(ToString::to_string).collect::<Vec<_>>())
    };
    let release = command(&["release", "--forgotten"]);
    if let Some(app) = &args.service {
        if !loaded.definition.app.contains_key(app) {
            return Err(CommandError::text(Exit::Usage, format!("the definition has no application `{app}`")));
        }
        let run = command(&["run", app, "--unattended", "--trigger", "systemd unit"]);
        ui.say(format!(
            "# Runs {app}. Written by: gullet timer --service {app}\n\
             [Unit]\nDescription=Back up {app}\nAfter=local-fs.target\n\n\
             [Service]\nType=oneshot\nExecStart={run}\n\
             # However the run ended, nothing stays held.\nExecStopPost={release}\n\
             # Complete with warnings is no failure of the unit.\nSuccessExitStatus=6\n{LET_THE_GUARD_LIVE}"
        ));
        return Ok(Exit::Complete);
    }
    ui.say(match args.boot {
        Some(Scheduler::Cron) => format!(
            "# Releases what was held when the machine went down. Written by: gullet timer --boot cron\n@reboot root {release}"
        ),
        _ => format!(
            "# Releases what was held when the machine went down. Written by: gullet timer --boot systemd\n\
             [Unit]\nDescription=Release applications that a run held when the machine went down\nAfter=local-fs.target\n\n\
             [Service]\nType=oneshot\nExecStart={release}\n{LET_THE_GUARD_LIVE}\n\n\
             [Install]\nWantedBy=multi-user.target"
        ),
    });
    Ok(Exit::Complete)
}
