//! Files that a walk finds, secured: through a snapshot, by clones and copies, or by reading them into the store at once.

use std::collections::VecDeque;
use std::path::{Path, PathBuf};

use super::context::{CaptureContext, PartError};
use super::files::{self, PriorState, WalkFindings};
use super::lister::Lister;
use super::marks::MadeMarks;
use super::pending::{Copies, Extra, store_staged};
use super::seen::SourceWatch;
use super::staged::{SourceChange, Staged, take_listed};
use super::walk::Walk;
use super::wanted::MustContain;
use crate::plan::PlannedPart;
use gullet_model::definition::Tolerance;
use gullet_model::record::{Capture, Counts, Root, SecuredBy};

fn wanted(part: &PlannedPart, walk: &Walk) -> MustContain {
    MustContain::new(&part.spec.must_contain, walk.roots().iter().map(PathBuf::as_path))
}

/// Secures files through a snapshot where there is one, else by themselves.
pub(crate) fn through_snapshot_or_not(
    part: &PlannedPart,
    mut walk: Walk,
    capture: &mut Capture,
    context: &mut CaptureContext<'_, '_>,
) -> Result<Box<dyn Staged>, PartError> {
    let staging = &context.staging;
    if context.in_hold && !part.spec.cross_mounts && walk.look_through(|root| staging.seen(root)) {
        capture.secured = Some(SecuredBy::Snapshot);
        return Ok(Box::new(InSnapshot { walk }));
    }
    secured(part, walk, capture, context)
}

/// Secures files by clones and copies where that saves time of the hold, else by reading them into the store at once.
pub(crate) fn secured(
    part: &PlannedPart,
    walk: Walk,
    capture: &mut Capture,
    context: &mut CaptureContext<'_, '_>,
) -> Result<Box<dyn Staged>, PartError> {
    let known = context.known();
    if context.may_clone() {
        let pending = context.scratch.join("pending.jsonl");
        let copies = context.scratch.join("copies");
        let most = context.may_copy();
        let made = files::stage(&walk, &known, pending.clone(), Copies::new(copies.clone(), most), context)?;
        let (counts, looked, by) = made;
        check_roots(part, &counts, &looked.roots, context.last)?;
        (capture.counts, capture.secured) = (counts, by);
        let seen = Some(take_looked(looked, capture));
        return Ok(Box::new(StagedFiles { walk, seen, known, pending, copies, extras: VecDeque::new() }));
    }
    let marks = context.scratch.join("marks");
    let (listed, looked) = files::capture(&walk, &known, marks, wanted(part, &walk), context)?;
    check_roots(part, &listed.counts, &looked.roots, context.last)?;
    let marks = take_listed(listed, capture);
    let seen = take_looked(looked, capture);
    Ok(Box::new(ReadAtOnce { walk, seen, marks }))
}

/// Takes what came of looking at files into the capture; gives what was seen.
pub(crate) fn take_looked(looked: WalkFindings, capture: &mut Capture) -> SourceWatch {
    capture.left_out = looked.left_out;
    capture.warnings.extend(looked.warnings);
    capture.unreadable = looked.unreadable;
    capture.roots = looked.roots;
    (capture.users, capture.groups) = looked.owners.named();
    looked.seen
}

/// Refuses what is most likely not what the definition means: nothing at all, or a root on another filesystem.
pub(crate) fn check_roots(
    part: &PlannedPart,
    counts: &Counts,
    roots: &[Root],
    last: Option<&Capture>,
) -> Result<(), PartError> {
    if part.spec.empty == Some(Tolerance::Ok) {
        return Ok(());
    }
    same_filesystems(roots, last)?;
    if counts.files + counts.others == 0 {
        return Err(PartError::failed(format!(
            "there is nothing in {} (say `empty = \"ok\"` if that may be)",
            roots.iter().map(|root| root.path.as_str()).collect::<Vec<_>>().join(", ")
        )));
    }
    Ok(())
}

