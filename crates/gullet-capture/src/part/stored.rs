//! Storing what was secured in the run's private folder: a file, a folder, or a tar read file by file.

use std::cell::Cell;
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::Read;
use std::path::Path;

use data_encoding::BASE64;
use gullet_store::listing::{Entry, Kind, PathName};
use gullet_store::{Cut, Deposit, IoPath, PathError, cut_ahead, cut_all};

use super::contents::LARGE;
use super::context::PartError;
use super::entry;
use super::lister::Lister;
use super::marks::{Marked, News};
use super::pending::Extra;
use super::walk::{FoundEntry, LeftOuts, Walk};

/// Cuts all of a file into `deposit`, as the contents of an entry.
fn store_file(entry: &mut Entry, path: &Path, cut: Cut, deposit: &mut Deposit<'_>) -> Result<(), PartError> {
    let file = super::contents::open(path)?;
    let is_large = file.metadata().at(path)?.len() >= LARGE;
    let mut chunks = Vec::new();
    let wrap = |error| PartError::Path(PathError::new(path, error));
    let each = |piece: &[u8]| {
        chunks.push(deposit.put(piece)?);
        Ok(())
    };
    entry.size = if is_large { cut_ahead(file, cut, wrap, each)? } else { cut_all(file, cut, wrap, each)? };
    Ok(entry.set_chunks(chunks, &mut |list: &[u8]| deposit.put(list))?)
}

/// A mark that is never believed: what it is of was made for this run.
fn fresh(entry: Entry) -> Marked {
    Marked { entry, ctime: (0, 0), inode: 0, settled: false, news: News::New, staged: None }
}

fn push(entry: Entry, lister: &mut Lister, deposit: &mut Deposit<'_>) -> Result<(), PartError> {
    let last = lister.last_of(&entry.path);
    lister.push(fresh(entry), last.as_ref(), deposit)
}

/// Stores one file of the private folder under `name`, with the attributes of `like` or its own.
pub(crate) fn file(
    path: &Path,
    name: PathName,
    like: Option<&Path>,
    cut: Cut,
    lister: &mut Lister,
    deposit: &mut Deposit<'_>,
) -> Result<(), PartError> {
    let like = like.unwrap_or(path);
    let mut entry = entry::bare(name, &fs::metadata(like).at(like)?);
    entry.xattrs = entry::xattrs(like).unwrap_or_default().known;
    store_file(&mut entry, path, cut, deposit)?;
    lister.counts.bytes_read += entry.size;
    push(entry, lister, deposit)
}

/// Stores what a walk did not find.
pub(crate) fn extra(extra: &Extra, lister: &mut Lister, deposit: &mut Deposit<'_>) -> Result<(), PartError> {
    match &extra.file {
        Some(path) => file(path, extra.name.clone(), Some(&extra.like), Cut::Contents, lister, deposit),
        None => push(entry::bare(extra.name.clone(), &fs::metadata(&extra.like).at(&extra.like)?), lister, deposit),
    }
}

/// Stores everything in a folder, under names relative to it.
pub(crate) fn folder(path: &Path, lister: &mut Lister, deposit: &mut Deposit<'_>) -> Result<(), PartError> {
    let skip = super::walk::name_of(path).as_bytes().len() + 1;
    Walk::of_folder(path).run(&mut LeftOuts::default(), &mut |found: FoundEntry| {
        let Some(relative) = found.name.as_bytes().get(skip..) else { return Ok(()) };
        let mut entry = entry::bare(PathName::new(relative), &found.meta);
        entry.xattrs = entry::xattrs(&found.path).unwrap_or_default().known;
        match entry.kind {
            Kind::File => {
                store_file(&mut entry, &found.path, Cut::Contents, deposit)?;
                lister.counts.bytes_read += entry.size;
            }
            Kind::Symlink => {
                use std::os::unix::ffi::OsStrExt;
                let target = fs::read_link(&found.path).at(&found.path)?;
                entry.target = Some(PathName::new(target.as_os_str().as_bytes()));
            }
            _ => {}
        }
        push(entry, lister, deposit)
    })
}

