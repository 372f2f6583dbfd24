//! A run as a stream: a tar with everything that the listing knows, or one file.
//!
//! The tar is in the pax format (POSIX.1-2017, pax): names and links of any bytes and length, times to the nanosecond, large
//! files, owners. Extended attributes are `SCHILY.xattr.*`, sparse files GNU's format 1.0 within pax, as general tars write
//! and read them.

use std::io::{self, Read, Write};

use data_encoding::BASE64;
use gullet_store::listing::{Entry, Kind, PathName};
use gullet_store::{ChunkReader, Store, StoreError};
use tar::{Builder, EntryType, Header};

use super::contents::{Contents, WholeFile};
use super::select::{Selection, each_selected};
use super::{RestoreError, RestorePlan};
use gullet_logbook::logbook::Logged;
use gullet_model::outcome::Outcome;
use gullet_model::words::chain;

/// Bytes of a block of a tar.
const BLOCK: usize = 512;
/// Problems named, at most.
const NAMED: usize = 20;

/// What came of a stream.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct StreamReport {
    /// Files in it.
    pub files: u64,
    /// Other things in it.
    pub others: u64,
    /// Paths that are not in it, with the reason.
    pub problems: Vec<String>,
    /// What a tar cannot carry.
    pub warnings: Vec<String>,
    missing: bool,
}

impl StreamReport {
    /// How it ended.
    pub fn outcome(&self) -> Outcome {
        match (self.problems.is_empty() && !self.missing, self.warnings.is_empty()) {
            (true, true) => Outcome::Complete,
            (true, false) => Outcome::Warnings,
            (false, _) => Outcome::Incomplete,
        }
    }

    fn problem(&mut self, text: String) {
        if self.problems.len() < NAMED {
            self.problems.push(text);
        }
    }
}

/// Why a stream ended.
enum StreamEnd {
    Store(StoreError),
    Out(io::Error),
}

impl From<StoreError> for StreamEnd {
    fn from(error: StoreError) -> Self {
        Self::Store(error)
    }
}

impl From<io::Error> for StreamEnd {
    fn from(error: io::Error) -> Self {
        Self::Out(error)
    }
}

impl StreamEnd {
    fn into_error(self) -> RestoreError {
        match self {
            Self::Store(error) => RestoreError::Stream(format!("the listing: {}", chain(&error))),
            Self::Out(error) => RestoreError::Stream(format!("what is written cannot be written: {error}")),
        }
    }
}

fn decimal(text: impl std::fmt::Display) -> Vec<u8> {
    text.to_string().into_bytes()
}

/// An access control list as text, owners by number: `user::rw-,user:1234:r--,…` (acl(5)); from the form of the extended attribute
/// (Linux, include/uapi/linux/posix_acl_xattr.h): version 2, then entries of tag, permissions and id.
fn acl_text(value: &[u8]) -> Option<String> {
    let (version, entries) = value.split_at_checked(4)?;
    if version != [2, 0, 0, 0] || entries.len() % 8 != 0 {
        return None;
    }
    let entry = |entry: &[u8]| {
        let (tag, permissions) = (u16::from_le_bytes([entry[0], entry[1]]), u16::from_le_bytes([entry[2], entry[3]]));
        let id = u32::from_le_bytes([entry[4], entry[5], entry[6], entry[7]]);
        let who = match tag {
            0x01 => "user:".to_owned(),
            0x02 => format!("user:{id}"),
            0x04 => "group:".to_owned(),
            0x08 => format!("group:{id}"),
            0x10 => "mask:".to_owned(),
            0x20 => "other:".to_owned(),
            _ => return None,
        };
        let may = [(4, 'r'), (2, 'w'), (1, 'x')].map(|(bit, letter)| if permissions & bit != 0 { letter } else { '-' });
        Some(format!("{who}:{}", may.iter().collect::<String>()))
    };
    let entries: Option<Vec<String>> = entries.chunks_exact(8).map(entry).collect();
    Some(entries?.join(","))
}

