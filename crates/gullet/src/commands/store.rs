//! `gullet store`.

mod bring_back;
pub(super) mod copy;
mod test;

use std::path::Path;

use clap::{Args, Subcommand};
use gullet_host::state::{State, SweepLock};
use gullet_logbook::sweep::{self, Sweep, Sweeper, retire};
use gullet_model::definition::{Loaded, Span, StoreSpec};
use gullet_model::ids::random_id;
use gullet_store::{MachineInfo, Recipients, Store};
use jiff::{SignedDuration, Timestamp};

use crate::args::{Global, OpeningArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::{RealWorld, SystemRandom};
use crate::table::pairs;
use crate::text::{count, harmless, size, time};
use crate::ui::{GOOD, Ui, styled};

/// Make stores, and look at them
#[derive(Subcommand)]
pub enum StoreCommand {
    New(NewStoreArgs),
    /// Show what a store says about itself
    ///
    /// Example: gullet store info depot
    Info(NamedArgs),
    /// Try what the place of a store can really do
    ///
    /// Objects are written, read whole and in part, listed, written again under the same name by one and by several at once, and
    /// removed. What the place cannot do is said, and what that means.
    ///
    /// Example: gullet store test depot
    Test(NamedArgs),
    Copy(copy::CopyArgs),
    BringBack(bring_back::BringBackArgs),
    Sweep(SweepArgs),
    Rebuild(RebuildArgs),
}

/// Make a store
///
/// A run never makes one, so that a missing mount is not taken for a new place. With keys (`encrypt_to` in the definition, or
/// --encrypt-to) everything in it will be encrypted; that cannot be changed later, which keys may.
///
/// Example: gullet store new depot
#[derive(Args)]
pub struct NewStoreArgs {
    /// A store's name in the definition, or an absolute folder
    pub(super) store: String,
    /// Seal for this public key (can be repeated); only with a folder
    #[arg(long, value_name = "KEY")]
    pub(super) encrypt_to: Vec<String>,
}

/// Which store.
#[derive(Args)]
pub struct NamedArgs {
    /// A store's name in the definition, or an absolute folder
    pub(super) store: String,
}

/// Remove what no run needs any more
///
/// Payload of this machine that no run stands on is removed, and files that are mostly unneeded are written anew; without
/// --yes it is only shown. Other machines' payload is theirs, unless they were retired.
///
/// Example: gullet store sweep depot --yes
#[derive(Args)]
pub struct SweepArgs {
    /// A store's name in the definition
    pub(super) store: String,
    /// Do it
    #[arg(long)]
    pub(super) yes: bool,
    /// Retire this machine first: one that is gone for good. Others may then remove what it stored and no run needs,
    /// after a delay
    #[arg(long, value_name = "MACHINE", requires = "yes")]
    pub(super) retire: Option<String>,
    /// How long after it was retired payload of a machine is removed
    #[arg(long, value_name = "TIME", default_value = "7d")]
    pub(super) delay: Span,
    #[command(flatten)]
    pub(super) opening: OpeningArgs,
}

/// Fill a lost state folder anew from a store
///
/// What comes back: who this machine is, its last records, and which chunks are where, as far as the payload can be opened.
/// What does not: the marks of files, so the next run reads every file, and stores only what is new.
///
/// Example: gullet store rebuild depot --machine 4kq2m9xw --identity /media/safe/depot.key
#[derive(Args)]
pub struct RebuildArgs {
    /// A store's name in the definition
    pub(super) store: String,
    /// Go on as this machine; by default as the one that this machine is
    #[arg(long, value_name = "MACHINE")]
    pub(super) machine: Option<String>,
    #[command(flatten)]
    pub(super) opening: OpeningArgs,
}

pub fn store(ui: &mut Ui, global: &Global, command: &StoreCommand) -> Result<Exit, CommandError> {
    match command {
        StoreCommand::New(args) => new(ui, global, args),
        StoreCommand::Info(args) => info(ui, global, &args.store),
        StoreCommand::Test(args) => test::test(ui, global, &args.store),
        StoreCommand::Copy(args) => copy::copy(ui, global, args),
        StoreCommand::BringBack(args) => bring_back::bring_back(ui, global, args),
        StoreCommand::Sweep(args) => sweep(ui, global, args),
        StoreCommand::Rebuild(args) => rebuild(ui, global, args),
    }
}

/// Whether it is a place that is named, not a store of the definition.
fn is_place(name: &str) -> bool {
    name.starts_with('/') || name.contains("://")
}

fn spec_of(global: &Global, name: &str) -> Result<StoreSpec, CommandError> {
    if is_place(name) {
        return open::undefined(Path::new(name));
    }
    let loaded = open::definition(global)?;
    match loaded.definition.store.get(name) {
        Some(spec) => Ok(spec.clone()),
        None => {
            let known: Vec<&str> = loaded.definition.store.keys().map(String::as_str).collect();
            let error = CommandError::text(Exit::Usage, format!("the definition has no store `{name}`"));
            Err(error.hint(format!("it defines: {}", known.join(", "))))
        }
    }
}

/// Opens a store that the definition names, with the state of this machine.
fn own(global: &Global, name: &str, opening: &OpeningArgs) -> Result<(Loaded, Store, State), CommandError> {
    let loaded = open::definition(global)?;
    let identities = open::identities(opening)?;
    let store = open::store_at(&spec_of(global, name)?)?.with_identities(identities);
    let state = open::state(&loaded)?;
    Ok((loaded, store, state))
}

/// Sweeps, or only looks without a lock.
pub(super) fn sweep_store(
    store: &Store,
    state: &State,
    outside: &RealWorld,
    delay: SignedDuration,
    lock: Option<&SweepLock>,
) -> Result<Sweep, CommandError> {
    Ok(Sweeper { store, state, world: outside.world(), delay }.sweep(lock)?)
}

/// Tells what a sweep removed, or would.
pub(super) fn show_sweep(ui: &mut Ui, store: &Store, sweep: &Sweep, done: bool) {
    let dead: u64 = sweep.dead.iter().map(|(_, length)| length).sum();
    let (files, mostly) = (sweep.dead.len() as u64, sweep.mostly_dead.len() as u64);
    if files + mostly == 0 {
        ui.say(format!("{} nothing to remove: every payload file of this machine is needed", styled(GOOD, "✓")));
    } else if done {
        ui.say(format!("{} {} removed, {} freed", styled(GOOD, "✓"), count(files, "payload file"), size(sweep.freed)));
        if sweep.rewritten.0 > 0 {
            let (files, bytes) = sweep.rewritten;
            ui.say(format!("  {} mostly unneeded: {} of them written anew", count(files, "file"), size(bytes)));
        }
        if sweep.forgotten > 0 {
            let files = count(sweep.forgotten, "file");
            ui.say(format!(
                "  {files} mostly unneeded, and encrypted: what is still needed is stored anew by the next run, and they go \
                 when no run stands on them"
            ));
        }
    } else {
        ui.say(format!("{} of {} needed by no run", count(files, "payload file"), size(dead)));
        if mostly > 0 {
            ui.say(format!("{} mostly unneeded", count(mostly, "more file")));
        }
    }
    let is_locked = store.location().versioned().is_some_and(|place| place.locked_for().is_some());
    if is_locked && done && sweep.freed > 0 {
        ui.tell("  the bucket hides it until its lock ends; then its own rules for hidden versions free the space");
    }
    for (machine, over) in &sweep.delayed {
        ui.tell(format!("  the machine {machine} is retired; what it stored may be removed from {} on", time(*over)));
    }
    for problem in &sweep.problems {
        ui.warning(&harmless(problem));
    }
}

fn sweep(ui: &mut Ui, global: &Global, args: &SweepArgs) -> Result<Exit, CommandError> {
    let (loaded, store, state) = own(global, &args.store, &args.opening)?;
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    crate::forgotten::settle(ui, &loaded, &state, &outside);
    let first = loaded.definition.copied_from(&args.store).map(|(first, _)| first);
    if let (Some(first), Some(_)) = (first, &args.retire) {
        let error = CommandError::text(Exit::Usage, format!("`{}` is a copy of `{first}`", args.store));
        return Err(error.hint(format!("gullet store sweep {first} --retire MACHINE")));
    }
    if let Some(machine) = &args.retire {
        retire(&store, machine, state.machine(), outside.world())?;
        ui.tell(format!("the machine {} is retired", harmless(machine)));
    }
    let delay = SignedDuration::try_from(args.delay.0).unwrap_or(sweep::DELAY);
    let lock = if args.yes {
        let lock = state.lock_for_sweep()?.ok_or_else(|| {
            CommandError::text(Exit::Refused, "a run or a sweep is going on")
                .hint("wait for it to end; nothing was touched")
        })?;
        Some(lock)
    } else {
        None
    };
    if first.is_some() {
        open::must_be_mounted(&loaded.definition.store[&args.store])?;
        return copy::sweep(ui, &store, &state, lock.as_ref());
    }
    let report = sweep_store(&store, &state, &outside, delay, lock.as_ref())?;
    if ui.is_json() {
        ui.json(&report)?;
    } else {
        show_sweep(ui, &store, &report, args.yes);
        if !args.yes && report.dead.len() + report.mostly_dead.len() > 0 {
            ui.tell("nothing was changed; say --yes to do it");
        }
    }
    Ok(if report.problems.is_empty() { Exit::Complete } else { Exit::Warnings })
}

fn rebuild(ui: &mut Ui, global: &Global, args: &RebuildArgs) -> Result<Exit, CommandError> {
    let (_, store, mut state) = own(global, &args.store, &args.opening)?;
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    let machines: Vec<MachineInfo> = store.machines()?;
    let machine = args.machine.clone().unwrap_or_else(|| state.machine().to_owned());
    if !machines.iter().any(|known| known.machine == machine) {
        let mut error =
            CommandError::text(Exit::Usage, format!("the store does not know the machine {}", harmless(&machine)));
        for known in machines {
            error =
                error.hint(format!("--machine {} ({}, since {})", known.machine, harmless(&known.host), known.since));
        }
        return Err(error);
    }
    let lock = state.lock_for_sweep()?;
    if lock.is_none() {
        return Err(CommandError::text(Exit::Refused, "a run or a sweep is going on"));
    }
    let rebuilt = sweep::rebuild(&store, &mut state, &machine, outside.world(), &mut |done, all| {
        ui.progress(&format!("payload file {done} of {all}"));
    })?;
    if ui.is_json() {
        ui.json(&rebuilt)?;
        return Ok(Exit::Complete);
    }
    ui.say(format!(
        "{} as the machine {}: {}, {} known again",
        styled(GOOD, "✓ rebuilt"),
        rebuilt.machine,
        count(rebuilt.runs, "run"),
        count(rebuilt.chunks, "chunk")
    ));
    if rebuilt.locked > 0 {
        ui.warning(&format!(
            "{} encrypted: with `--identity FILE` what lies in them is known again, without it is stored anew",
            count(rebuilt.locked, "payload file")
        ));
    }
    for name in &rebuilt.damaged {
        ui.warning(&format!("damaged: {}", harmless(name)));
    }
    ui.tell("The marks of files are lost: the next run reads every file, and stores what is new.");
    Ok(Exit::Complete)
}

fn new(ui: &mut Ui, global: &Global, args: &NewStoreArgs) -> Result<Exit, CommandError> {
    let spec = spec_of(global, &args.store)?;
    let mut keys = args.encrypt_to.clone();
    if !is_place(&args.store) {
        if !keys.is_empty() {
            let error = CommandError::text(Exit::Usage, "`--encrypt-to` is for stores that are named by their place");
            return Err(error.hint("name the keys in the definition: encrypt_to = […]"));
        }
        let loaded = open::definition(global)?;
        if let Some((first, _)) = loaded.definition.copied_from(&args.store) {
            let error = CommandError::text(Exit::Usage, format!("`{}` is a copy of `{first}`", args.store));
            return Err(error.hint(format!("gullet store copy {first} makes it")));
        }
        if let Some(spec) = loaded.definition.store.get(&args.store) {
            open::must_be_mounted(spec)?;
            keys.clone_from(&spec.encrypt_to);
        }
    }
    let keys = Recipients::parse(&keys).map_err(|error| CommandError::text(Exit::Usage, error.to_string()))?;
    let (id, now) = (random_id(&SystemRandom, 12), Timestamp::now().to_string());
    let store = Store::create(open::place_of(&spec)?, id, now, &keys)?;
    let location = &spec.location;
    if ui.is_json() {
        ui.json(store.info())?;
    } else {
        ui.say(format!("{} the store {} at {location}", styled(GOOD, "✓ made"), store.info().id));
        if keys.is_empty() {
            let what = if spec.folder().is_some() { "this folder" } else { "this place" };
            ui.tell(format!("It is not encrypted: who can read {what} can read what is stored in it."));
        } else {
            let keys = count(keys.texts().len() as u64, "public key");
            ui.tell(format!(
                "It is encrypted to {keys}: what is stored in it opens only with one of their identities."
            ));
            ui.tell("This machine keeps what it needs to go on in clear in its state folder, which is private.");
        }
    }
    Ok(Exit::Complete)
}

fn info(ui: &mut Ui, global: &Global, name: &str) -> Result<Exit, CommandError> {
    let store = open::store_at(&spec_of(global, name)?)?;
    let objects = store.location().list("")?;
    let of = |folder: &str| {
        let found: Vec<u64> =
            objects.iter().filter(|object| object.name.starts_with(folder)).map(|object| object.length).collect();
        (found.len() as u64, found.iter().sum::<u64>())
    };
    let (files, bytes) = of("payload/");
    let (records, _) = of("records/");
    let (machines, _) = of("machines/");
    let free = store.location().free_space()?;
    if ui.is_json() {
        ui.json(&serde_json::json!({
            "location": store.location().describe(), "store": store.info(), "payload_files": files,
            "payload_bytes": bytes, "records": records, "machines": machines, "free_bytes": free,
        }))?;
        return Ok(Exit::Complete);
    }
    let info = store.info();
    ui.say(pairs(&[
        ("location", store.location().describe()),
        ("id", info.id.clone()),
        ("made", info.created.parse().map_or_else(|_| harmless(&info.created), time)),
        ("format", info.format.to_string()),
        ("encrypted", if info.keys.is_empty() { "no".to_owned() } else { harmless(&info.keys.join(", ")) }),
        ("payload", format!("{}, {}", count(files, "file"), size(bytes))),
        ("records", records.to_string()),
        ("machines", machines.to_string()),
        ("free", free.map_or_else(|| "not known".to_owned(), size)),
    ]));
    Ok(Exit::Complete)
}
