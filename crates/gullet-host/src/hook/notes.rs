//! What a hook says about itself: JSON Lines in the file that `GULLET_NOTES` names.

use serde::Deserialize;

use gullet_model::step::Facts;

/// Facts, warnings and omissions that a hook noted.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Notes {
    /// Facts by name.
    pub facts: Facts,
    /// What the command warned of, in words.
    pub warnings: Vec<String>,
    /// What an export is known not to carry.
    pub omits: Vec<String>,
}

/// A note that cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("line {line} of the hook's notes is not a note: {why}")]
pub struct NotesError {
    /// Line, from 1.
    pub line: usize,
    /// What is wrong.
    pub why: String,
}

#[derive(Deserialize)]
#[serde(untagged, deny_unknown_fields)]
enum Note {
    Fact { fact: String, value: serde_json::Value },
    Warning { warning: String },
    Omits { omits: String },
}

impl Notes {
    /// Reads notes; what can be read is kept even when a line is wrong.
    pub fn parse(text: &str) -> (Self, Vec<NotesError>) {
        let mut notes = Self::default();
        let mut errors = Vec::new();
        for (number, line) in text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
            match serde_json::from_str(line) {
                Ok(Note::Fact { fact, value }) => {
                    notes.facts.insert(fact, value);
                }
                Ok(Note::Warning { warning }) => notes.warnings.push(warning),
                Ok(Note::Omits { omits }) => notes.omits.push(omits),
                Err(_) => {
                    let why = "write {\"fact\":…,\"value\":…}, {\"warning\":…} or {\"omits\":…}".to_owned();
                    errors.push(NotesError { line: number + 1, why });
                }
            }
        }
        (notes, errors)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn good_notes_are_kept_beside_bad_ones() {
        let text = "{\"fact\":\"rows\",\"value\":4211}\n\n{\"warning\":\"slow\"}\nrows=3\n{\"omits\":\"roles\"}\n{\"fact\":1}\n";
        let (notes, errors) = Notes::parse(text);
        assert_eq!(notes.facts["rows"], 4211);
        assert_eq!((notes.warnings, notes.omits), (vec!["slow".to_owned()], vec!["roles".to_owned()]));
        assert_eq!(errors.iter().map(|error| error.line).collect::<Vec<_>>(), [4, 6]);
    }
}
