//! What the filesystem knows about a path, as an entry of a listing.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::Path;

use data_encoding::BASE64;
use gullet_store::listing::{Entry, Kind, PathName};

/// What kind of thing it is.
pub(crate) fn kind(kind: fs::FileType) -> Kind {
    if kind.is_file() {
        Kind::File
    } else if kind.is_dir() {
        Kind::Folder
    } else if kind.is_symlink() {
        Kind::Symlink
    } else if kind.is_fifo() {
        Kind::Fifo
    } else if kind.is_socket() {
        Kind::Socket
    } else if kind.is_char_device() {
        Kind::CharDevice
    } else {
        Kind::BlockDevice
    }
}

/// An entry with everything but contents and extended attributes.
pub fn bare(name: PathName, meta: &fs::Metadata) -> Entry {
    let kind = kind(meta.file_type());
    let device = matches!(kind, Kind::CharDevice | Kind::BlockDevice)
        .then(|| (rustix::fs::major(meta.rdev()), rustix::fs::minor(meta.rdev())));
    Entry {
        mode: meta.mode() & 0o7777,
        uid: meta.uid(),
        gid: meta.gid(),
        mtime: (meta.mtime(), meta.mtime_nsec() as u32),
        size: if kind == Kind::File { meta.len() } else { 0 },
        device,
        ..Entry::bare(name, kind)
    }
}

/// The flags of a path itself that forbid changing it, as `chattr` sets them. A filesystem without them has none.
pub fn flags(path: &Path) -> Vec<String> {
    use rustix::fs::{AtFlags, CWD, StatxAttributes, StatxFlags, statx};
    let Ok(found) = statx(CWD, path, AtFlags::SYMLINK_NOFOLLOW, StatxFlags::empty()) else { return Vec::new() };
    let known = [(StatxAttributes::IMMUTABLE, "immutable"), (StatxAttributes::APPEND, "append_only")];
    let set = known.iter().filter(|(flag, _)| found.stx_attributes.contains(*flag));
    set.map(|(_, word)| (*word).to_owned()).collect()
}

/// The extended attributes of a path.
#[derive(Debug, Default)]
pub struct Xattrs {
    /// By name, values in base64.
    pub known: BTreeMap<String, String>,
    /// The first whose name is not UTF-8, which a listing cannot hold.
    pub(crate) nameless: Option<String>,
}

/// The extended attributes of a path itself; ACLs are among them. A filesystem without them has none.
///
/// # Errors
/// When they are there and cannot be read.
pub fn xattrs(path: &Path) -> rustix::io::Result<Xattrs> {
    use rustix::io::Errno;
    let mut names = vec![0u8; 1024];
    let length = loop {
        match rustix::fs::llistxattr(path, &mut names[..]) {
            Ok(length) => break length,
            Err(Errno::RANGE) => names.resize(names.len() * 8, 0),
            Err(Errno::NOTSUP) => return Ok(Xattrs::default()),
            Err(errno) => return Err(errno),
        }
    };
    let mut found = Xattrs::default();
    for name in names[..length].split(|byte| *byte == 0).filter(|name| !name.is_empty()) {
        let mut value = vec![0u8; 256];
        let length = loop {
            match rustix::fs::lgetxattr(path, OsStr::from_bytes(name), &mut value[..]) {
                Ok(length) => break Some(length),
                Err(Errno::RANGE) => value.resize(value.len() * 16, 0),
                Err(Errno::NODATA) => break None,
                Err(errno) => return Err(errno),
            }
        };
        match (length, std::str::from_utf8(name)) {
            (None, _) => {}
            (Some(length), Ok(name)) => {
                found.known.insert(name.to_owned(), BASE64.encode(&value[..length]));
            }
            (Some(_), Err(_)) => found.nameless = Some(name.escape_ascii().to_string()),
        }
    }
    Ok(found)
}
