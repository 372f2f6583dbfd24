//! What a shell may complete words to: applications, runs, parts, machines, stores, keys of `explain`.
//!
//! The shell calls the program for each completion, so it only looks: nothing is made, released or asked of a network.

use std::path::{Path, PathBuf};

use clap::{Arg, Command};
use clap_complete::CompleteEnv;
use clap_complete::engine::{ArgValueCandidates, CompletionCandidate};
use gullet_host::state::State;
use gullet_logbook::logbook::{RunLine, RunList};
use gullet_model::definition::Loaded;
use gullet_model::definition::reference::tables;

use crate::args::Global;
use crate::commands::TOPICS;
use crate::open::{sound, state_folder, store_at};
use crate::outside::SystemRandom;
use crate::ui::Color;

/// So many of the newest runs are offered.
const RUNS: usize = 50;

/// Answers a shell that asks what a word could be, and ends; does nothing where none asks.
pub fn answer() {
    CompleteEnv::with_factory(|| with_candidates(crate::command())).bin("gullet").complete();
}

/// The command with what its arguments could be, by their names.
fn with_candidates(command: Command) -> Command {
    let name = command.get_name().to_owned();
    let command = command.mut_args(|arg| offered(&name, arg));
    command.mut_subcommands(with_candidates)
}

fn offered(command: &str, arg: Arg) -> Arg {
    let candidates = match (command, arg.get_id().as_str()) {
        ("new", _) => return arg,
        ("explain", "name") => ArgValueCandidates::new(keys),
        (_, "app" | "apps") => ArgValueCandidates::new(apps),
        (_, "run" | "runs") => ArgValueCandidates::new(runs),
        (_, "part" | "parts") => ArgValueCandidates::new(parts),
        (_, "machine") => ArgValueCandidates::new(machines),
        (_, "store" | "to") => ArgValueCandidates::new(stores),
        (_, "group") => ArgValueCandidates::new(groups),
        _ => return arg,
    };
    arg.add(candidates)
}

/// The definition that a command would read, as far as it can be read.
fn definition() -> Option<Loaded> {
    // The option stands somewhere on the line that is completed.
    let words: Vec<String> = std::env::args().collect();
    let said = words.iter().position(|word| word == "--definition").and_then(|at| words.get(at + 1)).map(PathBuf::from);
    let said = said.or_else(|| std::env::var_os("GULLET_DEFINITION").map(PathBuf::from));
    let global = Global { definition: said, quiet: true, color: Color::Never, json: false };
    sound(&global).ok()
}

fn candidates(words: impl IntoIterator<Item = String>) -> Vec<CompletionCandidate> {
    words.into_iter().map(CompletionCandidate::new).collect()
}

fn apps() -> Vec<CompletionCandidate> {
    let Some(loaded) = definition() else { return Vec::new() };
    let with_title = |(name, app): (&String, &gullet_model::definition::App)| {
        CompletionCandidate::new(name.clone()).help(app.title.clone().map(Into::into))
    };
    loaded.definition.app.iter().map(with_title).collect()
}

fn groups() -> Vec<CompletionCandidate> {
    candidates(definition().into_iter().flat_map(|loaded| loaded.definition.group.into_keys()))
}

fn stores() -> Vec<CompletionCandidate> {
    candidates(definition().into_iter().flat_map(|loaded| loaded.definition.store.into_keys()))
}

fn parts() -> Vec<CompletionCandidate> {
    let Some(loaded) = definition() else { return Vec::new() };
    let mut names: Vec<String> =
        loaded.definition.app.values().flat_map(|app| &app.part).map(|part| part.name.clone()).collect();
    names.sort();
    names.dedup();
    candidates(names)
}

/// The runs of the stores on this machine's disks, oldest first.
fn lines() -> Vec<RunLine> {
    let Some(loaded) = definition() else { return Vec::new() };
    let folder = state_folder(&loaded);
    // Opening a state folder would make one.
    let state = folder.is_dir().then(|| State::open(&folder, &SystemRandom).ok()).flatten();
    let near = loaded.definition.first_stores().filter(|(_, spec)| Path::new(&spec.location).is_absolute());
    let opened = near.filter_map(|(_, spec)| store_at(spec).ok());
    let lists = opened.filter_map(|store| RunList::read(&store, None, state.as_ref()).ok());
    lists.flat_map(|list| list.runs).collect()
}

fn runs() -> Vec<CompletionCandidate> {
    let lines = lines();
    let newest = lines.iter().rev().take(RUNS).map(|line| {
        let about = format!("{}, {}, {}", line.app, crate::text::minute(line.started), line.outcome.words());
        CompletionCandidate::new(line.run.to_string()).help(Some(about.into()))
    });
    let latest = definition().into_iter().flat_map(|loaded| loaded.definition.app.into_keys());
    latest.map(|app| CompletionCandidate::new(format!("{app}@latest"))).chain(newest).collect()
}

fn machines() -> Vec<CompletionCandidate> {
    let mut hosts: Vec<String> = lines().into_iter().map(|line| line.host).filter(|host| !host.is_empty()).collect();
    hosts.sort();
    hosts.dedup();
    candidates(hosts)
}

fn keys() -> Vec<CompletionCandidate> {
    let mut names = Vec::new();
    for table in tables() {
        let place = table.places.first().cloned().unwrap_or_default().replace(".NAME", "");
        let keys = table
            .keys
            .iter()
            .map(|key| if place.is_empty() { key.name.clone() } else { format!("{place}.{}", key.name) });
        names.extend(keys);
        names.push(place.clone());
    }
    names.extend(TOPICS.iter().map(|(name, ..)| (*name).to_owned()));
    names.retain(|name| !name.is_empty());
    names.sort();
    names.dedup();
    candidates(names)
}
