//! The exit codes: a public contract, with a test for each (`tests/exit_codes.rs`).

use std::process::ExitCode;

use gullet_model::Outcome;

/// How the program ends. `status` alone ends with 0 to 3 as monitoring expects.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Exit {
    /// 0: complete.
    Complete,
    /// 1: failed, also by anything unforeseen.
    Failed,
    /// 2: the command line is wrong.
    Usage,
    /// 3: the definition is wrong.
    Definition,
    /// 4: refused before anything was touched.
    Refused,
    /// 5: incomplete.
    Incomplete,
    /// 6: complete with warnings.
    Warnings,
    /// 7: the application is not released. Wins over all others.
    NotReleased,
    /// 8: interrupted, and released.
    Interrupted,
    /// 0 to 3: what `status` says to monitoring.
    Monitoring(u8),
}

impl Exit {
    /// The number that the program ends with.
    pub fn code(self) -> u8 {
        match self {
            Self::Complete => 0,
            Self::Failed => 1,
            Self::Usage => 2,
            Self::Definition => 3,
            Self::Refused => 4,
            Self::Incomplete => 5,
            Self::Warnings => 6,
            Self::NotReleased => 7,
            Self::Interrupted => 8,
            Self::Monitoring(code) => code,
        }
    }

    /// What a program of ours that ended with this number meant.
    pub fn of_code(code: u8) -> Option<Self> {
        let all = [
            Self::Complete,
            Self::Failed,
            Self::Usage,
            Self::Definition,
            Self::Refused,
            Self::Incomplete,
            Self::Warnings,
            Self::NotReleased,
            Self::Interrupted,
        ];
        all.into_iter().find(|exit| exit.code() == code)
    }

    /// The worse of two, for several runs in one call.
    #[must_use]
    pub fn worse(self, other: Self) -> Self {
        let rank = |exit: Self| match exit {
            Self::Complete => 0,
            Self::Warnings => 1,
            Self::Incomplete => 2,
            Self::Refused => 3,
            Self::Failed | Self::Usage | Self::Definition | Self::Monitoring(_) => 4,
            Self::Interrupted => 5,
            Self::NotReleased => 6,
        };
        if rank(other) > rank(self) { other } else { self }
    }
}

impl From<Outcome> for Exit {
    fn from(outcome: Outcome) -> Self {
        match outcome {
            Outcome::Complete => Self::Complete,
            Outcome::Warnings => Self::Warnings,
            Outcome::Incomplete => Self::Incomplete,
            Outcome::Refused | Outcome::Missed => Self::Refused,
            Outcome::Failed => Self::Failed,
            Outcome::Interrupted => Self::Interrupted,
            Outcome::NotReleased => Self::NotReleased,
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.code())
    }
}
