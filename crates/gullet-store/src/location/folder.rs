//! Objects as files below a folder of a local filesystem.
//!
//! The folder is opened once, as a descriptor, and everything is read and written relative to it: where its filesystem is
//! unmounted meanwhile, nothing goes to whatever lies below the mount point. Before anything is published, and whenever
//! [`Location::confirm`] asks, the path must still lead to that same folder. Folders and files are private to the account,
//! because a store that is not encrypted holds what other accounts may not read.

use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use rustix::fs::{Advice, AtFlags, Dir, FileType, FlockOperation, Mode, OFlags, RenameFlags};

use super::{INCOMING, Location, NewObject, ObjectInfo, SeekRead, checked, flattened, free_space};
use crate::error::{IoPath, PathError, StoreError};
use crate::hash::{Hash, Hasher};

/// A folder with so many folders in it is walked by several threads at once.
const MANY_FOLDERS: usize = 512;
/// So many threads.
const WALKERS: usize = 4;

/// A file that is younger than this may not be locked by its writer yet.
const JUST_MADE: Duration = Duration::from_secs(2);

/// Objects as files below a folder of a local filesystem.
#[derive(Clone, Debug)]
pub struct Folder {
    root: PathBuf,
    opened: Arc<OnceLock<OpenFolder>>,
    /// Makes a file durable.
    sync: fn(&File) -> io::Result<()>,
}

/// The folder as it was when it was first used.
#[derive(Debug)]
struct OpenFolder {
    /// Keeps the folder, and the filesystem that it is on, from going away.
    descriptor: File,
    /// Device and inode of the folder.
    identity: (u64, u64),
}

impl OpenFolder {
    fn at(root: &Path) -> io::Result<Self> {
        let descriptor = File::open(root)?;
        let meta = descriptor.metadata()?;
        if !meta.is_dir() {
            return Err(io::Error::from(io::ErrorKind::NotADirectory));
        }
        Ok(Self { identity: (meta.dev(), meta.ino()), descriptor })
    }

    /// The folder, wherever its path leads to now.
    fn path(&self) -> PathBuf {
        PathBuf::from(format!("/proc/self/fd/{}", self.descriptor.as_raw_fd()))
    }
}

impl Folder {
    /// The folder `root`, which need not exist yet.
    pub fn new(root: impl Into<PathBuf>) -> Self {
        Self { root: root.into(), opened: Arc::default(), sync: File::sync_all }
    }

    /// The folder itself.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// The opened folder; `None` where it does not exist.
    fn opened(&self) -> Result<Option<&OpenFolder>, StoreError> {
        if let Some(opened) = self.opened.get() {
            return Ok(Some(opened));
        }
        match OpenFolder::at(&self.root) {
            Ok(opened) => Ok(Some(self.opened.get_or_init(|| opened))),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(PathError::new(&self.root, error).into()),
        }
    }

    /// Where an object is reached, and where a person would find it; `None` where the folder does not exist.
    fn path(&self, name: &str) -> Result<Option<(PathBuf, PathBuf)>, StoreError> {
        let name = checked(name)?;
        Ok(self.opened()?.map(|opened| (opened.path().join(name), self.root.join(name))))
    }

    fn existing(&self, name: &str) -> Result<(PathBuf, PathBuf), StoreError> {
        self.path(name)?.ok_or_else(|| StoreError::Missing { name: name.to_owned() })
    }

