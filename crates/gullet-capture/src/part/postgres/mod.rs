//! PostgreSQL: the whole cluster by the server's own backup mode, or some databases by its own export program.
//!
//! - `cluster`: the files of the server, while it works, with what makes them consistent.
//! - `databases`: exports bound to a snapshot of the server's own, with rows counted in that same snapshot.

mod cluster;
mod databases;

pub use databases::{count, places};

use super::secured::PartError;
use crate::engine::Waiting;
use crate::engine::postgres::Server;
use gullet_host::hook::Runner;
use gullet_model::definition::Postgres;

pub(super) use cluster::{Cluster, capture_cluster, walk};
pub(super) use databases::Databases;

/// What can be known beforehand. Gives what was found.
///
/// # Errors
/// Why a capture would fail.
pub(super) fn check(spec: &Postgres, runner: &Runner<'_>, waiting: Waiting<'_>) -> Result<String, PartError> {
    let server = Server::of(spec, runner.world)?;
    match &spec.cluster {
        Some(cluster) => cluster::check(&server, cluster, waiting),
        None => databases::check(&server, spec, runner, waiting),
    }
}
