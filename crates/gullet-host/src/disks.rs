//! On which disks a path lies, as the kernel tells it (sysfs, `Documentation/ABI/testing/sysfs-block`): a partition is followed to
//! its disk, a mapped device to those below it, a loop device to the file behind it.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// Devices stand upon one another no deeper than this; a loop among them ends there.
const DEEPEST: u32 = 16;

/// The disks that a path lies on, by the kernel's names; none where that is not known, as of a share in the network.
pub fn disks_of(path: &Path) -> BTreeSet<String> {
    let mut found = BTreeSet::new();
    Devices { sys: Path::new("/sys"), mounts: Path::new("/proc/self/mountinfo") }.of_path(path, &mut found, 0);
    found
}

struct Devices<'a> {
    sys: &'a Path,
    mounts: &'a Path,
}

impl Devices<'_> {
    fn of_path(&self, path: &Path, found: &mut BTreeSet<String>, depth: u32) {
        let Ok(metadata) = fs::metadata(path) else { return };
        let number = numbers(metadata.dev());
        if self.device(&number).is_some() {
            return self.of_number(&number, found, depth);
        }
        // Some filesystems have a number of their own instead of that of their device (btrfs); the mount names it.
        let source = self.source_of(&number).and_then(|source| fs::metadata(source).ok());
        if let Some(device) = source.filter(|source| source.rdev() != 0) {
            self.of_number(&numbers(device.rdev()), found, depth);
        }
    }

    fn device(&self, number: &str) -> Option<PathBuf> {
        fs::canonicalize(self.sys.join("dev/block").join(number)).ok()
    }

    fn source_of(&self, number: &str) -> Option<PathBuf> {
        let mounts = fs::read_to_string(self.mounts).ok()?;
        // proc(5): id, parent, major:minor, …, "-", type, source, options.
        let of_line = |line: &str| {
            let (head, tail) = line.split_once(" - ")?;
            (head.split(' ').nth(2) == Some(number)).then(|| tail.split(' ').nth(1).map(PathBuf::from)).flatten()
        };
        mounts.lines().find_map(of_line)
    }

    fn of_number(&self, number: &str, found: &mut BTreeSet<String>, depth: u32) {
        let Some(device) = self.device(number).filter(|_| depth < DEEPEST) else { return };
        let below: Vec<PathBuf> =
            fs::read_dir(device.join("slaves")).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
        if device.join("partition").exists() {
            let disk = device.parent().and_then(|disk| fs::read_to_string(disk.join("dev")).ok());
            return disk.iter().for_each(|number| self.of_number(number.trim(), found, depth + 1));
        }
        if let Ok(file) = fs::read_to_string(device.join("loop/backing_file")) {
            let mut behind = BTreeSet::new();
            self.of_path(Path::new(file.trim_end_matches('\n')), &mut behind, depth + 1);
            if !behind.is_empty() {
                return found.extend(behind);
            }
        }
        if below.is_empty() {
            found.extend(device.file_name().map(|name| name.to_string_lossy().into_owned()));
        }
        for device in below {
            if let Ok(number) = fs::read_to_string(device.join("dev")) {
                self.of_number(number.trim(), found, depth + 1);
            }
        }
    }
}

fn numbers(device: u64) -> String {
    format!("{}:{}", rustix::fs::major(device), rustix::fs::minor(device))
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    /// A machine with a disk `sda` of two partitions, of which the second and a disk `sdb` are below a mapped device.
    fn machine() -> tempfile::TempDir {
        let sys = tempfile::tempdir().unwrap();
        let device = |path: &str, number: &str| {
            let path = sys.path().join("devices").join(path);
            fs::create_dir_all(path.join("slaves")).unwrap();
            fs::write(path.join("dev"), format!("{number}\n")).unwrap();
            fs::create_dir_all(sys.path().join("dev/block")).unwrap();
            symlink(&path, sys.path().join("dev/block").join(number)).unwrap();
            path
        };
        device("sda", "8:0");
        fs::write(device("sda/sda1", "8:1").join("partition"), "1\n").unwrap();
        let second = device("sda/sda2", "8:2");
        fs::write(second.join("partition"), "2\n").unwrap();
        let other = device("sdb", "8:16");
        let mapped = device("dm-0", "253:0");
        symlink(second, mapped.join("slaves/sda2")).unwrap();
        symlink(other, mapped.join("slaves/sdb")).unwrap();
        sys
    }

    #[test]
    fn partitions_and_mapped_devices_lead_to_their_disks() {
        let sys = machine();
        let of = |number: &str| {
            let mut found = BTreeSet::new();
            Devices { sys: sys.path(), mounts: Path::new("/nowhere") }.of_number(number, &mut found, 0);
            found.into_iter().collect::<Vec<_>>()
        };
        assert_eq!(of("8:1"), ["sda"]);
        assert_eq!(of("8:0"), ["sda"]);
        assert_eq!(of("253:0"), ["sda", "sdb"]);
        assert_eq!(of("9:9"), [""; 0]);
    }

    #[test]
    fn a_device_upon_itself_has_an_end() {
        let sys = machine();
        let mapped = sys.path().join("devices/dm-0");
        symlink(&mapped, mapped.join("slaves/dm-0")).unwrap();
        let mut found = BTreeSet::new();
        Devices { sys: sys.path(), mounts: Path::new("/nowhere") }.of_number("253:0", &mut found, 0);
        assert_eq!(found.len(), 2);
    }
}
