//! Checking a parsed file against the schema, with positions, collecting every flaw.
//!
//! The schema is generated from the types, so that there is one source of truth; serde alone would stop at its first
//! error and say little about a value that may have several forms.

use std::ops::Range;
use std::sync::OnceLock;

use serde_json::Value;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::expand;
use super::flaw::{Flaw, Places, Source, app_of};
use super::types::Definition;
use super::values::{Period, Share, Span};

/// The schema of a definition file.
pub(super) fn definition_schema() -> &'static Value {
    static SCHEMA: OnceLock<Value> = OnceLock::new();
    SCHEMA.get_or_init(|| {
        let mut schema = schemars::schema_for!(Definition).to_value();
        expand::add_keys(&mut schema);
        schema
    })
}

/// The keys of a kind of table, by the name of its type.
pub(super) fn properties_of(kind: &str) -> Option<&'static serde_json::Map<String, Value>> {
    definition_schema().get("$defs")?.get(kind)?.get("properties")?.as_object()
}

/// Checks one file's table.
pub(super) struct Checker<'a> {
    pub(super) source: &'a Source,
    pub(super) source_number: usize,
    pub(super) places: &'a mut Places,
    pub(super) flaws: Vec<Flaw>,
    /// The application that is looked at.
    pub(super) app: Option<String>,
}

impl Checker<'_> {
    /// Checks the whole file.
    pub(super) fn file(&mut self, table: &DeTable<'_>, range: Range<usize>) {
        self.table(table, range, definition_schema(), "");
    }

    fn flaw(&mut self, range: Range<usize>, message: String, hint: Option<String>) {
        self.flaws.push(Flaw::at(self.source, range, message, hint).of_app(self.app.clone()));
    }

    fn value(&mut self, value: &Spanned<DeValue<'_>>, schema: &Value, path: &str) {
        let schema = resolve(schema);
        let range = value.span();
        self.places.note(path.to_owned(), self.source_number, range.clone());
        if let Some(forms) = schema.get("anyOf").or_else(|| schema.get("oneOf")).and_then(Value::as_array) {
            return self.forms(value, forms, path);
        }
        if !fits(value.get_ref(), schema) {
            let message = format!("this is {}, where {} is expected", kind_of(value.get_ref()), expected(schema));
            return self.flaw(range, message, Some(example(path, schema)));
        }
        match value.get_ref() {
            DeValue::Table(table) => self.table(table, range, schema, path),
            DeValue::Array(items) => {
                for (number, item) in items.iter().enumerate() {
                    if let Some(schema) = schema.get("items") {
                        self.value(item, schema, &format!("{path}/{number}"));
                    }
                }
            }
            DeValue::String(text) => self.text(text, range, schema),
            DeValue::Integer(number) => {
                let number = i64::from_str_radix(number.as_str(), number.radix()).ok();
                let (least, most) = (schema.get("minimum"), schema.get("maximum"));
                let below =
                    least.and_then(Value::as_f64).is_some_and(|least| number.is_some_and(|n| (n as f64) < least));
                let above = most.and_then(Value::as_f64).is_some_and(|most| number.is_some_and(|n| n as f64 > most));
                if number.is_none() || below || above {
                    let bound = |value: Option<&Value>| value.map_or("any".to_owned(), ToString::to_string);
                    let message = format!("the number must lie between {} and {}", bound(least), bound(most));
                    self.flaw(range, message, None);
                }
            }
            _ => {}
        }
    }

    /// A value that may have several forms: checked against the one that it can only mean, or that it fits best.
    fn forms(&mut self, value: &Spanned<DeValue<'_>>, forms: &[Value], path: &str) {
        // TOML has no null, so a form that is none stands only for a key that may be missing.
        let mut forms = flattened(forms);
        forms.retain(|form| type_names(form) != ["null"]);
        let words: Option<Vec<&str>> = forms.iter().map(|form| form.get("const").and_then(Value::as_str)).collect();
        if let (Some(words), DeValue::String(text)) = (words, value.get_ref()) {
            return self.word(text, value.span(), &words);
        }
        let fitting: Vec<&Value> = forms.iter().copied().filter(|form| fits(value.get_ref(), form)).collect();
        if fitting.is_empty() {
            let mut wanted: Vec<String> = forms.iter().map(|form| expected(form)).collect();
            wanted.retain(|form| form != "nothing");
            wanted.dedup();
            let message = format!("this is {}, where {} is expected", kind_of(value.get_ref()), wanted.join(" or "));
            let form = forms.first();
            return self.flaw(value.span(), message, form.map(|form| example(path, form)));
        }
        let before = self.flaws.len();
        let mut best: Option<Vec<Flaw>> = None;
        for form in fitting {
            self.value(value, form, path);
            let found = self.flaws.split_off(before);
            if best.as_ref().is_none_or(|best| found.len() < best.len()) {
                best = Some(found);
            }
        }
        self.flaws.extend(best.into_iter().flatten());
    }

    fn text(&mut self, text: &str, range: Range<usize>, schema: &Value) {
        if let Some(words) = schema.get("enum").and_then(Value::as_array) {
            let words: Vec<&str> = words.iter().filter_map(Value::as_str).collect();
            return self.word(text, range, &words);
        }
        if let Some(word) = schema.get("const").and_then(Value::as_str) {
            return self.word(text, range, &[word]);
        }
        let wrong = match schema.get("format").and_then(Value::as_str) {
            Some("span") => text.parse::<Span>().err(),
            Some("share") => text.parse::<Share>().err(),
            Some("period") => text.parse::<Period>().err(),
            _ => None,
        };
        if let Some(message) = wrong {
            self.flaw(range, message.to_string(), None);
        }
    }

    fn word(&mut self, text: &str, range: Range<usize>, words: &[&str]) {
        if !words.contains(&text) {
            let list = words.iter().map(|word| format!("\"{word}\"")).collect::<Vec<_>>().join(", ");
            let hint = nearest(text, words.iter().copied()).map(|word| format!("did you mean \"{word}\"?"));
            self.flaw(range, format!("`{text}` is not one of {list}"), hint);
        }
    }

    fn table(&mut self, table: &DeTable<'_>, range: Range<usize>, schema: &Value, path: &str) {
        let known = schema.get("properties").and_then(Value::as_object);
        for (key, value) in table {
            let name = key.get_ref().as_ref();
            let child = if path.is_empty() { name.to_owned() } else { format!("{path}/{name}") };
            self.app = app_of(&child);
            if let Some(schema) = known.and_then(|known| known.get(name)) {
                self.value(value, schema, &child);
            } else if let Some(schema) = schema.get("additionalProperties").filter(|schema| schema.is_object()) {
                self.places.note(format!("{child}#"), self.source_number, key.span());
                self.value(value, schema, &child);
            } else if schema.get("additionalProperties") == Some(&Value::Bool(true)) {
                self.places.note(child, self.source_number, key.span());
            } else {
                let missing = |known: &str| !table.keys().any(|key| key.get_ref() == known);
                self.unknown_key(name, key.span(), schema, &missing);
            }
        }
        self.app = app_of(path);
        let required = schema.get("required").and_then(Value::as_array);
        for name in required.into_iter().flatten().filter_map(Value::as_str) {
            if !table.keys().any(|key| key.get_ref() == name) {
                let message = format!("{} needs the key `{name}`", title(schema));
                self.flaw(range.clone(), message, None);
            }
        }
    }

    fn unknown_key(&mut self, name: &str, range: Range<usize>, schema: &Value, missing: &dyn Fn(&str) -> bool) {
        let known = schema.get("properties").and_then(Value::as_object);
        let here = || known.into_iter().flat_map(|known| known.keys().map(String::as_str));
        // A key that is written already is rarely the one that was meant.
        let near = nearest(name, here().filter(|key| missing(key))).or_else(|| nearest(name, here()));
        let homes = tables_with(name);
        let (message, hint) = if homes.is_empty() {
            let keys = || here().map(|key| format!("`{key}`")).collect::<Vec<_>>().join(", ");
            let hint = near.map_or_else(|| format!("its keys are {}", keys()), |key| format!("did you mean `{key}`?"));
            (format!("`{name}` is not a key of {}", title(schema)), Some(hint))
        } else {
            let message = format!("`{name}` is not a key of {}", title(schema));
            (message, Some(format!("`{name}` belongs in {}", homes.join(" or "))))
        };
        self.flaw(range, message, hint);
    }
}

