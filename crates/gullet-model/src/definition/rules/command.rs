//! Rules for commands, probes and placeholders.

use super::super::placeholders;
use super::super::types::{CommandSpec, EnvValue, OneOrMany, Probe};
use super::super::values::Span;
use super::{Rules, Scope};

impl Rules<'_> {
    pub(super) fn probes(&mut self, at: &str, probes: Option<&OneOrMany<Probe>>, scope: Scope<'_>) {
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

    pub(super) fn probe(&mut self, at: &str, probe: &Probe, scope: Scope<'_>) {
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

    pub(super) fn command(&mut self, at: &str, command: &CommandSpec, scope: Scope<'_>) {
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
        self.limit(&format!("{at}/limit"), command.limit);
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
    pub(super) fn script(&mut self, at: &str, script: &str) {
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

    pub(super) fn request(&mut self, at: &str, command: &CommandSpec, scope: Scope<'_>) {
        let request = &command.request;
        self.secret(&format!("{at}/bearer"), request.bearer.as_ref());
        self.secret(&format!("{at}/password"), request.password.as_ref());
        let Some((method, url)) = command.asked() else {
            let said = *request != super::super::RequestSpec::default();
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

    pub(super) fn placeholders(&mut self, at: &str, text: &str, scope: Scope<'_>) {
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

    /// A time that something may take.
    pub(super) fn limit(&mut self, at: &str, limit: Option<Span>) {
        if limit.is_some_and(|limit| limit.0.is_zero()) {
            self.flaw(
                at,
                "in no time at all nothing can be done".to_owned(),
                Some("write for example \"30s\"".to_owned()),
            );
        }
    }

    /// A path may have braces of its own; only what would be filled in elsewhere is taken for a placeholder.
    pub(super) fn path(&mut self, at: &str, path: &std::path::Path, scope: Scope<'_>) {
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

    pub(super) fn one_of(&mut self, at: &str, one: (&str, bool), other: (&str, bool)) {
        if one.1 == other.1 {
            let what = if one.1 { "not both" } else { "and there is neither" };
            self.flaw(at, format!("either `{}` or `{}`, {what}", one.0, other.0), None);
        }
    }

    /// Secrets are never written into a definition.
    pub(super) fn secret(&mut self, at: &str, value: Option<&EnvValue>) {
        if let Some(EnvValue::Plain(_)) = value {
            let message = "a secret is not written into a definition".to_owned();
            let hint = "`{ file = \"/etc/gullet/secret\" }`, `{ env = \"…\" }` or `{ run = […] }`";
            self.flaw(at, message, Some(hint.to_owned()));
        }
    }
}