/// Stores the contents of a tar file by file (POSIX pax and ustar, GNU long names).
pub(crate) fn tar(path: &Path, lister: &mut Lister, deposit: &mut Deposit<'_>) -> Result<(), PartError> {
    let wrong = |error: std::io::Error| PartError::failed(format!("what it printed is not a valid tar: {error}"));
    let is_over = Cell::new(false);
    let mut archive = tar::Archive::new(WatchedEnd { file: File::open(path).at(path)?, is_over: &is_over });
    // A tar may come in any order, a listing does not: the entries, not their contents, are kept until all are known.
    let mut entries: BTreeMap<PathName, Entry> = BTreeMap::new();
    for member in archive.entries().map_err(wrong)? {
        let mut member = member.map_err(wrong)?;
        let name = tar_name(&member.path_bytes());
        if name.as_bytes().is_empty() {
            continue;
        }
        if !name.is_plain() {
            return Err(PartError::failed(format!("the tar has a path that leads elsewhere: {name:?}")));
        }
        let mut entry = tar_entry(name, &mut member).map_err(wrong)?;
        if entry.kind == Kind::File && entry.same_as.is_none() {
            let mut chunks = Vec::new();
            let wrap = |error| PartError::Path(PathError::new(path, error));
            entry.size = cut_all(&mut member, Cut::Contents, wrap, |piece| {
                chunks.push(deposit.put(piece)?);
                Ok(())
            })?;
            entry.set_chunks(chunks, &mut |list: &[u8]| deposit.put(list))?;
        }
        entries.insert(entry.path.clone(), entry);
    }
    if entries.is_empty() {
        return Err(PartError::failed("the tar it printed has nothing in it"));
    }
    if is_over.get() {
        let why = "the tar has no end (a block of zeros, POSIX): it was cut off, or who wrote it did not finish";
        return Err(PartError::failed(why.to_owned()));
    }
    follow_links(&mut entries);
    if let Some(why) = cannot_come_back(&entries) {
        return Err(PartError::failed(format!("the tar could not be restored: {why}")));
    }
    lister.counts.bytes_read += fs::metadata(path).at(path)?.len();
    for entry in entries.into_values() {
        push(entry, lister, deposit)?;
    }
    Ok(())
}

/// A tar that is read, and whether it was over before it said so itself.
struct WatchedEnd<'a> {
    file: File,
    is_over: &'a Cell<bool>,
}

impl Read for WatchedEnd<'_> {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        let read = self.file.read(into)?;
        self.is_over.set(self.is_over.get() || (read == 0 && !into.is_empty()));
        Ok(read)
    }
}

/// So many links that lead to links are followed.
const LINKS_FOLLOWED: usize = 40;

/// A further name of a further name is one of the file itself.
fn follow_links(entries: &mut BTreeMap<PathName, Entry>) {
    let links: BTreeMap<PathName, PathName> =
        entries.values().filter_map(|entry| Some((entry.path.clone(), entry.same_as.clone()?))).collect();
    for entry in entries.values_mut() {
        let Some(target) = &mut entry.same_as else { continue };
        // What leads round and round, or further than any writer of tars does, is left as it is, and is no file then.
        for _ in 0..LINKS_FOLLOWED {
            let Some(next) = links.get(target) else { break };
            *target = next.clone();
        }
    }
}

/// What of a tar no restore could make, where there is such a thing.
fn cannot_come_back(entries: &BTreeMap<PathName, Entry>) -> Option<String> {
    entries.values().find_map(|entry| {
        let is_no_folder = |above: &PathName| entries.get(above).is_some_and(|found| found.kind != Kind::Folder);
        if let Some(above) = entry.path.above().find(is_no_folder) {
            return Some(format!("it has `{}` below `{above}`, which is no folder", entry.path));
        }
        let target = entry.same_as.as_ref()?;
        let is_file = entries.get(target).is_some_and(|first| first.kind == Kind::File && first.same_as.is_none());
        (!is_file).then(|| format!("it has `{}` as a further name of `{target}`, which is no file in it", entry.path))
    })
}

fn tar_name(bytes: &[u8]) -> PathName {
    let pieces: Vec<&[u8]> = bytes.split(|byte| *byte == b'/').filter(|piece| !matches!(*piece, b"" | b".")).collect();
    PathName::new(pieces.join(&b'/'))
}

fn tar_entry<R: Read>(name: PathName, member: &mut tar::Entry<'_, R>) -> std::io::Result<Entry> {
    use tar::EntryType;
    let header = member.header();
    let kind = match header.entry_type() {
        EntryType::Directory => Kind::Folder,
        EntryType::Symlink => Kind::Symlink,
        EntryType::Fifo => Kind::Fifo,
        EntryType::Char => Kind::CharDevice,
        EntryType::Block => Kind::BlockDevice,
        _ => Kind::File,
    };
    let device = match kind {
        Kind::CharDevice | Kind::BlockDevice => header.device_major()?.zip(header.device_minor()?),
        _ => None,
    };
    let link = member.link_name_bytes().map(|bytes| bytes.into_owned());
    let is_link = header.entry_type() == EntryType::Link;
    let mut entry = Entry {
        mode: header.mode()? & 0o7777,
        uid: u32::try_from(header.uid()?).unwrap_or(0),
        gid: u32::try_from(header.gid()?).unwrap_or(0),
        mtime: (i64::try_from(header.mtime()?).unwrap_or(0), 0),
        target: link.clone().filter(|_| kind == Kind::Symlink).map(PathName::new),
        same_as: link.filter(|_| is_link).map(|bytes| tar_name(&bytes)),
        device,
        ..Entry::bare(name, kind)
    };
    for extension in member.pax_extensions()?.into_iter().flatten() {
        let extension = extension?;
        if let Ok(key) = extension.key()
            && let Some(name) = key.strip_prefix("SCHILY.xattr.")
        {
            entry.xattrs.insert(name.to_owned(), BASE64.encode(extension.value_bytes()));
        }
    }
    Ok(entry)
}
