//! What differs in a text, line by line.

use std::io::{self, BufRead};
use std::ops::Range;
use std::time::{Duration, Instant};

use gullet_store::listing::{Entry, PathName};
use gullet_store::{ChunkReader, StoreError};
use serde::Serialize;
use similar::DiffOp;
use similar::algorithms::{Capture, Compact, IdentifyDistinct, Replace, myers};

/// Lines kept of one text, at most.
pub(super) const LINES_MAX: usize = 200;
/// How long a text may be compared for; then the rest is told as it comes.
const TEXT_WITHIN: Duration = Duration::from_secs(5);

/// What differs in a text.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct TextChange {
    /// The path of the file in the listing.
    pub path: PathName,
    /// Lines: `-` and `+` before what only the one or the other has, a blank before what both have.
    pub lines: Vec<String>,
    /// How many further lines differ and are not shown.
    pub more: usize,
}

/// The whole contents of a small file, where they are text.
pub(super) fn text_of(entry: &Entry, chunks: &mut ChunkReader) -> Option<String> {
    let mut bytes = Vec::new();
    let read = entry.each_chunk(chunks, |id, chunks| {
        bytes.extend_from_slice(&chunks.get(id)?);
        Ok::<_, StoreError>(())
    });
    read.ok().filter(|()| !bytes.contains(&0))?;
    String::from_utf8(bytes).ok()
}

/// Lines with a key that `pg_dump` draws anew for each export, so that a server cannot end them (PostgreSQL's documentation of
/// `psql`, `\\restrict`).
const KEY_LINES: [&[u8]; 2] = [b"\\restrict ", b"\\unrestrict "];

/// A text without the keys that are drawn anew for each export.
pub(super) fn without_keys(text: &str) -> String {
    let plain = |line: &str| {
        let key = KEY_LINES.iter().find(|word| line.as_bytes().starts_with(word));
        key.map_or_else(|| line.to_owned(), |word| format!("{}KEY\n", String::from_utf8_lossy(word)))
    };
    text.split_inclusive('\n').map(plain).collect()
}

/// Whether two texts of one length are the same but for the keys that are drawn anew for each export, which have one length too.
///
/// # Errors
/// When one of them cannot be read.
pub(super) fn same_but_for_keys(mut one: impl BufRead, mut other: impl BufRead) -> io::Result<bool> {
    let mut head: Vec<u8> = Vec::new();
    loop {
        let (a, b) = (one.fill_buf()?, other.fill_buf()?);
        let length = a.len().min(b.len());
        if length == 0 {
            return Ok(a.is_empty() && b.is_empty());
        }
        for (one, other) in a[..length].iter().zip(&b[..length]) {
            if one != other && !KEY_LINES.contains(&head.as_slice()) {
                return Ok(false);
            }
            match one {
                b'\n' => head.clear(),
                // Nothing but the beginning of a line is needed, up to its first blank.
                byte if !head.ends_with(b" ") && head.len() < 16 => head.push(*byte),
                _ => {}
            }
        }
        one.consume(length);
        other.consume(length);
    }
}

/// Compares two texts line by line.
pub(super) fn lines(path: &PathName, one: &str, other: &str) -> TextChange {
    let mut lines = changed_lines(one, other, 1);
    let more = lines.len().saturating_sub(LINES_MAX);
    lines.truncate(LINES_MAX);
    TextChange { path: path.clone(), lines, more }
}

/// The lines that differ between two texts, with `-` and `+` before what only the one or the other has, and so many lines `around`
/// them that are the same, with a blank before them.
#[expect(clippy::disallowed_methods, reason = "the algorithm measures its own time, by this clock")]
pub fn changed_lines(one: &str, other: &str, around: usize) -> Vec<String> {
    let (old, new): (Vec<&str>, Vec<&str>) = (one.lines().collect(), other.lines().collect());
    // Lines are compared by numbers, and by one algorithm: the crate's own entry for texts brings all that it knows into the program.
    let lines = IdentifyDistinct::<u32>::new(&old, 0..old.len(), &new, 0..new.len());
    let (old_ids, new_ids) = (lines.old_lookup(), lines.new_lookup());
    let mut found = Compact::new(Replace::new(Capture::new()), old_ids, new_ids);
    let until = Instant::now().checked_add(TEXT_WITHIN);
    let compared = myers::diff_deadline(&mut found, old_ids, lines.old_range(), new_ids, lines.new_range(), until);
    // What takes the differences down cannot fail.
    let Ok(()) = compared;
    let removed = |range: Range<usize>| old[range].iter().map(|line| format!("-{line}"));
    let added = |range: Range<usize>| new[range].iter().map(|line| format!("+{line}"));
    let groups = found.into_inner().into_inner().into_grouped_ops(around);
    let changed = groups.into_iter().flatten().flat_map(|op| -> Vec<String> {
        match op {
            DiffOp::Equal { .. } => old[op.old_range()].iter().map(|line| format!(" {line}")).collect(),
            DiffOp::Delete { .. } | DiffOp::Insert { .. } | DiffOp::Replace { .. } => {
                removed(op.old_range()).chain(added(op.new_range())).collect()
            }
        }
    });
    changed.collect()
}
