//! What changes hands, found out when nothing changes any more.

use std::ffi::OsString;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use gullet_store::listing::PathName;
use gullet_store::{IoPath, PathError};

use super::apply::{Apply, Failure};
use super::swap::{Carried, FolderTime, NEW, Name, Swap, path_of};
use gullet_capture::plan::beside;

impl Apply<'_, '_> {
    /// Finds out, now that nothing changes any more, which names change hands and what is carried over.
    pub(super) fn fill(&mut self) -> Result<(), Failure> {
        let (mut chunks, _) = self.with.store.chunks_that_can_be_read(&self.with.logged.holdings());
        let left = self.plan.left_over(&mut chunks)?;
        let carried: Vec<PathBuf> = left.into_iter().filter(|(.., carried)| *carried).map(|(path, ..)| path).collect();
        let mut swap = std::mem::take(&mut self.journal.swap);
        (swap.carried, swap.old_times, swap.new_times) = (Vec::new(), Vec::new(), Vec::new());
        for (target, planned) in swap.targets.iter_mut().zip(&self.plan.targets) {
            let (place, arena) = (target.place(), target.arena());
            let mut names: Vec<OsString> = Vec::new();
            if planned.inside.is_some() {
                for folder in [&place, &arena.join(NEW)] {
                    for entry in fs::read_dir(folder).at(folder)? {
                        names.push(entry.at(folder)?.file_name());
                    }
                }
                let stays = |name: &OsString| carried.contains(&place.join(name));
                target.stays = names.iter().filter(|name| stays(name)).map(|n| PathName::new(n.as_bytes())).collect();
                names.retain(|name| !stays(name) && !gullet_capture::part::is_arena(&place.join(name)));
            } else if let Some(name) = planned.resolved.file_name() {
                names.push(name.to_owned());
                names.extend(planned.beside.iter().map(|suffix| beside(Path::new(name), suffix).into_os_string()));
            }
            names.sort();
            names.dedup();
            let new = arena.join(NEW);
            let names = names.iter().map(|name| Name::of(Path::new(name), &place, &new));
            target.names = names.collect::<Result<_, _>>()?;
        }
        for path in carried {
            self.carry(&mut swap, &path)?;
        }
        self.journal.swap = swap;
        Ok(())
    }

    /// Notes that something of the old state goes on in the new one.
    fn carry(&self, swap: &mut Swap, path: &Path) -> Result<(), PathError> {
        let found = self.plan.targets.iter().position(|target| path.starts_with(&target.resolved));
        let Some(number) = found else { return Ok(()) };
        let planned = &self.plan.targets[number];
        let below = path.strip_prefix(&planned.resolved).unwrap_or(path);
        if planned.inside.is_some() && below.components().count() == 1 {
            // It stays where it is.
            return Ok(());
        }
        let to = Self::staged(planned, &swap.targets[number]).join(below);
        let note = |times: &mut Vec<FolderTime>, folder: Option<&Path>| {
            if let Some(folder) = folder.filter(|folder| folder.is_dir())
                && !times.iter().any(|time| path_of(&time.folder) == folder)
            {
                times.push(FolderTime::of(folder)?);
            }
            Ok::<_, PathError>(())
        };
        note(&mut swap.old_times, path.parent())?;
        // The nearest folder that is there gets something, the others are made.
        note(&mut swap.new_times, to.ancestors().skip(1).find(|folder| folder.is_dir()))?;
        swap.carried.extend(Carried::of(path, &to)?);
        Ok(())
    }
}
