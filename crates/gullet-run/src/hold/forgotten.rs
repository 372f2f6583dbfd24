//! Leaving a hold that nobody owns any more: main and guard are both gone.
//!
//! The boot entry and every later command do it, from the steps in the note.

use std::path::Path;
use std::time::Duration;

use super::keeper::Keeper;
use super::note::{FoundNote, HoldNote, NoteError, NoteHead};
use super::old_state::OldState;
use gullet_host::hook::{Runner, end_found, marked};
use gullet_host::world::{Clock, Stop, World};
use gullet_model::Reason;

/// How long a `release` that a dead guard had begun may go on.
const LEAVING_MAY_TAKE: Duration = Duration::from_secs(30);

/// A forgotten hold that was found.
#[derive(Clone, Debug)]
pub struct Forgotten {
    /// What the note says of it.
    pub head: NoteHead,
    /// Whether it is left now; else what is in the way.
    pub left: Result<(), Reason>,
    /// What a person is told to do where it is not, step by step.
    pub by_hand: Vec<String>,
}

/// What the dead guard was running: an `enter` that goes on by itself would hold the application again after it was released. It
/// is ended, and waited for. A `release` is waited for; what it started, such as the application itself, is left alone.
fn end_orphans(head: &NoteHead, clock: &dyn Clock) {
    let is_leaving = |moment: &str| matches!(moment, "release" | "released");
    let noted = head.running.as_ref().filter(|_| head.owner().is_some());
    if let Some(leaving) = noted.filter(|running| is_leaving(&running.moment)) {
        let began = clock.uptime();
        while leaving.process.living().is_some() && clock.uptime().saturating_sub(began) < LEAVING_MAY_TAKE {
            clock.sleep(Duration::from_millis(20));
        }
        let _ = end_found(|| vec![leaving.process], clock);
    }
    // A token is random, so what carries it was started for this hold. An empty one is of a note that could not be read.
    let of_hold = || match head.token.as_str() {
        "" => Vec::new(),
        token => marked(&format!("{token}."), |moment| !is_leaving(moment)),
    };
    let running = noted.filter(|running| !is_leaving(&running.moment)).map(|running| running.process);
    let _ = end_found(|| of_hold().into_iter().chain(running).collect(), clock);
}

/// Leaves the forgotten hold of an application, if there is one.
///
/// # Errors
/// When the note cannot be read.
pub fn leave(
    notes: &Path,
    app: &str,
    world: World<'_>,
    scratch: &Path,
    old_state: &dyn OldState,
) -> Result<Option<Forgotten>, NoteError> {
    let FoundNote::Forgotten(mut note, steps) = HoldNote::look(notes, app)? else { return Ok(None) };
    let head = note.head().clone();
    // Between two guards a hold by hand has no lock for a moment; the one that hands it over lives until it is taken.
    if head.is_handed_over && head.owner().is_some_and(|guard| guard.living().is_some()) {
        return Ok(None);
    }
    note.adopt();
    end_orphans(&head, world.clock);
    let entered: Vec<usize> = head.entered.iter().copied().filter(|step| *step < steps.len()).collect();
    let by_hand = entered.iter().filter_map(|step| steps[*step].manual_release.clone()).collect();
    let runner = Runner {
        world,
        app: app.to_owned(),
        run: head.run.clone(),
        family: head.token.clone(),
        folder: scratch.to_path_buf(),
        top: scratch.to_path_buf(),
    };
    let mut keeper = Keeper::new(runner, steps, Duration::ZERO, Some(*note), entered, old_state);
    let left = keeper.leave_all("released by a later command: the processes that held it were gone", &Stop::default());
    Ok(Some(Forgotten { head, left, by_hand }))
}
