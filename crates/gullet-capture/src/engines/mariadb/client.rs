//! MariaDB (client/server protocol: mariadb.com/kb/en/clientserver-protocol), by `mysql`.

use std::path::PathBuf;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::time::Duration;

use mysql::prelude::Queryable;
use mysql::{Conn, OptsBuilder, Row, Value};

use crate::engines::{CONNECT, EngineError, Login, Waiting, become_account};
use gullet_host::world::World;
use gullet_model::Reason;
use gullet_model::definition::Mariadb;

/// Where servers have their socket, by their usual settings.
const SOCKETS: [&str; 3] = ["/run/mysqld/mysqld.sock", "/var/lib/mysql/mysql.sock", "/tmp/mysql.sock"];
/// How often the wish to stop is looked at.
const TICK: Duration = Duration::from_millis(50);

/// A server, and how it is called.
#[derive(Clone, Debug)]
pub struct MariadbServer {
    /// Where it listens.
    pub place: ServerPlace,
    /// Who signs in.
    pub login: Login,
}

/// Where it listens.
#[derive(Clone, Debug)]
pub enum ServerPlace {
    /// At a socket.
    Socket(PathBuf),
    /// At a host and port.
    Host(String, u16),
}

/// Rows of texts.
pub(crate) type Rows = Vec<Vec<Option<String>>>;

/// A session with a server, on a thread of its own, so that an answer need not be waited for to its end. Letting go of it ends
/// what it began: a lock, a transaction.
pub struct MariadbSession {
    ask: Sender<String>,
    answers: Receiver<Result<Rows, Reason>>,
}

impl MariadbServer {
    /// The server that a definition means.
    ///
    /// # Errors
    /// When a secret or an account of it is not there.
    pub fn of(spec: &Mariadb, world: World<'_>) -> Result<Self, EngineError> {
        let place = match (&spec.host, &spec.socket) {
            (Some(host), _) => ServerPlace::Host(host.clone(), spec.port.unwrap_or(3306)),
            (None, Some(socket)) => ServerPlace::Socket(socket.clone()),
            (None, None) => {
                let found = SOCKETS.iter().map(PathBuf::from).find(|path| path.exists());
                ServerPlace::Socket(found.unwrap_or_else(|| PathBuf::from(SOCKETS[0])))
            }
        };
        let login = Login::of(&spec.login, "root", matches!(place, ServerPlace::Socket(_)), world)?;
        Ok(Self { place, login })
    }

    /// How people name it.
    pub fn describe(&self) -> String {
        match &self.place {
            ServerPlace::Socket(path) => path.display().to_string(),
            ServerPlace::Host(host, port) => format!("{host} port {port}"),
        }
    }

    /// Begins a session.
    pub fn connect(&self, waiting: Waiting<'_>) -> Result<MariadbSession, EngineError> {
        let (ask, asked) = channel::<String>();
        let (answer, answers) = channel();
        let server = self.clone();
        std::thread::spawn(move || {
            let connected = become_account(server.login.account.as_ref())
                .map_err(Reason::from)
                .and_then(|()| Conn::new(server.options()).map_err(|error| explain(&error)));
            let mut connection = match connected {
                Ok(connection) => connection,
                Err(why) => return drop(answer.send(Err(why))),
            };
            let _ = answer.send(Ok(Vec::new()));
            for sql in asked {
                if answer.send(rows(&mut connection, &sql)).is_err() {
                    return;
                }
            }
        });
        let session = MariadbSession { ask, answers };
        session.answer(Waiting { limit: CONNECT, ..waiting }).map_err(|error| match error {
            EngineError::Said(what) => EngineError::Said(what.at(format_args!("cannot log in to {}", self.describe()))),
            other => other,
        })?;
        session.rows("set session max_statement_time = 0, wait_timeout = 86400, sql_mode = ''", waiting)?;
        Ok(session)
    }

    fn options(&self) -> OptsBuilder {
        let options = OptsBuilder::new()
            .user(Some(&self.login.user))
            .pass(self.login.password.as_ref())
            .tcp_connect_timeout(Some(CONNECT))
            .prefer_socket(false);
        match &self.place {
            ServerPlace::Socket(path) => options.socket(Some(path.display().to_string())),
            ServerPlace::Host(host, port) => options.ip_or_hostname(Some(host)).tcp_port(*port),
        }
    }

