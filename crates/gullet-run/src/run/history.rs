//! What a run must know of the runs before it, and under which id it may go on.

use gullet_store::{Store, StoreError};

use gullet_host::state::{State, StateError};
use gullet_host::world::World;
use gullet_logbook::logbook::Recent;
use gullet_logbook::sweep::is_retired;

/// The past cannot be known.
#[derive(Debug, thiserror::Error)]
pub enum HistoryError {
    /// The store cannot be read.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The state folder cannot be used.
    #[error(transparent)]
    State(#[from] StateError),
}

/// Looks back at the runs of `app` by this machine. Where it is not the one that wrote them, or was retired as a machine, it
/// takes a new machine id, and knows of no run; `tell` is told so, and of documents that cannot be read.
///
/// # Errors
/// When the store cannot be read, or the state not be used.
pub fn load_history(
    store: &Store,
    app: &str,
    state: &mut State,
    world: World<'_>,
    tell: &mut dyn FnMut(&str),
) -> Result<Recent, HistoryError> {
    let id = &store.info().id;
    if is_retired(store, state.machine())? {
        state.renew_writer(id, world.random)?;
        let text = "this machine was retired as a machine of the store; it goes on as the new machine";
        tell(&format!("{text} {}, and captures everything anew", state.machine()));
    }
    let recent = Recent::read(store, app, state.machine(), state)?;
    for (name, why) in &recent.unreadable {
        tell(&format!("{name} cannot be read: {why}"));
    }
    if recent.unknown.is_none() {
        for name in &recent.missing {
            tell(&format!(
                "{name} is missing from the store: this machine wrote it, and Gullet never removes a document"
            ));
        }
        return Ok(recent);
    }
    state.renew_writer(id, world.random)?;
    tell(&format!(
        "the store has runs of this machine that it did not make: it is a copy, or its state is older than the \
         store. It goes on as the new machine {}, and captures everything anew",
        state.machine()
    ));
    Ok(Recent::default())
}
