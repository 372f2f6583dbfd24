//! PostgreSQL: the whole cluster by the server's own backup mode, or some databases by its own export program.
//!
//! - `cluster`: the files of the server, while it works, with what makes them consistent.
//! - `databases`: exports bound to a snapshot of the server's own, with rows counted in that same snapshot.
//! - `client`: talking to a server. `import`: the way back of an export. `scratch`: a server of a drill.

mod client;
mod cluster;
mod databases;
mod import;
mod scratch;

use std::path::PathBuf;

use crate::engines::scratch::{Restored, ScratchServers, TriedOut};
use crate::engines::server::{beforehand, with_names};
use crate::engines::{Engine, Importer, program};
use crate::kinds::{KindSteps, SourceKind};
use crate::part::context::{CaptureContext, PartError};
use crate::part::marks::MadeMarks;
use crate::part::staged::{ExportFolder, SourceChange, Staged};
use crate::part::walk::Walk;
use crate::part::walked::{StagedFiles, check_roots, take_looked};
use crate::plan::{Plan, PlannedPart};
use gullet_host::hook::Runner;
use gullet_model::Reason;
use gullet_model::definition::Postgres;
use gullet_model::record::{Capture, Layout, SecuredBy};
use gullet_model::step::Facts;

use client::PostgresServer;
use cluster::{Cluster, capture_cluster};
use databases::{Databases, places};
use import::PostgresImport;

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

impl Engine for Postgres {
    fn importer(&self, runner: &Runner<'_>) -> Option<Result<Box<dyn Importer>, Reason>> {
        if self.cluster.is_some() {
            return None;
        }
        let server = PostgresServer::of(self, runner.world).map_err(Reason::from);
        Some(server.map(|server| Box::new(PostgresImport { spec: self.clone(), server }) as Box<dyn Importer>))
    }

    fn lacks(&self, facts: &Facts) -> Option<String> {
        let major = facts.get("server_version")?.as_u64()?;
        let places = places(self, u32::try_from(major).unwrap_or(0));
        let is_lacking = self.cluster.is_some() && !program(&places, &["postgres"]).is_absolute();
        is_lacking.then(|| format!("is of PostgreSQL {major}, and no such server is installed here"))
    }

    fn try_out(&self, restored: &Restored<'_>, scratch: &ScratchServers<'_>) -> Result<TriedOut, Reason> {
        // A cluster's tablespaces are roots too.
        let data = restored.roots.iter().find(|root| root.join("PG_VERSION").is_file()).or(restored.roots.first());
        let Some(data) = data else {
            let major = restored.facts.get("server_version").and_then(serde_json::Value::as_u64);
            let major = major.and_then(|major| u32::try_from(major).ok()).unwrap_or(15);
            return scratch.postgres_databases(restored.number, self, restored.export, major);
        };
        scratch.cluster(restored.number, self, data, restored.files)
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
