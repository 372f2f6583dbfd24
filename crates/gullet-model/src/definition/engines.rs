//! The kinds of parts that stand for a service: database servers, web interfaces, what is kept by another system.

use std::collections::BTreeMap;
use std::path::PathBuf;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::types::{CommandSpec, EnvValue, OneOrMany, Probe};

/// Whom a database server is called as, and what of it is meant.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "a login", deny_unknown_fields)]
pub struct LoginSpec {
    /// The user to log in as; `postgres` or `root` by default, whichever the server has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Its password: `{ env = "…" }`, `{ file = "…" }` or `{ run = […] }`. Without it the server must let the user
    /// in by itself, as it does over its socket.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<EnvValue>,
    /// The account that the server is called as over its socket; by default the one of the user's name, when Gullet runs as
    /// root and there is one.
    #[serde(default, rename = "as", skip_serializing_if = "Option::is_none")]
    pub run_as: Option<String>,
    /// The databases to export; `["*"]` is all of them but the server's own. Without it the server's data folder
    /// must be named.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub databases: Vec<String>,
    /// The folder with the server's programs, where they are not found by themselves. Without it they are looked
    /// for at the usual places.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub programs: Option<PathBuf>,
}

/// A PostgreSQL server: its whole cluster by its own backup mode, or databases by its own export program.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "`postgres`", deny_unknown_fields)]
pub struct Postgres {
    /// The folder of the server's socket, or its host; `/run/postgresql` by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
    /// The server's port; 5432 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// The server's data folder: the whole cluster is captured, while it works. Without it `databases` must be
    /// named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cluster: Option<PathBuf>,
    /// Whom it is called as, and what of it is meant.
    #[serde(flatten)]
    pub login: LoginSpec,
}

/// A MariaDB server: databases by its own export program at one point, or its data folder where that is sound.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "`mariadb`", deny_unknown_fields)]
pub struct Mariadb {
    /// The server's socket; the usual places are looked at by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub socket: Option<PathBuf>,
    /// Its host, where it is not called over its socket. Without it the socket is used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
    /// The server's port; 3306 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// The server's data folder: captured from a snapshot, or while the server is stopped. Without it `databases`
    /// must be named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub datadir: Option<PathBuf>,
    /// Whom it is called as, and what of it is meant.
    #[serde(flatten)]
    pub login: LoginSpec,
}

/// An application with a web interface: its export is asked for, waited for and fetched.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "`http`", deny_unknown_fields)]
pub struct HttpExport {
    /// Asks for an export, where it has to be asked for. Without it the export is fetched at once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ask: Option<CommandSpec>,
    /// Where in the answer (JSON pointer, RFC 6901) the export's name stands; it fills `{answer}` in what follows.
    /// Without it the answer is not read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<String>,
    /// Passes when the export is ready. Without it the export is fetched at once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ready: Option<OneOrMany<Probe>>,
    /// Fetches the export: what is answered is the capture.
    pub fetch: CommandSpec,
    /// The content type that it must have; by its beginning. Without it an error page that is sent with status 200
    /// is taken for the export.
    #[serde(default, rename = "type", skip_serializing_if = "Option::is_none")]
    pub content_type: Option<String>,
    /// The least length in bytes that it must have; 1 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub min_bytes: Option<u64>,
}

/// A part whose bytes are kept by another system: a volume's snapshot in a cloud, an appliance's own backup.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "`outside`", deny_unknown_fields)]
pub struct Outside {
    /// Begins it, while the application is held; prints its id, which fills `{id}` in what follows.
    pub begin: CommandSpec,
    /// Passes when its point in time is fixed, so that the application may be released. Without it the point in
    /// time is taken for fixed when `begin` has ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub begun: Option<OneOrMany<Probe>>,
    /// Passes when it is complete.
    pub done: OneOrMany<Probe>,
    /// Proves that it is there and sound, once it is complete; what it prints is recorded. Without it `done` alone
    /// is believed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub check: Option<OneOrMany<Probe>>,
    /// Removes it, when its run is thinned. Without it what the other system keeps stays there for ever, which
    /// `sweep` says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remove: Option<CommandSpec>,
}

/// A request over HTTP, in a command's place.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "a request", deny_unknown_fields)]
pub struct RequestSpec {
    /// Header lines; a secret is `{ env = "…" }`, `{ file = "…" }` or `{ run = […] }`. Without it there are none
    /// but the usual ones.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub headers: BTreeMap<String, EnvValue>,
    /// The token for `Authorization: Bearer`. Without it no token is sent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bearer: Option<EnvValue>,
    /// The user of `Authorization: Basic`. Without it nobody signs in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// The password of that user. Without it nobody signs in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<EnvValue>,
    /// The body that is sent with it. Without it the body is empty.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub body: Option<String>,
    /// The type of what is sent; `application/json` by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub body_type: Option<String>,
    /// A file with the certificate (PEM) that signs the server's, where it is not signed by a known authority.
    /// Without it only authorities that the program knows are believed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub authority: Option<PathBuf>,
}
