//! What a drill does, as a value.

use std::fs;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

use gullet_store::{IoPath, Store, free_space};
use serde::Serialize;

use super::{Drill, DrillCheck, DrillError, DrillReport, IMPORT};
use gullet_host::state::{AppLock, State, private_folder};
use gullet_host::world::World;
use gullet_logbook::logbook::{Logbook, Logged};
use gullet_model::definition::{App, DrillSpec, Nature, PartKind, Pick, command_text};
use gullet_model::ids::{Random, random_id};
use gullet_model::outcome::Outcome;
use gullet_model::record::{Capture, Layout, RemarkKind};
use gullet_model::words::{chain, count, duration, millis, size};

/// What a drill will do.
#[derive(Clone, Debug, Serialize)]
pub struct DrillPlan {
    /// The name of the application.
    pub app: String,
    /// The id of the run that is proven.
    pub run: String,
    /// The run's outcome.
    pub outcome: Outcome,
    /// Where it is restored to.
    pub scratch: PathBuf,
    /// Bytes that it has.
    pub bytes: u64,
    /// What is done with each part.
    pub parts: Vec<(String, String)>,
    /// The definition's checks: name and command.
    pub checks: Vec<(String, String)>,
    #[serde(skip)]
    pub(super) spec: DrillSpec,
    #[serde(skip)]
    pub(super) app_spec: App,
    #[serde(skip)]
    pub(super) id: String,
}

pub(super) fn kind_of(capture: &Capture) -> &'static str {
    match (capture.kind.nature(), capture.kind, capture.layout) {
        (Nature::Database, PartKind::Sqlite, _) => "opened by the engine; integrity and rows",
        (Nature::Database, _, Layout::Export) => "brought into a new server; rows",
        (Nature::Database, PartKind::Postgres, Layout::Source) => "a server is started on it; the engine's own check",
        (Nature::Database, _, Layout::Source) => "a server is started on it; rows",
        (Nature::Files | Nature::Export, _, _) => "restored",
        (Nature::Elsewhere, _, _) => "not here: another system has it",
    }
}

impl DrillPlan {
    /// Plans a drill of a run. `spec` is the application as this machine's definition says it, or as the record does.
    pub fn make(logged: &Logged, spec: &App, state: &State, random: &dyn Random) -> Self {
        let drill = spec.drill.clone().unwrap_or_default();
        let id = random_id(random, 8);
        let above = drill.scratch.clone().unwrap_or_else(|| state.folder().join("drills"));
        let record = &logged.record;
        let wanted = |capture: &&Capture| drill.parts.is_empty() || drill.parts.contains(&capture.part);
        let parts = record.captures.iter().filter(wanted);
        Self {
            app: record.app.clone(),
            run: record.run.to_string(),
            outcome: logged.outcome(),
            scratch: above.join(format!("gullet-drill-{}-{id}", record.app)),
            bytes: parts.clone().map(|capture| capture.counts.bytes).sum(),
            parts: parts.map(|capture| (capture.part.clone(), kind_of(capture).to_owned())).collect(),
            checks: drill.checks.iter().map(|check| (check.name.clone(), command_text(&check.probe.command))).collect(),
            spec: drill,
            app_spec: spec.clone(),
            id,
        }
    }

    /// Removes what drills of the application left that were killed. Call it with the drill's lock.
    fn clear_leftovers(&self, above: &Path) {
        let prefix = format!("gullet-drill-{}-", self.app);
        for entry in fs::read_dir(above).into_iter().flatten().flatten() {
            // The id has no hyphen, so that this is not another application's whose name begins the same.
            let name = entry.file_name().to_string_lossy().into_owned();
            if name.strip_prefix(&prefix).is_some_and(|id| !id.contains('-')) {
                let _ = fs::remove_dir_all(entry.path());
            }
        }
    }

    /// Looks at the scratch place, and makes it.
    fn prepare(&self, logged: &Logged, store: &Store, state: &State) -> Result<(), DrillError> {
        let above = self.scratch.parent().unwrap_or(Path::new("/"));
        private_folder(above)?;
        self.clear_leftovers(above);
        let real = fs::canonicalize(above).at(above)?;
        let place = |what: &str| DrillError::Place { place: real.clone(), what: what.to_owned() };
        let sources = logged.record.captures.iter().flat_map(|capture| &capture.roots);
        for root in sources {
            let root = fs::canonicalize(&root.path).unwrap_or_else(|_| root.path.clone().into());
            if real.starts_with(&root) && !state.folder().starts_with(&root) {
                return Err(place("what is captured of the live application"));
            }
        }
        if real.starts_with(store.location().describe()) {
            return Err(place("the store"));
        }
        let imported = logged
            .record
            .captures
            .iter()
            .filter(|capture| capture.layout == Layout::Export && capture.kind.nature() == Nature::Database);
        let imported: u64 = imported.map(|capture| capture.counts.bytes * IMPORT.0 + IMPORT.1).sum();
        let wanted = self.bytes + imported;
        let free = free_space(&real)?;
        if free < wanted {
            return Err(DrillError::Space { place: real, free: size(free), wanted: size(wanted) });
        }
        fs::DirBuilder::new().mode(0o700).create(&self.scratch).at(&self.scratch)?;
        Ok(())
    }