/// Follows references into `$defs`.
pub(super) fn resolve(schema: &Value) -> &Value {
    let reference = schema.get("$ref").and_then(Value::as_str).and_then(|text| text.strip_prefix("#/$defs/"));
    match reference.and_then(|name| definition_schema().get("$defs")?.get(name)) {
        Some(found) => resolve(found),
        None => schema,
    }
}

/// Forms, with those of a form that has several itself in its place.
pub(super) fn flattened(forms: &[Value]) -> Vec<&Value> {
    let of = |form| {
        let form = resolve(form);
        match form.get("anyOf").or_else(|| form.get("oneOf")).and_then(Value::as_array) {
            Some(more) => flattened(more),
            None => vec![form],
        }
    };
    forms.iter().flat_map(of).collect()
}

fn title(schema: &Value) -> &str {
    schema.get("title").and_then(Value::as_str).unwrap_or("this table")
}

/// How a value of this schema may be written at its key, the last name of `path`.
fn example(path: &str, schema: &Value) -> String {
    let mut names = path.rsplit('/').peekable();
    let mut value = example_value(schema);
    // An item of a list is shown in its list.
    while names.next_if(|name| name.parse::<usize>().is_ok()).is_some() {
        value = format!("[{value}]");
    }
    names.next().map_or(format!("write for example {value}"), |key| format!("write for example {key} = {value}"))
}

