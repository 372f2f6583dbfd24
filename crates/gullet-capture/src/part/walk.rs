//! The files below some roots, in the order of a listing, with what is left out and why.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fs;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::SyncSender;

use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use gullet_store::listing::PathName;
use gullet_store::{IoPath, PathError};

use super::left::LeftReason;
use crate::plan::{Plan, PlannedPart};
use gullet_model::definition::Part;
use gullet_model::record::LeftOut;

/// Paths named for one reason, at most.
const NAMED: usize = 5;

/// How many are handed over at once.
const BATCH: usize = 128;

/// Why a walk ended early.
enum WalkEnd {
    Path(PathError),
    Untaken,
}

impl From<PathError> for WalkEnd {
    fn from(error: PathError) -> Self {
        Self::Path(error)
    }
}

/// Something that was found.
pub(crate) struct FoundEntry {
    /// Its absolute path.
    pub(crate) path: PathBuf,
    /// Where it is read: elsewhere when it is seen through a snapshot.
    pub(crate) at: PathBuf,
    /// Its path in a listing: absolute, without the first `/`.
    pub(crate) name: PathName,
    /// What `lstat` says of it.
    pub(crate) meta: fs::Metadata,
}

/// What to look at.
#[derive(Clone, Debug)]
pub(crate) struct Walk {
    roots: Vec<PathBuf>,
    include: Option<Patterns>,
    exclude: Patterns,
    cross: bool,
    avoid: Vec<Avoid>,
    /// What other parts take some of.
    shared: Vec<Shared>,
    /// Passed over without a word: folders of Gullet's own, and what is captured in another way.
    own: Vec<PathBuf>,
    /// Why something is excluded, where that is not the definition's wish.
    why_excluded: Option<&'static str>,
    /// Where each root is read.
    seen: Option<Vec<PathBuf>>,
}

/// A place that is left out.
#[derive(Clone, Debug)]
struct Avoid {
    path: PathBuf,
    /// Device and inode, so that it is known under another name too: through a link or a bind mount.
    identity: Option<(u64, u64)>,
    why: LeftReason,
}

/// A folder within a root that another part takes some of by its `include`; the rest belongs to the part around it, so that nothing
/// belongs to nobody.
#[derive(Clone, Debug)]
struct Shared {
    root: PathBuf,
    part: String,
    include: Patterns,
    exclude: Patterns,
}

impl Shared {
    /// Why a path is not the outer part's.
    fn why_left(&self, path: &Path, is_folder: bool) -> Option<LeftReason> {
        let below = path.strip_prefix(&self.root).ok().filter(|below| !below.as_os_str().is_empty())?;
        if self.exclude.first_match(below, path).is_some() {
            return Some(LeftReason::ExcludedByPart(self.part.clone()));
        }
        let is_taken = !is_folder && self.include.first_match(below, path).is_some();
        is_taken.then(|| LeftReason::OfPart(self.part.clone()))
    }
}

/// Patterns, with those that have no `/` matching names at any depth.
#[derive(Clone, Debug)]
struct Patterns {
    texts: Vec<String>,
    set: GlobSet,
    /// Which of them matched something.
    used: Arc<[AtomicBool]>,
}

impl Patterns {
    fn new(texts: &[String]) -> Self {
        let mut set = GlobSetBuilder::new();
        for text in texts {
            let anywhere =
                if text.contains('/') { text.trim_start_matches('/').to_owned() } else { format!("**/{text}") };
            // The definition's rules have refused patterns that do not parse.
            if let Ok(glob) = GlobBuilder::new(&anywhere).literal_separator(true).build() {
                set.add(glob);
            }
        }
        let used = texts.iter().map(|_| AtomicBool::new(false)).collect();
        Self { texts: texts.to_vec(), set: set.build().unwrap_or_default(), used }
    }

    /// The first that matches a path: by what comes below its root, or whole where a pattern says a whole path.
    fn first_match(&self, below: &Path, whole: &Path) -> Option<&str> {
        let whole = whole.strip_prefix("/").unwrap_or(whole);
        let of_whole = || self.set.matches(whole).into_iter().filter(|number| self.texts[*number].starts_with('/'));
        let number = self.set.matches(below).first().copied().or_else(|| of_whole().next())?;
        self.used[number].store(true, Ordering::Relaxed);
        self.texts.get(number).map(String::as_str)
    }

    /// Those that have matched nothing so far.
    fn unused(&self) -> impl Iterator<Item = &String> {
        let used = self.used.iter().map(|used| used.load(Ordering::Relaxed));
        self.texts.iter().zip(used).filter(|(_, used)| !used).map(|(text, _)| text)
    }
}

