//! Where a store's objects lie.
//!
//! An object is written once under a unique name, is durable when [`NewObject::publish`] returns, and is never
//! overwritten. Names are relative paths of plain components, so that every kind of location can hold them.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use rustix::fs::{Advice, RenameFlags};

use crate::error::{IoPath, PathError, StoreError};
use crate::hash::{Hash, Hasher};

/// One object as a location lists it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct ObjectInfo {
    /// The object's name.
    pub name: String,
    /// Its length in bytes.
    pub length: u64,
}

/// What can be read from anywhere.
pub trait SeekRead: Read + Seek + Send {}

impl<T: Read + Seek + Send> SeekRead for T {}

/// A place that holds objects.
pub trait Location: Send + Sync {
    /// The place as a person would name it; absolute.
    fn describe(&self) -> String;
    /// Every object whose name begins with `prefix` (a folder with a trailing `/`, or empty for all), sorted by name.
    fn list(&self, prefix: &str) -> Result<Vec<ObjectInfo>, StoreError>;
    /// As [`Location::list`], the names alone; there are places where that is quicker.
    fn names(&self, prefix: &str) -> Result<Vec<String>, StoreError> {
        Ok(self.list(prefix)?.into_iter().map(|object| object.name).collect())
    }
    /// The length of an object, or `None` when it is not there.
    fn length(&self, name: &str) -> Result<Option<u64>, StoreError>;
    /// Reads an object from its beginning, or from anywhere in it.
    fn open(&self, name: &str) -> Result<Box<dyn SeekRead>, StoreError>;
    /// Begins a new object. Nothing is seen under the name before it is published.
    fn create(&self, name: &str) -> Result<Box<dyn NewObject>, StoreError>;
    /// Removes an object that this program wrote.
    fn remove(&self, name: &str) -> Result<(), StoreError>;
    /// Bytes that can still be written, where that is known.
    fn free_space(&self) -> Result<Option<u64>, StoreError>;

    /// Removes what a writer that died left of objects whose names begin with `prefix`, and never published.
    fn discard_unpublished(&self, prefix: &str) -> Result<(), StoreError> {
        let _ = prefix;
        Ok(())
    }

    /// A whole small object.
    fn read(&self, name: &str) -> Result<Vec<u8>, StoreError> {
        let mut bytes = Vec::new();
        self.open(name)?.read_to_end(&mut bytes).at(name)?;
        Ok(bytes)
    }

    /// Writes and publishes a whole small object.
    fn write(&self, name: &str, bytes: &[u8]) -> Result<(), StoreError> {
        let mut object = self.create(name)?;
        object.write_all(bytes).at(name)?;
        object.publish(Hash::of(bytes))
    }
}

/// An object that is being written; dropping it leaves no trace.
pub trait NewObject: Write + Send {
    /// Makes it durable under its name. An object of that name that is there already is an error, never replaced. `blake3` is of
    /// its bytes: where they could not be made durable they are written anew, once, and only if they are still those.
    fn publish(self: Box<Self>, blake3: Hash) -> Result<(), StoreError>;
}

/// Refuses names that could leave the store or mean something else elsewhere.
fn checked(name: &str) -> Result<&str, StoreError> {
    let plain = |part: &str| {
        !part.is_empty()
            && !part.starts_with('.')
            && part.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'-' | b'_'))
    };
    if name.split('/').all(plain) { Ok(name) } else { Err(StoreError::Name(name.to_owned())) }
}

/// Objects as files below a folder of a local filesystem.
#[derive(Clone, Debug)]
pub struct Folder {
    root: PathBuf,
    /// Makes a file durable.
    sync: fn(&File) -> io::Result<()>,
}

/// Where objects lie until they are published. The name cannot be an object's.
const INCOMING: &str = ".incoming";

impl Folder {
    /// The folder `root`, which need not exist yet.
    pub fn new(root: impl Into<PathBuf>) -> Self {
        Self { root: root.into(), sync: File::sync_all }
    }

