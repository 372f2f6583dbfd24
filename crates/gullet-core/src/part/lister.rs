//! Listing a capture while it is made: entries in order, compared with the last capture, counted, looked through for
//! what must be there.

use std::path::{Path, PathBuf};

use gullet_store::listing::{Kind, ListingRef, ListingWriter, PathName};
use gullet_store::{Deposit, PathError};

use super::marks::{LastMarks, Marked, NewMarks};
use super::secured::PartError;
use super::wanted::Wanted;
use crate::record::Counts;

/// A listing that is being made.
pub(super) struct Lister {
    listing: ListingWriter,
    last: LastMarks,
    new: NewMarks,
    wanted: Wanted,
    pub(super) counts: Counts,
    new_bytes_before: u64,
}

/// A listing that is made.
pub(super) struct Listed {
    pub(super) listing: ListingRef,
    pub(super) counts: Counts,
    /// The new marks, to take the place of the old ones when the run is recorded.
    pub(super) marks: PathBuf,
}

impl Lister {
    /// A listing that is compared with the marks at `last`, leaves its own at `new`, and must have what is `wanted`.
    pub(super) fn new(last: &Path, new: PathBuf, wanted: Wanted, deposit: &Deposit<'_>) -> Result<Self, PathError> {
        Ok(Self {
            listing: ListingWriter::default(),
            last: LastMarks::open(last),
            new: NewMarks::create(new)?,
            wanted,
            counts: Counts::default(),
            new_bytes_before: deposit.tally().new_bytes,
        })
    }

    /// What the last capture had at a path; to be asked in ascending order, for every path once.
    pub(super) fn last_of(&mut self, path: &PathName) -> Option<Marked> {
        self.last.of(path)
    }

    /// Adds what is at a path now.
    pub(super) fn push(
        &mut self,
        marked: &Marked,
        last: Option<&Marked>,
        deposit: &mut Deposit<'_>,
    ) -> Result<(), PartError> {
        let entry = &marked.entry;
        match entry.kind {
            Kind::File => {
                self.counts.files += 1;
                self.counts.bytes += entry.size;
                match last {
                    Some(last) if last.entry.same_contents(entry) => self.counts.unchanged += 1,
                    Some(last) if last.entry.kind == Kind::File => self.counts.changed += 1,
                    _ => self.counts.new += 1,
                }
            }
            Kind::Folder => self.counts.folders += 1,
            _ => self.counts.others += 1,
        }
        self.wanted.see(&entry.path);
        self.listing.push(entry, &mut |bytes: &[u8]| deposit.put(bytes))?;
        self.new.add(marked)?;
        Ok(())
    }

    /// Completes the listing.
    ///
    /// # Errors
    /// When it cannot be stored, or something that is wanted is not in it.
    pub(super) fn finish(self, deposit: &mut Deposit<'_>) -> Result<Listed, PartError> {
        if let Some(missing) = self.wanted.missing() {
            return Err(PartError::Other(missing));
        }
        let mut counts = self.counts;
        counts.vanished = self.last.finish();
        let listing = self.listing.finish(&mut |bytes: &[u8]| deposit.put(bytes))?;
        counts.bytes_new = deposit.tally().new_bytes - self.new_bytes_before;
        Ok(Listed { listing, counts, marks: self.new.finish()? })
    }
}
