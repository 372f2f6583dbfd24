//! Swapping an old state and a new one that lies beside it, forward and back, from wherever an earlier try was cut off.
//!
//! Nothing is remembered of how far a swap is: everything is recognised by its device and inode, which stay the same
//! when it is renamed. So both directions can be called again and again, in any order, until they succeed. Where the
//! filesystem can, a name changes hands in one step (`RENAME_EXCHANGE`, renameat2(2)).

use std::fs;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use gullet_store::listing::{Entry, PathName};
use gullet_store::{IoPath, PathError};
use rustix::fs::{CWD, RenameFlags, Timespec, Timestamps};
use rustix::io::Errno;
use serde::{Deserialize, Serialize};

use crate::restore::write;

/// The folder in an arena that has what is new while it is not in place.
pub(super) const NEW: &str = "new";
/// The folder in an arena that has what was there before while it is not in place.
pub(super) const OLD: &str = "old";

/// A swap could not go on.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SwapError {
    /// The system refused.
    #[error(transparent)]
    Path(#[from] PathError),
    /// Somebody else put something there.
    #[error("`{}` is neither the old state nor the new one: somebody put it there in the meantime", .0.display())]
    Foreign(PathBuf),
    /// What should come there is nowhere.
    #[error("what should come to `{}` is gone from `{}`", at.display(), from.display())]
    Lost {
        /// Where it should come.
        at: PathBuf,
        /// Where it should have been.
        from: PathBuf,
    },
}

/// By what a thing is recognised under any name: device and inode.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileIdentity {
    dev: u64,
    ino: u64,
}

impl FileIdentity {
    /// What is at a path, links not followed; `None` where nothing is.
    pub(super) fn of(path: &Path) -> Result<Option<Self>, PathError> {
        match fs::symlink_metadata(path) {
            Ok(meta) => Ok(Some(Self { dev: meta.dev(), ino: meta.ino() })),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(PathError::new(path, error)),
        }
    }
}

/// An absolute path as a journal keeps it, whatever its bytes.
pub(super) fn kept(path: &Path) -> PathName {
    PathName::new(path.as_os_str().as_bytes())
}

/// The path that a journal keeps.
pub(super) fn path_of(name: &PathName) -> PathBuf {
    PathBuf::from(std::ffi::OsStr::from_bytes(name.as_bytes()))
}

/// One name that changes hands.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Name {
    /// The name in the place.
    pub(super) name: PathName,
    /// What was there before.
    pub(super) old: Option<FileIdentity>,
    /// What comes there.
    pub(super) new: Option<FileIdentity>,
    /// The time of each, where it is a folder: some filesystems change that when a folder gets another one above it.
    #[serde(default)]
    pub(super) old_time: Option<(i64, u32)>,
    /// The same, of what comes there.
    #[serde(default)]
    pub(super) new_time: Option<(i64, u32)>,
}

impl Name {
    /// What changes hands under a name between a place and what is beside.
    pub(super) fn of(name: &Path, place: &Path, new: &Path) -> Result<Self, PathError> {
        let (at, new) = (place.join(name), new.join(name));
        Ok(Self {
            name: kept(name),
            old: FileIdentity::of(&at)?,
            new: FileIdentity::of(&new)?,
            old_time: time_of_folder(&at),
            new_time: time_of_folder(&new),
        })
    }
}

fn time_of_folder(path: &Path) -> Option<(i64, u32)> {
    let meta = fs::symlink_metadata(path).ok().filter(fs::Metadata::is_dir)?;
    Some((meta.mtime(), u32::try_from(meta.mtime_nsec()).unwrap_or(0)))
}

fn set_time(path: &Path, mtime: Option<(i64, u32)>) {
    if let Some(mtime) = mtime {
        FolderTime { folder: kept(path), mtime }.set();
    }
}

/// A folder in which names change hands, and the folder on the same filesystem that has what is not in place.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SwapTarget {
    /// The root that is restored, as the definition says it.
    pub(super) root: PathName,
    /// The folder in which names change hands: the one that the root lies in, or the root itself.
    pub(super) place: PathName,
    /// Gullet's own folder beside them.
    pub(super) arena: PathName,
    /// The names below it that change hands, where it is swapped inside.
    pub(super) names: Vec<Name>,
    /// Why what is in the root is swapped and not the root.
    pub(super) inside: Option<String>,
    /// Names in the root that stay where they are, in the old state and the new one.
    #[serde(default)]
    pub(super) stays: Vec<PathName>,
    /// Where else processes see what is in the root.
    #[serde(default)]
    pub(super) seen_at: Vec<PathName>,
    /// The root's own attributes before and after, where only what is in it is swapped.
    pub(super) old_root: Option<Entry>,
    /// The same, of the new state.
    pub(super) new_root: Option<Entry>,
}

/// Something in the old state that goes on in the new one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Carried {
    /// Where it is in the old state, while that is in place.
    pub(super) from: PathName,
    /// Where it is in the new state, while that is beside.
    pub(super) to: PathName,
    /// What it is.
    pub(super) identity: FileIdentity,
    /// Its time, where it is a folder.
    #[serde(default)]
    pub(super) time: Option<(i64, u32)>,
}

