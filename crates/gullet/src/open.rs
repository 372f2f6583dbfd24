//! Opening what a command works on: definition, state, stores, logbook.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use gullet_core::definition::{self, Loaded, StoreSpec};
use gullet_core::logbook::{FindError, Logbook, Logged, RunSpec, Which};
use gullet_core::preflight::check_mounted;
use gullet_core::state::State;
use gullet_store::{Folder, Identities, Store};
use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::cli::Global;
use crate::commands::{OpeningArgs, ReadingArgs};
use crate::error::{CommandError, locked};
use crate::exit::Exit;
use crate::outside::{Outside, SystemRandom};
use crate::ui::Ui;

/// Where a definition is looked for, after the option and the variable.
const PLACES: [&str; 2] = ["gullet.toml", "/etc/gullet/gullet.toml"];
/// The state folder of a definition that names none.
const STATE: &str = "/var/lib/gullet";

/// Loads the definition.
pub fn definition(global: &Global) -> Result<Loaded, CommandError> {
    let path = match &global.definition {
        Some(path) => path.clone(),
        None => {
            let found = PLACES.iter().map(PathBuf::from).find(|path| path.is_file());
            found.ok_or_else(|| {
                CommandError::text(Exit::Definition, "there is no definition")
                    .hint(format!("looked for {} and {}; or say `--definition FILE`", PLACES[0], PLACES[1]))
                    .hint("`gullet tour` shows the whole job on a built-in application")
            })?
        }
    };
    let loaded = definition::load(&path)?;
    if rustix::process::geteuid().is_root() {
        for file in &loaded.files {
            if let Some(why) = gullet_core::permissions::changeable_by_others(file) {
                let text = format!("`{}` says what root runs, and others could change it: {why}", file.display());
                let error = CommandError::text(Exit::Definition, text);
                return Err(error.hint("let only root write to it and to the folders above it"));
            }
        }
    }
    Ok(loaded)
}

/// The state folder of a definition.
pub fn state_folder(loaded: &Loaded) -> PathBuf {
    loaded.definition.state.clone().unwrap_or_else(|| PathBuf::from(STATE))
}

/// Opens the state folder of a definition.
pub fn state(loaded: &Loaded) -> Result<State, CommandError> {
    Ok(State::open(&state_folder(loaded), &SystemRandom)?)
}

/// Reads files of identities; a passphrase is taken from a file, or asked for at the terminal.
pub fn identities(args: &OpeningArgs) -> Result<Identities, CommandError> {
    let mut all = Identities::default();
    for path in &args.identity {
        let shown = path.display();
        let fail = |error: &dyn std::fmt::Display| {
            CommandError::text(Exit::Failed, format!("the identity file `{shown}` cannot be used: {error}"))
        };
        let bytes = std::fs::read(path).map_err(|error| fail(&error))?;
        let passphrase = || passphrase(&format!("passphrase of {shown}: "), args.passphrase_from.as_deref());
        all = all.and(Identities::read(&bytes, &passphrase).map_err(|error| fail(&error))?);
    }
    Ok(all)
}

/// A passphrase: the first line of a file, or what is typed at the terminal; none where there is neither.
pub fn passphrase(prompt: &str, from: Option<&Path>) -> Option<String> {
    use std::io::IsTerminal;
    match from {
        Some(path) => std::fs::read_to_string(path).ok()?.lines().next().map(str::to_owned),
        None if std::io::stdin().is_terminal() => rpassword::prompt_password(prompt).ok(),
        None => None,
    }
}

/// Opens a store by its folder.
pub fn store_at(folder: &Path) -> Result<Store, CommandError> {
    let folder = std::path::absolute(folder)?;
    Ok(Store::open(Arc::new(Folder::new(folder)))?)
}

/// Opens a store of the definition: where it must be, and the one that was there before.
pub fn store_of(spec: &StoreSpec, state: &State) -> Result<Store, CommandError> {
    must_be_mounted(spec)?;
    let store = store_at(spec.location.as_ref())?;
    state.recognise_store(&store.location().describe(), &store.info().id)?;
    Ok(store)
}

/// Refuses a store whose folder must be a mount point and is none.
pub fn must_be_mounted(spec: &StoreSpec) -> Result<(), CommandError> {
    check_mounted(spec.location.as_ref(), spec.mounted).map_err(|(text, advice)| {
        let error = CommandError::text(Exit::Refused, text);
        advice.into_iter().fold(error, CommandError::hint)
    })
}

/// Where a reading command reads: the stores of the definition, or one that is named.
pub struct Reading {
    /// The stores, each with its logbook.
    pub stores: Vec<(Store, Logbook)>,
    /// The definition, where one was used.
    pub loaded: Option<Loaded>,
}

