//! Listing a capture while it is made: entries in order, compared with the last capture, counted, looked through for
//! what must be there.
//!
//! A block in which nothing changed is taken over whole, with the frames that it stands on; as long as all blocks from the
//! first one on are taken over nothing is done but counting them, so that an unchanged listing costs nothing.

use std::path::PathBuf;

use gullet_store::listing::{ClosedBlock, Kind, ListingRef, ListingWriter, PathName};
use gullet_store::{Deposit, Hash, PathError, StoreError};

use super::context::PartError;
use super::marks::{MadeMarks, Mark, Marked, Marks, NewMarks, News};
use super::wanted::MustContain;
use gullet_model::record::Counts;

/// A listing that is being made.
pub(crate) struct Lister {
    listing: ListingWriter,
    last: Marks,
    new: NewMarks,
    wanted: MustContain,
    pub(crate) counts: Counts,
    new_bytes_before: u64,
    /// Whether it is stored; the copy before the hold only needs to know what it would be.
    is_stored: bool,
    /// So many blocks of the last listing, from its beginning, are what this one has so far; `None` once something else came.
    taken_over: Option<usize>,
}

/// A listing that is made.
pub(crate) struct Listed {
    pub(crate) listing: ListingRef,
    pub(crate) counts: Counts,
    /// The new marks, to take the place of the old ones when the run is recorded; none when the old ones stay.
    pub(crate) marks: Option<MadeMarks>,
}

/// Stores a chunk, or only says what its id is.
fn put<'p>(deposit: &'p mut Deposit<'_>, is_stored: bool) -> impl FnMut(&[u8]) -> Result<Hash, StoreError> + 'p {
    move |bytes| if is_stored { deposit.put(bytes) } else { Ok(Hash::of(bytes)) }
}

impl Lister {
    /// A listing that is compared with the `last` one, leaves its own at `new`, and must have what is `wanted`.
    pub(crate) fn new(
        last: Marks,
        new: PathBuf,
        wanted: MustContain,
        deposit: &mut Deposit<'_>,
    ) -> Result<Self, PathError> {
        deposit.note();
        Ok(Self {
            listing: ListingWriter::default(),
            last,
            new: NewMarks::create(new)?,
            wanted,
            counts: Counts::default(),
            new_bytes_before: deposit.tally().new_bytes,
            is_stored: true,
            taken_over: Some(0),
        })
    }

    /// As [`Lister::new`], of what is not to be listed in the store.
    pub(crate) fn unstored(last: Marks, new: PathBuf, deposit: &mut Deposit<'_>) -> Result<Self, PathError> {
        let wanted = MustContain::new(&[], std::iter::empty());
        Ok(Self { is_stored: false, ..Self::new(last, new, wanted, deposit)? })
    }

    /// What the last capture had at a path.
    pub(crate) fn last_of(&mut self, path: &PathName) -> Option<Marked> {
        self.last.of(path)
    }

    /// The marks of the last capture.
    pub(crate) fn last(&self) -> &Marks {
        &self.last
    }

    /// Adds what is at a path now; `last` is what the last capture had there.
    pub(crate) fn push(
        &mut self,
        mut marked: Marked,
        last: Option<&Marked>,
        deposit: &mut Deposit<'_>,
    ) -> Result<(), PartError> {
        marked.news = match last {
            Some(last) if last.entry.same_contents(&marked.entry) => News::Unchanged,
            Some(last) if last.entry.kind == Kind::File => News::Changed,
            _ => News::New,
        };
        self.wanted.see(&marked.entry.path);
        marked.count_in(&mut self.counts);
        self.flush(deposit)?;
        self.add(&marked, deposit)
    }

    fn add(&mut self, marked: &Marked, deposit: &mut Deposit<'_>) -> Result<(), PartError> {
        self.new.add(marked);
        let closed = self.listing.push(&marked.entry, &mut put(deposit, self.is_stored))?;
        self.closed(closed, deposit)
    }

    fn closed(&mut self, closed: Option<ClosedBlock>, deposit: &mut Deposit<'_>) -> Result<(), PartError> {
        if let Some(closed) = closed {
            self.new.close(closed, deposit.noted())?;
        }
        Ok(())
    }

