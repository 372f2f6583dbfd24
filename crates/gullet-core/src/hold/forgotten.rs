//! Leaving a hold that nobody owns any more: main and guard are both gone.
//!
//! The boot entry and every later command do it, from the steps in the note.

use std::path::Path;

use super::keeper::Keeper;
use super::note::{Note, NoteError, NoteHead, Stuck};
use crate::hook::Runner;
use crate::world::World;

/// A forgotten hold that was found.
#[derive(Clone, Debug)]
pub struct Forgotten {
    /// What the note says of it.
    pub head: NoteHead,
    /// Whether it is left now; else what is in the way.
    pub left: Result<(), String>,
    /// What a person is told to do where it is not, step by step.
    pub by_hand: Vec<String>,
}

/// Leaves the forgotten hold of an application, if there is one.
///
/// # Errors
/// When the note cannot be read.
pub fn leave(notes: &Path, app: &str, world: World<'_>, scratch: &Path) -> Result<Option<Forgotten>, NoteError> {
    let Stuck::Forgotten(note, steps) = Note::look(notes, app)? else { return Ok(None) };
    let head = note.head().clone();
    let entered: Vec<usize> = head.entered.iter().copied().filter(|step| *step < steps.len()).collect();
    let by_hand = entered.iter().filter_map(|step| steps[*step].by_hand.clone()).collect();
    let runner = Runner {
        world,
        app: app.to_owned(),
        run: head.run.clone(),
        folder: scratch.to_path_buf(),
        top: scratch.to_path_buf(),
    };
    let mut keeper = Keeper::new(runner, steps, std::time::Duration::ZERO, Some(*note), entered);
    let left = keeper.leave_all("left by a later command: the processes that held it were gone");
    Ok(Some(Forgotten { head, left, by_hand }))
}
