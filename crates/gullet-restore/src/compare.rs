//! What differs between two runs, or between a run and what is there now; and in which runs a path or a part was captured.
//! Nothing is restored for it.

mod exports;
mod texts;
mod trace;

use std::collections::HashMap;
use std::fs;
use std::hash::{BuildHasher, RandomState};
use std::io::{self, BufRead, BufReader};
use std::path::{Path, PathBuf};

use gullet_store::listing::{Difference, Entry, Kind, ListingReader, PathName, compare as compare_listings};
use gullet_store::{ChunkReader, Store, StoreError};
use serde::Serialize;

use crate::restore::{Contents, WholeFile};
pub use exports::{Exported, export_now};
use gullet_capture::kinds::remaining;
use gullet_capture::part::{Why, name_of};
use gullet_capture::plan::{Plan, PlannedCopy};
use gullet_logbook::logbook::Logged;
use gullet_model::definition::{Nature, PartKind};
use gullet_model::record::Capture;
use gullet_model::words::chain;
pub use texts::{TextChange, changed_lines};
use texts::{lines, same_but_for_keys, text_of, without_keys};
pub use trace::{TracedRun, trace_part, trace_path};

/// Paths kept of a part, at most; all are counted.
const PATHS_MAX: usize = 10_000;
/// Paths that are gone or added are looked through for ones that were moved, up to so many.
const MOVED_MAX: usize = 100_000;
/// Files of a part that are compared line by line, at most.
const TEXTS_MAX: usize = 20;
/// The longest text that is compared line by line, in bytes.
const TEXT_MAX: u64 = 8 << 20;

/// Something could not be compared.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CompareError {
    /// A listing cannot be read.
    #[error("run {run}: the listing of `{part}` cannot be read")]
    Store {
        /// The id of the run.
        run: String,
        /// The name of the part.
        part: String,
        /// Why its listing or its contents cannot be read.
        #[source]
        source: Box<StoreError>,
    },
    /// What is there now cannot be looked at.
    #[error("{0}")]
    Now(String),
}

impl CompareError {
    /// The listing of a run's part, or of those of two runs, that cannot be read.
    fn listing(run: impl std::fmt::Display, part: &str) -> impl FnOnce(StoreError) -> Self {
        let (run, part) = (run.to_string(), part.to_owned());
        move |source| Self::Store { run, part, source: Box::new(source) }
    }
}

/// How a path differs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum ChangeKind {
    /// Only the second has it.
    Added,
    /// Only the first has it.
    Gone,
    /// The contents are others.
    Changed,
    /// The same contents; another owner, mode, time or attribute.
    Touched,
    /// The same contents under another path.
    Moved,
}

/// A path that differs.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct PathChange {
    /// The kind of difference.
    pub what: ChangeKind,
    /// The path; where it was moved, the new one.
    pub path: PathName,
    /// Where it was moved from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<PathName>,
    /// Its length before, in bytes; files only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub was: Option<u64>,
    /// Its length now.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub is: Option<u64>,
}

/// A fact that differs.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct FactChange {
    /// The name of the fact.
    pub fact: String,
    /// What it was.
    pub was: Option<serde_json::Value>,
    /// What it is.
    pub is: Option<serde_json::Value>,
}

/// How many paths differ.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct DifferenceCounts {
    /// Only the second has them.
    pub added: u64,
    /// Only the first has them.
    pub gone: u64,
    /// Paths with other contents.
    pub changed: u64,
    /// The same contents, and not quite the same otherwise.
    pub touched: u64,
    /// The same contents under another path.
    pub moved: u64,
}

impl DifferenceCounts {
    /// Whether nothing differs.
    pub fn is_nothing(&self) -> bool {
        *self == Self::default()
    }
}

/// What differs in a part.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct PartComparison {
    /// The name of the part.
    pub part: String,
    /// Why it cannot be compared: only one has it, or it is not there to be compared with.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub only: Option<String>,
    /// Facts that differ.
    pub facts: Vec<FactChange>,
    /// How many paths differ.
    pub tally: DifferenceCounts,
    /// Paths that differ, up to a bound.
    pub paths: Vec<PathChange>,
    /// Texts that differ, line by line, up to a bound.
    pub texts: Vec<TextChange>,
}

impl PartComparison {
    /// Whether nothing differs.
    pub fn is_nothing(&self) -> bool {
        self.only.is_none() && self.facts.is_empty() && self.tally.is_nothing()
    }

    fn note(&mut self, change: PathChange) {
        match change.what {
            ChangeKind::Added => self.tally.added += 1,
            ChangeKind::Gone => self.tally.gone += 1,
            ChangeKind::Changed => self.tally.changed += 1,
            ChangeKind::Touched => self.tally.touched += 1,
            ChangeKind::Moved => self.tally.moved += 1,
        }
        if self.paths.len() < PATHS_MAX {
            self.paths.push(change);
        }
    }
}

