//! What a cause or a warning is about, as a word that stays the same whatever its sentence says.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The kind of a problem. Its word stands in events and records, and decisions are taken by it; the sentence beside it is for
/// people.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum ProblemKind {
    /// The store is not there, is another one, cannot be written, or failed.
    Store,
    /// What was stored read back differently.
    ReadBack,
    /// The record, or a remark upon it, could not be stored.
    Record,
    /// The clock stands before the run before.
    Clock,
    /// A `require` probe did not pass.
    Requirement,
    /// A source, a program or room that the run needs is not there, or a database server does not answer.
    Missing,
    /// `each` gave other parts than in the last good run.
    Parts,
    /// The sources cannot be captured in the way that the definition asks for.
    CaptureMethod,
    /// A part could not be copied before the hold.
    Precopy,
    /// No snapshot could be made.
    Snapshot,
    /// What an earlier run left, or a snapshot or copy of this one, could not be removed or had to be.
    Leftover,
    /// The application was held already.
    HeldAlready,
    /// Its probes say neither that it serves nor that it is held.
    StateUnknown,
    /// It could not be entered into backup mode.
    Enter,
    /// Its work in hand did not end in time.
    Drain,
    /// It is not, or no longer, held.
    NotHeld,
    /// No probe proves that it was held.
    NotProven,
    /// The guard left the hold by itself, or is gone.
    HoldLost,
    /// The hold reached its limit.
    HoldLimit,
    /// It was held much longer than in the run before.
    LongHold,
    /// Something wrote to a source while the application said that it was held.
    Written,
    /// Another application of the group could not be held.
    Group,
    /// A part could not be captured.
    Capture,
    /// Paths of a part could not be read.
    Unreadable,
    /// A part was captured, and something about it is worth a look.
    Part,
    /// A hook failed.
    Hook,
    /// A command itself warned of something.
    Noted,
    /// Processes of a command could not be ended.
    Process,
    /// A release command failed.
    Release,
    /// The application is not released.
    NotReleased,
    /// Somebody stopped the run.
    Stopped,
    /// The run died before its end.
    Died,
    /// The run could not begin.
    Refused,
    /// It was due, and was not run.
    Missed,
    /// A word of a later version.
    #[default]
    #[serde(other)]
    Other,
}

impl ProblemKind {
    /// The kind of a word, as records have it; none where this version does not know the word.
    pub fn parse(word: &str) -> Option<Self> {
        let kind: Self = serde_json::from_value(word.into()).ok()?;
        (kind != Self::Other || word == "other").then_some(kind)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_read_as_they_are_written() {
        assert_eq!(ProblemKind::parse("hold_limit"), Some(ProblemKind::HoldLimit));
        assert_eq!(serde_json::to_value(ProblemKind::HoldLimit).unwrap(), "hold_limit");
        assert_eq!(ProblemKind::parse("of_tomorrow"), None);
        let later: ProblemKind = serde_json::from_str("\"of_tomorrow\"").unwrap();
        assert_eq!(later, ProblemKind::Other, "a record of a later version is read all the same");
    }
}
