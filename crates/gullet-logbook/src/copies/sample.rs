//! A sample of what is sent to a far place, read back there afterwards.

use std::io::{self, Read, Seek, SeekFrom};

use gullet_model::definition::Share;
use gullet_store::{Hash, IoPath, Location, StoreError};

/// How much of a payload file is read back where the definition does not say it.
pub const USUAL_SAMPLE: Share = Share(10.0);

/// Pieces of an object that are drawn while it is sent. The first and the last are always among them: what was cut off or written over
/// from its beginning is found whatever is drawn.
pub(super) struct Sample {
    share: Share,
    length: u64,
    pieces: Vec<Piece>,
}

struct Piece {
    at: u64,
    length: usize,
    hash: Hash,
}

impl Sample {
    /// Of an object of so many bytes, about such a share.
    pub(super) fn new(length: u64, share: Share) -> Self {
        Self { share, length, pieces: Vec::new() }
    }

    /// Hears of a piece that is sent, and where it begins.
    pub(super) fn hear(&mut self, at: u64, bytes: &[u8]) {
        let is_edge = at == 0 || at + bytes.len() as u64 >= self.length;
        if is_edge || fastrand::f64() * 100.0 < self.share.0 {
            self.pieces.push(Piece { at, length: bytes.len(), hash: Hash::of(bytes) });
        }
    }

    /// Reads back what was drawn, and gives whether it is there as it was sent.
    ///
    /// # Errors
    /// When it cannot be read, or when `is_over`.
    pub(super) fn is_at(
        &self,
        place: &dyn Location,
        name: &str,
        is_over: &dyn Fn() -> bool,
    ) -> Result<bool, StoreError> {
        let mut there = place.open(name)?;
        let mut bytes = Vec::new();
        for piece in &self.pieces {
            if is_over() {
                return Err(StoreError::Stopped);
            }
            there.seek(SeekFrom::Start(piece.at)).at(name)?;
            bytes.resize(piece.length, 0);
            match there.read_exact(&mut bytes) {
                Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(false),
                read => read.at(name)?,
            }
            if Hash::of(&bytes) != piece.hash {
                return Ok(false);
            }
        }
        Ok(true)
    }
}
