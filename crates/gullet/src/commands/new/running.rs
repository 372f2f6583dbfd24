//! `gullet new --from-running`: a definition of what runs on this machine.

use std::collections::BTreeSet;
use std::path::Path;

use gullet_host::running::{RedisAddress, RunningService};

use crate::recipes::{HEAD, RECIPES};
use crate::text::harmless;

/// So many SQLite databases are proposed; where more are open they are most likely of one program's inner workings.
const DATABASES: usize = 20;
const WEB_ROOTS: [&str; 2] = ["/var/www", "/srv/www"];
const MAIL_ROOTS: [&str; 4] = ["/var/mail", "/var/vmail", "/srv/mail", "/home/vmail"];

/// The definition of what was found; `exists` says whether a folder is there.
pub(super) fn definition(app: &str, found: &[RunningService], exists: &dyn Fn(&Path) -> bool) -> String {
    let mut parts = Parts { app, texts: Vec::new(), names: BTreeSet::new(), settings: BTreeSet::new(), exists };
    let is_database = |one: &&RunningService| matches!(one, RunningService::Sqlite { .. });
    let proposed = found.iter().filter(|one| !is_database(one)).chain(found.iter().filter(is_database).take(DATABASES));
    proposed.for_each(|service| parts.add(service));
    let more = found.iter().filter(is_database).count().saturating_sub(DATABASES);
    if more > 0 {
        parts.texts.push(format!("# CHANGE: {more} more SQLite databases are open.\n\n"));
    }
    let settings = parts.settings();
    format!(
        "{}\n\n# What ran on this machine when `gullet new {app} --from-running` looked. It looked at processes and the files that they have\n\
         # open, and asked nobody. Read it, change what is marked CHANGE, and add what it could not see.\n[app.{app}]\ntitle = \"{app}\"\n\
         # CHANGE: how is it put into backup mode? Without hold steps databases and files are from different moments. `gullet explain hold`\n\
         # says how to write them; the guide has examples. Where it needs none, say why:\nno_hold = \"CHANGE: say why it needs no hold\"\n\n{}{settings}",
        HEAD.trim_end(),
        parts.texts.join("")
    )
}

struct Parts<'a> {
    app: &'a str,
    texts: Vec<String>,
    /// The names that parts have.
    names: BTreeSet<String>,
    /// Folders of settings.
    settings: BTreeSet<&'static str>,
    exists: &'a dyn Fn(&Path) -> bool,
}

