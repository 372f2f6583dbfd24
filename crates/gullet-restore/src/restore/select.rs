//! Which paths of a listing are meant.

use std::collections::{BTreeMap, BTreeSet};

use globset::{GlobBuilder, GlobMatcher};
use gullet_store::listing::{Entry, Kind, ListingReader, ListingRef, PathName};
use gullet_store::{ChunkReader, Hash, StoreError};

/// A path with all that is below it, or everything that matches a pattern with all that is below.
#[derive(Clone, Debug)]
pub struct Selection {
    path: PathName,
    glob: Option<GlobMatcher>,
}

/// A pattern that is none.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{text}` is not a pattern: {why}")]
pub struct PatternError {
    text: String,
    why: String,
}

impl Selection {
    /// A path as listings name it, without a first or a last `/`; with `*`, `?`, `[…]` or `{…}` in it a pattern, unless there
    /// is a path of just this name. A pattern without `/` matches names at any depth.
    ///
    /// # Errors
    /// When the pattern cannot be read.
    pub fn new(text: &[u8]) -> Result<Self, PatternError> {
        let bytes = text.strip_prefix(b"/").unwrap_or(text);
        let bytes = bytes.strip_suffix(b"/").unwrap_or(bytes);
        let path = PathName::new(bytes);
        let glob = match std::str::from_utf8(bytes) {
            Ok(pattern) if pattern.contains(['*', '?', '[', '{']) => {
                let anywhere = if text.contains(&b'/') { pattern.to_owned() } else { format!("**/{pattern}") };
                let built = GlobBuilder::new(&anywhere).literal_separator(true).build();
                let wrap =
                    |error: globset::Error| PatternError { text: pattern.to_owned(), why: error.kind().to_string() };
                Some(built.map_err(wrap)?.compile_matcher())
            }
            _ => None,
        };
        Ok(Self { path, glob })
    }

    /// The path itself, whatever is in it.
    pub fn path(path: PathName) -> Self {
        Self { path, glob: None }
    }

    /// The path, where it is not a pattern.
    pub(super) fn plain(&self) -> Option<&PathName> {
        self.glob.is_none().then_some(&self.path)
    }

    fn is_top(&self, path: &PathName) -> bool {
        match &self.glob {
            None => self.path == *path,
            Some(glob) => {
                use std::os::unix::ffi::OsStrExt;
                glob.is_match(std::path::Path::new(std::ffi::OsStr::from_bytes(path.as_bytes())))
            }
        }
    }

    fn has(&self, path: &PathName) -> bool {
        match &self.glob {
            None => self.path == *path || path.is_below(&self.path),
            Some(_) => self.is_top(path) || path.above().any(|above| self.is_top(&above)),
        }
    }
}

/// Whether a path is meant; everything is when nothing is selected.
pub fn is_selected(selections: &[Selection], path: &PathName) -> bool {
    selections.is_empty() || selections.iter().any(|selection| selection.has(path))
}

/// How many bytes the files have that are selected of a listing.
///
/// # Errors
/// When the listing cannot be read.
pub(super) fn bytes_selected(
    chunks: &mut ChunkReader,
    listing: &ListingRef,
    selections: &[Selection],
) -> Result<u64, StoreError> {
    let mut bytes = 0;
    each_selected(chunks, listing, selections, |entry, _| {
        if entry.kind == Kind::File && entry.same_as.is_none() {
            bytes += entry.size;
        }
        Ok::<_, StoreError>(())
    })?;
    Ok(bytes)
}

