//! Places that keep versions of their objects, and may lock them: what is replaced or removed there is only hidden, and what is
//! locked cannot be removed before its time by anybody, whatever credentials he has.

use std::time::Duration;

use jiff::Timestamp;

use crate::error::StoreError;

/// One version of an object, as a place lists it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ObjectVersion {
    /// The object's name.
    pub name: String,
    /// The version's own name.
    pub version: String,
    /// When it was made, by the server's clock.
    pub made: Timestamp,
    /// Whether it is what is seen of the object now.
    pub is_newest: bool,
    /// Whether it says only that the object was removed.
    pub is_removal: bool,
    /// Its length in bytes.
    pub length: u64,
    /// What the server tells its bytes from others by; empty where it does not say.
    pub tag: String,
}

impl ObjectVersion {
    /// Whether it has the same bytes as another one of its object, as the server tells them apart.
    fn is_same(&self, other: &Self) -> bool {
        self.version == other.version || (!self.tag.is_empty() && self.tag == other.tag && self.length == other.length)
    }
}

/// A place that keeps versions of its objects.
pub trait Versioned {
    /// How long what is written is locked; `None` where it is not asked to be.
    fn locked_for(&self) -> Option<Duration>;
    /// Locks an object until then.
    ///
    /// # Errors
    /// When the server refuses it, which it also does where the object is locked for longer.
    fn lock(&self, name: &str, until: Timestamp) -> Result<(), StoreError>;
    /// Until when an object is locked, as the server says it.
    ///
    /// # Errors
    /// When it cannot be asked.
    fn locked_until(&self, name: &str) -> Result<Option<Timestamp>, StoreError>;
    /// All versions of all objects, those of each object newest first.
    ///
    /// # Errors
    /// When they cannot be listed; a server that keeps none says so.
    fn versions(&self) -> Result<Vec<ObjectVersion>, StoreError>;
    /// Makes a version of an object the newest one again, locked as what is written anew.
    ///
    /// # Errors
    /// When the server does not do it.
    fn bring_back(&self, version: &ObjectVersion) -> Result<(), StoreError>;
}

/// How long a lock is where so much was asked for: longer, so that what a run stands on need not be locked anew each day.
pub fn with_margin(locked_for: Duration) -> Duration {
    locked_for.saturating_add(locked_for / 4)
}

/// How the objects of a place differ from what they were at a moment.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SinceThen {
    /// What was there and is removed: the version that was seen then.
    pub removed: Vec<ObjectVersion>,
    /// What was there and has other bytes now: the version that was seen then.
    pub replaced: Vec<ObjectVersion>,
    /// What is there and was not.
    pub added: u64,
}

impl SinceThen {
    /// Compares all versions, those of each object newest first, with what was seen at `then`, by the server's clock.
    pub fn of(versions: &[ObjectVersion], then: Timestamp) -> Self {
        let mut found = Self::default();
        for of_object in versions.chunk_by(|one, other| one.name == other.name) {
            let is = of_object.iter().find(|version| version.is_newest).filter(|version| !version.is_removal);
            let was = of_object.iter().find(|version| version.made <= then).filter(|version| !version.is_removal);
            match (was, is) {
                (Some(was), None) => found.removed.push(was.clone()),
                (Some(was), Some(is)) if !was.is_same(is) => found.replaced.push(was.clone()),
                (None, Some(_)) => found.added += 1,
                _ => {}
            }
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn version(name: &str, version: &str, at: i64, is_newest: bool) -> ObjectVersion {
        let made = Timestamp::from_second(at).unwrap();
        let is_removal = version.is_empty();
        let tag = version.trim_start_matches(char::is_alphabetic).to_owned();
        let version = version.to_owned();
        ObjectVersion { name: name.to_owned(), version, made, is_newest, is_removal, length: 1, tag }
    }

    #[test]
    fn what_was_removed_and_replaced_since_a_moment_is_found() {
        let versions = [
            version("as-it-was", "a1", 10, true),
            version("made-since", "b1", 30, true),
            version("removed", "", 30, true),
            version("removed", "c1", 10, false),
            version("removed-before", "", 15, true),
            version("removed-before", "d1", 10, false),
            version("replaced", "e3", 40, true),
            version("replaced", "e2", 20, false),
            version("replaced", "e1", 10, false),
            version("removed-and-back", "g1", 40, true),
            version("removed-and-back", "", 30, false),
            version("removed-and-back", "f1", 20, false),
        ];
        let found = SinceThen::of(&versions, Timestamp::from_second(20).unwrap());
        let names = |versions: &[ObjectVersion]| versions.iter().map(|one| one.version.clone()).collect::<Vec<_>>();
        assert_eq!((names(&found.removed), found.added), (vec!["c1".to_owned()], 1));
        assert_eq!(names(&found.replaced), ["e2"], "what is the same again is not told");
        assert_eq!(SinceThen::of(&versions, Timestamp::from_second(50).unwrap()), SinceThen::default());
    }
}
