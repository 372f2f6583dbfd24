//! Exports made anew beside the runs, so that a run can be compared with what an application has now.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use gullet_store::{Cache, ChunkReader, Deposit, DepositOptions, Folder, Holdings, Location, Recipients, Store};

use super::{CompareError, Gatherer, PartComparison};
use gullet_capture::plan::{Plan, PlannedPart};
use gullet_capture::{capture, kinds};
use gullet_host::hook::Runner;
use gullet_host::state::{State, private_folder};
use gullet_model::Reason;
use gullet_model::ids::RunId;
use gullet_model::record::Capture;
use gullet_model::words::chain;

/// What an application's parts are now: those that commands and engines make.
pub struct Exported {
    store: Store,
    holdings: Holdings,
    /// By part: its capture, or why there is none.
    parts: BTreeMap<String, Result<Capture, Reason>>,
}

/// Makes every part anew that is made by commands or by an engine, `only` those if any, into a store in `folder`, which is
/// private and goes with it. The commands are those of the definition at hand, never those of a record. Nothing is held for it.
///
/// # Errors
/// When the folder cannot take it. That a part cannot be made is told where it is compared.
pub fn export_now(
    plan: &Plan,
    only: &[String],
    (state, runner): (&State, &Runner<'_>),
    folder: &Path,
) -> Result<Exported, CompareError> {
    let failed = |error: &dyn std::error::Error| CompareError::Now(chain(error));
    private_folder(folder).map_err(|error| failed(&error))?;
    let location: Arc<dyn Location> = Arc::new(Folder::new(folder.join("store")));
    let (id, now) = (RunId::new(runner.world.random).to_string(), runner.world.clock.now().to_string());
    let store =
        Store::create(Arc::clone(&location), id, now, &Recipients::default()).map_err(|error| failed(&error))?;
    let mut cache = Cache::open(&folder.join("cache.db")).map_err(|error| failed(&error))?;
    let options = DepositOptions::default();
    let deposit = Deposit::new(location, &mut cache, state.machine(), "now", &options);
    let mut deposit = deposit.map_err(|error| failed(&error))?;
    let mut parts = BTreeMap::new();
    let is_wanted = |part: &&PlannedPart| {
        (only.is_empty() || only.contains(&part.name))
            && kinds::can_be_made_anew(part)
            && runner.world.stop.asked().is_none()
    };
    for (number, part) in plan.parts.iter().enumerate().filter(|(_, part)| is_wanted(part)) {
        let scratch = folder.join(format!("part-{number}"));
        let made = capture::apart(part, plan, (state, runner), &mut deposit, scratch);
        parts.insert(part.name.clone(), made.map_err(Reason::from));
    }
    let holdings = deposit.finish().map_err(|error| failed(&error))?.holdings;
    Ok(Exported { store, holdings, parts })
}

impl Exported {
    /// Compares a capture of a run with what was made anew.
    pub(super) fn compare(
        &self,
        gathering: &mut Gatherer,
        (capture, chunks): (&Capture, &mut ChunkReader),
        run: &RunId,
    ) -> Result<(), CompareError> {
        match self.parts.get(&capture.part) {
            Some(Ok(now)) => {
                let (mut there, _) = self.store.chunks_that_can_be_read(&self.holdings);
                gathering.captures((capture, chunks), (now, &mut there), &format!("{run} and now"))?;
            }
            Some(Err(why)) => gathering.comparison.only = Some(format!("it could not be made anew: {why}")),
            None => {
                let why = "the definition has no such part that could be made anew: compare two runs";
                gathering.comparison.only = Some(why.to_owned());
            }
        }
        Ok(())
    }

    /// Parts that the run does not have at all.
    pub(super) fn new_parts<'e>(&'e self, captures: &'e [Capture]) -> impl Iterator<Item = PartComparison> + 'e {
        let is_new = |part: &&String| captures.iter().all(|capture| capture.part != **part);
        self.parts.keys().filter(is_new).map(|part| PartComparison {
            part: part.clone(),
            only: Some("the run does not have it".to_owned()),
            ..PartComparison::default()
        })
    }
}