/// Refuses a root whose filesystem is another one than in the last good run: most likely a mount is missing.
fn same_filesystems(roots: &[Root], last: Option<&Capture>) -> Result<(), PartError> {
    for root in roots {
        let before = last.and_then(|last| last.roots.iter().find(|before| before.path == root.path));
        if let Some(before) = before.filter(|before| before.filesystem != root.filesystem) {
            let (path, was, is) = (&root.path, &before.filesystem, &root.filesystem);
            let text = format!(
                "`{path}` is on another filesystem than last time ({is}, before {was}): is something not mounted? \
                 (say `empty = \"ok\"` if that may be)"
            );
            return Err(PartError::failed(text));
        }
    }
    Ok(())
}

fn changed_since(seen: &SourceWatch, walk: &Walk) -> Result<SourceChange, PartError> {
    let (named, count) = seen.changed_since(walk)?;
    Ok(if count == 0 { SourceChange::None } else { SourceChange::FilesChanged(named, count) })
}

/// Files that are in the store already.
struct ReadAtOnce {
    walk: Walk,
    seen: SourceWatch,
    marks: Option<MadeMarks>,
}

impl Staged for ReadAtOnce {
    fn source_change(&self) -> Result<SourceChange, PartError> {
        changed_since(&self.seen, &self.walk)
    }

    fn store(
        &mut self,
        _: &PlannedPart,
        _: &mut Capture,
        _: &mut CaptureContext<'_, '_>,
    ) -> Result<Option<MadeMarks>, PartError> {
        Ok(self.marks.take())
    }

    fn may_be_empty(&self) -> bool {
        true
    }
}

/// Files that are read through a snapshot.
struct InSnapshot {
    walk: Walk,
}

impl Staged for InSnapshot {
    fn source_change(&self) -> Result<SourceChange, PartError> {
        Ok(SourceChange::Instant)
    }

    fn store(
        &mut self,
        part: &PlannedPart,
        capture: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Option<MadeMarks>, PartError> {
        let (known, marks) = (context.known(), context.scratch.join("marks"));
        let (listed, looked) = files::capture(&self.walk, &known, marks, wanted(part, &self.walk), context)?;
        check_roots(part, &listed.counts, &looked.roots, context.last)?;
        take_looked(looked, capture);
        Ok(take_listed(listed, capture))
    }

    fn may_be_empty(&self) -> bool {
        true
    }
}

/// Clones and copies of files, with what is known of each in `pending`.
pub(crate) struct StagedFiles {
    pub(crate) walk: Walk,
    /// The sources as they were when they were copied, to find what changed meanwhile; `None` for a database cluster, whose own log makes
    /// its files fit together.
    pub(crate) seen: Option<SourceWatch>,
    pub(crate) known: PriorState,
    pub(crate) pending: PathBuf,
    pub(crate) copies: PathBuf,
    pub(crate) extras: VecDeque<Extra>,
}

impl Staged for StagedFiles {
    fn source_change(&self) -> Result<SourceChange, PartError> {
        self.seen.as_ref().map_or(Ok(SourceChange::Engine), |seen| changed_since(seen, &self.walk))
    }

    fn store(
        &mut self,
        part: &PlannedPart,
        capture: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Option<MadeMarks>, PartError> {
        let marks: &Path = &context.scratch.join("marks");
        let lister =
            Lister::new(self.known.last.clone(), marks.to_path_buf(), wanted(part, &self.walk), context.deposit)?;
        let extras = std::mem::take(&mut self.extras);
        let listed = store_staged(&self.pending, &self.copies, lister, &self.known, extras, context)?;
        // Some were read into the store in the hold, where that was as quick.
        let read_at_once = capture.counts.bytes_read;
        let marks = take_listed(listed, capture);
        capture.counts.bytes_read += read_at_once;
        Ok(marks)
    }

    fn may_be_empty(&self) -> bool {
        true
    }
}
