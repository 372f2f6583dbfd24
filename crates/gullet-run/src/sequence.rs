//! What to do next in a run: a pure state machine.
//!
//! [`Sequence::next_task`] gives a [`Task`], the driver performs it and answers with [`Sequence::reply`]. Interruption, the
//! hold's limit and a lost hold come in from outside at any time. No process, file or clock is involved, so that
//! promises 1 and 2 can be checked over every sequence of faults.

mod reply;
mod shape;

use std::collections::BTreeSet;

use gullet_model::definition::{HookMoment, When};
use gullet_model::outcome::Outcome;

/// What the sequence must know about a run before it begins.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Shape {
    /// The hold steps in order.
    pub steps: Vec<StepShape>,
    /// The parts in order.
    pub parts: Vec<PartShape>,
    /// Whether the run was narrowed to some parts.
    pub partial: bool,
    /// Whether an atomic snapshot is made in the hold, if that can be.
    pub snapshot: bool,
}

/// One hold step.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct StepShape {
    /// It has a `drained` probe.
    pub settles: bool,
    /// It has an `entered` probe.
    pub proves: bool,
    /// It has a `released` probe.
    pub proves_left: bool,
    /// Found held, the run goes on.
    pub goes_on_if_held: bool,
}

/// What the sequence must know of one part.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct PartShape {
    /// Without it the run fails.
    pub required: bool,
    /// It is copied once before the hold.
    pub precopy: bool,
    /// When it is captured. Where nothing is held there is one moment only.
    pub when: When,
}

/// What the driver is to do. Numbers are of hold steps or parts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Task {
    /// Probe everything that needs no touch. `No` refuses the run.
    Preflight,
    /// Run the hooks of a moment.
    Hooks(HookMoment),
    /// Make ready for the hold: sync the sources, find out how they can be captured. `No` if it cannot be as it must.
    Prepare,
    /// Copy a part before the hold, so that the hold has less to do.
    Precopy(usize),
    /// Ask which state the application is in: `Serving`, `Held` or `Unknown`.
    ProbeInitialState(usize),
    /// Enter a hold step.
    Enter(usize),
    /// Wait until the work in hand is finished.
    Drain(usize),
    /// Ask whether it is held.
    Prove(usize),
    /// Make the snapshot.
    Snapshot,
    /// Capture a part.
    Capture(usize),
    /// Look whether a captured part changed while it was held: `Warned` or `No` if it did.
    CheckNoWrites(usize),
    /// Ask again whether it is held.
    ProveAgain(usize),
    /// Leave a hold step.
    Release(usize),
    /// Ask whether it serves.
    ProveReleased(usize),
    /// Store what was secured of a part.
    Store(usize),
    /// Remove snapshots and staged copies.
    CleanUp,
    /// Make everything durable.
    Finish,
    /// Read back what was stored.
    ReadBack,
    /// Write the record.
    Commit,
}

impl Task {
    /// The result of a task in which nothing goes wrong.
    fn good_result(self) -> TaskResult {
        if matches!(self, Self::ProbeInitialState(_)) { TaskResult::Serving } else { TaskResult::Yes }
    }
}

/// How a task went.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TaskResult {
    /// It did what it should.
    Yes,
    /// It did, with something to look at.
    Warned,
    /// It did not.
    No,
    /// The application serves.
    Serving,
    /// The application is held already.
    Held,
    /// Neither can be said.
    Unknown,
}

/// What became of a part.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PartState {
    /// Not captured yet.
    Open,
    /// It is captured and waits to be stored.
    Captured,
    /// Could not be captured.
    Failed,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Phase {
    Preflight,
    Before,
    Prepare,
    Precopy(usize),
    CaptureBefore(usize),
    ProbeInitialState(usize),
    Enter(usize),
    Drain(usize),
    Prove(usize),
    HeldHooks,
    Snapshot,
    Capture(usize),
    CheckNoWrites(usize),
    ProveAgain(usize),
    Release,
    ProveReleased(usize),
    ReleasedHooks,
    CaptureAfter(usize),
    Store(usize),
    CleanUp,
    Finish,
    ReadBack,
    Commit,
    Verdict,
    Finished,
    End,
}

/// The state of a run.
#[derive(Clone, Debug)]
pub struct Sequence {
    shape: Shape,
    at: Phase,
    found_held: BTreeSet<usize>,
    /// Steps whose `enter` was called, or is about to be, and that were not left yet.
    to_leave: Vec<usize>,
    entered_any: bool,
    leave_said_no: bool,
    parts: Vec<PartState>,
    before_ran: bool,
    void: bool,
    outcome: Outcome,
}

impl Sequence {
    /// A run that has not begun.
    pub fn new(shape: Shape) -> Self {
        let parts = vec![PartState::Open; shape.parts.len()];
        Self {
            shape,
            at: Phase::Preflight,
            found_held: BTreeSet::new(),
            to_leave: Vec::new(),
            entered_any: false,
            leave_said_no: false,
            parts,
            before_ran: false,
            void: false,
            outcome: Outcome::Complete,
        }
    }

