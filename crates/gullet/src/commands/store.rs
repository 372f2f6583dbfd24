//! `gullet store`.

use std::path::Path;
use std::sync::Arc;

use clap::{Args, Subcommand};
use gullet_core::ids::random_id;
use gullet_store::{Folder, Store};
use jiff::Timestamp;

use crate::cli::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::SystemRandom;
use crate::table::pairs;
use crate::text::{count, size};
use crate::ui::{GOOD, Ui, styled};

/// Make stores, and look at them
#[derive(Subcommand)]
pub enum StoreCommand {
    New(NewArgs),
    Info(InfoArgs),
}

/// Make a store
///
/// A run never makes one, so that a missing mount is not taken for a new place.
///
/// Example: gullet store new depot
#[derive(Args)]
pub struct NewArgs {
    /// A store's name in the definition, or an absolute folder
    pub(super) store: String,
}

/// Show what a store says about itself
///
/// Example: gullet store info depot
#[derive(Args)]
pub struct InfoArgs {
    /// A store's name in the definition, or an absolute folder
    pub(super) store: String,
}

pub fn store(ui: &mut Ui, global: &Global, command: &StoreCommand) -> Result<Exit, CommandError> {
    match command {
        StoreCommand::New(args) => new(ui, global, &args.store),
        StoreCommand::Info(args) => info(ui, global, &args.store),
    }
}

fn location(global: &Global, name: &str) -> Result<String, CommandError> {
    if name.starts_with('/') {
        return Ok(name.to_owned());
    }
    let loaded = open::definition(global)?;
    match loaded.definition.store.get(name) {
        Some(spec) => Ok(spec.location.clone()),
        None => {
            let known: Vec<&str> = loaded.definition.store.keys().map(String::as_str).collect();
            let error = CommandError::text(Exit::Usage, format!("the definition has no store `{name}`"));
            Err(error.hint(format!("it defines: {}", known.join(", "))))
        }
    }
}

fn new(ui: &mut Ui, global: &Global, name: &str) -> Result<Exit, CommandError> {
    let location = location(global, name)?;
    let id = random_id(&SystemRandom, 12);
    let store = Store::create(Arc::new(Folder::new(Path::new(&location))), id, Timestamp::now().to_string())?;
    if ui.is_json() {
        ui.json(store.info())?;
    } else {
        ui.say(format!("{} the store {} at {location}", styled(GOOD, "✓ made"), store.info().id));
        ui.tell("It is not sealed: who can read this folder can read what is stored in it.");
    }
    Ok(Exit::Complete)
}

fn info(ui: &mut Ui, global: &Global, name: &str) -> Result<Exit, CommandError> {
    let store = open::store_at(Path::new(&location(global, name)?))?;
    let objects = store.location().list("")?;
    let of = |folder: &str| {
        let found: Vec<u64> =
            objects.iter().filter(|object| object.name.starts_with(folder)).map(|object| object.length).collect();
        (found.len() as u64, found.iter().sum::<u64>())
    };
    let (files, bytes) = of("payload/");
    let (records, _) = of("records/");
    let (writers, _) = of("writers/");
    let free = store.location().free_space()?;
    if ui.is_json() {
        ui.json(&serde_json::json!({
            "location": store.location().describe(), "store": store.info(), "payload_files": files,
            "payload_bytes": bytes, "records": records, "writers": writers, "free_bytes": free,
        }))?;
        return Ok(Exit::Complete);
    }
    let info = store.info();
    ui.say(pairs(&[
        ("location", store.location().describe()),
        ("id", info.id.clone()),
        ("made", info.created.clone()),
        ("format", info.format.to_string()),
        ("sealed", if info.keys.is_empty() { "no".to_owned() } else { count(info.keys.len() as u64, "key") }),
        ("payload", format!("{}, {}", count(files, "file"), size(bytes))),
        ("records", records.to_string()),
        ("writers", writers.to_string()),
        ("free", free.map_or_else(|| "not known".to_owned(), size)),
    ]));
    Ok(Exit::Complete)
}
