//! The reference of the definition: for the terminal, as a document, and as a manual page.

use std::fmt::Write;

use gullet_model::definition::reference::{KeyEntry, TableEntry};

/// What a table is called where it stands: `[[app.NAME.part]]`, or its key path where it is written in braces mostly.
pub fn heading(table: &TableEntry) -> String {
    match table.places.as_slice() {
        [] => table.title.clone(),
        [place] if place.is_empty() => "the file itself".to_owned(),
        // What stands at many places is called what it is.
        [_, _, _, ..] => table.title.clone(),
        [place, ..] => place.clone(),
    }
}

/// Where a table stands besides the place that it is headed by, in words; at most so many places.
fn elsewhere(table: &TableEntry, most: usize) -> Option<String> {
    let skipped = usize::from(table.places.len() < 3);
    let places: Vec<String> = table.places.iter().skip(skipped).map(|place| format!("`{place}`")).collect();
    let more = places.len().saturating_sub(most);
    let shown = places.iter().take(most).cloned().collect::<Vec<_>>().join(", ");
    (!places.is_empty()).then(|| if more > 0 { format!("{shown} and {more} more places") } else { shown })
}

/// The keys that a table has in common with another, in words.
pub fn shared(table: &TableEntry) -> Option<String> {
    let (title, keys) = table.shared.as_ref()?;
    let keys: Vec<String> = keys.iter().map(|key| format!("`{key}`")).collect();
    Some(format!("And the keys of {title}: {}.", keys.join(", ")))
}

/// What is to be said of a key besides its meaning.
pub fn value(key: &KeyEntry) -> String {
    if key.required { format!("{}; it must be there", key.value) } else { key.value.clone() }
}

/// The words that a value may be, a line each.
pub fn words(key: &KeyEntry) -> Vec<String> {
    let with_meaning = key.words.iter().any(|(_, meaning)| !meaning.is_empty());
    if !with_meaning {
        let words: Vec<String> = key.words.iter().map(|(word, _)| format!("`\"{word}\"`")).collect();
        return if words.is_empty() { Vec::new() } else { vec![words.join(", ")] };
    }
    key.words.iter().map(|(word, meaning)| format!("`\"{word}\"`: {meaning}")).collect()
}

/// All of it as a Markdown document.
pub fn markdown(tables: &[TableEntry]) -> String {
    let mut text = String::from(
        "# The definition\n\n\
         Generated from the program by its tests; do not edit. `gullet explain KEY` prints any of it in a terminal.\n\n\
         A definition is a TOML file: `./gullet.toml`, or else `/etc/gullet/gullet.toml`, or what `--definition` names. NAME stands for a \
         name of your own. A key that the program does not know is an error. More about \
         [hooks](reference/hooks.md), [probes](reference/probes.md) and [placeholders](reference/placeholders.md).\n\n",
    );
    for table in tables {
        let _ =
            writeln!(text, "- [{}](#{}): {}", heading(table), anchor(&heading(table)), first_sentence(&table.about));
    }
    for table in tables {
        let _ = write!(text, "\n## {}\n\n{}\n", heading(table), table.about);
        if let Some(places) = elsewhere(table, 12) {
            let _ = write!(text, "\nIt stands at {places}.\n");
        }
        for key in &table.keys {
            let _ = write!(text, "\n### `{}`\n\n{} Since {}.\n\n", key.name, sentence(&value(key)), key.since);
            let _ = writeln!(text, "{}", key.about);
            let words = words(key);
            if !words.is_empty() {
                let _ = writeln!(text);
            }
            for word in words {
                let _ = writeln!(text, "- {word}");
            }
            if !key.example.is_empty() {
                let _ = write!(text, "\n```toml\n{}\n```\n", key.example);
            }
        }
        if let Some(shared) = shared(table) {
            let _ = write!(text, "\n{shared}\n");
        }
    }
    text
}

/// The anchor that common viewers of Markdown make of a heading.
fn anchor(heading: &str) -> String {
    let kept = heading.chars().filter(|c| c.is_alphanumeric() || matches!(c, ' ' | '-' | '_'));
    kept.map(|c| if c == ' ' { '-' } else { c.to_ascii_lowercase() }).collect()
}

/// The first sentence of a text; where that is long, its beginning that stands for itself.
pub fn first_sentence(text: &str) -> &str {
    const LONG: usize = 64;
    let first = text.split_once(". ").map_or(text, |(first, _)| first).trim_end_matches('.');
    let ends = [": ", "; "].iter().filter_map(|end| first.find(end));
    match ends.min().filter(|end| first.len() > LONG && *end > LONG / 4) {
        Some(end) => &first[..end],
        None => first,
    }
}

fn sentence(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or_else(String::new, |first| format!("{}{}.", first.to_uppercase(), letters.as_str()))
}