    /// The folder itself.
    pub fn root(&self) -> &Path {
        &self.root
    }

    fn path(&self, name: &str) -> Result<PathBuf, StoreError> {
        Ok(self.root.join(checked(name)?))
    }

    /// Hands over every object below a folder, with its entry.
    fn walk(
        &self,
        folder: &Path,
        name: &str,
        each: &mut dyn FnMut(String, &fs::DirEntry) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        let entries = match fs::read_dir(folder) {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
            Err(error) => return Err(PathError::new(folder, error).into()),
        };
        for entry in entries {
            let entry = entry.at(folder)?;
            let Ok(file_name) = entry.file_name().into_string() else { continue };
            if file_name.starts_with('.') {
                continue;
            }
            let path = entry.path();
            let child = if name.is_empty() { file_name } else { format!("{name}/{file_name}") };
            let kind = entry.file_type().at(&path)?;
            if kind.is_dir() {
                self.walk(&path, &child, each)?;
            } else if kind.is_file() {
                each(child, &entry)?;
            }
        }
        Ok(())
    }
}

/// An object's name as the name of one file.
fn flattened(name: &str) -> String {
    name.replace('/', "+")
}

fn missing_or_io(error: io::Error, name: &str, path: &Path) -> StoreError {
    if error.kind() == io::ErrorKind::NotFound {
        StoreError::Missing { name: name.to_owned() }
    } else {
        PathError::new(path, error).into()
    }
}

/// Makes a folder's own entries durable.
fn sync_folder(path: &Path) -> Result<(), StoreError> {
    Ok(File::open(path).and_then(|folder| folder.sync_all()).at(path)?)
}

/// Makes `path` and every missing folder above it, each durable in its parent.
fn make_folders(path: &Path) -> Result<(), StoreError> {
    if path.is_dir() {
        return Ok(());
    }
    if let Some(parent) = path.parent() {
        make_folders(parent)?;
    }
    match fs::create_dir(path) {
        Ok(()) => path.parent().map_or(Ok(()), sync_folder),
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Ok(()),
        Err(error) => Err(PathError::new(path, error).into()),
    }
}

impl Location for Folder {
    fn describe(&self) -> String {
        self.root.display().to_string()
    }

    fn list(&self, prefix: &str) -> Result<Vec<ObjectInfo>, StoreError> {
        let name = prefix.trim_end_matches('/');
        let folder = if name.is_empty() { self.root.clone() } else { self.path(name)? };
        let mut found = Vec::new();
        self.walk(&folder, name, &mut |name, entry| {
            found.push(ObjectInfo { name, length: entry.metadata().at(entry.path())?.len() });
            Ok(())
        })?;
        found.sort();
        Ok(found)
    }

    fn names(&self, prefix: &str) -> Result<Vec<String>, StoreError> {
        let name = prefix.trim_end_matches('/');
        let folder = if name.is_empty() { self.root.clone() } else { self.path(name)? };
        let mut found = Vec::new();
        self.walk(&folder, name, &mut |name, _| {
            found.push(name);
            Ok(())
        })?;
        found.sort();
        Ok(found)
    }

    fn length(&self, name: &str) -> Result<Option<u64>, StoreError> {
        let path = self.path(name)?;
        match fs::symlink_metadata(&path) {
            Ok(meta) => Ok(Some(meta.len())),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(missing_or_io(error, name, &path)),
        }
    }

    fn open(&self, name: &str) -> Result<Box<dyn SeekRead>, StoreError> {
        let path = self.path(name)?;
        Ok(Box::new(File::open(&path).map_err(|e| missing_or_io(e, name, &path))?))
    }

