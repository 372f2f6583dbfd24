//! Reading definition files: parse, check, take in what they include, join.

use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use gullet_store::{IoPath, PathError};
use serde::Deserialize;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::check::Checker;
use super::expand;
use super::flaw::{Flaw, Flaws, Places, Source, key_path};
use super::part::Part;
use super::rules;
use super::types::{App, Definition};
use crate::reason::{Reason, ReasonAbout};

/// A definition, as far as it passed every check which needs no disk.
#[derive(Clone, Debug)]
pub struct Loaded {
    /// The definition, with what it includes.
    pub definition: Definition,
    /// The file that was asked for; absolute.
    pub path: PathBuf,
    /// Every file that was read.
    pub files: Vec<PathBuf>,
    /// What is wrong with what was left out: with applications, or with included files that cannot be read as a whole.
    pub left_out: Vec<Flaw>,
    pub(crate) places: Places,
}

/// A definition could not be loaded.
#[derive(Debug, thiserror::Error)]
pub enum LoadError {
    /// A file could not be read.
    #[error("the definition cannot be read")]
    Read(#[source] PathError),
    /// Something in it is wrong.
    #[error(transparent)]
    Flaws(#[from] Flaws),
}

/// Loads a definition and everything that it includes. `host` is the name of this machine.
///
/// # Errors
/// When a file cannot be read, or with all flaws of all files at once.
pub fn load(path: &Path, host: &str) -> Result<Loaded, LoadError> {
    let loaded = load_sound(path, host)?;
    if loaded.left_out.is_empty() { Ok(loaded) } else { Err(Flaws(loaded.left_out).into()) }
}

/// Loads what can be used of a definition: an application with a flaw, and an included file that cannot be read, are left out.
///
/// # Errors
/// When the file itself cannot be read, something is wrong that is of no one application, or no application is left.
pub fn load_sound(path: &Path, host: &str) -> Result<Loaded, LoadError> {
    let path = fs::canonicalize(path).at(path).map_err(LoadError::Read)?;
    let mut places = Places::default();
    let (mut flaws, mut of_files) = (Vec::new(), Vec::new());
    let mut files = vec![path.clone()];
    let mut definition = read_file(&path, host, &mut places, &mut flaws)?.unwrap_or_default();
    for (number, pattern) in definition.include.clone().iter().enumerate() {
        let at = key_path(&[&"include", &number]);
        match matching(&path, pattern) {
            Ok(found) if found.is_empty() => {
                flaws.push(places.flaw(&at, format!("`{pattern}` matches no file"), None));
            }
            Ok(found) => {
                for file in found.into_iter().filter(|file| *file != path) {
                    let mut of_file = Places::default();
                    if let Some(included) = read_file(&file, host, &mut of_file, &mut of_files)? {
                        join(&mut definition, included, &of_file, &mut flaws);
                    }
                    places.join(of_file);
                    files.push(file);
                }
            }
            Err(message) => flaws.push(places.flaw(&at, message, None)),
        }
    }
    definition.app.values_mut().flat_map(|app| &mut app.part).for_each(Part::write_paths_plainly);
    let mut left_out = of_files;
    let broken = broken_apps(flaws.iter().chain(&left_out));
    // What names an application that is left out would be wrong for that alone.
    leave_out(&mut definition, &broken);
    loop {
        rules::check(&definition, &places, &mut flaws);
        let broken = broken_apps(&flaws);
        let is_of_all = flaws.iter().any(|flaw| flaw.app.is_none());
        left_out.append(&mut flaws);
        if is_of_all {
            return Err(Flaws(in_order(left_out)).into());
        }
        if !leave_out(&mut definition, &broken) {
            break;
        }
    }
    if definition.app.is_empty() && !left_out.is_empty() {
        return Err(Flaws(in_order(left_out)).into());
    }
    definition.app.values_mut().for_each(App::fill_like_hold);
    Ok(Loaded { definition, path, files, left_out: in_order(left_out), places })
}

fn broken_apps<'f>(flaws: impl IntoIterator<Item = &'f Flaw>) -> BTreeSet<String> {
    flaws.into_iter().filter_map(|flaw| flaw.app.clone()).collect()
}

/// Leaves applications out, with the groups that they belong to. Whether any of them was there.
fn leave_out(definition: &mut Definition, apps: &BTreeSet<String>) -> bool {
    let before = definition.app.len();
    definition.app.retain(|app, _| !apps.contains(app));
    definition.group.retain(|_, group| !group.apps.iter().any(|app| apps.contains(app)));
    definition.app.len() < before
}

fn in_order(mut flaws: Vec<Flaw>) -> Vec<Flaw> {
    flaws.sort_by(|a, b| (&a.file, a.line, a.column).cmp(&(&b.file, b.line, b.column)));
    flaws.dedup();
    flaws
}

/// A definition of which nothing can be used but where its state folder is, as far as that can be read: enough to release what is
/// held.
pub fn load_state_alone(path: &Path) -> Loaded {
    let text = fs::read(path).map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).unwrap_or_default();
    let (table, _) = DeTable::parse_recoverable(&text);
    let state = table.get_ref().get("state").and_then(|value| value.get_ref().as_str().map(PathBuf::from));
    let definition = Definition { state, ..Definition::default() };
    let (path, left_out) = (path.to_path_buf(), Vec::new());
    Loaded { definition, files: vec![path.clone()], path, left_out, places: Places::default() }
}

