//! Exports of MariaDB, brought back into a server by its client.

use std::path::{Path, PathBuf};

use super::client::{MariadbServer, quoted};
use crate::engines::import::{Importer, asking, bringing, databases, feed, is_there};
use crate::engines::program;
use crate::engines::server::folders;
use gullet_host::hook::{Limits, Runner};
use gullet_model::Reason;
use gullet_model::definition::Mariadb;

/// A server that exports are brought back into.
pub(super) struct MariadbImport {
    pub(super) spec: Mariadb,
    pub(super) server: MariadbServer,
}

impl Importer for MariadbImport {
    fn describe(&self) -> String {
        format!("MariaDB at {}", self.server.describe())
    }

    fn answers(&self, runner: &Runner<'_>) -> bool {
        self.server.connect(asking(runner, Limits::PROBE)).is_ok()
    }

    fn bring(&self, folder: &Path, runner: &Runner<'_>, made: &mut Vec<String>) -> Result<(), Reason> {
        let (Self { spec, server }, waiting) = (self, bringing(runner));
        let wanted = databases(folder)?;
        let session = server.connect(waiting)?;
        let there = session.rows("show databases", waiting)?;
        let there: Vec<String> = there.into_iter().flatten().flatten().collect();
        if let Some((name, _)) = wanted.iter().find(|(name, _)| there.contains(name)) {
            return Err(is_there(name));
        }
        let client = program(&folders(spec.login.programs.as_ref(), []), &["mariadb", "mysql"]);
        let words = [vec![client.display().to_string()], server.arguments()].concat();
        let accounts = folder.join("accounts.sql");
        made.extend(wanted.iter().map(|(name, _)| name.clone()));
        let files: Vec<PathBuf> = wanted.into_iter().map(|(_, path)| path).collect();
        let mut files: Vec<PathBuf> = [accounts].into_iter().filter(|path| path.is_file()).chain(files).collect();
        files.dedup();
        for path in files {
            feed(words.clone(), &server.login, "MYSQL_PWD", &path, runner)?;
        }
        Ok(())
    }

    fn take_back(&self, made: &[String], runner: &Runner<'_>) -> Result<(), Reason> {
        let waiting = asking(runner, Limits::HOOK);
        let session = self.server.connect(waiting)?;
        for name in made {
            session.rows(&format!("drop database if exists {}", quoted(name)), waiting)?;
        }
        Ok(())
    }
}
