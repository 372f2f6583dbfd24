//! MariaDB: some databases by its own export program, at one point, with rows counted at that same point; or its whole data
//! folder, where that is sound.
//!
//! - `databases`: the export.
//! - `folder`: when the files may be copied, and when not.
//! - `client`: talking to a server. `import`: the way back of an export. `scratch`: a server of a drill.

mod client;
mod databases;
mod folder;
mod import;
mod scratch;

use std::path::PathBuf;
use std::time::Duration;

use crate::engines::scratch::{Restored, ScratchServers, TriedOut};
use crate::engines::server::{beforehand, with_names};
use crate::engines::{Engine, Importer, Waiting};
use crate::kinds::{KindSteps, SourceKind};
use crate::part::context::{CaptureContext, PartError};
use crate::part::staged::{ExportFolder, Staged};
use crate::part::walk::Walk;
use crate::part::walked;
use crate::plan::{Plan, PlannedPart};
use gullet_host::hook::Runner;
use gullet_model::Reason;
use gullet_model::definition::Mariadb;
use gullet_model::record::{Capture, Layout};

use client::{MariadbServer, MariadbSession};
use import::MariadbImport;

/// How long running statements of others are waited for before everything is locked. Meanwhile new ones wait behind.
const LOCK: Duration = Duration::from_secs(30);

impl SourceKind for Mariadb {
    fn describe(&self, part: &PlannedPart) -> String {
        match &self.datadir {
            Some(datadir) => format!("{}, from a snapshot or a stopped server", datadir.display()),
            None => format!("databases {}, by mariadb-dump", part.filled(&self.login.databases).join(", ")),
        }
    }

    fn can_be_made_anew(&self) -> bool {
        self.datadir.is_none()
    }

    fn layout(&self) -> Layout {
        if self.datadir.is_some() { Layout::Source } else { Layout::Export }
    }

    fn staged_paths(&self) -> Vec<&PathBuf> {
        self.datadir.iter().collect()
    }

    fn walk(&self, part: &PlannedPart, plan: &Plan) -> Option<Walk> {
        self.datadir.as_ref().map(|datadir| folder::walk(datadir, part, plan))
    }

    fn steps(&self, part: &PlannedPart) -> KindSteps {
        KindSteps { asks_server: true, ..KindSteps::of_source(self.describe(part)) }
    }

    fn check(&self, part: &PlannedPart, plan: &Plan, runner: &Runner<'_>) -> Option<Result<String, PartError>> {
        let spec = with_names(self, part);
        let found =
            MariadbServer::of(&spec, runner.world).map_err(PartError::from).and_then(|server| match &spec.datadir {
                Some(datadir) => folder::check(&server, datadir, plan, beforehand(runner)),
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
        let Some(datadir) = &spec.datadir else {
            let server = MariadbServer::of(&spec, context.world)?;
            let path = context.scratch.join("export");
            databases::export(&spec, &server, &path, capture, context)?;
            return Ok(Box::new(ExportFolder { path }));
        };
        folder::is_sound(datadir, context)?;
        let walk = folder::walk(datadir, part, context.plan).passing_over(context.staging.folders());
        let staged = walked::through_snapshot_or_not(part, walk, capture, context)?;
        // A server that was started meanwhile.
        folder::is_sound(datadir, context)?;
        Ok(staged)
    }
}

impl Engine for Mariadb {
    fn importer(&self, runner: &Runner<'_>) -> Option<Result<Box<dyn Importer>, Reason>> {
        if self.datadir.is_some() {
            return None;
        }
        let server = MariadbServer::of(self, runner.world).map_err(Reason::from);
        Some(server.map(|server| Box::new(MariadbImport { spec: self.clone(), server }) as Box<dyn Importer>))
    }

    fn try_out(&self, restored: &Restored<'_>, scratch: &ScratchServers<'_>) -> Result<TriedOut, Reason> {
        match restored.roots.first() {
            Some(data) => scratch.datadir(restored.number, data),
            None => scratch.mariadb_databases(restored.number, restored.export),
        }
    }
}

/// Major and minor version of the server.
///
/// # Errors
/// When it is not MariaDB.
fn version(session: &MariadbSession, waiting: Waiting<'_>) -> Result<(u32, u32), PartError> {
    let text = session.value("select version()", waiting)?;
    if !text.contains("MariaDB") {
        return Err(PartError::failed(format!("the server is not MariaDB: its version is {text}")));
    }
    numbers(&text).ok_or_else(|| PartError::failed(format!("the server's version is {text:?}")))
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
