//! Which paths of a run take which place here.

use std::fs;
use std::path::{Path, PathBuf};

use gullet_store::ChunkReader;
use gullet_store::listing::{Kind, ListingReader, PathName};

use super::super::mounts::{self, How};
use super::super::swap::path_of;
use super::{
    AfterRestore, PlaceContext, PlacePart, PlacePiece, PlacePlan, PlannedTarget, RestoreMethod, in_listing, refused,
    resolved, under,
};
use crate::restore::{RestoreError, RestorePart};
use gullet_capture::engines;
use gullet_capture::part::name_of;
use gullet_capture::plan::BESIDE_SQLITE;
use gullet_host::hook::Runner;
use gullet_model::definition::{PartKind, Reads, RestoreHook, Running, command_text};
use gullet_model::record::{Capture, Layout};

/// A root of a part, as it is in the run and here.
struct FoundRoot {
    /// Its path in the listing.
    name: PathName,
    /// Its place here.
    here: PathBuf,
    /// The number of its part.
    part: usize,
    is_folder: bool,
    /// What goes with it, by the ends of their names.
    beside: &'static [&'static str],
}

impl PlacePlan {
    /// Which roots change hands, and what comes below them.
    pub(super) fn roots(
        &mut self,
        captures: &[Capture],
        chosen: &[RestorePart],
        chunks: &mut ChunkReader,
        ground: &PlaceContext<'_>,
    ) -> Result<(), RestoreError> {
        let runner = Runner {
            world: ground.world,
            app: self.app.clone(),
            run: self.run.clone(),
            family: gullet_model::ids::random_id(ground.world.random, 12),
            folder: ground.state.join("scratch"),
            top: ground.state.to_path_buf(),
        };
        let mut found: Vec<FoundRoot> = Vec::new();
        for part in chosen {
            let Some(capture) = captures.iter().find(|capture| capture.part == part.part) else { continue };
            let number = self.parts.len();
            let of_part = match capture.layout {
                Layout::Source => self.roots_of(capture, (part, number), chunks)?,
                Layout::Export => Vec::new(),
            };
            if of_part.is_empty() && !self.asked.paths.is_empty() {
                continue;
            }
            let roots = of_part.iter().map(|root| root.here.clone()).collect();
            found.extend(of_part);
            let (way, back) = self.way_of(capture, roots, &runner)?;
            self.parts.push(PlacePart {
                part: part.part.clone(),
                way,
                files: part.files,
                bytes: part.bytes,
                listing: part.listing,
                back,
            });
            for (texts, is_lack) in [(&part.omits, true), (&part.after_restore, false)] {
                let after =
                    |text: &String| AfterRestore { part: part.part.clone(), text: text.clone(), is_lack, done: None };
                self.after.extend(texts.iter().map(after));
            }
        }
        if self.parts.is_empty() {
            return Err(refused("none of these paths is in the run"));
        }
        self.place_roots(found, ground)
    }

