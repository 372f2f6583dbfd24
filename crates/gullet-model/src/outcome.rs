//! The one definite outcome of a run.

use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How a run ended. Ordered by severity, so that an outcome only ever gets worse.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Outcome {
    /// Every part that the definition asks for, from one proven hold, durable and read back.
    Complete,
    /// Complete, with something that a person should look at.
    Warnings,
    /// Some parts were captured and others were not.
    Incomplete,
    /// Refused before the application was touched.
    Refused,
    /// It was due by a schedule, and was not run.
    Missed,
    /// Nothing of this run can be relied on.
    Failed,
    /// Stopped by a signal, and the application was released.
    Interrupted,
    /// The application is still held.
    NotReleased,
}

impl Outcome {
    /// All outcomes, mildest first.
    pub const ALL: [Self; 8] = [
        Self::Complete,
        Self::Warnings,
        Self::Incomplete,
        Self::Refused,
        Self::Missed,
        Self::Failed,
        Self::Interrupted,
        Self::NotReleased,
    ];

    /// The worse of the two.
    #[must_use]
    pub fn combine(self, other: Self) -> Self {
        self.max(other)
    }

    /// Whether everything that the definition asks for was captured and can be relied on.
    pub fn is_whole(self) -> bool {
        match self {
            Self::Complete | Self::Warnings => true,
            Self::Incomplete | Self::Refused | Self::Missed | Self::Failed | Self::Interrupted | Self::NotReleased => {
                false
            }
        }
    }

    /// The outcome as tables and records say it.
    pub fn words(self) -> &'static str {
        match self {
            Self::Complete => "complete",
            Self::Warnings => "complete with warnings",
            Self::Incomplete => "incomplete",
            Self::Refused => "refused",
            Self::Missed => "missed",
            Self::Failed => "failed",
            Self::Interrupted => "interrupted",
            Self::NotReleased => "not released",
        }
    }
}

impl fmt::Display for Outcome {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.words())
    }
}

#[cfg(test)]
mod tests {
    use super::Outcome;

    #[test]
    fn combining_keeps_the_worse_in_any_order() {
        for a in Outcome::ALL {
            assert_eq!(a.combine(Outcome::Complete), a);
            assert_eq!(a.combine(Outcome::NotReleased), Outcome::NotReleased);
            for b in Outcome::ALL {
                assert_eq!(a.combine(b), b.combine(a));
                assert!(a.combine(b) >= a);
                for c in Outcome::ALL {
                    assert_eq!(a.combine(b).combine(c), a.combine(b.combine(c)));
                }
            }
        }
    }
}
