//! Whether a folder can be swapped by renaming it, or only by swapping what is in it.
//!
//! Renaming a mount point fails; renaming a folder that is also mounted elsewhere, as in a container, leaves that mount on
//! the old state. Format of `mountinfo`: proc_pid_mountinfo(5).

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::ffi::OsStringExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use gullet_model::Reason;
use gullet_store::{IoPath, PathError};

/// One line of a `mountinfo`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Mount {
    /// Major and minor number of the filesystem.
    device: String,
    /// What of the filesystem is mounted.
    root: PathBuf,
    /// The folder that it is mounted at.
    point: PathBuf,
}

/// How a root is swapped.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum How {
    /// The root itself is renamed.
    Rename,
    /// What is in it is swapped, because of this; processes see it under these further paths too.
    Inside(String, Vec<PathBuf>),
}

/// A name as `mountinfo` writes it: octal escapes for space, tab, newline and backslash.
fn unescaped(text: &str) -> PathBuf {
    let bytes = text.as_bytes();
    let mut out = Vec::with_capacity(bytes.len());
    let mut at = 0;
    while at < bytes.len() {
        let octal =
            bytes.get(at + 1..at + 4).filter(|digits| bytes[at] == b'\\' && digits.iter().all(u8::is_ascii_digit));
        match octal.and_then(|digits| u8::from_str_radix(std::str::from_utf8(digits).ok()?, 8).ok()) {
            Some(byte) => {
                out.push(byte);
                at += 4;
            }
            None => {
                out.push(bytes[at]);
                at += 1;
            }
        }
    }
    std::ffi::OsString::from_vec(out).into()
}

/// The mounts that a `mountinfo` lists, in its order: a later one hides an earlier one at the same point.
pub(super) fn parse(text: &str) -> Vec<Mount> {
    let line = |line: &str| {
        let mut words = line.split(' ').skip(2);
        let (device, root, point) = (words.next()?, words.next()?, words.next()?);
        Some(Mount { device: device.to_owned(), root: unescaped(root), point: unescaped(point) })
    };
    text.lines().filter_map(line).collect()
}

/// The mounts of every other mount namespace, with the number and the name of a process in it.
pub(super) fn of_others() -> Vec<(String, Vec<Mount>)> {
    let own = fs::read_link("/proc/self/ns/mnt").ok();
    let mut seen: BTreeMap<PathBuf, (String, Vec<Mount>)> = BTreeMap::new();
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let folder = entry.path();
        let Ok(namespace) = fs::read_link(folder.join("ns/mnt")) else { continue };
        if Some(&namespace) == own.as_ref() || seen.contains_key(&namespace) {
            continue;
        }
        if let Ok(text) = fs::read_to_string(folder.join("mountinfo")) {
            let name = fs::read_to_string(folder.join("comm")).unwrap_or_default();
            let who = format!("process {} ({})", entry.file_name().to_string_lossy(), name.trim());
            seen.insert(namespace, (who, parse(&text)));
        }
    }
    seen.into_values().collect()
}

/// How the folder at `path`, with no link in it, is swapped, by the mounts of this namespace and of others.
///
/// # Errors
/// In words, why it cannot be swapped at all.
pub(super) fn judge(path: &Path, own: &[Mount], others: &[(String, Vec<Mount>)]) -> Result<How, Reason> {
    let shown = path.display();
    if let Some(below) = own.iter().find(|mount| mount.point != path && mount.point.starts_with(path)) {
        return Err(Reason::new(format!("another filesystem is mounted below it, at {}", below.point.display())));
    }
    if own.iter().any(|mount| mount.point == path) {
        return Ok(How::Inside(format!("{shown} is a mount point"), Vec::new()));
    }
    let within = own.iter().filter(|mount| path.starts_with(&mount.point)).max_by_key(|m| m.point.as_os_str().len());
    let Some(within) = within else { return Ok(How::Rename) };
    let in_filesystem = within.root.join(path.strip_prefix(&within.point).unwrap_or(Path::new("")));
    let here = own.iter().filter(|mount| *mount != within).map(|mount| (None, mount));
    let there = others.iter().flat_map(|(who, mounts)| mounts.iter().map(move |mount| (Some(who), mount)));
    let mut points = Vec::new();
    let mut why = None;
    for (who, mount) in here.chain(there).filter(|(_, mount)| mount.device == within.device) {
        let of = who.map(|who| format!(" of {who}")).unwrap_or_default();
        if mount.root == in_filesystem {
            why.get_or_insert(format!("{shown} is mounted at {}{of} too", mount.point.display()));
            points.push(mount.point.clone());
        } else if mount.root.starts_with(&in_filesystem) {
            return Err(Reason::new(format!(
                "{} below it is mounted at {}{of} too",
                mount.root.display(),
                mount.point.display()
            )));
        }
    }
    Ok(why.map_or(How::Rename, |why| How::Inside(why, points)))
}

