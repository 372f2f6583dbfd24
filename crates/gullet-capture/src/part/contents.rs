//! Reading the contents of files: whole, their data where they are sparse, or a stretch of one.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::{FileExt, MetadataExt, OpenOptionsExt};
use std::path::Path;

use gullet_store::{Cut, Hash, IoPath, PathError, cut_ahead, cut_all};
use rustix::fs::{OFlags, SeekFrom as RawSeek};

use super::context::{CaptureContext, PartError};
use gullet_model::record::Counts;

/// A source of at least so many bytes is read and cut ahead, on a thread of its own.
pub(crate) const LARGE: u64 = 8 << 20;

/// Cuts all of `source`, which has about `size` bytes, into the store; gives its length.
pub(crate) fn contents(
    (source, size): (impl Read + Send, u64),
    path: &Path,
    chunks: &mut Vec<Hash>,
    counts: &Counts,
    context: &mut CaptureContext<'_, '_>,
) -> Result<u64, PartError> {
    let mut read = 0;
    let wrap = |error| PartError::Path(PathError::new(path, error));
    let each = |piece: &[u8]| {
        context.check_stop()?;
        chunks.push(context.deposit.put(piece)?);
        read += piece.len() as u64;
        (context.progress)(counts.files, counts.bytes + read);
        Ok(())
    };
    if size < LARGE { cut_all(source, Cut::Contents, wrap, each) } else { cut_ahead(source, Cut::Contents, wrap, each) }
}

/// Opens a file to read it without changing its access time where that is permitted, and never through a link.
pub(crate) fn open(path: &Path) -> Result<File, PathError> {
    let flags = |more: OFlags| (OFlags::NOFOLLOW | OFlags::NONBLOCK | more).bits() as i32;
    let quietly = OpenOptions::new().read(true).custom_flags(flags(OFlags::NOATIME)).open(path);
    match quietly {
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
            OpenOptions::new().read(true).custom_flags(flags(OFlags::empty())).open(path).at(path)
        }
        other => other.at(path),
    }
}

/// Stretches of data of one file that are listed, at most; the smallest holes between more are read as zeros.
const STRETCHES: usize = 8192;

/// Where a sparse file has data; `None` for a file without holes.
pub(crate) fn data_ranges(file: &File, meta: &fs::Metadata) -> io::Result<Option<Vec<(u64, u64)>>> {
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
        let to = match rustix::fs::seek(file, RawSeek::Hole(from)) {
            Ok(to) => to.min(size),
            // It was cut before this in between.
            Err(rustix::io::Errno::NXIO) => break,
            Err(errno) => return Err(errno.into()),
        };
        if to <= from {
            break;
        }
        ranges.push((from, to - from));
        at = to;
    }
    let ranges = joined(ranges);
    if ranges == [(0, size)] { Ok(None) } else { Ok(Some(ranges)) }
}

/// At most [`STRETCHES`] of them: those with the smallest holes between them are joined.
fn joined(mut ranges: Vec<(u64, u64)>) -> Vec<(u64, u64)> {
    let mut hole = 4096;
    while ranges.len() > STRETCHES {
        let mut fewer: Vec<(u64, u64)> = Vec::new();
        for (from, length) in ranges {
            match fewer.last_mut() {
                Some(last) if from - (last.0 + last.1) <= hole => last.1 = from + length - last.0,
                _ => fewer.push((from, length)),
            }
        }
        (ranges, hole) = (fewer, hole * 2);
    }
    ranges
}

/// Reads the data of a file, range after range.
pub(crate) struct DataReader {
    file: File,
    ranges: Vec<(u64, u64)>,
    at: u64,
}

impl DataReader {
    /// Everything, or only these ranges of offset and length.
    pub(crate) fn new(file: File, ranges: Option<Vec<(u64, u64)>>) -> Self {
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
pub(crate) struct DataRange<'f> {
    pub(crate) file: &'f File,
    pub(crate) at: u64,
    pub(crate) end: u64,
}

impl Read for DataRange<'_> {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_of_very_many_holes_is_listed_in_bounded_stretches() {
        let few = vec![(0, 5), (4096, 4096), (100_000, 1)];
        assert_eq!(joined(few.clone()), few);
        let many: Vec<(u64, u64)> = (0..100_000).map(|number| (number * 12_288, 4096)).collect();
        let joined = joined(many);
        assert!(joined.len() <= STRETCHES);
        assert_eq!(joined[0].0, 0);
        let (from, length) = joined[joined.len() - 1];
        assert_eq!(from + length, 99_999 * 12_288 + 4096);
        assert!(joined.windows(2).all(|two| two[0].0 + two[0].1 < two[1].0));
    }
}
