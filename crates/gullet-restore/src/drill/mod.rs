//! The drill: the proof that a run restores, before it is needed.
//!
//! A run is restored to a scratch place; databases are opened by their engine, exported ones brought into a new server of
//! their own; what they hold is compared with the facts of the record; the definition's checks are asked. The live
//! application is not touched. The scratch place is always cleared again, and the logbook told.
//!
//! - [`DrillPlan`]: which run, where to, what is checked; a value that is shown and applied.

mod plan;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use gullet_store::{PathError, Store};
use serde::Serialize;

use crate::restore::{RestoreError, RestorePlan, say_damage};
use gullet_capture::engines;
use gullet_capture::engines::scratch::{Restored, RunningServer, ScratchServers, TriedOut};
use gullet_capture::kinds::examine_sqlite;
use gullet_host::hook::{Call, Limits, Runner};
use gullet_host::state::{State, StateError};
use gullet_host::world::World;
use gullet_logbook::logbook::Logged;
use gullet_model::Reason;
use gullet_model::definition::placeholders::fill;
use gullet_model::definition::{OneOrMany, PartKind, Probe, Require};
use gullet_model::ids::random_id;
use gullet_model::record::Capture;
use gullet_model::step::Facts;
use gullet_model::words::{chain, count, millis, size};

pub use plan::{DrillPlan, pick};

/// A new server takes so many times the bytes of an export, and so many more.
const IMPORT: (u64, u64) = (4, 300 << 20);
/// Differences named, at most.
const NAMED: usize = 5;

/// A drill could not begin.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum DrillError {
    /// There is no run to prove.
    #[error("`{0}` has no complete run to prove")]
    NoRun(String),
    /// The scratch place has no room.
    #[error("{free} free at {}, and the drill needs {wanted}", place.display())]
    Space {
        /// The folder of the drill.
        place: PathBuf,
        /// What is free.
        free: String,
        /// What is needed.
        wanted: String,
    },
    /// The scratch place lies where it must not.
    #[error("the scratch folder {} lies in {what}", place.display())]
    Place {
        /// The folder that was asked for.
        place: PathBuf,
        /// What it lies in.
        what: String,
    },
    /// It cannot be restored.
    #[error(transparent)]
    Restore(#[from] RestoreError),
    /// The scratch place cannot be used.
    #[error(transparent)]
    Path(#[from] PathError),
    /// The state folder cannot be used.
    #[error(transparent)]
    State(#[from] StateError),
}

/// One thing that was looked at.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct DrillCheck {
    /// The part or the check that was looked at.
    pub what: String,
    /// Whether it holds.
    pub ok: bool,
    /// What was found, or why it does not hold.
    pub note: String,
    /// How long it took, in milliseconds.
    pub took_ms: u64,
}

/// What came of a drill.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct DrillReport {
    /// The id of the run.
    pub run: String,
    /// Whether it is proven: every check holds, and nothing stands in `unproven`.
    pub proven: bool,
    /// What was restored intact and nothing else: nobody opened it, or it is not here. In words, part by part.
    pub unproven: Vec<String>,
    /// From the beginning until everything was restored and servers had started on it, in milliseconds.
    pub restore_ms: u64,
    /// How long all of it took, in milliseconds.
    pub took_ms: u64,
    /// What was looked at.
    pub checks: Vec<DrillCheck>,
    /// What a person should look at.
    pub warnings: Vec<String>,
    /// Whether it was stopped by a signal; then nothing is said about the run.
    pub interrupted: bool,
}

struct Drill<'d, 'a> {
    plan: &'d DrillPlan,
    logged: &'d Logged,
    store: &'d Store,
    state: &'d State,
    world: World<'a>,
    began: Duration,
    servers: Vec<(String, RunningServer)>,
    report: DrillReport,
    tell: &'d mut dyn FnMut(&DrillCheck),
}

impl Drill<'_, '_> {
    fn look(&mut self, what: &str, began: Duration, result: Result<String, Reason>) {
        let (ok, note) = match result {
            Ok(note) => (true, note),
            Err(why) => (false, why.into()),
        };
        let took_ms = millis(self.world.clock.uptime().saturating_sub(began));
        let check = DrillCheck { what: what.to_owned(), ok, note, took_ms };
        (self.tell)(&check);
        self.report.checks.push(check);
    }

