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
    let mut parts = Parts { app, texts: Vec::new(), settings: BTreeSet::new(), exists };
    let databases = found.iter().filter(|one| matches!(one, RunningService::Sqlite { .. })).count();
    for service in found {
        parts.add(service, databases);
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
    /// Folders of settings.
    settings: BTreeSet<&'static str>,
    exists: &'a dyn Fn(&Path) -> bool,
}

impl Parts<'_> {
    fn part(&mut self, name: &str, keys: &str) {
        let app = self.app;
        // Two servers may have one port, each with a socket of its own.
        let is_taken = |name: &str| self.texts.iter().any(|text| text.contains(&format!("name = \"{name}\"\n")));
        let others = (2..).map(|number| format!("{name}-{number}"));
        let name = std::iter::once(name.to_owned()).chain(others).find(|name| !is_taken(name)).unwrap_or_default();
        self.texts.push(format!("[[app.{app}.part]]\nname = \"{name}\"\n{keys}\n\n"));
    }

    fn set(&mut self, folder: &'static str) {
        if (self.exists)(Path::new(folder)) {
            self.settings.insert(folder);
        }
    }

    fn add(&mut self, service: &RunningService, databases: usize) {
        match service {
            RunningService::Postgres { host, port } => {
                let host = host.as_ref().map(|host| format!("host = {}, ", quoted(host))).unwrap_or_default();
                let keys = format!("required = true\npostgres = {{ {host}port = {port}, databases = [\"*\"] }}");
                self.part(&format!("postgres-{port}"), &keys);
                self.set("/etc/postgresql");
            }
            RunningService::Mariadb { socket, is_said } => {
                let mark = if *is_said { "" } else { "   # CHANGE: its socket, where it is not the usual one" };
                let number = self.texts.iter().filter(|text| text.contains("mariadb = {")).count() + 1;
                let keys =
                    format!("required = true\nmariadb = {{ socket = {}, databases = [\"*\"] }}{mark}", quoted(socket));
                self.part(&format!("mariadb-{number}"), &keys);
                self.set("/etc/mysql");
            }
            RunningService::Redis(address) => {
                let (name, call) = match address {
                    RedisAddress::Socket(path) => ("redis-socket".to_owned(), format!("-s {}", path.display())),
                    RedisAddress::Port(port) => (format!("redis-{port}"), format!("-p {port}")),
                };
                let text = self.parts_of("redis").replace("-s /run/redis/redis-server.sock", &call);
                self.texts.push(text.replace("name = \"data\"", &format!("name = \"{name}\"")));
                self.set("/etc/redis");
            }
            RunningService::OpenLdap { config } => {
                let text = self.parts_of("openldap").replace("/etc/ldap/slapd.d", &config.display().to_string());
                let text = text.replace("when = \"before\"\n", "");
                let text = text.replace("name = \"configuration\"", "name = \"ldap-configuration\"");
                self.texts.push(text.replace("name = \"data\"", "name = \"ldap-data\""));
                self.set("/etc/ldap");
            }
            RunningService::Sqlite { path, program } => {
                let number = self.texts.iter().filter(|text| text.contains("sqlite = ")).count() + 1;
                if number <= DATABASES {
                    let of = format!("   # open in {}", harmless(program));
                    self.part(&format!("sqlite-{number}"), &format!("required = true\nsqlite = {}{of}", quoted(path)));
                } else if number == DATABASES + 1 {
                    self.texts.push(format!("# CHANGE: {} more SQLite databases are open.\n\n", databases - DATABASES));
                }
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
        if self.texts.iter().any(|text| text.contains(&format!("name = \"{name}\""))) {
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
        text.find(&begin).map_or_else(String::new, |at| format!("{}\n\n", text[at..].trim_end()))
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
