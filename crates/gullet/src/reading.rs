//! What reading commands read: the stores of the definition, or one that is named, each with its logbook.

use std::path::Path;

use gullet_logbook::logbook::{FindError, Logbook, Logged, RunSpec, Which};
use gullet_model::definition::Loaded;
use gullet_store::Store;
use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::args::{Global, ReadingArgs};
use crate::error::{CommandError, locked};
use crate::exit::Exit;
use crate::open::{identities, sound, sound_definition, state, store_at};
use crate::outside::RealWorld;
use crate::ui::Ui;

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
        let name = args.store.as_deref().and_then(Path::to_str).filter(|name| !name.contains('/'));
        // A name is one of the definition, where there is a definition that has it; a folder here may be called so, too.
        let named =
            name.filter(|name| sound(global).is_ok_and(|sound| sound.loaded.definition.store.contains_key(*name)));
        if let Some(folder) = args.store.as_ref().filter(|_| named.is_none()) {
            let store = store_at(folder)?.with_identities(identities);
            let book = Logbook::read(&store, app, None)?;
            return Ok(Self { stores: vec![(store, book)], loaded: None }.told(ui));
        }
        let loaded = sound_definition(ui, global, &[])?;
        let state = state(&loaded).ok();
        if let Some(state) = &state {
            crate::forgotten::settle(ui, &loaded, state, &RealWorld::new());
        }
        let mut stores = Vec::new();
        for (name, spec) in loaded.definition.store.iter().filter(|(name, _)| named.is_none_or(|named| named == *name))
        {
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

    /// Says which documents cannot be read, and which runs are encrypted to others.
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
            ui.warning(&format!("{}: {why}", crate::text::count(locked, "encrypted run")));
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
        let is_own = |logged: &&Logged| own.is_empty() || own.contains(&logged.record.machine.as_str());
        self.runs().into_iter().filter(is_own).collect()
    }

    /// Whether a run is known to be of the machine that reads.
    pub fn is_own(&self, logged: &Logged) -> bool {
        self.stores.iter().any(|(_, book)| book.machine.as_ref() == Some(&logged.record.machine))
    }
}

/// Refuses a run that nothing at hand opens.
pub fn must_open(store: &Store, logged: &Logged) -> Result<(), CommandError> {
    let is_closed = logged.is_locked || (!logged.keys.is_empty() && store.identities().is_empty());
    if is_closed { Err(locked(logged)) } else { Ok(()) }
}
