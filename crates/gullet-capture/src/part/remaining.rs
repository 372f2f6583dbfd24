//! Files that are at the sources of a part now and are not in a capture of it.

use std::collections::HashSet;
use std::hash::{BuildHasher, RandomState};
use std::path::PathBuf;

use gullet_store::listing::{ListingReader, ListingRef, PathName};
use gullet_store::{ChunkReader, PathError, StoreError};

use super::left::LeftReason;
use super::walk::{FoundEntry, LeftOuts, Walk};

/// Why a capture does not have it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Why {
    /// It was made since.
    Since,
    /// It would not be captured.
    LeftOut(LeftReason),
}

/// What goes wrong.
#[derive(Debug, thiserror::Error)]
pub enum RemainingError {
    #[error(transparent)]
    /// A source cannot be looked at.
    Path(#[from] PathError),
    #[error(transparent)]
    /// The listing cannot be read.
    Store(#[from] StoreError),
}

/// Everything at the sources of a part, as they are now, that a listing of it does not have; of a folder only the folder
/// itself. `here` says where a path of the listing is now. Of the listing's paths a hash is kept in memory, 8 bytes each.
///
/// # Errors
/// When the listing or a folder cannot be read. That a source is not there is none.
pub(crate) fn remaining(
    walk: Walk,
    listing: &ListingRef,
    chunks: &mut ChunkReader,
    here: &dyn Fn(&PathName) -> PathName,
) -> Result<Vec<(PathBuf, Why)>, RemainingError> {
    let Some(walk) = walk.of_what_is_there() else { return Ok(Vec::new()) };
    let hasher = RandomState::new();
    let mut known = HashSet::new();
    ListingReader::new(chunks).for_each(&listing.root, |entry, _| {
        known.insert(hasher.hash_one(here(&entry.path)));
        Ok::<_, StoreError>(())
    })?;
    let mut all: Vec<(PathBuf, Why)> = Vec::new();
    let mut left = LeftOuts::with_all();
    walk.run(&mut left, &mut |found: FoundEntry| {
        let is_known = known.contains(&hasher.hash_one(&found.name));
        if !is_known && !all.last().is_some_and(|(last, _)| found.path.starts_with(last)) {
            all.push((found.path, Why::Since));
        }
        Ok::<_, PathError>(())
    })?;
    all.extend(left.into_all().into_iter().map(|(why, path)| (path, Why::LeftOut(why))));
    Ok(all)
}
