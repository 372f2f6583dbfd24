//! What every command does first: leave holds that were forgotten, and write the records of runs that died.

use gullet_core::definition::Loaded;
use gullet_core::hold::{Note, forgotten};
use gullet_core::hook::Runner;
use gullet_core::part::{clear_leftovers, has_leftovers};
use gullet_core::run::recover;
use gullet_core::state::State;

use crate::open;
use crate::outside::Outside;
use crate::ui::Ui;

/// Settles what earlier commands could not. Whether every hold that nobody owns any more is left now.
pub fn settle(ui: &mut Ui, loaded: &Loaded, state: &State, outside: &Outside) -> bool {
    let notes = state.folder().join("holds");
    let mut apps: Vec<String> = Note::all(&notes);
    apps.extend(loaded.definition.app.keys().cloned());
    apps.sort();
    apps.dedup();
    let mut all_left = true;
    for app in apps {
        let world = outside.world();
        match forgotten::leave(&notes, &app, world, state.folder()) {
            Ok(None) => {}
            Ok(Some(found)) => match found.left {
                Ok(()) => ui.warning(&format!(
                    "`{app}` was still held ({}), and the processes that held it were gone; it is released now",
                    found.head.describe()
                )),
                Err(why) => {
                    all_left = false;
                    ui.warning(&format!(
                        "`{app}` is still held ({}), and does not let go: {why}",
                        found.head.describe()
                    ));
                    for text in &found.by_hand {
                        ui.hint(text);
                    }
                }
            },
            Err(error) => ui.warning(&format!("the hold of `{app}` cannot be looked at: {error}")),
        }
        if state.open_logs(&app).is_empty() && !has_leftovers(state, &app) {
            continue;
        }
        // A run that is going on has the lock, and its log is open rightly.
        let Ok(lock) = state.lock(&app, "looking for runs that died") else { continue };
        let spec = loaded.definition.store_of(&app);
        let store = spec.and_then(|(_, spec)| open::store_at(spec.location.as_ref()).ok());
        let keys = spec.and_then(|(_, spec)| gullet_store::Recipients::parse(&spec.seal_for).ok()).unwrap_or_default();
        for run in recover(&app, state, store.as_ref(), &keys, world, &lock) {
            ui.warning(&format!("run {run} of `{app}` died before its end; it is recorded as interrupted"));
        }
        let runner = Runner {
            world,
            app: app.clone(),
            run: String::new(),
            folder: state.folder().join("scratch"),
            top: state.folder().to_path_buf(),
        };
        for told in clear_leftovers(state, &app, &runner, &lock) {
            ui.warning(&told.unwrap_or_else(|why| why));
        }
    }
    all_left
}
