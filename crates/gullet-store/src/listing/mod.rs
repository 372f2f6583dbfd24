//! Listings: what a capture consists of, path by path.
//!
//! A listing is JSON Lines, one [`Entry`] a line, sorted by path. It is cut into blocks of whole lines which are stored
//! as chunks; nodes above them name the first path and the id of each block, so that one path or a comparison reads
//! only what it needs. Blocks are cut where an entry's own path says so: a changed entry changes one block, and an
//! unchanged listing stores nothing.
//!
//! The order of paths is by components: bytes are compared with `/` below every other byte, so that a folder is
//! followed by all that is in it.
//!
//! - `path`: paths and their order. `entry`: one thing, and its chunks. `writer`, `reader`: a listing made and read. `compare`:
//!   what differs between two.

mod compare;
mod entry;
mod path;
mod reader;
mod writer;

use serde::{Deserialize, Serialize};

use crate::error::StoreError;
use crate::hash::Hash;

pub use compare::{Difference, compare};
pub use entry::{Entry, Kind};
pub use path::PathName;
pub use reader::ListingReader;
pub use writer::{ClosedBlock, ListingWriter};

/// Nodes above one another at most; enough for 2000^4 blocks.
const LEVELS_MAX: u32 = 4;
/// Version of the listing's nodes.
const LISTING_VERSION: u32 = 1;

/// Where a listing begins, as a record names it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct ListingRef {
    /// The id of the topmost node.
    pub root: Hash,
    /// Entries in the listing.
    pub entries: u64,
    /// Length of the listing in bytes.
    pub bytes: u64,
}

#[derive(Clone, Serialize, Deserialize)]
struct Child {
    first: PathName,
    chunk: Hash,
    entries: u64,
}

#[derive(Serialize, Deserialize)]
struct Node {
    listing: u32,
    level: u32,
    children: Vec<Child>,
}

fn unsound(what: String) -> StoreError {
    StoreError::Damaged { name: "a listing".to_owned(), what }
}

#[cfg(test)]
mod tests;