/// The paths that a walk leaves out, counted for each reason.
#[derive(Clone, Debug, Default)]
pub(crate) struct LeftOuts {
    by_reason: BTreeMap<LeftReason, LeftOut>,
    /// Every one of them, where that is wanted.
    all: Option<Vec<(LeftReason, PathBuf)>>,
    /// Paths that the system does not let this program read, each with the system's message.
    unreadable: Vec<String>,
}

impl LeftOuts {
    /// Keeps every one of them.
    pub(crate) fn with_all() -> Self {
        Self { all: Some(Vec::new()), ..Self::default() }
    }

    /// Every one of them, with the reason.
    pub(crate) fn into_all(self) -> Vec<(LeftReason, PathBuf)> {
        self.all.unwrap_or_default()
    }

    pub(crate) fn add(&mut self, why: LeftReason, path: &Path) {
        if let Some(all) = &mut self.all {
            all.push((why.clone(), path.to_path_buf()));
        }
        let entry = self.by_reason.entry(why).or_insert_with_key(|why| LeftOut {
            why: why.to_string(),
            count: 0,
            paths: Vec::new(),
        });
        entry.count += 1;
        if entry.paths.len() < NAMED {
            entry.paths.push(path.display().to_string());
        }
    }

    /// Paths that the system does not let this program read, each with its message. A capture should have them, so they are a problem
    /// and not left out.
    pub(crate) fn unreadable(&self) -> &[String] {
        &self.unreadable
    }

    fn cannot_look(&mut self, path: &Path, error: &io::Error) {
        self.unreadable.push(format!("{} cannot be read: {error}", path.display()));
    }

    pub(crate) fn into_vec(self) -> Vec<LeftOut> {
        self.by_reason.into_values().collect()
    }
}

impl Walk {
    /// The files and folders of a part.
    pub(crate) fn of_files(paths: &[PathBuf], part: &PlannedPart, plan: &Plan) -> Self {
        let shared = part.claimed.iter().filter(|(_, name)| includes_some(plan, name)).filter_map(|(path, name)| {
            let other = plan.spec.part.iter().find(|other| other.name == *name)?;
            let (include, exclude) = (Patterns::new(&other.include), Patterns::new(&other.exclude));
            Some(Shared { root: path.clone(), part: name.clone(), include, exclude })
        });
        let shared = shared.collect();
        Self { shared, ..Self::new(paths.to_vec(), &part.spec, Self::avoided(part, plan)) }
    }

    /// What an export left at the paths of `collect`.
    pub(crate) fn of_collected(paths: &[PathBuf], part: &PlannedPart, plan: &Plan) -> Self {
        Self::new(paths.to_vec(), &Part::default(), Self::avoided(part, plan))
    }

    /// What a server keeps below some roots, but for what matches one of these: it makes that anew when it starts. Other
    /// filesystems mounted below them are its own too, if it may `cross_mounts` them.
    pub(crate) fn of_server(
        roots: Vec<PathBuf>,
        made_anew: &[&str],
        cross: bool,
        (part, plan): (&PlannedPart, &Plan),
    ) -> Self {
        let exclude = made_anew.iter().map(|pattern| (*pattern).to_owned()).collect();
        let spec = Part { exclude, cross_mounts: cross, ..Part::default() };
        let why_excluded = Some("made anew by the server when it starts");
        Self { why_excluded, ..Self::new(roots, &spec, Self::avoided(part, plan)) }
    }

    /// Everything below one folder.
    pub(crate) fn of_folder(folder: &Path) -> Self {
        Self::new(vec![folder.to_path_buf()], &Part::default(), Vec::new())
    }

    fn avoided(part: &PlannedPart, plan: &Plan) -> Vec<(PathBuf, LeftReason)> {
        let whole = part.claimed.iter().filter(|(_, name)| !includes_some(plan, name));
        let claimed = whole.map(|(path, name)| (path.clone(), LeftReason::OfPart(name.clone())));
        let own = [(plan.store.as_path(), "the store itself"), (plan.state.as_path(), "Gullet's own state")];
        let copies = plan.copies.iter().filter_map(|copy| Some((copy.spec.folder()?, "a copy of the store")));
        let own = own.into_iter().chain(copies).map(|(path, why)| (path.to_path_buf(), LeftReason::Own(why)));
        claimed.chain(own).collect()
    }

