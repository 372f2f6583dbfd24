//! What reading commands read: the stores of the definition, or one that is named, each with its logbook.

use std::path::Path;

use gullet_host::state::State;
use gullet_logbook::logbook::{FindError, Logbook, Logged, RunLine, RunList, RunSpec, Which};
use gullet_model::definition::Loaded;
use gullet_store::Store;
use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::args::{Global, ReadingArgs};
use crate::error::{CommandError, locked};
use crate::exit::Exit;
use crate::open::{identities, sound, sound_definition, state, store_at, undefined};
use crate::outside::RealWorld;
use crate::ui::Ui;

/// Where a reading command reads: the stores of the definition, or one that is named.
pub struct Reading {
    /// The stores, each with the list of its runs.
    pub stores: Vec<(Store, RunList)>,
    /// The definition, where one was used.
    pub loaded: Option<Loaded>,
    state: Option<State>,
    /// The application that alone is read, where one was named.
    app: Option<String>,
}

impl Reading {
    /// Opens what the options name. With `--store` no definition is needed.
    pub fn open(global: &Global, args: &ReadingArgs, app: Option<&str>, ui: &mut Ui) -> Result<Self, CommandError> {
        let identities = identities(&args.opening)?;
        let mut reading = Self { stores: Vec::new(), loaded: None, state: None, app: app.map(str::to_owned) };
        let name = args.store.as_deref().and_then(Path::to_str).filter(|name| !name.contains('/'));
        // A name is one of the definition, where there is a definition that has it; a folder here may be called so, too.
        let named = name.filter(|name| sound(global).is_ok_and(|loaded| loaded.definition.store.contains_key(*name)));
        if let Some(folder) = args.store.as_ref().filter(|_| named.is_none()) {
            reading.add(store_at(&undefined(folder)?)?.with_identities(identities))?;
            return Ok(reading.told(ui));
        }
        let loaded = sound_definition(ui, global, &[])?;
        // A copy is only read; what is known of it stands in the first store.
        if let Some(copy) = named.filter(|name| loaded.definition.copied_from(name).is_some()) {
            reading.add(store_at(&loaded.definition.store[copy])?.with_identities(identities))?;
            return Ok(reading.told(ui));
        }
        reading.state = state(&loaded).ok();
        if let Some(state) = &reading.state {
            crate::forgotten::settle(ui, &loaded, state, &RealWorld::new());
        }
        for (name, spec) in
            loaded.definition.first_stores().filter(|(name, _)| named.is_none_or(|named| named == *name))
        {
            match store_at(spec) {
                Ok(store) => reading.add(store.with_identities(identities.clone()))?,
                Err(error) if loaded.definition.first_stores().count() == 1 => return Err(error),
                Err(error) => ui.warning(&format!("the store `{name}`: {}", error.messages.join(": "))),
            }
        }
        reading.loaded = Some(loaded);
        Ok(reading.told(ui))
    }

    fn add(&mut self, store: Store) -> Result<(), CommandError> {
        let list = RunList::read(&store, self.app.as_deref(), self.state.as_ref())?;
        self.stores.push((store, list));
        Ok(())
    }

    /// Says which documents cannot be read, and which runs are encrypted to others.
    fn told(self, ui: &mut Ui) -> Self {
        let locked: u64 = self.stores.iter().map(|(_, list)| list.locked).sum();
        if locked > 0 {
            let given = self.stores.iter().any(|(store, _)| !store.identities().is_empty());
            let why = if given {
                "none of the identities given opens them"
            } else {
                "without an identity (`--identity FILE`) only what is in clear is shown of them"
            };
            ui.warning(&format!("{}: {why}", crate::text::count(locked, "encrypted run")));
        }
        for (name, why) in self.stores.iter().flat_map(|(_, list)| &list.unreadable) {
            ui.warning(&format!("{name} cannot be read: {why}"));
        }
        for (name, why) in self.stores.iter().flat_map(|(_, list)| &list.missing) {
            ui.warning(&format!("{name} is missing, and {why}"));
        }
        self
    }

