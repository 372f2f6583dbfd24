//! The reference: every table and key that a definition may have, from the same types as its schema, with examples that load.
//!
//! The meaning of a key is the doc comment of its field; its example is where it stands in the definitions of `examples/`, which a
//! test loads. What is said nowhere else is said nowhere here.

mod example;

use std::collections::BTreeMap;

use serde::Serialize;
use serde_json::{Map, Value};

use super::check::{definition_schema, flattened, resolve, type_names};

/// A table of a definition, or a kind of value that is written as one.
#[derive(Clone, Debug, Serialize)]
pub struct TableEntry {
    /// What it is: "a part".
    pub title: String,
    /// Where it stands, as key paths: `app.NAME.part`. Empty for the file itself.
    pub places: Vec<String>,
    /// What it means.
    pub about: String,
    /// Its keys, in the order in which they are best read.
    pub keys: Vec<KeyEntry>,
    /// Keys that another table has as well and that mean the same here: that table's title, and the keys.
    pub shared: Option<(String, Vec<String>)>,
}

/// A key of a table.
#[derive(Clone, Debug, Serialize)]
pub struct KeyEntry {
    /// The key as it is written in the definition.
    pub name: String,
    /// What its value is.
    pub value: String,
    /// Whether it must be there.
    pub required: bool,
    /// What it means, and what holds without it.
    pub about: String,
    /// The version that has it first.
    pub since: String,
    /// The words that it may be, each with its meaning.
    pub words: Vec<(String, String)>,
    /// How it is written.
    pub example: String,
}

/// The first version. A key that came later says so: `#[schemars(extend("x-since" = "0.2.0"))]`.
const FIRST: &str = "0.1.0";
/// So many keys that two tables have in common are told at one place.
const SHARED: usize = 7;

/// Every table, the outer ones first.
pub fn tables() -> Vec<TableEntry> {
    let mut walk = SchemaWalk::default();
    walk.table("", "", definition_schema());
    let examples = example::all();
    let entry = |name: &str, before: &[&TableEntry]| {
        let (_, schema, places) = walk.found.iter().find(|(known, ..)| known == name)?;
        table(name, schema, places, &examples, before)
    };
    // What others have in common is told where it is at home.
    let mut homes: Vec<(&str, TableEntry)> = Vec::new();
    for name in AT_HOME {
        let before: Vec<&TableEntry> = homes.iter().map(|(_, table)| table).collect();
        let found = entry(name, &before);
        homes.extend(found.map(|table| (name, table)));
    }
    let before: Vec<&TableEntry> = homes.iter().map(|(_, table)| table).collect();
    let home_of = |name: &str| homes.iter().find(|(home, _)| *home == name).map(|(_, table)| table.clone());
    walk.found.iter().filter_map(|(name, ..)| home_of(name).or_else(|| entry(name, &before))).collect()
}

/// The types of tables whose keys others have as well, the plainer ones first.
const AT_HOME: [&str; 3] = ["ScheduleSpec", "CommandSpec", "Probe"];

fn table(
    name: &str,
    schema: &Value,
    places: &[String],
    examples: &Examples,
    before: &[&TableEntry],
) -> Option<TableEntry> {
    let properties = schema.get("properties").and_then(Value::as_object)?;
    let required = schema.get("required").and_then(Value::as_array).into_iter().flatten();
    let required: Vec<&str> = required.filter_map(Value::as_str).collect();
    let shared = shared_with(properties, before);
    let is_own = |key: &&String| !shared.as_ref().is_some_and(|(_, keys)| keys.contains(key));
    let example = |key: &str| {
        // A key that others share may stand in one of them only.
        let elsewhere = || examples.iter().find(|((_, other), _)| other == key).map(|(_, example)| example);
        examples.get(&(name.to_owned(), key.to_owned())).or_else(elsewhere).cloned().unwrap_or_default()
    };
    let keys = properties.keys().filter(is_own).map(|key| KeyEntry {
        name: key.clone(),
        value: value_of(&properties[key]),
        required: required.contains(&key.as_str()),
        about: text_at(&properties[key], "description"),
        since: since(&properties[key]),
        words: words_of(&properties[key]),
        example: example(key),
    });
    Some(TableEntry {
        title: text_at(schema, "title"),
        places: places.to_vec(),
        about: text_at(schema, "description"),
        keys: keys.collect(),
        shared,
    })
}

