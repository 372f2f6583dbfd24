//! Where the sources' bytes are kept between the hold and the store, so that the hold need not last until they are stored:
//! snapshots and clones on the sources' own filesystems.
//!
//! Every place is noted in the local state before it is made, so that a later command removes what a run that died left
//! behind. Places are folders called `.gullet-RUN`, which only Gullet's own account can enter. Plain copies need no place
//! of their own: they lie in the run's private folder.

use std::collections::BTreeSet;
use std::fs::{self, DirBuilder, File};
use std::io;
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::path::{Path, PathBuf};

use gullet_store::{IoPath, PathError};
use serde::{Deserialize, Serialize};

use super::btrfs;
use crate::plan::Plan;
use gullet_host::hook::{Call, Limits, Runner};
use gullet_host::state::{AppLock, State, StateError};
use gullet_model::definition::{CaptureMethod, CommandSpec};
use gullet_model::record::SecuredBy;
use gullet_model::words::list;
use gullet_model::{Reason, ReasonAbout};

/// The folders and snapshots of a run, written to the state folder before they are made, so that the next run can remove them.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Noted {
    /// The folders that are ours.
    folders: Vec<PathBuf>,
    /// The command that removes the snapshot.
    remove: Option<CommandSpec>,
}

/// A folder of ours on the filesystem of some sources.
#[derive(Debug)]
struct StagingPlace {
    device: u64,
    folder: PathBuf,
    /// Whether files can be cloned into it.
    clones: bool,
    /// Subvolumes that sources lie in.
    subvolumes: BTreeSet<PathBuf>,
    /// Clones and snapshots made so far.
    made: u64,
}

/// Snapshots and clones of one run.
#[derive(Debug)]
pub struct Staging {
    state: State,
    app: String,
    run: String,
    noted: Noted,
    places: Vec<StagingPlace>,
    /// What a snapshot shows: a path without links, and where it is seen as it was.
    shown: Vec<(PathBuf, PathBuf)>,
}

impl Staging {
    /// For a run of an application, with nothing staged yet.
    pub fn new(state: &State, app: &str, run: &str) -> Self {
        Self {
            state: state.clone(),
            app: app.to_owned(),
            run: run.to_owned(),
            noted: Noted::default(),
            places: Vec::new(),
            shown: Vec::new(),
        }
    }

    /// Finds out how `sources` of `plan`, each with whether mounts below it belong to it, can be secured, and makes a place on each of their filesystems where clones or
    /// snapshots are possible. Gives what was found, in words.
    ///
    /// # Errors
    /// When the note cannot be written, or there can be no snapshot and the definition wants one.
    pub fn ready(&mut self, plan: &Plan, sources: &[(&Path, bool)]) -> Result<String, Reason> {
        let secure = plan.secure();
        if let Some(hooks) =
            plan.spec.snapshot.as_ref().filter(|_| matches!(secure, CaptureMethod::Auto | CaptureMethod::Snapshot))
        {
            self.noted.remove = Some(hooks.remove.clone());
            self.note()?;
        }
        let mut found = BTreeSet::new();
        for (source, cross_mounts) in sources.iter().copied() {
            if secure == CaptureMethod::Stream {
                continue;
            }
            // What is not there is told when it is to be captured.
            let Ok(real) = fs::canonicalize(source) else { continue };
            let by_hook = plan.spec.snapshot.as_ref().is_some_and(|hooks| {
                hooks.shows.keys().any(|shown| real.starts_with(fs::canonicalize(shown).unwrap_or_default()))
            });
            let word = if by_hook { "a snapshot" } else { self.place_for(&real, secure, cross_mounts)? };
            if secure == CaptureMethod::Snapshot && word != "a snapshot" {
                return Err(Reason::new(format!(
                    "`{}` cannot be captured by a snapshot: it is on no btrfs subvolume, and no command \
                                    of `snapshot` shows it",
                    source.display()
                )));
            }
            found.insert(word);
        }
        let found: Vec<String> = found.into_iter().map(str::to_owned).collect();
        Ok(match found.as_slice() {
            [] => "the sources are synced".to_owned(),
            found => format!("the sources are synced, and can be captured by {}", list(found)),
        })
    }

