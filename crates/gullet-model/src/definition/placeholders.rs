//! Placeholders in single arguments: `{run}`, `{scratch}`, `{each.NAME}`, `{fact.PART.NAME}`; `{{` is a brace.
//!
//! Only words of letters, digits, `-`, `_` joined by dots count as a placeholder, so that JSON in an argument stays as
//! it is. Nothing ever goes through a shell.

use std::collections::BTreeMap;

/// A placeholder has no value. It is never filled with nothing.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("there is no value for `{{{name}}}`")]
pub struct NoValue {
    /// The placeholder's name.
    pub name: String,
}

enum TextPiece<'a> {
    Text(&'a str),
    Name(&'a str),
    /// `{{`, which is a brace.
    Brace,
}

fn pieces(text: &str) -> Vec<TextPiece<'_>> {
    let mut found = Vec::new();
    let mut rest = text;
    while let Some(at) = rest.find('{') {
        let (before, from) = rest.split_at(at);
        if !before.is_empty() {
            found.push(TextPiece::Text(before));
        }
        if let Some(after) = from.strip_prefix("{{") {
            found.push(TextPiece::Brace);
            rest = after;
            continue;
        }
        let inner = &from[1..];
        let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
        let end = inner.find(|c| !plain(c)).unwrap_or(inner.len());
        let word = &inner[..end];
        let begins = word.starts_with(|c: char| c.is_ascii_alphabetic());
        if begins && inner[end..].starts_with('}') {
            found.push(TextPiece::Name(word));
            rest = &inner[end + 1..];
        } else {
            found.push(TextPiece::Text("{"));
            rest = inner;
        }
    }
    if !rest.is_empty() {
        found.push(TextPiece::Text(rest));
    }
    found
}

/// The variable in which a script finds the value of a placeholder: that of `each.name` is in `GULLET_EACH_NAME`.
pub fn variable(name: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_uppercase() } else { '_' };
    format!("GULLET_{}", name.chars().map(plain).collect::<String>())
}

/// The names of all placeholders in a text.
pub fn names(text: &str) -> Vec<&str> {
    let names = pieces(text).into_iter().filter_map(|piece| match piece {
        TextPiece::Name(name) => Some(name),
        TextPiece::Text(_) | TextPiece::Brace => None,
    });
    names.collect()
}

/// The text with a letter in the place of every placeholder, to check what is left.
pub fn without(text: &str) -> String {
    let plain = |piece| match piece {
        TextPiece::Text(text) => text,
        TextPiece::Name(_) => "x",
        TextPiece::Brace => "{",
    };
    pieces(text).into_iter().map(plain).collect()
}

/// Fills every placeholder.
///
/// # Errors
/// When one has no value.
pub fn fill(text: &str, values: &BTreeMap<String, String>) -> Result<String, NoValue> {
    let mut filled = String::with_capacity(text.len());
    for piece in pieces(text) {
        match piece {
            TextPiece::Text(text) => filled.push_str(text),
            TextPiece::Brace => filled.push('{'),
            TextPiece::Name(name) => {
                filled.push_str(values.get(name).ok_or_else(|| NoValue { name: name.to_owned() })?);
            }
        }
    }
    Ok(filled)
}

/// Fills the placeholders that have a value; all else stays as it is written, to be filled later.
pub(super) fn replace(text: &str, value_of: impl Fn(&str) -> Option<String>) -> String {
    let mut filled = String::with_capacity(text.len());
    for piece in pieces(text) {
        match piece {
            TextPiece::Text(text) => filled.push_str(text),
            TextPiece::Brace => filled.push_str("{{"),
            TextPiece::Name(name) => match value_of(name) {
                Some(value) => filled.push_str(&value),
                None => filled.push_str(&format!("{{{name}}}")),
            },
        }
    }
    filled
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn placeholders_are_filled_and_all_else_stays() {
        let values = BTreeMap::from([("run".to_owned(), "r1".to_owned()), ("each.name".to_owned(), "a b".to_owned())]);
        for (text, filled) in [
            ("{run}", "r1"),
            ("x-{each.name}-{run}", "x-a b-r1"),
            (r#"{"state": "held"}"#, r#"{"state": "held"}"#),
            ("{{run}", "{run}"),
            ("{}", "{}"),
            ("a{", "a{"),
            ("{ run }", "{ run }"),
        ] {
            assert_eq!(fill(text, &values).unwrap(), filled, "{text}");
        }
        assert_eq!(fill("{fact.a.b}", &values), Err(NoValue { name: "fact.a.b".to_owned() }));
        let host = |name: &str| (name == "host").then(|| "h".to_owned());
        assert_eq!(replace("{host}{run}{{host}{ host }", host), "h{run}{{host}{ host }");
        assert_eq!(names("{run} {{x} {each.name}"), ["run", "each.name"]);
    }

    proptest! {
        #[test]
        fn text_without_placeholders_is_never_changed(text in "[^{]{0,40}") {
            prop_assert_eq!(fill(&text, &BTreeMap::new()).unwrap(), text);
        }

        #[test]
        fn no_text_is_a_panic(text in ".{0,40}") {
            let _ = fill(&text, &BTreeMap::new());
            let _ = without(&text);
        }
    }
}
