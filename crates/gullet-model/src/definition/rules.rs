//! What must hold between the keys of a definition, beyond their form.

mod command;
mod notify;
mod part;
mod schedule;
mod store;

use std::collections::{BTreeMap, BTreeSet};

use super::back::RestoreSpec;
use super::check::nearest;
use super::flaw::{Flaw, Places, key_path};
use super::part::{Nature, PartKind};
use super::types::{App, CaptureMethod, CommandSpec, Definition, HoldStep, OneOrMany, Require};
use crate::reason::Reason;

/// What a restore in place may ask agreement for besides facts, by name.
const DIFFERENCES: [&str; 8] = ["host", "alive", "system", "engine", "accounts", "paths", "running", "boot"];

/// Checks the joined definition.
pub(super) fn check(definition: &Definition, places: &Places, flaws: &mut Vec<Flaw>) {
    let mut rules = Rules { places, flaws };
    for (name, store) in &definition.store {
        rules.name(&key_path(&[&"store", name]), "a store", name);
        rules.place(name, store);
        rules.copies(definition, name, store);
        if let Some(verify) = &store.verify {
            rules.calendar(&key_path(&[&"store", name, &"verify"]), &verify.calendar);
        }
        let at = key_path(&[&"store", name, &"encrypt_to"]);
        for key in &store.encrypt_to {
            if let Err(error) = key.parse::<gullet_store::PublicKey>() {
                let hint = Some("`gullet key new` makes a key pair and prints its public key".to_owned());
                rules.flaw(&at, error.to_string(), hint);
            }
        }
    }
    for (name, app) in &definition.app {
        rules.app(definition, name, app);
        rules.capture_method(definition, name, app);
    }
    rules.groups(definition);
    rules.notify(definition);
}

/// Whether something may be called so.
///
/// # Errors
/// In words, why not; `what` is what is to be called so.
pub fn check_name(what: &str, name: &str) -> Result<(), Reason> {
    let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' || c == '_';
    let sound = name.starts_with(|c: char| c.is_ascii_alphanumeric()) && name.chars().all(plain);
    if sound && name.len() <= 64 {
        return Ok(());
    }
    Err(Reason::new(format!("`{name}` cannot be the name of {what}: use small letters, digits, `-` and `_`")))
}

struct Rules<'a> {
    places: &'a Places,
    flaws: &'a mut Vec<Flaw>,
}

/// What the placeholders in a command may name at its place.
#[derive(Clone, Copy)]
struct Scope<'a> {
    each: bool,
    scratch: bool,
    facts_of: &'a [&'a str],
    /// A word of its own at this place.
    own: &'a str,
    /// Whether there are the folders of what was restored.
    folders: bool,
}

const NOWHERE: Scope<'static> = Scope { each: false, scratch: false, facts_of: &[], own: "", folders: false };