/// How the folder or file at `path` is swapped, as the machine is now.
///
/// # Errors
/// When it cannot be looked at; `Ok(Err)` in words, why it cannot be swapped at all.
pub(super) fn look(path: &Path) -> Result<Result<How, Reason>, PathError> {
    let text = fs::read_to_string("/proc/self/mountinfo").at(Path::new("/proc/self/mountinfo"))?;
    let judged = judge(path, &parse(&text), &of_others());
    let (Ok(here), Some(above)) = (fs::symlink_metadata(path), path.parent()) else { return Ok(judged) };
    let above = fs::metadata(above).at(above)?;
    // Such as the subvolumes of btrfs, which are no mount points.
    let is_alone = here.is_dir() && here.dev() != above.dev();
    let why = || format!("{} is a filesystem of its own", path.display());
    Ok(judged.map(|how| if is_alone && how == How::Rename { How::Inside(why(), Vec::new()) } else { how }))
}

#[cfg(test)]
mod tests {
    use super::*;

    const OWN: &str = "22 1 8:1 / / rw - ext4 /dev/sda1 rw\n30 22 8:2 / /srv rw - ext4 /dev/sdb1 rw\n\
                       31 22 8:1 /var/lib/desk /mnt/two\\040words rw - ext4 /dev/sda1 rw\n";

    fn judged(path: &str, others: &[(String, Vec<Mount>)]) -> Result<How, Reason> {
        judge(Path::new(path), &parse(OWN), others)
    }

    #[test]
    fn a_plain_folder_is_renamed_and_others_are_swapped_inside() {
        assert_eq!(judged("/var/lib/other", &[]).unwrap(), How::Rename);
        assert!(matches!(judged("/srv", &[]), Ok(How::Inside(why, _)) if why.contains("mount point")));
        assert_eq!(judged("/srv/desk", &[]).unwrap(), How::Rename);
        let Ok(How::Inside(why, points)) = judged("/var/lib/desk", &[]) else { panic!("a bind mount was not seen") };
        assert!(why.contains("/mnt/two words") && points == [PathBuf::from("/mnt/two words")], "{why}");
        // A mount that shows a folder above follows a renaming below it.
        assert_eq!(judged("/var/lib/desk/manifests", &[]).unwrap(), How::Rename);
    }

    #[test]
    fn what_is_mounted_below_is_refused() {
        assert!(judged("/", &[]).unwrap_err().to_string().contains("mounted below"));
        assert!(judged("/var/lib", &[]).unwrap_err().to_string().contains("/var/lib/desk below it"));
    }

    #[test]
    fn another_namespace_counts() {
        let theirs = parse("90 80 8:2 /desk /data rw - ext4 /dev/sdb1 rw\n91 80 0:44 / / rw - overlay overlay rw\n");
        let others = [("process 7 (desk)".to_owned(), theirs)];
        let judged = judged("/srv/desk", &others);
        assert!(
            matches!(&judged, Ok(How::Inside(why, _)) if why.contains("at /data of process 7 (desk)")),
            "{judged:?}"
        );
    }
}
