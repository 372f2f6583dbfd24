//! Reading payload back and saying exactly what is damaged.

use std::collections::HashSet;
use std::io::Read;

use crate::error::{IoPath, StoreError};
use crate::hash::{Hash, Hasher};
use crate::location::Location;
use crate::payload::{PayloadFile, Toc};
use crate::reader::read_frame;

/// One thing that is wrong with a payload file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Damage {
    /// The file is not there.
    Missing,
    /// The file has another length, in bytes.
    Length {
        /// What the record says.
        expected: u64,
        /// What is there.
        found: u64,
    },
    /// The stored bytes do not have the hash that the record names.
    Bytes,
    /// The closing frames do not add up.
    Contents(String),
    /// It cannot be read.
    Unreadable(String),
}

/// What a check of one payload file found.
#[derive(Clone, Debug, Default)]
pub struct PayloadReport {
    /// Stored bytes read.
    pub bytes: u64,
    /// Chunks proven by their ids.
    pub chunks: u64,
    /// What is wrong with the file.
    pub damage: Vec<Damage>,
    /// The chunks in it that cannot be got back.
    pub lost: HashSet<Hash>,
    /// Whether the table of contents could be read, so that `lost` is all.
    pub contents_known: bool,
}

impl PayloadReport {
    /// Whether nothing is wrong.
    pub fn is_sound(&self) -> bool {
        self.damage.is_empty() && self.lost.is_empty()
    }
}

/// Reads a payload file: its stored bytes against the record's hash, and every chunk against its id.
///
/// # Errors
/// Only when `stop` asks for it, with [`StoreError::Stopped`]; all that is wrong with the file is in the report.
pub fn check_payload(
    location: &dyn Location,
    file: &PayloadFile,
    stop: &dyn Fn() -> bool,
) -> Result<PayloadReport, StoreError> {
    let mut report = PayloadReport::default();
    match location.length(&file.name) {
        Ok(None) => {
            report.damage.push(Damage::Missing);
            return Ok(report);
        }
        Ok(Some(found)) if found != file.length => {
            report.damage.push(Damage::Length { expected: file.length, found });
        }
        Ok(Some(_)) => {}
        Err(error) => {
            report.damage.push(Damage::Unreadable(error.to_string()));
            return Ok(report);
        }
    }
    match stored_hash(location, &file.name, &mut report.bytes, stop) {
        Ok(hash) if hash == file.blake3 => {}
        Ok(_) => report.damage.push(Damage::Bytes),
        Err(StoreError::Stopped) => return Err(StoreError::Stopped),
        Err(error) => report.damage.push(Damage::Unreadable(error.to_string())),
    }
    let toc = match Toc::read(location, &file.name, file.length) {
        Ok(toc) => toc,
        Err(error) => {
            report.damage.push(Damage::Contents(error.to_string()));
            return Ok(report);
        }
    };
    report.contents_known = true;
    let mut chunks = toc.chunks.iter().peekable();
    for (number, frame) in toc.frames.iter().enumerate() {
        if stop() {
            return Err(StoreError::Stopped);
        }
        let bytes = read_frame(location, &file.name, frame).ok();
        while let Some(chunk) = chunks.next_if(|chunk| chunk.frame as usize == number) {
            let range = chunk.offset as usize..(chunk.offset + chunk.length) as usize;
            let proven = bytes.as_ref().and_then(|bytes| bytes.get(range)).is_some_and(|b| Hash::of(b) == chunk.id);
            report.chunks += u64::from(proven);
            if !proven {
                report.lost.insert(chunk.id);
            }
        }
    }
    // Chunks that are listed out of order were not reached; they count as lost rather than as proven.
    report.lost.extend(chunks.map(|chunk| chunk.id));
    Ok(report)
}

fn stored_hash(
    location: &dyn Location,
    name: &str,
    bytes: &mut u64,
    stop: &dyn Fn() -> bool,
) -> Result<Hash, StoreError> {
    let mut source = location.open(name)?;
    let mut hasher = Hasher::default();
    let mut buffer = vec![0; 1 << 20];
    loop {
        if stop() {
            return Err(StoreError::Stopped);
        }
        let length = source.read(&mut buffer).at(name)?;
        if length == 0 {
            return Ok(hasher.finish());
        }
        hasher.update(&buffer[..length]);
        *bytes += length as u64;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cache::Cache;
    use crate::deposit::{Deposit, DepositOptions};
    use crate::location::Memory;
    use std::sync::Arc;

    #[test]
    fn every_flip_of_a_byte_is_found_and_so_are_cuts_and_loss() {
        let folder = tempfile::tempdir().unwrap();
        let memory = Memory::default();
        let mut cache = Cache::open(&folder.path().join("cache.db")).unwrap();
        let mut deposit = Deposit::new(Arc::new(memory.clone()), &mut cache, "w", "r", DepositOptions::default());
        for n in 0..20u8 {
            deposit.put(&[n; 300]).unwrap();
        }
        let (holdings, _) = deposit.finish().unwrap();
        let file = &holdings.wrote[0];
        let check = || check_payload(&memory, file, &|| false).unwrap();
        let sound = check();
        assert!(sound.is_sound());
        assert_eq!((sound.chunks, sound.bytes), (20, file.length));

        for at in 0..file.length as usize {
            memory.tamper(&file.name, |bytes| bytes[at] ^= 1);
            assert!(!check().is_sound(), "flip at {at}");
            memory.tamper(&file.name, |bytes| bytes[at] ^= 1);
        }
        memory.tamper(&file.name, |bytes| bytes.truncate(100));
        assert!(check().damage.contains(&Damage::Length { expected: file.length, found: 100 }));
        memory.remove(&file.name).unwrap();
        assert_eq!(check().damage, [Damage::Missing]);
    }
}
