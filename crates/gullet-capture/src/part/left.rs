//! Why something is left out of a capture.

use std::fmt;

/// Why a path is left out. Decisions are taken by it; its words are for people and records.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum LeftReason {
    /// A pattern of `exclude` matches it.
    Excluded(String),
    /// The part that it belongs to excludes it.
    ExcludedByPart(String),
    /// It is made anew by whoever it belongs to, as these words say.
    MadeAnew(&'static str),
    /// No pattern of `include` matches it.
    NotIncluded,
    /// It belongs to another part.
    OfPart(String),
    /// It is Gullet's own: a store, a copy of one, the state folder.
    Own(&'static str),
    /// A restore has set it aside.
    SetAside,
    /// It is on another filesystem.
    OtherFilesystem,
    /// It went while it was read.
    Vanished,
}

impl fmt::Display for LeftReason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Excluded(pattern) => write!(f, "excluded by `{pattern}`"),
            Self::ExcludedByPart(part) => write!(f, "excluded by the part `{part}`"),
            Self::MadeAnew(words) | Self::Own(words) => f.write_str(words),
            Self::NotIncluded => f.write_str("not in `include`"),
            Self::OfPart(part) => write!(f, "belongs to the part `{part}`"),
            Self::SetAside => f.write_str("set aside by a restore"),
            Self::OtherFilesystem => f.write_str("another filesystem (see `cross_mounts`)"),
            Self::Vanished => f.write_str("vanished while it was read"),
        }
    }
}