    /// Makes a place for a source where there is none on its filesystem yet; how the source can be secured.
    fn place_for(&mut self, real: &Path, secure: CaptureMethod, cross: bool) -> Result<&'static str, StateError> {
        let meta = fs::metadata(real).at(real)?;
        let known = self.places.iter().position(|place| place.device == meta.dev());
        let number = match known {
            Some(number) => number,
            None => match self.make_place(real, meta.dev())? {
                Some(number) => number,
                None => return Ok("a copy"),
            },
        };
        let place = &mut self.places[number];
        let subvolume = btrfs::subvolume(real).filter(|_| secure != CaptureMethod::Copy && !cross);
        Ok(match subvolume {
            Some(subvolume) => {
                place.subvolumes.insert(subvolume);
                "a snapshot"
            }
            None if place.clones => "a clone",
            None => "a copy",
        })
    }

    /// A place beside the source, or in it where something is mounted there; `None` where it is of no use.
    fn make_place(&mut self, real: &Path, device: u64) -> Result<Option<usize>, StateError> {
        let folder = if fs::metadata(real).at(real)?.is_dir() { real } else { real.parent().unwrap_or(real) };
        let above = folder.parent().filter(|above| fs::metadata(above).is_ok_and(|meta| meta.dev() == device));
        let folder = above.unwrap_or(folder).join(format!(".gullet-{}", self.run));
        let can = rustix::fs::statfs(real).is_ok_and(|stat| may_clone(stat.f_type as u64 & 0xFFFF_FFFF));
        if !can {
            return Ok(None);
        }
        self.noted.folders.push(folder.clone());
        self.note()?;
        // A filesystem that cannot be written to can still be read: it is copied.
        if DirBuilder::new().mode(0o700).create(&folder).is_err() {
            return Ok(None);
        }
        let clones = can_clone(&folder);
        let place = StagingPlace { device, folder, clones, subvolumes: BTreeSet::new(), made: 0 };
        self.places.push(place);
        Ok(Some(self.places.len() - 1))
    }

    fn note_path(&self) -> Result<PathBuf, StateError> {
        Ok(self.state.place(&["staging", &self.app])?.join(format!("{}.json", self.run)))
    }

    fn note(&self) -> Result<(), StateError> {
        let bytes = serde_json::to_vec(&self.noted).unwrap_or_default();
        Ok(gullet_host::state::write_whole(&self.note_path()?, &bytes)?)
    }

    /// Whether there is something to make a snapshot of.
    pub fn wants_snapshot(&self) -> bool {
        self.noted.remove.is_some() || self.places.iter().any(|place| !place.subvolumes.is_empty())
    }

    /// Makes a snapshot of every subvolume that sources lie in.
    ///
    /// # Errors
    /// When one cannot be made.
    pub fn snapshot(&mut self) -> Result<usize, PathError> {
        let mut made = 0;
        for place in &mut self.places {
            for subvolume in &place.subvolumes {
                place.made += 1;
                let name = format!("snapshot-{}", place.made);
                btrfs::snapshot(subvolume, &place.folder, &name)?;
                self.shown.push((subvolume.clone(), place.folder.join(name)));
                made += 1;
            }
        }
        // The innermost first, so that a subvolume within a subvolume is seen through its own snapshot.
        self.shown.sort_by_key(|(from, _)| std::cmp::Reverse(from.components().count()));
        Ok(made)
    }

    /// Takes what the administrator's own snapshot shows.
    ///
    /// # Errors
    /// When something that it should show is not there.
    pub fn show(&mut self, shows: impl Iterator<Item = (PathBuf, PathBuf)>) -> Result<(), PathError> {
        for (from, to) in shows {
            let from = fs::canonicalize(&from).at(&from)?;
            fs::metadata(&to).at(&to)?;
            self.shown.push((from, to));
        }
        self.shown.sort_by_key(|(from, _)| std::cmp::Reverse(from.components().count()));
        Ok(())
    }

    /// Where a source is seen through a snapshot.
    pub(crate) fn seen(&self, source: &Path) -> Option<PathBuf> {
        if self.shown.is_empty() {
            return None;
        }
        let real = fs::canonicalize(source).ok()?;
        let (from, to) = self.shown.iter().find(|(from, _)| real.starts_with(from))?;
        let below = real.strip_prefix(from).ok()?;
        Some(if below.as_os_str().is_empty() { to.clone() } else { to.join(below) })
    }

    /// The folders that are ours, which no capture takes.
    pub(crate) fn folders(&self) -> impl Iterator<Item = &Path> {
        self.noted.folders.iter().map(PathBuf::as_path)
    }

    /// Clones an open file; `None` where its filesystem cannot.
    ///
    /// # Errors
    /// When the place is full, or broken.
    pub(crate) fn clone_file(&mut self, file: &File, device: u64) -> Result<Option<PathBuf>, PathError> {
        let Some(place) = self.places.iter_mut().find(|place| place.device == device && place.clones) else {
            return Ok(None);
        };
        place.made += 1;
        let path = place.folder.join(format!("clone-{}", place.made));
        let target = File::create_new(&path).at(&path)?;
        match rustix::fs::ioctl_ficlone(&target, file) {
            Ok(()) => Ok(Some(path)),
            Err(rustix::io::Errno::OPNOTSUPP | rustix::io::Errno::INVAL | rustix::io::Errno::XDEV) => {
                // Some files cannot be cloned where others can (no copy-on-write, swap, another block size).
                fs::remove_file(&path).at(&path)?;
                Ok(None)
            }
            Err(errno) => Err(PathError::new(&path, io::Error::from(errno))),
        }
    }

    /// Whether there is something to clear.
    pub fn is_clear(&self) -> bool {
        self.noted.folders.is_empty() && self.noted.remove.is_none()
    }

    /// Removes everything that was made.
    ///
    /// # Errors
    /// In words, when something is left; it stays noted, and a later command tries again.
    pub fn clear(&mut self, runner: &Runner<'_>) -> Result<(), Reason> {
        if self.is_clear() {
            return Ok(());
        }
        self.shown.clear();
        self.places.clear();
        remove(&self.noted, runner)?;
        self.noted = Noted::default();
        let path = self.note_path()?;
        fs::remove_file(&path).about(path.display())
    }
}

