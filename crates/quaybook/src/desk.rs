//! The desk's folder and what a booking writes into it.

use std::fs::{self, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use rusqlite::{Connection, params};

/// The ledgers that payments are entered in.
pub const LEDGERS: [&str; 2] = ["inner-isles", "outer-isles"];
const SAILINGS: [&str; 8] = [
    "gannet-0600",
    "gannet-1230",
    "gannet-1900",
    "kittiwake-0745",
    "kittiwake-1615",
    "puffin-0900",
    "puffin-1400",
    "puffin-2015",
];

/// A failure of the desk, in words for a person.
pub(crate) type Failure = Box<dyn std::error::Error + Send + Sync>;

/// The folder that a booking desk keeps everything in.
#[derive(Clone, Debug)]
pub struct Desk {
    folder: PathBuf,
}

/// One booking as it goes through the desk.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Booking {
    pub(crate) id: i64,
    pub(crate) passengers: i64,
    pub(crate) cents: i64,
    sailing: &'static str,
    ledger: &'static str,
}

impl Desk {
    /// The desk in `folder`.
    pub fn new(folder: impl Into<PathBuf>) -> Self {
        Self { folder: folder.into() }
    }

    /// The folder itself.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The database of bookings.
    pub fn bookings(&self) -> PathBuf {
        self.folder.join("bookings.db")
    }

    /// The database of payments.
    pub fn till(&self) -> PathBuf {
        self.folder.join("till.db")
    }

    /// The folder of boarding lists.
    pub fn manifests(&self) -> PathBuf {
        self.folder.join("manifests")
    }

    /// Takes other settings; they are in force when the desk opens.
    ///
    /// # Errors
    /// When it is no JSON object, or cannot be written.
    pub fn set_settings(&self, text: &str) -> Result<(), Failure> {
        let settings: serde_json::Map<String, serde_json::Value> = serde_json::from_str(text)?;
        let new = self.settings().with_extension("json.new");
        fs::write(&new, serde_json::to_string_pretty(&settings)? + "\n")?;
        fs::rename(&new, self.settings())?;
        Ok(())
    }

    /// The settings file.
    pub fn settings(&self) -> PathBuf {
        self.folder.join("settings.json")
    }

    /// The socket that the desk answers on.
    pub fn socket(&self) -> PathBuf {
        self.folder.join("quaybook.sock")
    }

    /// Makes everything that is not there yet.
    pub(crate) fn prepare(&self) -> Result<(), Failure> {
        fs::create_dir_all(self.manifests())?;
        let bookings = open(&self.bookings())?;
        bookings.execute_batch(
            "create table if not exists booking (id integer primary key, sailing text not null,
                 passengers integer not null, cents integer not null);
             create table if not exists journal (booking integer primary key, what text not null);",
        )?;
        open(&self.till())?.execute_batch(
            "create table if not exists payment (booking integer primary key, cents integer not null,
                 ledger text not null);",
        )?;
        let index = serde_json::json!({ "line": "Skerry Line", "sailings": SAILINGS });
        write_once(&self.manifests().join("index.json"), &index)?;
        let settings = serde_json::json!({
            "line": "Skerry Line", "office": "Gannet Quay", "currency": "SKD", "desks": 3,
            "open": "05:30", "closed": "21:00", "operators": ["brenna", "odo", "tamsin"],
        });
        write_once(&self.settings(), &settings)?;
        Ok(())
    }

    /// The names of all ledgers, one a line as JSON.
    pub(crate) fn ledgers(&self) -> String {
        LEDGERS.iter().map(|name| format!("{}\n", serde_json::json!({ "name": name }))).collect()
    }

    fn ledger(name: &str) -> Result<&'static str, Failure> {
        let found = LEDGERS.iter().find(|ledger| **ledger == name);
        found.copied().ok_or_else(|| format!("there is no ledger `{name}`").into())
    }

    /// Rows in a ledger.
    pub(crate) fn count(&self, ledger: &str) -> Result<i64, Failure> {
        let ledger = Self::ledger(ledger)?;
        let query = "select count(*) from payment where ledger = ?1";
        Ok(open(&self.till())?.query_row(query, [ledger], |row| row.get(0))?)
    }

    /// The number of the last payment in a ledger, or of the last booking of all.
    pub(crate) fn serial(&self, ledger: Option<&str>) -> Result<i64, Failure> {
        let last = match ledger {
            None => open(&self.bookings())?.query_row("select max(id) from booking", [], |row| row.get(0)),
            Some(name) => {
                let query = "select max(booking) from payment where ledger = ?1";
                open(&self.till())?.query_row(query, [Self::ledger(name)?], |row| row.get(0))
            }
        };
        Ok(last.map(|last: Option<i64>| last.unwrap_or(0))?)
    }

    /// Writes a ledger as `NAME.csv` into `folder`, with its number of rows in `NAME.count`.
    pub(crate) fn export(&self, ledger: &str, folder: &Path) -> Result<usize, Failure> {
        let ledger = Self::ledger(ledger)?;
        let till = open(&self.till())?;
        let mut query = till.prepare("select booking, cents from payment where ledger = ?1 order by booking")?;
        let mut rows = query.query([ledger])?;
        let mut csv = String::from("booking,cents\n");
        let mut count = 0;
        while let Some(row) = rows.next()? {
            csv.push_str(&format!("{},{}\n", row.get::<_, i64>(0)?, row.get::<_, i64>(1)?));
            count += 1;
        }
        fs::write(folder.join(format!("{ledger}.csv")), csv)?;
        fs::write(folder.join(format!("{ledger}.count")), format!("{count}\n"))?;
        Ok(count)
    }

    /// Forgets the journal up to a booking; gives the number of lines forgotten.
    pub(crate) fn purge(&self, up_to: i64) -> Result<usize, Failure> {
        Ok(open(&self.bookings())?.execute("delete from journal where booking <= ?1", [up_to])?)
    }
}

