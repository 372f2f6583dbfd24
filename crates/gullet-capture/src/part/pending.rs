//! Private copies that were made during the hold. They are stored and listed after the release.

use std::collections::VecDeque;
use std::fs::{self, File, OpenOptions};
use std::io::{self, BufRead, BufReader, BufWriter, Read, Write};
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use gullet_store::listing::PathName;
use gullet_store::{IoPath, PathError};
use serde::{Deserialize, Serialize};

use super::contents::{DataRange, DataReader, contents};
use super::context::{CaptureContext, PartError};
use super::files::{PriorState, Sink};
use super::lister::{Listed, Lister};
use super::marks::{Marked, Marks, StagedCopy};
use super::stored;
use gullet_model::record::{Counts, SecuredBy};

/// Private copies of files, one after the other in one file; or clones, where the filesystem can.
pub(crate) struct Copies {
    path: PathBuf,
    file: Option<File>,
    end: u64,
    /// How much may be copied; what goes beyond is read into the store at once.
    most: u64,
    cloned: bool,
}

impl Copies {
    /// At most so many bytes of copies, in the file at `path`.
    pub(crate) fn new(path: PathBuf, most: u64) -> Self {
        Self { path, file: None, end: 0, most, cloned: false }
    }

    /// A file was cloned instead.
    pub(crate) fn cloned(&mut self) {
        self.cloned = true;
    }

    /// How most of it was secured.
    pub(crate) fn secured_by(&self) -> Option<SecuredBy> {
        match (self.cloned, self.end) {
            (true, _) => Some(SecuredBy::Clone),
            (false, 0) => None,
            (false, _) => Some(SecuredBy::Copy),
        }
    }

    pub(crate) fn copy(
        &mut self,
        mut source: DataReader,
        size: u64,
        from: &Path,
    ) -> Result<Option<(StagedCopy, u64)>, PartError> {
        if self.end.saturating_add(size) > self.most {
            return Ok(None);
        }
        let file = match &mut self.file {
            Some(file) => file,
            none => none.insert(
                OpenOptions::new()
                    .write(true)
                    .create(true)
                    .truncate(true)
                    .mode(0o600)
                    .open(&self.path)
                    .at(&self.path)?,
            ),
        };
        let start = self.end;
        let mut buffer = vec![0; 256 << 10];
        loop {
            let read = source.read(&mut buffer).at(from)?;
            if read == 0 {
                break;
            }
            file.write_all_at(&buffer[..read], self.end).at(&self.path)?;
            self.end += read as u64;
        }
        let length = self.end - start;
        Ok(Some((StagedCopy::Copy(start, length), length)))
    }
}

/// What waits to be listed after the hold.
#[derive(Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum Item {
    /// A block of what it was compared with.
    Block(usize),
    Entry(Box<Marked>),
}

/// Writes down what is looked at, and lists nothing.
pub(crate) struct Pending {
    last: Marks,
    path: PathBuf,
    out: BufWriter<File>,
    counts: Counts,
}

impl Pending {
    pub(crate) fn create(last: Marks, path: PathBuf) -> Result<Self, PathError> {
        let out = BufWriter::with_capacity(
            1 << 16,
            OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&path).at(&path)?,
        );
        Ok(Self { last, path, out, counts: Counts::default() })
    }

    fn write(&mut self, item: &Item) -> Result<(), PathError> {
        let line = serde_json::to_writer(&mut self.out, item).map_err(io::Error::from);
        line.and_then(|()| self.out.write_all(b"\n")).at(&self.path)
    }

    pub(crate) fn finish(mut self) -> Result<Counts, PathError> {
        self.out.flush().at(&self.path)?;
        Ok(self.counts)
    }
}

impl Sink for Pending {
    fn last_of(&mut self, path: &PathName) -> Option<Marked> {
        self.last.of(path)
    }

