//! Rules for one part.

use std::collections::BTreeMap;
use std::path::Component;

use super::super::part::{Part, PartCommand, PartKind, When};
use super::super::placeholders;
use super::super::types::App;
use super::{NOWHERE, Rules, Scope};

impl Rules<'_> {
    pub(super) fn parts(&mut self, base: &str, app: &App) {
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

    pub(super) fn part(&mut self, at: &str, part: &Part) {
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
        for (key, path) in source.keyed_paths() {
            let at = format!("{at}/{key}");
            if !path.is_absolute() {
                self.flaw(&at, format!("`{}` must be absolute", path.display()), None);
            }
            if path.components().any(|piece| piece == Component::ParentDir) {
                let hint = "write the path without `..`: a link on the way could lead elsewhere".to_owned();
                self.flaw(&at, format!("`{}` leads up and down again", path.display()), Some(hint));
            }
        }
        // Nothing is less than what is no number.
        for (name, _) in part.min.iter().filter(|(_, least)| !least.is_finite()) {
            self.flaw(&format!("{at}/min/{name}"), "this is no number that a fact could have".to_owned(), None);
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
        self.own_commands(at, part, scope);
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
        self.patterns(at, part);
    }

    /// The commands that produce a part, and that are asked about it.
    fn own_commands(&mut self, at: &str, part: &Part, scope: Scope<'_>) {
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
        if let Some(command) = &part.command {
            let spec = command.spec(part.limit);
            self.command(&format!("{at}/command"), &spec, Scope { scratch: false, ..scope });
            if matches!(command, PartCommand::Spec(_)) && part.limit.is_some() {
                let message = "`limit` stands within the command where that is a table".to_owned();
                self.flaw(&format!("{at}/limit"), message, None);
            }
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
    }

    fn patterns(&mut self, at: &str, part: &Part) {
        for (key, patterns) in
            [("include", &part.include), ("exclude", &part.exclude), ("must_contain", &part.must_contain)]
        {
            for (number, pattern) in patterns.iter().enumerate() {
                if let Err(error) = globset::Glob::new(pattern) {
                    let message = format!("`{pattern}` is not a pattern: {}", error.kind());
                    self.flaw(&format!("{at}/{key}/{number}"), message, None);
                }
                // Paths have no such pieces, so it would match nothing.
                let mut pieces = pattern.strip_prefix('/').unwrap_or(pattern).split('/');
                if pieces.any(|piece| matches!(piece, "" | "." | "..")) {
                    let plain =
                        pattern.split('/').filter(|piece| !matches!(*piece, "" | "." | "..")).collect::<Vec<_>>();
                    let hint = format!("write it as a path is written, such as \"{}\"", plain.join("/"));
                    self.flaw(&format!("{at}/{key}/{number}"), format!("`{pattern}` matches nothing"), Some(hint));
                }
            }
        }
    }

    /// What stands for a service.
    pub(super) fn service(&mut self, at: &str, part: &Part, scope: Scope<'_>) {
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

    /// Keys that make sense for some kinds only.
    pub(super) fn keys_of_kind(&mut self, at: &str, part: &Part, kind: PartKind) {
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
}