    fn create(&self, name: &str) -> Result<Box<dyn NewObject>, StoreError> {
        let path = self.path(name)?;
        if path.exists() {
            return Err(StoreError::Exists { name: name.to_owned() });
        }
        let incoming = self.root.join(INCOMING);
        make_folders(&incoming)?;
        // Most names are unique already; a few, such as a writer's registration, several processes may write at once.
        static NUMBER: AtomicU64 = AtomicU64::new(0);
        let number = NUMBER.fetch_add(1, Ordering::Relaxed);
        let temporary = incoming.join(format!("{}.{}-{number}", flattened(name), std::process::id()));
        let file = File::options().read(true).write(true).create_new(true).open(&temporary).at(&temporary)?;
        Ok(Box::new(NewFile { name: name.to_owned(), path, temporary, file, sync: self.sync, published: false }))
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        let path = self.path(name)?;
        fs::remove_file(&path).map_err(|e| missing_or_io(e, name, &path))
    }

    fn discard_unpublished(&self, prefix: &str) -> Result<(), StoreError> {
        let incoming = self.root.join(INCOMING);
        let prefix = flattened(prefix);
        for entry in fs::read_dir(&incoming).into_iter().flatten().flatten() {
            if entry.file_name().to_string_lossy().starts_with(&prefix) {
                fs::remove_file(entry.path()).at(entry.path())?;
            }
        }
        Ok(())
    }

    fn free_space(&self) -> Result<Option<u64>, StoreError> {
        Ok(Some(free_space(&self.root)?))
    }
}

struct NewFile {
    name: String,
    path: PathBuf,
    temporary: PathBuf,
    file: File,
    sync: fn(&File) -> io::Result<()>,
    published: bool,
}

impl NewFile {
    /// Writes what could not be made durable into a new file, and makes that durable. After such an error the kernel takes the
    /// pages for clean, so that doing the same again would prove nothing: what can still be read must be what was written.
    fn write_anew(&mut self, blake3: Hash) -> io::Result<()> {
        let temporary = self.temporary.with_extension("anew");
        let mut file = File::options().read(true).write(true).create_new(true).open(&temporary)?;
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
        (self.sync)(&self.file)
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
        if let Err(error) = (self.sync)(&self.file) {
            // What is told is the first error: the second may only follow from it.
            self.write_anew(blake3).map_err(|_| error).at(&self.temporary)?;
        }
        // Reading back must prove the disk, not the page cache: the pages are clean now and can be let go.
        let _ = rustix::fs::fadvise(&self.file, 0, None, Advice::DontNeed);
        let folder = self.path.parent().unwrap_or(Path::new("/")).to_path_buf();
        make_folders(&folder)?;
        let cwd = rustix::fs::CWD;
        let renamed = rustix::fs::renameat_with(cwd, &self.temporary, cwd, &self.path, RenameFlags::NOREPLACE);
        match renamed {
            Ok(()) => {}
            Err(rustix::io::Errno::EXIST) => return Err(StoreError::Exists { name: self.name.clone() }),
            // Some network filesystems cannot rename without replacing; names are unique, so a look beforehand is enough.
            Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS | rustix::io::Errno::NOTSUP) => {
                if self.path.exists() {
                    return Err(StoreError::Exists { name: self.name.clone() });
                }
                fs::rename(&self.temporary, &self.path).at(&self.path)?;
            }
            Err(errno) => return Err(PathError::new(&self.path, errno).into()),
        }
        self.published = true;
        sync_folder(&folder)
    }
}

impl Drop for NewFile {
    fn drop(&mut self) {
        if !self.published {
            let _ = fs::remove_file(&self.temporary);
        }
    }
}

/// Objects in memory, for tests: the simple implementation beside the real one.
#[derive(Clone, Debug, Default)]
pub struct Memory {
    objects: Arc<Mutex<BTreeMap<String, Vec<u8>>>>,
}

impl Memory {
    fn objects(&self) -> MutexGuard<'_, BTreeMap<String, Vec<u8>>> {
        self.objects.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Changes an object behind the store's back, to prove that damage is found.
    pub fn tamper(&self, name: &str, change: impl FnOnce(&mut Vec<u8>)) {
        if let Some(bytes) = self.objects().get_mut(name) {
            change(bytes);
        }
    }
}

