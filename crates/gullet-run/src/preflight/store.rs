//! Whether the store is there, is the one that is meant, and can be used. A run asks this too.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use gullet_store::{PROBES, Store, StoreError};

use gullet_capture::plan::{Plan, PlannedCopy};
use gullet_host::place::location_of;
use gullet_host::state::State;
use gullet_host::world::World;
use gullet_model::words::chain;

/// A store that a run could not use: why, and what to do.
pub type StoreTrouble = (String, Option<String>);

/// Why a store could not be opened. Only where there is none is one to be made.
pub fn cannot_open(error: &StoreError, name: &str) -> StoreTrouble {
    let there_is_none = matches!(error, StoreError::NoStore { .. });
    (chain(error), there_is_none.then(|| format!("if there is to be one: gullet store new {name}")))
}

/// Whether the store is the one that is meant: where it must be, and the one that was there before. Nothing is written to
/// another one, not even the record of a run that was refused. Gives the store.
///
/// # Errors
/// Why it is not, and what to do.
pub fn check_identity<'s>(
    store: Result<&'s Store, StoreTrouble>,
    plan: &Plan,
    state: &State,
) -> Result<&'s Store, StoreTrouble> {
    check_mounted(&plan.store, plan.mounted)?;
    let store = store?;
    state.recognise_store(&store.location().describe(), &store.info().id).map_err(|error| {
        let advice = "if that is meant: remove the line in stores.json of the state folder";
        (error.to_string(), Some(advice.to_owned()))
    })?;
    Ok(store)
}

/// Whether something is mounted at a store's folder, where that must be.
///
/// # Errors
/// That nothing is, and what to do.
pub fn check_mounted(folder: &Path, must_be: bool) -> Result<(), StoreTrouble> {
    if !must_be || is_mount_point(folder) {
        return Ok(());
    }
    let text = format!("{} is not a mount point, and the definition says `must_be_mounted = true`", folder.display());
    Err((text, Some("mount it; nothing was written to the disk below it".to_owned())))
}

/// Whether the store that is meant (see [`check_identity`]) can be written and read, and cleaned where that is allowed, and is encrypted as it should be.
///
/// # Errors
/// Why it cannot be used, and what to do.
pub fn check_store(store: &Store, plan: &Plan, probe: &str) -> Result<(), StoreTrouble> {
    let place = plan.store.display();
    match (store.is_sealed(), plan.seal.is_empty()) {
        (true, true) => {
            let text = format!("the store at {place} is encrypted, and the definition has no `encrypt_to`");
            return Err((text, Some(format!("name the public keys: encrypt_to = {:?}", store.info().keys))));
        }
        (false, false) => {
            let text = format!("the store at {place} was made without keys, so what is in it is not encrypted");
            let advice = "make another store for what is to be encrypted: set its location, then `gullet store new`";
            return Err((text, Some(advice.to_owned())));
        }
        _ => {}
    }
    let location = store.location();
    // What a command left that was killed in the middle of this.
    let _ = location.discard_unpublished(PROBES, false);
    let name = format!("{PROBES}{probe}");
    // A place that checks what arrives said so with its answer; and that it can be read was seen when it was opened.
    let read = || if location.checks_what_arrives() { Ok(probe.into()) } else { location.read(&name) };
    let probed = location.write(&name, probe.as_bytes()).and_then(|()| read()).and_then(|bytes| {
        match location.remove(&name) {
            // A place where this account may only add is a good one: what is stored there nobody removes with its rights.
            Err(error) if !error.is_forbidden() => Err(error),
            _ => Ok(bytes == probe.as_bytes()),
        }
    });
    match probed {
        Ok(true) => Ok(()),
        Ok(false) => Err((format!("what was written to {place} read back differently"), None)),
        Err(error) => Err((format!("the store cannot be used: {}", chain(&error)), None)),
    }
}

/// Whether a copy is there, is one of this store, and lies on another filesystem. Gives what was found.
///
/// # Errors
/// What is wrong with it, and what to do; no run fails for it.
pub(super) fn check_copy(
    copy: &PlannedCopy,
    plan: &Plan,
    store: Option<&Store>,
    world: World<'_>,
) -> Result<String, StoreTrouble> {
    let (name, place) = (&copy.name, &copy.spec.location);
    let folder = copy.spec.folder();
    if let Some(folder) = folder {
        check_mounted(folder, copy.spec.must_be_mounted).map_err(|(why, advice)| (format!("{name}: {why}"), advice))?;
    }
    let opened = location_of(&copy.spec, world.environment).map_err(StoreError::from).and_then(Store::open);
    let there = opened.map_err(|error| {
        let makes = format!("gullet store copy {} makes it", plan.store_name);
        let advice = match (&error, folder) {
            (_, Some(_)) => Some(format!("{makes}; is its disk mounted?")),
            (StoreError::NoStore { .. }, None) => Some(makes),
            (_, None) => None,
        };
        (format!("{name}: {}", chain(&error)), advice)
    })?;
    if store.is_some_and(|store| store.info_hash() != there.info_hash()) {
        return Err((
            format!("{name}: there is another store at {place}"),
            Some("give it another location".to_owned()),
        ));
    }
    let device = |path: &Path| fs::metadata(path).map(|meta| meta.dev()).ok();
    if folder.is_some_and(|folder| device(folder).is_some() && device(folder) == device(&plan.store)) {
        let advice = "one broken disk takes both: keep the copy on another one";
        return Err((format!("{name} is on the same filesystem as the store"), Some(advice.to_owned())));
    }
    Ok(format!("{name}: it is a copy of the store, at {place}"))
}

/// Whether something is mounted at `path`.
fn is_mount_point(path: &Path) -> bool {
    let above = path.join("..");
    let (Ok(here), Ok(above)) = (fs::metadata(path), fs::metadata(above)) else { return false };
    here.dev() != above.dev() || here.ino() == above.ino()
}