    /// Adds every object below an opened folder; each folder is opened relative to the one above it. Lengths are asked only where
    /// they are wanted.
    fn walk(
        &self,
        folder: OwnedFd,
        name: &str,
        wants_lengths: bool,
        found: &mut Vec<ObjectInfo>,
    ) -> Result<(), StoreError> {
        let shown = |name: &str| self.root.join(name);
        let mut folders: Vec<String> = Vec::new();
        let mut entries = Dir::new(folder).map_err(io::Error::from).at(shown(name))?;
        while let Some(entry) = entries.read() {
            let entry = entry.map_err(io::Error::from).at(shown(name))?;
            let Ok(file_name) = entry.file_name().to_str() else { continue };
            if file_name.starts_with('.') {
                continue;
            }
            let child = if name.is_empty() { file_name.to_owned() } else { format!("{name}/{file_name}") };
            let parent = entries.fd().map_err(io::Error::from).at(shown(name))?;
            let stat = || rustix::fs::statat(parent, entry.file_name(), AtFlags::SYMLINK_NOFOLLOW);
            let (mut kind, mut length) = (entry.file_type(), 0);
            if kind == FileType::Unknown || (kind == FileType::RegularFile && wants_lengths) {
                let stat = stat().map_err(io::Error::from).at(shown(&child))?;
                kind = FileType::from_raw_mode(stat.st_mode);
                length = u64::try_from(stat.st_size).unwrap_or(0);
            }
            if kind == FileType::Directory {
                folders.push(file_name.to_owned());
            } else if kind == FileType::RegularFile {
                found.push(ObjectInfo { name: child, length });
            }
        }
        let parent = entries.fd().map_err(io::Error::from).at(shown(name))?;
        let below = |file_names: &[String], found: &mut Vec<ObjectInfo>| {
            for file_name in file_names {
                let child = if name.is_empty() { file_name.clone() } else { format!("{name}/{file_name}") };
                if let Some(folder) = open_folder(parent, file_name.as_str()).at(shown(&child))? {
                    self.walk(folder, &child, wants_lengths, found)?;
                }
            }
            Ok(())
        };
        if folders.len() < MANY_FOLDERS {
            return below(&folders, found);
        }
        // Remarks lie in a folder for each run: thousands, each with little in it.
        let walked: Vec<Result<Vec<ObjectInfo>, StoreError>> = std::thread::scope(|scope| {
            let walk = |names| {
                let below = &below;
                scope.spawn(move || {
                    let mut found = Vec::new();
                    below(names, &mut found).map(|()| found)
                })
            };
            let walks: Vec<_> = folders.chunks(folders.len().div_ceil(WALKERS)).map(walk).collect();
            walks.into_iter().map(|walk| walk.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))).collect()
        });
        for some in walked {
            found.append(&mut some?);
        }
        Ok(())
    }

    /// Every object whose name begins with `prefix`, sorted.
    fn walk_prefix(&self, prefix: &str, wants_lengths: bool) -> Result<Vec<ObjectInfo>, StoreError> {
        let mut found = Vec::new();
        let name = prefix.trim_end_matches('/');
        let Some(opened) = self.opened()? else { return Ok(found) };
        let path = if name.is_empty() { "." } else { checked(name)? };
        if let Some(folder) = open_folder(&opened.descriptor, path).at(self.root.join(name))? {
            self.walk(folder, name, wants_lengths, &mut found)?;
        }
        found.sort();
        Ok(found)
    }
}

/// Opens a folder relative to another; `None` where it does not exist.
fn open_folder(above: impl AsFd, name: impl rustix::path::Arg) -> io::Result<Option<OwnedFd>> {
    match rustix::fs::openat(above, name, OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty()) {
        Ok(folder) => Ok(Some(folder)),
        Err(rustix::io::Errno::NOENT) => Ok(None),
        Err(error) => Err(error.into()),
    }
}

/// Opens a file to read it. What lies there under its name may be a pipe or a device by now, which would never end, or never begin.
fn open_file(path: &Path) -> io::Result<File> {
    let flags = i32::try_from(OFlags::NONBLOCK.bits()).unwrap_or(0);
    let file = File::options().read(true).custom_flags(flags).open(path)?;
    if file.metadata()?.is_file() {
        Ok(file)
    } else {
        Err(io::Error::new(io::ErrorKind::InvalidData, "it is not a file"))
    }
}

/// Whether nobody is writing a file any more: nobody has its lock; and, where it is not known that its writer is dead, it was not
/// just made, when its maker may not have come to taking the lock.
fn is_abandoned(path: &Path, is_dead: bool) -> bool {
    let Ok(file) = open_file(path) else { return false };
    let age = file.metadata().and_then(|meta| meta.modified()).map(|at| at.elapsed().unwrap_or_default());
    (is_dead || age.is_ok_and(|age| age >= JUST_MADE))
        && rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive).is_ok()
}

