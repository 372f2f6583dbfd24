//! Examples of keys, cut from definitions that load.

use serde_json::Value;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::super::check::{definition_schema, fits};
use super::{Examples, named_forms};

const DEFINITIONS: [&str; 2] = [include_str!("examples/desk.toml"), include_str!("examples/ledger.toml")];

/// The example of every key that stands in the definitions, by the name of its table's type and its own; the first one counts.
pub(super) fn all() -> Examples {
    let mut examples = Examples::new();
    for text in DEFINITIONS {
        let (table, _) = DeTable::parse_recoverable(text);
        collect(table.get_ref(), text, "", definition_schema(), &mut examples);
    }
    examples
}

fn collect(table: &DeTable<'_>, text: &str, name: &str, schema: &'static Value, examples: &mut Examples) {
    for (key, value) in table {
        let Some(property) = schema.get("properties").and_then(|known| known.get(key.get_ref().as_ref())) else {
            continue;
        };
        let at = (name.to_owned(), key.get_ref().to_string());
        examples.entry(at).or_insert_with(|| written(text, key.span(), value));
        below(value, text, property, examples);
    }
}

fn below(value: &Spanned<DeValue<'_>>, text: &str, schema: &'static Value, examples: &mut Examples) {
    let fitting = named_forms(schema).into_iter().filter(|(_, form)| fits(value.get_ref(), form));
    for (name, form) in fitting {
        match value.get_ref() {
            DeValue::Table(table) if form.get("properties").is_some() => collect(table, text, &name, form, examples),
            DeValue::Table(table) => {
                if let Some(values) = form.get("additionalProperties").filter(|values| values.is_object()) {
                    table.values().for_each(|value| below(value, text, values, examples));
                }
            }
            DeValue::Array(array) => {
                if let Some(items) = form.get("items") {
                    array.iter().for_each(|value| below(value, text, items, examples));
                }
            }
            _ => {}
        }
    }
}

/// The line of a key, or the header of the table that it is.
fn written(text: &str, key: std::ops::Range<usize>, value: &Spanned<DeValue<'_>>) -> String {
    let span = value.span();
    let is_inline = key.end <= span.start && text[key.end..span.start].trim() == "=";
    if is_inline {
        return text[key.start..span.end].to_owned();
    }
    // A table with a header of its own, or a list of such tables.
    let first = match value.get_ref() {
        DeValue::Array(items) => items.iter().next().map(Spanned::span),
        DeValue::Table(table) => {
            table.values().next().map(Spanned::span).filter(|_| !text[span.clone()].starts_with('['))
        }
        _ => None,
    };
    let at = first.unwrap_or(span).start;
    let line = text[..at].rfind('\n').map_or(0, |at| at + 1);
    text[line..].lines().next().unwrap_or_default().to_owned()
}
