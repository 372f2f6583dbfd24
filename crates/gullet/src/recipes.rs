//! The recipes: starter definitions for real services, each proven by a test against the real one.

/// One of them.
pub struct Recipe {
    /// The name that `gullet new --recipe` takes.
    pub name: &'static str,
    /// What it is for, on one line.
    pub about: &'static str,
    template: &'static str,
}

/// The word that stands for the application's name.
const APP: &str = "@APP@";
/// What every definition begins with.
pub const HEAD: &str = include_str!("../../../recipes/head.toml");

impl Recipe {
    /// The definition of an application.
    pub fn text(&self, app: &str) -> String {
        format!("{HEAD}{}", self.template).replace(APP, app)
    }
}

macro_rules! recipe {
    ($name:literal, $about:literal) => {
        Recipe { name: $name, about: $about, template: include_str!(concat!("../../../recipes/", $name, ".toml")) }
    };
}

/// All of them, the usual ones first.
pub const RECIPES: &[Recipe] = &[
    recipe!("files", "an application that keeps everything in files and can be told to pause"),
    recipe!("postgres", "databases of a PostgreSQL server, exported and counted at one moment"),
    recipe!("postgres-cluster", "a whole PostgreSQL cluster, file by file, while it works"),
    recipe!("mariadb", "databases of a MariaDB server, exported and counted at one point of its log"),
    recipe!("mariadb-files", "the files of a MariaDB server, from a snapshot made under its lock"),
    recipe!("sqlite", "several SQLite databases as one set, and the files that go with them"),
    recipe!("redis", "a Redis server: its own save, asked for and proven"),
    recipe!("openldap", "an OpenLDAP directory: configuration and data, read-only meanwhile"),
    recipe!("service", "a systemd service that is stopped, captured, and started if it was running"),
    recipe!("init-service", "the same with an init script"),
    recipe!("web", "a web application: uploaded files and a PostgreSQL database held together"),
    recipe!("mail", "a mail store: mailboxes while no mail is delivered"),
    recipe!("appliance", "devices that print their configuration over SSH: switches, firewalls, storage"),
    recipe!("build-server", "a build server that takes no new work and finishes what it has in hand"),
];