    /// The roots of a part that was captured as it lay there, of what was asked for.
    fn roots_of(
        &self,
        capture: &Capture,
        (part, number): (&RestorePart, usize),
        chunks: &mut ChunkReader,
    ) -> Result<Vec<FoundRoot>, RestoreError> {
        let recorded: Vec<PathName> = capture.roots.iter().map(|root| name_of(Path::new(&root.path))).collect();
        // Of what was asked for by path only that changes hands.
        let wanted: Vec<PathName> = if self.asked.paths.is_empty() {
            recorded
        } else {
            let is_of = |path: &&PathName| recorded.iter().any(|root| *path == root || path.is_below(root));
            self.asked.paths.iter().filter(is_of).cloned().collect()
        };
        let beside: &'static [&'static str] = if capture.kind == PartKind::Sqlite { &BESIDE_SQLITE } else { &[] };
        let mut found = Vec::new();
        for name in wanted {
            let entry = ListingReader::new(chunks).find(&part.listing.root, &name);
            let Some(entry) = entry.map_err(in_listing)? else { continue };
            let here = under(&Path::new("/").join(path_of(&name)), &self.asked.maps);
            found.push(FoundRoot { name, here, part: number, is_folder: entry.kind == Kind::Folder, beside });
        }
        Ok(found)
    }

    /// How a part comes back, and its restore hook.
    fn way_of(
        &self,
        capture: &Capture,
        roots: Vec<PathBuf>,
        runner: &Runner<'_>,
    ) -> Result<(RestoreMethod, Option<RestoreHook>), RestoreError> {
        let spec = capture.defined_in(&self.spec);
        let back = spec.and_then(|spec| spec.restore.clone());
        let way = match (&capture.layout, &back) {
            (Layout::Source, _) => RestoreMethod::Files { roots },
            (Layout::Export, Some(RestoreHook { within: Some(other), .. })) => {
                RestoreMethod::Within { other: other.clone() }
            }
            (Layout::Export, Some(back)) => {
                let stdin = if back.reads == Some(Reads::Stdin) { " < {its one file}" } else { "" };
                let command = command_text(&back.command) + stdin;
                RestoreMethod::Command { command, stopped: back.when != Some(Running::Started) }
            }
            (Layout::Export, None) => {
                match spec.and_then(|spec| engines::of(capture.kind, Some(spec))?.importer(runner)) {
                    Some(Ok(server)) => RestoreMethod::Import { server: server.describe() },
                    Some(Err(why)) => return Err(refused(format!("{}: {why}", capture.part))),
                    None => RestoreMethod::ByHand,
                }
            }
        };
        Ok((way, back))
    }

    /// Finds the outermost roots, which change hands; what lies within them goes with them.
    fn place_roots(&mut self, found: Vec<FoundRoot>, ground: &PlaceContext<'_>) -> Result<(), RestoreError> {
        let mut all = Vec::new();
        for root in found {
            all.push((resolved(&root.here)?, root));
        }
        all.sort_by_key(|(real, root)| (real.as_os_str().len(), root.part));
        for (real, FoundRoot { name, here, part, is_folder, beside }) in all {
            let outer =
                self.targets.iter().position(|target| real == target.resolved || real.starts_with(&target.resolved));
            let target = match outer {
                Some(outer) => outer,
                None => {
                    self.targets.push(self.target(&real, &here, is_folder, beside, ground)?);
                    self.targets.len() - 1
                }
            };
            let below = real.strip_prefix(&self.targets[target].resolved).unwrap_or(Path::new(""));
            self.pieces.push(PlacePiece { target, part, from: name, to: super::super::swap::kept(below) });
        }
        Ok(())
    }

    pub(super) fn target(
        &self,
        real: &Path,
        here: &Path,
        is_folder: bool,
        beside: &'static [&'static str],
        ground: &PlaceContext<'_>,
    ) -> Result<PlannedTarget, RestoreError> {
        let shown = here.display();
        let kept = [(ground.store_folder, "the store".to_owned()), (ground.state, "Gullet's state folder".to_owned())];
        let stores = ground
            .stores
            .iter()
            .filter_map(|store| Some((store.spec.folder()?, format!("the store `{}`", store.name))));
        for (own, what) in kept.into_iter().chain(stores) {
            let own = fs::canonicalize(own).unwrap_or_else(|_| own.to_path_buf());
            if own.starts_with(real) {
                return Err(refused(format!("{what} lies in `{shown}`, which would change hands")));
            }
        }
        let meta = fs::symlink_metadata(real).ok();
        if let Some(meta) = &meta
            && meta.is_dir() != is_folder
        {
            let (is, was) = if is_folder { ("a file", "a folder") } else { ("a folder", "a file") };
            return Err(refused(format!("`{shown}` is {is} here and was {was}: move it away first")));
        }
        let how = match &meta {
            Some(_) => {
                mounts::look(real)?.map_err(|why| refused(format!("`{shown}` cannot be restored in place: {why}")))?
            }
            None => How::Rename,
        };
        let (inside, seen_at) = match how {
            How::Rename => (None, Vec::new()),
            How::Inside(why, _) if !is_folder => {
                return Err(refused(format!("`{shown}` is a file, and cannot be swapped: {why}")));
            }
            How::Inside(why, points) => (Some(why), points),
        };
        Ok(PlannedTarget {
            root: here.to_path_buf(),
            resolved: real.to_path_buf(),
            inside,
            is_there: meta.is_some(),
            is_folder,
            seen_at,
            beside,
        })
    }

    pub(super) fn order(&mut self) {
        // What comes into a folder comes after the folder.
        self.pieces.sort_by_key(|piece| (piece.target, piece.to.as_bytes().len()));
    }

    /// The parts in the order in which they are brought back.
    pub(in crate::restore::place) fn in_order(&self) -> Vec<&PlacePart> {
        let order = self.spec.restore.as_ref().map(|spec| spec.order.as_slice()).unwrap_or_default();
        let rank = |part: &str| order.iter().position(|name| name == part).unwrap_or(order.len());
        let mut parts: Vec<&PlacePart> = self.parts.iter().collect();
        parts.sort_by_key(|part| rank(&part.part));
        parts
    }
}