    fn new(mut roots: Vec<PathBuf>, spec: &Part, avoid: Vec<(PathBuf, LeftReason)>) -> Self {
        let avoid = avoid.into_iter().map(|(path, why)| {
            let identity = fs::metadata(&path).ok().map(|meta| (meta.dev(), meta.ino()));
            Avoid { path, identity, why }
        });
        let avoid = avoid.collect();
        roots.sort_by_key(|root| name_of(root));
        // A root within another one is reached through that.
        let all = roots.clone();
        roots.retain(|root| !all.iter().any(|other| other != root && root.starts_with(other)));
        roots.dedup();
        Self {
            roots,
            include: (!spec.include.is_empty()).then(|| Patterns::new(&spec.include)),
            exclude: Patterns::new(&spec.exclude),
            cross: spec.cross_mounts,
            avoid,
            shared: Vec::new(),
            own: Vec::new(),
            why_excluded: None,
            seen: None,
        }
    }

    /// Drops the roots that do not exist. `None` when that leaves no root.
    pub(crate) fn of_what_is_there(mut self) -> Option<Self> {
        self.roots.retain(|root| root.exists());
        (!self.roots.is_empty()).then_some(self)
    }

    /// Passes over these: the folders that snapshots and clones lie in, and what is captured in another way.
    pub(crate) fn passing_over<'p>(mut self, own: impl Iterator<Item = &'p Path>) -> Self {
        self.own.extend(own.map(Path::to_path_buf));
        self
    }

    /// Reads every root where `seen` says; `false` if it does not say so for one of them.
    pub(crate) fn look_through(&mut self, seen: impl Fn(&Path) -> Option<PathBuf>) -> bool {
        self.seen = self.roots.iter().map(|root| seen(root)).collect();
        self.seen.is_some()
    }

    /// Whether it is seen through a snapshot.
    pub(crate) fn is_seen(&self) -> bool {
        self.seen.is_some()
    }

    /// Each root, and where it is read.
    pub(crate) fn roots_seen(&self) -> impl Iterator<Item = (&PathBuf, &PathBuf)> {
        self.roots.iter().zip(self.seen.as_ref().unwrap_or(&self.roots))
    }

    /// The roots, sorted.
    pub(crate) fn roots(&self) -> &[PathBuf] {
        &self.roots
    }

    /// Hands everything to `each` in the order of a listing.
    ///
    /// # Errors
    /// When a root or a folder cannot be read, or what `each` gives. What vanishes in the middle is passed over and noted
    /// in `released`.
    pub(crate) fn run<E: From<PathError>>(
        &self,
        left: &mut LeftOuts,
        each: &mut dyn FnMut(FoundEntry) -> Result<(), E>,
    ) -> Result<(), E> {
        for (root, at) in self.roots_seen() {
            // A root may be a link: what it leads to is captured, under the root's own name.
            let meta = fs::metadata(at).at(at)?;
            let device = meta.dev();
            let found = FoundEntry { path: root.clone(), at: at.clone(), name: name_of(root), meta };
            self.visit(root, found, device, left, each)?;
        }
        Ok(())
    }

    /// Hands everything over in batches, in the order of a listing; ends early when nobody takes them.
    pub(crate) fn in_batches(&self, left: &mut LeftOuts, out: &SyncSender<Vec<FoundEntry>>) -> Result<(), PathError> {
        let mut batch = Vec::with_capacity(BATCH);
        let walked = self.run(left, &mut |found| {
            batch.push(found);
            if batch.len() < BATCH {
                return Ok(());
            }
            let full = std::mem::replace(&mut batch, Vec::with_capacity(BATCH));
            out.send(full).map_err(|_| WalkEnd::Untaken)
        });
        match walked {
            Err(WalkEnd::Path(error)) => Err(error),
            Err(WalkEnd::Untaken) => Ok(()),
            Ok(()) => {
                let _ = out.send(batch);
                Ok(())
            }
        }
    }

    /// Why something below a root is left out; `None` where it is not.
    fn why_left_out(&self, root: &Path, found: &FoundEntry, device: u64) -> Option<LeftReason> {
        let (path, meta) = (&found.path, &found.meta);
        let is_folder = meta.is_dir();
        if is_folder && super::own::is_arena(path) {
            return Some(LeftReason::SetAside);
        }
        let identity = (meta.dev(), meta.ino());
        if let Some(avoid) = self.avoid.iter().find(|a| a.path == *path || a.identity == Some(identity)) {
            return Some(avoid.why.clone());
        }
        let below = path.strip_prefix(root).unwrap_or(path);
        if let Some(why) = self.shared.iter().find_map(|shared| shared.why_left(path, is_folder)) {
            return Some(why);
        }
        if let Some(pattern) = self.exclude.first_match(below, path) {
            let excluded = || LeftReason::Excluded(pattern.to_owned());
            return Some(self.why_excluded.map_or_else(excluded, LeftReason::MadeAnew));
        }
        if let Some(include) = &self.include
            && !is_folder
            && include.first_match(below, path).is_none()
        {
            return Some(LeftReason::NotIncluded);
        }
        let hollow = self.seen.is_some() && meta.ino() == super::btrfs::HOLLOW;
        let is_elsewhere = is_folder && (meta.dev() != device || hollow) && !self.cross;
        is_elsewhere.then_some(LeftReason::OtherFilesystem)
    }

    fn visit<E: From<PathError>>(
        &self,
        root: &Path,
        found: FoundEntry,
        device: u64,
        left: &mut LeftOuts,
        each: &mut dyn FnMut(FoundEntry) -> Result<(), E>,
    ) -> Result<(), E> {
        let is_folder = found.meta.is_dir();
        if found.path != root {
            if self.own.contains(&found.path) {
                return Ok(());
            }
            if let Some(why) = self.why_left_out(root, &found, device) {
                left.add(why, &found.path);
                return Ok(());
            }
        }
        let (path, at) = (found.path.clone(), found.at.clone());
        each(found)?;
        if is_folder {
            let children = match sorted_children(&at) {
                Ok(children) => children,
                // One folder that cannot be read is no reason to do without all others; a root is.
                Err(error) if path != root && error.source.kind() == io::ErrorKind::NotFound => {
                    left.add(LeftReason::Vanished, &path);
                    return Ok(());
                }
                Err(error) if path != root => {
                    left.cannot_look(&path, &error.source);
                    return Ok(());
                }
                Err(error) => return Err(error.into()),
            };
            for (name, child) in children {
                let (path, at) = (path.join(&name), at.join(&name));
                match child.metadata() {
                    Ok(meta) => {
                        let found = FoundEntry { name: name_of(&path), path, at, meta };
                        self.visit(root, found, device, left, each)?;
                    }
                    Err(error) if error.kind() == io::ErrorKind::NotFound => {
                        left.add(LeftReason::Vanished, &path);
                    }
                    Err(error) => left.cannot_look(&path, &error),
                }
            }
        }
        Ok(())
    }
}

