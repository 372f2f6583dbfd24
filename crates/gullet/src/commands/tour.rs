//! `gullet tour`.

use std::path::Path;
use std::process::Command;
use std::time::Duration;

use clap::Args;

use super::agenda::AgendaArgs;
use super::drill::DrillArgs;
use super::due::DueArgs;
use super::notify::NotifyArgs;
use super::plan::PlanArgs;
use super::restore::RestoreArgs;
use super::run::RunArgs;
use super::runs::RunsArgs;
use super::status::StatusArgs;
use super::store::copy::CopyArgs;
use super::store::{NewStoreArgs, StoreCommand};
use super::verify::VerifyArgs;
use super::{agenda, drill, due, notify, plan, restore, run, runs, status, store, verify};
use crate::args::{Global, OpeningArgs, ReadingArgs};
use crate::demo::Demo;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::table::table;
use crate::ui::{BAD, BOLD, DIM, GOOD, Ui, styled};

/// Do the whole job on the built-in demo application, narrated
///
/// The demo is quaybook, the booking desk of Skerry Line, a ferry company that does not exist. It takes bookings all the
/// time and writes each into two databases and a file, in that order and not at once. Everything happens in a temporary
/// folder that is removed at the end.
///
/// Example: gullet tour
#[derive(Args)]
pub struct TourArgs {
    /// Keep the folder, to look around in it
    #[arg(long)]
    keep: bool,
}

/// The tour's stage: the demo, and the options that every command of it is called with.
struct Tour<'a> {
    ui: &'a mut Ui,
    demo: Demo,
    global: Global,
    chapter: u32,
}

const READING: ReadingArgs =
    ReadingArgs { store: None, opening: OpeningArgs { identity: Vec::new(), passphrase_from: None } };

pub fn tour(ui: &mut Ui, global: &Global, args: &TourArgs) -> Result<Exit, CommandError> {
    let demo = Demo::open()?;
    let global = Global { definition: Some(demo.definition()), ..global.clone() };
    let mut tour = Tour { ui, demo, global, chapter: 0 };
    let exit = tour.all()?;
    if args.keep {
        let folder = tour.demo.keep();
        tour.ui.say(format!("everything is kept in {}", folder.display()));
    }
    Ok(exit)
}

