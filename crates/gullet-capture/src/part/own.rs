//! Folders of Gullet's own among an application's files.

use std::path::Path;

/// What the name of Gullet's own folder beside what changes hands begins with.
pub const ARENA: &str = ".gullet-restore-";

/// Whether a path is that of a folder of Gullet's own beside what changes hands.
pub fn is_arena(path: &Path) -> bool {
    path.file_name().is_some_and(|name| name.to_string_lossy().starts_with(ARENA))
}