    /// Takes over a block of the last capture, or of the copy before the hold, in which nothing changed. The store must have
    /// the frames that it stands on.
    pub(crate) fn push_block(
        &mut self,
        from: &Marks,
        number: usize,
        deposit: &mut Deposit<'_>,
    ) -> Result<(), PartError> {
        let counts = from.blocks()[number].counts;
        self.counts.see_all(&counts);
        if from.is_of_this_run {
            self.counts.new += counts.new;
            self.counts.changed += counts.changed;
            self.counts.unchanged += counts.unchanged;
        } else {
            self.counts.unchanged += counts.files;
        }
        if !self.wanted.is_content() {
            let marks = from.marks_of(number).unwrap_or_default();
            let mut at = 0;
            while let Some((mark, next)) = Mark::read(&marks, at) {
                self.wanted.see(&PathName::new(mark.path));
                at = next;
            }
        }
        if !from.is_of_this_run && self.taken_over == Some(number) {
            // Counted as used at once; what they add to the block that comes next is cleared when they are flushed.
            self.taken_over = Some(number + 1);
            return Ok(());
        }
        self.flush(deposit)?;
        self.take_over(from, number, deposit)
    }

    /// Writes the blocks that were taken over so far.
    fn flush(&mut self, deposit: &mut Deposit<'_>) -> Result<(), PartError> {
        let Some(number) = self.taken_over.take().filter(|number| *number > 0) else { return Ok(()) };
        // What was noted already belongs to the entry that comes next.
        let next = deposit.noted();
        let last = self.last.clone();
        for number in 0..number {
            self.take_over(&last, number, deposit)?;
        }
        deposit.note_again(&next);
        Ok(())
    }

    fn take_over(&mut self, from: &Marks, number: usize, deposit: &mut Deposit<'_>) -> Result<(), PartError> {
        let block = &from.blocks()[number];
        if block.natural && self.listing.is_at_start() {
            if from.is_of_this_run {
                deposit.note_again(&block.uses);
                if self.is_stored {
                    let lines = from.lines_of(number).ok_or(PartError::MarksGone)?;
                    deposit.put_known(Hash::of(&lines), &lines)?;
                }
            } else if !deposit.reuse_frames(&block.frames)? {
                return Err(PartError::failed("the store lost what was about to be used again"));
            }
            let sizes = (block.entries, u64::from(block.lines));
            let between = (&block.first, &block.last);
            self.listing.push_block(between, block.chunk, sizes, &mut put(deposit, self.is_stored))?;
            return self.new.copy(from, number, deposit.noted());
        }
        for mut marked in from.entries_of(number).ok_or(PartError::MarksGone)? {
            if !from.is_of_this_run {
                marked.news = News::Unchanged;
            }
            if !from.stands_on(&marked.entry, Some(block), deposit)? {
                return Err(PartError::failed("the store lost what was about to be used again"));
            }
            self.add(&marked, deposit)?;
        }
        Ok(())
    }

    /// Completes the listing.
    ///
    /// # Errors
    /// When it cannot be stored, or something that is wanted is not in it.
    pub(crate) fn finish(mut self, deposit: &mut Deposit<'_>) -> Result<Listed, PartError> {
        if let Some(missing) = self.wanted.missing() {
            return Err(PartError::failed(missing));
        }
        let mut counts = self.counts;
        counts.vanished = self.last.files().saturating_sub(counts.unchanged + counts.changed);
        if let Some(listing) = self.whole(deposit)? {
            return Ok(Listed { listing, counts, marks: None });
        }
        self.flush(deposit)?;
        let closed = self.listing.close(&mut put(deposit, self.is_stored))?;
        self.closed(closed, deposit)?;
        let listing = self.listing.finish(&mut put(deposit, self.is_stored))?;
        counts.bytes_new = deposit.tally().new_bytes - self.new_bytes_before;
        let marks = self.new.finish(Some(listing), deposit.noted())?;
        Ok(Listed { listing, counts, marks: Some(marks) })
    }

    /// The last listing, when this one is the same and the store has all of it.
    fn whole(&mut self, deposit: &mut Deposit<'_>) -> Result<Option<ListingRef>, PartError> {
        let blocks = self.last.blocks();
        if blocks.is_empty() || self.taken_over != Some(blocks.len()) {
            return Ok(None);
        }
        let Some((listing, nodes)) = self.last.listing() else { return Ok(None) };
        for frames in blocks.iter().map(|block| &block.frames).chain([nodes]) {
            if !deposit.reuse_frames(frames)? {
                return Ok(None);
            }
        }
        Ok(Some(listing))
    }
}

#[cfg(test)]
mod tests;
