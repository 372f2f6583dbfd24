//! When the files of a MariaDB server may be copied.
//!
//! Copying them one by one while the server runs is not safe under any of its locks: InnoDB goes on purging, flushing and
//! writing checkpoints, so copies refuse to start, hang in recovery, or start with wrong contents. What is sound is a snapshot
//! of all of them in one instant, or a stopped server.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use gullet_store::{IoPath, PathError};
use rustix::process::{Flock, FlockType, fcntl_getlk};

use super::client::{MariadbServer, MariadbSession};
use crate::engines::Waiting;
use crate::engines::server::leading_out;
use crate::part::context::{CaptureContext, PartError};
use crate::part::staging::foresee;
use crate::part::walk::Walk;
use crate::plan::{Plan, PlannedPart};
use gullet_model::record::SecuredBy;

const UNSOUND: &str = "copying its files one by one while it runs is not safe under any of its locks: such copies refuse to \
                       start, hang in recovery, or start with wrong contents. Sound are: a snapshot of all of them in one \
                       instant (`capture_method = \"snapshot\"` on btrfs, or hooks in `[app.NAME.snapshot]`), a server that the hold \
                       stops, or an export (`databases = [\"*\"]`)";

/// What lies in a folder and is no part of its data, by extension: links to keys and settings are common.
const NO_DATA: [&str; 4] = ["pem", "crt", "key", "cnf"];

/// What a server makes anew when it starts.
const MADE_ANEW: [&str; 5] = ["*.pid", "*.sock", "ibtmp1", "ib_buffer_pool", "aria_log_control.lock"];

/// The files of a server.
pub(crate) fn walk(datadir: &Path, part: &PlannedPart, plan: &Plan) -> Walk {
    Walk::of_server(vec![datadir.to_path_buf()], &MADE_ANEW, false, (part, plan))
}

/// Whether a server works with these files: it locks the first ones of them. The kernel is asked through the files
/// themselves, which is right on every filesystem; `/proc/locks` names devices that btrfs does not show otherwise.
fn is_running(datadir: &Path) -> Result<bool, PathError> {
    for path in ["ibdata1", "aria_log_control"].map(|name| datadir.join(name)) {
        let file = match fs::File::open(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => continue,
            file => file.at(&path)?,
        };
        // From the beginning to the end, whoever owns which stretch of it.
        let any = Flock::from(FlockType::WriteLock);
        if fcntl_getlk(&file, &any).map_err(io::Error::from).at(&path)?.is_some() {
            return Ok(true);
        }
    }
    Ok(false)
}

/// Whether the files can be captured now.
pub(crate) fn is_sound(datadir: &Path, context: &CaptureContext<'_, '_>) -> Result<(), PartError> {
    let seen = context.in_hold && context.staging.seen(datadir).is_some();
    if !seen && is_running(datadir)? {
        return Err(PartError::failed(format!("the server at `{}` is running, and {UNSOUND}", datadir.display())));
    }
    all_inside(datadir)
}

/// Refuses a folder some of whose tables lie elsewhere: no capture of the folder would have them.
fn all_inside(datadir: &Path) -> Result<(), PartError> {
    let Some((name, place)) = kept_elsewhere(datadir)?.into_iter().next() else { return Ok(()) };
    Err(PartError::failed(format!(
        "`{name}` has its file at `{}`, outside of `{}`. Rebuild the table inside of it, or export (`databases = [\"*\"]`)",
        place.display(),
        datadir.display()
    )))
}

/// What a server that works with this folder would look for elsewhere: the name in the folder, and where it leads. InnoDB
/// writes the place of a table made with `data directory` into a file `TABLE.isl`; the other engines and databases that
/// were moved by hand have links.
pub fn kept_elsewhere(datadir: &Path) -> Result<Vec<(String, PathBuf)>, PathError> {
    leading_out(datadir, datadir, |path, kind| {
        let has =
            |wanted: &[&str]| path.extension().is_some_and(|extension| wanted.iter().any(|name| extension == *name));
        if kind.is_symlink() && !has(&NO_DATA) {
            fs::read_link(path).map(Some)
        } else if has(&["isl"]) {
            fs::read_to_string(path).map(|text| Some(PathBuf::from(text.trim_end())))
        } else {
            Ok(None)
        }
    })
}

