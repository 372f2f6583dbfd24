//! BLAKE3 hashes as they are named in file names and documents: 64 lower-case hexadecimal digits.

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// A BLAKE3 hash of some bytes: the id of a chunk, or the proof of a stored object.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Hash([u8; 32]);

impl Hash {
    /// The hash of `bytes`.
    pub fn of(bytes: &[u8]) -> Self {
        Self(*blake3::hash(bytes).as_bytes())
    }

    /// The 32 raw bytes.
    pub fn as_bytes(&self) -> &[u8; 32] {
        &self.0
    }

    /// A hash from its raw bytes; `None` when there are not exactly 32.
    pub fn from_slice(bytes: &[u8]) -> Option<Self> {
        bytes.try_into().ok().map(Self)
    }

    /// The first eight bytes, as a number.
    pub(crate) fn prefix(&self) -> u64 {
        self.0.first_chunk().map_or(0, |first| u64::from_be_bytes(*first))
    }

    /// All 64 digits.
    pub fn hex(&self) -> String {
        data_encoding::HEXLOWER.encode(&self.0)
    }
}

impl fmt::Display for Hash {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.hex())
    }
}

impl fmt::Debug for Hash {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Hash({})", &self.hex()[..12])
    }
}

/// The text is not 64 lower-case hexadecimal digits.
#[derive(Debug, thiserror::Error)]
#[error("`{0}` is not a BLAKE3 hash of 64 lower-case hexadecimal digits")]
pub struct NotAHash(String);

impl FromStr for Hash {
    type Err = NotAHash;

    fn from_str(text: &str) -> Result<Self, NotAHash> {
        data_encoding::HEXLOWER
            .decode(text.as_bytes())
            .ok()
            .and_then(|bytes| Self::from_slice(&bytes))
            .ok_or_else(|| NotAHash(text.chars().take(80).collect()))
    }
}

impl Serialize for Hash {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.hex())
    }
}

impl<'de> Deserialize<'de> for Hash {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

impl JsonSchema for Hash {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Hash".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({
            "type": "string",
            "pattern": "^[0-9a-f]{64}$",
            "description": "A BLAKE3 hash in lower-case hexadecimal digits."
        })
    }
}

/// Hashes bytes that come in pieces.
#[derive(Default)]
pub struct Hasher(blake3::Hasher);

impl Hasher {
    /// Takes in more bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// The hash of all that was taken in.
    pub fn finish(&self) -> Hash {
        Hash(*self.0.finalize().as_bytes())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_hash_reads_back_from_its_text_and_refuses_others() {
        let hash = Hash::of(b"boarding list");
        assert_eq!(hash.hex().parse::<Hash>().unwrap(), hash);
        for wrong in ["", "00", &hash.hex().to_uppercase(), &hash.hex()[1..]] {
            assert!(wrong.parse::<Hash>().is_err(), "{wrong}");
        }
    }

    #[test]
    fn pieces_hash_like_the_whole() {
        let mut pieces = Hasher::default();
        pieces.update(b"board");
        pieces.update(b"ing");
        assert_eq!(pieces.finish(), Hash::of(b"boarding"));
    }
}
