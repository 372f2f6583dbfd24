//! The command line of the desk.

use std::ffi::OsString;
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use clap::{Parser, Subcommand};

use crate::audit::Audit;
use crate::client::ask;
use crate::desk::{Desk, Failure};
use crate::misbehave::Misbehaviour;
use crate::serve::{Pace, serve};
use crate::web::{WebArgs, web};

/// The booking desk of Skerry Line
#[derive(Parser)]
#[command(name = "quaybook", version)]
struct Arguments {
    /// The desk's folder
    #[arg(long, global = true, default_value = "/var/lib/quaybook")]
    desk: PathBuf,
    #[command(subcommand)]
    command: DeskCommand,
}

#[derive(Subcommand)]
enum DeskCommand {
    /// Open the desk and take bookings until told to stop
    Serve {
        /// Operators that take bookings at the same time
        #[arg(long, default_value_t = 4)]
        operators: u64,
        /// Milliseconds between the steps of a booking
        #[arg(long, default_value_t = 4)]
        step: u64,
        /// Misbehave from the beginning
        #[arg(long, value_enum, default_value_t = Misbehaviour::None)]
        misbehave: Misbehaviour,
    },
    /// Answer over HTTP for a desk that is open
    Web(WebArgs),
    /// Take no new bookings; those in hand are finished
    Pause,
    /// Take bookings again
    Resume,
    /// Print how many bookings are in hand
    Busy,
    /// Print `serving`, `pausing` or `paused`
    State,
    /// Print the settings as JSON
    Settings {
        /// Take the settings of a desk that is closed from standard input instead
        #[arg(long)]
        set: bool,
    },
    /// Print the ledgers, a JSON object a line
    Ledgers,
    /// Print how many rows a ledger has
    Count {
        /// The ledger's name
        ledger: String,
    },
    /// Print the number of the last payment in a ledger, or of the last booking
    Serial {
        /// The ledger's name
        ledger: Option<String>,
    },
    /// Write a ledger into a folder
    Export {
        /// The ledger's name
        ledger: String,
        /// The folder to write to
        folder: PathBuf,
    },
    /// Forget the journal up to a booking
    Purge {
        /// The last booking whose journal is forgotten
        #[arg(long)]
        up_to: i64,
    },
    /// Misbehave from now on
    Misbehave {
        /// In which way
        #[arg(value_enum)]
        how: Misbehaviour,
    },
    /// Close the desk
    Stop,
    /// Add up the desk in a folder; exit 1 when its parts disagree
    Audit {
        /// The folder to add up
        folder: PathBuf,
        /// Print the sums as JSON
        #[arg(long)]
        json: bool,
    },
}

/// Runs the program with these arguments, the program's name first.
pub fn run(arguments: impl IntoIterator<Item = OsString>) -> ExitCode {
    let arguments = match Arguments::try_parse_from(arguments) {
        Ok(arguments) => arguments,
        Err(error) => {
            let _ = error.print();
            return ExitCode::from(u8::try_from(error.exit_code()).unwrap_or(2));
        }
    };
    match execute(&Desk::new(arguments.desk), arguments.command) {
        Ok(code) => code,
        Err(error) => {
            eprintln!("quaybook: {error}");
            ExitCode::FAILURE
        }
    }
}

fn execute(desk: &Desk, command: DeskCommand) -> Result<ExitCode, Failure> {
    let answer = match command {
        DeskCommand::Serve { operators, step, misbehave } => {
            serve(desk, Pace { operators, step: Duration::from_millis(step) }, misbehave)?;
            String::new()
        }
        DeskCommand::Web(args) => {
            web(desk, &args)?;
            String::new()
        }
        DeskCommand::Audit { folder, json } => return audit(&folder, json),
        DeskCommand::Pause => ask(desk, &["pause"])?,
        DeskCommand::Resume => ask(desk, &["resume"])?,
        DeskCommand::Busy => ask(desk, &["busy"])?,
        DeskCommand::State => ask(desk, &["state"])?,
        DeskCommand::Settings { set: false } => ask(desk, &["settings"])?,
        DeskCommand::Settings { set: true } => {
            desk.set_settings(&std::io::read_to_string(std::io::stdin())?)?;
            String::new()
        }
        DeskCommand::Ledgers => ask(desk, &["ledgers"])?,
        DeskCommand::Count { ledger } => ask(desk, &["count", &ledger])?,
        DeskCommand::Serial { ledger: None } => ask(desk, &["serial"])?,
        DeskCommand::Serial { ledger: Some(ledger) } => ask(desk, &["serial", &ledger])?,
        DeskCommand::Export { ledger, folder } => ask(desk, &["export", &ledger, &folder.to_string_lossy()])?,
        DeskCommand::Purge { up_to } => ask(desk, &["purge", &up_to.to_string()])?,
        DeskCommand::Misbehave { how } => {
            let how = clap::ValueEnum::to_possible_value(&how).ok_or("no such misbehaviour")?;
            ask(desk, &["misbehave", how.get_name()])?
        }
        DeskCommand::Stop => ask(desk, &["stop"])?,
    };
    print!("{answer}");
    Ok(ExitCode::SUCCESS)
}

fn audit(folder: &std::path::Path, json: bool) -> Result<ExitCode, Failure> {
    let audit = Audit::of(folder)?;
    let differences = audit.differences();
    if json {
        println!("{}", serde_json::to_string(&audit)?);
    } else if differences.is_empty() {
        println!(
            "{} bookings, {} payments, {} boarding entries: they agree",
            audit.bookings, audit.payments, audit.boarding
        );
    } else {
        println!("they disagree: {}", differences.join("; "));
    }
    Ok(if differences.is_empty() { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}
