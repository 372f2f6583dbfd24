//! Processes that still use something below a root: their open files would stay on the old state.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use gullet_host::world::Clock;

/// Processes named at most.
const NAMED: usize = 8;

/// How long processes may take to let go of their files after the application says that it is stopped.
const LETS_GO_WITHIN: Duration = Duration::from_secs(10);

/// What is used, and by whom.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Users {
    /// In words: process, name, path.
    pub(super) named: Vec<String>,
    /// How many processes there are.
    pub(super) count: usize,
    /// Processes that this account may not look into.
    pub(super) unseen: usize,
}

/// Looks for processes that have a file open or mapped below one of these folders, or work in one.
pub(super) fn users_of(roots: &[PathBuf]) -> Users {
    let own = std::process::id().to_string();
    let mut users = Users::default();
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        if name == own || !name.bytes().all(|byte| byte.is_ascii_digit()) {
            continue;
        }
        match used_by(&entry.path(), roots) {
            Ok(None) => {}
            Ok(Some(path)) => {
                users.count += 1;
                if users.named.len() < NAMED {
                    let comm = fs::read_to_string(entry.path().join("comm")).unwrap_or_default();
                    users.named.push(format!("process {name} ({}) has {}", comm.trim(), path.display()));
                }
            }
            Err(error) if error.kind() == std::io::ErrorKind::PermissionDenied => users.unseen += 1,
            // It ended meanwhile.
            Err(_) => {}
        }
    }
    users
}

/// Waits until nobody uses anything below these folders, for a while; gives who still does. An application may say that it is
/// stopped while it still writes what it had in hand.
pub(super) fn wait_for_users(roots: &[PathBuf], clock: &dyn Clock) -> Users {
    let began = clock.uptime();
    loop {
        let users = users_of(roots);
        if users.count == 0 || clock.uptime().saturating_sub(began) >= LETS_GO_WITHIN {
            return users;
        }
        clock.sleep(Duration::from_millis(50));
    }
}

impl Users {
    /// Who they are, in words.
    pub(super) fn words(&self) -> String {
        let more = self.count - self.named.len();
        let more = if more > 0 { format!(", and {more} more") } else { String::new() };
        format!("something still uses it: {}{more}", self.named.join("; "))
    }
}

/// The first path below a root that the process of this folder of `/proc` uses.
fn used_by(process: &Path, roots: &[PathBuf]) -> std::io::Result<Option<PathBuf>> {
    let is_below = |path: &Path| roots.iter().any(|root| path.starts_with(root));
    for entry in fs::read_dir(process.join("fd"))?.flatten() {
        if let Ok(path) = fs::read_link(entry.path())
            && is_below(&path)
        {
            return Ok(Some(path));
        }
    }
    if let Ok(path) = fs::read_link(process.join("cwd"))
        && is_below(&path)
    {
        return Ok(Some(path));
    }
    let maps = fs::read_to_string(process.join("maps")).unwrap_or_default();
    let mapped = maps.lines().filter_map(|line| line.find('/').map(|at| PathBuf::from(&line[at..])));
    Ok(mapped.into_iter().find(|path| is_below(path)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_process_with_an_open_file_or_its_folder_below_is_named() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().canonicalize().unwrap();
        fs::write(root.join("ledger"), "x").unwrap();
        assert_eq!(users_of(std::slice::from_ref(&root)).count, 0);
        for script in ["exec 7<ledger; cd /; read line", "read line"] {
            let mut command = std::process::Command::new("sh");
            command.args(["-c", script]).current_dir(&root).stdin(std::process::Stdio::piped());
            let mut child = command.spawn().unwrap();
            let mut users = Users::default();
            for _ in 0..5000 {
                users = users_of(std::slice::from_ref(&root));
                if users.count > 0 {
                    break;
                }
            }
            assert!(users.count == 1 && users.named[0].contains(&format!("process {} (sh)", child.id())), "{users:?}");
            child.kill().unwrap();
            child.wait().unwrap();
        }
    }
}
