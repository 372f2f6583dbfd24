//! The lengths of many objects, asked for with few requests where the place is far.

use std::collections::{HashMap, HashSet};

use super::Location;
use crate::error::StoreError;

/// So many objects of a far place are asked for one by one; then all are listed that lie beside the next.
const ONE_BY_ONE: usize = 3;

/// What is known of the lengths of objects, as of when they were asked for first.
#[derive(Debug, Default)]
pub struct Lengths {
    asked: usize,
    /// Folders that were listed.
    listed: HashSet<String>,
    found: HashMap<String, u64>,
}

impl Lengths {
    /// The length of an object, or `None` when it is not there. A folder is that of a machine: `payload/MACHINE/`.
    ///
    /// # Errors
    /// When the place cannot be asked.
    pub fn of(&mut self, location: &dyn Location, name: &str) -> Result<Option<u64>, StoreError> {
        if !location.is_far() || self.asked < ONE_BY_ONE {
            self.asked += 1;
            return location.length(name);
        }
        let folder: String = name.splitn(3, '/').take(2).map(|part| format!("{part}/")).collect();
        if self.listed.insert(folder.clone()) {
            let objects = location.list(&folder)?.into_iter();
            self.found.extend(objects.map(|object| (object.name, object.length)));
        }
        Ok(self.found.get(name).copied())
    }
}
