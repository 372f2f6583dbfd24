//! PostgreSQL (protocol 3: postgresql.org/docs/current/protocol.html), by `tokio-postgres`.

use std::future::Future;
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::pin::pin;
use std::time::Duration;

use tokio::runtime::{Builder, Runtime};
use tokio_postgres::config::SslMode;
use tokio_postgres::{Client, Config, NoTls, SimpleQueryMessage};

use crate::engines::{CONNECT, EngineError, Login, Waiting, as_account};
use gullet_host::world::World;
use gullet_model::definition::Postgres;

/// The oldest server whose backup mode is known: from here on it is `pg_backup_start` and `pg_backup_stop`.
const OLDEST: u32 = 150_000;
/// How often the wish to stop is looked at.
const TICK: Duration = Duration::from_millis(50);

/// A server, and how it is called.
#[derive(Debug)]
pub struct PostgresServer {
    /// The host, or the folder of the socket.
    pub host: String,
    /// The TCP port, which is also in the name of the socket.
    pub port: u16,
    /// Who signs in.
    pub login: Login,
}

/// A session with a server. Letting go of it ends what it began: a transaction, a backup mode.
pub struct PostgresSession {
    runtime: Runtime,
    client: Client,
}

/// Rows of texts.
pub(crate) type Rows = Vec<Vec<Option<String>>>;

impl PostgresServer {
    /// The server that a definition means.
    ///
    /// # Errors
    /// When a secret or an account of it is not there.
    pub fn of(spec: &Postgres, world: World<'_>) -> Result<Self, EngineError> {
        let host = spec.host.clone().unwrap_or_else(|| "/run/postgresql".to_owned());
        let login = Login::of(&spec.login, "postgres", host.starts_with('/'), world)?;
        Ok(Self { port: spec.port.unwrap_or(5432), host, login })
    }

    /// How people name it.
    pub fn describe(&self) -> String {
        format!("{} port {}", self.host, self.port)
    }

    /// Begins a session with a database.
    pub fn connect(&self, database: &str, waiting: Waiting<'_>) -> Result<PostgresSession, EngineError> {
        let failed = |what: String| EngineError::said(format!("cannot log in to {}: {what}", self.describe()));
        let wrap = |error: std::io::Error| failed(error.to_string());
        let runtime = Builder::new_current_thread().enable_all().build().map_err(wrap)?;
        let mut config = Config::new();
        config.user(&self.login.user).dbname(database).application_name("gullet").connect_timeout(CONNECT);
        if let Some(password) = &self.login.password {
            config.password(password);
        }
        let waiting = Waiting { limit: CONNECT, ..waiting };
        let client = if self.host.starts_with('/') {
            config.ssl_mode(SslMode::Disable);
            let path = PathBuf::from(&self.host).join(format!(".s.PGSQL.{}", self.port));
            let stream = as_account(self.login.account.as_ref(), || UnixStream::connect(&path))
                .map_err(|error| failed(format!("{}: {error} (is the server running?)", path.display())))?;
            stream.set_nonblocking(true).map_err(wrap)?;
            wait(&runtime, waiting, async {
                let stream = tokio::net::UnixStream::from_std(stream).map_err(wrap)?;
                let (client, connection) =
                    config.connect_raw(stream, NoTls).await.map_err(|error| failed(explain(&error)))?;
                tokio::spawn(connection);
                Ok(client)
            })?
        } else {
            config.host(&self.host).port(self.port);
            wait(&runtime, waiting, async {
                let (client, connection) = config.connect(NoTls).await.map_err(|error| failed(explain(&error)))?;
                tokio::spawn(connection);
                Ok(client)
            })?
        };
        let session = PostgresSession { runtime, client };
        // Whatever the role's settings are: a long export is no idle session, and names come as they are stored.
        session.rows(
            "set statement_timeout = 0; set lock_timeout = 0; set idle_in_transaction_session_timeout = 0; \
             set search_path = pg_catalog; set client_encoding = 'UTF8'; set standard_conforming_strings = on",
            waiting,
        )?;
        Ok(session)
    }
}

impl PostgresSession {
    /// What a query, or several, give; the rows of all of them.
    pub fn rows(&self, sql: &str, waiting: Waiting<'_>) -> Result<Rows, EngineError> {
        let messages = wait(&self.runtime, waiting, async {
            self.client.simple_query(sql).await.map_err(|error| EngineError::said(explain(&error)))
        })?;
        let rows = messages.into_iter().filter_map(|message| match message {
            SimpleQueryMessage::Row(row) => Some((0..row.len()).map(|at| row.get(at).map(str::to_owned)).collect()),
            _ => None,
        });
        Ok(rows.collect())
    }

    /// The first row of what a query gives.
    pub(crate) fn row(&self, sql: &str, waiting: Waiting<'_>) -> Result<Vec<String>, EngineError> {
        let row = self.rows(sql, waiting)?.into_iter().next();
        let row = row.ok_or_else(|| EngineError::said(format!("the server gave nothing for `{sql}`")))?;
        Ok(row.into_iter().map(Option::unwrap_or_default).collect())
    }

    /// The first value of what a query gives.
    pub(crate) fn value(&self, sql: &str, waiting: Waiting<'_>) -> Result<String, EngineError> {
        Ok(self.row(sql, waiting)?.into_iter().next().unwrap_or_default())
    }

    /// The server's version as a number, such as 150018.
    ///
    /// # Errors
    /// When it is too old.
    pub(crate) fn version(&self, waiting: Waiting<'_>) -> Result<u32, EngineError> {
        let text = self.value("select current_setting('server_version_num')", waiting)?;
        let version = text.parse().map_err(|_| EngineError::said(format!("the server has no version: {text:?}")))?;
        if version < OLDEST {
            let text = format!("the server is PostgreSQL {}, and 15 is the oldest that is known", version / 10_000);
            return Err(EngineError::said(text));
        }
        Ok(version)
    }
}

/// A name in quotes.
pub(crate) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A text as a literal of SQL.
pub(crate) fn literal(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

fn wait<T>(
    runtime: &Runtime,
    waiting: Waiting<'_>,
    work: impl Future<Output = Result<T, EngineError>>,
) -> Result<T, EngineError> {
    let began = waiting.clock.uptime();
    runtime.block_on(async {
        let mut work = pin!(work);
        loop {
            if let Ok(done) = tokio::time::timeout(TICK, &mut work).await {
                return done;
            }
            if waiting.patience.is_over(waiting.clock) {
                return Err(EngineError::Stopped);
            }
            let waited = waiting.clock.uptime().saturating_sub(began);
            if waited >= waiting.limit {
                let text = format!("the server did not answer within {} s", waiting.limit.as_secs());
                return Err(EngineError::said(text));
            }
        }
    })
}

/// What the server or the way to it said, on one line.
fn explain(error: &tokio_postgres::Error) -> String {
    match error.as_db_error() {
        Some(said) => {
            let more = [said.detail(), said.hint()].into_iter().flatten().map(|more| format!("; {more}"));
            format!("{} (SQLSTATE {}){}", said.message(), said.code().code(), more.collect::<String>())
        }
        None if error.is_closed() => "the server closed the connection".to_owned(),
        None => gullet_model::words::chain(error),
    }
}