    /// Each store with all of its records, for what has to look at every run as a whole. What was read before and cannot be read now
    /// is said.
    pub fn books(&self, ui: &mut Ui) -> Result<Vec<(&Store, Logbook)>, CommandError> {
        let mut books = Vec::new();
        for (store, list) in &self.stores {
            let mut book = Logbook::read(store, self.app.as_deref(), self.state.as_ref())?;
            if let Some(state) = &self.state {
                book = book.with_waiting(state, self.app.as_deref());
            }
            for (name, why) in book.unreadable.iter().filter(|damaged| !list.unreadable.contains(damaged)) {
                ui.warning(&format!("{name} cannot be read: {why}"));
            }
            books.push((store, book));
        }
        Ok(books)
    }

    /// Finds a run in any of the stores, and reads it; says which one a moment leads to.
    pub fn find(&self, ui: &mut Ui, text: &str) -> Result<(&Store, Logged), CommandError> {
        let spec: RunSpec = text.parse()?;
        let zone = TimeZone::system();
        let mut last: Option<FindError> = None;
        for (store, list) in &self.stores {
            match list.find(&spec, &zone, Timestamp::now()) {
                Ok(line) => {
                    if let Which::Before(..) = spec.which {
                        let zone = zone.iana_name().unwrap_or("the system's zone");
                        let (run, began) = (&line.run, crate::text::time(line.started));
                        ui.tell(crate::text::harmless(&format!("{text} ({zone}) is run {run}, which began {began}")));
                    }
                    return Ok((store, Logbook::read_run(store, line, self.state.as_ref())?));
                }
                Err(error @ (FindError::Several { .. } | FindError::Machines { .. })) => return Err(error.into()),
                Err(error) => last = last.or(Some(error)),
            }
        }
        Err(last.map_or_else(|| CommandError::text(Exit::Failed, "no store could be opened"), Into::into))
    }

    /// The same, where the name of an application may stand for its newest complete run.
    pub fn run_of(&self, ui: &mut Ui, text: &str) -> Result<(&Store, Logged), CommandError> {
        let app = text.rsplit_once(':').map_or(text, |(_, app)| app);
        let is_app = self.lines().any(|line| line.app == app);
        if is_app { self.find(ui, &format!("{text}@latest")) } else { self.find(ui, text) }
    }

    fn lines(&self) -> impl Iterator<Item = &RunLine> {
        self.stores.iter().flat_map(|(_, list)| &list.runs)
    }

    /// All runs of all stores, oldest first.
    pub fn runs(&self) -> Vec<&RunLine> {
        // Each list is in order already; those of several stores are put together by time.
        let mut runs: Vec<&RunLine> = self.lines().collect();
        if self.stores.len() > 1 {
            runs.sort_by_key(|line| line.started);
        }
        runs
    }

    /// The runs of the machine that reads, oldest first; of all machines where it has no state folder.
    pub fn own_runs(&self) -> Vec<&RunLine> {
        let own: Vec<&str> = self.stores.iter().filter_map(|(_, list)| list.machine.as_deref()).collect();
        let is_own = |line: &&RunLine| own.is_empty() || own.contains(&line.machine.as_str());
        self.runs().into_iter().filter(is_own).collect()
    }

    /// Whether a run is known to be of the machine that reads.
    pub fn is_own(&self, logged: &Logged) -> bool {
        self.stores.iter().any(|(_, list)| list.machine.as_ref() == Some(&logged.record.machine))
    }
}

/// Refuses a run that nothing at hand opens.
pub fn must_open(store: &Store, logged: &Logged) -> Result<(), CommandError> {
    let is_closed = logged.is_locked || (!logged.keys.is_empty() && store.identities().is_empty());
    if is_closed { Err(locked(logged)) } else { Ok(()) }
}
