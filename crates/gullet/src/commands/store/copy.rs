//! `gullet store copy`: second copies, made by hand and after each run.

use clap::Args;
use gullet_host::state::{State, SweepLock};
use gullet_logbook::copies::{self, CopyError, CopyReport, Copying, USUAL_SAMPLE};
use gullet_logbook::locks::{LockReport, keep_locked};
use gullet_model::definition::{Loaded, StoreSpec};
use gullet_run::run::Ended;
use gullet_store::Store;

use crate::args::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::text::{count, harmless, size, time};
use crate::ui::{GOOD, Ui, styled};

/// Send what the copies of a store do not have yet
///
/// It is done by itself after each run. Every byte is checked there, by the place itself or by reading it back; what was cut off goes on where it stopped. With
/// --to a store is made anew from its copy, or mended: all of it is read back, and what is damaged or missing is sent.
///
/// Example: gullet store copy depot
#[derive(Args)]
pub struct CopyArgs {
    /// A store's name in the definition
    pub(in crate::commands) store: String,
    /// Only to this store of the definition; by default to all copies that the definition names
    #[arg(long, value_name = "STORE")]
    pub(in crate::commands) to: Option<String>,
    /// Make the copy anew where it was once and nothing is now; for the first time it is made without being told
    #[arg(long)]
    pub(in crate::commands) make: bool,
}

/// Whether a copy may be made where nothing is.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Make {
    /// A run never makes one: a missing mount would be taken for a new place.
    Never,
    /// Where there never was one, by the state folder.
    First,
    /// Where somebody says so.
    Always,
}

impl From<CopyError> for CommandError {
    fn from(error: CopyError) -> Self {
        let exit = match &error {
            CopyError::Stopped => Exit::Interrupted,
            CopyError::OtherStore { .. } | CopyError::NotEmpty { .. } | CopyError::NoCopy { .. } => Exit::Refused,
            CopyError::Swept => Exit::Refused,
            _ => Exit::Failed,
        };
        Self::new(exit, &error)
    }
}

pub(super) fn copy(ui: &mut Ui, global: &Global, args: &CopyArgs) -> Result<Exit, CommandError> {
    let loaded = open::definition(global)?;
    let state = open::state(&loaded)?;
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    crate::forgotten::settle(ui, &loaded, &state, &outside);
    let known = &loaded.definition.store;
    for name in [Some(&args.store), args.to.as_ref()].into_iter().flatten() {
        if !known.contains_key(name) {
            let error = CommandError::text(Exit::Usage, format!("the definition has no store `{name}`"));
            let known: Vec<&str> = known.keys().map(String::as_str).collect();
            return Err(error.hint(format!("it defines: {}", known.join(", "))));
        }
    }
    let targets = args.to.as_ref().map_or_else(|| known[&args.store].copies.clone(), |to| vec![to.clone()]);
    if targets.is_empty() {
        let error = CommandError::text(Exit::Usage, format!("the definition names no copies of `{}`", args.store));
        return Err(error.hint("copies = [\"NAME\"] in the store, or --to NAME"));
    }
    let (mut exit, mut all) = (Exit::Complete, Vec::new());
    for to in &targets {
        let make = if args.make { Make::Always } else { Make::First };
        let report = match copy_to(ui, &loaded, (&state, &outside), (&args.store, to), make) {
            Ok(report) => report,
            // One that cannot be reached takes nothing from the others.
            Err(error) if targets.len() > 1 && outside.world().stop.asked().is_none() => {
                ui.error(&error);
                exit = exit.worse(error.exit);
                continue;
            }
            Err(error) => return Err(error),
        };
        if !report.problems.is_empty() {
            exit = exit.worse(Exit::Failed);
        }
        if report.locks.as_ref().is_some_and(|locks| !locks.problems.is_empty()) {
            exit = exit.worse(Exit::Warnings);
        }
        if !ui.is_json() {
            show(ui, to, &report);
        }
        all.push(serde_json::json!({ "from": args.store, "to": to, "copied": report }));
    }
    if ui.is_json() {
        ui.json(&all)?;
    }
    Ok(exit)
}

fn show(ui: &mut Ui, to: &str, report: &CopyReport) {
    let mut what = vec![if report.objects == 0 {
        "nothing was missing".to_owned()
    } else {
        format!("{} sent and checked, {}", count(report.objects, "object"), size(report.bytes))
    }];
    if report.bytes_read_back > 0 {
        what.push(format!("{} that were there already read back", size(report.bytes_read_back)));
    }
    if !report.runs.is_empty() {
        what.push(format!("{} copied now", count(report.runs.len() as u64, "run")));
    }
    for (name, why) in &report.problems {
        ui.warning(&format!("{name} was not copied: {why}"));
    }
    if let Some(locks) = &report.locks {
        what.extend(locks.until.map(|until| format!("locked until {} at least", time(until))));
        not_locked(ui, locks);
    }
    if report.problems.is_empty() {
        ui.say(format!("{} {to}: {}", styled(GOOD, "✓"), what.join("; ")));
    } else {
        ui.say(format!(
            "{to}: {}; {} could not be copied",
            what.join("; "),
            count(report.problems.len() as u64, "object")
        ));
    }
}

/// Warns of what could not be locked: the first of it says why.
fn not_locked(ui: &mut Ui, locks: &LockReport) {
    if let Some((name, why)) = locks.problems.first() {
        let others = count(locks.problems.len() as u64 - 1, "more object");
        ui.warning(&harmless(&format!("{name} is not locked against everybody, and {others}: {why}")));
    }
}