/// The header of an entry, and its pax records.
fn header(entry: &Entry, name: &PathName) -> (Header, Vec<(String, Vec<u8>)>) {
    let mut header = Header::new_ustar();
    let mut records: Vec<(String, Vec<u8>)> = Vec::new();
    let kind = match (&entry.same_as, entry.kind) {
        (Some(_), _) => EntryType::Link,
        (None, Kind::Folder) => EntryType::Directory,
        (None, Kind::Symlink) => EntryType::Symlink,
        (None, Kind::Fifo) => EntryType::Fifo,
        (None, Kind::CharDevice) => EntryType::Char,
        (None, Kind::BlockDevice) => EntryType::Block,
        (None, Kind::File | Kind::Socket) => EntryType::Regular,
    };
    header.set_entry_type(kind);
    header.set_mode(entry.mode);
    for (key, id, set) in [("uid", entry.uid, true), ("gid", entry.gid, false)] {
        // Seven octal digits are what fits.
        if id > 0o7_777_777 {
            records.push((key.to_owned(), decimal(id)));
        }
        let id = u64::from(id.min(0o7_777_777));
        if set { header.set_uid(id) } else { header.set_gid(id) }
    }
    header.set_mtime(u64::try_from(entry.mtime.0).unwrap_or(0));
    if entry.mtime.1 > 0 || entry.mtime.0 < 0 {
        // Before 1970 the seconds count down and the nanoseconds up.
        let (seconds, nanos) = entry.mtime;
        let text = if seconds < 0 && nanos > 0 {
            let (whole, part) = (-(seconds + 1), 1_000_000_000 - nanos);
            format!("-{whole}.{part:09}")
        } else {
            format!("{seconds}.{nanos:09}")
        };
        records.push(("mtime".to_owned(), text.into_bytes()));
    }
    records.push(("path".to_owned(), name.as_bytes().to_vec()));
    if let Some((major, minor)) = entry.device {
        let _ = header.set_device_major(major);
        let _ = header.set_device_minor(minor);
    }
    for (name, value) in &entry.xattrs {
        let value = BASE64.decode(value.as_bytes()).unwrap_or_default();
        let acl = name.strip_prefix("system.posix_acl_").and_then(|which| Some((which, acl_text(&value)?)));
        if let Some((which, text)) = acl {
            // General tars take access lists from their text only.
            records.push((format!("SCHILY.acl.{which}"), text.into_bytes()));
            continue;
        }
        // The key of such a record ends at the first `=`.
        if !name.contains('=') {
            records.push((format!("SCHILY.xattr.{name}"), value));
        }
    }
    (header, records)
}

/// Puts a name that only a pax record says in full into the header as well, as far as it is plain.
fn short_name(header: &mut Header, name: &PathName) {
    let text: String = name.to_string().chars().filter(char::is_ascii).take(90).collect();
    let _ = header.set_path(text.trim_matches('/'));
}

struct Tar<'w, W: Write> {
    builder: Builder<&'w mut W>,
    report: StreamReport,
    sockets: u64,
    /// Entries with an extended attribute that a tar cannot name.
    without_attribute: u64,
}

impl<W: Write> Tar<'_, W> {
    fn add(&mut self, entry: &Entry, below: &str, chunks: &mut ChunkReader) -> Result<(), StreamEnd> {
        if entry.kind == Kind::Socket {
            self.sockets += 1;
            return Ok(());
        }
        let joint = |path: &PathName| PathName::new([below.as_bytes(), b"/", path.as_bytes()].concat());
        let mut name = joint(&entry.path);
        if entry.kind == Kind::Folder {
            name = PathName::new([name.as_bytes(), b"/"].concat());
        }
        let (mut header, mut records) = header(entry, &name);
        self.without_attribute += u64::from(entry.xattrs.keys().any(|name| name.contains('=')));
        let link = entry.same_as.as_ref().map(joint).or_else(|| entry.target.clone());
        if let Some(link) = &link {
            records.push(("linkpath".to_owned(), link.as_bytes().to_vec()));
        }
        let is_data = entry.kind == Kind::File && entry.same_as.is_none();
        if !is_data {
            header.set_size(0);
            self.report.others += u64::from(entry.kind != Kind::File);
            self.report.files += u64::from(entry.kind == Kind::File);
            return Ok(self.write(header, &name, &records, io::empty())?);
        }
        let contents = match Contents::with_its_ends(entry, chunks) {
            Ok(contents) => contents,
            Err(error) => {
                self.report.problem(format!("{}: {}", entry.path, chain(&error)));
                return Ok(());
            }
        };
        self.report.files += 1;
        let Some(ranges) = &entry.data else {
            header.set_size(entry.size);
            if entry.size > 0o77_777_777_777 {
                records.push(("size".to_owned(), decimal(entry.size)));
            }
            return Ok(self.write(header, &name, &records, contents)?);
        };
        // GNU's sparse format 1.0: the map as decimal lines in blocks of their own, then the data.
        let mut ranges = ranges.clone();
        if ranges.last().is_none_or(|(offset, length)| offset + length < entry.size) {
            // What ends in a hole has an empty range at its end.
            ranges.push((entry.size, 0));
        }
        let mut map = format!("{}\n", ranges.len());
        for (offset, length) in &ranges {
            map.push_str(&format!("{offset}\n{length}\n"));
        }
        let mut map = map.into_bytes();
        map.resize(map.len().div_ceil(BLOCK) * BLOCK, 0);
        let stored = map.len() as u64 + ranges.iter().map(|(_, length)| length).sum::<u64>();
        records.retain(|(key, _)| key != "path");
        records.extend([
            ("GNU.sparse.major".to_owned(), b"1".to_vec()),
            ("GNU.sparse.minor".to_owned(), b"0".to_vec()),
            ("GNU.sparse.name".to_owned(), name.as_bytes().to_vec()),
            ("GNU.sparse.realsize".to_owned(), decimal(entry.size)),
        ]);
        header.set_size(stored);
        if stored > 0o77_777_777_777 {
            records.push(("size".to_owned(), decimal(stored)));
        }
        Ok(self.write(header, &name, &records, io::Cursor::new(map).chain(contents))?)
    }

    fn write(
        &mut self,
        mut header: Header,
        name: &PathName,
        records: &[(String, Vec<u8>)],
        data: impl Read,
    ) -> io::Result<()> {
        self.builder.append_pax_extensions(records.iter().map(|(key, value)| (key.as_str(), value.as_slice())))?;
        short_name(&mut header, name);
        header.set_cksum();
        self.builder.append(&header, data)
    }
}

