//! What of the run differs from what is here now.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use gullet_store::ChunkReader;
use gullet_store::listing::PathName;

use super::super::swap::path_of;
use super::{ALIVE, Leftover, LiveDifference, NAMED, PlaceContext, PlacePlan, RestoreMethod, refused, under};
use crate::restore::RestoreError;
use gullet_capture::engines;
use gullet_capture::kinds::remaining;
use gullet_capture::part::{LeftReason, Why, name_of};
use gullet_capture::plan::{changed_facts, facts_now};
use gullet_logbook::logbook::RunLine;
use gullet_model::record::Capture;

/// What the application says of itself otherwise than before the run. Where it does not answer nothing is known: it may be stopped,
/// or lost.
fn facts_that_differ(ground: &PlaceContext<'_>) -> Vec<(String, String)> {
    let Some(spec) = ground.spec.filter(|_| !ground.logged.record.facts.is_empty()) else { return Vec::new() };
    let now = facts_now(spec, &ground.logged.record.app, ground.world, ground.state);
    let changed = changed_facts(&ground.logged.record.facts, &now);
    changed
        .into_iter()
        .map(|(name, then, now)| (name.clone(), format!("{name} was {then} then, and is {now} now")))
        .collect()
}

impl PlacePlan {
    /// What is not as it was.
    pub(super) fn differ(&mut self, ground: &PlaceContext<'_>) {
        let record = &ground.logged.record;
        let (then, now) = (&record.host, ground.world.host);
        let mut found: Vec<(&str, String)> = Vec::new();
        let facts = facts_that_differ(ground);
        if then.name != now.name {
            found.push(("host", format!("the run is of the host {}; this is {}", then.name, now.name)));
            let clock = ground.world.clock.now();
            let is_alive = |run: &&&RunLine| {
                let hours = clock.duration_since(run.started).as_hours();
                run.app == record.app && run.host == then.name && hours < ALIVE
            };
            if let Some(last) = ground.runs.iter().rev().find(is_alive) {
                let text = format!("{} ran it at {}: it is still alive there", then.name, last.started);
                found.push(("alive", text));
            }
        }
        let kind = |host: &gullet_model::record::Host| {
            format!("{} on {}", host.system.split(' ').next().unwrap_or(""), host.architecture)
        };
        if kind(then) != kind(now) {
            found.push(("system", format!("the run is of {}; this is {}", kind(then), kind(now))));
        }
        for part in &self.then.parts {
            let lacks = |capture: &Capture| engines::of(capture.kind, Some(&part.spec))?.lacks(&capture.facts);
            if let Some(why) = record.capture(&part.name).and_then(lacks) {
                found.push(("engine", format!("{} {why}", part.name)));
            }
        }
        let strangers = self.asked.owners.strangers(&record.captures);
        if !strangers.is_empty() {
            let more = if strangers.len() > NAMED { ", …" } else { "" };
            let text = strangers.into_iter().take(NAMED).collect::<Vec<_>>().join("; ");
            found.push(("accounts", format!("{text}{more} (`--owners-by-name`, or `--map-owner OLD=NEW`)")));
        }
        let new: Vec<String> =
            self.targets.iter().filter(|t| !t.is_there).map(|target| target.root.display().to_string()).collect();
        if !new.is_empty() {
            found.push(("paths", format!("there is nothing at {} now", new.join(", "))));
        }
        let spec = self.spec.restore.clone().unwrap_or_default();
        match spec.stop {
            None => {
                let text = "the definition does not say how the application is stopped (`stop` and `start` in \
                            `[app.NAME.restore]`): it must be stopped already";
                found.push(("running", text.to_owned()));
            }
            Some(_) if spec.at_boot.is_none() => {
                let text = "after a boot in the middle of the swap the application could start on a mixture: say `at_boot` \
                            in `[app.NAME.restore]`";
                found.push(("boot", text.to_owned()));
            }
            Some(_) => {}
        }
        let found = found.into_iter().map(|(name, text)| (name.to_owned(), text)).chain(facts);
        self.differences = found
            .map(|(name, text)| LiveDifference { accepted: self.asked.accepted.contains(&name), name, text })
            .collect();
    }

    /// Everything in the old place that the new state does not have, by reason.
    pub(in crate::restore::place) fn left_over(
        &self,
        chunks: &mut ChunkReader,
    ) -> Result<Vec<(PathBuf, String, bool)>, RestoreError> {
        let restored: BTreeSet<&str> = self.parts.iter().map(|part| part.part.as_str()).collect();
        let here = |name: &PathName| name_of(&under(&Path::new("/").join(path_of(name)), &self.asked.maps));
        let mut all = Vec::new();
        for part in &self.parts {
            let Some(spec) = self.then.parts.iter().find(|spec| spec.name == part.part) else { continue };
            if !matches!(part.way, RestoreMethod::Files { .. }) {
                continue;
            }
            let found = remaining(spec, &self.then, &part.listing, chunks, &here).map_err(|error| {
                refused(format!("what is there now cannot be looked at: {}", gullet_model::words::chain(&error)))
            })?;
            for (path, why) in found {
                let real = fs::canonicalize(path.parent().unwrap_or(&path)).unwrap_or_else(|_| path.clone());
                let real = path.file_name().map_or(real.clone(), |name| real.join(name));
                let is_ours =
                    self.targets.iter().any(|target| real != target.resolved && real.starts_with(&target.resolved));
                if !is_ours {
                    continue;
                }
                let why = match why {
                    Why::Since => {
                        all.push((real, "made since".to_owned(), false));
                        continue;
                    }
                    Why::LeftOut(why) => why,
                };
                let is_carried = match &why {
                    LeftReason::OfPart(other) if restored.contains(other.as_str()) => continue,
                    LeftReason::OfPart(_)
                    | LeftReason::Excluded(_)
                    | LeftReason::ExcludedByPart(_)
                    | LeftReason::NotIncluded => !self.asked.drop,
                    // A store is never set aside with what is restored from it.
                    LeftReason::Own(_) => true,
                    LeftReason::OtherFilesystem => {
                        return Err(refused(format!("`{}` is on another filesystem", path.display())));
                    }
                    LeftReason::MadeAnew(_) | LeftReason::SetAside | LeftReason::Vanished => false,
                };
                all.push((real, why.to_string(), is_carried));
            }
        }
        Ok(all)
    }

    pub(super) fn look_at_the_old(&mut self, chunks: &mut ChunkReader) -> Result<(), RestoreError> {
        let mut by_reason: BTreeMap<(bool, String), Leftover> = BTreeMap::new();
        for (path, why, carried) in self.left_over(chunks)? {
            let entry = by_reason.entry((carried, why.clone()));
            let leftover = entry.or_insert(Leftover { why, count: 0, paths: Vec::new(), carried });
            leftover.count += 1;
            if leftover.paths.len() < NAMED {
                leftover.paths.push(path);
            }
        }
        self.leftovers = by_reason.into_values().collect();
        Ok(())
    }
}