    /// The tasks of a run in which nothing goes wrong, in their order.
    pub fn faultless(shape: Shape) -> Vec<Task> {
        let mut sequence = Self::new(shape);
        let mut tasks = Vec::new();
        while let Some(task) = sequence.next_task() {
            sequence.reply(task, task.good_result());
            tasks.push(task);
        }
        tasks
    }

    /// The outcome as far as it is known; it only gets worse.
    pub fn outcome(&self) -> Outcome {
        self.outcome
    }

    /// Whether nothing that was captured can be relied on.
    pub fn is_void(&self) -> bool {
        self.void
    }

    /// What became of a part.
    pub fn part(&self, part: usize) -> PartState {
        self.parts[part]
    }

    /// Whether the application is held by this run, or may be.
    pub fn holds(&self) -> bool {
        !self.to_leave.is_empty()
    }

    /// Whether the run is in the stretch in which the hold's limit and loss matter.
    pub fn is_in_hold(&self) -> bool {
        self.holds() && !self.is_leaving()
    }

    /// Whether parts are being captured while the application is held by somebody else, as it was found.
    pub fn is_in_found_hold(&self) -> bool {
        !self.found_held.is_empty() && matches!(self.at, Phase::Capture(_))
    }

    fn is_leaving(&self) -> bool {
        matches!(self.at, Phase::Release | Phase::ProveReleased(_))
    }

    /// Whether a step was left and is about to be asked whether it serves.
    pub fn is_proving_left(&self) -> bool {
        matches!(self.at, Phase::ProveReleased(_))
    }

    /// Whether the record is written, or was tried to be.
    pub fn is_settled(&self) -> bool {
        matches!(self.at, Phase::Verdict | Phase::Finished | Phase::End)
    }

    /// Something is worth a look.
    pub fn warn(&mut self) {
        self.outcome = self.outcome.combine(Outcome::Warnings);
    }

    /// A part that the definition asks for is not there to be captured.
    pub fn lack_part(&mut self) {
        self.outcome = self.outcome.combine(Outcome::Incomplete);
    }

    /// Somebody asked the run to stop. Leaving is never cut short by it, and what is recorded stays so.
    pub fn interrupt(&mut self) {
        if !self.is_settled() {
            self.give_up(Outcome::Interrupted);
        }
    }

    /// The hold has reached its limit, or is lost: what was captured in it is void.
    pub fn lose_hold(&mut self) {
        if self.is_in_hold() {
            self.give_up(Outcome::Failed);
        }
    }

    /// What was captured cannot be relied on after all.
    pub fn distrust(&mut self) {
        self.outcome = self.outcome.combine(Outcome::Failed);
        self.void = true;
    }

    /// Everything captured is void; go to the nearest way out.
    fn give_up(&mut self, outcome: Outcome) {
        self.outcome = self.outcome.combine(outcome);
        self.void = true;
        if !self.is_leaving() && !self.is_settled() {
            self.at = if self.holds() { Phase::Release } else { Phase::Commit };
        }
    }

