//! The local index of chunks that are known to be durable in one store.
//!
//! It is a cache: losing it costs only that chunks are stored again. It learns of a payload file only after that file
//! is durable, and holds the ids of chunks in clear, so its folder must be private.

use std::fs::File;
use std::path::{Path, PathBuf};

use rusqlite::{Connection, OptionalExtension, params};

use crate::error::{IoPath, StoreError};
use crate::hash::Hash;
use crate::payload::TocChunk;
use crate::seal::Recipients;
use crate::store::Store;

/// Version of the cache's tables; a cache of another version is thrown away.
const VERSION: i32 = 2;

/// A payload file as the cache knows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CachedPayload {
    /// Its name in the store.
    pub name: String,
    /// Its length in bytes.
    pub length: u64,
    /// The public keys that it is encrypted to.
    pub seal: Vec<String>,
}

/// Which chunks are where, as far as this machine knows.
pub struct Cache {
    path: PathBuf,
    database: Connection,
}

impl Cache {
    /// Opens or makes the cache at `path`.
    ///
    /// # Errors
    /// When the database cannot be opened or is not one.
    pub fn open(path: &Path) -> Result<Self, StoreError> {
        let wrap = |source| StoreError::Cache { path: path.to_path_buf(), source };
        // One command at a time prepares it: changing the journal of a database that another one is making fails at once,
        // without the waiting that everything else does.
        let lock_path = path.with_extension("lock");
        let lock = File::options().write(true).create(true).truncate(false).open(&lock_path).at(&lock_path)?;
        rustix::fs::flock(&lock, rustix::fs::FlockOperation::LockExclusive).at(&lock_path)?;
        let database = Connection::open(path).map_err(wrap)?;
        prepare(&database).map_err(wrap)?;
        Ok(Self { path: path.to_path_buf(), database })
    }

    fn run<T>(&self, result: rusqlite::Result<T>) -> Result<T, StoreError> {
        result.map_err(|source| StoreError::Cache { path: self.path.clone(), source })
    }

    /// Another connection to the same cache.
    ///
    /// # Errors
    /// When it cannot be opened.
    pub(crate) fn again(&self) -> Result<Self, StoreError> {
        Self::open(&self.path)
    }