/// Locks what a run stands on, where its store is a place that locks.
fn lock_run(
    ui: &mut Ui,
    spec: &StoreSpec,
    state: &State,
    outside: &RealWorld,
    ended: &Ended,
) -> Result<(), CommandError> {
    if spec.locked_for.is_none() || !ended.in_store {
        return Ok(());
    }
    let store = open::store_of(spec, state)?;
    let runs = [(ended.name.as_str(), ended.record.holdings.clone())];
    let locks = keep_locked(store.location().as_ref(), &store.info().id, &runs, state, outside.world().clock.now())?;
    if let Some(locks) = locks {
        not_locked(ui, &locks);
    }
    Ok(())
}

/// Sends what one copy does not have.
fn copy_to(
    ui: &mut Ui,
    loaded: &Loaded,
    (state, outside): (&State, &RealWorld),
    (from, to): (&str, &str),
    make: Make,
) -> Result<CopyReport, CommandError> {
    let (first, copy) = (&loaded.definition.store[from], &loaded.definition.store[to]);
    let store = open::store_of(first, state)?;
    open::must_be_mounted(copy)?;
    let is_named = first.copies.iter().any(|name| name == to);
    let place = open::place_of(copy)?;
    let may_make = match make {
        Make::Never => false,
        Make::First => !state.knows_store(&place.describe()),
        Make::Always => true,
    };
    let name = is_named.then_some(to);
    let sample = copy.read_back.unwrap_or(USUAL_SAMPLE);
    let copying = Copying { from: &store, to: place, name, may_make, sample, state, world: outside.world() };
    let copied =
        copying.copy(&mut |done, total| ui.progress(&format!("copy to {to}: {} of {}", size(done), size(total))));
    copied.map_err(|error| match error {
        CopyError::NoCopy { .. } if make == Make::First => {
            let error = CommandError::from(error);
            let error = if copy.folder().is_some() { error.hint("there was one: is its disk mounted?") } else { error };
            error.hint("to make it anew: --make")
        }
        CopyError::NoCopy { .. } => CommandError::from(error).hint(format!("gullet store copy {from} makes it")),
        error => error.into(),
    })
}

/// Sends what a store lacks, or has damaged, from its copies, or to a copy from its store. Whether there was any to send from.
pub(in crate::commands) fn mend(
    ui: &mut Ui,
    loaded: &Loaded,
    with: (&State, &RealWorld),
    name: &str,
) -> Result<bool, CommandError> {
    let definition = &loaded.definition;
    let sources: Vec<&String> =
        definition.store[name].copies.iter().chain(definition.copied_from(name).map(|(first, _)| first)).collect();
    for from in &sources {
        match copy_to(ui, loaded, with, (from, name), Make::Never) {
            Ok(report) if !ui.is_json() => show(ui, name, &report),
            Ok(_) => {}
            // What one does not have, another may.
            Err(error) if with.1.world().stop.asked().is_none() => ui.error(&error),
            Err(error) => return Err(error),
        }
    }
    Ok(!sources.is_empty())
}

/// Sends what a run made to the copies of its store. What goes wrong takes nothing from the run.
pub(in crate::commands) fn after_run(ui: &mut Ui, loaded: &Loaded, state: &State, outside: &RealWorld, ended: &Ended) {
    let Some((name, spec)) = loaded.definition.store_of(&ended.record.app) else { return };
    if let Err(error) = lock_run(ui, spec, state, outside, ended) {
        ui.warning(&format!("what the run stands on is not locked: {}", error.messages.join(": ")));
    }
    for to in &spec.copies {
        match copy_to(ui, loaded, (state, outside), (name, to), Make::Never) {
            Ok(report) if report.problems.is_empty() => {
                if let Some(locks) = &report.locks {
                    not_locked(ui, locks);
                }
                ui.tell(format!("copied to {to}: {} checked there", size(report.bytes + report.bytes_read_back)));
            }
            Ok(report) => {
                let (object, why) = &report.problems[0];
                let text = format!("{to} does not have everything: {object}: {why}; see gullet store copy {name}");
                ui.warning(&harmless(&text));
            }
            Err(error) => {
                let text = error.messages.iter().chain(&error.hints).cloned().collect::<Vec<_>>().join(": ");
                ui.warning(&format!("there is no second copy on {to} yet: {text}"));
            }
        }
    }
}

/// Removes what no run of a copy stands on any more, by the copy's own records and remarks; without a lock it only looks.
pub(super) fn sweep(ui: &mut Ui, copy: &Store, state: &State, lock: Option<&SweepLock>) -> Result<Exit, CommandError> {
    let gone = copies::sweep(copy, state.machine(), lock)?;
    let (files, bytes) = (count(gone.len() as u64, "payload file"), gone.iter().map(|(_, length)| length).sum::<u64>());
    if ui.is_json() {
        let names: Vec<&String> = gone.iter().map(|(name, _)| name).collect();
        ui.json(&serde_json::json!({ "removed": lock.is_some(), "files": names, "bytes": bytes }))?;
    } else if gone.is_empty() {
        ui.say(format!("{} nothing to remove from the copy", styled(GOOD, "✓")));
    } else if lock.is_some() {
        ui.say(format!("{} {files} removed from the copy, {} freed", styled(GOOD, "✓"), size(bytes)));
    } else {
        ui.say(format!("{files} of {} needed by no run of the copy", size(bytes)));
        ui.tell("nothing was changed; say --yes to do it");
    }
    Ok(Exit::Complete)
}