impl Reading {
    /// Opens what the options name. With `--store` no definition is needed.
    pub fn open(global: &Global, args: &ReadingArgs, app: Option<&str>, ui: &mut Ui) -> Result<Self, CommandError> {
        let identities = identities(&args.opening)?;
        if let Some(folder) = &args.store {
            let store = store_at(folder)?.with_identities(identities);
            let book = Logbook::read(&store, app, None)?;
            return Ok(Self { stores: vec![(store, book)], loaded: None }.told(ui));
        }
        let loaded = definition(global)?;
        let state = state(&loaded).ok();
        if let Some(state) = &state {
            crate::forgotten::settle(ui, &loaded, state, &Outside::new());
        }
        let mut stores = Vec::new();
        for (name, spec) in &loaded.definition.store {
            match store_at(Path::new(&spec.location)) {
                Ok(store) => {
                    let store = store.with_identities(identities.clone());
                    let mut book = Logbook::read(&store, app, state.as_ref())?;
                    if let Some(state) = &state {
                        book = book.with_waiting(state, app);
                    }
                    stores.push((store, book));
                }
                Err(error) if loaded.definition.store.len() == 1 => return Err(error),
                Err(error) => ui.warning(&format!("the store `{name}`: {}", error.messages.join(": "))),
            }
        }
        Ok(Self { stores, loaded: Some(loaded) }.told(ui))
    }

    /// Says which documents cannot be read, and which runs are sealed for others.
    fn told(self, ui: &mut Ui) -> Self {
        let runs = || self.stores.iter().flat_map(|(_, book)| &book.runs);
        let locked = runs().filter(|logged| logged.is_locked).count() as u64;
        if locked > 0 {
            let given = self.stores.iter().any(|(store, _)| !store.identities().is_empty());
            let why = if given {
                "none of the identities given opens them"
            } else {
                "without an identity (`--identity FILE`) only what is in clear is shown of them"
            };
            ui.warning(&format!("{}: {why}", crate::text::count(locked, "sealed run")));
        }
        for (name, why) in self.stores.iter().flat_map(|(_, book)| &book.unreadable) {
            ui.warning(&format!("{name} cannot be read: {why}"));
        }
        for (name, why) in self.stores.iter().flat_map(|(_, book)| &book.missing) {
            ui.warning(&format!("{name} is missing, and {why}"));
        }
        self
    }

    /// Finds a run in any of the stores; says which one a moment leads to.
    pub fn find(&self, ui: &mut Ui, text: &str) -> Result<(&Store, &Logbook, &Logged), CommandError> {
        let spec: RunSpec = text.parse()?;
        let zone = TimeZone::system();
        let mut last: Option<FindError> = None;
        for (store, book) in &self.stores {
            match book.find(&spec, &zone, Timestamp::now()) {
                Ok(logged) => {
                    if let Which::Before(..) = spec.which {
                        let zone = zone.iana_name().unwrap_or("the system's zone");
                        let (run, began) = (&logged.record.run, crate::text::time(logged.record.started));
                        ui.tell(crate::text::harmless(&format!("{text} ({zone}) is run {run}, which began {began}")));
                    }
                    return Ok((store, book, logged));
                }
                Err(error @ (FindError::Several { .. } | FindError::Machines { .. })) => return Err(error.into()),
                Err(error) => last = last.or(Some(error)),
            }
        }
        Err(last.map_or_else(|| CommandError::text(Exit::Failed, "no store could be opened"), Into::into))
    }

    /// The same, where the name of an application may stand for its newest complete run.
    pub fn run_of(&self, ui: &mut Ui, text: &str) -> Result<(&Store, &Logbook, &Logged), CommandError> {
        let app = text.rsplit_once(':').map_or(text, |(_, app)| app);
        let is_app = self.stores.iter().any(|(_, book)| book.runs.iter().any(|logged| logged.record.app == app));
        if is_app { self.find(ui, &format!("{text}@latest")) } else { self.find(ui, text) }
    }

    /// All runs of all stores, oldest first.
    pub fn runs(&self) -> Vec<&Logged> {
        // Each book is in order already; those of several stores are put together by time.
        let mut runs: Vec<&Logged> = self.stores.iter().flat_map(|(_, book)| &book.runs).collect();
        if self.stores.len() > 1 {
            runs.sort_by_key(|logged| logged.record.started);
        }
        runs
    }
}

impl Reading {
    /// The runs of the machine that reads, oldest first; of all machines where it has no state folder.
    pub fn own_runs(&self) -> Vec<&Logged> {
        let own: Vec<&str> = self.stores.iter().filter_map(|(_, book)| book.machine.as_deref()).collect();
        let is_own = |logged: &&Logged| own.is_empty() || own.contains(&logged.record.writer.as_str());
        self.runs().into_iter().filter(is_own).collect()
    }

    /// Whether a run is known to be of the machine that reads.
    pub fn is_own(&self, logged: &Logged) -> bool {
        self.stores.iter().any(|(_, book)| book.machine.as_ref() == Some(&logged.record.writer))
    }
}

/// Refuses a run that nothing at hand opens.
pub fn must_open(store: &Store, logged: &Logged) -> Result<(), CommandError> {
    let is_closed = logged.is_locked || (!logged.keys.is_empty() && store.identities().is_empty());
    if is_closed { Err(locked(logged)) } else { Ok(()) }
}