    /// The next task, or `None` at the end. The same until it is replied to, unless the world intervenes.
    pub fn next_task(&mut self) -> Option<Task> {
        let (steps, parts) = (self.shape.steps.len(), self.shape.parts.len());
        loop {
            let skip_to = match self.at {
                Phase::Preflight => return Some(Task::Preflight),
                Phase::Before => return Some(Task::Hooks(HookMoment::Before)),
                Phase::Prepare if steps > 0 => return Some(Task::Prepare),
                Phase::Prepare => Phase::ProbeInitialState(0),
                Phase::Precopy(part) if part >= parts => Phase::CaptureBefore(0),
                Phase::Precopy(part) if self.shape.parts[part].precopy => return Some(Task::Precopy(part)),
                Phase::Precopy(part) => Phase::Precopy(part + 1),
                Phase::CaptureBefore(part) if part >= parts => Phase::ProbeInitialState(0),
                Phase::CaptureBefore(part) if self.is_due(part, When::Before) => return Some(Task::Capture(part)),
                Phase::CaptureBefore(part) => Phase::CaptureBefore(part + 1),
                Phase::ProbeInitialState(step) if step < steps => return Some(Task::ProbeInitialState(step)),
                Phase::ProbeInitialState(_) => Phase::Enter(0),
                Phase::Enter(step) if step >= steps => Phase::HeldHooks,
                Phase::Enter(step) if self.found_held.contains(&step) => Phase::Prove(step),
                Phase::Enter(step) => return Some(self.enter(step)),
                Phase::Drain(step) if self.shape.steps[step].settles => return Some(Task::Drain(step)),
                Phase::Drain(step) => Phase::Prove(step),
                Phase::Prove(step) if self.shape.steps[step].proves => return Some(Task::Prove(step)),
                Phase::Prove(step) => self.unproven(step),
                Phase::HeldHooks if steps > 0 => return Some(Task::Hooks(HookMoment::Held)),
                Phase::HeldHooks => Phase::Snapshot,
                Phase::Snapshot if self.shape.snapshot && steps > 0 => return Some(Task::Snapshot),
                Phase::Snapshot => Phase::Capture(0),
                Phase::Capture(part) if part >= parts => Phase::CheckNoWrites(0),
                Phase::Capture(part) if self.is_due(part, When::Held) => return Some(Task::Capture(part)),
                Phase::Capture(part) => Phase::Capture(part + 1),
                Phase::CheckNoWrites(part) if part >= parts || steps == 0 => Phase::ProveAgain(0),
                Phase::CheckNoWrites(part) if self.is_to_be_checked(part) => return Some(Task::CheckNoWrites(part)),
                Phase::CheckNoWrites(part) => Phase::CheckNoWrites(part + 1),
                Phase::ProveAgain(step) if step >= steps => Phase::Release,
                Phase::ProveAgain(step) if self.shape.steps[step].proves => return Some(Task::ProveAgain(step)),
                Phase::ProveAgain(step) => Phase::ProveAgain(step + 1),
                Phase::Release if self.holds() => return self.to_leave.last().copied().map(Task::Release),
                Phase::Release if self.entered_any => Phase::ReleasedHooks,
                Phase::Release => self.after_release(),
                Phase::ProveReleased(step) => return Some(Task::ProveReleased(step)),
                Phase::ReleasedHooks if self.outcome < Outcome::NotReleased => {
                    return Some(Task::Hooks(HookMoment::Released));
                }
                Phase::ReleasedHooks => self.after_release(),
                Phase::CaptureAfter(part) if part >= parts => Phase::Store(0),
                Phase::CaptureAfter(part) if self.is_due(part, When::After) => return Some(Task::Capture(part)),
                Phase::CaptureAfter(part) => Phase::CaptureAfter(part + 1),
                Phase::Store(part) if part >= parts && steps > 0 => Phase::CleanUp,
                Phase::Store(part) if part >= parts => Phase::Finish,
                Phase::Store(part) if self.parts[part] == PartState::Captured => return Some(Task::Store(part)),
                Phase::Store(part) => Phase::Store(part + 1),
                Phase::CleanUp => return Some(Task::CleanUp),
                Phase::Finish => return Some(Task::Finish),
                Phase::ReadBack => return Some(Task::ReadBack),
                Phase::Commit => return Some(self.commit()),
                Phase::Verdict => match self.verdict() {
                    Some(moment) => return Some(Task::Hooks(moment)),
                    None => Phase::Finished,
                },
                Phase::Finished => return Some(Task::Hooks(HookMoment::Finished)),
                Phase::End => return None,
            };
            self.at = skip_to;
        }
    }

    /// Noted before the driver calls it: an `enter` that is cut off must be left too.
    fn enter(&mut self, step: usize) -> Task {
        if self.to_leave.last() != Some(&step) {
            self.to_leave.push(step);
            self.entered_any = true;
        }
        Task::Enter(step)
    }

    /// Nothing can be asked whether the step holds.
    fn unproven(&mut self, step: usize) -> Phase {
        self.warn();
        Phase::Enter(step + 1)
    }

    fn commit(&mut self) -> Task {
        self.judge_parts();
        Task::Commit
    }

    fn is_to_be_checked(&self, part: usize) -> bool {
        self.is_due(part, When::Held) && self.parts[part] == PartState::Captured
    }

    fn after_release(&self) -> Phase {
        if self.void { Phase::Commit } else { Phase::CaptureAfter(0) }
    }

    /// Whether a part is captured at this moment.
    fn is_due(&self, part: usize, when: When) -> bool {
        let wanted = if self.shape.steps.is_empty() { When::Held } else { self.shape.parts[part].when };
        wanted == when
    }

    fn judge_parts(&mut self) {
        if self.void {
            return;
        }
        let failed = self.parts.iter().filter(|part| **part != PartState::Captured).count();
        if failed == self.parts.len() && failed > 0 {
            self.outcome = self.outcome.combine(Outcome::Failed);
        } else if failed > 0 {
            self.outcome = self.outcome.combine(Outcome::Incomplete);
        }
    }

    fn verdict(&self) -> Option<HookMoment> {
        match self.outcome {
            Outcome::Complete | Outcome::Warnings if self.shape.partial => None,
            Outcome::Complete | Outcome::Warnings => Some(HookMoment::Succeeded),
            Outcome::Refused
            | Outcome::Missed
            | Outcome::Incomplete
            | Outcome::Failed
            | Outcome::Interrupted
            | Outcome::NotReleased => Some(HookMoment::Failed),
        }
    }
}

#[cfg(test)]
mod tests;