    fn all(&mut self, progress: &mut dyn FnMut(&str, u64, u64)) -> Result<(), DrillError> {
        let plan = self.plan;
        let into = plan.scratch.join("restored");
        let began = self.world.clock.uptime();
        let restore = RestorePlan::into_folder(self.logged, &into, &plan.spec.parts, &[])?;
        let report = restore.clone().apply(self.store, self.logged, self.world.stop, progress)?;
        if let Err(error) = say_damage(&report.parts, "a drill", self.logged, (self.store, self.state), self.world) {
            self.report.warnings.push(format!("the logbook could not be told: {}", chain(&error)));
        }
        let files: u64 = report.parts.iter().map(|part| part.files).sum();
        let bytes: u64 = report.parts.iter().map(|part| part.bytes).sum();
        let problem = report.parts.iter().find_map(|part| Some(format!("{}: {}", part.part, part.problems.first()?)));
        let missing = restore.missing.first().map(|(part, why)| format!("{part} is not in the run: {why}"));
        for (part, proof) in &restore.outside {
            self.report.warnings.push(format!("{part} is not here: another system has it, by the id {}", proof.id));
        }
        let result = match problem.or(missing) {
            None => Ok(format!("{}, {}, every byte verified", count(files, "file"), size(bytes))),
            Some(why) => Err(Reason::new(why)),
        };
        self.look("restore", began, result);
        let captures: Vec<&Capture> =
            self.logged.record.captures.iter().filter(|capture| capture.listing.is_some()).collect();
        for (number, capture) in captures.iter().enumerate() {
            if self.world.stop.asked().is_none()
                && (plan.spec.parts.is_empty() || plan.spec.parts.contains(&capture.part))
            {
                self.engine(number, capture, &into);
            }
        }
        self.report.restore_ms = millis(self.world.clock.uptime().saturating_sub(self.began));
        self.asked(&into);
        Ok(())
    }

    /// Has the engine of a part look at what was restored of it.
    fn engine(&mut self, number: usize, capture: &Capture, into: &Path) {
        let began = self.world.clock.uptime();
        let files = into.join("files");
        let roots: Vec<PathBuf> =
            capture.roots.iter().map(|root| files.join(root.path.trim_start_matches('/'))).collect();
        if let (PartKind::Sqlite, Some(path)) = (capture.kind, roots.first()) {
            let found = examine_sqlite(path).map_err(Reason::from);
            let result = found
                .and_then(|facts| compare(&capture.facts, &facts))
                .map(|note| format!("the engine finds it intact; {note}"));
            return self.look(&capture.part, began, result);
        }
        // A drill needs no part of the definition any more: the server is its own.
        let defined = capture.defined_in(&self.plan.app_spec);
        let engine = engines::of(capture.kind, defined).or_else(|| engines::of(capture.kind, None));
        let Some(engine) = engine else { return };
        let export = into.join("exports").join(gullet_host::state::file_name(&capture.part));
        let restored = Restored { number, facts: &capture.facts, roots: &roots, files: &files, export: &export };
        let scratch =
            ScratchServers { world: self.world, folder: &self.plan.scratch, top: self.state_top(), id: &self.plan.id };
        let tried = engine.try_out(&restored, &scratch);
        let result = tried.and_then(|TriedOut { server, facts, note }| {
            self.servers.push((capture.part.clone(), server));
            compare(&capture.facts, &facts).map(|compared| format!("{note}; {compared}"))
        });
        self.look(&capture.part, began, result);
    }

    /// The folder above which nothing is opened to the accounts of servers.
    fn state_top(&self) -> &Path {
        if self.plan.scratch.starts_with(self.state.folder()) { self.state.folder() } else { &self.plan.scratch }
    }