impl Location for Memory {
    fn describe(&self) -> String {
        "memory".to_owned()
    }

    fn list(&self, prefix: &str) -> Result<Vec<ObjectInfo>, StoreError> {
        let objects = self.objects();
        let found = objects.iter().filter(|(name, _)| name.starts_with(prefix));
        Ok(found.map(|(name, bytes)| ObjectInfo { name: name.clone(), length: bytes.len() as u64 }).collect())
    }

    fn length(&self, name: &str) -> Result<Option<u64>, StoreError> {
        Ok(self.objects().get(name).map(|bytes| bytes.len() as u64))
    }

    fn open(&self, name: &str) -> Result<Box<dyn SeekRead>, StoreError> {
        let bytes = self.objects().get(name).cloned();
        let bytes = bytes.ok_or_else(|| StoreError::Missing { name: name.to_owned() })?;
        Ok(Box::new(io::Cursor::new(bytes)))
    }

    fn create(&self, name: &str) -> Result<Box<dyn NewObject>, StoreError> {
        if self.objects().contains_key(checked(name)?) {
            return Err(StoreError::Exists { name: name.to_owned() });
        }
        Ok(Box::new(NewBytes { memory: self.clone(), name: name.to_owned(), bytes: Vec::new() }))
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        let gone = self.objects().remove(name);
        gone.map(drop).ok_or_else(|| StoreError::Missing { name: name.to_owned() })
    }

    fn free_space(&self) -> Result<Option<u64>, StoreError> {
        Ok(None)
    }
}

struct NewBytes {
    memory: Memory,
    name: String,
    bytes: Vec<u8>,
}