    fn push(&mut self, marked: Marked, _: Option<&Marked>, _: &mut CaptureContext<'_, '_>) -> Result<(), PartError> {
        self.counts.see(&marked.entry);
        Ok(self.write(&Item::Entry(Box::new(marked)))?)
    }

    fn push_block(&mut self, from: &Marks, number: usize, _: &mut CaptureContext<'_, '_>) -> Result<(), PartError> {
        self.counts.see_all(&from.blocks()[number].counts);
        Ok(self.write(&Item::Block(number))?)
    }

    fn counts(&mut self) -> &mut Counts {
        &mut self.counts
    }

    fn is_listing(&self) -> bool {
        false
    }
}

/// Something that is listed besides what a walk found.
pub(crate) struct Extra {
    pub(crate) name: PathName,
    /// Its contents; a folder where there are none.
    pub(crate) file: Option<PathBuf>,
    /// What it takes its attributes from.
    pub(crate) like: PathBuf,
}

/// Stores and lists the extras that come before `next`, or all that are left.
fn list_extras(
    extras: &mut VecDeque<Extra>,
    next: Option<&PathName>,
    lister: &mut Lister,
    context: &mut CaptureContext<'_, '_>,
) -> Result<(), PartError> {
    while extras.front().is_some_and(|extra| next.is_none_or(|next| extra.name < *next)) {
        let Some(extra) = extras.pop_front() else { break };
        stored::extra(&extra, lister, context.deposit)?;
    }
    Ok(())
}

/// Stores what [`stage`](super::files::stage) secured, and lists it.
pub(crate) fn store_staged(
    pending: &Path,
    copies: &Path,
    mut lister: Lister,
    known: &PriorState,
    mut extras: VecDeque<Extra>,
    context: &mut CaptureContext<'_, '_>,
) -> Result<Listed, PartError> {
    let copies = File::open(copies).ok();
    let from = known.source(false);
    for line in BufReader::with_capacity(1 << 16, File::open(pending).at(pending)?).lines() {
        context.check_stop()?;
        let item = serde_json::from_str(&line.at(pending)?).map_err(io::Error::from).at(pending)?;
        let mut marked = match item {
            Item::Block(number) => {
                lister.push_block(&from, number, context.deposit)?;
                continue;
            }
            Item::Entry(marked) => marked,
        };
        list_extras(&mut extras, Some(&marked.entry.path), &mut lister, context)?;
        let last = lister.last_of(&marked.entry.path);
        if let Some(staged) = marked.staged.take() {
            let path = PathBuf::from(format!("/{}", marked.entry.path));
            let mut chunks = Vec::new();
            let length = match (&staged, &copies) {
                (StagedCopy::Clone(clone), _) => {
                    let source = DataReader::new(File::open(clone).at(clone)?, marked.entry.data.clone());
                    let length = contents((source, marked.entry.size), &path, &mut chunks, &lister.counts, context)?;
                    fs::remove_file(clone).at(clone)?;
                    length
                }
                (StagedCopy::Copy(offset, length), Some(copies)) => {
                    let source = DataRange { file: copies, at: *offset, end: offset + length };
                    contents((source, *length), &path, &mut chunks, &lister.counts, context)?
                }
                (StagedCopy::Copy(..), None) => {
                    return Err(PartError::failed("the private copies are gone"));
                }
            };
            marked.entry.set_chunks(chunks, &mut |list: &[u8]| context.deposit.put(list))?;
            lister.counts.bytes_read += length;
        } else if !known.stands_on(&marked.entry, lister.last(), context.deposit)? {
            return Err(PartError::failed("the store lost what was about to be used again"));
        } else if marked.entry.lists.is_empty() {
            // It was read into the store in the hold.
            let chunks = std::mem::take(&mut marked.entry.chunks);
            marked.entry.set_chunks(chunks, &mut |list: &[u8]| context.deposit.put(list))?;
        }
        lister.push(*marked, last.as_ref(), context.deposit)?;
    }
    list_extras(&mut extras, None, &mut lister, context)?;
    lister.finish(context.deposit)
}