fn missing_or_io(error: io::Error, name: &str, shown: &Path) -> StoreError {
    if error.kind() == io::ErrorKind::NotFound {
        StoreError::Missing { name: name.to_owned() }
    } else {
        PathError::new(shown, error).into()
    }
}

/// Makes a folder's own entries durable.
fn sync_folder(path: &Path) -> io::Result<()> {
    File::open(path).and_then(|folder| folder.sync_all())
}

/// Makes `path` and every missing folder above it, each private and durable in its parent. Another process may do the same.
fn make_folders(path: &Path) -> io::Result<()> {
    if path.is_dir() {
        return Ok(());
    }
    if let Some(parent) = path.parent() {
        make_folders(parent)?;
    }
    match fs::DirBuilder::new().mode(0o700).create(path) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists && path.is_dir() => {}
        other => other?,
    }
    // Also where another process made it: it may not have come to this yet.
    path.parent().map_or(Ok(()), sync_folder)
}

impl Location for Folder {
    fn describe(&self) -> String {
        self.root.display().to_string()
    }

    fn confirm(&self) -> Result<(), StoreError> {
        let Some(opened) = self.opened.get() else { return Ok(()) };
        match fs::metadata(&self.root) {
            Ok(meta) if (meta.dev(), meta.ino()) == opened.identity => Ok(()),
            Ok(_) => Err(StoreError::Moved { place: self.describe() }),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Err(StoreError::Moved { place: self.describe() }),
            Err(error) => Err(PathError::new(&self.root, error).into()),
        }
    }

    fn prepare(&self) -> Result<(), StoreError> {
        Ok(make_folders(&self.root).at(&self.root)?)
    }

    fn list(&self, prefix: &str) -> Result<Vec<ObjectInfo>, StoreError> {
        self.walk_prefix(prefix, true)
    }

    fn names(&self, prefix: &str) -> Result<Vec<String>, StoreError> {
        Ok(self.walk_prefix(prefix, false)?.into_iter().map(|object| object.name).collect())
    }

    fn length(&self, name: &str) -> Result<Option<u64>, StoreError> {
        let Some((path, shown)) = self.path(name)? else { return Ok(None) };
        match fs::symlink_metadata(&path) {
            Ok(meta) => Ok(Some(meta.len())),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(PathError::new(shown, error).into()),
        }
    }

    fn open(&self, name: &str) -> Result<Box<dyn SeekRead>, StoreError> {
        let (path, shown) = self.existing(name)?;
        Ok(Box::new(open_file(&path).map_err(|error| missing_or_io(error, name, &shown))?))
    }

    fn create(&self, name: &str) -> Result<Box<dyn NewObject>, StoreError> {
        let Some(opened) = self.opened()? else {
            checked(name)?;
            return Err(StoreError::Moved { place: self.describe() });
        };
        let path = opened.path().join(checked(name)?);
        if path.symlink_metadata().is_ok() {
            return Err(StoreError::Exists { name: name.to_owned() });
        }
        self.confirm()?;
        let incoming = opened.path().join(INCOMING);
        make_folders(&incoming).at(self.root.join(INCOMING))?;
        // Most names are unique already; a few, such as a machine's registration, several processes may write at once.
        static NUMBER: AtomicU64 = AtomicU64::new(0);
        let number = NUMBER.fetch_add(1, Ordering::Relaxed);
        let temporary = format!("{}.{}-{number}", flattened(name), std::process::id());
        let shown = self.root.join(INCOMING).join(&temporary);
        let temporary = incoming.join(temporary);
        let file = File::options().read(true).write(true).create_new(true).mode(0o600).open(&temporary).at(&shown)?;
        // Kept while it is written, so that what a dead writer left can be told from what is being written. Where a filesystem
        // knows no locks nothing is discarded.
        let _ = rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive);
        let folder = self.clone();
        Ok(Box::new(NewFile { folder, name: name.to_owned(), path, temporary, shown, file, published: false }))
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        let (path, shown) = self.existing(name)?;
        self.confirm()?;
        fs::remove_file(&path).map_err(|error| missing_or_io(error, name, &shown))
    }

    fn discard_unpublished(&self, prefix: &str, is_dead: bool) -> Result<(), StoreError> {
        let Some(opened) = self.opened()? else { return Ok(()) };
        let prefix = flattened(prefix);
        for entry in fs::read_dir(opened.path().join(INCOMING)).into_iter().flatten().flatten() {
            if entry.file_name().to_string_lossy().starts_with(&prefix) && is_abandoned(&entry.path(), is_dead) {
                fs::remove_file(entry.path()).at(self.root.join(INCOMING).join(entry.file_name()))?;
            }
        }
        Ok(())
    }

    fn free_space(&self) -> Result<Option<u64>, StoreError> {
        match self.opened()? {
            Some(opened) => Ok(Some(free_space(&opened.path())?)),
            None => Ok(None),
        }
    }
}