/// Tables as they are come by, each with the places where it stands.
#[derive(Default)]
struct SchemaWalk {
    found: Vec<(String, &'static Value, Vec<String>)>,
}

impl SchemaWalk {
    fn table(&mut self, place: &str, name: &str, schema: &'static Value) {
        if let Some((_, _, places)) = self.found.iter_mut().find(|(known, ..)| known == name) {
            places.push(place.to_owned());
            return;
        }
        self.found.push((name.to_owned(), schema, vec![place.to_owned()]));
        for (key, value) in schema.get("properties").and_then(Value::as_object).into_iter().flatten() {
            let place = if place.is_empty() { key.clone() } else { format!("{place}.{key}") };
            self.value(&place, value);
        }
    }

    fn value(&mut self, place: &str, schema: &'static Value) {
        for (name, form) in named_forms(schema) {
            if form.get("properties").is_some() {
                self.table(place, &name, form);
            } else if let Some(items) = form.get("items") {
                self.value(place, items);
            } else if let Some(values) = form.get("additionalProperties").filter(|values| values.is_object()) {
                self.value(&format!("{place}.NAME"), values);
            }
        }
    }
}

/// The forms that a value may have, each with the name of its type, where it has one.
fn named_forms(schema: &'static Value) -> Vec<(String, &'static Value)> {
    let name = schema.get("$ref").and_then(Value::as_str).and_then(|text| text.strip_prefix("#/$defs/")).unwrap_or("");
    let resolved = resolve(schema);
    match resolved.get("anyOf").or_else(|| resolved.get("oneOf")).and_then(Value::as_array) {
        Some(forms) => forms.iter().flat_map(named_forms).collect(),
        None => vec![(name.to_owned(), resolved)],
    }
}

fn text_at(schema: &Value, key: &str) -> String {
    let own = schema.get(key).and_then(Value::as_str);
    own.or_else(|| resolve(schema).get(key).and_then(Value::as_str)).unwrap_or_default().replace('\n', " ")
}

fn since(schema: &Value) -> String {
    schema.get("x-since").and_then(Value::as_str).unwrap_or(FIRST).to_owned()
}

/// The keys that a table has in common with one that was told before, where these are many.
fn shared_with(properties: &Map<String, Value>, before: &[&TableEntry]) -> Option<(String, Vec<String>)> {
    let common = |table: &TableEntry| -> Vec<String> {
        let same = |key: &&KeyEntry| properties.get(&key.name).is_some_and(|value| value_of(value) == key.value);
        table.keys.iter().filter(same).map(|key| key.name.clone()).collect()
    };
    let found = before.iter().map(|table| (table.title.clone(), common(table)));
    found.max_by_key(|(_, keys)| keys.len()).filter(|(_, keys)| keys.len() >= SHARED)
}

/// What a value is, in words.
fn value_of(schema: &Value) -> String {
    let resolved = resolve(schema);
    if let Some(forms) = resolved.get("anyOf").or_else(|| resolved.get("oneOf")).and_then(Value::as_array) {
        let forms: Vec<&Value> = flattened(forms).into_iter().filter(|form| type_names(form) != ["null"]).collect();
        if forms.iter().all(|form| form.get("const").is_some()) {
            return "one of these words".to_owned();
        }
        let mut words: Vec<String> = forms.iter().map(|form| value_of(form)).collect();
        words.dedup();
        return words.join(", or ");
    }
    if let Some(word) = resolved.get("const") {
        return word.to_string();
    }
    if resolved.get("enum").is_some() {
        return "one of these words".to_owned();
    }
    let names = type_names(resolved);
    let bounds = (resolved.get("minimum").and_then(Value::as_u64), resolved.get("maximum").and_then(Value::as_u64));
    match (names.iter().find(|name| **name != "null").copied(), resolved.get("format").and_then(Value::as_str)) {
        (Some("string"), Some("span")) => "a span of time (`30s`, `5m`, `2h`, `1d`)".to_owned(),
        (Some("string"), Some("share")) => "a share (`10%`)".to_owned(),
        (Some("string"), Some("period")) => "a period (`14d`, `2w`, `3m` for months, `10y`)".to_owned(),
        (Some("string"), _) => "text".to_owned(),
        (Some("integer"), _) => match bounds {
            (Some(least), Some(most)) if most < 100_000 => format!("a whole number from {least} to {most}"),
            _ => "a whole number".to_owned(),
        },
        (Some("number"), _) => "a number".to_owned(),
        (Some("boolean"), _) => "`true` or `false`".to_owned(),
        (Some("array"), _) => match resolved.get("items").map_or("values".to_owned(), value_of) {
            items if items == "text" => "a list of texts".to_owned(),
            items => format!("a list, each {items}"),
        },
        _ => match resolved.get("title").and_then(Value::as_str) {
            Some(title) => title.to_owned(),
            None => match resolved.get("additionalProperties").filter(|values| values.is_object()) {
                Some(values) => format!("a table of names, each {}", value_of(values)),
                None => "a table".to_owned(),
            },
        },
    }
}

/// The words that a value may be, each with its meaning.
fn words_of(schema: &Value) -> Vec<(String, String)> {
    let resolved = resolve(schema);
    let forms = match resolved.get("anyOf").or_else(|| resolved.get("oneOf")).and_then(Value::as_array) {
        Some(forms) => flattened(forms),
        None => vec![resolved],
    };
    let mut words = Vec::new();
    for form in forms {
        if let Some(word) = form.get("const").and_then(Value::as_str) {
            words.push((word.to_owned(), text_at(form, "description")));
        } else if let Some(all) = form.get("enum").and_then(Value::as_array) {
            words.extend(all.iter().filter_map(Value::as_str).map(|word| (word.to_owned(), String::new())));
        } else if let Some(items) = form.get("items") {
            words.extend(words_of(items));
        }
    }
    words
}

/// The examples, by the name of the table's type and the key.
type Examples = BTreeMap<(String, String), String>;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_key_says_what_it_means_and_what_holds_without_it_and_has_an_example() {
        let tables = tables();
        let mut lacking = Vec::new();
        for table in &tables {
            for key in &table.keys {
                let is_explained = key.about.split_whitespace().count() >= 3;
                // What must be there is an error without it.
                let is_without = ["ithout it ", "ithout one ", "ithout them ", "y default", "the default"];
                let is_without = key.required || is_without.iter().any(|words| key.about.contains(words));
                if !is_explained || !is_without || key.example.is_empty() {
                    lacking.push(format!("{} `{}`: {:?} {:?}", table.title, key.name, key.about, key.example));
                }
            }
            assert!(!table.title.is_empty() && !table.about.is_empty(), "{:?} has no title", table.places);
        }
        assert!(lacking.is_empty(), "{}", lacking.join("\n"));
        assert!(tables.len() > 25 && tables.iter().any(|table| table.places == ["app.NAME.part"]), "{}", tables.len());
    }

    #[test]
    fn a_key_that_came_later_says_since_when() {
        assert_eq!(since(&serde_json::json!({ "type": "string" })), "0.1.0");
        assert_eq!(since(&serde_json::json!({ "type": "string", "x-since": "0.2.0" })), "0.2.0");
    }

    #[test]
    fn the_definitions_that_examples_are_taken_from_load() {
        let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("src/definition/reference/examples/desk.toml");
        let loaded = crate::definition::load(&path, "quay").unwrap_or_else(|error| match error {
            crate::definition::LoadError::Flaws(flaws) => panic!("{:#?}", flaws.0),
            other => panic!("{other}"),
        });
        assert!(loaded.definition.app.contains_key("notes"), "the included file was read");
    }
}
