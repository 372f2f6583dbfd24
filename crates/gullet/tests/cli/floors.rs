//! The floors of the house: a crate uses only those below it, no modules of a crate import each other in a ring, and no file and
//! no function is too long.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// From the bottom up; ARCHITECTURE.md draws them.
const FLOORS: [&str; 9] = [
    "gullet-store",
    "gullet-model",
    "gullet-host",
    "gullet-logbook",
    "gullet-capture",
    "gullet-run",
    "gullet-restore",
    "gullet-core",
    "gullet",
];

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

/// The text of a file up to its own tests.
fn production(path: &Path) -> String {
    let text = fs::read_to_string(path).unwrap();
    text.split("#[cfg(test)]\nmod tests {").next().unwrap().to_owned()
}

fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources(&path, found);
        } else if path.extension().is_some_and(|end| end == "rs") && path.file_name().unwrap() != "tests.rs" {
            found.push(path);
        }
    }
}

/// What each top module of a crate imports of the others.
fn imports(name: &str) -> BTreeMap<String, BTreeSet<String>> {
    let top = crates().join(name).join("src");
    let mut files = Vec::new();
    sources(&top, &mut files);
    let mut imports: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for file in files {
        let below = file.strip_prefix(&top).unwrap().with_extension("");
        let own = below.iter().next().unwrap().to_string_lossy().into_owned();
        if own == "lib" || own == "main" {
            continue;
        }
        let text = production(&file);
        let others = text.split("crate::").skip(1).map(|rest| {
            rest.chars().take_while(|c| c.is_ascii_lowercase() || *c == '_' || c.is_ascii_digit()).collect::<String>()
        });
        imports.entry(own.clone()).or_default().extend(others.filter(|other| *other != own && !other.is_empty()));
    }
    imports
}

#[test]
fn no_modules_import_each_other_in_a_ring() {
    for name in FLOORS.iter().chain(&["quaybook"]) {
        let mut left = imports(name);
        assert!(!left.is_empty(), "{name} has no modules to look at");
        // What imports nothing that is left is taken away, again and again; a ring stays.
        loop {
            let names: BTreeSet<String> = left.keys().cloned().collect();
            let before = left.len();
            left.retain(|_, others| others.iter().any(|other| names.contains(other)));
            if left.len() == before {
                break;
            }
        }
        assert!(left.is_empty(), "{name}: a ring of imports is among {left:?}");
    }
}

#[test]
fn a_crate_uses_only_those_below_it() {
    for (floor, name) in FLOORS.iter().enumerate() {
        let manifest = fs::read_to_string(crates().join(name).join("Cargo.toml")).unwrap();
        let dependencies = manifest.split("[dependencies]").nth(1).unwrap().split("\n[").next().unwrap();
        let used =
            dependencies.lines().filter_map(|line| line.split(['.', ' ']).next()).filter(|d| d.starts_with("gullet"));
        for other in used {
            let below = FLOORS.iter().position(|known| known == &other);
            assert!(below.is_some_and(|below| below < floor), "{name} uses {other}, which is not below it");
        }
    }
}

/// Lines of a file, at most; its own tests apart.
const LONGEST_FILE: usize = 500;
/// Lines of a function, at most.
const LONGEST_FUNCTION: usize = 70;

/// The functions of a text with their lengths in lines. rustfmt ends each with a brace at the indent of its first line.
fn functions(text: &str) -> Vec<(String, usize)> {
    let lines: Vec<&str> = text.lines().collect();
    let begins = |line: &str| line.trim_start().split(" fn ").count() == 2 || line.trim_start().starts_with("fn ");
    let mut found = Vec::new();
    for (at, line) in lines.iter().enumerate().filter(|(_, line)| begins(line) && !line.trim_start().starts_with("//"))
    {
        let indent = &line[..line.len() - line.trim_start().len()];
        // One without a body, as a trait has it, ends with a semicolon.
        let own = lines[at..].iter().position(|line| line.ends_with(';') || line.ends_with('{') || line.ends_with('}'));
        let Some(own) = own.filter(|own| lines[at + own].ends_with('{')) else { continue };
        let rest = &lines[at + own + 1..];
        let length = rest.iter().position(|line| *line == format!("{indent}}}"));
        found.push((line.trim().to_owned(), own + 2 + length.unwrap_or(rest.len())));
    }
    found
}

/// `cargo test --test cli floors -- --nocapture` prints the figures.
#[test]
#[allow(clippy::print_stdout, reason = "its figures are asked for")]
fn no_file_and_no_function_is_too_long() {
    let mut files = Vec::new();
    for name in FLOORS.iter().chain(&["quaybook"]) {
        sources(&crates().join(name).join("src"), &mut files);
    }
    let mut lengths = Vec::new();
    let mut of_functions = Vec::new();
    for file in &files {
        let text = production(file);
        let lines = text.lines().count();
        assert!(lines <= LONGEST_FILE, "{} has {lines} lines", file.display());
        lengths.push(lines);
        for (name, length) in functions(&text) {
            assert!(length <= LONGEST_FUNCTION, "{}: `{name}` has {length} lines", file.display());
            of_functions.push(length);
        }
    }
    assert!(of_functions.len() > 1000, "only {} functions were found", of_functions.len());
    lengths.sort_unstable();
    of_functions.sort_unstable();
    let at = |list: &[usize], share: usize| list[list.len() * share / 100];
    println!(
        "{} files, median {} lines; {} functions, median {}, nine of ten within {}",
        lengths.len(),
        at(&lengths, 50),
        of_functions.len(),
        at(&of_functions, 50),
        at(&of_functions, 90)
    );
}

/// A failure in a library crate has a type of its own, or is a `Reason`, whose text nothing can look into.
#[test]
fn no_library_crate_fails_with_a_string() {
    let mut files = Vec::new();
    for name in FLOORS.iter().filter(|name| **name != "gullet") {
        sources(&crates().join(name).join("src"), &mut files);
    }
    for file in &files {
        let text = production(file);
        for (number, line) in text.lines().enumerate() {
            let fails = line.contains("-> ") && line.contains("Result<") && line.contains(", String>");
            // A map may well be what is given.
            let is_string = fails && line.rsplit("Result<").next().is_some_and(ends_in_string);
            assert!(!is_string, "{}:{}: {line}", file.display(), number + 1);
        }
    }
}

/// Whether the second of two types in `OK, ERROR> …` is a string.
fn ends_in_string(types: &str) -> bool {
    let mut depth = 1;
    let mut last = 0;
    for (at, c) in types.char_indices() {
        match c {
            '<' | '(' => depth += 1,
            '>' | ')' => depth -= 1,
            ',' if depth == 1 => last = at + 1,
            _ => {}
        }
        if depth == 0 {
            return types[last..at].trim() == "String";
        }
    }
    false
}
