//! `gullet verify`.

use std::path::Path;

use clap::Args;
use gullet_core::notify::{Content, id_at, put, told_of};
use gullet_host::state::State;
use gullet_host::world::World;
use gullet_logbook::copies::DamagedCopy;
use gullet_logbook::logbook::{Logbook, Logged};
use gullet_logbook::verify::{self, Depth, Proven, RunVerdict, Verification, VerifyReport};
use gullet_model::definition::{Loaded, NotifyOn, Share};
use gullet_store::{Hash, Store};

use super::notify::send_after_work;
use crate::args::{Global, ReadingArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::outside::RealWorld;
use crate::reading::Reading;
use crate::text::{count, harmless, size};
use crate::ui::{BAD, GOOD, Ui, styled};

/// Read back and prove what is stored
///
/// Every stored byte of the runs is read once, against the hash in their records, and every chunk against its id; of what is
/// sealed only with an identity. Damage is named by runs, parts and paths, and noted, so that the next run stores what is
/// lost anew. One that is stopped goes on where it was.
///
/// Example: gullet verify quaybook@latest
#[derive(Args, Clone, Default)]
pub struct VerifyArgs {
    /// The runs; all when none is named
    #[arg(value_name = "RUN")]
    pub(super) runs: Vec<String>,
    /// Only look whether everything is there, with its length and name
    #[arg(long, conflicts_with_all = ["share", "all_again"])]
    pub(super) quick: bool,
    /// Read this share of all bytes, what was read longest ago first: called daily, `5%` reads everything in twenty days
    #[arg(long, value_name = "SHARE", conflicts_with = "all_again")]
    pub(super) share: Option<Share>,
    /// Read everything again, even what was read before an earlier verification was stopped
    #[arg(long)]
    pub(super) all_again: bool,
    /// A record's hash that was kept elsewhere: proves that the record, and all before it, are what they were then
    #[arg(long, value_name = "HASH")]
    pub(super) anchor: Option<String>,
    /// Send what is damaged or missing anew from the copies of the store (or to a copy, from its store), then verify again
    #[arg(long, conflicts_with = "quick")]
    pub(super) mend: bool,
    /// What starts it, where that is not a person
    #[arg(long, value_name = "TEXT")]
    pub(super) trigger: Option<String>,
    #[command(flatten)]
    pub(super) reading: ReadingArgs,
}

pub fn verify(ui: &mut Ui, global: &Global, args: &VerifyArgs) -> Result<Exit, CommandError> {
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    let result = perform(ui, global, args, &outside).and_then(|(exit, damaged)| {
        if !args.mend || damaged.is_empty() {
            return Ok(exit);
        }
        mend(ui, global, &damaged, &outside)?;
        let again = VerifyArgs { all_again: args.share.is_none(), mend: false, ..args.clone() };
        perform(ui, global, &again, &outside).map(|(exit, _)| exit)
    });
    // On somebody else's machine there is nobody to tell.
    let is_own = args.reading.store.is_none() || args.trigger.is_some();
    if let Some(loaded) = is_own.then(|| crate::open::sound(global).ok()).flatten() {
        let state = crate::open::state(&loaded)?;
        if let (Some(trigger), Some(store)) = (&args.trigger, &args.reading.store) {
            let store = store.display().to_string();
            if let Err(error) = &result {
                tell_failure(&loaded, &state, &store, error, &outside.world())?;
            }
            state.note_ended(&store, trigger)?;
        }
        send_after_work(ui, &loaded, &state, &outside);
    }
    result
}

/// Tells that a verification that was due could not be done.
fn tell_failure(
    loaded: &Loaded,
    state: &State,
    store: &str,
    error: &CommandError,
    world: &World<'_>,
) -> Result<(), CommandError> {
    let (now, why) = (world.clock.now(), error.messages.join(": "));
    let content =
        Content::Failed { subject: format!("the verification of store {store}"), why, host: world.host.name.clone() };
    let id = id_at(&format!("verify-{store}"), now);
    Ok(put(state, &id, told_of(&loaded.definition, None, NotifyOn::Damaged), &content, now)?)
}

/// Sends what is damaged in these stores anew, from whatever has it.
fn mend(ui: &mut Ui, global: &Global, damaged: &[String], outside: &RealWorld) -> Result<(), CommandError> {
    let loaded = crate::open::definition(global)?;
    let state = crate::open::state(&loaded)?;
    for (name, spec) in &loaded.definition.store {
        if !damaged.contains(&crate::open::place_of(spec)?.describe()) {
            continue;
        }
        if !super::store::copy::mend(ui, &loaded, (&state, outside), name)? {
            ui.warning(&format!("the store `{name}` has no copy, and is none: there is nothing to mend it from"));
        }
    }
    Ok(())
}

/// Verifies, and gives where something is damaged.
fn perform(
    ui: &mut Ui,
    global: &Global,
    args: &VerifyArgs,
    outside: &RealWorld,
) -> Result<(Exit, Vec<String>), CommandError> {
    let reading = Reading::open(global, &args.reading, None, ui)?;
    let world = outside.world();
    let depth = match (args.quick, args.share) {
        (true, _) => Depth::Quick,
        (false, Some(share)) => Depth::Share(share.0 / 100.0),
        (false, None) => Depth::Full,
    };
    let anchor: Option<Hash> = match args.anchor.as_deref().map(str::parse) {
        None => None,
        Some(Ok(hash)) => Some(hash),
        Some(Err(error)) => return Err(CommandError::new(Exit::Usage, &error)),
    };
    let mut exit = Exit::Complete;
    let mut damaged = Vec::new();
    let mut asked = Vec::new();
    for text in &args.runs {
        asked.push(reading.find(ui, text)?.1.name);
    }
    let state = reading.loaded.as_ref().map(crate::open::state).transpose()?;
    let copy = named_copy(global, args)?;
    for (store, book) in &reading.books(ui)? {
        let runs: Vec<&Logged> = book
            .runs
            .iter()
            .filter(|logged| logged.in_store && (args.runs.is_empty() || asked.contains(&logged.name)))
            .collect();
        if runs.is_empty() && book.unreadable.is_empty() {
            ui.tell(format!("{}: no runs to verify", store.location().describe()));
            continue;
        }
        let own = state.as_ref().or(copy.as_ref().map(|(_, _, state)| state));
        let work = Verification { store, book, runs: &runs, depth, anchor, all_again: args.all_again };
        let report = read_back(ui, &work, own.map(|state| (state, progress_key(store, copy.is_some()))), &world)?;
        // On somebody else's machine a store is only read.
        if let Some(state) = &state {
            note_result(ui, (store, &runs), &report, state, &world)?;
        }
        if ui.is_json() {
            ui.json(&report)?;
        } else {
            show_report(ui, &report, depth);
        }
        if !report.is_sound() {
            exit = Exit::Failed;
            damaged.push(store.location().describe());
            if let (Some(loaded), Some(state)) = (&reading.loaded, &state) {
                tell_damage(loaded, state, store, &report, &world)?;
            } else if let Some((name, loaded, state)) = &copy {
                note_damaged_copy(ui, (loaded, state), name, (store, book), &report, &world)?;
            }
        }
    }
    Ok((exit, damaged))
}

/// Under what it is kept which payload files were read. A copy is the same store at another place: what was read there is known apart.
fn progress_key(store: &Store, is_copy: bool) -> String {
    let id = &store.info().id;
    let place = || Hash::of(store.location().address().as_bytes());
    if is_copy { format!("{id}/copied/{}", place()) } else { id.clone() }
}

/// Reads what is to be read, and keeps what was read where this machine has a state for it.
fn read_back(
    ui: &mut Ui,
    work: &Verification<'_>,
    kept: Option<(&State, String)>,
    world: &World<'_>,
) -> Result<VerifyReport, CommandError> {
    let mut proven = kept.as_ref().map(|(state, key)| Proven::read(state, key)).unwrap_or_default();
    let report = work.verify(&mut proven, world, &mut |done, total| {
        ui.progress(&format!("read back {} of {}", size(done), size(total)));
    })?;
    if let Some((state, key)) = &kept {
        proven.keep(state, key)?;
    }
    if report.stopped {
        let text = format!("stopped when {} of {} were read", report.files + report.read_before, report.of);
        let error = CommandError::text(Exit::Interrupted, text);
        return Err(if kept.is_some() { error.hint("the next one goes on from here") } else { error });
    }
    Ok(report)
}

/// The copy of the definition that is verified, where it is one, with the definition and this machine's state.
fn named_copy(global: &Global, args: &VerifyArgs) -> Result<Option<(String, Loaded, State)>, CommandError> {
    let Some(name) = args.reading.store.as_deref().and_then(Path::to_str) else { return Ok(None) };
    let Ok(loaded) = crate::open::sound(global) else { return Ok(None) };
    if loaded.definition.copied_from(name).is_none() {
        return Ok(None);
    }
    let state = crate::open::state(&loaded)?;
    Ok(Some((name.to_owned(), loaded, state)))
}

/// Notes what is damaged in a copy that the definition names: runs that stand on it have no second copy any more.
fn note_damaged_copy(
    ui: &mut Ui,
    (loaded, state): (&Loaded, &State),
    name: &str,
    (copy, book): (&Store, &Logbook),
    report: &VerifyReport,
    world: &World<'_>,
) -> Result<(), CommandError> {
    let Some((_, first)) = loaded.definition.copied_from(name) else { return Ok(()) };
    let place = copy.location().address();
    let damaged = report.damaged.iter().chain(&book.unreadable).map(|(name, _)| name.as_str()).collect();
    let noted = crate::open::store_of(first, state).and_then(|first| {
        let found = DamagedCopy { name, place: &place, book, damaged };
        found.note(&first, state, *world).map_err(|error| CommandError::new(Exit::Failed, &error))
    });
    match noted {
        Ok(runs) if runs.is_empty() => {}
        Ok(runs) => ui.tell(format!("{} noted to have no second copy on {name}", count(runs.len() as u64, "run"))),
        Err(error) => {
            ui.warning(&format!("what is damaged in {name} could not be noted: {}", error.messages.join(": ")));
        }
    }
    tell_damage(loaded, state, copy, report, world)
}

/// Tells those whom the definition names that something is damaged.
fn tell_damage(
    loaded: &Loaded,
    state: &State,
    store: &Store,
    report: &VerifyReport,
    world: &World<'_>,
) -> Result<(), CommandError> {
    let files = report.damaged.iter().map(|(name, why)| format!("{name}: {why}"));
    let damaged = report.runs.iter().filter(|verdict| !verdict.is_sound());
    let runs = damaged.map(|verdict| format!("run {} of {}", verdict.run, verdict.app));
    let content = Content::Damaged {
        store: store.location().describe(),
        damage: runs.chain(files).collect(),
        host: world.host.name.clone(),
    };
    let now = world.clock.now();
    let id = id_at(&format!("damaged-{}", store.info().id), now);
    Ok(put(state, &id, told_of(&loaded.definition, None, NotifyOn::Damaged), &content, now)?)
}

/// Notes the result in the store, and has damaged files forgotten, so that the next run stores their contents anew.
fn note_result(
    ui: &mut Ui,
    (store, runs): (&Store, &[&Logged]),
    report: &VerifyReport,
    state: &State,
    world: &World<'_>,
) -> Result<(), CommandError> {
    let noted = verify::remark(store, runs, report, world, Some(state));
    if let Err(error) = noted {
        ui.warning(&format!("the result could not be noted in the store: {error}"));
    }
    if let Ok(mut cache) = gullet_store::Cache::open(&state.cache_path(&store.info().id)?) {
        for (name, _) in &report.damaged {
            cache.forget(name)?;
        }
    }
    Ok(())
}

fn show_report(ui: &mut Ui, report: &VerifyReport, depth: Depth) {
    for (name, why) in &report.damaged {
        ui.complain(format!("{} {}", styled(BAD, "damaged:"), harmless(&format!("{name}: {why}"))));
    }
    for verdict in &report.runs {
        show(ui, verdict, depth);
    }
    let runs = count(report.runs.len() as u64, "run");
    let files = count(report.files, "payload file");
    let (bytes, chunks) = (size(report.bytes), count(report.chunks, "chunk"));
    let proven = match depth {
        Depth::Quick => format!("{runs}, {}: all there; nothing was read", count(report.of, "payload file")),
        Depth::Full if report.read_before > 0 => {
            format!("{runs}, {files}, {bytes} read, {} before; {chunks} verified", report.read_before)
        }
        Depth::Full => format!("{runs}, {files}, {bytes} read; {chunks} verified"),
        Depth::Share(_) => format!("{runs}, {files} of {}, {bytes} read; {chunks} verified", report.of),
    };
    if let Some(anchor) = &report.anchor {
        anchored(ui, anchor);
    }
    if report.locked > 0 {
        let sealed = count(report.locked, "encrypted file");
        ui.say(format!("  {sealed}: the stored bytes are verified; what is in them only with `--identity FILE`"));
    }
    let word = if report.is_sound() { proven_word(depth, report.locked > 0) } else { styled(BAD, "✗ damaged") };
    ui.say(format!("{word}: {proven}"));
}

fn anchored(ui: &mut Ui, anchor: &verify::Anchor) {
    match (&anchor.problem, &anchor.run) {
        (Some(problem), _) => ui.complain(format!("{} {}", styled(BAD, "✗ anchor:"), harmless(problem))),
        (None, run) => ui.say(format!(
            "{} the record of run {} is the one, and so are {} before it",
            styled(GOOD, "✓ anchor:"),
            run.as_deref().unwrap_or("-"),
            anchor.proven - 1
        )),
    }
}

/// What was proven of what is whole.
fn proven_word(depth: Depth, is_locked: bool) -> String {
    styled(
        GOOD,
        match (depth, is_locked) {
            (Depth::Quick, _) => "✓ all there",
            (_, true) => "✓ intact, not opened",
            (_, false) => "✓ intact",
        },
    )
}

fn show(ui: &mut Ui, verdict: &RunVerdict, depth: Depth) {
    let word = match verdict {
        verdict if !verdict.is_sound() => styled(BAD, "✗ damaged"),
        verdict if verdict.thinned => "- removed, only its record is left".to_owned(),
        verdict if verdict.parts == 0 && !verdict.locked => "- nothing was captured".to_owned(),
        verdict => proven_word(depth, verdict.locked),
    };
    if !ui.is_quiet() || !verdict.is_sound() {
        ui.say(format!("  {:<10}  {:<16} {word}", verdict.run, verdict.app));
    }
    for problem in &verdict.problems {
        ui.say(format!("      {}", harmless(problem)));
    }
    if verdict.lost.is_empty() && !verdict.payload.is_empty() {
        let files = count(verdict.payload.len() as u64, "damaged payload file");
        ui.say(format!("      it stands on {files}; with an identity it can be said which paths that touches"));
    }
    for loss in &verdict.lost {
        let more = if loss.count > loss.paths.len() as u64 { ", …" } else { "" };
        let lost = format!("{}: {} lost: {}{more}", loss.part, count(loss.count, "path"), loss.paths.join(", "));
        let listing = loss.listing.as_ref().map(|why| format!("{}: its listing is lost: {why}", loss.part));
        ui.say(format!("      {}", harmless(&listing.unwrap_or(lost))));
    }
}
