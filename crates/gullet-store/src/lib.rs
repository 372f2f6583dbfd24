//! Gullet's store: bytes in, ids out.
//!
//! This crate knows no application. It cuts bytes into chunks, packs chunks into payload files, describes
//! file trees in listings, keeps named documents that cannot be changed without it showing, and reads all of it
//! back. The bytes on disk are specified in `FORMAT.md`.
//!
//! - [`Store`]: an opened store with its identity; made only by [`Store::create`].
//! - [`Location`]: where the objects lie; [`Folder`] on a local filesystem, [`Memory`] for tests.
//! - [`Deposit`]: puts chunks in, once each; [`Holdings`] says afterwards what a run wrote and what it needs.
//! - [`ChunkReader`]: gets chunks back and proves each one.
//! - [`listing`]: what a capture consists of.
//! - [`Recipients`], [`Identities`]: public keys that it is encrypted to, and what opens it.
//! - [`Cache`]: the local index of chunks that are known to be durable.
//! - [`check_payload`]: reads payload back and says exactly what is damaged.
//!
//! The crate never prints, prompts, exits, or reads the environment or the clock (see `clippy.toml`).

mod cache;
mod chunk;
mod copier;
mod deposit;
mod document;
mod error;
mod hash;
pub mod listing;
mod location;
mod packing;
mod payload;
mod probe;
mod reader;
mod seal;
mod store;
mod verify;

pub use cache::{Cache, CachedPayload};
pub use chunk::{Cut, cut_ahead, cut_all};
pub use copier::{CopiedFrames, FrameCopier};
pub use deposit::{Deposit, DepositOptions, DepositTally, Deposited, FrameSet, Frames, Holdings, Need};
pub use document::{Document, DocumentName};
pub use error::{IoPath, PathError, StoreError};
pub use hash::{Hash, Hasher};
pub use location::{
    BucketPlace, Folder, Lengths, Location, Memory, NewObject, ObjectInfo, ObjectVersion, PROBES, SeekRead, SinceThen,
    SshFolderPlace, Versioned, WebFolderPlace, bucket, free_space, ssh_folder, web_folder, with_margin,
};
pub use payload::{FRAME_LIMIT, OpenPayload, PayloadFile, Toc, TocChunk, TocFrame};
pub use probe::{Abilities, is_unused, probe};
pub use reader::{ChunkReader, Place};
pub use seal::{Identities, KeyError, PublicKey, Recipients, SEALED, new_identity};
pub use store::{FORMAT, MachineInfo, STORE_FILE, Store, StoreInfo};
pub use verify::{Damage, PayloadReport, check_payload, hash_of};
