//! `gullet new`.

mod running;

use std::fs::OpenOptions;
use std::io::{ErrorKind, Write};
use std::path::{Path, PathBuf};

use clap::Args;
use gullet_host::running::running_services;
use gullet_model::definition::check_name;

use crate::error::CommandError;
use crate::exit::Exit;
use crate::recipes::{RECIPES, Recipe};
use crate::text::count;
use crate::ui::{BOLD, Ui, styled};

/// Write a commented starter definition
///
/// It goes to APP.toml in the current folder, or where --out says; nothing is overwritten. A recipe is a starter for a real
/// service: what it captures, what its export lacks, what to do after a restore. `gullet new --recipes` lists them.
///
/// Example: gullet new ledger --recipe postgres
#[derive(Args)]
pub struct NewArgs {
    /// The application's name
    #[arg(required_unless_present = "recipes")]
    app: Option<String>,
    /// The recipe to begin with
    #[arg(long, value_name = "NAME")]
    recipe: Option<String>,
    /// Look at what runs on this machine (PostgreSQL, MariaDB, Redis, OpenLDAP, SQLite files, web and mail servers), without touching
    /// it, and propose parts; what it does not know is marked CHANGE
    #[arg(long, conflicts_with = "recipe")]
    from_running: bool,
    /// List the recipes
    #[arg(long, conflicts_with_all = ["app", "recipe", "out", "from_running"])]
    recipes: bool,
    /// Write to this file; `-` is standard output
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
}

pub fn new(ui: &mut Ui, args: &NewArgs) -> Result<Exit, CommandError> {
    let Some(app) = &args.app else { return list(ui) };
    check_name("an application", app).map_err(|why| CommandError::text(Exit::Usage, why))?;
    let name = args.recipe.as_deref().unwrap_or("files");
    let Some(recipe) = RECIPES.iter().find(|recipe| recipe.name == name) else {
        let known: Vec<&str> = RECIPES.iter().map(|recipe| recipe.name).collect();
        let text = format!("there is no recipe `{name}`; there are {}", known.join(", "));
        return Err(CommandError::text(Exit::Usage, text));
    };
    let found = if args.from_running { running_services(Path::new("/proc")) } else { Vec::new() };
    if args.from_running && found.is_empty() {
        let error = CommandError::text(Exit::Failed, "nothing is running here that is known to keep state");
        return Err(error.hint("as root more can be seen; `gullet new --recipes` lists starters"));
    }
    let text =
        if args.from_running { running::definition(app, &found, &|folder| folder.is_dir()) } else { recipe.text(app) };
    let out = args.out.clone().unwrap_or_else(|| PathBuf::from(format!("{app}.toml")));
    if out.as_os_str() == "-" {
        ui.say(text.trim_end());
        return Ok(Exit::Complete);
    }
    let written = OpenOptions::new().write(true).create_new(true).open(&out);
    let written = written.and_then(|mut file| file.write_all(text.as_bytes()));
    if let Err(error) = written {
        let text = match error.kind() {
            ErrorKind::AlreadyExists => format!("`{}` is there already and is not overwritten", out.display()),
            _ => format!("`{}` cannot be written: {error}", out.display()),
        };
        return Err(CommandError::text(Exit::Failed, text));
    }
    let out = out.display();
    let recipe_name = (!args.from_running).then_some(recipe.name);
    if ui.is_json() {
        ui.json(
            &serde_json::json!({ "app": app, "recipe": recipe_name, "found": found.len(), "file": out.to_string() }),
        )?;
        return Ok(Exit::Complete);
    }
    ui.say(match recipe_name {
        Some(name) => format!("written: {out} (recipe {name}: {})", recipe.about),
        None => format!("written: {out} ({} found running here)", count(found.len() as u64, "thing")),
    });
    ui.say(format!(
        "1  read it, and change what is marked CHANGE\n2  {}",
        styled(BOLD, format!("gullet --definition {out} store new depot"))
    ));
    ui.say(format!("3  {}", styled(BOLD, format!("gullet --definition {out} preflight {app}"))));
    ui.say(format!("4  {}", styled(BOLD, format!("gullet --definition {out} run {app} --reason \"first try\""))));
    Ok(Exit::Complete)
}

fn list(ui: &mut Ui) -> Result<Exit, CommandError> {
    if ui.is_json() {
        let all = RECIPES.iter().map(|Recipe { name, about, .. }| serde_json::json!({ "name": name, "about": about }));
        ui.json(&all.collect::<Vec<_>>())?;
        return Ok(Exit::Complete);
    }
    let widest = RECIPES.iter().map(|recipe| recipe.name.len()).max().unwrap_or(0);
    for recipe in RECIPES {
        ui.say(format!("{}  {}", styled(BOLD, format!("{:widest$}", recipe.name)), recipe.about));
    }
    Ok(Exit::Complete)
}
