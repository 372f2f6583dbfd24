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
    /// Its password: `{ env = "…" }`, `{ file = "…" }` or `{ run = […] }`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<EnvValue>,
    /// The account that the server is called as over its socket; by default the one of the user's name, when Gullet runs as
    /// root and there is one.
    #[serde(default, rename = "as", skip_serializing_if = "Option::is_none")]
    pub run_as: Option<String>,
    /// The databases to export; `["*"]` is all of them but the server's own.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub databases: Vec<String>,
    /// The folder with the server's programs, where they are not found by themselves.
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
    /// The server's data folder: the whole cluster is captured, while it works.
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
    /// Its host, where it is not called over its socket.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
    /// The server's port; 3306 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// The server's data folder: captured from a snapshot, or while the server is stopped.
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
    /// Asks for an export, where it has to be asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ask: Option<CommandSpec>,
    /// Where in the answer (JSON pointer, RFC 6901) the export's name stands; it fills `{answer}` in what follows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<String>,
    /// Passes when the export is ready.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ready: Option<OneOrMany<Probe>>,
    /// Fetches the export: what is answered is the capture.
    pub fetch: CommandSpec,
    /// The content type that it must have; by its beginning.
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
    /// Passes when its point in time is fixed, so that the application may be released.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub begun: Option<OneOrMany<Probe>>,
    /// Passes when it is complete.
    pub done: OneOrMany<Probe>,
    /// Proves that it is there and sound, once it is complete; what it prints is recorded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub check: Option<OneOrMany<Probe>>,
    /// Removes it, when its run is thinned.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remove: Option<CommandSpec>,
}

/// A request over HTTP, in a command's place.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(title = "a request", deny_unknown_fields)]
pub struct RequestSpec {
    /// Header lines; a secret is `{ env = "…" }`, `{ file = "…" }` or `{ run = […] }`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub headers: BTreeMap<String, EnvValue>,
    /// The token for `Authorization: Bearer`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bearer: Option<EnvValue>,
    /// The user of `Authorization: Basic`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// The password of that user.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<EnvValue>,
    /// The body that is sent with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub body: Option<String>,
    /// The type of what is sent; `application/json` by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub body_type: Option<String>,
    /// A file with the certificate (PEM) that signs the server's, where it is not signed by a known authority.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub authority: Option<PathBuf>,
}
