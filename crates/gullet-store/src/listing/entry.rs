//! One thing in a capture, and the chunks of its contents.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{PathName, unsound};
use crate::error::StoreError;
use crate::hash::Hash;
use crate::reader::ChunkReader;

/// Chunks of a file that its entry names itself, at most; more are named in lists.
pub(super) const NAMED_MAX: usize = 2048;
/// Ids in a list: from so many on it may end, and at so many it does.
const LIST_MIN: usize = 1024;
const LIST_MAX: usize = 16 << 10;
/// Bytes of an id in a list.
const ID: usize = 32;

/// What kind of thing an entry is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Kind {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Symlink,
    /// A named pipe.
    Fifo,
    /// A Unix socket; only its place is kept.
    Socket,
    /// A character device.
    CharDevice,
    /// A block device.
    BlockDevice,
}

/// One thing in a capture.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Entry {
    /// Its path within the capture; relative, plain components.
    pub path: PathName,
    /// What it is.
    pub kind: Kind,
    /// Permission bits with set-uid, set-gid and sticky (`st_mode & 0o7777`).
    pub mode: u32,
    /// Numeric owner.
    pub uid: u32,
    /// Numeric group.
    pub gid: u32,
    /// Time of last modification: seconds since 1970 and nanoseconds.
    pub mtime: (i64, u32),
    /// Length in bytes; files only.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub size: u64,
    /// The chunks of its contents in order; for a sparse file those of its data alone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub chunks: Vec<Hash>,
    /// Instead of `chunks`, for a large file: chunks that hold the ids of its chunks, 32 bytes each, in order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub lists: Vec<Hash>,
    /// Where a sparse file has data: offset and length in bytes. Everything else reads as zeros.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub data: Option<Vec<(u64, u64)>>,
    /// Where a symbolic link points.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<PathName>,
    /// The path, earlier in this listing, of the same file under another name (hard link).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub same_as: Option<PathName>,
    /// Major and minor number of a device.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<(u32, u32)>,
    /// Extended attributes, ACLs among them; values in base64.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub xattrs: BTreeMap<String, String>,
    /// Flags that the filesystem keeps (`chattr`): `immutable`, `append_only`. Others are not kept.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub flags: Vec<String>,
}

fn is_zero(number: &u64) -> bool {
    *number == 0
}

impl Entry {
    /// Something at a path, of which nothing more is known: no mode, no owner, no contents.
    pub fn bare(path: PathName, kind: Kind) -> Self {
        Self {
            path,
            kind,
            mode: 0,
            uid: 0,
            gid: 0,
            mtime: (0, 0),
            size: 0,
            chunks: Vec::new(),
            lists: Vec::new(),
            data: None,
            target: None,
            same_as: None,
            device: None,
            xattrs: BTreeMap::new(),
            flags: Vec::new(),
        }
    }

    /// Whether what can be restored from both is the same, times and owners included.
    pub fn same_contents(&self, other: &Self) -> bool {
        self.kind == other.kind
            && self.size == other.size
            && self.chunks == other.chunks
            && self.lists == other.lists
            && self.data == other.data
            && self.target == other.target
    }

    /// Names the chunks of its contents: here, or in lists when they are many; `put` stores a list. Lists end where the ids
    /// themselves say so, so that a change in a large file changes few of them.
    ///
    /// # Errors
    /// What `put` gives.
    pub fn set_chunks(
        &mut self,
        chunks: Vec<Hash>,
        put: &mut impl FnMut(&[u8]) -> Result<Hash, StoreError>,
    ) -> Result<(), StoreError> {
        (self.chunks, self.lists) = (Vec::new(), Vec::new());
        if chunks.len() <= NAMED_MAX {
            self.chunks = chunks;
            return Ok(());
        }
        let mut list = Vec::new();
        for (number, id) in chunks.iter().enumerate() {
            list.extend_from_slice(id.as_bytes());
            let ids = list.len() / ID;
            // About one id in 4096 is a boundary.
            let boundary = id.prefix() & 0xFFF == 0;
            if ids >= LIST_MAX || (ids >= LIST_MIN && boundary) || number + 1 == chunks.len() {
                self.lists.push(put(&list)?);
                list.clear();
            }
        }
        Ok(())
    }

    /// Hands the id of each chunk of its contents to `each`, in order, with the means to read it.
    ///
    /// # Errors
    /// When a list cannot be read or is none, or what `each` gives.
    pub fn each_chunk<E: From<StoreError>>(
        &self,
        chunks: &mut ChunkReader,
        mut each: impl FnMut(&Hash, &mut ChunkReader) -> Result<(), E>,
    ) -> Result<(), E> {
        for id in &self.chunks {
            each(id, chunks)?;
        }
        for list in &self.lists {
            let ids = chunks.get(list)?;
            if ids.is_empty() || ids.len() % ID != 0 {
                return Err(unsound(format!("`{}` has a list of chunks that is none", self.path)).into());
            }
            for id in ids.chunks_exact(ID).filter_map(Hash::from_slice) {
                each(&id, chunks)?;
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn contents_are_the_same_whatever_the_names_and_times() {
        let file = |path: &str, contents: &str| Entry {
            size: contents.len() as u64,
            chunks: vec![Hash::of(contents.as_bytes())],
            ..Entry::bare(PathName::new(path), Kind::File)
        };
        let one = file("a", "alpha");
        assert!(one.same_contents(&Entry { mtime: (7, 0), uid: 9, ..file("b", "alpha") }));
        assert!(!one.same_contents(&file("a", "alphb")));
        assert!(!one.same_contents(&Entry { kind: Kind::Symlink, ..one.clone() }));
        assert!(!one.same_contents(&Entry { size: 6, ..one.clone() }));
        assert!(!one.same_contents(&Entry { lists: one.chunks.clone(), ..one.clone() }));
        assert!(!one.same_contents(&Entry { target: Some(PathName::new("x")), ..one.clone() }));
    }
}
