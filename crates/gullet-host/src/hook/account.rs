//! Running a command as another account: with its own groups, and with access to the places that are made for it.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
use std::path::{Path, PathBuf};

use nix::unistd::User;

/// An account of this machine: of the password file, or of a directory that the system asks (nsswitch.conf(5)).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Account {
    /// The name that the system knows it by.
    pub name: String,
    /// The number that the kernel knows it by.
    pub uid: u32,
    /// The number of its own group.
    pub gid: u32,
    pub(crate) home: String,
}

/// A command cannot run as an account.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum AccountError {
    /// There is no such account.
    #[error("there is no account `{0}`")]
    None(String),
    /// It cannot be told whether there is.
    #[error("the account `{name}` cannot be looked up")]
    Unknown {
        /// The name that no account has.
        name: String,
        /// What the system said.
        #[source]
        source: std::io::Error,
    },
    /// Only root may become another account.
    #[error("running as `{0}` needs root; or say `through = [\"sudo\", \"-n\", \"-u\", \"{0}\"]`")]
    NeedsRoot(String),
    /// A place cannot be opened to it.
    #[error("`{}` cannot be opened to `{name}`", path.display())]
    Place {
        /// The name of the account.
        name: String,
        /// The folder or file that it must reach.
        path: PathBuf,
        /// What the system said.
        #[source]
        source: std::io::Error,
    },
}

impl Account {
    /// Finds an account by its name.
    ///
    /// # Errors
    /// When there is none, or whoever keeps accounts does not answer.
    pub fn find(name: &str) -> Result<Self, AccountError> {
        let found = User::from_name(name)
            .map_err(|errno| AccountError::Unknown { name: name.to_owned(), source: errno.into() })?;
        let found = found.ok_or_else(|| AccountError::None(name.to_owned()))?;
        let home = found.dir.to_string_lossy().into_owned();
        Ok(Self { name: name.to_owned(), uid: found.uid.as_raw(), gid: found.gid.as_raw(), home })
    }

    /// The words in front of a command that make it run as this account, with all groups of the account. `setpriv` comes
    /// with every Linux (util-linux).
    pub fn prefix(&self) -> Result<Vec<String>, AccountError> {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn accounts_are_found_by_name() {
        let account = Account::find("root").unwrap();
        assert_eq!((account.uid, account.gid, account.home.as_str()), (0, 0, "/root"));
        for missing in ["no-such-account", "", "ro"] {
            assert!(matches!(Account::find(missing), Err(AccountError::None(_))), "{missing}");
        }
    }
}