impl Tour<'_> {
    fn all(&mut self) -> Result<Exit, CommandError> {
        self.chapter("A booking desk is open, and busy");
        self.tell("quaybook takes bookings all the time. Each goes into bookings.db, then its payment into till.db,");
        self.tell("then its boarding list into a file. Copied while it works, the three do not fit together:");
        // A desk with some bookings is easier to believe in than an empty one.
        std::thread::sleep(Duration::from_secs(1));
        let (plain_agrees, plain_said) = self.plain_copy()?;

        self.definition_and_plan()?;

        self.chapter("A run");
        self.tell(
            "The desk is paused, proven to be paused, captured, proven to be still paused, and resumed. Only then",
        );
        self.tell("is anything stored, read back and recorded.");
        let first = self.run("the first run of the tour", &[])?;
        if first != Exit::Complete {
            return Ok(first);
        }

        let restored = self.restore_and_compare(plain_agrees, plain_said)?;
        if restored != Exit::Complete {
            return Ok(restored);
        }

        self.chapter("Proven before it is needed");
        self.tell("A drill restores it to a scratch place, has the engine open the databases, and adds the desk up.");
        self.shell("gullet drill quaybook");
        let args = DrillArgs {
            app: "quaybook".to_owned(),
            run: None,
            plan: false,
            trigger: None,
            scratch: None,
            reading: ReadingArgs::default(),
        };
        let drilled = drill::drill(self.ui, &self.global, &args)?;
        if drilled != Exit::Complete {
            return Ok(drilled);
        }

        let elsewhere = self.elsewhere()?;
        if elsewhere != Exit::Complete {
            return Ok(elsewhere);
        }

        self.chapter("A second run stores what is new, and no more");
        let second = self.run("the second run of the tour", &[])?;

        self.chapter("An application that lies");
        self.tell("From now on the desk says that it is paused, and goes on writing.");
        self.demo.ask(&["misbehave", "lie"])?;
        self.run("the desk lies", &[])?;
        self.tell("The run failed, its captures are void, the desk serves, and the earlier runs are untouched.");
        self.demo.ask(&["misbehave", "none"])?;

        let (third, verified) = self.look_back()?;
        self.nights()?;
        self.ui.say("");
        self.tell("That is the whole job. Your own application: see the README, \"Ten minutes\".");
        Ok(second.worse(third).worse(verified))
    }

    fn definition_and_plan(&mut self) -> Result<(), CommandError> {
        self.chapter("The definition, a store, the plan");
        self.tell("A definition says how to put the desk into backup mode, how to know that it is, and what its parts");
        self.tell("are. The plan is what a run will do, step by step; nothing else is done.");
        self.shell(&format!("cat {}", self.demo.definition().display()));
        let shown = self.definition_excerpt();
        for line in shown {
            self.ui.say(styled(DIM, format!("    {line}")));
        }
        self.shell("gullet store new depot");
        store::store(
            self.ui,
            &self.global,
            &StoreCommand::New(NewStoreArgs { store: "depot".to_owned(), encrypt_to: Vec::new() }),
        )?;
        self.shell("gullet plan quaybook");
        plan::plan(self.ui, &self.global, &PlanArgs::of("quaybook"))?;
        Ok(())
    }

    fn restore_and_compare(&mut self, plain_agrees: bool, plain_said: String) -> Result<Exit, CommandError> {
        self.chapter("Back again, beside the live desk");
        self.shell("gullet restore quaybook@latest --into restored");
        let into = self.demo.path("restored");
        let args = RestoreArgs { run: "quaybook@latest".to_owned(), into: Some(into), ..RestoreArgs::default() };
        let restored = restore::restore(self.ui, &self.global, &args)?;
        if restored != Exit::Complete {
            return Ok(restored);
        }
        let (held_agrees, held_said) = self.demo.audit(&self.of_desk("restored"))?;
        self.ui.say("");
        self.side_by_side(&[
            ("copied while it served", plain_agrees, plain_said),
            ("captured in the hold", held_agrees, held_said),
        ]);
        if !held_agrees {
            return Err(CommandError::text(
                Exit::Failed,
                "the capture does not agree: this must not happen, please report it",
            ));
        }
        Ok(Exit::Complete)
    }

    /// A second copy in an object storage, and the day on which the first store is lost.
    fn elsewhere(&mut self) -> Result<Exit, CommandError> {
        self.chapter("Elsewhere, and the day the first store is lost");
        self.tell("A store on the same machine is half a backup. The copy goes to an object storage; in its place stands one that");
        self.tell("comes with the tour and keeps everything in memory.");
        let storage = quaybook::ObjectStorage::start()?;
        self.demo.add_copy(&storage.endpoint())?;
        let copy = |store: &str, to: Option<&str>, make| {
            StoreCommand::Copy(CopyArgs { store: store.to_owned(), to: to.map(str::to_owned), make })
        };
        self.shell("gullet store copy depot");
        let copied = store::store(self.ui, &self.global, &copy("depot", None, false))?;
        self.shell("rm -r depot");
        std::fs::remove_dir_all(self.demo.path("depot"))?;
        self.shell("gullet restore quaybook@latest --store far --into from-far");
        let reading = ReadingArgs { store: Some("far".into()), ..READING };
        let into = Some(self.demo.path("from-far"));
        let args = RestoreArgs { run: "quaybook@latest".to_owned(), into, reading, ..RestoreArgs::default() };
        let restored = restore::restore(self.ui, &self.global, &args)?;
        let (agrees, said) = self.demo.audit(&self.of_desk("from-far"))?;
        self.ui.say(said);
        self.tell("The store itself is made anew from its copy:");
        self.shell("gullet store copy far --to depot --make");
        let made = store::store(self.ui, &self.global, &copy("far", Some("depot"), true))?;
        if !agrees {
            return Err(CommandError::text(Exit::Failed, "what came from the copy does not agree: please report it"));
        }
        // It goes with this chapter, and so does what the definition says of it.
        self.demo.forget_copy()?;
        Ok(copied.worse(restored).worse(made))
    }

    /// Where the desk lies below a folder of what was restored.
    fn of_desk(&self, restored: &str) -> std::path::PathBuf {
        let desk = self.demo.path("desk");
        let below = desk.strip_prefix("/").unwrap_or(&desk);
        self.demo.path(restored).join("files").join(below)
    }

    fn look_back(&mut self) -> Result<(Exit, Exit), CommandError> {
        self.chapter("The logbook, a full verification, the answer to \"am I protected?\"");
        let third = self.run("the desk behaves again", &[])?;
        self.shell("gullet runs");
        let args = RunsArgs { reading: READING, ..RunsArgs::default() };
        runs::runs(self.ui, &self.global, &args)?;
        self.shell("gullet verify");
        let verified =
            verify::verify(self.ui, &self.global, &VerifyArgs { reading: READING, ..VerifyArgs::default() })?;
        self.shell("gullet status");
        status::status(self.ui, &self.global, &StatusArgs::default())?;
        Ok((third, verified))
    }

    /// Three applications with schedules, one of which fails, and what is told of that.
    fn nights(&mut self) -> Result<(), CommandError> {
        self.chapter("Every night by itself, and told in the morning");
        self.tell(
            "Schedules say when, keep rules what stays, and `notify` who is told. Two more applications join the",
        );
        self.tell("desk: the fares, and the timetable, whose server does not answer tonight.");
        self.demo.add_nights()?;
        self.shell("gullet agenda");
        agenda::agenda(self.ui, &self.global, &AgendaArgs::default())?;
        self.shell("gullet agenda --simulate 1y");
        let year = AgendaArgs { simulate: "1y".parse().ok(), ..AgendaArgs::default() };
        agenda::agenda(self.ui, &self.global, &year)?;
        self.tell(
            "The system's scheduler calls `gullet due` every minute (`gullet timer`). Nothing is due now, so the night",
        );
        self.tell("is run by hand:");
        self.shell("gullet due");
        due::due(self.ui, &self.global, &DueArgs {})?;
        self.shell("gullet run --all --quiet");
        let args = RunArgs { apps: Vec::new(), all: true, ..Self::run_args("a night", &[]) };
        let quiet = std::mem::replace(self.ui, Ui::new(self.global.color, true, self.global.json));
        let ran = run::run(self.ui, &self.global, &args);
        *self.ui = quiet;
        ran?;
        self.shell("gullet notify --report morning --preview");
        let args = NotifyArgs::preview_of("morning");
        notify::notify(self.ui, &self.global, &args)?;
        self.tell("One failed, the others did not suffer from it, and it cannot be overlooked.");
        Ok(())
    }

    fn chapter(&mut self, title: &str) {
        self.chapter += 1;
        self.ui.say("");
        self.ui.say(styled(BOLD, format!("{}. {title}", self.chapter)));
    }

    fn tell(&mut self, text: &str) {
        self.ui.say(format!("   {text}"));
    }

    fn shell(&mut self, command: &str) {
        self.ui.say("");
        self.ui.say(styled(DIM, format!("$ {command}")));
    }

    fn run(&mut self, reason: &str, parts: &[String]) -> Result<Exit, CommandError> {
        self.shell(&format!("gullet run quaybook --reason \"{reason}\""));
        run::run(self.ui, &self.global, &Self::run_args(reason, parts))
    }

    fn run_args(reason: &str, parts: &[String]) -> RunArgs {
        RunArgs {
            all: false,
            groups: Vec::new(),
            apps: vec!["quaybook".to_owned()],
            reason: Some(reason.to_owned()),
            parts: parts.to_vec(),
            reread: false,
            trigger: None,
            unattended: true,
            finish_by: None,
            outside_window: true,
        }
    }

    /// What a hand-made copy gives: until one disagrees, which is nearly always the first.
    fn plain_copy(&mut self) -> Result<(bool, String), CommandError> {
        let mut last = (true, String::new());
        for number in 1..=3 {
            let copy = self.demo.path(&format!("copy-{number}"));
            self.shell(&format!("cp -r desk copy-{number}; quaybook audit copy-{number}"));
            copy_folder(&self.demo.path("desk"), &copy)?;
            last = self.demo.audit(&copy)?;
            self.ui.say(&last.1);
            if !last.0 {
                break;
            }
        }
        Ok(last)
    }

    fn definition_excerpt(&self) -> Vec<String> {
        let text = std::fs::read_to_string(self.demo.definition()).unwrap_or_default();
        let quaybook = format!(
            "\"{}\", \"--desk\", \"{}\"",
            self.demo.path("quaybook").display(),
            self.demo.path("desk").display()
        );
        let folder = format!("{}/", self.demo.path("").display());
        let text = text.replace(&quaybook, "\"quaybook\"").replace(folder.trim_end_matches('/'), "…");
        let from = text.lines().skip_while(|line| !line.contains(".hold]]"));
        let lines = from.take_while(|line| !line.contains("name   = \"till\"")).map(str::to_owned);
        let mut lines: Vec<String> = lines.collect();
        while lines.last().is_some_and(|line| line.trim().is_empty() || line.starts_with("[[")) {
            lines.pop();
        }
        lines
    }

    fn side_by_side(&mut self, audits: &[(&str, bool, String)]) {
        let rows = audits.iter().map(|(what, agrees, said)| {
            let word = if *agrees { styled(GOOD, "✓ fits together") } else { styled(BAD, "✗ does not fit") };
            vec![(*what).to_owned(), word, said.clone()]
        });
        let rows = rows.collect();
        self.ui.say(table(&["the desk's state", "result", "quaybook audit says"], rows));
    }
}

/// Copies as an administrator's batch file would.
fn copy_folder(from: &Path, to: &Path) -> Result<(), CommandError> {
    // The socket cannot be copied, which `cp` says; everything else is.
    Command::new("cp").arg("-r").arg(from).arg(to).stderr(std::process::Stdio::null()).status()?;
    Ok(())
}
