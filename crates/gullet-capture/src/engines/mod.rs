//! Database servers: one folder an engine, which has all that is known of it.
//!
//! An engine is a kind of part ([`crate::kinds`]), and more ([`Engine`]): its exports are brought back into a server, and a drill
//! starts a server on what was restored. Each folder has
//!
//! - `client`: talking to a server over the wire, by its own protocol;
//! - the files of what is captured: its exports, its data folder;
//! - `import`: the way back of an export; `scratch`: a server of a drill.
//!
//! [`of`] is the only place that tells engines apart. `server`, [`import`] and [`scratch`] have what they share. `as_account`: a
//! server that knows its clients by the account at the other end of its socket is called as that account.

pub mod import;
mod mariadb;
mod postgres;
pub mod scratch;
mod server;

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use gullet_host::hook::secret::{SecretError, resolve};
use gullet_host::hook::{Account, Cancellation, Runner};
use gullet_host::world::{Clock, World};
use gullet_model::Reason;
use gullet_model::definition::{EnvValue, LoginSpec, Mariadb, Part, PartKind, Postgres};
use gullet_model::step::Facts;

pub use import::Importer;
use scratch::{Restored, ScratchServers, TriedOut};

/// What a restore and a drill need of an engine, besides what is asked of every kind of part.
pub trait Engine {
    /// The server that an export of the part is brought back into; `None` where the part is of the server's files.
    fn importer(&self, runner: &Runner<'_>) -> Option<Result<Box<dyn Importer>, Reason>>;

    /// What this machine lacks to run a server on what was captured, in words; `None` where nothing is known to be missing.
    fn lacks(&self, facts: &Facts) -> Option<String> {
        let _ = facts;
        None
    }

    /// Starts a server on what was restored, or a new one that takes an export, and counts what is in it.
    ///
    /// # Errors
    /// Why no server starts on it, or takes it: then it is no good.
    fn try_out(&self, restored: &Restored<'_>, scratch: &ScratchServers<'_>) -> Result<TriedOut, Reason>;
}

/// The engine of a kind of part: as a part of the definition has it, `None` where that part is not of it; without a part with its
/// usual settings. `None` where the kind has no engine.
pub fn of(kind: PartKind, part: Option<&Part>) -> Option<Box<dyn Engine>> {
    match kind {
        PartKind::Postgres => Some(Box::new(part.map_or_else(|| Some(Postgres::default()), |p| p.postgres.clone())?)),
        PartKind::Mariadb => Some(Box::new(part.map_or_else(|| Some(Mariadb::default()), |p| p.mariadb.clone())?)),
        _ => None,
    }
}

/// How long a connection may take to be made.
const CONNECT: Duration = Duration::from_secs(15);

/// A server did not do what was asked of it.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum EngineError {
    /// It was time to stop before it answered.
    #[error("stopped before the server had answered")]
    Stopped,
    /// What the server or the way to it said.
    #[error("{0}")]
    Said(Reason),
    /// The password could not be had.
    #[error(transparent)]
    Secret(#[from] SecretError),
}

impl EngineError {
    /// What the server or the way to it said.
    fn said(words: impl Into<String>) -> Self {
        Self::Said(Reason::new(words))
    }
}

/// For how long an answer is waited for.
#[derive(Clone, Copy)]
pub struct Waiting<'a> {
    /// Measures the limit.
    pub clock: &'a dyn Clock,
    /// What cuts the waiting short.
    pub patience: Cancellation<'a>,
    /// How long one answer may take.
    pub limit: Duration,
}

/// Whom a server is called as.
#[derive(Clone, Debug)]
pub struct Login {
    /// The user of the database.
    pub user: String,
    /// The password, where one is needed.
    pub password: Option<String>,
    /// The account of this machine that clients run as.
    pub account: Option<Account>,
}

impl Login {
    /// As the definition says; `usual` is the user where it does not.
    pub fn of(spec: &LoginSpec, usual: &str, by_socket: bool, world: World<'_>) -> Result<Self, EngineError> {
        let user = spec.user.clone().unwrap_or_else(|| usual.to_owned());
        Ok(Self {
            password: password(spec.password.as_ref(), world.environment)?,
            account: account(spec.run_as.as_deref(), &user, by_socket)?,
            user,
        })
    }
}

/// A password of the definition.
fn password(value: Option<&EnvValue>, environment: &BTreeMap<String, String>) -> Result<Option<String>, EngineError> {
    let Some(value) = value else { return Ok(None) };
    let named = BTreeMap::from([("password".to_owned(), value.clone())]);
    Ok(resolve(&named, environment)?.env.remove("password"))
}

/// The account that a server is called as: the one that is named; else, over a socket and as root, the one of the user's
/// name, because that is whom servers let in by their usual settings.
fn account(named: Option<&str>, user: &str, by_socket: bool) -> Result<Option<Account>, EngineError> {
    match named {
        Some(name) => Account::find(name).map(Some).map_err(|error| EngineError::Said(error.into())),
        None if by_socket && rustix::process::geteuid().is_root() => Ok(Account::find(user).ok()),
        None => Ok(None),
    }
}

/// Gives this thread the rights of an account, for good, and nothing else of this process. The kernel tells a server the
/// account of the thread that connected (`SO_PEERCRED`, unix(7)).
pub(crate) fn become_account(account: Option<&Account>) -> io::Result<()> {
    use rustix::process::{Gid, Uid};
    let Some(account) = account.filter(|account| account.uid != rustix::process::geteuid().as_raw()) else {
        return Ok(());
    };
    let (uid, gid) = (Uid::from_raw(account.uid), Gid::from_raw(account.gid));
    rustix::thread::set_thread_groups(&[gid])?;
    rustix::thread::set_thread_res_gid(gid, gid, gid)?;
    Ok(rustix::thread::set_thread_res_uid(uid, uid, uid)?)
}

/// Does something on a thread that has the rights of an account.
pub(crate) fn as_account<T: Send>(
    account: Option<&Account>,
    act: impl FnOnce() -> io::Result<T> + Send,
) -> io::Result<T> {
    std::thread::scope(|scope| {
        let thread = scope.spawn(|| become_account(account).and_then(|()| act()));
        thread.join().map_err(|_| io::Error::other("the thread that connects ended early"))?
    })
}

/// The first folder among `folders` that has this program; its name alone where none has, so that it is looked for.
pub(crate) fn program(folders: &[PathBuf], names: &[&str]) -> PathBuf {
    let usual = gullet_host::hook::PATH.split(':').map(Path::new);
    let mut places = folders.iter().map(PathBuf::as_path).chain(usual);
    let found = places.find_map(|folder| names.iter().map(|name| folder.join(name)).find(|path| path.is_file()));
    found.unwrap_or_else(|| PathBuf::from(names[0]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_part_that_is_not_of_an_engine_any_more_has_none() {
        let part = Part { mariadb: Some(Mariadb::default()), ..Part::default() };
        assert!(of(PartKind::Mariadb, Some(&part)).is_some() && of(PartKind::Postgres, None).is_some());
        assert!(of(PartKind::Postgres, Some(&part)).is_none(), "nothing is brought into a server that nobody named");
        assert!(of(PartKind::Files, Some(&part)).is_none() && of(PartKind::Files, None).is_none());
    }
}