fn write_once(path: &Path, value: &serde_json::Value) -> io::Result<()> {
    if path.exists() { Ok(()) } else { fs::write(path, format!("{value:#}\n")) }
}

/// Opens one of the desk's databases for reading and writing.
pub(crate) fn open(path: &Path) -> Result<Connection, Failure> {
    let database = Connection::open(path)?;
    database.busy_timeout(std::time::Duration::from_secs(10))?;
    let _: String = database.query_row("pragma journal_mode = wal", [], |row| row.get(0))?;
    database.execute_batch("pragma synchronous = off")?;
    Ok(database)
}

/// One worker's open hands: what it books with.
pub(crate) struct Counter {
    bookings: Connection,
    till: Connection,
    manifests: PathBuf,
}

impl Counter {
    pub(crate) fn open(desk: &Desk) -> Result<Self, Failure> {
        Ok(Self { bookings: open(&desk.bookings())?, till: open(&desk.till())?, manifests: desk.manifests() })
    }

    /// First step: the booking.
    pub(crate) fn book(&self, turn: u64) -> Result<Booking, Failure> {
        // Spread over sailings and sizes without a random source, so that a desk needs none.
        let mixed = turn.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 33;
        let sailing = SAILINGS[(mixed % SAILINGS.len() as u64) as usize];
        let passengers = 1 + (mixed / 8 % 5) as i64;
        let cents = passengers * 1250;
        let insert = "insert into booking (sailing, passengers, cents) values (?1, ?2, ?3)";
        self.bookings.execute(insert, params![sailing, passengers, cents])?;
        let id = self.bookings.last_insert_rowid();
        self.bookings.execute("insert into journal values (?1, 'taken')", [id])?;
        let ledger = LEDGERS[usize::from(sailing.starts_with("puffin"))];
        Ok(Booking { id, passengers, cents, sailing, ledger })
    }

    /// Second step: the payment.
    pub(crate) fn pay(&self, booking: &Booking) -> Result<(), Failure> {
        let insert = "insert into payment (booking, cents, ledger) values (?1, ?2, ?3)";
        self.till.execute(insert, params![booking.id, booking.cents, booking.ledger])?;
        Ok(())
    }

    /// Third step: the boarding list.
    pub(crate) fn list(&self, booking: &Booking) -> Result<(), Failure> {
        let path = self.manifests.join(format!("{}.list", booking.sailing));
        let mut file = OpenOptions::new().create(true).append(true).open(path)?;
        file.write_all(format!("{} {}\n", booking.id, booking.passengers).as_bytes())?;
        Ok(())
    }
}
