//! Where a part comes from: the wire form of a part, parsed into the one kind that it is.

use std::path::{Path, PathBuf};

use super::engines::{HttpExport, Mariadb, Outside, Postgres};
use super::part::{OutputForm, Part, PartKind};
use super::types::CommandSpec;

/// Where a part comes from: its kind, with all that this kind needs and nothing else.
#[derive(Clone, Debug, PartialEq)]
pub enum PartSource {
    /// Files and folders.
    Files(FilesSource),
    /// An SQLite database.
    Sqlite(SqliteSource),
    /// A command's standard output.
    Command(CommandSource),
    /// What a command writes.
    Export(ExportSource),
    /// A PostgreSQL server: databases, or its whole cluster.
    Postgres(Postgres),
    /// A MariaDB server: databases, or its data folder.
    Mariadb(Mariadb),
    /// What an application gives over its web interface.
    Http(HttpSource),
    /// What is kept by another system.
    Outside(Outside),
}

/// Files and folders.
#[derive(Clone, Debug, PartialEq)]
pub struct FilesSource {
    /// Their absolute paths; at least one.
    pub paths: Vec<PathBuf>,
}

/// An SQLite database.
#[derive(Clone, Debug, PartialEq)]
pub struct SqliteSource {
    /// Its absolute path.
    pub path: PathBuf,
}

/// A command whose standard output is the capture.
#[derive(Clone, Debug, PartialEq)]
pub struct CommandSource {
    /// The command, with its limit.
    pub command: CommandSpec,
    /// What it prints.
    pub output: OutputForm,
}

/// A command that writes the capture.
#[derive(Clone, Debug, PartialEq)]
pub struct ExportSource {
    /// The command.
    pub command: CommandSpec,
    /// The absolute paths that it writes to; where there are none, it writes into its private folder.
    pub collect: Vec<PathBuf>,
}

/// What an application gives over its web interface.
#[derive(Clone, Debug, PartialEq)]
pub struct HttpSource {
    /// How it is asked for, waited for and fetched.
    pub export: HttpExport,
    /// What is fetched.
    pub output: OutputForm,
}

impl Part {
    /// The source of a part.
    ///
    /// # Errors
    /// With the kinds that its keys say, where that is not exactly one. A definition that passed its checks has one.
    pub fn source(&self) -> Result<PartSource, Vec<PartKind>> {
        let kinds = self.kinds();
        let [kind] = kinds.as_slice() else { return Err(kinds) };
        let output = self.output.unwrap_or(OutputForm::Bytes);
        let source = match kind {
            PartKind::Files => Some(PartSource::Files(FilesSource { paths: self.files.clone() })),
            PartKind::Sqlite => self.sqlite.clone().map(|path| PartSource::Sqlite(SqliteSource { path })),
            PartKind::Command => self
                .command
                .as_ref()
                .map(|command| PartSource::Command(CommandSource { command: command.spec(self.limit), output })),
            PartKind::Export => self
                .export
                .clone()
                .map(|command| PartSource::Export(ExportSource { command, collect: self.collect.clone() })),
            PartKind::Postgres => self.postgres.clone().map(PartSource::Postgres),
            PartKind::Mariadb => self.mariadb.clone().map(PartSource::Mariadb),
            PartKind::Http => self.http.clone().map(|export| PartSource::Http(HttpSource { export, output })),
            PartKind::Outside => self.outside.clone().map(PartSource::Outside),
        };
        source.ok_or(kinds)
    }
}

impl PartSource {
    /// Which kind it is.
    pub fn kind(&self) -> PartKind {
        match self {
            Self::Files(_) => PartKind::Files,
            Self::Sqlite(_) => PartKind::Sqlite,
            Self::Command(_) => PartKind::Command,
            Self::Export(_) => PartKind::Export,
            Self::Postgres(_) => PartKind::Postgres,
            Self::Mariadb(_) => PartKind::Mariadb,
            Self::Http(_) => PartKind::Http,
            Self::Outside(_) => PartKind::Outside,
        }
    }