fn length(entry: &Entry) -> Option<u64> {
    (entry.kind == Kind::File).then_some(entry.size)
}

/// Gathers what differs, and finds out what was only moved.
struct Gatherer {
    comparison: PartComparison,
    hasher: RandomState,
    gone: Vec<(u64, Entry)>,
    added: Vec<(u64, Entry)>,
    texts: Vec<(Entry, Entry)>,
    /// Whether times say anything: those of an export are of when it was made.
    times_count: bool,
    /// Whether the texts have keys that are drawn anew each time.
    has_keys: bool,
    /// Such texts of one length, which may be the same but for those.
    alike: Vec<(Entry, Entry)>,
}

impl Gatherer {
    fn new(part: &str) -> Self {
        let comparison = PartComparison { part: part.to_owned(), ..PartComparison::default() };
        Self {
            comparison,
            hasher: RandomState::new(),
            gone: Vec::new(),
            added: Vec::new(),
            texts: Vec::new(),
            times_count: true,
            has_keys: false,
            alike: Vec::new(),
        }
    }

    fn contents(&self, entry: &Entry) -> u64 {
        self.hasher.hash_one((entry.size, &entry.chunks, &entry.lists, &entry.data))
    }

    fn take(&mut self, difference: Difference) {
        let is_movable = |entry: &Entry| entry.kind == Kind::File && entry.size > 0 && entry.same_as.is_none();
        match difference {
            Difference::Gone(entry) => {
                if is_movable(&entry) && self.gone.len() < MOVED_MAX {
                    let key = self.contents(&entry);
                    return self.gone.push((key, *entry));
                }
                self.plain(ChangeKind::Gone, &entry);
            }
            Difference::Added(entry) => {
                if is_movable(&entry) && self.added.len() < MOVED_MAX {
                    let key = self.contents(&entry);
                    return self.added.push((key, *entry));
                }
                self.plain(ChangeKind::Added, &entry);
            }
            Difference::Changed(one, other) => {
                if !self.times_count && *one == (Entry { mtime: one.mtime, ..(*other).clone() }) {
                    return;
                }
                let is_alike = self.has_keys && one.kind == Kind::File && one.size == other.size;
                if is_alike && !one.same_contents(&other) {
                    return self.alike.push((*one, *other));
                }
                self.changed(*one, *other);
            }
        }
    }

    fn changed(&mut self, one: Entry, other: Entry) {
        let what = if one.same_contents(&other) { ChangeKind::Touched } else { ChangeKind::Changed };
        let (was, is) = (length(&one), length(&other));
        self.comparison.note(PathChange { what, path: other.path.clone(), from: None, was, is });
        let is_text = what == ChangeKind::Changed && one.size.max(other.size) <= TEXT_MAX;
        if is_text && one.kind == Kind::File && other.kind == Kind::File && self.texts.len() < TEXTS_MAX {
            self.texts.push((one, other));
        }
    }

    fn plain(&mut self, what: ChangeKind, entry: &Entry) {
        let size = length(entry);
        let (was, is) = if what == ChangeKind::Gone { (size, None) } else { (None, size) };
        self.comparison.note(PathChange { what, path: entry.path.clone(), from: None, was, is });
    }

    /// Compares two captures of the part; `both` names their runs.
    fn captures(
        &mut self,
        (one, in_one): (&Capture, &mut ChunkReader),
        (other, in_other): (&Capture, &mut ChunkReader),
        both: &str,
    ) -> Result<(), CompareError> {
        self.comparison.facts = facts(one, other);
        self.times_count = one.kind.nature() == Nature::Files;
        self.has_keys = one.kind == PartKind::Postgres;
        if let (Some(first), Some(second)) = (&one.listing, &other.listing) {
            let walked = compare_listings((in_one, &first.root), (in_other, &second.root), |difference| {
                self.take(difference);
                Ok::<_, StoreError>(())
            });
            walked.map_err(CompareError::listing(both, &one.part))?;
        }
        for (before, after) in std::mem::take(&mut self.alike) {
            let is_same = whole(&before, in_one).and_then(|one| same_but_for_keys(one, whole(&after, in_other)?));
            // What cannot be read counts as different.
            if !is_same.unwrap_or(false) {
                self.changed(before, after);
            }
        }
        self.pair();
        for (before, after) in std::mem::take(&mut self.texts) {
            if let (Some(before), Some(now)) = (text_of(&before, in_one), text_of(&after, in_other)) {
                let plain = |text: String| if self.has_keys { without_keys(&text) } else { text };
                self.comparison.texts.push(lines(&after.path, &plain(before), &plain(now)));
            }
        }
        Ok(())
    }