fn read_file(
    path: &Path,
    host: &str,
    places: &mut Places,
    flaws: &mut Vec<Flaw>,
) -> Result<Option<Definition>, LoadError> {
    let bytes = fs::read(path).at(path).map_err(LoadError::Read)?;
    let (text, not_text) = match String::from_utf8(bytes) {
        Ok(text) => (text, None),
        Err(error) => {
            let at = error.utf8_error().valid_up_to();
            (String::from_utf8_lossy(error.as_bytes()).into_owned(), Some(at))
        }
    };
    let source = Arc::new(Source { path: path.to_path_buf(), text });
    let number = places.add_source(Arc::clone(&source));
    if let Some(at) = not_text {
        let message = "the file is not UTF-8 text".to_owned();
        flaws.push(Flaw::at(&source, at..at + 1, message, None));
        return Ok(None);
    }
    let (mut table, errors) = DeTable::parse_recoverable(&source.text);
    if !errors.is_empty() {
        flaws.extend(syntax_flaws(errors, &source));
        return Ok(None);
    }
    let found = expand::expand(table.get_mut(), &source, host);
    let mut checker = Checker { source: &source, source_number: number, places, flaws: found, app: None };
    checker.file(table.get_ref(), table.span());
    let broken = broken_apps(&checker.flaws);
    let is_of_all = checker.flaws.iter().any(|flaw| flaw.app.is_none());
    flaws.append(&mut checker.flaws);
    if is_of_all {
        return Ok(None);
    }
    expand::take_lists(table.get_mut());
    if let Some(DeValue::Table(apps)) = table.get_mut().get_mut("app").map(Spanned::get_mut) {
        for app in &broken {
            apps.remove(app.as_str());
        }
    }
    match Definition::deserialize(toml::de::Deserializer::from(table)) {
        Ok(definition) => Ok(Some(definition)),
        Err(error) => {
            flaws.push(Flaw::at(&source, error.span().unwrap_or(0..0), error.message().to_owned(), None));
            Ok(None)
        }
    }
}

/// So many errors of syntax are taken for so many slips; more come of one, such as a bracket that is not closed, which makes errors
/// of all lines after it.
const SLIPS: usize = 3;

fn syntax_flaws(mut errors: Vec<toml::de::Error>, source: &Source) -> Vec<Flaw> {
    errors.sort_by_key(|error| error.span().map_or(0, |span| span.start));
    let mut hint = None;
    if errors.len() > SLIPS {
        errors.truncate(1);
        hint = Some("what follows it could not be read either".to_owned());
    }
    let flaws = errors.into_iter().map(|error| {
        let message = error.message().lines().next().unwrap_or("this is not TOML").to_owned();
        Flaw::at(source, error.span().unwrap_or(0..0), message, hint.clone())
    });
    flaws.collect()
}

/// The files that an include pattern names, sorted; a plain name must exist.
fn matching(from: &Path, pattern: &str) -> Result<Vec<PathBuf>, Reason> {
    let folder = from.parent().unwrap_or(Path::new("/"));
    let full = folder.join(pattern);
    let (Some(parent), Some(name)) = (full.parent(), full.file_name().and_then(|name| name.to_str())) else {
        return Err(Reason::new(format!("`{pattern}` does not name a file")));
    };
    let glob = globset::Glob::new(name)?.compile_matcher();
    let entries = fs::read_dir(parent).about(format_args!("cannot read `{}`", parent.display()))?;
    let mut found: Vec<PathBuf> = entries
        .filter_map(|entry| entry.ok().map(|entry| entry.path()))
        .filter(|path| path.is_file() && path.file_name().is_some_and(|name| glob.is_match(name)))
        .collect();
    found.sort();
    Ok(found)
}

/// Adds an included file's stores, applications, groups and those to tell. What belongs to the machine, the state folder and stores, may stand in
/// several files if all say the same.
fn join(into: &mut Definition, from: Definition, places: &Places, flaws: &mut Vec<Flaw>) {
    // Whatever is added to a definition must be joined, or refused here: the pattern names every key.
    let Definition { include, state, mut store, app, group, status, limits, notify, report } = from;
    let mut flaw = |at: &str, message: String| flaws.push(places.flaw(at, message, None));
    fn take<T>(into: &mut BTreeMap<String, T>, from: BTreeMap<String, T>, mut twice: impl FnMut(&str)) {
        for (name, value) in from {
            match into.entry(name) {
                Entry::Occupied(there) => twice(there.key()),
                Entry::Vacant(free) => {
                    free.insert(value);
                }
            }
        }
    }
    let mut twice = |what: &str, name: &str| {
        flaw(&key_path(&[&what, &name]), format!("`{what}.{name}` is defined in another file already"));
    };
    store.retain(|name, spec| into.store.get(name) != Some(spec));
    take(&mut into.store, store, |name| twice("store", name));
    take(&mut into.app, app, |name| twice("app", name));
    take(&mut into.group, group, |name| twice("group", name));
    take(&mut into.notify, notify, |name| twice("notify", name));
    match (&into.state, state) {
        (Some(known), Some(other)) if *known != other => {
            flaw("state", format!("`state` is `{}` in another file already", known.display()));
        }
        (None, Some(state)) => into.state = Some(state),
        _ => {}
    }
    for (key, is_there) in [
        ("include", !include.is_empty()),
        ("status", status.is_some()),
        ("limits", limits.is_some()),
        ("report", !report.is_empty()),
    ] {
        if is_there {
            flaw(
                key,
                "an included file holds stores, applications, groups and `notify`, no `status`, `limits`, `report` and `include`"
                    .to_owned(),
            );
        }
    }
}