    /// Does it, and tells the logbook.
    ///
    /// # Errors
    /// When it could not even begin; nothing is said about the run then.
    pub fn apply(
        &self,
        logged: &Logged,
        store: &Store,
        state: &State,
        world: World<'_>,
        tell: &mut dyn FnMut(&DrillCheck),
        progress: &mut dyn FnMut(&str, u64, u64),
    ) -> Result<DrillReport, DrillError> {
        let _lock: AppLock =
            state.lock(&format!("{}.drill", self.app), &format!("drill, process {}", std::process::id()))?;
        self.prepare(logged, store, state)?;
        let began = world.clock.uptime();
        let mut drill = Drill {
            plan: self,
            logged,
            store,
            state,
            world,
            began,
            servers: Vec::new(),
            report: DrillReport {
                run: self.run.clone(),
                proven: false,
                unproven: Vec::new(),
                restore_ms: 0,
                took_ms: 0,
                checks: Vec::new(),
                warnings: Vec::new(),
                interrupted: false,
            },
            tell,
        };
        let result = drill.all(progress);
        drill.servers.clear();
        let mut report = drill.report;
        report.took_ms = millis(world.clock.uptime().saturating_sub(began));
        // A drill that was stopped, or could not write where it should, says nothing of the run.
        report.interrupted = world.stop.asked().is_some();
        report.unproven = self.unproven(logged);
        let holds = result.is_ok() && !report.interrupted && report.checks.iter().all(|check| check.ok);
        report.proven = holds && report.unproven.is_empty();
        if let Err(error) = fs::remove_dir_all(&self.scratch) {
            report.warnings.push(format!("{} could not be cleared: {error}", self.scratch.display()));
        }
        result?;
        if !report.interrupted {
            self.remark(logged, store, state, world, &mut report);
        }
        Ok(report)
    }

    /// What of the run nobody has opened or asked about when everything holds: that its bytes are intact proves no more than that.
    fn unproven(&self, logged: &Logged) -> Vec<String> {
        let mut unproven = Vec::new();
        let is_asked = !self.spec.checks.is_empty();
        let has_engine = |capture: &Capture| capture.kind.nature() == Nature::Database;
        let is_wanted = |capture: &Capture| self.spec.parts.is_empty() || self.spec.parts.contains(&capture.part);
        let captures = || logged.record.captures.iter();
        let is_opened = captures().any(|capture| has_engine(capture) && is_wanted(capture));
        for capture in captures() {
            let part = &capture.part;
            if !is_wanted(capture) {
                if capture.required {
                    unproven.push(format!("{part} is required, and the drill leaves it out"));
                }
                continue;
            }
            let why = match capture.kind.nature() {
                Nature::Elsewhere if capture.required => "is required, and another system has it",
                Nature::Export if !is_asked => "is an export that nobody opened",
                Nature::Files if !is_asked && !is_opened => "is files that nobody opened",
                _ => continue,
            };
            unproven.push(format!("{part} {why}"));
        }
        unproven
    }

    fn remark(&self, logged: &Logged, store: &Store, state: &State, world: World<'_>, report: &mut DrillReport) {
        if report.checks.iter().all(|check| check.ok) && !report.proven {
            let text = format!("drill: restored intact, not proven: {}", report.unproven.join("; "));
            let said = logged.say(RemarkKind::RestoredIntact, Outcome::Complete, text, store, Some(state), world);
            if let Err(error) = said {
                report.warnings.push(format!("the logbook could not be told: {}", chain(&error)));
            }
            return;
        }
        let (outcome, text) = match report.checks.iter().find(|check| !check.ok) {
            None => {
                let checks = count(report.checks.len() as u64, "check");
                let partly = if self.spec.parts.is_empty() { "" } else { " (some parts only)" };
                (
                    Outcome::Complete,
                    format!("drill passed{partly}: restored in {}, {checks} hold", duration(report.restore_ms)),
                )
            }
            Some(check) => (Outcome::Warnings, format!("drill failed: {}: {}", check.what, check.note)),
        };
        if let Err(error) = logged.say(RemarkKind::Drilled, outcome, text, store, Some(state), world) {
            report.warnings.push(format!("the logbook could not be told: {}", chain(&error)));
        }
    }
}

/// Which run of an application a drill takes.
///
/// # Errors
/// When there is none.
pub fn pick<'b>(book: &'b Logbook, app: &str, pick: Pick, random: &dyn Random) -> Result<&'b Logged, DrillError> {
    let good: Vec<&Logged> = book.own_runs(app).filter(|logged| logged.is_good()).collect();
    let at = match pick {
        Pick::Newest => good.len().saturating_sub(1),
        Pick::Random => {
            let mut bytes = [0; 8];
            random.fill(&mut bytes);
            usize::try_from(u64::from_le_bytes(bytes) % good.len().max(1) as u64).unwrap_or(0)
        }
    };
    good.get(at).copied().ok_or_else(|| DrillError::NoRun(app.to_owned()))
}
