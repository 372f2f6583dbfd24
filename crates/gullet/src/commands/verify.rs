//! `gullet verify`.

use clap::Args;
use gullet_core::logbook::Logged;
use gullet_core::verify::{self, RunVerdict};

use crate::cli::Global;
use crate::commands::ReadingArgs;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open::Reading;
use crate::outside::Outside;
use crate::text::{count, harmless, size};
use crate::ui::{BAD, GOOD, Ui, styled};

/// Read back and prove what is stored
///
/// Every stored byte of the runs is read once, against the hash in their records, and every chunk against its id. Damage
/// is named by runs, parts and paths, and noted, so that the next run stores what is lost anew.
///
/// Example: gullet verify quaybook@latest
#[derive(Args)]
pub struct VerifyArgs {
    /// The runs; all when none is named
    #[arg(value_name = "RUN")]
    pub(super) runs: Vec<String>,
    #[command(flatten)]
    pub(super) reading: ReadingArgs,
}

pub fn verify(ui: &mut Ui, global: &Global, args: &VerifyArgs) -> Result<Exit, CommandError> {
    let reading = Reading::open(global, args.reading.store.as_deref(), None, ui)?;
    let outside = Outside::new();
    outside.listen_to_signals()?;
    let world = outside.world();
    let mut exit = Exit::Complete;
    let mut asked = Vec::new();
    for text in &args.runs {
        asked.push(reading.find(text)?.2.name.clone());
    }
    for (store, book) in &reading.stores {
        let runs: Vec<&Logged> = book
            .runs
            .iter()
            .filter(|logged| logged.in_store && (args.runs.is_empty() || asked.contains(&logged.name)))
            .collect();
        if runs.is_empty() && book.unreadable.is_empty() {
            ui.tell(format!("{}: no runs to verify", store.location().describe()));
            continue;
        }
        let report = verify::verify(store, book, &runs, &world, &mut |done, total| {
            ui.progress(&format!("read back {} of {}", size(done), size(total)));
        })?;
        if report.stopped {
            return Err(CommandError::text(Exit::Interrupted, "stopped before everything was read; nothing was noted"));
        }
        // On somebody else's machine a store is only read.
        if let Some(loaded) = &reading.loaded {
            let noted = verify::remark(store, &runs, &report, &world);
            if let Err(error) = noted {
                ui.warning(&format!("the result could not be noted in the store: {error}"));
            }
            let state = crate::open::state(loaded)?;
            let cache = gullet_store::Cache::open(&state.cache_path(&store.info().id)?);
            if let Ok(mut cache) = cache {
                for (name, _) in &report.damaged {
                    cache.forget(name)?;
                }
            }
        }
        if ui.is_json() {
            ui.json(&report)?;
        } else {
            for (name, why) in &report.damaged {
                ui.complain(format!("{} {}", styled(BAD, "damaged:"), harmless(&format!("{name}: {why}"))));
            }
            for verdict in &report.runs {
                show(ui, verdict);
            }
            let proven = format!(
                "{}, {}, {} read; {} proven",
                count(report.runs.len() as u64, "run"),
                count(report.files, "payload file"),
                size(report.bytes),
                count(report.chunks, "chunk")
            );
            let word = if report.is_sound() { styled(GOOD, "✓ sound") } else { styled(BAD, "✗ damaged") };
            ui.say(format!("{word}: {proven}"));
        }
        if !report.is_sound() {
            exit = Exit::Failed;
        }
    }
    Ok(exit)
}

fn show(ui: &mut Ui, verdict: &RunVerdict) {
    let word = if verdict.is_sound() { styled(GOOD, "✓ sound") } else { styled(BAD, "✗ damaged") };
    if !ui.is_quiet() || !verdict.is_sound() {
        ui.say(format!("  {:<10}  {:<16} {word}", verdict.run, verdict.app));
    }
    for problem in &verdict.problems {
        ui.say(format!("      {}", harmless(problem)));
    }
    for loss in &verdict.lost {
        let more = if loss.count > loss.paths.len() as u64 { ", …" } else { "" };
        let lost = format!("{}: {} lost: {}{more}", loss.part, count(loss.count, "path"), loss.paths.join(", "));
        let listing = loss.listing.as_ref().map(|why| format!("{}: its listing is lost: {why}", loss.part));
        ui.say(format!("      {}", harmless(&listing.unwrap_or(lost))));
    }
}
