//! README, guide and documents name nothing that is not there: links, commands with their options, keys of definitions.

use std::fs;
use std::path::{Path, PathBuf};

use clap::error::ErrorKind;
use gullet_model::definition::{LoadError, load};
use regex::Regex;

fn root() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// All documents of the repository, with their text.
fn documents() -> Vec<(PathBuf, String)> {
    let mut found = Vec::new();
    for folder in ["", "docs", "docs/reference", "docs/guide"] {
        for entry in fs::read_dir(root().join(folder)).into_iter().flatten() {
            let path = entry.unwrap().path();
            if path.extension().is_some_and(|end| end == "md") {
                found.push((path.clone(), fs::read_to_string(path).unwrap()));
            }
        }
    }
    assert!(found.len() > 10, "{}", found.len());
    found
}

/// The names by which headings of a document can be linked to.
fn anchors(text: &str) -> Vec<String> {
    let headings = text.lines().filter(|line| line.starts_with('#')).map(|line| line.trim_start_matches('#').trim());
    let anchor = |heading: &str| -> String {
        let kept = heading.chars().filter(|c| c.is_alphanumeric() || matches!(c, ' ' | '-' | '_'));
        kept.map(|c| if c == ' ' { '-' } else { c.to_ascii_lowercase() }).collect()
    };
    headings.map(anchor).collect()
}

#[test]
fn no_link_is_dead() {
    let link = Regex::new(r"\]\(([^)\s]+)\)").unwrap();
    let mut dead = Vec::new();
    for (path, text) in documents() {
        for target in link.captures_iter(&text).map(|found| found[1].to_owned()) {
            if target.contains("://") {
                continue;
            }
            let (file, anchor) = target.split_once('#').map_or((target.as_str(), ""), |(file, anchor)| (file, anchor));
            let file = if file.is_empty() { path.clone() } else { path.parent().unwrap().join(file) };
            let is_there = file.exists()
                && (anchor.is_empty()
                    || anchors(&fs::read_to_string(&file).unwrap_or_default()).iter().any(|a| a == anchor));
            if !is_there {
                dead.push(format!("{}: {target}", path.display()));
            }
        }
    }
    assert!(dead.is_empty(), "{dead:#?}");
}

/// The command lines of a document: in backticks and in examples of help; and lines that look like one, as in blocks of a console.
fn command_lines(text: &str) -> Vec<(String, bool)> {
    let sure = Regex::new(r"`(gullet [^`\n]+)`|(?m)^\s*Example: (gullet [^\n]+)$").unwrap();
    let likely = Regex::new(r"(?m)^\s*(?:\$ |# )?(gullet [a-z][^\n]*)$").unwrap();
    let found = |form: &Regex, is_sure| -> Vec<(String, bool)> {
        let one =
            |found: regex::Captures<'_>| found.iter().skip(1).flatten().next().map(|text| text.as_str().to_owned());
        form.captures_iter(text).filter_map(one).map(|line| (line, is_sure)).collect()
    };
    [found(&sure, true), found(&likely, false)].concat()
}

#[test]
fn every_command_that_is_written_down_is_one() {
    let word = Regex::new(r#"[^\s"']*"[^"]*"|[^\s"']*'[^']*'|\S+"#).unwrap();
    let mut wrong = Vec::new();
    let mut seen = 0;
    for (path, text) in documents() {
        // What was, and what was measured with what was.
        if path.ends_with("CHANGELOG.md") || path.ends_with("docs/PROOFS.md") {
            continue;
        }
        for (line, is_sure) in command_lines(&text) {
            let line = line.replace(" 2>", " >");
            let line = line.split(['|', '>', '#']).next().unwrap_or_default().trim().trim_end_matches(['.', ',', ':']);
            if line.contains(['…', '[', '<']) {
                continue;
            }
            let words: Vec<&str> = word.find_iter(line).map(|found| found.as_str()).collect();
            let second = words.get(1).copied().unwrap_or_default();
            // A sentence that begins with the program's name is no command.
            if !second.starts_with('-') && !gullet::command().get_subcommands().any(|sub| sub.get_name() == second) {
                if is_sure && second != "COMMAND" {
                    wrong.push(format!("{}: {line}", path.display()));
                }
                continue;
            }
            seen += 1;
            if let Err(error) = gullet::command().try_get_matches_from(&words)
                && matches!(error.kind(), ErrorKind::UnknownArgument | ErrorKind::InvalidSubcommand)
                && !words.iter().any(|word| word.chars().all(|c| c.is_ascii_uppercase()))
            {
                wrong.push(format!("{}: {line}: {}", path.display(), error.kind()));
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
    assert!(seen > 100, "only {seen} commands were found");
}

#[test]
fn every_key_in_an_example_of_a_definition_is_one() {
    let block = Regex::new(r"(?s)```toml\n(.*?)```").unwrap();
    let folder = tempfile::tempdir().unwrap();
    let mut wrong = Vec::new();
    let mut seen = 0;
    for (path, text) in documents() {
        if !(path.ends_with("README.md") || path.to_string_lossy().contains("docs/guide")) {
            continue;
        }
        for found in block.captures_iter(&text) {
            seen += 1;
            wrong.extend(flaws(folder.path(), &found[1]).into_iter().map(|flaw| format!("{}: {flaw}", path.display())));
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
    assert!(seen > 5, "only {seen} examples were found");
}

/// What is wrong with the keys and values of a piece of a definition; that it is only a piece is not.
fn flaws(folder: &Path, text: &str) -> Vec<String> {
    let file = folder.join("gullet.toml");
    let indent =
        text.lines().filter(|line| !line.trim().is_empty()).map(|line| line.len() - line.trim_start().len()).min();
    let text: Vec<&str> = text.lines().map(|line| line.get(indent.unwrap_or(0)..).unwrap_or_default()).collect();
    fs::write(&file, text.join("\n")).unwrap();
    match load(&file, "quay") {
        Err(LoadError::Flaws(flaws)) => {
            let is_of_keys = |message: &str| {
                ["is not a key of", "is expected", "is not one of", "expected", "unquoted"]
                    .iter()
                    .any(|part| message.contains(part))
            };
            flaws.0.iter().map(ToString::to_string).filter(|message| is_of_keys(message)).collect()
        }
        _ => Vec::new(),
    }
}
