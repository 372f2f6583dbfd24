//! The new state, written beside the old one.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

use gullet_store::listing::PathName;
use gullet_store::{IoPath, PathError, free_space};

use super::apply::{Apply, Failure};
use super::arena_name;
use super::journal::JournalStage;
use super::plan::{PlacePiece, PlannedTarget, RestoreMethod};
use super::swap::{NEW, OLD, Swap, SwapTarget, kept};
use crate::restore::select::bytes_selected;
use crate::restore::writing::{Writing, Written, say_damage};
use crate::restore::{PartResult, Selection, write};
use gullet_host::state::{file_name, private_folder};
use gullet_model::Reason;
use gullet_model::words::{chain, count, size};

impl Apply<'_, '_> {
    /// Writes the new state beside the old one.
    pub(super) fn write(&mut self) -> Result<(), Failure> {
        if self.journal.stage == JournalStage::Written {
            self.step("stage", self.now(), Ok("it lies ready".to_owned()));
            return Ok(());
        }
        let began = self.now();
        let swap = self.arenas();
        // They are noted before they are made.
        self.journal.swap = swap;
        self.journal.save(&self.top())?;
        self.space()?;
        for arena in self.journal.arenas() {
            match fs::remove_dir_all(&arena) {
                Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                    return Err(PathError::new(&arena, error).into());
                }
                _ => {}
            }
            for folder in [&arena, &arena.join(NEW), &arena.join(OLD)] {
                (self.with.tick)(&format!("make {}", folder.display()));
                fs::DirBuilder::new().mode(0o700).create(folder).at(folder)?;
            }
        }
        for target in self.journal.swap.targets.iter().filter(|target| target.inside.is_some()) {
            if let Some(look) = &target.old_root {
                let _ = write::set_attributes(&target.place(), look);
            }
        }
        let problems = self.pieces()? + self.exports()?;
        for part in &self.report.parts {
            for (what, (number, first)) in &part.not_set {
                self.report.warnings.push(format!(
                    "{}: {what} could not be set on {}: {first}",
                    part.part,
                    count(*number, "path")
                ));
            }
        }
        self.check_stop()?;
        let (files, bytes) = self.report.parts.iter().fold((0, 0), |(f, b), part| (f + part.files, b + part.bytes));
        let written = format!("{}, {}, every byte verified", count(files, "file"), size(bytes));
        if problems > 0 {
            let why = format!("{} could not be restored, so nothing was touched", count(problems, "path"));
            let with = &self.with;
            let said =
                say_damage(&self.report.parts, "a restore in place", with.logged, (with.store, with.state), with.world);
            if let Err(error) = said {
                self.report.warnings.push(format!("the logbook could not be told: {}", chain(&error)));
            }
            self.step("stage", began, Err(Reason::new(why.clone())));
            return Err(Failure::Before(why));
        }
        self.step("stage", began, Ok(written));
        self.journal.stage(JournalStage::Written, &self.top())?;
        Ok(())
    }

    /// The folders beside the roots, nothing in them yet.
    fn arenas(&self) -> Swap {
        let arena = arena_name(&self.journal.id);
        let targets = self.plan.targets.iter().map(|target| {
            let place = match (&target.inside, target.resolved.parent()) {
                (None, Some(parent)) => parent,
                _ => &target.resolved,
            };
            SwapTarget {
                root: kept(&target.resolved),
                place: kept(place),
                arena: kept(&place.join(&arena)),
                names: Vec::new(),
                inside: target.inside.clone(),
                stays: Vec::new(),
                seen_at: target.seen_at.iter().map(|path| kept(path)).collect(),
                // As it is before anything of ours is made in it: as an earlier try found it.
                old_root: target.inside.as_ref().and_then(|_| {
                    let earlier = self.journal.swap.targets.iter().find(|known| known.root == kept(&target.resolved));
                    earlier.and_then(|known| known.old_root.clone()).or_else(|| write::look(&target.resolved).ok())
                }),
                new_root: None,
            }
        });
        Swap { targets: targets.collect(), ..Swap::default() }
    }

    /// Whether there is room for all of it.
    fn space(&self) -> Result<(), Failure> {
        let plan = self.plan;
        let mut wanted: BTreeMap<u64, (PathBuf, u64)> = BTreeMap::new();
        let mut wants = |place: PathBuf, bytes: u64| {
            let device = fs::metadata(&place).map_or(0, |meta| std::os::unix::fs::MetadataExt::dev(&meta));
            wanted.entry(device).or_insert((place, 0)).1 += bytes;
        };
        let (mut chunks, _) = self.with.store.chunks_that_can_be_read(&self.with.logged.holdings());
        for (number, part) in plan.parts.iter().enumerate() {
            let pieces: Vec<&PlacePiece> = plan.pieces.iter().filter(|piece| piece.part == number).collect();
            if pieces.is_empty() {
                wants(self.top(), part.bytes);
            }
            for piece in &pieces {
                // Of a part that comes as a whole to one place it is known; else it is added up.
                let bytes = if pieces.len() == 1 && plan.asked.paths.is_empty() {
                    part.bytes
                } else {
                    let only = [Selection::path(piece.from.clone())];
                    bytes_selected(&mut chunks, &part.listing, &only).map_err(|error| Failure::Before(chain(&error)))?
                };
                wants(self.journal.swap.targets[piece.target].place(), bytes);
            }
        }
        for (place, bytes) in wanted.values() {
            let free = free_space(place)?;
            if free < *bytes {
                let (free, bytes) = (size(free), size(*bytes));
                let text = format!(
                    "{free} free at {}, and the new state, which is written beside the old one, has {bytes}",
                    place.display()
                );
                return Err(Failure::Before(text));
            }
        }
        Ok(())
    }

    /// Where a target's new root is while it is beside.
    pub(super) fn staged(target: &PlannedTarget, swapped: &SwapTarget) -> PathBuf {
        let new = swapped.arena().join(NEW);
        match (&target.inside, target.resolved.file_name()) {
            (None, Some(name)) => new.join(name),
            _ => new,
        }
    }

    /// Writes what comes below the roots; gives how many paths could not be.
    fn pieces(&mut self) -> Result<u64, Failure> {
        let plan = self.plan;
        let (mut chunks, _) = self.with.store.chunks_that_can_be_read(&self.with.logged.holdings());
        let mut problems = 0;
        for (number, target) in plan.targets.iter().enumerate() {
            let swapped = self.journal.swap.targets[number].clone();
            let new = swapped.arena().join(NEW);
            let staged = Self::staged(target, &swapped);
            let top = staged.strip_prefix(&new).unwrap_or(Path::new("")).as_os_str().as_bytes().to_vec();
            let mut written = Written::default();
            for piece in plan.pieces.iter().filter(|piece| piece.target == number) {
                let part = &plan.parts[piece.part];
                let joint: &[u8] = if top.is_empty() || piece.to.as_bytes().is_empty() { b"" } else { b"/" };
                let to = PathName::new([top.as_slice(), joint, piece.to.as_bytes()].concat());
                (self.with.tick)(&format!("write {} of {}", piece.from, part.part));
                let only = [Selection::path(piece.from.clone())];
                let writing = Writing {
                    part: &part.part,
                    listing: &part.listing,
                    to: &new,
                    only: &only,
                    moved: Some((piece.from.clone(), to)),
                    owners: &plan.asked.owners,
                };
                let result = writing.run(&mut chunks, &mut written, self.with.world.stop, self.with.progress)?;
                if let Some(top) = written.top.take() {
                    // Of the parts that share a root the outermost one says what the root itself is like.
                    self.journal.swap.targets[number].new_root.get_or_insert(top);
                }
                problems += result.problem_count;
                match self.report.parts.iter_mut().find(|known| known.part == result.part) {
                    Some(known) => known.merge(result),
                    None => self.report.parts.push(result),
                }
            }
            let mut result = PartResult::default();
            written.finish(&new, &mut result)?;
            if let Some(known) = self.report.parts.last_mut() {
                known.merge(result);
            }
            let folder = fs::File::open(&new).at(&new)?;
            rustix::fs::syncfs(&folder).at(&new)?;
        }
        Ok(problems)
    }

    /// Writes the parts that a command or a person brings back into a folder of the state.
    fn exports(&mut self) -> Result<u64, Failure> {
        let folder = self.journal.exports(&self.top());
        // An earlier try may have left half of them.
        match fs::remove_dir_all(&folder) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                return Err(PathError::new(&folder, error).into());
            }
            _ => {}
        }
        let (mut chunks, _) = self.with.store.chunks_that_can_be_read(&self.with.logged.holdings());
        let mut problems = 0;
        let plan = self.plan;
        for part in plan.parts.iter().filter(|part| {
            matches!(part.way, RestoreMethod::Command { .. } | RestoreMethod::Import { .. } | RestoreMethod::ByHand)
        }) {
            private_folder(&folder)?;
            let to = folder.join(file_name(&part.part));
            let mut written = Written::default();
            let writing = Writing {
                part: &part.part,
                listing: &part.listing,
                to: &to,
                only: &[],
                moved: None,
                owners: &plan.asked.owners,
            };
            let mut result = writing.run(&mut chunks, &mut written, self.with.world.stop, self.with.progress)?;
            written.finish(&to, &mut result)?;
            problems += result.problem_count;
            self.report.parts.push(result);
        }
        Ok(problems)
    }
}
