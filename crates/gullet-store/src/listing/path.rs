//! Paths as the system gives them, and the order of a listing.

use std::cmp::Ordering;
use std::fmt;

use serde::{Deserialize, Serialize};

/// A path as the system gives it: bytes. In JSON a string where it is UTF-8, else `{"base64": "…"}`.
#[derive(Clone, PartialEq, Eq, Hash, Default)]
pub struct PathName(Vec<u8>);

impl PathName {
    /// A path of these bytes.
    pub fn new(bytes: impl Into<Vec<u8>>) -> Self {
        Self(bytes.into())
    }

    /// The bytes of the name, as the system has them.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// Whether it lies somewhere below `folder`.
    pub fn is_below(&self, folder: &Self) -> bool {
        self.0.strip_prefix(folder.as_bytes()).is_some_and(|rest| rest.first() == Some(&b'/'))
    }

    /// The folders above it, the topmost first.
    pub fn above(&self) -> impl Iterator<Item = Self> + '_ {
        let ends = self.0.iter().enumerate().filter(|(_, byte)| **byte == b'/').map(|(at, _)| at);
        ends.map(|end| Self(self.0[..end].to_vec()))
    }

    /// Whether it is relative, not empty, and every component is a plain name: then it cannot lead out of the folder it
    /// is joined to (links in that folder apart).
    pub fn is_plain(&self) -> bool {
        self.0.split(|b| *b == b'/').all(|part| !part.is_empty() && part != b"." && part != b".." && !part.contains(&0))
    }
}

impl Ord for PathName {
    fn cmp(&self, other: &Self) -> Ordering {
        let key = |b: &u8| if *b == b'/' { 0 } else { *b };
        self.0.iter().map(key).cmp(other.0.iter().map(key))
    }
}

impl PartialOrd for PathName {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl fmt::Display for PathName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&String::from_utf8_lossy(&self.0))
    }
}

impl fmt::Debug for PathName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", String::from_utf8_lossy(&self.0))
    }
}

#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum PathForm {
    Text(String),
    Bytes { base64: String },
}

impl Serialize for PathName {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match std::str::from_utf8(&self.0) {
            Ok(text) => serializer.serialize_str(text),
            Err(_) => PathForm::Bytes { base64: data_encoding::BASE64.encode(&self.0) }.serialize(serializer),
        }
    }
}

impl<'de> Deserialize<'de> for PathName {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        match PathForm::deserialize(deserializer)? {
            PathForm::Text(text) => Ok(Self(text.into_bytes())),
            PathForm::Bytes { base64 } => {
                data_encoding::BASE64.decode(base64.as_bytes()).map(Self).map_err(serde::de::Error::custom)
            }
        }
    }
}