impl Rules<'_> {
    fn flaw(&mut self, path: &str, message: String, hint: Option<String>) {
        self.flaws.push(self.places.flaw(path, message, hint));
    }

    fn groups(&mut self, definition: &Definition) {
        let mut seen: BTreeMap<&String, &String> = BTreeMap::new();
        for (name, group) in &definition.group {
            let at = key_path(&[&"group", name]);
            self.name(&at, "a group", name);
            if group.apps.len() < 2 {
                self.flaw(&format!("{at}/apps"), "a group has two applications or more".to_owned(), None);
            }
            self.schedules_of(&at, &group.schedule, &[]);
            for (number, app) in group.apps.iter().enumerate() {
                let at = format!("{at}/apps/{number}");
                if !definition.app.contains_key(app) {
                    let hint = nearest(app, definition.app.keys().map(String::as_str));
                    let hint = hint.map(|near| format!("did you mean \"{near}\"?"));
                    self.flaw(&at, format!("there is no application `{app}`"), hint);
                }
                if let Some(other) = seen.insert(app, name) {
                    self.flaw(&at, format!("`{app}` belongs to the group `{other}` already"), None);
                }
            }
        }
    }

    fn name(&mut self, path: &str, what: &str, name: &str) {
        if let Err(message) = check_name(what, name) {
            self.flaw(path, message.to_string(), None);
        }
    }

    fn app(&mut self, definition: &Definition, name: &str, app: &App) {
        let base = key_path(&[&"app", &name]);
        self.name(&base, "an application", name);
        match &app.store {
            Some(store) if !definition.store.contains_key(store) => {
                let hint = nearest(store, definition.store.keys().map(String::as_str));
                let hint = hint.map(|near| format!("did you mean \"{near}\"?"));
                self.flaw(&format!("{base}/store"), format!("there is no store `{store}`"), hint);
            }
            Some(store) if definition.copied_from(store).is_some() => {
                let hint = definition.copied_from(store).map(|(first, _)| format!("store = \"{first}\""));
                let text = format!("`{store}` is a copy, and nothing is written to it but what its first store has");
                self.flaw(&format!("{base}/store"), text, hint);
            }
            None if definition.first_stores().count() != 1 => {
                let message = match definition.store.len() {
                    0 => "no store is defined, so there is no place to keep this application".to_owned(),
                    _ => "several stores are defined; say with `store` which one is meant".to_owned(),
                };
                let hint = Some("[store.depot]\nlocation = \"/srv/depot\"".to_owned());
                self.flaw(&base, message, hint.filter(|_| definition.store.is_empty()));
            }
            _ => {}
        }
        if app.self_consistent.is_some() {
            let is_export = |kind: &PartKind| matches!(kind.nature(), Nature::Database | Nature::Export);
            let is_one = app.part.len() == 1
                && app.part.iter().all(|part| part.kinds().iter().all(is_export) && part.each.is_none());
            if !is_one || !app.hold.is_empty() || app.no_hold.is_some() {
                let message = "`self_consistent` is for an application with one part, a native export, and no hold";
                let hint =
                    "with several parts only a hold makes them fit together; without one say `no_hold = \"why\"`";
                self.flaw(&format!("{base}/self_consistent"), message.to_owned(), Some(hint.to_owned()));
            }
        }
        if app.hold.is_empty() && app.no_hold.is_none() && app.self_consistent.is_none() {
            let hint = "describe a `[[app.NAME.hold]]` step, or say `no_hold = \"why\"`; of one native export alone \
                        `self_consistent = \"why\"`";
            let hint = Some(hint.to_owned());
            self.flaw(
                &base,
                "the application is never held: its parts would not be from one point in time".to_owned(),
                hint,
            );
        }
        if !app.hold.is_empty() && app.no_hold.is_some() {
            self.flaw(&format!("{base}/no_hold"), "there are hold steps, so `no_hold` does not apply".to_owned(), None);
        }
        if app.part.is_empty() {
            self.flaw(&base, "the application has no part, so there is nothing to capture".to_owned(), None);
        }
        for (name, fact) in &app.facts {
            let at = format!("{base}/facts/{name}");
            self.name(&at, "a fact", name);
            self.command(&at, fact, NOWHERE);
            // A restore in place asks for agreement to these by their names.
            if DIFFERENCES.contains(&name.as_str()) {
                self.flaw(&at, format!("`{name}` is the name of another difference that a restore asks for"), None);
            }
        }
        for (number, require) in app.require.iter().enumerate() {
            self.probe(&format!("{base}/require/{number}"), &require.probe, NOWHERE);
        }
        self.hold(&base, app);
        self.snapshot(&base, app);
        self.parts(&base, app);
        self.hooks(&base, app);
        self.back(&base, app);
        self.schedules(&base, app);
    }

    fn back(&mut self, base: &str, app: &App) {
        let names: Vec<&str> = app.part.iter().map(|part| part.name.as_str()).collect();
        if let Some(restore) = &app.restore {
            let at = format!("{base}/restore");
            self.like_hold(&at, app, restore);
            let commands = [("stop", &restore.stop), ("start", &restore.start)];
            for (key, command) in commands {
                if let Some(command) = command {
                    self.command(&format!("{at}/{key}"), command, NOWHERE);
                }
            }
            if restore.stop.is_some() != restore.start.is_some() {
                let missing = if restore.stop.is_some() { "start" } else { "stop" };
                self.flaw(&at, format!("what is stopped is started again: there is no `{missing}`"), None);
            }
            self.probes(&format!("{at}/stopped"), restore.stopped.as_ref(), NOWHERE);
            self.probes(&format!("{at}/started"), restore.started.as_ref(), NOWHERE);
            self.checks(&format!("{at}/checks"), &restore.checks, NOWHERE);
            self.checks(&format!("{at}/before_start"), &restore.before_start, NOWHERE);
            // Guard and later commands start it without main's environment.
            let of_started = restore.started.iter().flat_map(OneOrMany::all).map(|probe| &probe.command);
            if of_started.chain(&restore.start).any(CommandSpec::takes_env) {
                let message =
                    "`start` and `started` may not take a secret from `env`: they must work without it".to_owned();
                self.flaw(&format!("{at}/start/env"), message, Some("use `{ file = \"…\" }`".to_owned()));
            }
            self.known_parts(&format!("{at}/order"), &restore.order, &names);
        }
        if let Some(drill) = &app.drill {
            let at = format!("{base}/drill");
            let scope = Scope { facts_of: &names, folders: true, ..NOWHERE };
            for (key, command) in [("start", &drill.start), ("stop", &drill.stop)] {
                if let Some(command) = command {
                    self.command(&format!("{at}/{key}"), command, scope);
                }
            }
            self.checks(&format!("{at}/checks"), &drill.checks, scope);
            self.known_parts(&format!("{at}/parts"), &drill.parts, &names);
            if drill.scratch.as_ref().is_some_and(|scratch| !scratch.is_absolute()) {
                self.flaw(&format!("{at}/scratch"), "the folder must be absolute".to_owned(), None);
            }
        }
    }

    /// A hold step stands for stopping and starting where it enters and releases by commands.
    fn like_hold(&mut self, at: &str, app: &App, restore: &RestoreSpec) {
        let Some(name) = &restore.like_hold else { return };
        let at = format!("{at}/like_hold");
        match app.hold.iter().find(|step| step.name == *name) {
            None => {
                let known: Vec<&str> = app.hold.iter().map(|step| step.name.as_str()).collect();
                let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
                self.flaw(&at, format!("there is no hold step `{name}`"), Some(format!("hold steps: {known}")));
            }
            Some(step) if step.enter.is_none() || step.release.is_none() => {
                let message =
                    format!("the hold step `{name}` has no `enter` and `release` that could stop and start it");
                self.flaw(&at, message, None);
            }
            Some(_) => {}
        }
        let said = [
            ("stop", restore.stop.is_some()),
            ("stopped", restore.stopped.is_some()),
            ("start", restore.start.is_some()),
            ("started", restore.started.is_some()),
        ];
        if let Some((key, _)) = said.iter().find(|(_, said)| *said) {
            let message = format!("either `like_hold` or `{key}`, not both");
            self.flaw(&at, message, None);
        }
    }

    fn checks(&mut self, at: &str, checks: &[Require], scope: Scope<'_>) {
        for (number, check) in checks.iter().enumerate() {
            self.probe(&format!("{at}/{number}"), &check.probe, scope);
        }
    }

    fn known_parts(&mut self, at: &str, named: &[String], names: &[&str]) {
        for name in named.iter().filter(|name| !names.contains(&name.as_str())) {
            let hint = nearest(name, names.iter().copied()).map(|near| format!("did you mean \"{near}\"?"));
            self.flaw(at, format!("there is no part `{name}`"), hint);
        }
    }

    fn snapshot(&mut self, base: &str, app: &App) {
        let Some(hooks) = &app.snapshot else { return };
        let at = format!("{base}/snapshot");
        self.command(&format!("{at}/make"), &hooks.make, NOWHERE);
        self.command(&format!("{at}/remove"), &hooks.remove, NOWHERE);
        if hooks.remove.takes_env() {
            let message =
                "`remove` may not take a secret from `env`: a later command must be able to run it".to_owned();
            self.flaw(&format!("{at}/remove/env"), message, Some("use `{ file = \"…\" }`".to_owned()));
        }
        if hooks.shows.is_empty() {
            let message = "the snapshot shows nothing".to_owned();
            let hint = Some("shows = { \"/var/lib/quaybook\" = \"/mnt/quaybook\" }".to_owned());
            self.flaw(&format!("{at}/shows"), message, hint);
        }
        for path in hooks.shows.iter().flat_map(|(from, to)| [from, to]).filter(|path| !path.is_absolute()) {
            self.flaw(&format!("{at}/shows"), format!("`{}` must be absolute", path.display()), None);
        }
        if matches!(app.capture_method, Some(CaptureMethod::Copy | CaptureMethod::Stream)) {
            let message = "`capture_method` says that there is to be no snapshot".to_owned();
            self.flaw(&at, message, Some("capture_method = \"snapshot\"".to_owned()));
        }
        if app.hold.is_empty() {
            self.flaw(&at, "a snapshot is made while the application is held, and it never is".to_owned(), None);
        }
    }

    fn hold(&mut self, base: &str, app: &App) {
        self.limit(&format!("{base}/max_hold"), app.max_hold);
        let (mut seen, mut locks) = (BTreeSet::new(), BTreeSet::new());
        for (number, step) in app.hold.iter().enumerate() {
            let at = format!("{base}/hold/{number}");
            if !seen.insert(&step.name) {
                self.flaw(&format!("{at}/name"), format!("two hold steps are called `{}`", step.name), None);
            }
            if let Some(lock) = step.lock.as_ref().filter(|lock| !locks.insert(lock.as_str())) {
                let message =
                    format!("the lock `{lock}` is taken by an earlier step already, and would be waited for in vain");
                self.flaw(&format!("{at}/lock"), message, Some("one step a lock is enough".to_owned()));
            }
            self.hold_step(&at, step);
        }
    }

    fn hold_step(&mut self, at: &str, step: &HoldStep) {
        let probes = [("drained", &step.drained), ("entered", &step.entered), ("released", &step.released)];
        for (key, probe) in probes {
            self.probes(&format!("{at}/{key}"), probe.as_ref(), NOWHERE);
        }
        if let Some(lock) = &step.lock {
            self.name(&format!("{at}/lock"), "a lock", lock);
        }
        if let Some(session) = &step.session {
            self.command(&format!("{at}/session"), session, NOWHERE);
            for (key, there) in [("enter", step.enter.is_some()), ("release", step.release.is_some())] {
                if there {
                    let message = format!("`session` stands instead of `enter` and `release`, so `{key}` has no place");
                    self.flaw(&format!("{at}/{key}"), message, None);
                }
            }
            return;
        }
        let (Some(enter), Some(leave)) = (&step.enter, &step.release) else {
            let missing = if step.enter.is_none() { "enter" } else { "release" };
            return self.flaw(at, format!("the hold step `{}` has no `{missing}`", step.name), None);
        };
        self.command(&format!("{at}/enter"), enter, NOWHERE);
        self.command(&format!("{at}/release"), leave, NOWHERE);
        let of_left = step.released.iter().flat_map(OneOrMany::all).map(|probe| &probe.command);
        for command in of_left.chain([leave]) {
            if command.takes_env() {
                let message =
                    "`release` and `released` may not take a secret from `env`: they must work without it".to_owned();
                self.flaw(&format!("{at}/release/env"), message, Some("use `{ file = \"…\" }`".to_owned()));
            }
        }
    }

    fn hooks(&mut self, base: &str, app: &App) {
        let names: Vec<&str> = app.part.iter().map(|part| part.name.as_str()).collect();
        let hooks = &app.hooks;
        let moments = [
            ("before", &hooks.before, false),
            ("held", &hooks.held, false),
            ("released", &hooks.released, false),
            ("succeeded", &hooks.succeeded, true),
            ("failed", &hooks.failed, false),
            ("finished", &hooks.finished, false),
        ];
        for (moment, hooks, has_facts) in moments {
            for (number, hook) in hooks.iter().enumerate() {
                let at = format!("{base}/hooks/{moment}/{number}");
                let facts_of: &[&str] = if has_facts { &names } else { &[] };
                self.command(&at, &hook.command, Scope { facts_of, ..NOWHERE });
                for need in hook.needs.iter().filter(|need| !names.contains(&need.as_str())) {
                    let hint = nearest(need, names.iter().copied()).map(|near| format!("did you mean \"{near}\"?"));
                    self.flaw(&format!("{at}/needs"), format!("there is no part `{need}`"), hint);
                }
                if hook.with_warnings && moment != "succeeded" {
                    let message = "`with_warnings` only means something in `succeeded`".to_owned();
                    self.flaw(&format!("{at}/with_warnings"), message, None);
                }
            }
        }
    }
}
