//! Reading one file while it may change.

use std::fs::{self, File};
use std::io;
use std::os::unix::fs::MetadataExt;

use gullet_store::{Hash, IoPath, PathError};

use super::super::contents::{DataReader, contents, data_ranges, open};
use super::super::context::PartError;
use super::super::entry;
use super::super::marks::{Marked, StagedCopy};
use super::super::walk::FoundEntry;
use super::{AGAIN, Capturing, SMALL};

/// The contents of a file as they were read: its chunks, or where they are staged, and its data ranges.
pub(super) struct ReadContents {
    chunks: Vec<Hash>,
    staged: Option<StagedCopy>,
    /// How large the file is by what was read of it, in bytes.
    size: u64,
    /// Where it has data, if it has holes.
    ranges: Option<Vec<(u64, u64)>>,
}

impl ReadContents {
    /// What `length` bytes of data, read in this order of stretches, are of a file of `size`. One that shrank meanwhile ends where
    /// its data did.
    fn of_read(length: u64, ranges: Option<Vec<(u64, u64)>>, size: u64) -> (u64, Option<Vec<(u64, u64)>>) {
        let Some(ranges) = ranges else { return (length, None) };
        if length == ranges.iter().map(|(_, length)| length).sum::<u64>() {
            return (size, Some(ranges));
        }
        let mut left = length;
        let mut there = Vec::new();
        for (from, length) in ranges {
            let read = length.min(left);
            left -= read;
            if read > 0 {
                there.push((from, read));
            }
        }
        (there.last().map_or(0, |(from, length)| from + length), Some(there))
    }
}

