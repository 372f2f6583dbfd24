//! `gullet explain`: the reference, at the place where it is needed.

use clap::Args;
use gullet_model::definition::reference::{KeyEntry, TableEntry, tables};

use crate::error::CommandError;
use crate::exit::Exit;
use crate::render::reference::{first_sentence, heading, shared, value, words};
use crate::table::table;
use crate::ui::{BOLD, Ui, styled};

/// Say what a key of the definition means
///
/// Without a name: all tables, and what else is explained. A name is a table (`part`, `app.keep`), a key (`max_hold`,
/// `part.sqlite`), or one of the topics that are listed.
///
/// Example: gullet explain part.must_contain
#[derive(Args)]
pub struct ExplainArgs {
    /// A table, a key, or a topic
    name: Option<String>,
}

/// What is explained besides the definition: name, title, text.
pub const TOPICS: [(&str, &str, &str); 6] = [
    (
        "hooks",
        "commands at stated moments, their environment and notes",
        include_str!("../../../../docs/reference/hooks.md"),
    ),
    (
        "probes",
        "how an application is asked, and what is believed",
        include_str!("../../../../docs/reference/probes.md"),
    ),
    ("placeholders", "what is filled in where", include_str!("../../../../docs/reference/placeholders.md")),
    ("exit-codes", "how commands end", include_str!("../../../../docs/reference/exit-codes.md")),
    ("json-output", "what commands print with --json", include_str!("../../../../docs/reference/json.md")),
    ("record", "what is kept of a run", include_str!("../../../../docs/reference/record.md")),
];

pub fn explain(ui: &mut Ui, args: &ExplainArgs) -> Result<Exit, CommandError> {
    let all = tables();
    let Some(name) = &args.name else {
        overview(ui, &all)?;
        return Ok(Exit::Complete);
    };
    // The tables and keys first: `hooks` is both a table and a topic, and the table says where the topic is.
    let found_tables: Vec<&TableEntry> = all.iter().filter(|table| is_table(table, name)).collect();
    let found_keys = keys(&all, name);
    let topic = TOPICS.iter().find(|(topic, ..)| topic == name);
    if ui.is_json() {
        let keys: Vec<_> =
            found_keys.iter().map(|(table, key)| serde_json::json!({ "table": heading(table), "key": key })).collect();
        ui.json(&serde_json::json!({ "tables": found_tables, "keys": keys, "topic": topic.map(|(_, _, text)| text) }))?;
    } else if let Some((_, _, text)) = topic {
        ui.write(text.as_bytes());
    } else {
        for (table, key) in &found_keys {
            show_key(ui, &heading(table), key);
        }
        if let [table] = found_tables.as_slice() {
            show_table(ui, table);
        } else if found_keys.is_empty() {
            found_tables.iter().for_each(|table| show_table(ui, table));
        }
    }
    if found_tables.is_empty() && found_keys.is_empty() && topic.is_none() {
        return Err(unknown(&all, name));
    }
    Ok(Exit::Complete)
}

fn overview(ui: &mut Ui, all: &[TableEntry]) -> Result<(), CommandError> {
    let topics = TOPICS.iter().map(|(name, about, _)| vec![(*name).to_owned(), (*about).to_owned()]);
    if ui.is_json() {
        return ui.json(&all);
    }
    let rows = all.iter().filter(|table| !table.places[0].is_empty());
    let rows = rows.map(|table| vec![heading(table), first_sentence(&table.about).replace('`', "")]);
    ui.say(table(&["table", "what it is"], rows.collect()));
    ui.say("");
    ui.say(table(&["topic", "what it is about"], topics.collect()));
    ui.hint("gullet explain TABLE lists its keys, gullet explain TABLE.KEY says what one means");
    Ok(())
}

/// The words of a place without the names that are free to choose.
fn fixed(place: &str) -> Vec<&str> {
    place.split('.').filter(|word| *word != "NAME" && !word.is_empty()).collect()
}

/// Whether a name means a table: by the last words of a place where it stands.
fn is_table(table: &TableEntry, name: &str) -> bool {
    let wanted = fixed(name);
    let is_at = |place: &String| fixed(place).ends_with(&wanted);
    // What stands at many places has a name of its own: "a command", "a probe".
    let is_called = table.places.len() > 2 && table.title.split_once(' ').is_some_and(|(_, title)| title == name);
    is_called || (!wanted.is_empty() && table.places.iter().any(is_at))
}

/// The keys that a name means: its last word, in tables that the words before it mean.
fn keys<'t>(all: &'t [TableEntry], name: &str) -> Vec<(&'t TableEntry, &'t KeyEntry)> {
    let mut above = fixed(name);
    let Some(key) = above.pop() else { return Vec::new() };
    let is_meant = |table: &&TableEntry| above.is_empty() || is_table(table, &above.join("."));
    let own = |table: &'t TableEntry| table.keys.iter().find(|entry| entry.name == key).map(|entry| (table, entry));
    let found: Vec<_> = all.iter().filter(is_meant).filter_map(own).collect();
    if !found.is_empty() {
        return found;
    }
    // It may be one that the table has in common with another.
    let shares =
        |table: &&TableEntry| table.shared.as_ref().is_some_and(|(_, keys)| keys.iter().any(|shared| shared == key));
    let homes = all.iter().filter(is_meant).filter(shares).filter_map(|table| table.shared.as_ref());
    let mut titles: Vec<&String> = homes.map(|(title, _)| title).collect();
    titles.dedup();
    all.iter().filter(|table| titles.contains(&&table.title)).filter_map(own).collect()
}

fn show_table(ui: &mut Ui, entry: &TableEntry) {
    ui.say(format!("{}: {}", styled(BOLD, heading(entry)), entry.about.replace('`', "")));
    ui.say("");
    let rows = entry.keys.iter().map(|key| {
        let must = if key.required { " (required)" } else { "" };
        vec![format!("{}{must}", key.name), first_sentence(&key.about).replace('`', "")]
    });
    ui.say(table(&["key", "what it means"], rows.collect()));
    if let Some(shared) = shared(entry) {
        ui.say(shared.replace('`', ""));
    }
}

fn show_key(ui: &mut Ui, table: &str, key: &KeyEntry) {
    let name = styled(BOLD, format!("{table}.{}", key.name));
    ui.say(format!("{name}: {} (since {})", value(key).replace('`', ""), key.since));
    ui.say(format!("  {}", key.about.replace('`', "")));
    for word in words(key) {
        ui.say(format!("  {}", word.replace('`', "")));
    }
    if !key.example.is_empty() {
        ui.say(format!("  {}", key.example));
    }
}

fn unknown(all: &[TableEntry], name: &str) -> CommandError {
    let last = fixed(name).last().copied().unwrap_or(name).to_owned();
    let words = all.iter().flat_map(|table| {
        let keys = table.keys.iter().map(|key| key.name.as_str());
        keys.chain(table.places.iter().filter_map(|place| fixed(place).last().copied()))
    });
    let near = gullet_model::definition::nearest(&last, words.chain(TOPICS.iter().map(|(name, ..)| *name)));
    let error = CommandError::text(Exit::Usage, format!("nothing is called `{name}` in a definition"));
    error.hint(near.map_or_else(
        || "`gullet explain` lists the tables and topics".to_owned(),
        |near| format!("did you mean `{near}`?"),
    ))
}
