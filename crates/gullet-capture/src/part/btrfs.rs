//! Snapshots of btrfs subvolumes, asked of the kernel directly: no program needs to be there, and nothing is started while
//! the application waits.

#![allow(unsafe_code, reason = "the kernel's snapshot calls have no safe wrapper; each use says why it is sound")]

use std::fs::{self, File};
use std::os::fd::AsFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use gullet_store::{IoPath, PathError};
use rustix::ioctl::{self, Setter, opcode};

/// The magic number of statfs(2).
const MAGIC: u64 = 0x9123_683E;
/// The inode number of every subvolume's top folder (linux/btrfs_tree.h, BTRFS_FIRST_FREE_OBJECTID).
const TOP: u64 = 256;
/// The inode number of the empty folder that stands for a subvolume within a snapshot (BTRFS_EMPTY_SUBVOL_DIR_OBJECTID).
pub(crate) const HOLLOW: u64 = 2;
/// The kernel's "group" of btrfs calls (linux/btrfs.h).
const GROUP: u8 = 0x94;
/// Nobody can write to the snapshot.
const READ_ONLY: u64 = 2;
/// The longest name of a snapshot.
const NAME_MAX: usize = 4039;

/// `struct btrfs_ioctl_vol_args_v2` of linux/btrfs.h.
#[repr(C)]
struct SnapshotArgs {
    fd: i64,
    transid: u64,
    flags: u64,
    unused: [u64; 4],
    name: [u8; NAME_MAX + 1],
}

/// `struct btrfs_ioctl_vol_args` of linux/btrfs.h.
#[repr(C)]
struct DestroyArgs {
    fd: i64,
    name: [u8; 4087 + 1],
}

/// The subvolume that `path` (absolute, without links) lies in; `None` on other filesystems.
pub(crate) fn subvolume(path: &Path) -> Option<PathBuf> {
    let stat = rustix::fs::statfs(path).ok()?;
    if stat.f_type as u64 & 0xFFFF_FFFF != MAGIC {
        return None;
    }
    let device = fs::metadata(path).ok()?.dev();
    let of_subvolume = |meta: &fs::Metadata| meta.dev() == device && meta.ino() == TOP && meta.is_dir();
    path.ancestors().find(|above| fs::metadata(above).is_ok_and(|meta| of_subvolume(&meta))).map(Path::to_path_buf)
}

/// Makes a read-only snapshot of `subvolume`, called `name` in `folder`, on the same filesystem.
pub(crate) fn snapshot(subvolume: &Path, folder: &Path, name: &str) -> Result<(), PathError> {
    let source = File::open(subvolume).at(subvolume)?;
    let target = File::open(folder).at(folder)?;
    let mut args = SnapshotArgs { fd: 0, transid: 0, flags: READ_ONLY, unused: [0; 4], name: [0; NAME_MAX + 1] };
    args.fd = i64::from(std::os::fd::AsRawFd::as_raw_fd(&source));
    put_name(&mut args.name, name.as_bytes());
    // SAFETY: the opcode is BTRFS_IOC_SNAP_CREATE_V2, which reads one `btrfs_ioctl_vol_args_v2` and keeps no pointer to it;
    // both descriptors are open for the length of the call.
    unsafe {
        ioctl::ioctl(target.as_fd(), Setter::<{ opcode::write::<SnapshotArgs>(GROUP, 23) }, SnapshotArgs>::new(args))
    }
    .at(folder.join(name))
}

/// Deletes the snapshot at `path`.
pub(crate) fn delete(path: &Path) -> Result<(), PathError> {
    let (Some(folder), Some(name)) = (path.parent(), path.file_name()) else { return Ok(()) };
    let open = File::open(folder).at(folder)?;
    let mut args = DestroyArgs { fd: 0, name: [0; 4088] };
    put_name(&mut args.name, name.as_bytes());
    // SAFETY: the opcode is BTRFS_IOC_SNAP_DESTROY, which reads one `btrfs_ioctl_vol_args` and keeps no pointer to it.
    unsafe { ioctl::ioctl(open.as_fd(), Setter::<{ opcode::write::<DestroyArgs>(GROUP, 15) }, DestroyArgs>::new(args)) }
        .at(path)
}

/// Whether `path` is the top of a subvolume.
pub(crate) fn is_subvolume(path: &Path) -> bool {
    subvolume(path).as_deref() == Some(path)
}

fn put_name(field: &mut [u8], name: &[u8]) {
    // The last byte stays zero.
    let length = name.len().min(field.len() - 1);
    field[..length].copy_from_slice(&name[..length]);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_arguments_are_laid_out_as_the_kernel_wants_them() {
        assert_eq!(size_of::<SnapshotArgs>(), 4096);
        assert_eq!(size_of::<DestroyArgs>(), 4096);
        assert_eq!(std::mem::offset_of!(SnapshotArgs, name), 56);
        assert_eq!(opcode::write::<SnapshotArgs>(GROUP, 23), 0x5000_9417);
        assert_eq!(opcode::write::<DestroyArgs>(GROUP, 15), 0x5000_940F);
    }

    #[test]
    fn other_filesystems_have_no_subvolume() {
        assert_eq!(subvolume(Path::new("/proc/self")), None);
        assert_eq!(subvolume(Path::new("/nowhere")), None);
    }
}
