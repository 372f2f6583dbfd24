//! MariaDB: some databases by its own export program, at one point, with rows counted at that same point; or its whole data
//! folder, where that is sound.
//!
//! - `databases`: the export.
//! - `folder`: when the files may be copied, and when not.

mod databases;
mod folder;

use std::time::Duration;

use super::secured::PartError;
use super::server::failed;
use crate::engine::Waiting;
use crate::engine::mariadb::{Server, Session};
use crate::plan::Plan;
use gullet_host::hook::Runner;
use gullet_model::definition::Mariadb;

pub use databases::{OWN, count};
pub use folder::kept_elsewhere;

pub(super) use databases::export;
pub(super) use folder::{is_sound, walk};

/// How long running statements of others are waited for before everything is locked. Meanwhile new ones wait behind.
const LOCK: Duration = Duration::from_secs(30);

/// What can be known beforehand. Gives what was found.
///
/// # Errors
/// Why a capture would fail.
pub(super) fn check(
    spec: &Mariadb,
    plan: &Plan,
    runner: &Runner<'_>,
    waiting: Waiting<'_>,
) -> Result<String, PartError> {
    let server = Server::of(spec, runner.world)?;
    match &spec.datadir {
        Some(datadir) => folder::check(&server, datadir, plan, waiting),
        None => databases::check(&server, spec, runner, waiting),
    }
}

/// Major and minor version of the server.
///
/// # Errors
/// When it is not MariaDB.
fn version(session: &Session, waiting: Waiting<'_>) -> Result<(u32, u32), PartError> {
    let text = session.value("select version()", waiting)?;
    if !text.contains("MariaDB") {
        return Err(failed(format!("the server is not MariaDB: its version is {text}")));
    }
    numbers(&text).ok_or_else(|| failed(format!("the server's version is {text:?}")))
}

/// The first two numbers of a version such as `10.11.19-MariaDB`.
fn numbers(text: &str) -> Option<(u32, u32)> {
    let mut numbers = text.split(|c: char| !c.is_ascii_digit()).filter_map(|word| word.parse().ok());
    Some((numbers.next()?, numbers.next()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_are_compared_by_their_first_two_numbers() {
        assert_eq!(numbers("10.11.19-MariaDB-0+deb12u1-log"), Some((10, 11)));
        assert!(numbers("11.4.5-MariaDB") > numbers("10.11.19-MariaDB"));
        assert_eq!((numbers("MariaDB"), numbers("11")), (None, None));
    }
}
