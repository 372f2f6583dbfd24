//! One mark: what is remembered of one path, and whether it can be believed.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;

use gullet_store::listing::{Entry, Kind};
use serde::{Deserialize, Serialize};

use gullet_model::record::Counts;

/// A file's marks and its entry.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Marked {
    pub(crate) entry: Entry,
    pub(crate) ctime: (i64, u32),
    pub(crate) inode: u64,
    pub(crate) settled: bool,
    /// How it differs from the last capture.
    pub(crate) news: News,
    /// Where its contents wait to be stored.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) staged: Option<StagedCopy>,
}

/// How a file differs from the last capture.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(crate) enum News {
    /// It was not there.
    #[default]
    New,
    /// It had other contents.
    Changed,
    /// It had the same.
    Unchanged,
}

/// Where the contents of a file wait to be stored.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(crate) enum StagedCopy {
    /// In a clone of the file.
    Clone(PathBuf),
    /// Its data lies in the file of copies, at this offset and of this length.
    Copy(u64, u64),
}

impl Marked {
    /// Whether what `meta` is of can be believed to have the contents and attributes of the entry.
    pub(crate) fn is_believed(&self, meta: &fs::Metadata) -> bool {
        self.mark().is_believed(meta)
    }

    /// Whether the marks are the same, settled or not.
    pub(crate) fn same_marks(&self, meta: &fs::Metadata) -> bool {
        self.mark().is_same(meta)
    }

    /// Counts it, with what is new about it.
    pub(crate) fn count_in(&self, counts: &mut Counts) {
        counts.see(&self.entry);
        if self.entry.kind == Kind::File {
            match self.news {
                News::New => counts.new += 1,
                News::Changed => counts.changed += 1,
                News::Unchanged => counts.unchanged += 1,
            }
        }
    }

    pub(crate) fn mark(&self) -> Mark<'_> {
        Mark {
            path: self.entry.path.as_bytes(),
            kind: self.entry.kind,
            settled: self.settled,
            is_link: self.entry.same_as.is_some(),
            news: self.news,
            size: self.entry.size,
            mtime: self.entry.mtime,
            ctime: self.ctime,
            inode: self.inode,
        }
    }
}

pub(super) const KINDS: [Kind; 7] =
    [Kind::File, Kind::Folder, Kind::Symlink, Kind::Fifo, Kind::Socket, Kind::CharDevice, Kind::BlockDevice];

pub(super) const NEWS: [News; 3] = [News::New, News::Changed, News::Unchanged];

/// The marks of one path, which are compared with those of the last run. In the file of marks: length of the path (2 bytes) and path, kind, flags (1 settled, 2 another name
/// of an earlier path, from 4 on what is new about it), then size, mtime, ctime (seconds 8 bytes, nanoseconds 4) and inode;
/// numbers little-endian.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Mark<'m> {
    pub(crate) path: &'m [u8],
    pub(crate) kind: Kind,
    pub(crate) settled: bool,
    /// Whether it is another name of a file earlier in the listing.
    pub(crate) is_link: bool,
    pub(crate) news: News,
    pub(crate) size: u64,
    pub(crate) mtime: (i64, u32),
    pub(crate) ctime: (i64, u32),
    pub(crate) inode: u64,
}

impl<'m> Mark<'m> {
    /// The mark of what is at a path.
    pub(crate) fn of(path: &'m [u8], meta: &fs::Metadata) -> Self {
        Self {
            path,
            kind: crate::part::entry::kind(meta.file_type()),
            settled: false,
            is_link: false,
            news: News::New,
            size: meta.len(),
            mtime: (meta.mtime(), meta.mtime_nsec() as u32),
            ctime: (meta.ctime(), meta.ctime_nsec() as u32),
            inode: meta.ino(),
        }
    }

    pub(super) fn write(&self, out: &mut Vec<u8>) {
        let number = |found: Option<usize>| found.unwrap_or(0) as u8;
        out.extend_from_slice(&(self.path.len() as u16).to_le_bytes());
        out.extend_from_slice(self.path);
        out.push(number(KINDS.iter().position(|kind| *kind == self.kind)));
        let news = number(NEWS.iter().position(|news| *news == self.news));
        out.push(u8::from(self.settled) | u8::from(self.is_link) << 1 | news << 2);
        out.extend_from_slice(&self.size.to_le_bytes());
        for (seconds, nanoseconds) in [self.mtime, self.ctime] {
            out.extend_from_slice(&seconds.to_le_bytes());
            out.extend_from_slice(&nanoseconds.to_le_bytes());
        }
        out.extend_from_slice(&self.inode.to_le_bytes());
    }

    /// The mark that begins at `at`, and where the next one does; `None` where that is not one.
    pub(crate) fn read(bytes: &'m [u8], at: usize) -> Option<(Self, usize)> {
        fn number<const N: usize>(bytes: &[u8], at: &mut usize) -> Option<[u8; N]> {
            let found = bytes.get(*at..*at + N)?.try_into().ok()?;
            *at += N;
            Some(found)
        }
        let mut at = at;
        let length = usize::from(u16::from_le_bytes(number(bytes, &mut at)?));
        let path = bytes.get(at..at + length)?;
        at += length;
        let [kind, flags] = number(bytes, &mut at)?;
        let size = u64::from_le_bytes(number(bytes, &mut at)?);
        let mut time =
            || Some((i64::from_le_bytes(number(bytes, &mut at)?), u32::from_le_bytes(number(bytes, &mut at)?)));
        let (mtime, ctime) = (time()?, time()?);
        let inode = u64::from_le_bytes(number(bytes, &mut at)?);
        let mark = Self {
            path,
            kind: *KINDS.get(usize::from(kind))?,
            settled: flags & 1 != 0,
            is_link: flags & 2 != 0,
            news: *NEWS.get(usize::from(flags >> 2))?,
            size,
            mtime,
            ctime,
            inode,
        };
        Some((mark, at))
    }

    /// Whether what `meta` is of can be believed to have the contents and attributes that it had.
    pub(crate) fn is_believed(&self, meta: &fs::Metadata) -> bool {
        self.settled && self.kind == crate::part::entry::kind(meta.file_type()) && self.is_same(meta)
    }

    /// Whether the marks are the same, settled or not.
    fn is_same(&self, meta: &fs::Metadata) -> bool {
        self.ctime == (meta.ctime(), meta.ctime_nsec() as u32)
            && self.inode == meta.ino()
            && (self.kind != Kind::File || self.size == meta.len())
            && self.mtime == (meta.mtime(), meta.mtime_nsec() as u32)
    }
}
