//! `gullet timer`.

use std::fs;
use std::path::{Path, PathBuf};

use clap::{ArgGroup, Args, ValueEnum};
use gullet_model::definition::shell_words;

use crate::args::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::text::harmless;
use crate::ui::{BAD, GOOD, Ui, styled};

/// Print entries for the system's own scheduler, or install them
///
/// Two entries are needed: one calls `gullet due` every minute, one releases at boot what was held when the machine went down in the
/// middle of a run. They have the absolute path of this program and of the definition.
///
/// Example: gullet timer --every-minute systemd --install
#[derive(Args)]
#[group(skip)]
#[command(group = ArgGroup::new("which").required(true).args(["every_minute", "boot", "service"]))]
pub struct TimerArgs {
    /// Both entries for this scheduler: the schedules of the definition, and the release at boot
    #[arg(long, value_enum, value_name = "SCHEDULER")]
    every_minute: Option<Scheduler>,
    /// The boot entry alone, where nothing runs by a schedule
    #[arg(long, value_enum, value_name = "SCHEDULER")]
    boot: Option<Scheduler>,
    /// A systemd service that runs this application, for a systemd timer of your own to start
    #[arg(long, value_name = "APP")]
    service: Option<String>,
    /// Write the entries where the scheduler looks for them
    #[arg(long, conflicts_with_all = ["service", "remove", "check"])]
    install: bool,
    /// Remove them
    #[arg(long, conflicts_with_all = ["service", "check"])]
    remove: bool,
    /// Look whether they are there as they should be, and enabled; exits with 1 where they are not
    #[arg(long, conflicts_with = "service")]
    check: bool,
    /// The folder to write to, where that is not the scheduler's own
    #[arg(long, value_name = "FOLDER")]
    folder: Option<PathBuf>,
}

/// A scheduler of the system's.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Scheduler {
    /// systemd units
    Systemd,
    /// A file for /etc/cron.d
    Cron,
}

/// A file of a scheduler.
struct TimerFile {
    name: &'static str,
    text: String,
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
    if let Some(app) = &args.service {
        if !loaded.definition.app.contains_key(app) {
            return Err(CommandError::text(Exit::Usage, format!("the definition has no application `{app}`")));
        }
        ui.say(service(app, &command));
        return Ok(Exit::Complete);
    }
    let every_minute = args.every_minute.is_some();
    let Some(scheduler) = args.every_minute.or(args.boot) else {
        return Err(CommandError::text(Exit::Usage, "say --every-minute, --boot or --service"));
    };
    let files = files(scheduler, every_minute, &command);
    let folder = args.folder.clone().unwrap_or_else(|| match scheduler {
        Scheduler::Systemd => PathBuf::from(OWN_UNITS),
        Scheduler::Cron => PathBuf::from("/etc/cron.d"),
    });
    if args.install {
        install(ui, scheduler, &folder, &files)
    } else if args.remove {
        remove(ui, &folder, &files)
    } else if args.check {
        check(ui, &folder, &files)
    } else {
        for (number, file) in files.iter().enumerate() {
            if files.len() > 1 {
                ui.say(format!("{}# {}", if number == 0 { "" } else { "\n" }, folder.join(file.name).display()));
            }
            ui.write(file.text.as_bytes());
        }
        Ok(Exit::Complete)
    }
}

fn service(app: &str, command: &dyn Fn(&[&str]) -> String) -> String {
    let run = command(&["run", app, "--unattended", "--trigger", "systemd unit"]);
    let release = command(&["release", "--forgotten"]);
    format!(
        "# Runs {app}. Written by: gullet timer --service {app}\n\
         [Unit]\nDescription=Back up {app}\nAfter=local-fs.target\n\n\
         [Service]\nType=oneshot\nExecStart={run}\n\
         # However the run ended, nothing stays held.\nExecStopPost={release}\n\
         # Complete with warnings is no failure of the unit.\nSuccessExitStatus=6\n{LET_THE_GUARD_LIVE}"
    )
}

