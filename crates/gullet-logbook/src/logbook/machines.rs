//! The newest runs of every application of every machine, as a store alone tells of them.

use std::collections::BTreeMap;

use gullet_store::{DocumentName, Store, StoreError};

use super::{Logbook, drilled_last, order, read_with_remarks};

/// What a store has of its machines, by name only; nothing was read yet.
pub struct MachineRuns {
    /// Application and machine, with the names of their records.
    pairs: BTreeMap<(String, String), Vec<DocumentName>>,
    remarks: BTreeMap<(String, String), Vec<DocumentName>>,
}

impl MachineRuns {
    /// Lists what a store has. Machines that were retired are left out.
    ///
    /// # Errors
    /// When it cannot be listed.
    pub fn list(store: &Store) -> Result<Self, StoreError> {
        let remarks = store.documents("remarks")?;
        let records = store.documents("records")?;
        let retired = store.documents("retired")?;
        let is_retired = |machine: &str| retired.iter().any(|name| name.folder().ends_with(&format!("/{machine}")));
        let by_pair = |names: Vec<DocumentName>| {
            let mut pairs: BTreeMap<(String, String), Vec<DocumentName>> = BTreeMap::new();
            for name in names {
                let mut parts = name.as_str().split('/').skip(1).map(str::to_owned);
                if let (Some(app), Some(machine)) = (parts.next(), parts.next())
                    && !is_retired(&machine)
                {
                    pairs.entry((app, machine)).or_default().push(name);
                }
            }
            pairs
        };
        Ok(Self { pairs: by_pair(records), remarks: by_pair(remarks) })
    }

    /// The applications and their machines.
    pub fn pairs(&self) -> impl Iterator<Item = (&str, &str)> {
        self.pairs.keys().map(|(app, machine)| (app.as_str(), machine.as_str()))
    }

    /// The newest runs of an application by a machine: `most` of them by their names, in the order of their chain, and those that
    /// were drilled last. What cannot be read is in the book as well.
    pub fn newest(&self, store: &Store, app: &str, machine: &str, most: usize) -> Logbook {
        let pair = (app.to_owned(), machine.to_owned());
        let of = |documents: &BTreeMap<(String, String), Vec<DocumentName>>| {
            documents.get(&pair).cloned().unwrap_or_default()
        };
        let (names, remarks) = (of(&self.pairs), of(&self.remarks));
        let mut book = Logbook { machine: Some(machine.to_owned()), ..Logbook::default() };
        let drilled = drilled_last(&remarks);
        let is_drilled = |name: &DocumentName| drilled.iter().any(|run| name.stem().ends_with(&format!("-{run}")));
        let first = names.len().saturating_sub(most);
        for (number, name) in names.iter().enumerate() {
            if number >= first || is_drilled(name) {
                book.runs.extend(read_with_remarks(store, name, &remarks, None, &mut book.unreadable));
            }
        }
        order::by_chain(&mut book.runs);
        book
    }
}
