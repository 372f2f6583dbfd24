//! Opening what a command works on: definition, state, stores, logbook.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use gullet_host::place::location_of;
use gullet_host::state::State;
use gullet_model::definition::{self, Flaw, Flaws, LoadError, Loaded, StoreSpec};
use gullet_run::preflight::check_mounted;
use gullet_store::{Identities, Location, Store, StoreError};

use crate::args::{Global, OpeningArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::outside::{SystemRandom, environment, host_name};
use crate::ui::Ui;

/// Where a definition is looked for, after the option and the variable.
const PLACES: [&str; 2] = ["gullet.toml", "/etc/gullet/gullet.toml"];
/// The state folder of a definition that names none.
const STATE: &str = "/var/lib/gullet";

/// Where the definition is.
pub fn path_of(global: &Global) -> Result<PathBuf, CommandError> {
    if let Some(path) = &global.definition {
        return Ok(path.clone());
    }
    let found = PLACES.iter().map(PathBuf::from).find(|path| path.is_file());
    found.ok_or_else(|| {
        CommandError::text(Exit::Definition, "there is no definition")
            .hint(format!("looked for {} and {}; or say `--definition FILE`", PLACES[0], PLACES[1]))
            .hint("`gullet tour` shows the whole job on a built-in application")
    })
}

/// Refuses a definition that others could change where root would run what it says.
fn trusted(loaded: &Loaded) -> Result<(), CommandError> {
    if rustix::process::geteuid().is_root() {
        for file in &loaded.files {
            if let Some(why) = gullet_host::permissions::changeable_by_others(file) {
                let text = format!("`{}` says what root runs, and others could change it: {why}", file.display());
                let error = CommandError::text(Exit::Definition, text);
                return Err(error.hint("let only root write to it and to the folders above it"));
            }
        }
    }
    Ok(())
}

/// Loads the definition, in which nothing may be wrong.
pub fn definition(global: &Global) -> Result<Loaded, CommandError> {
    let loaded = definition::load(&path_of(global)?, &host_name())?;
    trusted(&loaded)?;
    Ok(loaded)
}

/// The definition, as far as it can be used, and what was left out of it.
pub fn sound(global: &Global) -> Result<Loaded, CommandError> {
    let loaded = definition::load_sound(&path_of(global)?, &host_name())?;
    trusted(&loaded)?;
    Ok(loaded)
}

/// Loads what can be used of the definition, and says what was left out. What was asked for must be there.
///
/// An error in one application is no reason to leave the others alone.
pub fn sound_definition(ui: &mut Ui, global: &Global, wanted: &[String]) -> Result<Loaded, CommandError> {
    let loaded = sound(global)?;
    let is_wanted = |flaw: &Flaw| flaw.app.as_ref().is_some_and(|app| wanted.contains(app));
    let is_unknown = wanted.iter().any(|app| !loaded.definition.app.contains_key(app));
    if loaded.left_out.iter().any(is_wanted) || (is_unknown && !loaded.left_out.is_empty()) {
        return Err(LoadError::Flaws(Flaws(loaded.left_out)).into());
    }
    for flaw in &loaded.left_out {
        let what =
            flaw.app.as_ref().map_or_else(|| "a file is left out".to_owned(), |app| format!("`{app}` is left out"));
        ui.warning(&format!("{what}: {flaw}"));
    }
    Ok(loaded)
}

/// The state folder of a definition.
pub fn state_folder(loaded: &Loaded) -> PathBuf {
    loaded.definition.state.clone().unwrap_or_else(|| PathBuf::from(STATE))
}

/// Opens the state folder of a definition.
pub fn state(loaded: &Loaded) -> Result<State, CommandError> {
    Ok(State::open(&state_folder(loaded), &SystemRandom)?)
}

/// Opens a store by its name in the definition, or by its place.
pub fn named_or_placed(global: &Global, place: &Path) -> Result<Store, CommandError> {
    let named = place.to_str().filter(|name| !name.contains('/'));
    let named = named.and_then(|name| sound(global).ok()?.definition.store.get(name).cloned());
    store_at(&named.map_or_else(|| undefined(place), Ok)?)
}

/// Reads files of identities; a passphrase is taken from a file, or asked for at the terminal.
pub fn identities(args: &OpeningArgs) -> Result<Identities, CommandError> {
    let mut all = Identities::default();
    for path in &args.identity {
        let shown = path.display();
        let fail = |error: &dyn std::fmt::Display| {
            CommandError::text(Exit::Failed, format!("the identity file `{shown}` cannot be used: {error}"))
        };
        let bytes = std::fs::read(path).map_err(|error| fail(&error))?;
        let passphrase = || passphrase(&format!("passphrase of {shown}: "), args.passphrase_from.as_deref());
        all = all.and(Identities::read(&bytes, &passphrase).map_err(|error| fail(&error))?);
    }
    Ok(all)
}

/// A passphrase: the first line of a file, or what is typed at the terminal; none where there is neither.
pub fn passphrase(prompt: &str, from: Option<&Path>) -> Option<String> {
    use std::io::IsTerminal;
    match from {
        Some(path) => std::fs::read_to_string(path).ok()?.lines().next().map(str::to_owned),
        None if std::io::stdin().is_terminal() => rpassword::prompt_password(prompt).ok(),
        None => None,
    }
}

/// The place of a store.
pub fn place_of(spec: &StoreSpec) -> Result<Arc<dyn Location>, StoreError> {
    Ok(location_of(spec, &environment())?)
}

/// A bucket that locks: under what its locks are known, and for how long it locks.
pub fn locking(spec: &StoreSpec) -> Option<(String, std::time::Duration)> {
    gullet_host::place::locking(spec, &environment())
}

/// A store that no definition describes: by its folder, or by its URL and what the environment says.
pub fn undefined(place: &Path) -> Result<StoreSpec, CommandError> {
    let text = place.to_string_lossy();
    let location = match text.contains("://") {
        true => text.into_owned(),
        false => std::path::absolute(place)?.to_string_lossy().into_owned(),
    };
    Ok(StoreSpec { location, ..StoreSpec::default() })
}

/// Opens a store where it lies.
pub fn store_at(spec: &StoreSpec) -> Result<Store, CommandError> {
    Ok(Store::open(place_of(spec)?)?)
}

/// Opens a store of the definition: where it must be, and the one that was there before.
pub fn store_of(spec: &StoreSpec, state: &State) -> Result<Store, CommandError> {
    must_be_mounted(spec)?;
    let store = store_at(spec)?;
    state.recognise_store(&store.location().describe(), &store.info().id)?;
    Ok(store)
}

/// Refuses a store whose folder must be a mount point and is none.
pub fn must_be_mounted(spec: &StoreSpec) -> Result<(), CommandError> {
    let Some(folder) = spec.folder() else { return Ok(()) };
    check_mounted(folder, spec.must_be_mounted).map_err(|(text, advice)| {
        let error = CommandError::text(Exit::Refused, text);
        advice.into_iter().fold(error, CommandError::hint)
    })
}
