//! The ways in which a desk can misbehave.

use std::time::Duration;

/// What an application may do wrong while somebody backs it up.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Misbehaviour {
    /// Behaves.
    None,
    /// Answers `pause` with an error.
    RefusePause,
    /// Accepts `pause` and goes on serving for three more seconds.
    PauseLate,
    /// Says that it is paused and goes on writing.
    Lie,
    /// Resumes by itself 300 ms after it was paused.
    ResumeByItself,
    /// Answers `resume` with an error.
    RefuseResume,
    /// Accepts `resume` and stays paused.
    IgnoreResume,
}

impl Misbehaviour {
    /// How long a late pause takes to come.
    pub(crate) const LATE: Duration = Duration::from_secs(3);
    /// How long a desk stays paused that resumes by itself.
    pub(crate) const SHORT: Duration = Duration::from_millis(300);
}