    /// Asks what the definition says.
    fn asked(&mut self, into: &Path) {
        let plan = self.plan;
        let mut values = BTreeMap::from([
            ("files".to_owned(), into.join("files").display().to_string()),
            ("exports".to_owned(), into.join("exports").display().to_string()),
        ]);
        for (part, server) in &self.servers {
            values.insert(format!("socket.{part}"), server.socket.display().to_string());
        }
        for capture in &self.logged.record.captures {
            for (name, value) in &capture.facts {
                let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
                values.insert(format!("fact.{}.{name}", capture.part), text);
            }
        }
        let runner = Runner {
            world: self.world,
            app: plan.app.clone(),
            run: plan.run.clone(),
            family: random_id(self.world.random, 12),
            folder: plan.scratch.clone(),
            top: self.state_top().to_path_buf(),
        };
        let call = |limit| Call { values: values.clone(), moment: "drill", limit, ..Call::default() };
        let mut started = Ok(());
        if let Some(start) = &plan.spec.start {
            let began = self.world.clock.uptime();
            started = runner.run(start, call(Limits::HOOK)).result;
            self.look("start", began, started.clone().map(|()| String::new()));
        }
        for check in
            plan.spec.checks.iter().filter(|_| started.is_ok() && self.world.stop.asked().is_none()).collect::<Vec<_>>()
        {
            let began = self.world.clock.uptime();
            let result = filled(check, &values).and_then(|probe| {
                let probes = OneOrMany::One(Box::new(probe));
                runner.wait_for(&probes, &call(Limits::EXPORT), Duration::ZERO).result
            });
            self.look(&check.name, began, result.map(|()| String::new()));
        }
        if let Some(stop) = &plan.spec.stop {
            let stopped = runner.run(stop, call(Limits::HOOK)).result;
            if let Err(why) = stopped {
                self.report.warnings.push(format!("what was started for the drill could not be stopped: {why}"));
            }
        }
    }
}

/// A probe with what it compares filled in.
fn filled(check: &Require, values: &BTreeMap<String, String>) -> Result<Probe, Reason> {
    let mut probe = check.probe.clone();
    for text in [&mut probe.prints, &mut probe.contains].into_iter().flatten() {
        *text = fill(text, values)?;
    }
    Ok(probe)
}

/// Compares what is there with what the record says was there.
fn compare(recorded: &Facts, found: &Facts) -> Result<String, Reason> {
    let counted = |name: &String| name.starts_with("rows.") || name == "tables" || name == "rows";
    let mut differences = Vec::new();
    let mut same = 0;
    for (name, value) in recorded.iter().filter(|(name, _)| counted(name)) {
        match (found.get(name), name.strip_prefix("rows.")) {
            (Some(now), _) if now == value => same += 1,
            (Some(now), Some(table)) => differences.push(format!("{table} has {now} rows, and {value} were recorded")),
            (None, Some(table)) => differences.push(format!("the table {table} is not there")),
            (Some(now), None) => differences.push(format!("{now} {name}, and {value} were recorded")),
            (None, None) => {}
        }
    }
    match differences.as_slice() {
        [] if same == 0 => Ok(match found.get("rows") {
            Some(rows) => format!("{rows} rows; none were recorded"),
            None => "no rows were recorded".to_owned(),
        }),
        [] => Ok(format!("{} as recorded", count(same, "count"))),
        some => {
            let more = if some.len() > NAMED { format!(", and {} more", some.len() - NAMED) } else { String::new() };
            Err(Reason::new(format!("{}{more}", some.iter().take(NAMED).cloned().collect::<Vec<_>>().join("; "))))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn facts(pairs: &[(&str, i64)]) -> Facts {
        pairs.iter().map(|(name, value)| ((*name).to_owned(), (*value).into())).collect()
    }

    #[test]
    fn counts_must_be_those_that_were_recorded() {
        let recorded = facts(&[("rows.till", 5), ("rows.gone", 2), ("rows", 7), ("tables", 2), ("server_version", 15)]);
        assert!(compare(&recorded, &recorded).is_ok_and(|note| note.contains("4 counts")));
        let found = facts(&[("rows.till", 4), ("rows", 4), ("tables", 1)]);
        let why = compare(&recorded, &found).unwrap_err().to_string();
        for part in ["till has 4 rows, and 5 were recorded", "the table gone is not there", "1 tables, and 2"] {
            assert!(why.contains(part), "{why}");
        }
        assert!(compare(&facts(&[]), &facts(&[("rows", 3)])).is_ok_and(|note| note.contains("none were recorded")));
        let many: Facts = (0..9).map(|n| (format!("rows.t{n}"), 1.into())).collect();
        assert!(compare(&many, &facts(&[])).unwrap_err().to_string().contains("and 4 more"));
    }
}