impl Write for NewBytes {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.bytes.extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl NewObject for NewBytes {
    fn publish(self: Box<Self>, _: Hash) -> Result<(), StoreError> {
        let mut objects = self.memory.objects();
        if objects.contains_key(&self.name) {
            return Err(StoreError::Exists { name: self.name.clone() });
        }
        objects.insert(self.name.clone(), self.bytes.clone());
        Ok(())
    }
}

/// Bytes that an ordinary account may still write on the filesystem that a path is on.
///
/// # Errors
/// When it cannot be asked.
pub fn free_space(path: &Path) -> Result<u64, PathError> {
    let stat = rustix::fs::statvfs(path).at(path)?;
    Ok(stat.f_bavail.saturating_mul(stat.f_frsize))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn both(check: impl Fn(&dyn Location)) {
        let folder = tempfile::tempdir().unwrap();
        check(&Folder::new(folder.path().join("store")));
        check(&Memory::default());
    }

    #[test]
    fn an_object_is_written_once_and_read_back() {
        both(|location| {
            location.write("records/a/one.json", b"0123456789").unwrap();
            assert_eq!(location.read("records/a/one.json").unwrap(), b"0123456789");
            let mut open = location.open("records/a/one.json").unwrap();
            let mut some = [0; 4];
            open.seek(SeekFrom::Start(3)).unwrap();
            open.read_exact(&mut some).unwrap();
            assert_eq!(&some, b"3456");
            assert!(matches!(location.write("records/a/one.json", b"other"), Err(StoreError::Exists { .. })));
            assert_eq!(location.read("records/a/one.json").unwrap(), b"0123456789");
        });
    }

    #[test]
    fn what_is_not_published_is_not_there() {
        both(|location| {
            let mut object = location.create("payload/w/000001.zst").unwrap();
            object.write_all(b"half").unwrap();
            drop(object);
            assert_eq!(location.length("payload/w/000001.zst").unwrap(), None);
            assert_eq!(location.list("").unwrap(), []);
        });
    }

    #[test]
    fn what_a_dead_writer_left_is_discarded_and_nothing_else() {
        let folder = tempfile::tempdir().unwrap();
        let location = Folder::new(folder.path());
        location.write("payload/w/one/000000.zst", b"published").unwrap();
        for name in ["payload/w/one/000001.zst", "payload/w/two/000000.zst"] {
            let mut object = location.create(name).unwrap();
            object.write_all(b"half").unwrap();
            std::mem::forget(object);
        }
        location.discard_unpublished("payload/w/one/").unwrap();
        let left: Vec<_> =
            fs::read_dir(folder.path().join(INCOMING)).unwrap().map(|e| e.unwrap().file_name()).collect();
        assert!(left.len() == 1 && left[0].to_string_lossy().starts_with("payload+w+two+"), "{left:?}");
        assert_eq!(location.read("payload/w/one/000000.zst").unwrap(), b"published");
    }

    #[test]
    fn what_cannot_be_made_durable_is_written_anew_and_only_if_it_is_still_what_it_was() {
        let failing = || io::Error::other("a bad sector");
        thread_local! {
            static FAILURES: std::cell::Cell<u32> = const { std::cell::Cell::new(0) };
        }
        let written = |sync: fn(&File) -> io::Result<()>| {
            FAILURES.set(0);
            let folder = tempfile::tempdir().unwrap();
            let location = Folder { root: folder.path().to_path_buf(), sync };
            let written = location.write("one", b"0123456789");
            let left = fs::read_dir(folder.path().join(INCOMING)).unwrap().count();
            assert_eq!(left, 0, "nothing is left behind");
            (written, location.read("one").ok())
        };
        // Once: it is written anew.
        let (once, bytes) = written(|_| {
            FAILURES.set(FAILURES.get() + 1);
            if FAILURES.get() == 1 { Err(io::Error::other("a bad sector")) } else { Ok(()) }
        });
        assert_eq!((once.is_ok(), bytes.as_deref()), (true, Some(b"0123456789".as_slice())));
        // Always: it is not there, and the first error is told.
        let (always, bytes) = written(|_| Err(io::Error::other("a bad sector")));
        assert!(matches!(always, Err(StoreError::Io(error)) if error.source.to_string() == failing().to_string()));
        assert_eq!(bytes, None);
        // Once, and what was written is lost with it.
        let (lost, bytes) = written(|file| {
            FAILURES.set(FAILURES.get() + 1);
            if FAILURES.get() > 1 {
                return Ok(());
            }
            file.set_len(4)?;
            Err(io::Error::other("a bad sector"))
        });
        assert_eq!((lost.is_err(), bytes), (true, None));
    }

    #[test]
    fn a_race_for_one_name_has_one_winner() {
        let folder = tempfile::tempdir().unwrap();
        let location = Folder::new(folder.path());
        let object = location.create("one").unwrap();
        fs::write(folder.path().join("one"), b"earlier").unwrap();
        assert!(matches!(object.publish(Hash::of(b"")), Err(StoreError::Exists { .. })));
        assert_eq!(location.read("one").unwrap(), b"earlier");
    }

    #[test]
    fn names_cannot_leave_the_store() {
        both(|location| {
            for name in ["", "/etc/passwd", "../x", "a/../b", "a//b", ".hidden", "a b", "a\nb"] {
                assert!(matches!(location.write(name, b"x"), Err(StoreError::Name(_))), "{name:?}");
            }
        });
    }

    #[test]
    fn a_listing_is_sorted_and_below_its_prefix() {
        both(|location| {
            for name in ["b/2", "b/1", "a/9", "ab/3"] {
                location.write(name, name.as_bytes()).unwrap();
            }
            let names = |prefix| location.list(prefix).unwrap().into_iter().map(|o| o.name).collect::<Vec<_>>();
            assert_eq!(location.names("").unwrap(), names(""));
            assert_eq!(names("b/"), ["b/1", "b/2"]);
            assert_eq!(names("a/"), ["a/9"]);
            assert_eq!(names("none/"), Vec::<String>::new());
            location.remove("b/1").unwrap();
            assert!(matches!(location.remove("b/1"), Err(StoreError::Missing { .. })));
        });
    }
}
