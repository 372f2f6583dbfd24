//! `must_contain`: paths that must be in a capture.

use std::path::Path;

use globset::{GlobBuilder, GlobMatcher};
use gullet_store::listing::PathName;

use super::walk::name_of;

/// The patterns that nothing has matched yet.
pub(crate) struct MustContain {
    patterns: Vec<(String, GlobMatcher)>,
    roots: Vec<PathName>,
}

impl MustContain {
    /// Wants `patterns`, relative to any of `roots`.
    pub(crate) fn new<'a>(patterns: &[String], roots: impl Iterator<Item = &'a Path>) -> Self {
        // The definition's rules have refused patterns that do not parse.
        let compiled = patterns.iter().filter_map(|text| {
            let glob = GlobBuilder::new(text.trim_start_matches('/')).literal_separator(true).build().ok()?;
            Some((text.clone(), glob.compile_matcher()))
        });
        Self { patterns: compiled.collect(), roots: roots.map(name_of).collect() }
    }

    /// Whether nothing is wanted any more.
    pub(crate) fn is_content(&self) -> bool {
        self.patterns.is_empty()
    }

    /// A path is in the capture.
    pub(crate) fn see(&mut self, path: &PathName) {
        if self.patterns.is_empty() {
            return;
        }
        let bytes = path.as_bytes();
        let below = self.roots.iter().find_map(|root| bytes.strip_prefix(root.as_bytes())?.strip_prefix(b"/"));
        let below = String::from_utf8_lossy(below.unwrap_or(bytes)).into_owned();
        let whole = String::from_utf8_lossy(bytes);
        // A pattern may say a whole path.
        let matches = |text: &str, glob: &GlobMatcher| {
            glob.is_match(&below) || (text.starts_with('/') && glob.is_match(whole.as_ref()))
        };
        self.patterns.retain(|(text, glob)| !matches(text, glob));
    }

    /// The patterns of `must_contain` that no path has matched, as the part's problem; `None` when each has matched one.
    pub(crate) fn missing(&self) -> Option<String> {
        let texts: Vec<&str> = self.patterns.iter().map(|(text, _)| text.as_str()).collect();
        (!texts.is_empty()).then(|| format!("it does not hold {}", texts.join(", ")))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_wanted_is_looked_for_below_the_roots() {
        let wanted = ["/var/lib/desk/a".to_owned(), "/b".to_owned()];
        let mut whole = MustContain::new(&wanted, [Path::new("/var/lib/desk")].into_iter());
        whole.see(&PathName::new("var/lib/desk/a"));
        whole.see(&PathName::new("var/lib/desk/sub/b"));
        assert_eq!(whole.missing().as_deref(), Some("it does not hold /b"));
        let wanted = ["index.json".to_owned(), "lists/*.list".to_owned()];
        let mut wanted = MustContain::new(&wanted, [Path::new("/var/lib/desk")].into_iter());
        for path in ["var/lib/desk", "var/lib/desk/old/index.json", "index.json.tmp"] {
            wanted.see(&PathName::new(path));
        }
        assert!(wanted.missing().is_some_and(|text| text.contains("index.json") && text.contains("lists/")));
        wanted.see(&PathName::new("var/lib/desk/index.json"));
        wanted.see(&PathName::new("var/lib/desk/lists/a.list"));
        assert_eq!(wanted.missing(), None);
    }
}
