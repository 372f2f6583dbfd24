//! Where a store's objects lie.
//!
//! An object is written once under a unique name, is durable when [`NewObject::publish`] returns, and is never
//! overwritten. Names are relative paths of plain components, so that every kind of location can hold them.

use std::collections::BTreeMap;
use std::io::{self, Read, Seek, Write};
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use crate::error::{IoPath, PathError, StoreError};
use crate::hash::Hash;

mod bucket;
mod folder;
mod keyed;
mod lengths;
mod remote;
mod sftp;
mod versioned;
mod web;
mod webdav;

pub use bucket::{BucketPlace, bucket};
pub use folder::Folder;
pub use lengths::Lengths;
pub use sftp::{SshFolderPlace, ssh_folder};
pub use versioned::{ObjectVersion, SinceThen, Versioned, with_margin};
pub use webdav::{WebFolderPlace, web_folder};

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
    /// The place so that no other place has the same text: what is known of it is kept under this.
    fn address(&self) -> String {
        self.describe()
    }
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
    /// Removes an object that this program wrote. That it is not there is an error where the place says so.
    fn remove(&self, name: &str) -> Result<(), StoreError>;
    /// Bytes that can still be written, where that is known.
    fn free_space(&self) -> Result<Option<u64>, StoreError>;

    /// Proves that the place is still the one that was opened; there are places where it can go away while it is in use.
    ///
    /// # Errors
    /// [`StoreError::Moved`] when it is not.
    fn confirm(&self) -> Result<(), StoreError> {
        Ok(())
    }

    /// Makes the place itself where it is missing: for a new store only.
    ///
    /// # Errors
    /// When it cannot be made.
    fn prepare(&self) -> Result<(), StoreError> {
        Ok(())
    }

    /// Removes what a writer that died left of objects whose names begin with `prefix`, and never published. Where it is not known
    /// that the writer `is_dead`, what was just begun stays.
    fn discard_unpublished(&self, prefix: &str, is_dead: bool) -> Result<(), StoreError> {
        let _ = (prefix, is_dead);
        Ok(())
    }

    /// Whether each question takes as long as a request does.
    fn is_far(&self) -> bool {
        false
    }

    /// Whether an object that could be published is there as it was sent, by a checksum of the server's own or because it was read
    /// back for that. Elsewhere whoever wants to know reads it.
    fn checks_what_arrives(&self) -> bool {
        false
    }

    /// The place as one that keeps versions of its objects, where it may be one.
    fn versioned(&self) -> Option<&dyn Versioned> {
        None
    }

    /// A whole object, or none of it where it is longer than `most` bytes.
    ///
    /// # Errors
    /// [`StoreError::Damaged`] where it is longer.
    fn read_at_most(&self, name: &str, most: u64) -> Result<Vec<u8>, StoreError> {
        let mut bytes = Vec::new();
        self.open(name)?.take(most + 1).read_to_end(&mut bytes).at(name)?;
        if bytes.len() as u64 <= most {
            return Ok(bytes);
        }
        let what = format!("it is longer than {most} bytes");
        Err(StoreError::Damaged { name: name.to_owned(), what })
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

/// Where objects lie until they are published. The name cannot be an object's.
const INCOMING: &str = ".incoming";
/// What the names of all objects begin with that a place is tried with.
pub const PROBES: &str = "probes/";

/// An object's name as the name of one file.
fn flattened(name: &str) -> String {
    name.replace('/', "+")
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
    use std::io::SeekFrom;

    use super::*;

    fn both(check: impl Fn(&dyn Location)) {
        let folder = tempfile::tempdir().unwrap();
        let location = Folder::new(folder.path().join("store"));
        location.prepare().unwrap();
        check(&location);
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
