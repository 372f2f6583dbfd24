//! What a verification of a copy found: the runs whose second copy is damaged there have none any more.

use std::collections::BTreeSet;

use gullet_host::state::{State, StateError};
use gullet_host::world::World;
use gullet_model::ids::RunId;
use gullet_model::outcome::Outcome;
use gullet_model::record::{Remark, RemarkKind};
use gullet_store::{Store, StoreError};

use super::own_runs;
use crate::logbook::Logbook;

/// A copy in which something is damaged.
pub struct DamagedCopy<'a> {
    /// Its name in the definition.
    pub name: &'a str,
    /// The place of the copy, as people name it.
    pub place: &'a str,
    /// Its own logbook.
    pub book: &'a Logbook,
    /// The objects that are damaged or missing there.
    pub damaged: BTreeSet<&'a str>,
}

/// What is damaged in a copy could not be noted.
#[derive(Debug, thiserror::Error)]
#[error(transparent)]
pub enum NotNoted {
    /// The first store cannot be used.
    Store(#[from] StoreError),
    /// The state folder cannot be used.
    State(#[from] StateError),
}

impl DamagedCopy<'_> {
    /// Says of every run of this machine that stands on something that is damaged in the copy that it has no second copy there any
    /// more, and gives those. The next copy reads back what it would have trusted, and sends anew what is damaged.
    ///
    /// # Errors
    /// When the first store cannot be read, or cannot take the remarks.
    pub fn note(&self, first: &Store, state: &State, world: World<'_>) -> Result<Vec<RunId>, NotNoted> {
        state.forget_proven_documents(&first.info().id, self.place)?;
        let book = Logbook::read(first, None, Some(state))?;
        let there: BTreeSet<&str> = self.book.runs.iter().map(|logged| logged.name.as_str()).collect();
        let mut lost = Vec::new();
        for logged in own_runs(&book, state.machine()).filter(|logged| logged.is_copied(self.name)) {
            let holdings = logged.holdings();
            let is_whole = there.contains(logged.name.as_str())
                && !self.damaged.contains(logged.name.as_str())
                && !holdings.files().any(|(name, _)| self.damaged.contains(name));
            if is_whole {
                continue;
            }
            let text = format!("its second copy on {} is damaged", self.name);
            let remark = logged.remark(world.clock.now(), RemarkKind::CopyDamaged, Outcome::Complete, text);
            logged.store_remark(&Remark { copy: Some(self.name.to_owned()), ..remark }, first, Some(state))?;
            lost.push(logged.record.run.clone());
        }
        Ok(lost)
    }
}
