//! What a place can really do, found out by trying: servers do not always do what their protocol says.

use std::io::{Read, Seek, SeekFrom};

use serde::Serialize;

use crate::error::{IoPath, StoreError};
use crate::location::{Location, PROBES};

/// Bytes of the object that is tried with: more than a server keeps in one packet.
const LENGTH: usize = 300_000;
/// So many writers try to have one name at the same moment, and so often.
const WRITERS: usize = 4;
const RACES: usize = 3;

/// What a place can do. That an object can be written, read whole and in part, and is listed is not in it: without that it is no place.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Abilities {
    /// An object whose name is taken is refused.
    pub creates_only: bool,
    /// Of writers of one name at the same moment exactly one is told that it did.
    pub has_one_winner: bool,
    /// An object can be removed. A place where this account may only add is a good one, too.
    pub removes: bool,
    /// An object that is asked to be locked is locked; none where that is not asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub locks: Option<bool>,
}

/// Whether a place has nothing but what it was tried with, which may stay where nothing can be removed.
///
/// # Errors
/// When it cannot be listed.
pub fn is_unused(location: &dyn Location) -> Result<bool, StoreError> {
    Ok(location.names("")?.iter().all(|name| name.starts_with(PROBES)))
}

/// Tries a place with objects below `probes/ID-`, and removes them where it may.
///
/// # Errors
/// When it is no place for a store: what is written cannot be read back, in part or as a whole, or is not listed.
pub fn probe(location: &dyn Location, id: &str) -> Result<Abilities, StoreError> {
    let name = format!("{PROBES}{id}-0");
    // What is sent must not be compressed to nothing on the way.
    let bytes: Vec<u8> = std::iter::repeat_with(|| fastrand::u8(..)).take(LENGTH).collect();
    location.write(&name, &bytes)?;
    let tried = tried(location, &name, &bytes);
    let versioned = location.versioned().filter(|versioned| versioned.locked_for().is_some());
    let locks = versioned.map(|versioned| Ok::<_, StoreError>(versioned.locked_until(&name)?.is_some())).transpose()?;
    let removed = location.remove(&name);
    let creates_only = tried?;
    let has_one_winner = has_one_winner(location, id)?;
    let removes = removed.is_ok() && location.length(&name)?.is_none();
    Ok(Abilities { creates_only, has_one_winner, removes, locks })
}

/// Reads an object that was written in all ways, and writes it again: gives whether that was refused.
fn tried(location: &dyn Location, name: &str, bytes: &[u8]) -> Result<bool, StoreError> {
    let wrong = |what: &str| StoreError::Damaged { name: name.to_owned(), what: what.to_owned() };
    if location.read(name)? != bytes {
        return Err(wrong("it was read back differently"));
    }
    let mut some = vec![0; LENGTH / 10];
    let mut open = location.open(name)?;
    open.seek(SeekFrom::Start((LENGTH / 2) as u64)).at(name)?;
    open.read_exact(&mut some).at(name)?;
    if some != bytes[LENGTH / 2..LENGTH / 2 + LENGTH / 10] {
        return Err(wrong("a part of it was read back differently"));
    }
    if location.length(name)? != Some(LENGTH as u64) || !location.names(PROBES)?.iter().any(|there| there == name) {
        return Err(wrong("it is not listed, or with another length"));
    }
    match location.write(name, b"another") {
        Err(StoreError::Exists { .. }) if location.read(name)? == bytes => Ok(true),
        Ok(()) | Err(StoreError::Exists { .. }) => Ok(false),
        Err(error) => Err(error),
    }
}

fn has_one_winner(location: &dyn Location, id: &str) -> Result<bool, StoreError> {
    let mut has_one = true;
    for race in 1..=RACES {
        let name = format!("{PROBES}{id}-{race}");
        let written: Vec<Result<(), StoreError>> = std::thread::scope(|scope| {
            let write = |writer: usize| {
                let (name, text) = (&name, format!("writer {writer} ").repeat(5000));
                scope.spawn(move || location.write(name, text.as_bytes()))
            };
            let writers: Vec<_> = (0..WRITERS).map(write).collect();
            writers.into_iter().filter_map(|writer| writer.join().ok()).collect()
        });
        let _ = location.remove(&name);
        has_one &= written.iter().filter(|written| written.is_ok()).count() == 1;
        // Another error than that the name is taken is one of the place.
        for error in written.into_iter().filter_map(Result::err) {
            if !matches!(error, StoreError::Exists { .. } | StoreError::Damaged { .. }) {
                return Err(error);
            }
        }
    }
    Ok(has_one)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::location::{Folder, Memory};

    #[test]
    fn a_folder_and_memory_can_do_everything_and_keep_nothing_of_it() {
        let all = Abilities { creates_only: true, has_one_winner: true, removes: true, locks: None };
        let folder = tempfile::tempdir().unwrap();
        let folder = Folder::new(folder.path());
        assert_eq!(probe(&folder, "x").unwrap(), all);
        assert_eq!(folder.list("").unwrap(), []);
        let memory = Memory::default();
        assert_eq!(probe(&memory, "x").unwrap(), all);
        assert_eq!(memory.list("").unwrap(), []);
    }
}
