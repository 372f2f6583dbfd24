//! Looks before the release whether any file changed since it was captured in the hold.

use std::collections::HashSet;
use std::fs;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use gullet_store::PathError;
use gullet_store::listing::Kind;

use super::context::PartError;
use super::marks::{Mark, Marked};
use super::walk::{FoundEntry, LeftOuts, Walk};

/// A hash of the marks of each file, taken in the hold, to compare with later.
#[derive(Default)]
pub(crate) struct SourceWatch {
    files: HashSet<u64>,
    roots: Vec<SeenRoot>,
}

/// A root as it was when it was begun with.
#[derive(Clone)]
pub(crate) struct SeenRoot {
    root: PathBuf,
    /// Where it is looked at: at itself, or in a snapshot.
    at: PathBuf,
    /// Device and inode.
    identity: (u64, u64),
}

impl SeenRoot {
    pub(crate) fn new(root: &Path, at: &Path, meta: &fs::Metadata) -> Self {
        Self { root: root.to_path_buf(), at: at.to_path_buf(), identity: (meta.dev(), meta.ino()) }
    }

    /// Refuses it where it is another one now: its filesystem was unmounted, or something was mounted over it, and what was found
    /// there since is not what is meant.
    pub(crate) fn still_there(&self) -> Result<(), PartError> {
        let now = fs::metadata(&self.at).map(|meta| (meta.dev(), meta.ino()));
        if now.is_ok_and(|now| now == self.identity) {
            return Ok(());
        }
        let root = self.root.display();
        Err(PartError::failed(format!(
            "`{root}` is not what it was when it was begun with: was it unmounted or replaced?"
        )))
    }
}

impl SourceWatch {
    /// Nothing yet, of what is below these roots.
    pub(crate) fn new(roots: Vec<SeenRoot>) -> Self {
        Self { files: HashSet::new(), roots }
    }

    /// A file as it was found.
    pub(crate) fn add(&mut self, found: &FoundEntry) {
        self.files.insert(Self::of(found));
    }

    /// A file as it was read.
    pub(crate) fn add_marked(&mut self, marked: &Marked) {
        self.files.insert(Self::number(&marked.mark()));
    }

    fn number(mark: &Mark<'_>) -> u64 {
        let mut hasher = DefaultHasher::new();
        // A folder's own times change with what is in it, which is found by itself.
        let marks = (mark.kind == Kind::File).then_some((mark.size, mark.mtime, mark.ctime, mark.inode));
        (mark.path, mark.kind as u8, marks).hash(&mut hasher);
        hasher.finish()
    }

    fn of(found: &FoundEntry) -> u64 {
        Self::number(&Mark::of(found.name.as_bytes(), &found.meta))
    }

    /// The files that look other than they did; the first few by name, and how many.
    pub(crate) fn changed_since(&self, walk: &Walk) -> Result<(Vec<String>, u64), PartError> {
        self.roots.iter().try_for_each(SeenRoot::still_there)?;
        let (mut named, mut count, mut same) = (Vec::new(), 0, 0);
        walk.run(&mut LeftOuts::default(), &mut |found: FoundEntry| {
            if self.files.contains(&Self::of(&found)) {
                same += 1;
            } else {
                count += 1;
                if named.len() < 5 {
                    named.push(found.path.display().to_string());
                }
            }
            Ok::<_, PathError>(())
        })?;
        // What is missing beyond what changed is gone.
        let gone = (self.files.len() as u64).saturating_sub(same + count);
        if gone > 0 && named.len() < 5 {
            named.push(format!("{gone} that are gone"));
        }
        Ok((named, count + gone))
    }
}