    /// The words that tell the server's own programs where it is. The password goes through their environment.
    pub fn arguments(&self) -> Vec<String> {
        let mut words = vec!["--no-defaults".to_owned(), format!("--user={}", self.login.user)];
        match &self.place {
            ServerPlace::Socket(path) => words.push(format!("--socket={}", path.display())),
            ServerPlace::Host(host, port) => {
                words.extend([format!("--host={host}"), format!("--port={port}"), "--protocol=TCP".to_owned()]);
            }
        }
        words
    }
}

impl MariadbSession {
    fn answer(&self, waiting: Waiting<'_>) -> Result<Rows, EngineError> {
        let began = waiting.clock.uptime();
        loop {
            match self.answers.recv_timeout(TICK) {
                Ok(answer) => return answer.map_err(EngineError::Said),
                Err(RecvTimeoutError::Disconnected) => {
                    return Err(EngineError::said("the session ended"));
                }
                Err(RecvTimeoutError::Timeout) if waiting.patience.is_over(waiting.clock) => {
                    return Err(EngineError::Stopped);
                }
                Err(RecvTimeoutError::Timeout) => {
                    if waiting.clock.uptime().saturating_sub(began) >= waiting.limit {
                        let text = format!("the server did not answer within {} s", waiting.limit.as_secs());
                        return Err(EngineError::said(text));
                    }
                }
            }
        }
    }

    /// What a query gives.
    pub fn rows(&self, sql: &str, waiting: Waiting<'_>) -> Result<Rows, EngineError> {
        let sent = self.ask.send(sql.to_owned());
        sent.map_err(|_| EngineError::said("the session ended"))?;
        self.answer(waiting)
    }

    /// The first row of what a query gives, if there is one.
    pub(crate) fn row(&self, sql: &str, waiting: Waiting<'_>) -> Result<Option<Vec<String>>, EngineError> {
        let row = self.rows(sql, waiting)?.into_iter().next();
        Ok(row.map(|row| row.into_iter().map(Option::unwrap_or_default).collect()))
    }

    /// The first value of what a query gives; empty when there is none.
    pub(crate) fn value(&self, sql: &str, waiting: Waiting<'_>) -> Result<String, EngineError> {
        Ok(self.row(sql, waiting)?.and_then(|row| row.into_iter().next()).unwrap_or_default())
    }
}

fn rows(connection: &mut Conn, sql: &str) -> Result<Rows, Reason> {
    let given: Vec<Row> = connection.query(sql).map_err(|error| explain(&error))?;
    Ok(given.into_iter().map(|row| row.unwrap().into_iter().map(text).collect()).collect())
}

fn text(value: Value) -> Option<String> {
    match value {
        Value::NULL => None,
        Value::Bytes(bytes) => Some(String::from_utf8_lossy(&bytes).into_owned()),
        Value::Int(number) => Some(number.to_string()),
        Value::UInt(number) => Some(number.to_string()),
        Value::Float(number) => Some(number.to_string()),
        Value::Double(number) => Some(number.to_string()),
        other => Some(other.as_sql(true)),
    }
}

/// A text as a literal of SQL.
pub(crate) fn literal(text: &str) -> String {
    format!("'{}'", text.replace('\\', "\\\\").replace('\'', "''"))
}

/// A name as SQL writes it.
pub(crate) fn quoted(name: &str) -> String {
    format!("`{}`", name.replace('`', "``"))
}

/// What the server or the way to it said, on one line.
fn explain(error: &mysql::Error) -> Reason {
    Reason::new(match error {
        mysql::Error::MySqlError(said) => format!("{} (error {}, SQLSTATE {})", said.message, said.code, said.state),
        mysql::Error::IoError(error) => format!("{error} (is the server running?)"),
        mysql::Error::DriverError(mysql::DriverError::CouldNotConnect(found)) => {
            let why = found.as_ref().map_or_else(String::new, |(_, why, _)| format!(": {why}"));
            format!("there is no connection{why} (is the server running?)")
        }
        other => other.to_string(),
    })
}
