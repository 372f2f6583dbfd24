//! Looking at the disk: sources that are missing, named twice, or inside the store's own place.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use super::flaw::{Flaw, Flaws};
use super::load::Loaded;
use super::part::{Part, PartKind};

/// Looks whether the sources of required parts are there.
///
/// # Errors
/// With every one that is not.
pub fn check_required_sources(loaded: &Loaded, app: &str) -> Result<(), Flaws> {
    let mut flaws: Vec<Flaw> = Vec::new();
    let parts = loaded.definition.app.get(app).map(|spec| spec.part.iter().enumerate());
    for (number, part) in parts.into_iter().flatten().filter(|(_, part)| part.required) {
        for (key, path) in looked_at(part).into_iter().filter(|(_, path)| fs::metadata(path).is_err()) {
            let message = format!("`{}` is not there, and the part `{}` is required", path.display(), part.name);
            flaws.push(loaded.places.flaw(&format!("app/{app}/part/{number}/{key}"), message, None));
        }
    }
    if flaws.is_empty() { Ok(()) } else { Err(Flaws(flaws)) }
}

/// The paths that a part reads, with their keys. What an export writes need not be there yet.
fn looked_at(part: &Part) -> Vec<(String, PathBuf)> {
    let Ok(source) = part.source() else { return Vec::new() };
    let paths = if source.kind() == PartKind::Export { Vec::new() } else { source.keyed_paths() };
    paths.into_iter().map(|(key, path)| (key.to_string(), path.to_path_buf())).collect()
}

/// Checks the sources of one application, as far as they are there, against each other and the place of its store.
///
/// # Errors
/// With every flaw: a source under two names, a source inside the store or the state folder.
pub fn check_sources(loaded: &Loaded, app: &str, store: &Path, state: &Path) -> Result<(), Flaws> {
    let mut flaws: Vec<Flaw> = Vec::new();
    let Some(spec) = loaded.definition.app.get(app) else { return Ok(()) };
    let mut seen: BTreeMap<(u64, u64), (String, PathBuf)> = BTreeMap::new();
    let kept = [("store", resolved(store)), ("state folder", resolved(state))];
    for (number, part) in spec.part.iter().enumerate() {
        for (key, path) in looked_at(part) {
            let at = format!("app/{app}/part/{number}/{key}");
            let Ok(meta) = fs::metadata(&path) else { continue };
            let real = resolved(&path);
            for (what, place) in &kept {
                if real.starts_with(place) {
                    let message = format!("`{}` lies in the {what} itself (`{}`)", path.display(), place.display());
                    flaws.push(loaded.places.flaw(&at, message, None));
                }
            }
            let identity = (meta.dev(), meta.ino());
            if let Some((other, first)) = seen.get(&identity) {
                let message = if *first == path {
                    format!("`{}` is captured by the part `{other}` already", path.display())
                } else {
                    format!(
                        "`{}` is the same as `{}` of the part `{other}`, under another name",
                        path.display(),
                        first.display()
                    )
                };
                flaws.push(loaded.places.flaw(&at, message, None));
            } else {
                seen.insert(identity, (part.name.clone(), path.clone()));
            }
        }
    }
    if flaws.is_empty() { Ok(()) } else { Err(Flaws(flaws)) }
}

/// The path without links, as far as it exists.
fn resolved(path: &Path) -> PathBuf {
    match (fs::canonicalize(path), path.parent(), path.file_name()) {
        (Ok(real), _, _) => real,
        (Err(_), Some(parent), Some(name)) => resolved(parent).join(name),
        _ => path.to_path_buf(),
    }
}
