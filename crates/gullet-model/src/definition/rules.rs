//! What must hold between the keys of a definition, beyond their form.

use std::collections::{BTreeMap, BTreeSet};

use super::check::nearest;
use super::flaw::{Flaw, Places, key_path};
use super::part::{Nature, Part, PartKind, When};
use super::placeholders;
use super::types::{App, CaptureMethod, CommandSpec, Definition, EnvValue, HoldStep, OneOrMany, Probe, Require};

/// Checks the joined definition.
pub(super) fn check(definition: &Definition, places: &Places, flaws: &mut Vec<Flaw>) {
    let mut rules = Rules { places, flaws };
    for (name, store) in &definition.store {
        rules.name(&key_path(&[&"store", name]), "a store", name);
        let at = key_path(&[&"store", name, &"location"]);
        if let Some((scheme, _)) = store.location.split_once("://") {
            let hint = Some("this version keeps stores in local folders".to_owned());
            rules.flaw(&at, format!("`{scheme}://` is not there yet"), hint);
        } else if !store.location.starts_with('/') {
            rules.flaw(&at, "the location must be an absolute folder".to_owned(), None);
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
    }
    rules.groups(definition);
}

/// Whether something may be called so.
///
/// # Errors
/// In words, why not; `what` is what is to be called so.
pub fn check_name(what: &str, name: &str) -> Result<(), String> {
    let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' || c == '_';
    let sound = name.starts_with(|c: char| c.is_ascii_alphanumeric()) && name.chars().all(plain);
    if sound && name.len() <= 64 {
        return Ok(());
    }
    Err(format!("`{name}` cannot be the name of {what}: use small letters, digits, `-` and `_`"))
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
            self.flaw(path, message, None);
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
            None if definition.store.len() != 1 => {
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
        for (number, require) in app.require.iter().enumerate() {
            self.probe(&format!("{base}/require/{number}"), &require.probe, NOWHERE);
        }
        self.hold(&base, app);
        self.snapshot(&base, app);
        self.parts(&base, app);
        self.hooks(&base, app);
        self.back(&base, app);
    }

    fn back(&mut self, base: &str, app: &App) {
        let names: Vec<&str> = app.part.iter().map(|part| part.name.as_str()).collect();
        if let Some(restore) = &app.restore {
            let at = format!("{base}/restore");
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

    fn parts(&mut self, base: &str, app: &App) {
        let mut seen: BTreeMap<&str, usize> = BTreeMap::new();
        for (number, part) in app.part.iter().enumerate() {
            let at = format!("{base}/part/{number}");
            let bare = placeholders::without(&part.name);
            self.name(&format!("{at}/name"), "a part", &bare);
            if let Some(first) = seen.insert(&part.name, number) {
                let message = format!("two parts are called `{}` (the first is part {})", part.name, first + 1);
                self.flaw(&format!("{at}/name"), message, None);
            }
            self.part(&at, part);
            let warm = part.precopy && part.kinds() == [PartKind::Files];
            if let Some(within) = part.restore.as_ref().and_then(|back| back.within.as_ref()) {
                let names: Vec<&str> = app.part.iter().map(|part| part.name.as_str()).collect();
                self.known_parts(&format!("{at}/restore/within"), std::slice::from_ref(within), &names);
            }
            let moment = [("precopy", warm), ("when", part.when.is_some_and(|when| when != When::Held))];
            for (key, _) in moment.iter().filter(|(_, said)| *said && app.hold.is_empty()) {
                let message = format!("`{key}` means something only where the application is held");
                self.flaw(&format!("{at}/{key}"), message, None);
            }
            if moment.iter().all(|(_, said)| *said) {
                let message = "a part that is not captured in the hold needs no copy before it".to_owned();
                self.flaw(&format!("{at}/precopy"), message, None);
            }
        }
    }

    fn part(&mut self, at: &str, part: &Part) {
        let source = match part.source() {
            Ok(source) => source,
            Err(kinds) if kinds.is_empty() => {
                let message = format!("the part `{}` does not say what it is", part.name);
                let hint =
                    "give one of `files`, `sqlite`, `command`, `export`, `postgres`, `mariadb`, `http`, `outside`";
                self.flaw(at, message, Some(hint.to_owned()));
                return;
            }
            Err(several) => {
                let words: Vec<&str> = several.iter().map(|kind| kind.word()).collect();
                let message = format!("the part `{}` is of several kinds at once: {}", part.name, words.join(", "));
                self.flaw(at, message, Some("make a part of each".to_owned()));
                return;
            }
        };
        let kind = source.kind();
        for path in source.paths().filter(|path| !path.is_absolute()) {
            self.flaw(at, format!("`{}` must be absolute", path.display()), None);
        }
        self.keys_of_kind(at, part, kind);
        let each = part.each.is_some();
        let scope = Scope { each, scratch: kind == PartKind::Export, ..NOWHERE };
        let of_paths = Scope { each, ..NOWHERE };
        for (key, paths) in [("files", &part.files), ("collect", &part.collect)] {
            for (number, path) in paths.iter().enumerate() {
                self.path(&format!("{at}/{key}/{number}"), path, of_paths);
            }
        }
        if let Some(path) = &part.sqlite {
            self.path(&format!("{at}/sqlite"), path, of_paths);
        }
        self.service(at, part, scope);
        if let Some(export) = &part.export {
            self.command(&format!("{at}/export"), export, scope);
            let fills = export.run.iter().flatten().chain(&export.script).any(|text| text.contains("{scratch}"));
            let env = export.script.as_deref().is_some_and(|script| script.contains("GULLET_SCRATCH"));
            if part.collect.is_empty() && !fills && !env {
                let message = "the export has nowhere to write to".to_owned();
                let hint = Some("put `{scratch}` among its arguments, or name its files with `collect`".to_owned());
                self.flaw(&format!("{at}/export"), message, hint);
            }
        }
        let command = CommandSpec { run: Some(part.command.clone()), ..CommandSpec::default() };
        if kind == PartKind::Command {
            self.command(&format!("{at}/command"), &command, Scope { scratch: false, ..scope });
        }
        if let Some(each) = &part.each {
            self.command(&format!("{at}/each"), &each.command, NOWHERE);
            if !part.name.contains("{each.") {
                let message = "the name must contain `{each.…}`, so that every capture has its own".to_owned();
                self.flaw(&format!("{at}/name"), message, None);
            }
        } else {
            self.placeholders(&format!("{at}/name"), &part.name, NOWHERE);
        }
        for (name, fact) in &part.facts {
            self.command(&format!("{at}/facts/{name}"), fact, Scope { scratch: false, ..scope });
        }
        if let Some(steady) = &part.stable {
            self.command(&format!("{at}/stable"), &steady.command, Scope { scratch: false, ..scope });
        }
        if let Some(back) = &part.restore {
            let known = Scope { own: "folder", scratch: false, ..scope };
            match &back.within {
                None => self.command(&format!("{at}/restore"), &back.command, known),
                Some(_) if back.command.ways() > 0 => {
                    self.flaw(&format!("{at}/restore"), "either a command or `within`, not both".to_owned(), None);
                }
                Some(_) => {}
            }
            if source.paths().next().is_some() && part.collect.is_empty() {
                let message = "files come back as files, so there is no command for it".to_owned();
                self.flaw(&format!("{at}/restore"), message, None);
            }
        }
        for (what, probe) in &part.done_when {
            let at = format!("{at}/done_when/{what}");
            self.probe(&at, probe, Scope { scratch: false, ..scope });
            if !part.after_restore.contains(what) {
                let message = format!("`after_restore` does not say \"{what}\"");
                self.flaw(&at, message, None);
            }
        }
        for (key, patterns) in
            [("include", &part.include), ("exclude", &part.exclude), ("must_contain", &part.must_contain)]
        {
            for (number, pattern) in patterns.iter().enumerate() {
                if let Err(error) = globset::Glob::new(pattern) {
                    let message = format!("`{pattern}` is not a pattern: {}", error.kind());
                    self.flaw(&format!("{at}/{key}/{number}"), message, None);
                }
            }
        }
    }

    /// What stands for a service.
    fn service(&mut self, at: &str, part: &Part, scope: Scope<'_>) {
        if let Some(server) = &part.postgres {
            let at = format!("{at}/postgres");
            self.one_of(&at, ("cluster", server.cluster.is_some()), ("databases", !server.login.databases.is_empty()));
            self.secret(&format!("{at}/password"), server.login.password.as_ref());
        }
        if let Some(server) = &part.mariadb {
            let at = format!("{at}/mariadb");
            self.one_of(&at, ("datadir", server.datadir.is_some()), ("databases", !server.login.databases.is_empty()));
            self.secret(&format!("{at}/password"), server.login.password.as_ref());
            if server.host.is_some() && server.socket.is_some() {
                self.flaw(&format!("{at}/socket"), "either `socket` or `host`, not both".to_owned(), None);
            }
        }
        if let Some(http) = &part.http {
            let at = format!("{at}/http");
            let known = Scope { own: if http.answer.is_some() { "answer" } else { "" }, ..scope };
            if let Some(ask) = &http.ask {
                self.command(&format!("{at}/ask"), ask, scope);
            }
            self.probes(&format!("{at}/ready"), http.ready.as_ref(), known);
            self.command(&format!("{at}/fetch"), &http.fetch, known);
            if http.fetch.asked().is_none() {
                self.flaw(
                    &format!("{at}/fetch"),
                    "an export is fetched by a request: `get` or `post`".to_owned(),
                    None,
                );
            }
            let pointer = http.answer.as_ref().filter(|pointer| !pointer.is_empty() && !pointer.starts_with('/'));
            if let Some(pointer) = pointer {
                let message = format!("`{pointer}` is not a JSON pointer: it must begin with `/`");
                self.flaw(&format!("{at}/answer"), message, None);
            }
            if http.answer.is_some() && http.ask.is_none() {
                self.flaw(&format!("{at}/answer"), "nothing is asked, so there is no answer".to_owned(), None);
            }
        }
        if let Some(outside) = &part.outside {
            let at = format!("{at}/outside");
            let known = Scope { own: "id", ..scope };
            self.command(&format!("{at}/begin"), &outside.begin, scope);
            self.probes(&format!("{at}/begun"), outside.begun.as_ref(), known);
            self.probes(&format!("{at}/done"), Some(&outside.done), known);
            self.probes(&format!("{at}/check"), outside.check.as_ref(), known);
            if let Some(remove) = &outside.remove {
                self.command(&format!("{at}/remove"), remove, known);
            }
        }
    }

    /// A path may have braces of its own; only what would be filled in elsewhere is taken for a placeholder.
    fn path(&mut self, at: &str, path: &std::path::Path, scope: Scope<'_>) {
        let text = path.to_string_lossy();
        let is_ours =
            |name: &str| matches!(name, "run" | "scratch") || name.starts_with("each.") || name.starts_with("fact.");
        for name in placeholders::names(&text).into_iter().filter(|name| is_ours(name)) {
            if !(scope.each && name.starts_with("each.")) {
                let message = format!("`{{{name}}}` has no value here");
                let hint = "`{each.…}` is filled into the paths of a part with `each`".to_owned();
                self.flaw(at, message, Some(hint));
            }
        }
    }

    fn one_of(&mut self, at: &str, one: (&str, bool), other: (&str, bool)) {
        if one.1 == other.1 {
            let what = if one.1 { "not both" } else { "and there is neither" };
            self.flaw(at, format!("either `{}` or `{}`, {what}", one.0, other.0), None);
        }
    }

    /// Secrets are never written into a definition.
    fn secret(&mut self, at: &str, value: Option<&EnvValue>) {
        if let Some(EnvValue::Plain(_)) = value {
            let message = "a secret is not written into a definition".to_owned();
            let hint = "`{ file = \"/etc/gullet/secret\" }`, `{ env = \"…\" }` or `{ run = […] }`";
            self.flaw(at, message, Some(hint.to_owned()));
        }
    }

    /// Keys that make sense for some kinds only.
    fn keys_of_kind(&mut self, at: &str, part: &Part, kind: PartKind) {
        let files = kind == PartKind::Files;
        let used = [
            ("include", !part.include.is_empty(), files, "`files`"),
            ("exclude", !part.exclude.is_empty(), files, "`files`"),
            ("cross_mounts", part.cross_mounts, files, "`files`"),
            ("precopy", part.precopy, files, "`files`"),
            ("stable", part.stable.is_some(), kind != PartKind::Outside, "what is stored"),
            ("max_shrink", !part.max_shrink.is_empty(), kind != PartKind::Outside, "what is stored"),
            ("min", !part.min.is_empty(), kind != PartKind::Outside, "what is stored"),
            ("must_contain", !part.must_contain.is_empty(), kind != PartKind::Outside, "what is stored"),
            (
                "output",
                part.output.is_some(),
                matches!(kind, PartKind::Command | PartKind::Http),
                "`command` and `http`",
            ),
            ("limit", part.limit.is_some(), kind == PartKind::Command, "`command`; write it into `export` itself"),
            ("collect", !part.collect.is_empty(), kind == PartKind::Export, "`export`"),
        ];
        for (key, used, allowed, of) in used {
            if used && !allowed {
                let message = format!("`{key}` does not apply to a part of kind `{}`", kind.word());
                self.flaw(&format!("{at}/{key}"), message, Some(format!("it goes with {of}")));
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

    fn probes(&mut self, at: &str, probes: Option<&OneOrMany<Probe>>, scope: Scope<'_>) {
        match probes {
            None => {}
            Some(OneOrMany::One(probe)) => self.probe(at, probe, scope),
            Some(OneOrMany::Many(probes)) => {
                for (number, probe) in probes.iter().enumerate() {
                    self.probe(&format!("{at}/{number}"), probe, scope);
                }
                if probes.is_empty() {
                    self.flaw(at, "an empty list of probes proves nothing".to_owned(), None);
                }
            }
        }
    }

    fn probe(&mut self, at: &str, probe: &Probe, scope: Scope<'_>) {
        self.command(at, &probe.command, scope);
        for (key, pattern) in [("matches", &probe.matches), ("every_line", &probe.every_line)] {
            if let Some(Err(error)) = pattern.as_deref().map(regex::Regex::new) {
                let reason = error.to_string().lines().last().unwrap_or("it cannot be read").trim().to_owned();
                self.flaw(&format!("{at}/{key}"), format!("not a regular expression: {reason}"), None);
            }
        }
        for pointer in probe.json.keys().filter(|pointer| !pointer.is_empty() && !pointer.starts_with('/')) {
            let message = format!("`{pointer}` is not a JSON pointer: it must begin with `/`");
            self.flaw(&format!("{at}/json/{pointer}"), message, None);
        }
    }

    fn command(&mut self, at: &str, command: &CommandSpec, scope: Scope<'_>) {
        match command.ways() {
            0 => {
                let hint = Some("for example `run = [\"quaybook\", \"state\"]`".to_owned());
                self.flaw(at, "the command has neither `run` nor `script` (nor is it a request)".to_owned(), hint);
            }
            1 if command.run.as_ref().is_some_and(|run| run.first().is_none_or(String::is_empty)) => {
                self.flaw(&format!("{at}/run"), "the command is empty".to_owned(), None);
            }
            1 => {}
            _ if command.asked().is_none() => {
                self.flaw(at, "either `run` or `script`, not both".to_owned(), None);
            }
            _ => self.flaw(at, "one of `run`, `script`, `get`, `post`, `put`, `delete`, not several".to_owned(), None),
        }
        self.request(at, command, scope);
        if command.interpreter.is_some() && command.script.is_none() {
            self.flaw(&format!("{at}/interpreter"), "`interpreter` goes with `script`".to_owned(), None);
        }
        if command.through.is_some() && command.script.is_some() {
            let message = "a script in memory cannot go `through` another program: put it into a file".to_owned();
            self.flaw(&format!("{at}/through"), message, None);
        }
        if command.through.as_ref().is_some_and(Vec::is_empty) {
            self.flaw(&format!("{at}/through"), "`through` is empty".to_owned(), None);
        }
        if command.dir.as_ref().is_some_and(|dir| !dir.is_absolute()) {
            self.flaw(&format!("{at}/dir"), "the folder must be absolute".to_owned(), None);
        }
        for (number, argument) in command.run.iter().flatten().enumerate() {
            self.placeholders(&format!("{at}/run/{number}"), argument, scope);
        }
        for (name, value) in &command.env {
            if let EnvValue::Plain(text) = value {
                self.placeholders(&format!("{at}/env/{name}"), text, scope);
            }
        }
        self.script(at, command.script.as_deref().unwrap_or_default());
    }

    /// Nothing is filled into a script: it would be read by its interpreter. What looks as if it were to be is refused.
    fn script(&mut self, at: &str, script: &str) {
        for name in placeholders::names(script) {
            let of_shell = script.contains(&format!("${{{name}}}"));
            let is_ours =
                name.starts_with("each.") || name.starts_with("fact.") || matches!(name, "scratch" | "folder");
            if of_shell || !is_ours {
                continue;
            }
            let message = format!("`{{{name}}}` is not filled into a script");
            let hint = format!("write \"${}\"", placeholders::variable(name));
            self.flaw(&format!("{at}/script"), message, Some(hint));
        }
    }

    fn request(&mut self, at: &str, command: &CommandSpec, scope: Scope<'_>) {
        let request = &command.request;
        self.secret(&format!("{at}/bearer"), request.bearer.as_ref());
        self.secret(&format!("{at}/password"), request.password.as_ref());
        let Some((method, url)) = command.asked() else {
            let said = *request != super::RequestSpec::default();
            if said {
                let message =
                    "headers, body and credentials go with a request: `get`, `post`, `put`, `delete`".to_owned();
                self.flaw(at, message, None);
            }
            return;
        };
        if !url.starts_with("http://") && !url.starts_with("https://") {
            let message = format!("`{url}` is not a URL: it must begin with `http://` or `https://`");
            self.flaw(&format!("{at}/{}", method.to_lowercase()), message, None);
        }
        if url.split('/').nth(2).is_some_and(|host| host.contains('@')) {
            let message = "credentials are not written into a URL".to_owned();
            let hint = "`user` and `password = { file = \"…\" }`, or `bearer`".to_owned();
            self.flaw(&format!("{at}/{}", method.to_lowercase()), message, Some(hint));
        }
        let of_process = [
            ("as", command.run_as.is_some()),
            ("through", command.through.is_some()),
            ("dir", command.dir.is_some()),
            ("env", !command.env.is_empty()),
            ("interpreter", command.interpreter.is_some()),
        ];
        for (key, _) in of_process.iter().filter(|(_, said)| *said) {
            self.flaw(&format!("{at}/{key}"), format!("`{key}` goes with a program, not with a request"), None);
        }
        self.placeholders(&format!("{at}/{}", method.to_lowercase()), url, scope);
        if let Some(body) = &request.body {
            self.placeholders(&format!("{at}/body"), body, scope);
        }
    }

    fn placeholders(&mut self, at: &str, text: &str, scope: Scope<'_>) {
        for name in placeholders::names(text) {
            let problem = match name.split('.').collect::<Vec<_>>().as_slice() {
                ["run"] => None,
                [word] if !word.is_empty() && *word == scope.own => None,
                ["files" | "exports"] if scope.folders => None,
                ["socket", part] if scope.folders && scope.facts_of.contains(part) => None,
                ["scratch"] if scope.scratch => None,
                ["scratch"] => Some("`{scratch}` exists in an export only".to_owned()),
                ["each", _] if scope.each => None,
                ["each", _] => Some("`{each.…}` exists in a part with `each` only".to_owned()),
                ["fact", part, _, ..] if scope.facts_of.contains(part) => None,
                ["fact", part, _, ..] if !scope.facts_of.is_empty() => Some(format!("there is no part `{part}`")),
                ["fact", ..] => Some("`{fact.PART.NAME}` exists in `succeeded` hooks only".to_owned()),
                _ => Some(format!("`{{{name}}}` is not a placeholder")),
            };
            if let Some(message) = problem {
                let hint =
                    "`{run}`, `{scratch}`, `{each.…}` and `{fact.PART.NAME}` are filled in; write `{{` for a brace";
                self.flaw(at, message, Some(hint.to_owned()));
            }
        }
    }
}