impl Carried {
    pub(super) fn of(from: &Path, to: &Path) -> Result<Option<Self>, PathError> {
        let identity = FileIdentity::of(from)?;
        let time = time_of_folder(from);
        Ok(identity.map(|identity| Self { from: kept(from), to: kept(to), identity, time }))
    }
}

/// The time of a folder that loses or gets what is carried over.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FolderTime {
    /// The folder whose times are put back.
    pub(super) folder: PathName,
    /// Seconds and nanoseconds.
    pub(super) mtime: (i64, u32),
}

impl FolderTime {
    pub(super) fn of(folder: &Path) -> Result<Self, PathError> {
        let meta = fs::symlink_metadata(folder).at(folder)?;
        Ok(Self { folder: kept(folder), mtime: (meta.mtime(), u32::try_from(meta.mtime_nsec()).unwrap_or(0)) })
    }

    fn set(&self) {
        let time = Timespec { tv_sec: self.mtime.0, tv_nsec: self.mtime.1.into() };
        let times = Timestamps { last_access: time, last_modification: time };
        // What is not there any more has no time to set.
        let _ = rustix::fs::utimensat(CWD, path_of(&self.folder), &times, rustix::fs::AtFlags::SYMLINK_NOFOLLOW);
    }
}

/// Everything that changes hands.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Swap {
    /// The folders in which names change hands.
    pub(super) targets: Vec<SwapTarget>,
    /// What goes on in the new state.
    pub(super) carried: Vec<Carried>,
    /// Times of folders of the old state.
    pub(super) old_times: Vec<FolderTime>,
    /// Times of folders of the new state, while it is beside.
    pub(super) new_times: Vec<FolderTime>,
}

/// Told before each change on the disk, for those who want to see what happens when it ends there.
pub type Tick<'t> = &'t mut dyn FnMut(&str);

fn rename(from: &Path, to: &Path, flags: RenameFlags, tick: Tick<'_>) -> Result<(), Errno> {
    tick(&format!("rename {} to {}", from.display(), to.display()));
    rustix::fs::renameat_with(CWD, from, CWD, to, flags)
}

/// Moves what is at `from` to `to`, where nothing is.
fn put(from: &Path, to: &Path, tick: Tick<'_>) -> Result<(), PathError> {
    match rename(from, to, RenameFlags::NOREPLACE, tick) {
        // Some filesystems know no flags. Nothing is there, which was looked at just now.
        Err(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP) if FileIdentity::of(to)?.is_none() => {
            fs::rename(from, to).at(from)
        }
        result => result.at(from),
    }
}

/// Brings what lies at `from` to `at`, and what is at `at` to `away`.
fn bring(from: &Path, at: &Path, away: &Path, tick: Tick<'_>) -> Result<(), PathError> {
    match rename(from, at, RenameFlags::EXCHANGE, tick) {
        Ok(()) if from == away => Ok(()),
        Ok(()) => put(from, away, tick),
        Err(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP) => {
            put(at, away, tick)?;
            put(from, at, tick)
        }
        Err(errno) => Err(PathError::new(at, errno)),
    }
}

/// Where the two states of a name are when they are not in place.
struct Homes {
    at: PathBuf,
    old: PathBuf,
    new: PathBuf,
}

impl SwapTarget {
    pub(super) fn arena(&self) -> PathBuf {
        path_of(&self.arena)
    }

    pub(super) fn place(&self) -> PathBuf {
        path_of(&self.place)
    }

    fn homes(&self, name: &PathName) -> Homes {
        let (name, arena) = (path_of(name), self.arena());
        Homes { at: self.place().join(&name), old: arena.join(OLD).join(&name), new: arena.join(NEW).join(&name) }
    }

    fn forward(&self, tick: Tick<'_>) -> Result<(), SwapError> {
        for name in &self.names {
            let homes = self.homes(&name.name);
            let here = FileIdentity::of(&homes.at)?;
            if here != name.new {
                if here.is_some() && here != name.old {
                    return Err(SwapError::Foreign(homes.at));
                }
                match (name.new, here) {
                    (Some(new), _) if FileIdentity::of(&homes.new)? != Some(new) => {
                        return Err(SwapError::Lost { at: homes.at, from: homes.new });
                    }
                    (Some(_), Some(_)) => bring(&homes.new, &homes.at, &homes.old, tick)?,
                    (Some(_), None) => put(&homes.new, &homes.at, tick)?,
                    (None, _) => put(&homes.at, &homes.old, tick)?,
                }
            }
            if name.old.is_some() && FileIdentity::of(&homes.new)? == name.old {
                put(&homes.new, &homes.old, tick)?;
            }
            set_time(&homes.at, name.new_time);
        }
        if let Some(root) = &self.new_root {
            write::set_attributes(&self.place(), root).at(self.place())?;
        }
        Ok(())
    }

