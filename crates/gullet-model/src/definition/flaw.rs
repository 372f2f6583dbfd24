//! One thing that is wrong with a definition, and where.

use std::fmt;
use std::ops::Range;
use std::path::PathBuf;
use std::sync::Arc;

/// A definition file as it was read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Source {
    /// The path of the file.
    pub path: PathBuf,
    /// The whole text of the file.
    pub text: String,
}

/// One thing that is wrong.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Flaw {
    /// The file it is in.
    pub file: PathBuf,
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
    /// Length in characters of what is wrong, on that line.
    pub length: usize,
    /// The line's text.
    pub text: String,
    /// What is wrong.
    pub message: String,
    /// What to write instead, or where it belongs.
    pub hint: Option<String>,
    /// The application that it is in; none where it is of no one application.
    pub app: Option<String>,
}

/// The application that a key path is in: `app/quaybook/part/2/name` is in `quaybook`.
pub(super) fn app_of(path: &str) -> Option<String> {
    let name = path.strip_prefix("app/")?.split('/').next()?;
    Some(name.trim_end_matches('#').to_owned())
}

impl Flaw {
    /// A flaw of the bytes `range` of a source.
    pub(crate) fn at(source: &Source, range: Range<usize>, message: String, hint: Option<String>) -> Self {
        let start = floor(&source.text, range.start);
        let before = &source.text[..start];
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        let text = source.text[line_start..].lines().next().unwrap_or("");
        let end = floor(&source.text, range.end.max(start)).min(line_start + text.len()).max(start);
        let text = without_secrets(text);
        Self {
            file: source.path.clone(),
            line: before.matches('\n').count() + 1,
            column: source.text[line_start..start].chars().count() + 1,
            length: source.text[start..end].chars().count().max(1),
            text,
            message,
            hint,
            app: None,
        }
    }

    /// The same, of an application.
    #[must_use]
    pub(crate) fn of_app(self, app: Option<String>) -> Self {
        Self { app, ..self }
    }
}

/// A line with the secret keys in it, which do not belong into a definition, made unreadable; of the same length.
fn without_secrets(line: &str) -> String {
    const SECRET: &str = "AGE-SECRET-KEY-";
    let mut shown = String::with_capacity(line.len());
    let mut rest = line;
    while let Some(at) = rest.to_ascii_uppercase().find(SECRET) {
        let (before, secret) = rest.split_at(at + SECRET.len());
        let length = secret.find(|c: char| !c.is_ascii_alphanumeric()).unwrap_or(secret.len());
        shown.push_str(before);
        shown.push_str(&"*".repeat(length));
        rest = &secret[length..];
    }
    shown + rest
}

/// The nearest character boundary at or below `at`.
fn floor(text: &str, at: usize) -> usize {
    let mut at = at.min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}

impl fmt::Display for Flaw {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}:{}: {}", self.file.display(), self.line, self.column, self.message)
    }
}

/// Everything that is wrong with a definition, in the order of the text.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub struct Flaws(pub Vec<Flaw>);

impl fmt::Display for Flaws {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0.as_slice() {
            [one] => write!(f, "the definition has an error: {one}"),
            many => write!(f, "the definition has {} errors", many.len()),
        }
    }
}

/// Where every value and key of the definition stands.
#[derive(Clone, Debug, Default)]
pub(crate) struct Places {
    sources: Vec<Arc<Source>>,
    values: std::collections::HashMap<String, (usize, Range<usize>)>,
}

/// The name of a key path: `app/quaybook/part/2/name`.
pub(crate) fn key_path(segments: &[&dyn fmt::Display]) -> String {
    segments.iter().map(ToString::to_string).collect::<Vec<_>>().join("/")
}

impl Places {
    pub(crate) fn add_source(&mut self, source: Arc<Source>) -> usize {
        self.sources.push(source);
        self.sources.len() - 1
    }

    /// Notes where a value stands. The first place of a table that several files add to is kept.
    pub(crate) fn note(&mut self, path: String, source: usize, range: Range<usize>) {
        self.values.entry(path).or_insert((source, range));
    }

    /// Adds the places in files that were read later.
    pub(crate) fn join(&mut self, later: Self) {
        let before = self.sources.len();
        self.sources.extend(later.sources);
        for (path, (source, range)) in later.values {
            self.note(path, before + source, range);
        }
    }

    /// A flaw at a key path, or at the nearest table above it.
    pub(crate) fn flaw(&self, path: &str, message: impl Into<String>, hint: Option<String>) -> Flaw {
        let mut at = path;
        loop {
            if let Some((source, range)) = self.values.get(at) {
                return Flaw::at(&self.sources[*source], range.clone(), message.into(), hint).of_app(app_of(path));
            }
            match at.rsplit_once('/') {
                Some((above, _)) => at = above,
                None => return Flaw::at(&self.sources[0], 0..0, message.into(), hint).of_app(app_of(path)),
            }
        }
    }
}