/// The files of a scheduler: what releases at boot, and, where it is meant, what calls `due` every minute.
fn files(scheduler: Scheduler, every_minute: bool, command: &dyn Fn(&[&str]) -> String) -> Vec<TimerFile> {
    let (release, due) = (command(&["release", "--forgotten"]), command(&["due"]));
    let option = if every_minute { "every-minute" } else { "boot" };
    match scheduler {
        Scheduler::Cron => {
            // A percent sign ends the command for cron.
            let [release, due] = [release, due].map(|line| line.replace('%', "\\%"));
            let mut text = format!(
                "# Releases what was held when the machine went down. Written by: gullet timer --{option} cron\n@reboot root {release}\n"
            );
            if every_minute {
                text.push_str(&format!(
                    "# Starts what is due by the schedules of the definition.\n* * * * * root {due}\n"
                ));
            }
            vec![TimerFile { name: "gullet", text }]
        }
        Scheduler::Systemd => {
            let written = format!("Written by: gullet timer --{option} systemd");
            let mut files = vec![TimerFile {
                name: "gullet-boot.service",
                text: format!(
                    "# Releases what was held when the machine went down. {written}\n\
                     [Unit]\nDescription=Release applications that a run held when the machine went down\nAfter=local-fs.target\n\n\
                     [Service]\nType=oneshot\nExecStart={release}\n{LET_THE_GUARD_LIVE}\n\n\
                     [Install]\nWantedBy=multi-user.target\n"
                ),
            }];
            if every_minute {
                files.push(TimerFile {
                    name: "gullet-due.service",
                    text: format!(
                        "# Starts what is due by the schedules of the definition. {written}\n\
                         [Unit]\nDescription=Back up what is due\nAfter=local-fs.target gullet-boot.service\n\n\
                         [Service]\nType=oneshot\nExecStart={due}\n\
                         # Complete with warnings is no failure of the unit.\nSuccessExitStatus=6\n{LET_THE_GUARD_LIVE}\n"
                    ),
                });
                files.push(TimerFile {
                    name: "gullet-due.timer",
                    text: format!(
                        "# {written}\n[Unit]\nDescription=Back up what is due, looked at every minute\n\n\
                         [Timer]\nOnCalendar=*-*-* *:*:00\nAccuracySec=1s\n\n[Install]\nWantedBy=timers.target\n"
                    ),
                });
            }
            files
        }
    }
}

fn install(ui: &mut Ui, scheduler: Scheduler, folder: &Path, files: &[TimerFile]) -> Result<Exit, CommandError> {
    for file in files {
        let path = folder.join(file.name);
        let written = gullet_host::state::write_whole(&path, file.text.as_bytes());
        written.map_err(|error| CommandError::new(Exit::Failed, &error))?;
        // Schedulers read them as files that others may read; there is no secret in them.
        fs::set_permissions(&path, std::os::unix::fs::PermissionsExt::from_mode(0o644))?;
        ui.say(format!("{} {}", styled(GOOD, "✓ written:"), path.display()));
    }
    if scheduler == Scheduler::Systemd {
        let timers = files.iter().filter(|file| !file.name.ends_with("due.service")).map(|file| file.name);
        let names = timers.collect::<Vec<_>>().join(" ");
        ui.say(format!("now: systemctl daemon-reload && systemctl enable {names} && systemctl start gullet-due.timer"));
    }
    Ok(Exit::Complete)
}

fn remove(ui: &mut Ui, folder: &Path, files: &[TimerFile]) -> Result<Exit, CommandError> {
    for file in files {
        let path = folder.join(file.name);
        match fs::read_to_string(&path) {
            // Only what was written by this command is removed by it.
            Ok(text) if text.contains("Written by: gullet timer") => {
                fs::remove_file(&path)?;
                ui.say(format!("{} {}", styled(GOOD, "✓ removed:"), path.display()));
            }
            Ok(_) => {
                let text = format!("`{}` was not written by `gullet timer`, and stays", path.display());
                return Err(CommandError::text(Exit::Refused, text));
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(Exit::Complete)
}

/// Where systemd looks for units besides the folder that an administrator writes to: there a package puts them.
const PACKAGED: &str = "/usr/lib/systemd/system";
/// Where an administrator writes them, and where `systemctl enable` notes what is to be started.
const OWN_UNITS: &str = "/etc/systemd/system";

fn check(ui: &mut Ui, folder: &Path, files: &[TimerFile]) -> Result<Exit, CommandError> {
    let mut exit = Exit::Complete;
    for file in files {
        let own = folder.join(file.name);
        let packaged = Path::new(PACKAGED).join(file.name);
        let is_packaged = folder == Path::new(OWN_UNITS) && !own.exists() && packaged.exists();
        let path = if is_packaged { packaged } else { own };
        let wrong = match fs::read_to_string(&path) {
            Ok(text) if text == file.text => not_enabled(folder, file),
            Ok(_) => {
                Some("it is not what this program and this definition ask for: gullet timer … --install".to_owned())
            }
            Err(error) => Some(error.to_string()),
        };
        match wrong {
            None => ui.say(format!("{} {}", styled(GOOD, "✓"), path.display())),
            Some(why) => {
                ui.say(format!("{} {}: {}", styled(BAD, "✗"), path.display(), harmless(&why)));
                exit = Exit::Failed;
            }
        }
    }
    Ok(exit)
}

/// Why nothing starts a unit that is there: it was never enabled, or is not any more.
fn not_enabled(folder: &Path, file: &TimerFile) -> Option<String> {
    let wanted_by = file.text.lines().find_map(|line| line.strip_prefix("WantedBy="))?;
    let link = Path::new(&format!("{wanted_by}.wants")).join(file.name);
    let is_enabled = [folder, Path::new(OWN_UNITS)].iter().any(|folder| folder.join(&link).is_file());
    (!is_enabled).then(|| format!("it is not enabled, so nothing starts it: systemctl enable --now {}", file.name))
}