    /// Whatever is in place and not of the old state is taken for the new one: the application may have run on it.
    fn back(&self, tick: Tick<'_>) -> Result<(), SwapError> {
        for name in &self.names {
            let homes = self.homes(&name.name);
            let here = FileIdentity::of(&homes.at)?;
            if here != name.old {
                let from = match name.old {
                    None => None,
                    old if FileIdentity::of(&homes.old)? == old => Some(&homes.old),
                    old if FileIdentity::of(&homes.new)? == old => Some(&homes.new),
                    Some(_) => return Err(SwapError::Lost { at: homes.at, from: homes.old }),
                };
                match (from, here) {
                    (Some(from), Some(_)) => bring(from, &homes.at, &homes.new, tick)?,
                    (Some(from), None) => put(from, &homes.at, tick)?,
                    (None, _) => put(&homes.at, &homes.new, tick)?,
                }
            }
            if name.new.is_some() && FileIdentity::of(&homes.old)? == name.new {
                put(&homes.old, &homes.new, tick)?;
            }
            set_time(&homes.at, name.old_time);
        }
        if self.inside.is_some() {
            self.take_out_what_came(tick)?;
        }
        if let Some(root) = &self.old_root {
            write::set_attributes(&self.place(), root).at(self.place())?;
        }
        Ok(())
    }

    /// What was made in the root since the swap is of the new state.
    fn take_out_what_came(&self, tick: Tick<'_>) -> Result<(), SwapError> {
        let (place, arena) = (self.place(), self.arena());
        for entry in fs::read_dir(&place).at(&place)? {
            let name = entry.at(&place)?.file_name();
            let path = place.join(&name);
            let is_it = |known: &PathName| known.as_bytes() == name.as_bytes();
            let known = self.names.iter().any(|known| is_it(&known.name)) || self.stays.iter().any(is_it);
            if path != arena && !known && !gullet_capture::part::is_arena(&path) {
                put(&path, &arena.join(NEW).join(&name), tick)?;
            }
        }
        Ok(())
    }
}

/// Makes the folders above `path` below `top`, each like the one of the old state in the same place.
fn make_above(path: &Path, like: &Path) -> Result<(), PathError> {
    let Some(folder) = path.parent() else { return Ok(()) };
    if folder.exists() {
        return Ok(());
    }
    let like = like.parent().unwrap_or(like);
    make_above(folder, like)?;
    fs::create_dir(folder).at(folder)?;
    let meta = fs::metadata(like).at(like)?;
    std::os::unix::fs::chown(folder, Some(meta.uid()), Some(meta.gid())).at(folder)?;
    fs::set_permissions(folder, fs::Permissions::from_mode(meta.mode() & 0o7777)).at(folder)
}

impl Swap {
    /// Puts the new state in place.
    ///
    /// # Errors
    /// When something is not where it should be; what was done so far stays, and either direction can be called again.
    pub(super) fn forward(&self, tick: Tick<'_>) -> Result<(), SwapError> {
        for carried in &self.carried {
            let (from, to) = (path_of(&carried.from), path_of(&carried.to));
            // Where the new state is in place already it is there with it, under the same name.
            if !self.is_new(&from)? && FileIdentity::of(&from)? == Some(carried.identity) {
                make_above(&to, &from)?;
                put(&from, &to, tick)?;
                set_time(&to, carried.time);
            }
        }
        self.new_times.iter().for_each(FolderTime::set);
        for target in &self.targets {
            target.forward(tick)?;
        }
        self.sync()
    }

    /// Puts the old state back.
    ///
    /// # Errors
    /// As [`Swap::forward`].
    pub(super) fn back(&self, tick: Tick<'_>) -> Result<(), SwapError> {
        for target in self.targets.iter().rev() {
            target.back(tick)?;
        }
        for carried in self.carried.iter().rev() {
            let (from, to) = (path_of(&carried.from), path_of(&carried.to));
            // The application may have written it anew, or removed it.
            if FileIdentity::of(&from)?.is_none() && FileIdentity::of(&to)?.is_some() {
                put(&to, &from, tick)?;
                set_time(&from, carried.time);
            }
        }
        self.old_times.iter().for_each(FolderTime::set);
        // What got something gives it back, and is as it was written.
        self.new_times.iter().for_each(FolderTime::set);
        for target in &self.targets {
            if let Some(root) = &target.old_root {
                write::set_attributes(&target.place(), root).at(target.place())?;
            }
        }
        self.sync()
    }

    /// Whether what is at a path belongs to the new state.
    fn is_new(&self, path: &Path) -> Result<bool, PathError> {
        for target in &self.targets {
            let Ok(below) = path.strip_prefix(target.place()) else { continue };
            for name in &target.names {
                let at = path_of(&name.name);
                if below.starts_with(&at) {
                    return Ok(name.new.is_some() && FileIdentity::of(&target.place().join(at))? == name.new);
                }
            }
        }
        Ok(false)
    }

    fn sync(&self) -> Result<(), SwapError> {
        for target in &self.targets {
            let place = target.place();
            let folder = fs::File::open(&place).at(&place)?;
            rustix::fs::syncfs(&folder).at(&place)?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests;