impl Parts<'_> {
    fn part(&mut self, name: &str, keys: &str) {
        let (app, name) = (self.app, self.free_name(name));
        self.texts.push(format!("[[app.{app}.part]]\nname = \"{name}\"\n{keys}\n\n"));
    }

    /// A name that no part has yet: two servers may have one port, each with a socket of its own.
    fn free_name(&mut self, name: &str) -> String {
        let others = (2..).map(|number| format!("{name}-{number}"));
        let mut names = std::iter::once(name.to_owned()).chain(others);
        names.find(|name| self.names.insert(name.clone())).unwrap_or_default()
    }

    /// The parts of a recipe, each under a name of its own. `call` stands in its scripts in the place of `usual`: it comes from a
    /// process that anybody may have started, so nothing but a plain path may stand there.
    fn recipe(&mut self, recipe: &str, (usual, call, path): (&str, &str, Option<&Path>), names: &[(&str, &str)]) {
        let plain = |c: char| c.is_ascii_alphanumeric() || "/._-".contains(c);
        if path.is_some_and(|path| !path.to_str().is_some_and(|path| path.starts_with('/') && path.chars().all(plain)))
        {
            let text = format!(
                "# CHANGE: one more of these runs, at a path that is none for a script (see the recipe `{recipe}`).\n\n"
            );
            return self.texts.push(text);
        }
        let mut text = self.parts_of(recipe).replace(usual, call);
        for (name, wanted) in names {
            let free = self.free_name(wanted);
            text = text.replace(&format!("name = \"{name}\""), &format!("name = \"{free}\""));
        }
        self.texts.push(text);
    }

    fn set(&mut self, folder: &'static str) {
        if (self.exists)(Path::new(folder)) {
            self.settings.insert(folder);
        }
    }

    fn add(&mut self, service: &RunningService) {
        match service {
            RunningService::Postgres { host, port } => {
                let host = host.as_ref().map(|host| format!("host = {}, ", quoted(host))).unwrap_or_default();
                let keys = format!("required = true\npostgres = {{ {host}port = {port}, databases = [\"*\"] }}");
                self.part(&format!("postgres-{port}"), &keys);
                self.set("/etc/postgresql");
            }
            RunningService::Mariadb { socket, is_said } => {
                let mark = if *is_said { "" } else { "   # CHANGE: its socket, where it is not the usual one" };
                let keys =
                    format!("required = true\nmariadb = {{ socket = {}, databases = [\"*\"] }}{mark}", quoted(socket));
                self.part("mariadb", &keys);
                self.set("/etc/mysql");
            }
            RunningService::Redis(address) => {
                let (call, path) = match address {
                    RedisAddress::Socket(path) => (format!("-s {}", path.display()), Some(path.as_path())),
                    RedisAddress::Port(port) => (format!("-p {port}"), None),
                };
                self.recipe("redis", ("-s /run/redis/redis-server.sock", &call, path), &[("data", "redis")]);
                self.set("/etc/redis");
            }
            RunningService::OpenLdap { config } => {
                let names = [("configuration", "ldap-configuration"), ("data", "ldap-data")];
                let call = config.display().to_string();
                self.recipe("openldap", ("/etc/ldap/slapd.d", &call, Some(config)), &names);
                self.set("/etc/ldap");
            }
            RunningService::Sqlite { path, program } => {
                let of = format!("   # open in {}", harmless(program));
                self.part("sqlite", &format!("required = true\nsqlite = {}{of}", quoted(path)));
            }
            RunningService::Web { program } => {
                self.roots("web", program, &WEB_ROOTS, &["/etc/nginx", "/etc/apache2", "/etc/lighttpd"]);
            }
            RunningService::Mail { program } => {
                self.roots("mail", program, &MAIL_ROOTS, &["/etc/exim4", "/etc/postfix", "/etc/dovecot"]);
            }
        }
    }

    /// Where a server's files usually lie: what is there of it.
    fn roots(&mut self, name: &str, program: &str, usual: &[&str], settings: &[&'static str]) {
        settings.iter().for_each(|folder| self.set(folder));
        // Of two web servers one part: the places are the same.
        if self.names.contains(name) {
            return;
        }
        let there: Vec<String> =
            usual.iter().filter(|root| (self.exists)(Path::new(root))).map(|root| format!("\"{root}\"")).collect();
        if there.is_empty() {
            self.texts.push(format!(
                "# CHANGE: {} runs, and its files lie in none of the usual places ({}).\n\n",
                harmless(program),
                usual.join(", ")
            ));
        } else {
            let keys = format!(
                "files = [{}]   # CHANGE: the usual places; where does {} keep its files?\nempty = \"ok\"",
                there.join(", "),
                harmless(program)
            );
            self.part(name, &keys);
        }
    }

    /// The parts of a recipe.
    fn parts_of(&self, recipe: &str) -> String {
        let text =
            RECIPES.iter().find(|known| known.name == recipe).map(|recipe| recipe.text(self.app)).unwrap_or_default();
        let begin = format!("[[app.{}.part]]", self.app);
        let parts = text.find(&begin).map_or("", |at| text[at..].trim_end());
        // What is never held is not captured before a hold either.
        format!("{}\n\n", parts.replace("when = \"before\"\n", ""))
    }

    fn settings(&self) -> String {
        if self.settings.is_empty() {
            return "# CHANGE: where are its settings?\n".to_owned();
        }
        let folders: Vec<String> = self.settings.iter().map(|folder| format!("\"{folder}\"")).collect();
        format!("[[app.{}.part]]\nname = \"settings\"\nfiles = [{}]\n", self.app, folders.join(", "))
    }
}

/// A path as TOML text, which is quoted as in JSON.
fn quoted(path: &Path) -> String {
    serde_json::Value::String(path.display().to_string()).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn redis(path: &str) -> RunningService {
        RunningService::Redis(RedisAddress::Socket(path.into()))
    }

    #[test]
    fn parts_have_names_of_their_own_and_no_foreign_words_get_into_a_script() {
        let sqlite =
            |number: u32| RunningService::Sqlite { path: format!("/srv/{number}.db").into(), program: "a\nb".into() };
        let postgres = |host: &str| RunningService::Postgres { host: Some(host.into()), port: 5432 };
        let mut found = vec![postgres("/run/a"), postgres("/run/\"b"), redis("/run/r.sock"), redis("/run/s.sock")];
        found.push(redis("/tmp/$(touch owned)"));
        found.push(RunningService::OpenLdap { config: "/etc/x;reboot".into() });
        found.extend((0..23).map(sqlite));
        found.extend(["nginx", "caddy"].map(|program| RunningService::Web { program: program.to_owned() }));
        let text = definition("quay", &found, &|_| true);
        for wanted in
            ["\"postgres-5432\"", "\"postgres-5432-2\"", "\"redis\"", "\"redis-2\"", "\"sqlite-20\"", "3 more SQLite"]
        {
            assert!(text.contains(wanted), "{wanted}: {text}");
        }
        for foreign in ["touch owned", "reboot", "sqlite-21", "a\nb"] {
            assert!(!text.contains(foreign), "{foreign}: {text}");
        }
        assert_eq!(text.matches("name = \"web\"").count(), 1);
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("gullet.toml");
        std::fs::write(&file, text).unwrap();
        let loaded = gullet_model::definition::load(&file, "quay").unwrap();
        assert!(loaded.definition.app["quay"].part.len() > 25);
    }
}