/// All of it as the manual page `gullet.toml(5)`, in the language of man(7).
pub fn manual(tables: &[TableEntry]) -> String {
    use roff::{Roff, bold, italic, roman};
    let plain = |text: &str| text.replace('`', "");
    let mut page = Roff::new();
    page.control("TH", ["gullet.toml", "5", "", concat!("gullet ", env!("CARGO_PKG_VERSION")), ""]);
    page.control("SH", ["NAME"]);
    page.text([roman("gullet.toml - the definition of applications to back up")]);
    page.control("SH", ["DESCRIPTION"]);
    page.text([roman(
        "A definition is a TOML file: ./gullet.toml, or else /etc/gullet/gullet.toml, or what --definition names. NAME stands for a \
         name of your own. A key that the program does not know is an error. \"gullet explain KEY\" prints any of this.",
    )]);
    for table in tables {
        page.control("SH", [heading(table).as_str()]);
        page.text([roman(plain(&table.about))]);
        if let Some(places) = elsewhere(table, 6) {
            page.control("PP", []);
            page.text([roman(format!("It stands at {}.", plain(&places)))]);
        }
        for key in &table.keys {
            page.control("TP", []);
            page.text([
                bold(key.name.as_str()),
                roman("  "),
                italic(plain(&value(key))),
                roman(format!("  (since {})", key.since)),
            ]);
            page.text([roman(plain(&key.about))]);
            for word in words(key) {
                page.control("br", []);
                page.text([roman(plain(&word))]);
            }
            if !key.example.is_empty() {
                page.control("br", []);
                page.text([bold(key.example.as_str())]);
            }
        }
        if let Some(shared) = shared(table) {
            page.control("PP", []);
            page.text([roman(plain(&shared))]);
        }
    }
    page.control("SH", ["SEE ALSO"]);
    page.text([bold("gullet"), roman("(1)")]);
    page.render()
}

/// A JSON Schema as a document: every table of it with its keys.
pub fn schema_markdown(title: &str, introduction: &str, schema: &serde_json::Value) -> String {
    let mut text = format!("# {title}\n\nGenerated from the program by its tests; do not edit.\n\n{introduction}\n");
    let empty = serde_json::Map::new();
    let definitions = schema["$defs"].as_object().unwrap_or(&empty);
    let root = [(title, schema)].into_iter().filter(|(_, schema)| !schema["properties"].is_null());
    for (name, table) in root.chain(definitions.iter().map(|(name, table)| (name.as_str(), table))) {
        document(&mut text, name, table);
    }
    text
}

/// One table, or one list of words.
fn document(text: &mut String, name: &str, table: &serde_json::Value) {
    let about = table["description"].as_str().unwrap_or_default().replace('\n', " ");
    let forms = table["oneOf"].as_array().or_else(|| table["anyOf"].as_array());
    let words: Vec<(String, String)> = forms.into_iter().flatten().filter_map(word_of).collect();
    let _ = write!(text, "\n## {name}\n\n{about}\n");
    if let Some(keys) = table["properties"].as_object() {
        keys_of(text, keys);
    }
    for (word, meaning) in words.iter().filter(|(word, _)| !word.is_empty()) {
        let _ = write!(text, "\n- `\"{word}\"`: {meaning}");
    }
    for form in forms.into_iter().flatten().filter(|form| word_of(form).is_none()) {
        let about = form["description"].as_str().unwrap_or_default().replace('\n', " ");
        let _ = write!(text, "\n- {}: {about}", json_value(form));
        let Some(keys) = form["properties"].as_object() else { continue };
        let _ = writeln!(text);
        keys_of(text, keys);
    }
    if !text.ends_with('\n') {
        text.push('\n');
    }
}

fn word_of(form: &serde_json::Value) -> Option<(String, String)> {
    let about = form["description"].as_str().unwrap_or_default().replace('\n', " ");
    Some((form["const"].as_str()?.to_owned(), about))
}

fn keys_of(text: &mut String, keys: &serde_json::Map<String, serde_json::Value>) {
    text.push_str("\n| key | value | meaning |\n| --- | --- | --- |\n");
    for (key, value) in keys {
        let about = value["description"].as_str().unwrap_or_default().replace('\n', " ").replace('|', "\\|");
        let _ = writeln!(text, "| `{key}` | {} | {about} |", json_value(value).replace('|', "\\|"));
    }
}

/// What a value of JSON is, in words.
fn json_value(schema: &serde_json::Value) -> String {
    if let Some(name) = schema["$ref"].as_str() {
        let name = name.rsplit('/').next().unwrap_or_default();
        return format!("[{name}](#{})", anchor(name));
    }
    if let Some(word) = schema["const"].as_str() {
        return format!("`\"{word}\"`");
    }
    let forms = schema["anyOf"].as_array().or_else(|| schema["oneOf"].as_array());
    if let Some(forms) = forms {
        return forms.iter().map(json_value).collect::<Vec<_>>().join(" or ");
    }
    let of_type = |name: &str| match name {
        "array" if !schema["items"].is_null() => format!("list: {}", json_value(&schema["items"])),
        "object" if schema["additionalProperties"].is_object() => {
            format!("object of names: {}", json_value(&schema["additionalProperties"]))
        }
        "string" if schema["format"].as_str() == Some("date-time") => "moment (RFC 3339)".to_owned(),
        "string" => "text".to_owned(),
        "integer" => "whole number".to_owned(),
        other => other.to_owned(),
    };
    match &schema["type"] {
        serde_json::Value::String(name) => of_type(name),
        serde_json::Value::Array(names) => {
            names.iter().filter_map(|name| name.as_str()).map(of_type).collect::<Vec<_>>().join(" or ")
        }
        _ => "any".to_owned(),
    }
}
