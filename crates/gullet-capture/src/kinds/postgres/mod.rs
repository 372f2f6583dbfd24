//! PostgreSQL: the whole cluster by the server's own backup mode, or some databases by its own export program.
//!
//! - `cluster`: the files of the server, while it works, with what makes them consistent.
//! - `databases`: exports bound to a snapshot of the server's own, with rows counted in that same snapshot.

mod cluster;
mod databases;

pub use databases::{count, places};

use std::path::PathBuf;

use super::{KindSteps, SourceKind};
use crate::engine::postgres::PostgresServer;
use crate::part::context::{CaptureContext, PartError};
use crate::part::marks::MadeMarks;
use crate::part::server::{beforehand, with_names};
use crate::part::staged::{ExportFolder, SourceChange, Staged};
use crate::part::walk::Walk;
use crate::part::walked::{StagedFiles, check_roots, take_looked};
use crate::plan::{Plan, PlannedPart};
use gullet_host::hook::Runner;
use gullet_model::definition::Postgres;
use gullet_model::record::{Capture, Layout, SecuredBy};

use cluster::{Cluster, capture_cluster};
use databases::Databases;

impl SourceKind for Postgres {
    fn describe(&self, part: &PlannedPart) -> String {
        match &self.cluster {
            Some(cluster) => format!("{}, in the server's backup mode", cluster.display()),
            None => format!("databases {}, by pg_dump", part.filled(&self.login.databases).join(", ")),
        }
    }

    fn can_be_made_anew(&self) -> bool {
        self.cluster.is_none()
    }

    fn layout(&self) -> Layout {
        if self.cluster.is_some() { Layout::Source } else { Layout::Export }
    }

    fn walk(&self, part: &PlannedPart, plan: &Plan) -> Option<Walk> {
        self.cluster.as_ref().map(|cluster| cluster::walk(cluster, &[], part, plan))
    }

    fn steps(&self, part: &PlannedPart) -> KindSteps {
        KindSteps { asks_server: true, ..KindSteps::of_source(self.describe(part)) }
    }

    fn check(&self, part: &PlannedPart, _: &Plan, runner: &Runner<'_>) -> Option<Result<String, PartError>> {
        let spec = with_names(self, part);
        let found =
            PostgresServer::of(&spec, runner.world).map_err(PartError::from).and_then(|server| match &spec.cluster {
                Some(cluster) => cluster::check(&server, cluster, beforehand(runner)),
                None => databases::check(&server, &spec, runner, beforehand(runner)),
            });
        Some(found)
    }

    fn capture(
        &self,
        part: &PlannedPart,
        capture: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Box<dyn Staged>, PartError> {
        let spec = with_names(self, part);
        let server = PostgresServer::of(&spec, context.world)?;
        let Some(cluster) = &spec.cluster else {
            let databases = Databases::pin(&spec, server, context)?;
            capture.secured = Some(SecuredBy::View);
            return Ok(Box::new(Pinned { databases, path: context.scratch.join("export") }));
        };
        let made = capture_cluster(part, &server, cluster, capture, context)?;
        check_roots(part, &made.counts, &made.looked.roots, context.last)?;
        (capture.counts, capture.secured) = (made.counts, made.by);
        take_looked(made.looked, capture);
        let Cluster { walk, known, pending, copies, extras, .. } = made;
        Ok(Box::new(StagedFiles { walk, seen: None, known, pending, copies, extras }))
    }
}

/// Databases whose state the server keeps until they are exported.
struct Pinned {
    databases: Databases,
    path: PathBuf,
}

impl Staged for Pinned {
    fn source_change(&self) -> Result<SourceChange, PartError> {
        Ok(SourceChange::Engine)
    }

    fn store(
        &mut self,
        part: &PlannedPart,
        capture: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Option<MadeMarks>, PartError> {
        self.databases.export(&self.path, capture, context)?;
        ExportFolder { path: self.path.clone() }.store(part, capture, context)
    }
}
