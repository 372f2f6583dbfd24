//! Who else could change what this account is about to trust: a file that is executed or believed is as safe as the folders above it.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;

/// Permission to write for all accounts.
const OTHERS_WRITE: u32 = 0o002;
/// Permission to write for the group.
const GROUP_WRITES: u32 = 0o020;
/// In a folder with this bit nobody renames or removes what is another account's.
const STICKY: u32 = 0o1000;

/// Who could change a file or folder, or put another one in its place, besides root and this account: in words, `None` when
/// nobody can. What is not there is nobody's.
pub fn changeable_by_others(path: &Path) -> Option<String> {
    let own = rustix::process::geteuid().as_raw();
    let real = fs::canonicalize(path).ok()?;
    for (number, place) in real.ancestors().enumerate() {
        let meta = fs::metadata(place).ok()?;
        if meta.uid() != 0 && meta.uid() != own {
            return Some(format!("`{}` belongs to another account (uid {})", place.display(), meta.uid()));
        }
        let mode = meta.permissions().mode();
        let is_safe_folder = number > 0 && mode & STICKY != 0;
        if mode & OTHERS_WRITE != 0 && !is_safe_folder {
            return Some(format!("every account may write to `{}` (mode {:o})", place.display(), mode & 0o7777));
        }
    }
    None
}

/// The same for the state folder, which is nobody else's at all.
pub fn is_not_private(folder: &Path) -> Option<String> {
    let meta = fs::metadata(folder).ok()?;
    let own = rustix::process::geteuid().as_raw();
    if meta.uid() != own {
        return Some(format!("it belongs to another account (uid {})", meta.uid()));
    }
    let mode = meta.permissions().mode() & 0o7777;
    if mode & (OTHERS_WRITE | GROUP_WRITES) != 0 {
        return Some(format!("other accounts may write to it (mode {mode:o}); make it 700"));
    }
    // What is above it matters to who has more rights than those who could change it.
    if own == 0 { changeable_by_others(folder) } else { None }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    #[test]
    fn what_others_may_write_is_found_at_every_height() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("a/b/program");
        fs::create_dir_all(file.parent().unwrap()).unwrap();
        fs::write(&file, "").unwrap();
        assert_eq!(changeable_by_others(&file), None);
        let set = |path: &Path, mode| fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
        for (name, mode, safe) in
            [("a/b/program", 0o777, false), ("a/b", 0o777, false), ("a", 0o777, false), ("a", 0o1777, true)]
        {
            set(&folder.path().join(name), mode);
            assert_eq!(changeable_by_others(&file).is_none(), safe, "{name} {mode:o}");
            set(&folder.path().join(name), 0o755);
        }
        assert_eq!(is_not_private(&folder.path().join("a")), None);
        set(&folder.path().join("a"), 0o770);
        assert!(is_not_private(&folder.path().join("a")).unwrap().contains("make it 700"));
    }
}
