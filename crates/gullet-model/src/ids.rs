//! Ids that are given once: runs, writers, stores.

use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A source of randomness for ids.
pub trait Random: Send + Sync {
    /// Fills `bytes` with what nobody can foresee.
    fn fill(&self, bytes: &mut [u8]);
}

/// 32 letters and digits without those that are taken for one another.
const ALPHABET: &[u8; 32] = b"0123456789abcdefghjkmnpqrstvwxyz";

/// `length` random characters; five bits each.
pub fn random_id(random: &dyn Random, length: usize) -> String {
    let mut bytes = vec![0; length];
    random.fill(&mut bytes);
    bytes.iter().map(|byte| char::from(ALPHABET[usize::from(byte & 31)])).collect()
}

/// The id of a run: ten characters, so that two of a million runs share one with a chance of one in two thousand.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
pub struct RunId(String);

impl RunId {
    /// A new id.
    pub fn new(random: &dyn Random) -> Self {
        Self(random_id(random, 10))
    }

    /// The id as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for RunId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl From<&str> for RunId {
    fn from(text: &str) -> Self {
        Self(text.to_owned())
    }
}