fn example_value(schema: &Value) -> String {
    let schema = resolve(schema);
    let forms = schema.get("anyOf").or_else(|| schema.get("oneOf")).and_then(Value::as_array);
    if let Some(form) = forms.and_then(|forms| forms.iter().find(|form| type_names(resolve(form)) != ["null"])) {
        return example_value(form);
    }
    let words = schema.get("enum").and_then(Value::as_array).and_then(|words| words.first());
    if let Some(word) = words.or_else(|| schema.get("const")) {
        return word.to_string();
    }
    match (type_names(schema).first().copied(), schema.get("format").and_then(Value::as_str)) {
        (Some("string"), Some("span")) => "\"5m\"".to_owned(),
        (Some("string"), Some("share")) => "\"10%\"".to_owned(),
        (Some("string"), Some("period")) => "\"14d\"".to_owned(),
        (Some("string"), _) => "\"…\"".to_owned(),
        (Some("integer" | "number"), _) => schema.get("minimum").map_or("1".to_owned(), ToString::to_string),
        (Some("boolean"), _) => "true".to_owned(),
        (Some("array"), _) => format!("[{}]", schema.get("items").map(example_value).unwrap_or_default()),
        _ => example_table(schema),
    }
}

/// A table with the keys that it must have, and with the command where it is one.
fn example_table(schema: &Value) -> String {
    let Some(keys) = schema.get("properties").and_then(Value::as_object) else {
        let values = schema.get("additionalProperties").filter(|values| values.is_object());
        return values.map_or("{ … }".to_owned(), |values| format!("{{ NAME = {} }}", example_value(values)));
    };
    let must = schema.get("required").and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_str);
    let mut named: Vec<&str> = must.collect();
    if keys.contains_key("run") && !named.contains(&"run") {
        named.push("run");
    }
    if named.is_empty() {
        named.extend(keys.keys().map(String::as_str).take(2));
    }
    let items = named.iter().map(|key| format!("{key} = {}", example_value(&keys[*key])));
    format!("{{ {} }}", items.collect::<Vec<_>>().join(", "))
}

/// The titles of all tables that have a key of this name.
fn tables_with(name: &str) -> Vec<&'static str> {
    let tables = definition_schema().get("$defs").and_then(Value::as_object);
    let tables = tables.into_iter().flat_map(|tables| tables.values()).chain([definition_schema()]);
    let mut found: Vec<&str> = tables
        .filter(|table| table.get("properties").is_some_and(|known| known.get(name).is_some()))
        .map(title)
        .filter(|title| *title != "this table")
        .collect();
    found.sort_unstable();
    found.dedup();
    found.truncate(4);
    found
}

/// The nearest known word, when one is near enough to be meant.
pub fn nearest<'a>(word: &str, known: impl Iterator<Item = &'a str>) -> Option<&'a str> {
    let far = (word.chars().count() / 3).max(1) + 1;
    known
        .map(|candidate| (strsim::damerau_levenshtein(word, candidate), candidate))
        .filter(|(distance, _)| *distance <= far)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, candidate)| candidate)
}

fn kind_of(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "a text",
        DeValue::Integer(_) => "a whole number",
        DeValue::Float(_) => "a number",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date or time",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}

pub(super) fn type_names(schema: &Value) -> Vec<&str> {
    match schema.get("type") {
        Some(Value::String(one)) => vec![one],
        Some(Value::Array(many)) => many.iter().filter_map(Value::as_str).collect(),
        _ => Vec::new(),
    }
}

/// Whether a value is of one of the types that the schema allows; a schema without a type allows all.
pub(super) fn fits(value: &DeValue<'_>, schema: &Value) -> bool {
    if let Some(forms) = schema.get("anyOf").or_else(|| schema.get("oneOf")).and_then(Value::as_array) {
        return forms.iter().any(|form| fits(value, resolve(form)));
    }
    let names = type_names(schema);
    let has = |name| names.contains(&name);
    names.is_empty() && schema.get("const").is_none()
        || match value {
            DeValue::String(_) => has("string"),
            DeValue::Integer(_) => has("integer") || has("number"),
            DeValue::Float(_) => has("number"),
            DeValue::Boolean(_) => has("boolean"),
            DeValue::Array(_) => has("array"),
            DeValue::Table(_) => has("object"),
            DeValue::Datetime(_) => false,
        }
}

fn expected(schema: &Value) -> String {
    if let Some(title) = schema.get("title").and_then(Value::as_str) {
        return format!("{title} (a table)");
    }
    let names = type_names(schema).into_iter().filter(|name| *name != "null");
    let words = names.map(|name| match name {
        "string" if schema.get("format").and_then(Value::as_str) == Some("span") => "a span of time such as \"5m\"",
        "string" if schema.get("format").and_then(Value::as_str) == Some("share") => "a share such as \"10%\"",
        "string" => "a text",
        "integer" => "a whole number",
        "number" => "a number",
        "boolean" => "true or false",
        "array" => "a list",
        _ => "a table",
    });
    let words = words.collect::<Vec<_>>().join(" or ");
    if words.is_empty() { "nothing".to_owned() } else { words }
}