    /// What is gone here and came there with the same contents was moved.
    fn pair(&mut self) {
        let mut by_contents: HashMap<u64, Vec<Entry>> = HashMap::new();
        for (key, entry) in std::mem::take(&mut self.gone) {
            by_contents.entry(key).or_default().push(entry);
        }
        for (key, entry) in std::mem::take(&mut self.added) {
            let from = by_contents.get_mut(&key).and_then(Vec::pop);
            match from {
                Some(from) => {
                    let (was, is) = (length(&from), length(&entry));
                    let change =
                        PathChange { what: ChangeKind::Moved, path: entry.path, from: Some(from.path), was, is };
                    self.comparison.note(change);
                }
                None => self.plain(ChangeKind::Added, &entry),
            }
        }
        for entry in by_contents.into_values().flatten() {
            self.plain(ChangeKind::Gone, &entry);
        }
        self.comparison.paths.sort_by(|a, b| a.path.cmp(&b.path));
    }
}

fn facts(one: &Capture, other: &Capture) -> Vec<FactChange> {
    let names = one.facts.keys().chain(other.facts.keys().filter(|name| !one.facts.contains_key(*name)));
    let change = |name: &String| {
        let (was, is) = (one.facts.get(name).cloned(), other.facts.get(name).cloned());
        (was != is).then(|| FactChange { fact: name.clone(), was, is })
    };
    names.filter_map(change).collect()
}

fn wanted<'c>(logged: &'c Logged, only: &[String]) -> impl Iterator<Item = &'c Capture> {
    let only = only.to_vec();
    logged.record.captures.iter().filter(move |capture| only.is_empty() || only.contains(&capture.part))
}

/// What differs between two runs, part by part. Each is read from its own store.
///
/// # Errors
/// When a listing cannot be read.
pub fn runs(
    (one, in_one): (&Logged, &Store),
    (other, in_other): (&Logged, &Store),
    only: &[String],
) -> Result<Vec<PartComparison>, CompareError> {
    let (mut a, _) = in_one.chunks_that_can_be_read(&one.holdings());
    let (mut b, _) = in_other.chunks_that_can_be_read(&other.holdings());
    let mut compared = Vec::new();
    for capture in wanted(one, only) {
        let mut gathering = Gatherer::new(&capture.part);
        let there = other.record.capture(&capture.part);
        match (there.filter(|there| there.is_captured()), capture.is_captured()) {
            (Some(_), false) => gathering.comparison.only = Some("only the second run has it".to_owned()),
            (None, true) => gathering.comparison.only = Some("only the first run has it".to_owned()),
            (None, false) => gathering.comparison.only = Some("neither run has it".to_owned()),
            (Some(there), true) => {
                let both = format!("{} and {}", one.record.run, other.record.run);
                gathering.captures((capture, &mut a), (there, &mut b), &both)?;
            }
        }
        compared.push(gathering.comparison);
    }
    for capture in wanted(other, only).filter(|capture| one.record.capture(&capture.part).is_none()) {
        let only = Some("only the second run has it".to_owned());
        compared.push(PartComparison { part: capture.part.clone(), only, ..PartComparison::default() });
    }
    Ok(compared)
}

/// What differs between a run and what is there now. Of parts that are read from paths those are looked at; files whose length
/// and time are as they were are taken for unchanged unless everything is read (`reread`). Exports are compared with those that
/// were made anew.
///
/// # Errors
/// When a listing or what is there cannot be read.
pub fn with_now(
    (logged, store): (&Logged, &Store),
    (store_folder, copies, state): (&Path, &[PlannedCopy], &Path),
    only: &[String],
    (reread, exported): (bool, Option<&Exported>),
) -> Result<Vec<PartComparison>, CompareError> {
    let now = |error: &dyn std::fmt::Display| CompareError::Now(error.to_string());
    let own = (store_folder.to_path_buf(), copies.to_vec());
    let plan = Plan::of_record(&logged.record, own, state.to_path_buf()).map_err(|e| now(&e))?;
    let (mut chunks, _) = store.chunks_that_can_be_read(&logged.holdings());
    let mut compared = Vec::new();
    for capture in wanted(logged, only) {
        let mut gathering = Gatherer::new(&capture.part);
        let part = plan.parts.iter().find(|part| part.name == capture.part);
        let files = part.filter(|part| part.source.kind() == PartKind::Files);
        let (Some(part), Some(listing)) = (files, capture.listing.filter(|_| capture.is_captured())) else {
            match exported.filter(|_| capture.is_captured() && capture.listing.is_some()) {
                Some(exported) => exported.compare(&mut gathering, (capture, &mut chunks), &logged.record.run)?,
                None => gathering.comparison.only = Some(why_not_now(capture).to_owned()),
            }
            compared.push(gathering.comparison);
            continue;
        };
        let mut another = chunks.another();
        let read = ListingReader::new(&mut chunks).for_each(&listing.root, |entry, _| {
            look_at(&entry, reread, &mut another, &mut gathering);
            Ok::<_, StoreError>(())
        });
        read.map_err(CompareError::listing(&logged.record.run, &capture.part))?;
        let more =
            remaining(part, &plan, &listing, &mut chunks, &PathName::clone).map_err(|error| now(&chain(&error)))?;
        for (path, _) in more.into_iter().filter(|(_, why)| *why == Why::Since) {
            if let Ok(meta) = fs::symlink_metadata(&path) {
                gathering.take(Difference::Added(Box::new(gullet_capture::part::entry_of(name_of(&path), &meta))));
            }
        }
        gathering.pair();
        compared.push(gathering.comparison);
    }
    compared.extend(exported.iter().flat_map(|exported| exported.new_parts(&logged.record.captures)));
    Ok(compared)
}