/// Whether a part of the definition takes only some of what is at its paths.
fn includes_some(plan: &Plan, name: &str) -> bool {
    plan.spec.part.iter().any(|part| part.name == *name && !part.files.is_empty() && !part.include.is_empty())
}

/// The entries of a folder, sorted by name. Their metadata is read relative to the open folder, which is quicker than by whole paths.
fn sorted_children(folder: &Path) -> Result<Vec<(OsString, fs::DirEntry)>, PathError> {
    let mut children = Vec::new();
    for entry in fs::read_dir(folder).at(folder)? {
        let entry = entry.at(folder)?;
        children.push((entry.file_name(), entry));
    }
    children.sort_by(|(a, _), (b, _)| a.as_bytes().cmp(b.as_bytes()));
    Ok(children)
}

/// The name of an absolute path in a listing.
pub fn name_of(path: &Path) -> PathName {
    let bytes = path.as_os_str().as_bytes();
    PathName::new(bytes.strip_prefix(b"/").unwrap_or(bytes))
}

/// What a part would have, before a run: how much, and what is left out.
#[derive(Clone, Debug, Default, PartialEq, Eq, serde::Serialize)]
pub struct Survey {
    /// How many regular files.
    pub files: u64,
    /// Bytes in them.
    pub bytes: u64,
    /// Bytes that they take on the disk, where that is less: holes in files are neither read nor stored.
    pub allocated: u64,
    /// What would be left out, and why.
    pub left_out: Vec<LeftOut>,
    /// Patterns of `include` and `exclude` that match nothing.
    pub unused_patterns: Vec<String>,
    /// Paths that cannot be read, each with the system's message.
    pub unreadable: Vec<String>,
    /// Why it could not be looked at.
    pub problem: Option<String>,
}

/// Looks at what a walk finds; at its patterns too where those are the definition's.
pub(crate) fn survey_of(walk: &Walk, with_patterns: bool) -> Survey {
    let mut survey = Survey::default();
    let mut left = LeftOuts::default();
    let walked = walk.run(&mut left, &mut |found: FoundEntry| {
        if found.meta.is_file() {
            survey.files += 1;
            survey.bytes += found.meta.len();
            survey.allocated += found.meta.len().min(found.meta.blocks() * 512);
        }
        Ok::<_, PathError>(())
    });
    survey.problem = walked.err().map(|error| format!("{error}: {}", error.source));
    if with_patterns {
        let patterns = walk.include.iter().chain([&walk.exclude]);
        survey.unused_patterns = patterns.flat_map(Patterns::unused).cloned().collect();
    }
    survey.unreadable = left.unreadable().to_vec();
    survey.left_out = left.into_vec();
    survey
}
