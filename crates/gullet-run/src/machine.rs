//! What to do next in a run: a pure state machine.
//!
//! [`Machine::next_task`] gives a [`Task`], the driver performs it and answers with [`Machine::reply`]. Interruption, the
//! hold's limit and a lost hold come in from outside at any time. No process, file or clock is involved, so that
//! promises 1 and 2 can be checked over every sequence of faults.

mod shape;

use std::collections::BTreeSet;

use gullet_model::definition::{HookMoment, When};
use gullet_model::outcome::Outcome;

/// What the machine must know about a run before it begins.
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
    /// It has a `settled` probe.
    pub settles: bool,
    /// It has an `entered` probe.
    pub proves: bool,
    /// It has a `left` probe.
    pub proves_left: bool,
    /// Found held, the run goes on.
    pub goes_on_if_held: bool,
}

/// One part.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct PartShape {
    /// Without it the run fails.
    pub must: bool,
    /// It is copied once before the hold.
    pub warm: bool,
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
    /// Make ready for the hold: sync the sources, find out how they can be secured. `No` if it cannot be as it must.
    Ready,
    /// Copy a part before the hold, so that the hold has less to do.
    Warm(usize),
    /// Ask which state the application is in: `Serving`, `Held` or `Unknown`.
    Look(usize),
    /// Enter a hold step.
    Enter(usize),
    /// Wait until the work in hand is finished.
    Settle(usize),
    /// Ask whether it is held.
    Prove(usize),
    /// Make the snapshot.
    Snapshot,
    /// Capture a part.
    Capture(usize),
    /// Look whether a captured part changed while it was held: `Warned` or `No` if it did.
    Quiet(usize),
    /// Ask again whether it is held.
    ProveAgain(usize),
    /// Leave a hold step.
    Leave(usize),
    /// Ask whether it serves.
    ProveLeft(usize),
    /// Store what was secured of a part.
    Store(usize),
    /// Remove snapshots and staged copies.
    Clear,
    /// Make everything durable.
    Finish,
    /// Read back what was stored.
    ReadBack,
    /// Write the record.
    Commit,
}

/// How a task went.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reply {
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
    /// Captured.
    Captured,
    /// Could not be captured.
    Failed,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum At {
    Preflight,
    Before,
    Ready,
    Warm(usize),
    CaptureBefore(usize),
    Look(usize),
    Enter(usize),
    Settle(usize),
    Prove(usize),
    HeldHooks,
    Snapshot,
    Capture(usize),
    Quiet(usize),
    ProveAgain(usize),
    Leave,
    ProveLeft(usize),
    ReleasedHooks,
    CaptureAfter(usize),
    Store(usize),
    Clear,
    Finish,
    ReadBack,
    Commit,
    Verdict,
    Finished,
    End,
}

/// The state of a run.
#[derive(Clone, Debug)]
pub struct Machine {
    shape: Shape,
    at: At,
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

impl Machine {
    /// A run that has not begun.
    pub fn new(shape: Shape) -> Self {
        let parts = vec![PartState::Open; shape.parts.len()];
        Self {
            shape,
            at: At::Preflight,
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
        !self.found_held.is_empty() && matches!(self.at, At::Capture(_))
    }

    fn is_leaving(&self) -> bool {
        matches!(self.at, At::Leave | At::ProveLeft(_))
    }

    /// Whether a step was left and is about to be asked whether it serves.
    pub fn is_proving_left(&self) -> bool {
        matches!(self.at, At::ProveLeft(_))
    }

    /// Whether the record is written, or was tried to be.
    pub fn is_settled(&self) -> bool {
        matches!(self.at, At::Verdict | At::Finished | At::End)
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
            self.at = if self.holds() { At::Leave } else { At::Commit };
        }
    }

