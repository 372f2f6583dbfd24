//! Generated documents are what the program says now. `UPDATE_DOCS=1 cargo test` writes them.

use std::fs;
use std::path::PathBuf;

use gullet_model::event::Event;
use gullet_model::record::{Record, Remark};

#[track_caller]
fn is_current(name: &str, text: &str) {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(name);
    if std::env::var_os("UPDATE_DOCS").is_some() {
        fs::write(&path, text).unwrap();
    }
    let found = fs::read_to_string(&path).unwrap_or_default();
    assert!(found == text, "docs/{name} is not current: run UPDATE_DOCS=1 cargo test");
}

fn schema(name: &str, schema: &serde_json::Value) {
    is_current(&format!("schemas/{name}.json"), &format!("{schema:#}\n"));
}

#[test]
fn the_schemas_are_current() {
    schema("definition", &gullet_model::definition::schema());
    schema("record", schemars::schema_for!(Record).as_value());
    schema("remark", schemars::schema_for!(Remark).as_value());
    schema("event", schemars::schema_for!(Event).as_value());
}

#[test]
fn the_command_reference_is_current() {
    let mut text = String::from("# Commands\n\nGenerated from the program by its tests; do not edit.\n");
    let mut root = gullet::command().term_width(100);
    root.build();
    for command in root.get_subcommands_mut() {
        document(command, &mut text);
    }
    is_current("commands.md", &text);
}

#[test]
fn the_reference_of_the_definition_is_current() {
    is_current("definition.md", &gullet::definition_reference(&gullet_model::definition::reference::tables()));
}

fn document(command: &mut clap::Command, text: &mut String) {
    let name = command.get_bin_name().unwrap_or_default().to_owned();
    let help = command.render_long_help().to_string();
    let help: Vec<&str> = help.lines().map(str::trim_end).collect();
    text.push_str(&format!("\n## {name}\n\n```text\n{}\n```\n", help.join("\n").trim_end()));
    for child in command.get_subcommands_mut() {
        document(child, text);
    }
}