/// How a source would be secured, as far as that can be told without touching anything.
pub fn foresee(source: &Path, plan: &Plan, cross: bool) -> Option<SecuredBy> {
    let real = fs::canonicalize(source).ok()?;
    let secure = plan.secure();
    if secure == CaptureMethod::Stream || plan.spec.hold.is_empty() {
        return None;
    }
    let hooks = plan.spec.snapshot.as_ref().filter(|_| secure != CaptureMethod::Copy);
    let shown = |from: &PathBuf| real.starts_with(fs::canonicalize(from).unwrap_or_default());
    if hooks.is_some_and(|hooks| hooks.shows.keys().any(shown)) {
        return Some(SecuredBy::Snapshot);
    }
    if secure != CaptureMethod::Copy && !cross && btrfs::subvolume(&real).is_some() {
        return Some(SecuredBy::Snapshot);
    }
    let magic = rustix::fs::statfs(&real).ok()?.f_type as u64 & 0xFFFF_FFFF;
    Some(if may_clone(magic) { SecuredBy::Clone } else { SecuredBy::Copy })
}

/// Filesystems that can share blocks between files, by the magic numbers of statfs(2): btrfs, xfs, zfs, bcachefs, ocfs2,
/// overlayfs (which hands it down).
fn may_clone(magic: u64) -> bool {
    [0x9123_683E, 0x5846_5342, 0x2FC1_2FC1, 0xCA45_1A4E, 0x7461_636F, 0x794C_7630].contains(&magic)
}

/// Tries it out.
fn can_clone(folder: &Path) -> bool {
    let [from, to] = ["probe-1", "probe-2"].map(|name| folder.join(name));
    let tried = fs::write(&from, b"probe").and_then(|()| {
        let (source, target) = (File::open(&from)?, File::create_new(&to)?);
        rustix::fs::ioctl_ficlone(&target, &source).map_err(io::Error::from)
    });
    let _ = fs::remove_file(from);
    let _ = fs::remove_file(to);
    tried.is_ok()
}

fn remove(noted: &Noted, runner: &Runner<'_>) -> Result<(), Reason> {
    let mut wrong = Vec::new();
    if let Some(command) = &noted.remove {
        let call = Call { moment: "snapshot", limit: Limits::HOOK, ..Call::default() };
        if let Err(why) = runner.run(command, call).result {
            wrong.push(format!("the snapshot cannot be removed: {why}"));
        }
    }
    for folder in &noted.folders {
        if let Err(error) = remove_folder(folder) {
            wrong.push(format!("{}: {}", error.path.display(), error.source));
        }
    }
    if wrong.is_empty() { Ok(()) } else { Err(Reason::new(wrong.join("; "))) }
}

fn remove_folder(folder: &Path) -> Result<(), PathError> {
    let entries = match fs::read_dir(folder) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
        other => other.at(folder)?,
    };
    for entry in entries {
        let path = entry.at(folder)?.path();
        if btrfs::is_subvolume(&path) { btrfs::delete(&path)? } else { fs::remove_file(&path).at(&path)? }
    }
    fs::remove_dir(folder).at(folder)
}

/// Whether runs of `app` that are over left something behind.
pub fn has_leftovers(state: &State, app: &str) -> bool {
    fs::read_dir(state.folder().join("staging").join(app)).is_ok_and(|mut entries| entries.next().is_some())
}

/// Removes what runs of `app` that died left behind; what was done for each, or what is in the way. Call it with the
/// application's lock.
pub fn clear_leftovers(state: &State, app: &str, runner: &Runner<'_>, _lock: &AppLock) -> Vec<Result<String, Reason>> {
    let entries = fs::read_dir(state.folder().join("staging").join(app)).into_iter().flatten().flatten();
    let mut told = Vec::new();
    for path in entries.map(|entry| entry.path()) {
        if path.extension().is_none_or(|extension| extension != "json") {
            // A note that was cut off while it was written: nothing was made yet.
            let _ = fs::remove_file(&path);
            continue;
        }
        let noted = fs::read(&path).ok().and_then(|bytes| serde_json::from_slice::<Noted>(&bytes).ok());
        let run = path.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
        let removed = remove(&noted.unwrap_or_default(), runner);
        told.push(match removed {
            Ok(()) => {
                let _ = fs::remove_file(&path);
                Ok(format!("what run {run} of `{app}` had staged was removed"))
            }
            Err(why) => Err(why.at(format_args!("what run {run} of `{app}` had staged cannot be removed"))),
        });
    }
    told
}