    /// The payload file of a number.
    ///
    /// # Errors
    /// When the database cannot be asked.
    pub(crate) fn payload(&self, number: i64) -> Result<Option<CachedPayload>, StoreError> {
        let query = self.database.prepare_cached("select name, length, seal from payload where id = ?1");
        let found = query.and_then(|mut query| {
            let read = |row: &rusqlite::Row<'_>| {
                let (length, seal): (i64, String) = (row.get(1)?, row.get(2)?);
                let seal = seal.lines().map(str::to_owned).collect();
                Ok(CachedPayload { name: row.get(0)?, length: length as u64, seal })
            };
            query.query_row([number], read).optional()
        });
        self.run(found)
    }

    /// The number of a payload file.
    ///
    /// # Errors
    /// When the database cannot be asked.
    pub(crate) fn number(&self, name: &str) -> Result<Option<i64>, StoreError> {
        let query = self.database.prepare_cached("select id from payload where name = ?1");
        let found = query.and_then(|mut query| query.query_row([name], |row| row.get(0)).optional());
        self.run(found)
    }

    /// Where a chunk lies: the number of the payload file, and the frame in it.
    ///
    /// # Errors
    /// When the database cannot be asked.
    pub fn find(&self, id: &Hash) -> Result<Option<(i64, u32)>, StoreError> {
        let query = self.database.prepare_cached("select payload, frame from chunk where id = ?1");
        let found = query.and_then(|mut query| {
            query.query_row(params![id.as_bytes()], |row| Ok((row.get(0)?, row.get(1)?))).optional()
        });
        self.run(found)
    }

    /// The first eight bytes of the ids of all chunks, sorted: what is not among them is certainly new.
    pub(crate) fn prefixes(&self) -> Result<Vec<u64>, StoreError> {
        let found = (|| {
            let count: i64 = self.database.query_row("select count(*) from chunk", [], |row| row.get(0))?;
            let mut prefixes = Vec::with_capacity(usize::try_from(count).unwrap_or(0));
            let mut query = self.database.prepare("select id from chunk")?;
            let mut rows = query.query([])?;
            while let Some(row) = rows.next()? {
                prefixes.extend(row.get_ref(0)?.as_blob().ok().and_then(Hash::from_slice).map(|id| id.prefix()));
            }
            prefixes.sort_unstable();
            Ok(prefixes)
        })();
        self.run(found)
    }

    /// Notes a payload file that is durable now.
    pub(crate) fn learn(
        &mut self,
        name: &str,
        length: u64,
        seal: &Recipients,
        chunks: &[TocChunk],
    ) -> Result<(), StoreError> {
        // In the order of the table they go in several times as fast.
        let mut sorted: Vec<(&Hash, u32)> = chunks.iter().map(|chunk| (&chunk.id, chunk.frame)).collect();
        sorted.sort_unstable();
        let learned = (|| {
            let change = self.database.transaction()?;
            change.execute(
                "insert or ignore into payload (name, length, seal) values (?1, ?2, ?3)",
                params![name, length as i64, seal.texts().join("\n")],
            )?;
            let payload: i64 = change.query_row("select id from payload where name = ?1", [name], |row| row.get(0))?;
            let mut insert = change.prepare("insert or replace into chunk values (?1, ?2, ?3)")?;
            for (id, frame) in sorted {
                insert.execute(params![id.as_bytes(), payload, frame])?;
            }
            drop(insert);
            change.commit()
        })();
        self.run(learned)
    }

    /// Learns of a payload file of a store from its table of contents; gives how many chunks it has.
    ///
    /// # Errors
    /// When it is missing, locked or damaged, or the database fails.
    pub fn learn_of(&mut self, store: &Store, name: &str, length: u64, seal: &Recipients) -> Result<u64, StoreError> {
        let contents = store.contents(name)?;
        self.learn(name, length, seal, &contents.chunks)?;
        Ok(contents.chunks.len() as u64)
    }

    /// Forgets a payload file that is gone or damaged, so that its chunks are stored anew.
    pub fn forget(&mut self, name: &str) -> Result<(), StoreError> {
        let forgotten = (|| {
            let change = self.database.transaction()?;
            change.execute("delete from chunk where payload in (select id from payload where name = ?1)", [name])?;
            change.execute("delete from payload where name = ?1", [name])?;
            change.commit()
        })();
        self.run(forgotten)
    }

    /// A small named value kept beside the index.
    pub fn value(&self, name: &str) -> Result<Option<String>, StoreError> {
        let found = self.database.query_row("select value from value where name = ?1", [name], |row| row.get(0));
        self.run(found.optional())
    }

    /// Keeps a small named value.
    pub fn set_value(&self, name: &str, value: &str) -> Result<(), StoreError> {
        let done = self.database.execute("insert or replace into value values (?1, ?2)", [name, value]);
        self.run(done).map(drop)
    }
}

fn prepare(database: &Connection) -> rusqlite::Result<()> {
    database.busy_timeout(std::time::Duration::from_secs(60))?;
    let _: String = database.query_row("pragma journal_mode = wal", [], |row| row.get(0))?;
    // It can be rebuilt, so a power cut may take the last changes; it must not leave it broken, and does not.
    database.execute_batch("pragma synchronous = normal")?;
    let version: i32 = database.query_row("pragma user_version", [], |row| row.get(0))?;
    if version != VERSION && version != 0 {
        database
            .execute_batch("drop table if exists chunk; drop table if exists payload; drop table if exists value;")?;
    }
    database.execute_batch(&format!(
        "create table if not exists payload (id integer primary key autoincrement, name text not null unique,
             length integer not null, seal text not null);
         create table if not exists chunk (id blob primary key, payload integer not null, frame integer not null)
             without rowid;
         create table if not exists value (name text primary key, value text not null);
         pragma user_version = {VERSION};"
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn many_open_a_fresh_cache_at_once() {
        for _ in 0..10 {
            let folder = tempfile::tempdir().unwrap();
            let path = folder.path().join("cache.db");
            std::thread::scope(|scope| {
                for number in 0..8u8 {
                    let path = &path;
                    scope.spawn(move || {
                        let mut cache = Cache::open(path).unwrap();
                        let chunk = TocChunk { id: Hash::of(&[number]), frame: 0, offset: 0, length: 1 };
                        cache.learn(&format!("payload/w/{number}"), 9, &Recipients::default(), &[chunk]).unwrap();
                    });
                }
            });
            let cache = Cache::open(&path).unwrap();
            assert!((0..8u8).all(|number| cache.find(&Hash::of(&[number])).unwrap().is_some()));
        }
    }
}
