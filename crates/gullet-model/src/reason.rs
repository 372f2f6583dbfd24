//! Why something did not work, where only a person can act on it.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::words::chain;

/// Why something did not work, in words: what a command, a server or the system answered, or what is wrong with a value.
///
/// It can be shown, kept in a record, sent to the guard, and put behind other words. It has no comparison and no access to its
/// text, so that nothing is decided from a sentence: what the program decides from is an error type with variants.
#[derive(Clone, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Reason(String);

impl Reason {
    /// A reason in these words.
    pub fn new(words: impl Into<String>) -> Self {
        Self(words.into())
    }

    /// The same reason behind the name of what it is about: `name: reason`.
    #[must_use]
    pub fn at(self, what: impl fmt::Display) -> Self {
        Self(format!("{what}: {}", self.0))
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl fmt::Debug for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// An error with its causes.
impl<E: std::error::Error> From<E> for Reason {
    fn from(error: E) -> Self {
        Self(chain(&error))
    }
}

/// For what is recorded.
impl From<Reason> for String {
    fn from(reason: Reason) -> Self {
        reason.0
    }
}

/// For an argument of a command that is not what it should be.
impl From<Reason> for Box<dyn std::error::Error + Send + Sync> {
    fn from(reason: Reason) -> Self {
        reason.0.into()
    }
}

/// Says what a failure is about.
pub trait ReasonAbout<T> {
    /// The reason behind a name: `name: reason`.
    ///
    /// # Errors
    /// Those of the result.
    fn about(self, what: impl fmt::Display) -> Result<T, Reason>;
}

impl<T, E: Into<Reason>> ReasonAbout<T> for Result<T, E> {
    fn about(self, what: impl fmt::Display) -> Result<T, Reason> {
        self.map_err(|error| error.into().at(what))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug, thiserror::Error)]
    #[error("the ledger cannot be read")]
    struct Outer(#[source] std::io::Error);

    #[test]
    fn a_reason_names_what_it_is_about_and_every_cause() {
        let failed: Result<(), Outer> = Err(Outer(std::io::Error::other("the disk is gone")));
        let reason = failed.about("/srv/ledger").unwrap_err().at("part `books`");
        let whole = "part `books`: /srv/ledger: the ledger cannot be read: the disk is gone";
        assert_eq!(reason.to_string(), whole);
        assert_eq!(serde_json::to_value(&reason).unwrap(), serde_json::json!(whole));
        assert_eq!(String::from(reason), whole);
    }
}
