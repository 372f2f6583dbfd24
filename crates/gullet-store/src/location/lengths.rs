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

#[cfg(test)]
mod tests {
    use std::sync::Arc;
    use std::sync::atomic::{AtomicU32, Ordering};

    use super::super::remote::Counted;
    use super::*;

    #[test]
    fn a_few_objects_of_a_far_place_are_asked_for_and_many_are_listed() {
        let counts = Arc::new([AtomicU32::new(0), AtomicU32::new(0)]);
        let place = Counted::place(&["payload/w/a", "payload/w/b", "payload/v/c"], Arc::clone(&counts));
        let seen = || counts.each_ref().map(|count| count.load(Ordering::Relaxed));
        let mut lengths = Lengths::default();
        for (number, name) in ["payload/w/a", "payload/w/gone", "payload/w/b"].iter().enumerate() {
            assert_eq!(lengths.of(place.as_ref(), name).unwrap().is_some(), number != 1);
            assert_eq!(seen(), [number as u32 + 1, 0], "one by one");
        }
        for name in ["payload/w/a", "payload/w/gone", "payload/w/b"] {
            assert_eq!(lengths.of(place.as_ref(), name).unwrap().is_some(), name != "payload/w/gone");
            assert_eq!(seen(), [3, 1], "one list for all that lie beside it");
        }
        assert!(lengths.of(place.as_ref(), "payload/v/c").unwrap().is_some());
        assert_eq!(seen(), [3, 2]);
    }
}
