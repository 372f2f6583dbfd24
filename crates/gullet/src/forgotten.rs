//! What every command does first: leave holds that were forgotten, and write the records of runs that died.

use gullet_capture::part::{clear_leftovers, has_leftovers};
use gullet_host::hook::Runner;
use gullet_host::state::State;
use gullet_model::definition::Loaded;
use gullet_restore::restore::place::{Journals, is_open as is_swapping, settle as settle_restore};
use gullet_run::hold::{HoldNote, forgotten, notes_folder};
use gullet_run::run::recover;

use crate::open;
use crate::outside::RealWorld;
use crate::ui::Ui;

/// Settles what earlier commands could not. Whether every hold that nobody owns any more is left now.
pub fn settle(ui: &mut Ui, loaded: &Loaded, state: &State, outside: &RealWorld) -> bool {
    let notes = notes_folder(state.folder());
    let mut apps: Vec<String> = HoldNote::all(&notes);
    apps.extend(loaded.definition.app.keys().cloned());
    apps.extend(gullet_restore::restore::place::all(state.folder()));
    apps.sort();
    apps.dedup();
    let mut all_left = true;
    for app in apps {
        let world = outside.world();
        match forgotten::leave(&notes, &app, world, state.folder(), &Journals) {
            // What a forgotten hold of a restore leaves includes putting the old state back.
            Ok(None) => all_left &= put_back(ui, state, &app, outside),
            Ok(Some(found)) => match found.left {
                Ok(()) => ui.warning(&format!(
                    "`{app}` was still held ({}), and the processes that held it were gone; it is released now",
                    found.head.describe()
                )),
                Err(why) => {
                    all_left = false;
                    ui.warning(&format!(
                        "`{app}` is still held ({}), and cannot be released: {why}",
                        found.head.describe()
                    ));
                    for text in &found.by_hand {
                        ui.hint(text);
                    }
                }
            },
            Err(error) => {
                // What cannot be read may be held.
                all_left = false;
                ui.warning(&format!("`{app}` may still be held: {error}"));
                ui.hint(&format!(
                    "release it by hand, and say so: gullet release {app} --declare \"released by hand\""
                ));
            }
        }
        if state.open_logs(&app).is_empty() && !has_leftovers(state, &app) {
            continue;
        }
        // A run that is going on has the lock, and its log is open rightly.
        let Ok(lock) = state.lock(&app, "looking for runs that died") else { continue };
        let spec = loaded.definition.store_of(&app);
        // Where the store is not the one that is meant, or the keys are none, the record waits.
        let keys = spec.map(|(_, spec)| gullet_store::Recipients::parse(&spec.encrypt_to));
        let store = spec
            .and_then(|(_, spec)| open::store_of(spec, state).ok())
            .filter(|store| matches!(&keys, Some(Ok(keys)) if keys.is_empty() != store.is_sealed()));
        let keys = keys.and_then(Result::ok).unwrap_or_default();
        for run in recover(&app, state, store.as_ref(), &keys, world, &lock) {
            ui.warning(&format!("run {run} of `{app}` died before its end; it is recorded as interrupted"));
        }
        let runner = Runner::apart(world, &app, state.folder());
        for told in clear_leftovers(state, &app, &runner, &lock) {
            ui.warning(&told.unwrap_or_else(|why| why.to_string()));
        }
    }
    all_left
}

/// Puts the old state back where a restore was cut off in the middle of its swap, and says what lies ready.
fn put_back(ui: &mut Ui, state: &State, app: &str, outside: &RealWorld) -> bool {
    if !is_swapping(state.folder(), app) {
        return true;
    }
    // A restore that is going on has the lock.
    let Ok(_lock) = state.lock(app, "looking for restores that were cut off") else { return true };
    match settle_restore(state.folder(), app, outside.world().clock) {
        Ok(false) => true,
        Ok(true) => {
            ui.warning(&format!(
                "a restore of `{app}` was cut off in the middle of its swap; the old state is in place again"
            ));
            ui.hint(&format!("gullet restore {app} --continue tries again, --undo removes what lies beside"));
            true
        }
        Err(error) => {
            ui.warning(&format!("a restore of `{app}` was cut off in the middle of its swap, and the old state cannot be put back: {error}"));
            false
        }
    }
}