/// What can be known beforehand.
pub(crate) fn check(
    server: &MariadbServer,
    datadir: &Path,
    plan: &Plan,
    waiting: Waiting<'_>,
) -> Result<String, PartError> {
    let by = foresee(datadir, plan, false);
    if datadir.is_dir() {
        all_inside(datadir)?;
    }
    if is_running(datadir)? {
        if let Ok(session) = server.connect(waiting) {
            elsewhere(&session, datadir, waiting)?;
        }
        if by != Some(SecuredBy::Snapshot) && plan.spec.hold.is_empty() {
            return Err(PartError::failed(format!("the server at `{}` is running, and {UNSOUND}", datadir.display())));
        }
    }
    Ok(match by {
        Some(SecuredBy::Snapshot) => format!("the files in {}, by a snapshot", datadir.display()),
        _ => format!("the files in {}, if the hold stops the server", datadir.display()),
    })
}

/// Refuses files that lie elsewhere: a snapshot of the folder would not have them.
fn elsewhere(session: &MariadbSession, datadir: &Path, waiting: Waiting<'_>) -> Result<(), PartError> {
    let own = fs::canonicalize(datadir).unwrap_or_else(|_| datadir.to_path_buf());
    let sql = "show variables where variable_name in ('datadir', 'innodb_data_home_dir', 'innodb_log_group_home_dir', \
               'innodb_undo_directory', 'aria_log_dir_path', 'innodb_data_file_path')";
    for row in session.rows(sql, waiting)? {
        let [Some(name), Some(value)] = row.as_slice() else { continue };
        // `ibdata1:12M:autoextend`, several with a semicolon between them.
        let first = value.split(';').find(|file| file.starts_with('/')).unwrap_or(value);
        let value = if name == "innodb_data_file_path" { first.split(':').next().unwrap_or(first) } else { value };
        let place = if value.starts_with('/') { PathBuf::from(value) } else { own.join(value) };
        let place = fs::canonicalize(&place).unwrap_or(place);
        if !value.is_empty() && !place.starts_with(&own) {
            let text = format!("the server keeps files at `{value}` ({name}), outside of `{}`", datadir.display());
            return Err(PartError::failed(text));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    #[test]
    fn what_leads_out_of_a_folder_is_named_and_nothing_else() {
        let place = tempfile::tempdir().unwrap();
        let (data, other) = (place.path().join("data"), place.path().join("other"));
        for folder in [data.join("bank"), other.join("moved")] {
            fs::create_dir_all(folder).unwrap();
        }
        for file in ["ibdata1", "bank/account.ibd", "bank/account.frm"] {
            fs::write(data.join(file), "").unwrap();
        }
        fs::write(data.join("bank/inside.isl"), data.join("bank/account.ibd").display().to_string()).unwrap();
        symlink("account.frm", data.join("bank/same.frm")).unwrap();
        symlink("/etc/ssl/server-key.pem", data.join("server-key.pem")).unwrap();
        assert_eq!(kept_elsewhere(&data).unwrap(), []);
        // The folder may be a link itself.
        let link = place.path().join("link");
        symlink(&data, &link).unwrap();
        assert_eq!(kept_elsewhere(&link).unwrap(), []);

        fs::write(data.join("bank/outside.isl"), format!("{}/outside.ibd\n", other.display())).unwrap();
        symlink("/nowhere/gone.MYD", data.join("bank/gone.MYD")).unwrap();
        symlink("../other/moved", data.join("moved")).unwrap();
        let other = fs::canonicalize(other).unwrap();
        let wanted = [
            ("bank/gone.MYD", PathBuf::from("/nowhere/gone.MYD")),
            ("bank/outside.isl", other.join("outside.ibd")),
            ("moved", other.join("moved")),
        ];
        assert_eq!(kept_elsewhere(&data).unwrap(), wanted.map(|(name, place)| (name.to_owned(), place)));
        assert!(matches!(all_inside(&data), Err(PartError::Failed(why)) if why.to_string().contains("bank/gone.MYD")));
    }
}
