//! Reading the contents of files: whole, their data where they are sparse, or a stretch of one.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::{FileExt, MetadataExt, OpenOptionsExt};
use std::path::Path;

use gullet_store::{Cut, Hash, IoPath, PathError, cut_all};
use rustix::fs::{OFlags, SeekFrom as RawSeek};

use super::secured::{PartError, Securing};
use crate::record::Counts;

/// Cuts all of `source` into the store; gives its length.
pub(super) fn contents(
    source: impl Read,
    path: &Path,
    chunks: &mut Vec<Hash>,
    counts: &Counts,
    context: &mut Securing<'_, '_>,
) -> Result<u64, PartError> {
    let mut read = 0;
    let wrap = |error| PartError::Path(PathError::new(path, error));
    cut_all(source, Cut::Contents, wrap, |piece| {
        context.check_stop()?;
        chunks.push(context.deposit.put(piece)?);
        read += piece.len() as u64;
        (context.progress)(counts.files, counts.bytes + read);
        Ok(())
    })
}

/// Opens a file to read it without changing its access time where that is permitted, and never through a link.
pub(super) fn open(path: &Path) -> Result<File, PathError> {
    let flags = |more: OFlags| (OFlags::NOFOLLOW | OFlags::NONBLOCK | more).bits() as i32;
    let quietly = OpenOptions::new().read(true).custom_flags(flags(OFlags::NOATIME)).open(path);
    match quietly {
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
            OpenOptions::new().read(true).custom_flags(flags(OFlags::empty())).open(path).at(path)
        }
        other => other.at(path),
    }
}

/// Where a sparse file has data; `None` for a file without holes.
pub(super) fn data_ranges(file: &File, meta: &fs::Metadata) -> io::Result<Option<Vec<(u64, u64)>>> {
    let size = meta.len();
    if size == 0 || meta.blocks() * 512 >= size {
        return Ok(None);
    }
    let mut ranges = Vec::new();
    let mut at = 0;
    while at < size {
        let from = match rustix::fs::seek(file, RawSeek::Data(at)) {
            Ok(from) => from,
            Err(rustix::io::Errno::NXIO) => break,
            // A filesystem that cannot say has no holes that we could know of.
            Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOTSUP) => return Ok(None),
            Err(errno) => return Err(errno.into()),
        };
        let to = rustix::fs::seek(file, RawSeek::Hole(from))?.min(size);
        ranges.push((from, to - from));
        at = to;
    }
    if ranges == [(0, size)] { Ok(None) } else { Ok(Some(ranges)) }
}

/// Reads the data of a file, range after range.
pub(super) struct DataReader {
    file: File,
    ranges: Vec<(u64, u64)>,
    at: u64,
}

impl DataReader {
    /// Everything, or only these ranges of offset and length.
    pub(super) fn new(file: File, ranges: Option<Vec<(u64, u64)>>) -> Self {
        Self { file, ranges: ranges.unwrap_or_else(|| vec![(0, u64::MAX)]), at: 0 }
    }
}

impl Read for DataReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while let Some((from, length)) = self.ranges.first().copied() {
            if self.at == 0 {
                self.file.seek(SeekFrom::Start(from))?;
            }
            let left = length - self.at;
            if left > 0 {
                let wanted = usize::try_from(left).unwrap_or(usize::MAX).min(buffer.len());
                let read = self.file.read(&mut buffer[..wanted])?;
                self.at += read as u64;
                if read > 0 || wanted == 0 {
                    return Ok(read);
                }
            }
            self.ranges.remove(0);
            self.at = 0;
        }
        Ok(0)
    }
}

/// Bytes of a file from one offset to another.
pub(super) struct Stretch<'f> {
    pub(super) file: &'f File,
    pub(super) at: u64,
    pub(super) end: u64,
}

impl Read for Stretch<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let wanted = usize::try_from(self.end - self.at).unwrap_or(usize::MAX).min(buffer.len());
        let read = self.file.read_at(&mut buffer[..wanted], self.at)?;
        if read == 0 && wanted > 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        self.at += read as u64;
        Ok(read)
    }
}
