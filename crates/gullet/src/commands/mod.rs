//! The commands, one file each.

mod agenda;
mod compare;
mod drill;
mod due;
mod explain;
mod generate;
mod guard;
mod hold;
mod key;
mod morning;
mod new;
mod notify;
mod plan;
mod preflight;
mod report;
mod restore;
mod run;
mod runs;
mod show;
mod status;
mod store;
mod thin;
mod timer;
mod tour;
mod trial;
mod verify;

use clap::Subcommand;

pub use explain::TOPICS;

use crate::args::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;

/// In the order in which people work.
#[derive(Subcommand)]
pub enum Command {
    Tour(tour::TourArgs),
    New(new::NewArgs),
    Explain(explain::ExplainArgs),
    Preflight(preflight::PreflightArgs),
    Plan(plan::PlanArgs),
    Try(trial::TryArgs),
    Hold(hold::HoldArgs),
    Release(hold::ReleaseArgs),
    Run(run::RunArgs),
    Runs(runs::RunsArgs),
    Show(show::ShowArgs),
    Compare(compare::CompareArgs),
    Trace(compare::TraceArgs),
    Verify(verify::VerifyArgs),
    Restore(restore::RestoreArgs),
    Drill(drill::DrillArgs),
    Thin(thin::ThinArgs),
    Keep(drill::KeepArgs),
    Agenda(agenda::AgendaArgs),
    Due(due::DueArgs),
    Timer(timer::TimerArgs),
    Notify(notify::NotifyArgs),
    Status(status::StatusArgs),
    Report(report::ReportArgs),
    #[command(subcommand)]
    Store(store::StoreCommand),
    #[command(subcommand)]
    Key(key::KeyCommand),
    Completions(generate::CompletionsArgs),
    Manual(generate::ManualArgs),
    #[command(hide = true)]
    Guard(guard::GuardArgs),
}

impl Command {
    /// Whether the exit code says how work ended that is done and recorded, whoever reads about it; else what is printed is the work.
    pub fn is_about_work(&self) -> bool {
        matches!(
            self,
            Self::Run(_) | Self::Due(_) | Self::Hold(_) | Self::Release(_) | Self::Restore(_) | Self::Drill(_)
        )
    }
}

/// Executes a command.
pub fn execute(ui: &mut Ui, global: &Global, command: Command) -> Result<Exit, CommandError> {
    match command {
        Command::Tour(args) => tour::tour(ui, global, &args),
        Command::New(args) => new::new(ui, &args),
        Command::Explain(args) => explain::explain(ui, &args),
        Command::Preflight(args) => preflight::preflight(ui, global, &args),
        Command::Plan(args) => plan::plan(ui, global, &args),
        Command::Try(args) => trial::trial(ui, global, &args),
        Command::Hold(args) => hold::hold(ui, global, &args),
        Command::Release(args) => hold::release(ui, global, &args),
        Command::Run(args) => run::run(ui, global, &args),
        Command::Runs(args) => runs::runs(ui, global, &args),
        Command::Show(args) => show::show(ui, global, &args),
        Command::Compare(args) => compare::compare(ui, global, &args),
        Command::Trace(args) => compare::trace(ui, global, &args),
        Command::Verify(args) => verify::verify(ui, global, &args),
        Command::Restore(args) => restore::restore(ui, global, &args),
        Command::Drill(args) => drill::drill(ui, global, &args),
        Command::Thin(args) => thin::thin(ui, global, &args),
        Command::Keep(args) => drill::keep(ui, global, &args),
        Command::Agenda(args) => agenda::agenda(ui, global, &args),
        Command::Due(args) => due::due(ui, global, &args),
        Command::Timer(args) => timer::timer(ui, global, &args),
        Command::Notify(args) => notify::notify(ui, global, &args),
        Command::Status(args) => status::status(ui, global, &args),
        Command::Report(args) => report::report(ui, global, &args),
        Command::Store(command) => store::store(ui, global, &command),
        Command::Key(command) => key::key(ui, global, &command),
        Command::Completions(args) => generate::completions(ui, &args),
        Command::Manual(args) => generate::manual(ui, &args),
        Command::Guard(_) => guard::guard(),
    }
}