    /// The next task, or `None` at the end. The same until it is replied to, unless the world intervenes.
    pub fn next_task(&mut self) -> Option<Task> {
        let (steps, parts) = (self.shape.steps.len(), self.shape.parts.len());
        loop {
            let skip_to = match self.at {
                At::Preflight => return Some(Task::Preflight),
                At::Before => return Some(Task::Hooks(HookMoment::Before)),
                At::Ready if steps > 0 => return Some(Task::Ready),
                At::Ready => At::Look(0),
                At::Warm(part) if part >= parts => At::CaptureBefore(0),
                At::Warm(part) if self.shape.parts[part].warm => return Some(Task::Warm(part)),
                At::Warm(part) => At::Warm(part + 1),
                At::CaptureBefore(part) if part >= parts => At::Look(0),
                At::CaptureBefore(part) if self.is_due(part, When::Before) => return Some(Task::Capture(part)),
                At::CaptureBefore(part) => At::CaptureBefore(part + 1),
                At::Look(step) if step < steps => return Some(Task::Look(step)),
                At::Look(_) => At::Enter(0),
                At::Enter(step) if step >= steps => At::HeldHooks,
                At::Enter(step) if self.found_held.contains(&step) => At::Prove(step),
                At::Enter(step) => {
                    // Noted before the driver calls it: an `enter` that is cut off must be left too.
                    if self.to_leave.last() != Some(&step) {
                        self.to_leave.push(step);
                        self.entered_any = true;
                    }
                    return Some(Task::Enter(step));
                }
                At::Settle(step) if self.shape.steps[step].settles => return Some(Task::Settle(step)),
                At::Settle(step) => At::Prove(step),
                At::Prove(step) if self.shape.steps[step].proves => return Some(Task::Prove(step)),
                At::Prove(step) => {
                    self.warn();
                    At::Enter(step + 1)
                }
                At::HeldHooks if steps > 0 => return Some(Task::Hooks(HookMoment::Held)),
                At::HeldHooks => At::Snapshot,
                At::Snapshot if self.shape.snapshot && steps > 0 => return Some(Task::Snapshot),
                At::Snapshot => At::Capture(0),
                At::Capture(part) if part >= parts => At::Quiet(0),
                At::Capture(part) if self.is_due(part, When::Held) => return Some(Task::Capture(part)),
                At::Capture(part) => At::Capture(part + 1),
                At::Quiet(part) if part >= parts || steps == 0 => At::ProveAgain(0),
                At::Quiet(part) if self.is_due(part, When::Held) && self.parts[part] == PartState::Captured => {
                    return Some(Task::Quiet(part));
                }
                At::Quiet(part) => At::Quiet(part + 1),
                At::ProveAgain(step) if step >= steps => At::Leave,
                At::ProveAgain(step) if self.shape.steps[step].proves => return Some(Task::ProveAgain(step)),
                At::ProveAgain(step) => At::ProveAgain(step + 1),
                At::Leave => match self.to_leave.last() {
                    Some(step) => return Some(Task::Leave(*step)),
                    None if self.entered_any => At::ReleasedHooks,
                    None => self.after_release(),
                },
                At::ProveLeft(step) => return Some(Task::ProveLeft(step)),
                At::ReleasedHooks if self.outcome < Outcome::NotReleased => {
                    return Some(Task::Hooks(HookMoment::Released));
                }
                At::ReleasedHooks => self.after_release(),
                At::CaptureAfter(part) if part >= parts => At::Store(0),
                At::CaptureAfter(part) if self.is_due(part, When::After) => return Some(Task::Capture(part)),
                At::CaptureAfter(part) => At::CaptureAfter(part + 1),
                At::Store(part) if part >= parts && steps > 0 => At::Clear,
                At::Store(part) if part >= parts => At::Finish,
                At::Store(part) if self.parts[part] == PartState::Captured => return Some(Task::Store(part)),
                At::Store(part) => At::Store(part + 1),
                At::Clear => return Some(Task::Clear),
                At::Finish => return Some(Task::Finish),
                At::ReadBack => return Some(Task::ReadBack),
                At::Commit => {
                    self.judge_parts();
                    return Some(Task::Commit);
                }
                At::Verdict => match self.verdict() {
                    Some(moment) => return Some(Task::Hooks(moment)),
                    None => At::Finished,
                },
                At::Finished => return Some(Task::Hooks(HookMoment::Finished)),
                At::End => return None,
            };
            self.at = skip_to;
        }
    }

    fn after_release(&self) -> At {
        if self.void { At::Commit } else { At::CaptureAfter(0) }
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
            Outcome::Refused | Outcome::Incomplete | Outcome::Failed | Outcome::Interrupted | Outcome::NotReleased => {
                Some(HookMoment::Failed)
            }
        }
    }