/// Writes a run, or some of it, as a tar: `files/` and `exports/PART/`, as in a folder that it is restored into.
///
/// # Errors
/// When it cannot be written or the listing cannot be read. A file that is damaged is left out and named, unless that is found
/// in the middle of it.
pub fn tar(
    logged: &Logged,
    store: &Store,
    only: &[String],
    paths: &[Selection],
    out: &mut impl Write,
) -> Result<StreamReport, RestoreError> {
    let plan = RestorePlan::of_parts(logged, std::path::Path::new(""), only, paths)?;
    let (mut chunks, _) = store.chunks_that_can_be_read(&logged.holdings());
    let mut another = chunks.another();
    let mut tar = Tar { builder: Builder::new(out), report: StreamReport::default(), sockets: 0, without_attribute: 0 };
    for part in &plan.parts {
        let below = part.to.display().to_string();
        let written =
            each_selected(&mut chunks, &part.listing, &part.only, |entry, _| tar.add(&entry, &below, &mut another));
        written.map_err(StreamEnd::into_error)?;
    }
    tar.builder.finish().map_err(|error| StreamEnd::from(error).into_error())?;
    if tar.without_attribute > 0 {
        let paths = gullet_model::words::count(tar.without_attribute, "path");
        tar.report
            .warnings
            .push(format!("attributes with `=` in their names left out of {paths}: a tar cannot name them"));
    }
    if tar.sockets > 0 {
        tar.report
            .warnings
            .push(format!("{} left out: a tar has none", gullet_model::words::count(tar.sockets, "socket")));
    }
    tar.report.missing = !plan.missing.is_empty();
    for (part, why) in &plan.missing {
        tar.report.problem(format!("the part {part} is not in it: {why}"));
    }
    Ok(tar.report)
}

/// Writes the contents of the one file that is meant.
///
/// # Errors
/// When it is not one file, or its bytes cannot all be had: what was written then is not all of it.
pub fn one_file(
    logged: &Logged,
    store: &Store,
    only: &[String],
    paths: &[Selection],
    out: &mut impl Write,
) -> Result<StreamReport, RestoreError> {
    let plan = RestorePlan::of_parts(logged, std::path::Path::new(""), only, paths)?;
    let (mut chunks, _) = store.chunks_that_can_be_read(&logged.holdings());
    let mut files = Vec::new();
    for part in &plan.parts {
        let read = each_selected(&mut chunks, &part.listing, &part.only, |entry, _| {
            if entry.kind == Kind::File && files.len() < 2 {
                files.push(entry);
            }
            Ok::<_, StoreError>(())
        });
        read.map_err(|error| StreamEnd::from(error).into_error())?;
    }
    let entry = match files.as_slice() {
        [] => return Err(RestoreError::NotOne("there is no such file in the run".to_owned())),
        [entry] => entry,
        [one, other, ..] => {
            let text = format!(
                "this is more than one file: {} and {}; narrow it with `--part` and `--path`",
                one.path, other.path
            );
            return Err(RestoreError::NotOne(text));
        }
    };
    let wrap = |error: StoreError| RestoreError::Stream(format!("{}: {}", entry.path, chain(&error)));
    let contents = Contents::with_its_ends(entry, &mut chunks).map_err(wrap)?;
    let lost =
        |error: io::Error| RestoreError::Stream(format!("{}: {error}; what was written is not all of it", entry.path));
    io::copy(&mut WholeFile::of(entry, contents), out).map_err(lost)?;
    Ok(StreamReport { files: 1, ..StreamReport::default() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_access_control_list_is_told_as_text() {
        let value = BASE64.decode(b"AgAAAAEABgD/////AgAEANIEAAAEAAAA/////xAABAD/////IAAAAP////8=").unwrap();
        assert_eq!(acl_text(&value).as_deref(), Some("user::rw-,user:1234:r--,group::---,mask::r--,other::---"));
        assert_eq!((acl_text(b""), acl_text(b"\x02\0\0\0odd"), acl_text(&[3, 0, 0, 0])), (None, None, None));
    }

    #[test]
    fn times_before_1970_count_down() {
        let time = |mtime| {
            let entry = Entry { mtime, ..Entry::bare(PathName::new("a"), Kind::File) };
            let (_, records) = header(&entry, &entry.path);
            let record = records.into_iter().find(|(key, _)| key == "mtime").map(|(_, value)| value);
            record.map(|value| String::from_utf8(value).unwrap())
        };
        assert_eq!(time((5, 0)), None);
        assert_eq!(time((5, 250_000_000)).as_deref(), Some("5.250000000"));
        assert_eq!(time((-2, 250_000_000)).as_deref(), Some("-1.750000000"));
        assert_eq!(time((-2, 0)).as_deref(), Some("-2.000000000"));
    }
}
