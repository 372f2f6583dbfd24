//! `gullet restore`.

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt;
use std::path::PathBuf;

use clap::Args;
use gullet_core::restore::{RestorePlan, RestoreReport};
use gullet_store::listing::PathName;

use crate::cli::Global;
use crate::commands::ReadingArgs;
use crate::error::{CommandError, locked};
use crate::exit::Exit;
use crate::open::Reading;
use crate::outside::Outside;
use crate::table::table;
use crate::text::{count, harmless, size, time};
use crate::ui::{BAD, BOLD, GOOD, Ui, WARN, outcome, styled};

/// Restore a run into an empty folder
///
/// Files are put under `files/` with the paths that they had, exports under `exports/PART/`. Every byte is proven while
/// it is written; nothing is ever overwritten.
///
/// Example: gullet restore quaybook@latest --into /srv/look
#[derive(Args)]
pub struct RestoreArgs {
    /// The run: an id, the beginning of one, `APP@latest` or `APP@2026-11-03`
    pub(super) run: String,
    /// The folder, empty or not there yet
    #[arg(long, value_name = "FOLDER", required = true)]
    pub(super) into: PathBuf,
    /// Only this part (can be repeated)
    #[arg(long = "part", value_name = "PART")]
    pub(super) parts: Vec<String>,
    /// Only this path, and all that is below it (can be repeated): a source's path, or a name within an export
    #[arg(long = "path", value_name = "PATH")]
    pub(super) paths: Vec<OsString>,
    #[command(flatten)]
    pub(super) reading: ReadingArgs,
}

pub fn restore(ui: &mut Ui, global: &Global, args: &RestoreArgs) -> Result<Exit, CommandError> {
    let reading = Reading::open(global, &args.reading, None, ui)?;
    let (store, _, logged) = reading.find(&args.run)?;
    let into = std::path::absolute(&args.into)?;
    if logged.is_locked {
        return Err(locked(logged));
    }
    if !logged.keys.is_empty() && store.identities().is_empty() {
        return Err(locked(logged));
    }
    let paths: Vec<PathName> = args.paths.iter().map(|path| named(path)).collect();
    let plan = RestorePlan::into_folder(logged, &into, &args.parts, &paths)?;
    let shown = plan.clone();
    if !ui.is_json() && !ui.is_quiet() {
        let from = format!("{} from run {} ({})", shown.app, shown.run, outcome(shown.outcome));
        ui.say(format!("{}: {from} into {}", styled(BOLD, "restore"), shown.into.display()));
    }
    let outside = Outside::new();
    outside.listen_to_signals()?;
    let report = plan.apply(store, logged, outside.world().stop, &mut |part, files, bytes| {
        ui.progress(&format!("restore {part}  {}  {}", count(files, "file"), size(bytes)));
    })?;
    let found: u64 = report.parts.iter().map(|part| part.files + part.others + part.problem_count).sum();
    if found == 0 && !args.paths.is_empty() {
        let error = CommandError::text(Exit::Usage, format!("run {} has none of these paths", shown.run));
        return Err(error.hint(format!("`gullet show {} --listing` shows what it has", shown.run)));
    }
    if ui.is_json() {
        ui.json(&serde_json::json!({ "plan": shown, "report": report }))?;
    } else {
        show(ui, &shown, &report);
    }
    Ok(report.outcome.into())
}

/// A path as listings name it: without a first or a last `/`.
fn named(path: &OsStr) -> PathName {
    let bytes = path.as_bytes();
    let bytes = bytes.strip_prefix(b"/").unwrap_or(bytes);
    PathName::new(bytes.strip_suffix(b"/").unwrap_or(bytes))
}

fn show(ui: &mut Ui, plan: &RestorePlan, report: &RestoreReport) {
    let rows = report.parts.iter().zip(&plan.parts).map(|(result, part)| {
        let word = match (result.problem_count, result.not_set.is_empty()) {
            (0, true) => styled(GOOD, "✓ restored"),
            (0, false) => styled(WARN, "! restored"),
            _ => styled(BAD, "✗ incomplete"),
        };
        vec![
            harmless(&result.part),
            word,
            result.files.to_string(),
            result.others.to_string(),
            size(result.bytes),
            harmless(&part.to.display().to_string()),
        ]
    });
    let missing = plan.missing.iter().map(|(part, why)| {
        vec![harmless(part), styled(BAD, "✗ missing"), String::new(), String::new(), String::new(), harmless(why)]
    });
    if !ui.is_quiet() {
        ui.say(table(&["part", "result", ">files", ">others", ">size", "below"], rows.chain(missing).collect()));
    }
    for result in &report.parts {
        for problem in &result.problems {
            ui.complain(format!("{} {}", styled(BAD, "error:"), harmless(&format!("{}: {problem}", result.part))));
        }
        let named = result.problems.len() as u64;
        if result.problem_count > named {
            ui.complain(format!("       and {} more in {}", result.problem_count - named, harmless(&result.part)));
        }
        for (what, (number, first)) in &result.not_set {
            let text = format!("{}: {what} could not be set on {}: {first}", result.part, count(*number, "path"));
            ui.warning(&text);
        }
    }
    for (part, proof) in &plan.outside {
        let text = format!(
            "{part}: its bytes are not here: other machinery has them, by the id {}, of {}",
            proof.id,
            time(proof.begun)
        );
        ui.warning(&text);
    }
    if let Some(why) = &plan.no_hold {
        ui.warning(&format!("the parts are not of one moment; the application is never held: {why}"));
    }
    let after: Vec<String> = plan
        .parts
        .iter()
        .flat_map(|part| {
            let lacks = part.lacks.iter().map(|lack| format!("{}: it does not carry {lack}", part.part));
            lacks.chain(part.after_restore.iter().map(|what| format!("{}: {what}", part.part))).collect::<Vec<_>>()
        })
        .collect();
    if !after.is_empty() && !ui.is_quiet() {
        ui.say(styled(BOLD, "to do by hand"));
        for line in after {
            ui.say(format!("  - {}", harmless(&line)));
        }
    }
    let files: u64 = report.parts.iter().map(|part| part.files).sum();
    let bytes: u64 = report.parts.iter().map(|part| part.bytes).sum();
    ui.say(format!("{}; {}, {}, every byte proven", outcome(report.outcome), count(files, "file"), size(bytes)));
}