    /// Takes in how `task` went. A reply to a task that is no longer the current one (the world intervened) only
    /// leaves its trace in the outcome.
    pub fn reply(&mut self, task: Task, reply: Reply) {
        if reply == Reply::Warned {
            self.warn();
        }
        let bad = matches!(reply, Reply::No);
        match task {
            Task::Preflight if self.at == At::Preflight => {
                if bad {
                    self.outcome = self.outcome.combine(Outcome::Refused);
                    self.void = true;
                    self.at = At::Commit;
                } else {
                    self.at = At::Before;
                }
            }
            Task::Hooks(moment) => self.hooks_done(moment, bad),
            Task::Ready if self.at == At::Ready => self.go(bad, At::Warm(0)),
            Task::Warm(part) if self.at == At::Warm(part) => {
                // The hold captures all of it if it must.
                if bad {
                    self.warn();
                }
                self.at = At::Warm(part + 1);
            }
            Task::Look(step) if self.at == At::Look(step) => self.looked(step, reply),
            Task::Enter(step) if self.at == At::Enter(step) => self.go(bad, At::Settle(step)),
            Task::Settle(step) if self.at == At::Settle(step) => self.go(bad, At::Prove(step)),
            Task::Prove(step) if self.at == At::Prove(step) => self.go(bad, At::Enter(step + 1)),
            Task::Snapshot if self.at == At::Snapshot => self.go(bad, At::Capture(0)),
            Task::Capture(part) if self.at == At::CaptureBefore(part) => {
                self.part_done(part, bad, At::CaptureBefore(part + 1));
            }
            Task::Capture(part) if self.at == At::Capture(part) => self.part_done(part, bad, At::Capture(part + 1)),
            Task::Capture(part) if self.at == At::CaptureAfter(part) => {
                self.part_done(part, bad, At::CaptureAfter(part + 1));
            }
            Task::Quiet(part) if self.at == At::Quiet(part) => self.part_done(part, bad, At::Quiet(part + 1)),
            Task::ProveAgain(step) if self.at == At::ProveAgain(step) => self.go(bad, At::ProveAgain(step + 1)),
            Task::Leave(step) => {
                self.to_leave.pop();
                self.leave_said_no = bad;
                if self.shape.steps[step].proves_left {
                    self.at = At::ProveLeft(step);
                } else {
                    self.left(!bad);
                }
            }
            Task::ProveLeft(_) => {
                // The probe decides: a `leave` that complained but worked is worth a look, no more.
                if self.leave_said_no {
                    self.warn();
                }
                self.left(!bad);
            }
            Task::Store(part) if self.at == At::Store(part) => self.part_done(part, bad, At::Store(part + 1)),
            Task::Clear if self.at == At::Clear => {
                if bad {
                    self.warn();
                }
                self.at = At::Finish;
            }
            Task::Finish if self.at == At::Finish => self.go(bad, At::ReadBack),
            Task::ReadBack if self.at == At::ReadBack => self.go(bad, At::Commit),
            Task::Commit if self.at == At::Commit => {
                if bad {
                    self.outcome = self.outcome.combine(Outcome::Failed);
                }
                self.at = At::Verdict;
            }
            _ => {}
        }
    }

    fn go(&mut self, bad: bool, next: At) {
        if bad {
            self.give_up(Outcome::Failed);
        } else {
            self.at = next;
        }
    }

    fn left(&mut self, released: bool) {
        if !released {
            self.outcome = self.outcome.combine(Outcome::NotReleased);
        }
        self.leave_said_no = false;
        self.at = At::Leave;
    }

    fn hooks_done(&mut self, moment: HookMoment, bad: bool) {
        match moment {
            HookMoment::Before if self.at == At::Before => {
                self.before_ran = true;
                self.go(bad, At::Ready);
            }
            HookMoment::Held if self.at == At::HeldHooks => self.go(bad, At::Snapshot),
            HookMoment::Released if self.at == At::ReleasedHooks => {
                if bad {
                    self.warn();
                }
                self.at = self.after_release();
            }
            HookMoment::Succeeded | HookMoment::Failed if self.at == At::Verdict => {
                if bad {
                    self.warn();
                }
                self.at = At::Finished;
            }
            HookMoment::Finished if self.at == At::Finished => {
                if bad {
                    self.warn();
                }
                self.at = At::End;
            }
            _ => {}
        }
    }

    fn looked(&mut self, step: usize, reply: Reply) {
        let goes_on = self.shape.steps[step].goes_on_if_held;
        match reply {
            Reply::Yes | Reply::Warned | Reply::Serving => self.at = At::Look(step + 1),
            Reply::Held if goes_on => {
                self.found_held.insert(step);
                self.at = At::Look(step + 1);
            }
            Reply::Held | Reply::Unknown | Reply::No => self.give_up(Outcome::Refused),
        }
    }

    fn part_done(&mut self, part: usize, bad: bool, next: At) {
        self.parts[part] = if bad { PartState::Failed } else { PartState::Captured };
        if bad && self.shape.parts[part].must {
            self.give_up(Outcome::Failed);
        } else {
            self.at = next;
        }
    }
}

#[cfg(test)]
mod tests;
