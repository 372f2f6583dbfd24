//! One entry of a listing onto the filesystem.
//!
//! A store may be hostile. Every path is opened component by component below the target folder, and no link is ever
//! followed: a listing that makes a link and then writes through it fails at that entry. Nothing that exists is
//! overwritten, and a file whose bytes cannot all be proven is removed again.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs::File;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::FileExt;
use std::path::Path;

use data_encoding::BASE64;
use gullet_store::listing::{Entry, Kind, PathName};
use gullet_store::{ChunkReader, IoPath, PathError, StoreError};
use rustix::fs::{AtFlags, FileType, Gid, Mode, OFlags, ResolveFlags, Timespec, Timestamps, Uid, XattrFlags, makedev};
use rustix::io::Errno;

/// An entry could not be restored.
#[derive(Debug, thiserror::Error)]
pub(super) enum WriteError {
    #[error("a link stands in the way; nothing is written through it")]
    Link,
    #[error("the system says")]
    System(#[source] std::io::Error),
    #[error("its bytes are lost")]
    Bytes(#[source] StoreError),
    #[error("its bytes do not add up to its length: {found} of {expected}")]
    Length { found: u64, expected: u64 },
}

impl WriteError {
    /// Whether the store has lost what is to be written.
    pub(super) fn is_damage(&self) -> bool {
        match self {
            Self::Bytes(error) => error.is_damage(),
            Self::Length { .. } => true,
            Self::Link | Self::System(_) => false,
        }
    }
}

impl From<StoreError> for WriteError {
    fn from(error: StoreError) -> Self {
        Self::Bytes(error)
    }
}

impl From<Errno> for WriteError {
    fn from(errno: Errno) -> Self {
        if errno == Errno::LOOP || errno == Errno::XDEV { Self::Link } else { Self::System(errno.into()) }
    }
}

/// The folder that a part is restored below.
pub(super) struct Target {
    root: OwnedFd,
    /// The folder that was written into last; listings come folder by folder.
    at_hand: Option<(Vec<u8>, OwnedFd)>,
    /// Folders whose attributes are set when everything is in them.
    pub(super) folders: Vec<Entry>,
    /// What could not be set: how many times, and the first path.
    pub(super) not_set: BTreeMap<String, (u64, String)>,
    /// Files with set-uid or set-gid, and devices: how many, and the first.
    pub(super) powerful: Option<(u64, String)>,
}

const FOLDER: OFlags = OFlags::DIRECTORY.union(OFlags::CLOEXEC).union(OFlags::NOFOLLOW);

/// Opens a path below `root`, never leaving it and never through a link.
fn open_below(root: &OwnedFd, path: &[u8], flags: OFlags) -> Result<OwnedFd, Errno> {
    let path = if path.is_empty() { b".".as_slice() } else { path };
    let resolve = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
    rustix::fs::openat2(root, OsStr::from_bytes(path), flags, Mode::empty(), resolve)
}

/// What a new file or folder may get from the folder it is made in: POSIX access control lists, acl(5).
const INHERITED: [&str; 2] = ["system.posix_acl_access", "system.posix_acl_default"];

/// Removes what a file or folder got that way, but for what is meant to be there. Gives the last error.
fn disinherit(file: &OwnedFd, is_meant: impl Fn(&str) -> bool) -> Result<(), Errno> {
    let mut result = Ok(());
    for name in INHERITED.into_iter().filter(|name| !is_meant(name)) {
        match rustix::fs::fremovexattr(file, name) {
            Ok(()) | Err(Errno::NODATA | Errno::NOTSUP) => {}
            Err(errno) => result = Err(errno),
        }
    }
    result
}

fn split(path: &PathName) -> (&[u8], &OsStr) {
    let bytes = path.as_bytes();
    match bytes.iter().rposition(|byte| *byte == b'/') {
        Some(at) => (&bytes[..at], OsStr::from_bytes(&bytes[at + 1..])),
        None => (b"", OsStr::from_bytes(bytes)),
    }
}

impl Target {
    pub(super) fn open(root: &Path) -> Result<Self, PathError> {
        let root = rustix::fs::open(root, FOLDER, Mode::empty()).at(root)?;
        Ok(Self { root, at_hand: None, folders: Vec::new(), not_set: BTreeMap::new(), powerful: None })
    }

    /// Opens a folder below the root, making what is missing of it.
    fn folder(&mut self, path: &[u8]) -> Result<&OwnedFd, WriteError> {
        if self.at_hand.as_ref().is_none_or(|(at, _)| at != path) {
            let mut open = open_below(&self.root, path, FOLDER);
            if matches!(open, Err(Errno::NOENT)) {
                self.make_all(path)?;
                open = open_below(&self.root, path, FOLDER);
            }
            self.at_hand = Some((path.to_vec(), open?));
        }
        match &self.at_hand {
            Some((_, folder)) => Ok(folder),
            None => Err(WriteError::Link),
        }
    }

    fn make_all(&self, path: &[u8]) -> Result<(), WriteError> {
        let mut at = open_below(&self.root, b"", FOLDER)?;
        for part in path.split(|byte| *byte == b'/') {
            let name = OsStr::from_bytes(part);
            let is_made = match rustix::fs::mkdirat(&at, name, Mode::from_raw_mode(0o755)) {
                Ok(()) => true,
                Err(Errno::EXIST) => false,
                Err(errno) => return Err(errno.into()),
            };
            at = rustix::fs::openat(&at, name, FOLDER, Mode::empty())?;
            if is_made {
                let _ = disinherit(&at, |_| false);
                let _ = rustix::fs::fchmod(&at, Mode::from_raw_mode(0o755));
            }
        }
        Ok(())
    }

    /// Restores one entry; gives the bytes written.
    pub(super) fn write(&mut self, entry: &Entry, chunks: &mut ChunkReader) -> Result<u64, WriteError> {
        let (above, name) = split(&entry.path);
        if entry.kind == Kind::Folder {
            let folder = self.folder(above)?;
            match rustix::fs::mkdirat(folder, name, Mode::from_raw_mode(0o700)) {
                Ok(()) | Err(Errno::EXIST) => {}
                Err(errno) => return Err(errno.into()),
            }
            // It may have been there already, as something else.
            rustix::fs::openat(folder, name, FOLDER, Mode::empty())?;
            self.folders.push(entry.clone());
            return Ok(0);
        }
        if let Some(first) = &entry.same_as {
            return self.another_name(entry, first);
        }
        let folder = self.folder(above)?;
        match entry.kind {
            Kind::File => {
                let flags = OFlags::CREATE | OFlags::EXCL | OFlags::RDWR | OFlags::CLOEXEC | OFlags::NOFOLLOW;
                let file = File::from(rustix::fs::openat(folder, name, flags, Mode::from_raw_mode(0o600))?);
                match contents(&file, entry, chunks) {
                    Ok(bytes) => {
                        self.attributes(entry, &OwnedFd::from(file));
                        Ok(bytes)
                    }
                    Err(error) => {
                        let _ = rustix::fs::unlinkat(folder, name, AtFlags::empty());
                        Err(error)
                    }
                }
            }
            Kind::Symlink => {
                let target = entry.target.clone().unwrap_or_default();
                rustix::fs::symlinkat(OsStr::from_bytes(target.as_bytes()), folder, name)?;
                self.attributes_of_name(entry);
                Ok(0)
            }
            Kind::Fifo | Kind::Socket | Kind::CharDevice | Kind::BlockDevice => {
                let kind = match entry.kind {
                    Kind::Fifo => FileType::Fifo,
                    Kind::Socket => FileType::Socket,
                    Kind::CharDevice => FileType::CharacterDevice,
                    _ => FileType::BlockDevice,
                };
                let (major, minor) = entry.device.unwrap_or((0, 0));
                rustix::fs::mknodat(folder, name, kind, Mode::from_raw_mode(0o600), makedev(major, minor))?;
                self.attributes_of_name(entry);
                Ok(0)
            }
            Kind::Folder => Ok(0),
        }
    }

    fn another_name(&mut self, entry: &Entry, first: &PathName) -> Result<u64, WriteError> {
        if !first.is_plain() {
            return Err(WriteError::Link);
        }
        let (first_above, first_name) = split(first);
        let from = open_below(&self.root, first_above, FOLDER)?;
        let (above, name) = split(&entry.path);
        let folder = self.folder(above)?;
        rustix::fs::linkat(&from, first_name, folder, name, AtFlags::empty())?;
        Ok(0)
    }

    fn could_not(&mut self, what: &str, entry: &Entry, errno: Errno) {
        self.not_set(format!("{what} ({errno})"), entry);
    }

    fn not_set(&mut self, what: String, entry: &Entry) {
        self.not_set.entry(what).or_insert_with(|| (0, entry.path.to_string())).0 += 1;
    }

    fn powerful(&mut self, entry: &Entry) {
        self.powerful.get_or_insert_with(|| (0, entry.path.to_string())).0 += 1;
    }

    /// Sets what an open file or folder has besides contents. The owner comes first: changing it clears set-uid.
    fn attributes(&mut self, entry: &Entry, file: &OwnedFd) {
        let owner = rustix::fs::fchown(file, Some(Uid::from_raw(entry.uid)), Some(Gid::from_raw(entry.gid)));
        if let Err(errno) = owner {
            self.could_not("owner", entry, errno);
        }
        let owned = owner.is_ok();
        // What a folder hands down by its default access list is not what was captured, and may let others in.
        if let Err(errno) = disinherit(file, |name| entry.xattrs.contains_key(name)) {
            self.could_not("an access list that was inherited could not be removed, so that attribute", entry, errno);
        }
        // A set-uid file of somebody else's must not become one of ours.
        let mode = if owned { entry.mode } else { entry.mode & 0o1777 };
        if mode != entry.mode {
            self.could_not("set-uid and set-gid bits", entry, Errno::PERM);
        }
        if let Err(errno) = rustix::fs::fchmod(file, Mode::from_raw_mode(mode)) {
            self.could_not("mode", entry, errno);
        }
        if entry.kind == Kind::File && mode & 0o6000 != 0 {
            self.powerful(entry);
        }
        // What cannot be changed could neither be undone nor removed.
        for flag in &entry.flags {
            self.not_set(format!("the flag `{flag}`, which is left to chattr,"), entry);
        }
        for (name, value) in &entry.xattrs {
            let value = BASE64.decode(value.as_bytes()).unwrap_or_default();
            if let Err(errno) = rustix::fs::fsetxattr(file, name.as_str(), &value, XattrFlags::empty()) {
                self.could_not(&format!("extended attribute {name}"), entry, errno);
            }
        }
        if let Err(errno) = rustix::fs::futimens(file, &times(entry)) {
            self.could_not("time", entry, errno);
        }
    }

    /// The same for what cannot be opened: links, pipes, sockets, devices.
    fn attributes_of_name(&mut self, entry: &Entry) {
        let (_, name) = split(&entry.path);
        let Some((_, folder)) = self.at_hand.take() else { return };
        let (uid, gid) = (Some(Uid::from_raw(entry.uid)), Some(Gid::from_raw(entry.gid)));
        if let Err(errno) = rustix::fs::chownat(&folder, name, uid, gid, AtFlags::SYMLINK_NOFOLLOW) {
            self.could_not("owner", entry, errno);
        }
        if entry.kind != Kind::Symlink {
            // Pipes, sockets and devices cannot be opened here; by the folder they can be reached.
            let path = format!("/proc/self/fd/{}", std::os::fd::AsRawFd::as_raw_fd(&folder));
            let _ = rustix::fs::lremovexattr(Path::new(&path).join(name), INHERITED[0]);
        }
        if entry.kind != Kind::Symlink
            && let Err(errno) = rustix::fs::chmodat(&folder, name, Mode::from_raw_mode(entry.mode), AtFlags::empty())
        {
            self.could_not("mode", entry, errno);
        }
        if matches!(entry.kind, Kind::CharDevice | Kind::BlockDevice) {
            self.powerful(entry);
        }
        for attribute in entry.xattrs.keys() {
            self.could_not(&format!("extended attribute {attribute}"), entry, Errno::NOTSUP);
        }
        if let Err(errno) = rustix::fs::utimensat(&folder, name, &times(entry), AtFlags::SYMLINK_NOFOLLOW) {
            self.could_not("time", entry, errno);
        }
    }

    /// Sets the attributes of folders, the innermost first.
    pub(super) fn finish(&mut self) {
        self.at_hand = None;
        for entry in std::mem::take(&mut self.folders).into_iter().rev() {
            match open_below(&self.root, entry.path.as_bytes(), FOLDER) {
                Ok(folder) => self.attributes(&entry, &folder),
                Err(errno) => self.could_not("attributes of a folder", &entry, errno),
            }
        }
    }
}

/// Makes a folder and what is missing above it, without what the folder around them would hand down.
///
/// # Errors
/// When it cannot be made.
pub(super) fn make_folders(path: &Path) -> Result<(), PathError> {
    if path.is_dir() {
        return Ok(());
    }
    if let Some(above) = path.parent() {
        make_folders(above)?;
    }
    match std::fs::create_dir(path) {
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => return Ok(()),
        other => other.at(path)?,
    }
    let folder = rustix::fs::open(path, FOLDER, Mode::empty()).at(path)?;
    disinherit(&folder, |_| false).at(path)?;
    rustix::fs::fchmod(&folder, Mode::from_raw_mode(0o755)).at(path)
}

/// What a folder has besides contents, as an entry without a path.
pub(super) fn look(folder: &Path) -> Result<Entry, PathError> {
    let meta = std::fs::metadata(folder).at(folder)?;
    let mut entry = gullet_capture::part::entry_of(PathName::new("root"), &meta);
    entry.xattrs = gullet_capture::part::xattrs_of(folder).at(folder)?.known;
    Ok(entry)
}

/// Gives a folder what an entry has besides contents, and nothing else.
pub(super) fn set_attributes(folder: &Path, entry: &Entry) -> Result<(), std::io::Error> {
    let file = rustix::fs::open(folder, FOLDER, Mode::empty())?;
    for name in gullet_capture::part::xattrs_of(folder)?.known.keys().filter(|name| !entry.xattrs.contains_key(*name)) {
        // What the system itself keeps there, such as a label, may not be removed.
        let _ = rustix::fs::fremovexattr(&file, name.as_str());
    }
    let mut target = Target {
        root: file.try_clone()?,
        at_hand: None,
        folders: Vec::new(),
        not_set: BTreeMap::new(),
        powerful: None,
    };
    target.attributes(entry, &file);
    match target.not_set.into_keys().next() {
        None => Ok(()),
        Some(what) => Err(std::io::Error::other(format!("{what} could not be set"))),
    }
}

fn times(entry: &Entry) -> Timestamps {
    let time = Timespec { tv_sec: entry.mtime.0, tv_nsec: entry.mtime.1.into() };
    Timestamps { last_access: time, last_modification: time }
}

/// Writes a file's chunks, each proven by its id.
fn contents(file: &File, entry: &Entry, chunks: &mut ChunkReader) -> Result<u64, WriteError> {
    let whole = [(0, entry.size)];
    let ranges: &[(u64, u64)] = entry.data.as_deref().unwrap_or(&whole);
    let expected: u64 = ranges.iter().map(|(_, length)| length).sum();
    let mut ranges = ranges.iter().copied();
    let mut range = ranges.next().unwrap_or((0, 0));
    let mut found = 0;
    entry.each_chunk(chunks, |id, chunks| {
        let bytes = chunks.get(id).map_err(WriteError::Bytes)?;
        found += bytes.len() as u64;
        let mut rest = bytes.as_slice();
        while !rest.is_empty() {
            while range.1 == 0 {
                range = ranges.next().ok_or(WriteError::Length { found, expected })?;
            }
            let length = rest.len().min(usize::try_from(range.1).unwrap_or(usize::MAX));
            file.write_all_at(&rest[..length], range.0).map_err(WriteError::System)?;
            range = (range.0 + length as u64, range.1 - length as u64);
            rest = &rest[length..];
        }
        Ok::<_, WriteError>(())
    })?;
    if found != expected {
        return Err(WriteError::Length { found, expected });
    }
    if entry.data.is_some() {
        file.set_len(entry.size).map_err(WriteError::System)?;
    }
    Ok(found)
}

#[cfg(test)]
mod tests;
