//! How a task went, taken in.

use super::{PartState, Phase, Sequence, Task, TaskResult};
use gullet_model::definition::HookMoment;
use gullet_model::outcome::Outcome;

impl Sequence {
    /// Takes in how `task` went. A reply to a task that is no longer the current one (the world intervened) only
    /// leaves its trace in the outcome.
    pub fn reply(&mut self, task: Task, reply: TaskResult) {
        if reply == TaskResult::Warned {
            self.warn();
        }
        let bad = matches!(reply, TaskResult::No);
        match task {
            Task::Preflight if self.at == Phase::Preflight => self.preflight_done(bad),
            Task::Hooks(moment) => self.hooks_done(moment, bad),
            Task::Prepare if self.at == Phase::Prepare => self.go(bad, Phase::Precopy(0)),
            Task::Precopy(part) if self.at == Phase::Precopy(part) => {
                // The hold captures all of it if it must.
                if bad {
                    self.warn();
                }
                self.at = Phase::Precopy(part + 1);
            }
            Task::ProbeInitialState(step) if self.at == Phase::ProbeInitialState(step) => self.looked(step, reply),
            Task::Enter(step) if self.at == Phase::Enter(step) => self.go(bad, Phase::Drain(step)),
            Task::Drain(step) if self.at == Phase::Drain(step) => self.go(bad, Phase::Prove(step)),
            Task::Prove(step) if self.at == Phase::Prove(step) => self.go(bad, Phase::Enter(step + 1)),
            Task::Snapshot if self.at == Phase::Snapshot => self.go(bad, Phase::Capture(0)),
            Task::Capture(part) if self.at == Phase::CaptureBefore(part) => {
                self.part_done(part, bad, Phase::CaptureBefore(part + 1));
            }
            Task::Capture(part) if self.at == Phase::Capture(part) => {
                self.part_done(part, bad, Phase::Capture(part + 1));
            }
            Task::Capture(part) if self.at == Phase::CaptureAfter(part) => {
                self.part_done(part, bad, Phase::CaptureAfter(part + 1));
            }
            Task::CheckNoWrites(part) if self.at == Phase::CheckNoWrites(part) => {
                self.part_done(part, bad, Phase::CheckNoWrites(part + 1));
            }
            Task::ProveAgain(step) if self.at == Phase::ProveAgain(step) => self.go(bad, Phase::ProveAgain(step + 1)),
            Task::Release(step) => self.released(step, bad),
            Task::ProveReleased(_) => {
                // The probe decides: a `release` that complained but worked is worth a look, no more.
                if self.leave_said_no {
                    self.warn();
                }
                self.left(!bad);
            }
            Task::Store(part) if self.at == Phase::Store(part) => self.part_done(part, bad, Phase::Store(part + 1)),
            Task::CleanUp if self.at == Phase::CleanUp => {
                if bad {
                    self.warn();
                }
                self.at = Phase::Finish;
            }
            Task::Finish if self.at == Phase::Finish => self.go(bad, Phase::ReadBack),
            Task::ReadBack if self.at == Phase::ReadBack => self.go(bad, Phase::Commit),
            Task::Commit if self.at == Phase::Commit => {
                if bad {
                    self.outcome = self.outcome.combine(Outcome::Failed);
                }
                self.at = Phase::Verdict;
            }
            _ => {}
        }
    }

    fn preflight_done(&mut self, bad: bool) {
        if bad {
            self.outcome = self.outcome.combine(Outcome::Refused);
            self.void = true;
        }
        self.at = if bad { Phase::Commit } else { Phase::Before };
    }

    fn released(&mut self, step: usize, bad: bool) {
        self.to_leave.pop();
        self.leave_said_no = bad;
        if self.shape.steps[step].proves_left {
            self.at = Phase::ProveReleased(step);
        } else {
            self.left(!bad);
        }
    }

    pub(super) fn go(&mut self, bad: bool, next: Phase) {
        if bad {
            self.give_up(Outcome::Failed);
        } else {
            self.at = next;
        }
    }

    pub(super) fn left(&mut self, released: bool) {
        if !released {
            self.outcome = self.outcome.combine(Outcome::NotReleased);
        }
        self.leave_said_no = false;
        self.at = Phase::Release;
    }

    pub(super) fn hooks_done(&mut self, moment: HookMoment, bad: bool) {
        match moment {
            HookMoment::Before if self.at == Phase::Before => {
                self.before_ran = true;
                self.go(bad, Phase::Prepare);
            }
            HookMoment::Held if self.at == Phase::HeldHooks => self.go(bad, Phase::Snapshot),
            HookMoment::Released if self.at == Phase::ReleasedHooks => {
                if bad {
                    self.warn();
                }
                self.at = self.after_release();
            }
            HookMoment::Succeeded | HookMoment::Failed if self.at == Phase::Verdict => {
                if bad {
                    self.warn();
                }
                self.at = Phase::Finished;
            }
            HookMoment::Finished if self.at == Phase::Finished => {
                if bad {
                    self.warn();
                }
                self.at = Phase::End;
            }
            _ => {}
        }
    }

    pub(super) fn looked(&mut self, step: usize, reply: TaskResult) {
        let goes_on = self.shape.steps[step].goes_on_if_held;
        match reply {
            TaskResult::Yes | TaskResult::Warned | TaskResult::Serving => self.at = Phase::ProbeInitialState(step + 1),
            TaskResult::Held if goes_on => {
                self.found_held.insert(step);
                self.at = Phase::ProbeInitialState(step + 1);
            }
            TaskResult::Held | TaskResult::Unknown | TaskResult::No => self.give_up(Outcome::Refused),
        }
    }

    pub(super) fn part_done(&mut self, part: usize, bad: bool, next: Phase) {
        self.parts[part] = if bad { PartState::Failed } else { PartState::Captured };
        if bad && self.shape.parts[part].required {
            self.give_up(Outcome::Failed);
        } else {
            self.at = next;
        }
    }
}
