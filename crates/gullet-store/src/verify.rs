//! Reading payload back and saying exactly what is damaged.

use std::collections::HashSet;
use std::io::Read;

use crate::error::{IoPath, StoreError};
use crate::hash::{Hash, Hasher};
use crate::location::Location;
use crate::payload::{OpenPayload, PayloadFile};
use crate::seal::Identities;

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
    /// Whether it is encrypted and no identity was at hand, so that only its stored bytes were proven.
    pub locked: bool,
}

impl PayloadReport {
    /// Whether nothing is wrong.
    pub fn is_sound(&self) -> bool {
        self.damage.is_empty() && self.lost.is_empty()
    }
}

/// Payload files up to this size, in bytes, are checked in memory, so that every byte is read once.
const IN_MEMORY: u64 = 160 << 20;

/// Reads a payload file: its stored bytes against the record's hash, and every chunk against its id where it is not encrypted
/// or `identities` open it. With `expected` nothing but the name is known the stored bytes cannot be compared.
///
/// # Errors
/// Only when `stop` asks for it, with [`StoreError::Stopped`]; all that is wrong with the file is in the report.
pub fn check_payload(
    location: &dyn Location,
    identities: &Identities,
    name: &str,
    expected: Option<&PayloadFile>,
    stop: &dyn Fn() -> bool,
) -> Result<PayloadReport, StoreError> {
    let mut report = PayloadReport::default();
    let length = match location.length(name) {
        Ok(None) => {
            report.damage.push(Damage::Missing);
            return Ok(report);
        }
        Ok(Some(found)) => found,
        Err(error) => {
            report.damage.push(Damage::Unreadable(error.to_string()));
            return Ok(report);
        }
    };
    if let Some(file) = expected.filter(|file| file.length != length) {
        report.damage.push(Damage::Length { expected: file.length, found: length });
    }
    let mut whole = (length <= IN_MEMORY).then(|| Vec::with_capacity(length as usize));
    match stored_hash(location, name, &mut report.bytes, whole.as_mut(), stop) {
        Ok(hash) if expected.is_none_or(|file| file.blake3 == hash) => {}
        Ok(_) => report.damage.push(Damage::Bytes),
        Err(StoreError::Stopped) => return Err(StoreError::Stopped),
        Err(error) => {
            report.damage.push(Damage::Unreadable(error.to_string()));
            whole = None;
        }
    }
    let opened = match whole {
        Some(bytes) => OpenPayload::of_bytes(identities, name, bytes),
        None => OpenPayload::open(location, identities, name),
    };
    let opened = opened.and_then(|mut payload| Ok((payload.contents()?, payload)));
    let (toc, mut payload) = match opened {
        Ok(opened) => opened,
        // Encrypted for somebody else, whatever keys were given: the stored bytes are proven, and that is all that can be.
        Err(StoreError::Locked { .. }) if report.damage.is_empty() => {
            report.locked = true;
            return Ok(report);
        }
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
        let bytes = payload.frame(frame).ok();
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

/// The hash of the bytes of an object as they lie there.
///
/// # Errors
/// When it cannot be read whole, or `stop` asks for it ([`StoreError::Stopped`]).
pub fn hash_of(location: &dyn Location, name: &str, stop: &dyn Fn() -> bool) -> Result<Hash, StoreError> {
    stored_hash(location, name, &mut 0, None, stop)
}

fn stored_hash(
    location: &dyn Location,
    name: &str,
    bytes: &mut u64,
    mut keep: Option<&mut Vec<u8>>,
    stop: &dyn Fn() -> bool,
) -> Result<Hash, StoreError> {
    let mut source = location.open(name)?;
    let mut hasher = Hasher::default();
    let mut buffer = vec![0u8; 1 << 20];
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
        // A file that grows while it is read is not kept beyond what was promised.
        if let Some(keep) = keep.as_deref_mut().filter(|keep| keep.len() as u64 + length as u64 <= IN_MEMORY) {
            keep.extend_from_slice(&buffer[..length]);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cache::Cache;
    use crate::deposit::{Deposit, DepositOptions};
    use crate::location::Memory;
    use crate::seal::Recipients;
    use std::sync::Arc;

    #[test]
    fn every_flip_of_a_byte_is_found_and_so_are_cuts_and_loss() {
        flips(Recipients::default(), &Identities::default());
    }

    #[test]
    fn in_what_is_sealed_too() {
        let (file, public) = crate::seal::new_identity("today", None).unwrap();
        flips(Recipients::parse(&[public]).unwrap(), &Identities::read(&file, &|| None).unwrap());
    }

    #[test]
    fn what_is_sealed_for_others_is_proven_by_its_stored_bytes() {
        let folder = tempfile::tempdir().unwrap();
        let memory = Memory::default();
        let mut cache = Cache::open(&folder.path().join("cache.db")).unwrap();
        let seal = Recipients::parse(&[crate::seal::new_identity("today", None).unwrap().1]).unwrap();
        let options = DepositOptions { seal, ..DepositOptions::default() };
        let mut deposit = Deposit::new(Arc::new(memory.clone()), &mut cache, "w", "r", &options).unwrap();
        deposit.put(b"a boarding list").unwrap();
        let file = deposit.finish().unwrap().holdings.wrote.remove(0);
        let others = crate::seal::new_identity("today", None).unwrap().0;
        let all = [Identities::default(), Identities::read(&others, &|| None).unwrap()];
        let check = |keys| check_payload(&memory, keys, &file.name, Some(&file), &|| false).unwrap();
        for keys in &all {
            assert!(check(keys).is_sound() && check(keys).locked && check(keys).chunks == 0);
        }
        memory.tamper(&file.name, |bytes| bytes[30] ^= 1);
        for keys in &all {
            assert!(!check(keys).is_sound(), "damage is not taken for a missing key");
        }
    }

    fn flips(seal: Recipients, identities: &Identities) {
        let folder = tempfile::tempdir().unwrap();
        let memory = Memory::default();
        let mut cache = Cache::open(&folder.path().join("cache.db")).unwrap();
        let options = DepositOptions { seal, ..DepositOptions::default() };
        let mut deposit = Deposit::new(Arc::new(memory.clone()), &mut cache, "w", "r", &options).unwrap();
        for n in 0..20u8 {
            deposit.put(&[n; 300]).unwrap();
        }
        let holdings = deposit.finish().unwrap().holdings;
        let file = &holdings.wrote[0];
        let check = || check_payload(&memory, identities, &file.name, Some(file), &|| false).unwrap();
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