struct NewFile {
    folder: Folder,
    name: String,
    path: PathBuf,
    temporary: PathBuf,
    /// Where a person would find the temporary file.
    shown: PathBuf,
    file: File,
    published: bool,
}

impl NewFile {
    /// Writes what could not be made durable into a new file, and makes that durable. After such an error the kernel takes the
    /// pages for clean, so that doing the same again would prove nothing: what can still be read must be what was written.
    fn write_anew(&mut self, blake3: Hash) -> io::Result<()> {
        let temporary = self.temporary.with_extension("anew");
        let mut file = File::options().read(true).write(true).create_new(true).mode(0o600).open(&temporary)?;
        let old = std::mem::replace(&mut self.temporary, temporary);
        self.file.seek(SeekFrom::Start(0))?;
        let mut hasher = Hasher::default();
        let mut buffer = vec![0; 1 << 18];
        loop {
            let read = self.file.read(&mut buffer)?;
            if read == 0 {
                break;
            }
            hasher.update(&buffer[..read]);
            file.write_all(&buffer[..read])?;
        }
        self.file = file;
        let _ = fs::remove_file(old);
        if hasher.finish() != blake3 {
            return Err(io::Error::other("what was written is lost"));
        }
        (self.folder.sync)(&self.file)
    }
}

impl Write for NewFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.file.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

impl NewObject for NewFile {
    fn publish(mut self: Box<Self>, blake3: Hash) -> Result<(), StoreError> {
        if let Err(error) = (self.folder.sync)(&self.file) {
            // What is told is the first error: the second may only follow from it.
            self.write_anew(blake3).map_err(|_| error).at(&self.shown)?;
        }
        // Reading back must prove the disk, not the page cache: the pages are clean now and can be let go.
        let _ = rustix::fs::fadvise(&self.file, 0, None, Advice::DontNeed);
        let parent = self.path.parent().unwrap_or(Path::new("/")).to_path_buf();
        let shown = self.folder.root.join(&self.name);
        make_folders(&parent).at(&shown)?;
        self.folder.confirm()?;
        let cwd = rustix::fs::CWD;
        let renamed = rustix::fs::renameat_with(cwd, &self.temporary, cwd, &self.path, RenameFlags::NOREPLACE);
        match renamed {
            Ok(()) => {}
            Err(rustix::io::Errno::EXIST) => return Err(StoreError::Exists { name: self.name.clone() }),
            // Some network filesystems cannot rename without replacing; names are unique, so a look beforehand is enough.
            Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS | rustix::io::Errno::NOTSUP) => {
                if self.path.symlink_metadata().is_ok() {
                    return Err(StoreError::Exists { name: self.name.clone() });
                }
                fs::rename(&self.temporary, &self.path).at(&shown)?;
            }
            Err(errno) => return Err(PathError::new(&shown, errno).into()),
        }
        self.published = true;
        Ok(sync_folder(&parent).at(&shown)?)
    }
}

impl Drop for NewFile {
    fn drop(&mut self) {
        if !self.published {
            let _ = fs::remove_file(&self.temporary);
        }
    }
}

#[cfg(test)]
mod tests;
