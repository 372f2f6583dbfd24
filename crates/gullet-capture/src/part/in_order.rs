//! Comparing what a walk finds with marks, in order and block by block.

use gullet_store::{Deposit, StoreError};

use super::marks::{Mark, Marks};
use super::walk::FoundEntry;

/// Compares what a walk finds with marks, block by block.
pub(crate) struct MarksCursor {
    pub(crate) marks: Marks,
    pub(crate) block: usize,
    /// The marks of the block, once they are compared with.
    loaded: Option<Vec<u8>>,
    at: usize,
    /// How many of the block's entries are unchanged so far.
    pub(crate) done: u64,
    /// Whether the block is gone through one by one: something in it changed.
    one_by_one: bool,
    /// Whether the store has what the block stands on.
    pub(crate) usable: bool,
}

impl MarksCursor {
    pub(crate) fn new(marks: Marks) -> Self {
        Self { marks, block: 0, loaded: None, at: 0, done: 0, one_by_one: false, usable: false }
    }

    pub(crate) fn next_block(&mut self) {
        self.block += 1;
        (self.loaded, self.at, self.done) = (None, 0, 0);
        (self.one_by_one, self.usable) = (false, false);
    }

    /// Compares what is found with what is expected next. `is_link` says whether it is another name of a file that came before.
    pub(crate) fn compare(
        &mut self,
        found: &FoundEntry,
        is_link: bool,
        deposit: &mut Deposit<'_>,
    ) -> Result<Compared, StoreError> {
        loop {
            let Some(block) = self.marks.blocks().get(self.block) else { return Ok(Compared::NotInBlock) };
            let expected = self.loaded.as_ref().and_then(|marks| Mark::read(marks, self.at));
            if let Some((mark, next)) = expected.filter(|(mark, _)| mark.path == found.name.as_bytes()) {
                if mark.is_believed(&found.meta) && is_link == mark.is_link {
                    (self.at, self.done) = (next, self.done + 1);
                    return Ok(if self.done == block.entries { Compared::Completed } else { Compared::Same });
                }
            } else if self.loaded.is_none() {
                if found.name > block.last {
                    self.next_block();
                    continue;
                }
                if self.one_by_one || found.name < block.first {
                    return Ok(Compared::NotInBlock);
                }
                // What a block stands on must be in the store; the copy before the hold has just been put there.
                self.usable = self.marks.is_of_this_run || deposit.can_reuse(&block.frames)?;
                self.loaded = self.marks.marks_of(self.block).filter(|_| self.usable);
                self.one_by_one = self.loaded.is_none();
                continue;
            }
            let done = std::mem::take(&mut self.done);
            (self.loaded, self.one_by_one) = (None, true);
            return Ok(Compared::Diverged(done));
        }
    }
}

/// What comes of comparing one path.
pub(crate) enum Compared {
    /// It is unchanged; the block goes on.
    Same,
    /// It is unchanged, and the last of its block.
    Completed,
    /// It is to be looked at by itself.
    NotInBlock,
    /// So many entries of the block are unchanged, and what comes next is not what was expected. To be asked again.
    Diverged(u64),
}
