//! Telling that a definition is wrong: `due` is called by nobody who reads what it prints.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;

use gullet_core::notify::{Content, DefinitionFlaws, id_at, put, told_of};
use gullet_host::state::{State, write_whole};
use gullet_model::definition::{Definition, Flaw, Loaded, NotifyOn, NotifySpec, load_state_alone};
use gullet_store::Hash;
use serde::{Deserialize, Serialize};

use crate::commands::notify::send_after_work;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::ui::Ui;

/// What is remembered of a definition, for when it cannot be read.
#[derive(Default, PartialEq, Serialize, Deserialize)]
struct Remembered {
    /// How people are told.
    notify: BTreeMap<String, NotifySpec>,
    /// Who is told that a definition is wrong.
    to: BTreeSet<String>,
    /// The errors that were told, so that each is told once.
    told: BTreeSet<String>,
}

fn remembered(state: &State) -> Remembered {
    let bytes = fs::read(state.folder().join("notify").join("definition.json")).unwrap_or_default();
    serde_json::from_slice(&bytes).unwrap_or_default()
}

fn remember(state: &State, what: &Remembered) -> Result<(), CommandError> {
    let path = state.place(&["notify"])?.join("definition.json");
    let written = write_whole(&path, &serde_json::to_vec(what)?);
    written.map_err(|error| CommandError::new(Exit::Failed, &error))
}

/// Tells what is wrong with applications and included files, once, and remembers who is to be told of what comes.
pub(super) fn tell(ui: &mut Ui, loaded: &Loaded, state: &State, outside: &RealWorld) -> Result<(), CommandError> {
    let before = remembered(state);
    let mut now = Remembered {
        notify: loaded.definition.notify.clone(),
        to: told_of(&loaded.definition, None, NotifyOn::Definition).into_iter().map(str::to_owned).collect(),
        told: BTreeSet::new(),
    };
    if !loaded.left_out.is_empty() {
        // Those who are told of an application that cannot be read now are known from before.
        now.to.extend(before.to.iter().filter(|to| now.notify.contains_key(*to)).cloned());
    }
    let mut by_app: BTreeMap<Option<&String>, Vec<&Flaw>> = BTreeMap::new();
    for flaw in &loaded.left_out {
        by_app.entry(flaw.app.as_ref()).or_default().push(flaw);
    }
    for (app, flaws) in by_app {
        let text: Vec<String> = flaws.iter().map(ToString::to_string).collect();
        match app {
            Some(app) => ui.warning(&format!("`{app}` is left out: {}", text.join("; "))),
            None => ui.warning(&format!("a file is left out: {}", text.join("; "))),
        }
        let path = flaws.first().map(|flaw| flaw.file.display().to_string()).unwrap_or_default();
        let host = outside.world().host.name.clone();
        let content = DefinitionFlaws { path, host, app: app.cloned(), is_all: false, flaws: text };
        put_once(&mut now.told, &before.told, state, &now.to, content, outside)?;
    }
    if now != before { remember(state, &now) } else { Ok(()) }
}

/// Tells that nothing runs, to those who were to be told when the definition could be read.
pub(super) fn tell_all(
    ui: &mut Ui,
    path: &Path,
    error: &CommandError,
    outside: &RealWorld,
) -> Result<(), CommandError> {
    let mut loaded = load_state_alone(path);
    let folder = open::state_folder(&loaded);
    // Where there is none, nothing ever ran, and nobody is known.
    if !folder.is_dir() {
        return Ok(());
    }
    let state = open::state(&loaded)?;
    let before = remembered(&state);
    let flaws = if error.flaws.is_empty() {
        vec![error.messages.join(": ")]
    } else {
        error.flaws.iter().map(ToString::to_string).collect()
    };
    let (path, host) = (path.display().to_string(), outside.world().host.name.clone());
    let content = DefinitionFlaws { path, host, app: None, is_all: true, flaws };
    let mut now = Remembered { notify: before.notify.clone(), to: before.to.clone(), told: BTreeSet::new() };
    put_once(&mut now.told, &before.told, &state, &before.to, content, outside)?;
    if now != before {
        remember(&state, &now)?;
    }
    loaded.definition = Definition { notify: before.notify, ..loaded.definition };
    send_after_work(ui, &loaded, &state, outside);
    Ok(())
}

/// Puts a message in that was not told before, and notes that it is told.
fn put_once(
    told: &mut BTreeSet<String>,
    before: &BTreeSet<String>,
    state: &State,
    to: &BTreeSet<String>,
    content: DefinitionFlaws,
    outside: &RealWorld,
) -> Result<(), CommandError> {
    let text = serde_json::to_vec(&content)?;
    let hash = Hash::of(&text).to_string();
    if !before.contains(&hash) {
        let now = outside.world().clock.now();
        let id = id_at(&format!("definition-{}", &hash[..8]), now);
        put(state, &id, to.iter().map(String::as_str), &Content::Definition(content), now)?;
    }
    told.insert(hash);
    Ok(())
}
