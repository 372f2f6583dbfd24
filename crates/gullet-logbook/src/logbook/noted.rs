//! What must be in a store because this machine wrote it.

use std::collections::HashSet;

use gullet_host::state::{State, WrittenDocuments};
use gullet_store::Store;

/// What this machine knows to have written into a store. Read before the store is listed: what is written meanwhile is not in the
/// list and is not missing.
pub(super) struct NotedBefore(Vec<WrittenDocuments>);

impl NotedBefore {
    pub(super) fn read(store: &Store, app: Option<&str>, state: Option<&State>) -> Self {
        let id = &store.info().id;
        let apps = |state: &State| app.map_or_else(|| state.written_apps(id), |app| vec![app.to_owned()]);
        let of_apps = |state: &State| apps(state).iter().map(|app| state.written(id, app)).collect();
        Self(state.map(of_apps).unwrap_or_default())
    }

    /// Adds those that are not among `there`.
    pub(super) fn add_missing(&self, missing: &mut Vec<(String, String)>, there: &HashSet<&str>) {
        let known: HashSet<String> = missing.iter().map(|(name, _)| name.clone()).collect();
        let gone = self.0.iter().flat_map(|written| written.missing(there)).filter(|name| !known.contains(name));
        missing.extend(gone.map(|name| (name, "this machine wrote it".to_owned())));
    }
}