/// Why a capture that has no paths to look at cannot be compared with what is there now.
fn why_not_now(capture: &Capture) -> &'static str {
    match (capture.is_captured(), &capture.outside) {
        (false, _) => "the run does not have it",
        (true, Some(_)) => "another system keeps it",
        (true, None) => "it is made by commands of the definition, and none is at hand",
    }
}

/// Compares an entry with what is at its path now.
fn look_at(entry: &Entry, reread: bool, chunks: &mut ChunkReader, gathering: &mut Gatherer) {
    use std::os::unix::ffi::OsStrExt;
    let path = PathBuf::from("/").join(std::ffi::OsStr::from_bytes(entry.path.as_bytes()));
    let meta = match fs::symlink_metadata(&path) {
        // A root may be a link; what it leads to was captured.
        Ok(meta) if meta.is_symlink() && entry.kind == Kind::Folder => fs::metadata(&path),
        other => other,
    };
    let Ok(meta) = meta else { return gathering.take(Difference::Gone(Box::new(entry.clone()))) };
    let is = gullet_capture::part::entry_of(entry.path.clone(), &meta);
    let change = |what| PathChange { what, path: entry.path.clone(), from: None, was: length(entry), is: length(&is) };
    let target = || fs::read_link(&path).ok().map(|to| PathName::new(to.as_os_str().as_bytes()));
    if is.kind != entry.kind || is.size != entry.size || (is.kind == Kind::Symlink && target() != entry.target) {
        return gathering.comparison.note(change(ChangeKind::Changed));
    }
    let same_time = is.mtime == entry.mtime;
    // Other names of a file were looked at under its first.
    let is_read = entry.kind == Kind::File && entry.same_as.is_none() && (reread || !same_time);
    // What cannot be read counts as different.
    if is_read && !same_bytes(&path, entry, chunks).unwrap_or(false) {
        return gathering.comparison.note(change(ChangeKind::Changed));
    }
    if !same_time || (is.mode, is.uid, is.gid) != (entry.mode, entry.uid, entry.gid) || !same_attributes(&path, entry) {
        gathering.comparison.note(change(ChangeKind::Touched));
    }
}

/// Whether a path has the extended attributes, access lists among them, and the flags that an entry says. Those that only the
/// administrator sees (`trusted.`) are passed over.
fn same_attributes(path: &Path, entry: &Entry) -> bool {
    // Those of another name stand with the first.
    if entry.same_as.is_some() {
        return true;
    }
    // A root may be a link; what it leads to was captured.
    let is_link = entry.kind == Kind::Folder && path.is_symlink();
    let path = if is_link { fs::canonicalize(path) } else { Ok(path.to_path_buf()) };
    let Ok(path) = path else { return false };
    let Ok(is) = gullet_capture::part::xattrs_of(&path) else { return false };
    let is_seen = |(name, _): &(&String, &String)| !name.starts_with("trusted.");
    is.known.iter().filter(is_seen).eq(entry.xattrs.iter().filter(is_seen))
        && gullet_capture::part::flags_of(&path) == entry.flags
}

/// The contents of a stored file, from its beginning.
fn whole<'c>(entry: &Entry, chunks: &'c mut ChunkReader) -> io::Result<impl BufRead + use<'c>> {
    let contents = Contents::of(entry, chunks).map_err(io::Error::other)?;
    Ok(BufReader::new(WholeFile::of(entry, contents)))
}

/// Whether a file has the bytes that an entry says.
fn same_bytes(path: &Path, entry: &Entry, chunks: &mut ChunkReader) -> io::Result<bool> {
    let (mut is, mut was) = (BufReader::new(fs::File::open(path)?), whole(entry, chunks)?);
    loop {
        let (one, other) = (is.fill_buf()?, was.fill_buf()?);
        let length = one.len().min(other.len());
        if length == 0 || one[..length] != other[..length] {
            return Ok(one.is_empty() && other.is_empty());
        }
        is.consume(length);
        was.consume(length);
    }
}

#[cfg(test)]
mod tests;