impl Capturing<'_, '_, '_> {
    /// A file's entry; `None` when it vanished before it could be read.
    pub(super) fn file(
        &mut self,
        found: &FoundEntry,
        known: [Option<&Marked>; 2],
    ) -> Result<Option<Marked>, PartError> {
        // To distrust marks is to distrust those of earlier runs; the copy before the hold was read by this one.
        let [warm, last] = known;
        // In the hold nothing is looked up that can be told from the block, which is the first of the two.
        let told = !self.sink.is_listing() && self.in_order.usable;
        let first = if warm.is_some() { warm } else { last };
        for known in [warm, last.filter(|_| !self.context.reread)].into_iter().flatten() {
            if known.is_believed(&found.meta)
                && known.entry.same_as.is_none()
                && (told && first.is_some_and(|first| std::ptr::eq(first, known))
                    || self.known.stands_on(&known.entry, &self.known.last, self.context.deposit)?)
            {
                // Settled once, marks stay settled for as long as they stay the same.
                let mut entry = known.entry.clone();
                entry.mode = found.meta.mode() & 0o7777;
                self.has_names(&found.meta, found);
                return Ok(Some(self.marked(entry, &found.meta, true)));
            }
        }
        let read = self.read(found);
        self.unless_out_of_reach(found, read)
    }

    /// Notes under which name the contents of a file with several names are listed.
    pub(super) fn has_names(&mut self, meta: &fs::Metadata, found: &FoundEntry) {
        if meta.nlink() > 1 {
            self.links.entry((meta.dev(), meta.ino())).or_insert_with(|| found.name.clone());
        }
    }

    /// One path that vanished or cannot be read is named, and the others are captured; `None` for such a one.
    pub(super) fn unless_out_of_reach(
        &mut self,
        found: &FoundEntry,
        read: Result<Marked, PartError>,
    ) -> Result<Option<Marked>, PartError> {
        match read {
            Err(PartError::Path(error)) if error.source.kind() == io::ErrorKind::NotFound => {
                if !self.context.is_live {
                    self.warnings.add(format!("{} vanished before it could be read", found.path.display()));
                }
                Ok(None)
            }
            Err(PartError::Path(error)) if error.path == found.path || error.path == found.at => {
                self.unreadable += 1;
                // It is as it was, as far as can be told.
                self.seen.iter_mut().for_each(|seen| seen.add(found));
                self.warnings.add(format!("{} cannot be read: {}", found.path.display(), error.source));
                Ok(None)
            }
            other => other.map(Some),
        }
    }

    pub(super) fn read(&mut self, found: &FoundEntry) -> Result<Marked, PartError> {
        // What is written to while it is captured looks other every time; something else makes it fit together.
        let again = if self.context.is_live { 1 } else { AGAIN };
        for attempt in 1.. {
            let file = open(&found.at).map_err(|error| PathError::new(&found.path, error.source))?;
            let before = file.metadata().at(&found.path)?;
            let mut entry = entry::bare(found.name.clone(), &before);
            let ranges = data_ranges(&file, &before).at(&found.path)?;
            let taken = self.contents(file, &before, ranges, found)?;
            let after = fs::symlink_metadata(&found.at).at(&found.path)?;
            let same = self.marked(entry.clone(), &before, false).same_marks(&after) && after.is_file();
            let whole = taken.size == before.len();
            if (same && whole) || attempt == again {
                if !(same && whole || self.context.is_live) {
                    self.warnings.add(format!("{} changed while it was read", found.path.display()));
                }
                entry.size = taken.size;
                entry.data = taken.ranges;
                self.has_names(&before, found);
                if self.sink.is_listing() {
                    let deposit = &mut *self.context.deposit;
                    entry.set_chunks(taken.chunks, &mut |list: &[u8]| deposit.put(list))?;
                } else {
                    entry.chunks = taken.chunks;
                }
                self.attributes(&mut entry, found);
                let settled = same && whole && self.settles(&after);
                let marked = self.marked(entry, &after, settled);
                return Ok(Marked { staged: taken.staged, ..marked });
            }
        }
        unreachable!("the loop ends at its last attempt")
    }

    /// Clones or copies the contents where that is wanted and possible, else reads them into the store.
    pub(super) fn contents(
        &mut self,
        file: File,
        meta: &fs::Metadata,
        ranges: Option<Vec<(u64, u64)>>,
        found: &FoundEntry,
    ) -> Result<ReadContents, PartError> {
        if let Some(copies) = self.copies.as_mut().filter(|_| meta.len() > 0) {
            if meta.len() > SMALL
                && let Some(clone) = self.context.staging.clone_file(&file, meta.dev())?
            {
                copies.cloned();
                // The clone is from one point in time, which may be later than that at which the file was looked at.
                let cloned = File::open(&clone).at(&clone)?;
                let meta = cloned.metadata().at(&clone)?;
                let ranges = data_ranges(&cloned, &meta).at(&clone)?;
                return Ok(ReadContents {
                    chunks: Vec::new(),
                    staged: Some(StagedCopy::Clone(clone)),
                    size: meta.len(),
                    ranges,
                });
            }
            let source = DataReader::new(file.try_clone().at(&found.path)?, ranges.clone());
            if let Some((staged, length)) = copies.copy(source, meta.len(), &found.path)? {
                let (size, ranges) = ReadContents::of_read(length, ranges, meta.len());
                return Ok(ReadContents { chunks: Vec::new(), staged: Some(staged), size, ranges });
            }
        }
        let source = DataReader::new(file, ranges.clone());
        let mut chunks = Vec::new();
        let counts = *self.sink.counts();
        let length = contents((source, meta.len()), &found.path, &mut chunks, &counts, self.context)?;
        self.sink.counts().bytes_read += length;
        let (size, ranges) = ReadContents::of_read(length, ranges, meta.len());
        Ok(ReadContents { chunks, staged: None, size, ranges })
    }
}

#[cfg(test)]
mod tests {
    use super::ReadContents;

    #[test]
    fn a_file_with_holes_that_shrank_while_it_was_read_ends_where_its_data_did() {
        let ranges = || Some(vec![(0, 10), (100, 10), (200, 10)]);
        assert_eq!(ReadContents::of_read(30, ranges(), 500), (500, ranges()));
        assert_eq!(ReadContents::of_read(15, ranges(), 500), (105, Some(vec![(0, 10), (100, 5)])));
        assert_eq!(ReadContents::of_read(0, ranges(), 500), (0, Some(Vec::new())));
        assert_eq!(ReadContents::of_read(7, None, 500), (7, None));
    }
}
