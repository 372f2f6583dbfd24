//! `gullet store test`: what a place can really do.

use std::path::Path;
use std::sync::Arc;

use gullet_model::ids::random_id;
use gullet_store::{Store, StoreError, is_unused, probe};

use super::{is_place, spec_of};
use crate::args::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::SystemRandom;
use crate::text::{harmless, size};
use crate::ui::{GOOD, Ui, WARN, styled};

/// Tries a place with objects that are removed again. It may be the place of a store that is not made yet.
pub(super) fn test(ui: &mut Ui, global: &Global, name: &str) -> Result<Exit, CommandError> {
    let spec = spec_of(global, name)?;
    open::must_be_mounted(&spec)?;
    let place = open::place_of(&spec)?;
    let has_store = match Store::open(Arc::clone(&place)) {
        Ok(_) => true,
        // A place is tried before a store is made there, too; a folder that is not there may be a disk that is not.
        Err(StoreError::NoStore { .. }) if spec.folder().is_none_or(Path::is_dir) && is_unused(place.as_ref())? => {
            place.prepare()?;
            false
        }
        Err(error @ StoreError::NoStore { .. }) => {
            let error = CommandError::new(Exit::Refused, &error);
            return Err(maker(global, name)?.into_iter().fold(error, CommandError::hint));
        }
        Err(error) => return Err(error.into()),
    };
    let abilities = probe(place.as_ref(), &random_id(&SystemRandom, 12))?;
    let free = place.free_space()?;
    let locks = abilities.locks != Some(false);
    let exit = if abilities.creates_only && abilities.has_one_winner && abilities.removes && locks {
        Exit::Complete
    } else {
        Exit::Warnings
    };
    if ui.is_json() {
        let location = place.describe();
        let answer = serde_json::json!({
            "location": location, "ok": true, "can": abilities, "free_bytes": free, "has_store": has_store,
        });
        ui.json(&answer)?;
        return Ok(exit);
    }
    let free = free.map_or_else(String::new, |free| format!("; {} free", size(free)));
    let done = if abilities.removes {
        "written, read back whole and in part, removed"
    } else {
        "written, read back whole and in part"
    };
    ui.say(format!("{} {done} at {}{free}", styled(GOOD, "✓ usable:"), harmless(&place.describe())));
    let lacks = [
        (
            abilities.creates_only,
            "an object whose name is taken is overwritten there, and the server says that all is well",
        ),
        (
            abilities.has_one_winner,
            "of several writers of one name at the same moment more than one is told that it did",
        ),
        (
            abilities.removes,
            "nothing can be removed there with these rights: `thin` goes on, `store sweep` frees nothing",
        ),
        (locks, "nothing is locked there, though `locked_for` asks for it: can the bucket lock (object lock)?"),
    ];
    for (_, what) in lacks.iter().filter(|(can, _)| !can) {
        ui.say(format!("  {} {what}", styled(WARN, "!")));
    }
    if !abilities.creates_only || !abilities.has_one_winner {
        ui.tell("Nothing is lost by that: names are used once, and a document's name has the hash of its bytes (FORMAT.md).");
    }
    if !has_store {
        let how = maker(global, name)?.map_or_else(String::new, |how| format!("; {how}"));
        ui.tell(format!("There is no store there yet{how}"));
    }
    Ok(exit)
}

/// How a store is made at a place that the definition names.
fn maker(global: &Global, name: &str) -> Result<Option<String>, CommandError> {
    if is_place(name) {
        return Ok(None);
    }
    let loaded = open::definition(global)?;
    Ok(Some(match loaded.definition.copied_from(name) {
        Some((first, _)) => format!("gullet store copy {first} makes it"),
        None => format!("gullet store new {name} makes it"),
    }))
}