/// Hands over what is selected of a listing, in order, with the folders above it; all of it when nothing is. A further name
/// of a file whose first name is not selected comes with the contents themselves, and the next such one as a further name of
/// that. Reads no more of the listing than it must.
///
/// Gives the files that lost their first name in this way, by the name that has the contents now.
///
/// # Errors
/// When the listing cannot be read, or what `each` gives.
pub fn each_selected<E: From<StoreError>>(
    chunks: &mut ChunkReader,
    listing: &ListingRef,
    selections: &[Selection],
    mut each: impl FnMut(Entry, &mut ChunkReader) -> Result<(), E>,
) -> Result<Vec<PathName>, E> {
    let root = &listing.root;
    if selections.is_empty() {
        ListingReader::new(chunks).for_each(root, each)?;
        return Ok(Vec::new());
    }
    let mut meant = Vec::with_capacity(selections.len());
    for selection in selections {
        let is_there = selection.glob.is_some() && ListingReader::new(chunks).find(root, &selection.path)?.is_some();
        meant.push(if is_there { Selection::path(selection.path.clone()) } else { selection.clone() });
    }
    let mut instead: BTreeMap<PathName, PathName> = BTreeMap::new();
    let mut handed = |mut entry: Entry, chunks: &mut ChunkReader| {
        if let Some(first) = entry.same_as.clone().filter(|first| !is_selected(&meant, first)) {
            if let Some(name) = instead.get(&first) {
                entry.same_as = Some(name.clone());
            } else if let Some(found) = ListingReader::new(chunks).find(root, &first)? {
                // Its first name is not handed over, so it must have the contents itself.
                entry = Entry { path: entry.path, ..found };
                instead.insert(first, entry.path.clone());
            }
        }
        each(entry, chunks)
    };
    let plain: Vec<&PathName> = meant.iter().filter_map(Selection::plain).collect();
    if plain.len() == meant.len() {
        each_of_paths(chunks, root, plain, &mut handed)?;
    } else {
        each_that_matches(chunks, root, &meant, &mut handed)?;
    }
    Ok(instead.into_values().collect())
}

/// Everything at or below some paths, which are looked up one by one.
fn each_of_paths<E: From<StoreError>>(
    chunks: &mut ChunkReader,
    root: &Hash,
    mut paths: Vec<&PathName>,
    each: &mut dyn FnMut(Entry, &mut ChunkReader) -> Result<(), E>,
) -> Result<(), E> {
    paths.sort();
    let mut above: BTreeSet<PathName> = BTreeSet::new();
    let mut last: Option<&PathName> = None;
    for path in paths {
        if last.is_some_and(|last| last == path || path.is_below(last)) {
            continue;
        }
        last = Some(path);
        let mut folders = Vec::new();
        for folder in path.above().filter(|folder| !above.contains(folder)) {
            folders.extend(ListingReader::new(chunks).find(root, &folder)?);
        }
        // The folders above come with the first thing that is in them.
        ListingReader::new(chunks).for_each_below(root, Some(path), |entry, chunks| {
            for folder in folders.drain(..) {
                above.insert(folder.path.clone());
                each(folder, chunks)?;
            }
            each(entry, chunks)
        })?;
    }
    Ok(())
}

/// Everything that a selection has, which takes a look at the whole listing.
fn each_that_matches<E: From<StoreError>>(
    chunks: &mut ChunkReader,
    root: &Hash,
    selections: &[Selection],
    each: &mut dyn FnMut(Entry, &mut ChunkReader) -> Result<(), E>,
) -> Result<(), E> {
    let mut above: Vec<Entry> = Vec::new();
    let mut top: Option<PathName> = None;
    ListingReader::new(chunks).for_each(root, |entry, chunks| {
        above.retain(|folder| entry.path.is_below(&folder.path));
        let within = top.as_ref().is_some_and(|top| entry.path.is_below(top));
        if !within && !selections.iter().any(|selection| selection.has(&entry.path)) {
            if entry.kind == Kind::Folder {
                above.push(entry);
            }
            return Ok(());
        }
        if !within {
            top = Some(entry.path.clone());
        }
        for folder in above.drain(..) {
            each(folder, chunks)?;
        }
        each(entry, chunks)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn selects(text: &str, path: &str) -> bool {
        is_selected(&[Selection::new(text.as_bytes()).unwrap()], &PathName::new(path))
    }

    #[test]
    fn a_path_means_itself_and_what_is_below() {
        assert!(selects("/var/desk/", "var/desk") && selects("var/desk", "var/desk/a/b"));
        assert!(!selects("var/desk", "var/desk2") && !selects("var/desk/a", "var/desk"));
        assert!(is_selected(&[], &PathName::new("anything")));
    }

    #[test]
    fn a_pattern_matches_names_at_any_depth_or_whole_paths() {
        assert!(selects("*.list", "var/desk/a.list") && !selects("*.list", "var/desk/a.lists"));
        assert!(selects("/var/*/a", "var/desk/a/below") && !selects("/var/*/a", "var/x/desk/a"));
        assert!(selects("/var/**/a", "var/x/desk/a") && selects("{a,b}.json", "x/b.json"));
        assert!(Selection::new(b"a[").unwrap_err().to_string().contains("a["));
    }
}
