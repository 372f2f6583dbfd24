//! Running a command as another account: with its own groups, and with access to the places that are made for it.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
use std::path::{Path, PathBuf};

/// An account of the password file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Account {
    pub(crate) name: String,
    pub(crate) uid: u32,
    pub(crate) gid: u32,
    pub(crate) home: String,
}

/// A command cannot run as an account.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum AccountError {
    /// There is no such account.
    #[error("there is no account `{0}`")]
    None(String),
    /// Only root may become another account.
    #[error("running as `{0}` needs root; or say `through = [\"sudo\", \"-n\", \"-u\", \"{0}\"]`")]
    NeedsRoot(String),
    /// A place cannot be opened to it.
    #[error("`{}` cannot be opened to `{name}`", path.display())]
    Place {
        /// The account.
        name: String,
        /// The place.
        path: PathBuf,
        /// What the system said.
        #[source]
        source: std::io::Error,
    },
}

impl Account {
    /// Finds an account by its name in the text of a password file.
    pub(crate) fn find(name: &str, passwd: &str) -> Option<Self> {
        let mut lines = passwd.lines().map(|line| line.split(':').collect::<Vec<_>>());
        let fields = lines.find(|fields| fields.first() == Some(&name) && fields.len() >= 6)?;
        Some(Self {
            name: name.to_owned(),
            uid: fields[2].parse().ok()?,
            gid: fields[3].parse().ok()?,
            home: fields[5].to_owned(),
        })
    }

    /// The words in front of a command that make it run as this account, with all groups of the account. `setpriv` comes
    /// with every Linux (util-linux).
    pub(crate) fn prefix(&self) -> Result<Vec<String>, AccountError> {
        let own = rustix::process::geteuid().as_raw();
        if own == self.uid {
            return Ok(Vec::new());
        }
        if own != 0 {
            return Err(AccountError::NeedsRoot(self.name.clone()));
        }
        let (uid, gid) = (self.uid.to_string(), self.gid.to_string());
        let words = ["setpriv", "--reuid", &uid, "--regid", &gid, "--init-groups", "--"];
        Ok(words.map(str::to_owned).to_vec())
    }

    /// Gives a file or folder to the account, and lets it pass through the private folders above, up to `top`. They can
    /// be passed then, not listed.
    pub(crate) fn open(&self, path: &Path, top: &Path) -> Result<(), AccountError> {
        let wrap = |path: &Path| {
            let (name, path) = (self.name.clone(), path.to_path_buf());
            move |source| AccountError::Place { name, path, source }
        };
        if rustix::process::geteuid().as_raw() == self.uid {
            return Ok(());
        }
        chown(path, Some(self.uid), Some(self.gid)).map_err(wrap(path))?;
        for folder in path.ancestors().skip(1).take_while(|folder| folder.starts_with(top)) {
            let meta = fs::metadata(folder).map_err(wrap(folder))?;
            if meta.uid() != self.uid && meta.mode() & 0o001 == 0 {
                let mode = fs::Permissions::from_mode(meta.mode() & 0o7777 | 0o011);
                fs::set_permissions(folder, mode).map_err(wrap(folder))?;
            }
        }
        Ok(())
    }
}

/// The password file.
pub(crate) fn passwd() -> String {
    fs::read_to_string("/etc/passwd").unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn accounts_are_found_by_name() {
        let passwd = "root:x:0:0:root:/root:/bin/sh\nbroken:x\nskerry:x:1201:1202:Skerry Line:/srv/skerry:/bin/false\n";
        let account = Account::find("skerry", passwd).unwrap();
        assert_eq!((account.uid, account.gid, account.home.as_str()), (1201, 1202, "/srv/skerry"));
        for missing in ["sker", "broken", ""] {
            assert_eq!(Account::find(missing, passwd), None, "{missing}");
        }
    }
}
