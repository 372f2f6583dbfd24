//! MariaDB on what was restored, apart from every live server.

use std::path::Path;
use std::process::Stdio;
use std::time::Duration;

use rustix::process::Signal;

use super::client::{MariadbServer, MariadbSession, ServerPlace};
use super::databases::{OWN, count};
use super::folder::kept_elsewhere;
use crate::engines::scratch::{Ids, RunningServer, ScratchServers, TriedOut, sql_files};
use crate::engines::{Login, Waiting, program};
use crate::part::rows::add_rows;
use gullet_model::step::Facts;
use gullet_model::{Reason, ReasonAbout};

impl ScratchServers<'_> {
    /// Starts MariaDB on a data folder.
    fn start_mariadb(
        &self,
        number: usize,
        data: &Path,
        ids: Ids,
    ) -> Result<(RunningServer, MariadbSession, MariadbServer), Reason> {
        let sockets = self.sockets(number, ids)?;
        let socket = sockets.join("s");
        // A server that starts removes every temporary table that it finds, also those of the live one.
        let temporary = self.own_folder(&format!("temporary-{number}"), ids)?;
        let mut command = Self::command(&program(&[], &["mariadbd", "mysqld"]), ids);
        let at = |what: &str, path: &Path| format!("--{what}={}", path.display());
        command
            .arg("--no-defaults")
            .arg(at("datadir", data))
            .arg(at("tmpdir", &temporary))
            .arg(at("socket", &socket))
            .arg(at("pid-file", &sockets.join("pid")));
        command.args([
            "--skip-networking",
            "--skip-grant-tables",
            "--skip-slave-start",
            "--skip-log-bin",
            "--innodb-flush-log-at-trx-commit=0",
        ]);
        let login = Login { user: "root".to_owned(), password: None, account: None };
        let server = MariadbServer { place: ServerPlace::Socket(socket.clone()), login };
        let log = self.folder.join(format!("log-{number}"));
        let answers = || server.connect(Waiting { limit: Duration::from_secs(15), ..self.waiting() });
        let (running, session) = self.start(command, (sockets, socket, Signal::KILL), &log, answers)?;
        Ok((running, session, server))
    }

    fn count_mariadb(&self, session: &MariadbSession) -> Result<Facts, Reason> {
        let rows = session.rows("show databases", self.waiting())?;
        let names: Vec<String> =
            rows.into_iter().flatten().flatten().filter(|name| !OWN.contains(&name.as_str())).collect();
        let mut facts = Facts::new();
        if !names.is_empty() {
            add_rows(count(&names, session, self.waiting())?, &mut facts);
        }
        Ok(facts)
    }

    /// Starts MariaDB on a data folder that was restored, and counts what is in it.
    pub(super) fn datadir(&self, number: usize, data: &Path) -> Result<TriedOut, Reason> {
        let ids = Self::ids(Some(data), &["mysql", "nobody"]);
        if let Some((name, place)) = kept_elsewhere(data)?.into_iter().next() {
            let place = place.display();
            return Err(Reason::new(format!(
                "`{name}` has its file at `{place}`: it is not in the run, and the live server's own"
            )));
        }
        self.let_pass(data);
        let (running, session, _) = self.start_mariadb(number, data, ids)?;
        let facts = self.count_mariadb(&session)?;
        Ok(TriedOut { server: running, facts, note: "MariaDB starts on it".to_owned() })
    }

    /// Starts a new MariaDB server, brings exported databases into it, and counts them.
    pub(super) fn mariadb_databases(&self, number: usize, export: &Path) -> Result<TriedOut, Reason> {
        let ids = Self::ids(None, &["mysql", "nobody"]);
        let data = self.own_folder(&format!("data-{number}"), ids)?;
        let mut install = Self::command(&program(&[], &["mariadb-install-db", "mysql_install_db"]), ids);
        install.args([
            "--no-defaults",
            "--auth-root-authentication-method=normal",
            "--skip-test-db",
            "--skip-name-resolve",
        ]);
        let temporary = self.own_folder(&format!("temporary-install-{number}"), ids)?;
        install.arg(format!("--datadir={}", data.display())).arg(format!("--tmpdir={}", temporary.display()));
        install.stdout(Stdio::null());
        self.run(install, None)?;
        let (running, session, server) = self.start_mariadb(number, &data, ids)?;
        for path in sql_files(export)?.iter().filter(|path| !path.ends_with("accounts.sql")) {
            let mut client = Self::command(&program(&[], &["mariadb", "mysql"]), ids);
            client.args(server.arguments()).stdout(Stdio::null());
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            self.run(client, Some(path)).about(format_args!("{name} cannot be brought into a new server"))?;
        }
        let facts = self.count_mariadb(&session)?;
        Ok(TriedOut { server: running, facts, note: "a new MariaDB takes it".to_owned() })
    }
}