    /// The absolute paths that it reads by itself, each with its key in the definition.
    pub fn keyed_paths(&self) -> Vec<(String, &PathBuf)> {
        let numbered = |key: &str, paths: &'_ [PathBuf]| -> Vec<String> {
            (0..paths.len()).map(|number| format!("{key}/{number}")).collect()
        };
        match self {
            Self::Files(source) => numbered("files", &source.paths).into_iter().zip(&source.paths).collect(),
            Self::Sqlite(source) => vec![("sqlite".to_owned(), &source.path)],
            Self::Export(source) => numbered("collect", &source.collect).into_iter().zip(&source.collect).collect(),
            Self::Postgres(server) => server.cluster.iter().map(|path| ("postgres/cluster".to_owned(), path)).collect(),
            Self::Mariadb(server) => server.datadir.iter().map(|path| ("mariadb/datadir".to_owned(), path)).collect(),
            Self::Command(_) | Self::Http(_) | Self::Outside(_) => Vec::new(),
        }
    }

    /// The absolute paths that it reads by itself.
    pub fn paths(&self) -> impl Iterator<Item = &PathBuf> {
        self.keyed_paths().into_iter().map(|(_, path)| path)
    }

    /// Takes every path that it reads by itself elsewhere.
    pub fn move_paths(&mut self, to: &dyn Fn(&Path) -> PathBuf) {
        let paths: &mut [PathBuf] = match self {
            Self::Files(source) => &mut source.paths,
            Self::Sqlite(source) => std::slice::from_mut(&mut source.path),
            Self::Export(source) => &mut source.collect,
            Self::Postgres(server) => server.cluster.as_mut_slice(),
            Self::Mariadb(server) => server.datadir.as_mut_slice(),
            Self::Command(_) | Self::Http(_) | Self::Outside(_) => &mut [],
        };
        for path in paths {
            *path = to(path);
        }
    }
}

/// A path without what means nothing: `.`, `//`, and a `/` at the end.
pub(super) fn plain(path: &Path) -> PathBuf {
    path.components().collect()
}

impl Part {
    /// Writes its paths as a listing has them. A capture whose root were written otherwise could not be read again.
    pub(super) fn write_paths_plainly(&mut self) {
        let cluster = self.postgres.iter_mut().filter_map(|server| server.cluster.as_mut());
        let datadir = self.mariadb.iter_mut().filter_map(|server| server.datadir.as_mut());
        for path in self.files.iter_mut().chain(&mut self.sqlite).chain(&mut self.collect).chain(cluster).chain(datadir)
        {
            *path = plain(path);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn part(text: &str) -> Part {
        toml::from_str(&format!("name = \"p\"\n{text}")).unwrap()
    }

    #[test]
    fn a_part_is_of_one_kind_with_what_that_needs() {
        let source = part("files = [\"/a\", \"/b\"]").source().unwrap();
        let keys: Vec<String> = source.keyed_paths().into_iter().map(|(key, _)| key).collect();
        assert_eq!((source.kind(), keys), (PartKind::Files, vec!["files/0".to_owned(), "files/1".to_owned()]));
        let command = part("command = [\"print\"]\nlimit = \"3s\"\noutput = \"tar\"").source().unwrap();
        let PartSource::Command(CommandSource { command, output: OutputForm::Tar }) = command else {
            panic!("{command:?}")
        };
        assert_eq!(command.limit.unwrap().0.as_secs(), 3);
        assert_eq!(part("").source().unwrap_err(), []);
        let both = part("files = [\"/a\"]\nsqlite = \"/b\"").source().unwrap_err();
        assert_eq!(both, [PartKind::Files, PartKind::Sqlite]);
    }

    #[test]
    fn paths_are_moved_wherever_they_stand() {
        for text in
            ["files = [\"/a\"]", "sqlite = \"/a\"", "postgres = { cluster = \"/a\" }", "mariadb = { datadir = \"/a\" }"]
        {
            let mut source = part(text).source().unwrap();
            source.move_paths(&|path| Path::new("/new").join(path.strip_prefix("/").unwrap()));
            assert_eq!(source.paths().collect::<Vec<_>>(), [Path::new("/new/a")], "{text}");
        }
        assert_eq!(part("command = [\"print\"]").source().unwrap().paths().count(), 0);
    }
}
