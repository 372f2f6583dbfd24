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
use crate::reader::Place;

/// Version of the cache's tables; a cache of another version is thrown away.
const VERSION: i32 = 1;

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

    /// Where a chunk lies, with the length of the payload file that holds it.
    pub fn find(&self, id: &Hash) -> Result<Option<(Place, u64)>, StoreError> {
        let found = self.database.prepare_cached(
            "select p.name, c.frame, c.offset, c.length, p.length from chunk c join payload p on p.id = c.payload
             where c.id = ?1",
        );
        let found = found.and_then(|mut query| {
            query
                .query_row(params![id.as_bytes()], |row| {
                    let place =
                        Place { payload: row.get(0)?, frame: row.get(1)?, offset: row.get(2)?, length: row.get(3)? };
                    Ok((place, row.get::<_, i64>(4)? as u64))
                })
                .optional()
        });
        self.run(found)
    }

    /// Notes a payload file that is durable now.
    pub(crate) fn learn(&mut self, name: &str, length: u64, chunks: &[TocChunk]) -> Result<(), StoreError> {
        let learned = (|| {
            let change = self.database.transaction()?;
            change.execute(
                "insert or ignore into payload (name, length) values (?1, ?2)",
                params![name, length as i64],
            )?;
            let payload: i64 = change.query_row("select id from payload where name = ?1", [name], |row| row.get(0))?;
            let mut insert = change.prepare("insert or ignore into chunk values (?1, ?2, ?3, ?4, ?5)")?;
            for chunk in chunks {
                insert.execute(params![chunk.id.as_bytes(), payload, chunk.frame, chunk.offset, chunk.length])?;
            }
            drop(insert);
            change.commit()
        })();
        self.run(learned)
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
    let version: i32 = database.query_row("pragma user_version", [], |row| row.get(0))?;
    if version != VERSION && version != 0 {
        database
            .execute_batch("drop table if exists chunk; drop table if exists payload; drop table if exists value;")?;
    }
    database.execute_batch(&format!(
        "create table if not exists payload (id integer primary key, name text not null unique, length integer not null);
         create table if not exists chunk (id blob primary key, payload integer not null, frame integer not null,
             offset integer not null, length integer not null) without rowid;
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
                        cache.learn(&format!("payload/w/{number}"), 9, &[chunk]).unwrap();
                    });
                }
            });
            let cache = Cache::open(&path).unwrap();
            assert!((0..8u8).all(|number| cache.find(&Hash::of(&[number])).unwrap().is_some()));
        }
    }
}
