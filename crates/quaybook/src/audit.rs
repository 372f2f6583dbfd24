//! Adding up a desk's three kinds of state.

use std::fs;
use std::path::Path;

use rusqlite::{Connection, OpenFlags};
use serde::Serialize;

use crate::desk::{Desk, Failure};

/// What the three say, each for itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Audit {
    /// Rows in the bookings.
    pub bookings: i64,
    /// Passengers in the bookings.
    pub booked_passengers: i64,
    /// What the bookings should have brought in, in cents.
    pub booked_cents: i64,
    /// Rows in the till.
    pub payments: i64,
    /// What is in the till, in cents.
    pub paid_cents: i64,
    /// Lines on the boarding lists.
    pub boarding: i64,
    /// Passengers on the boarding lists.
    pub boarding_passengers: i64,
}

impl Audit {
    /// Adds up the desk in `folder`.
    ///
    /// # Errors
    /// When one of the three is missing or cannot be read.
    pub fn of(folder: &Path) -> Result<Self, Box<dyn std::error::Error + Send + Sync>> {
        let desk = Desk::new(folder);
        let bookings = open_to_read(&desk.bookings())?;
        let (bookings, booked_passengers, booked_cents) = bookings
            .query_row("select count(*), total(passengers), total(cents) from booking", [], |row| {
                Ok((row.get(0)?, row.get::<_, f64>(1)? as i64, row.get::<_, f64>(2)? as i64))
            })
            .map_err(|error| format!("{}: {error}", desk.bookings().display()))?;
        let till = open_to_read(&desk.till())?;
        let (payments, paid_cents) = till
            .query_row("select count(*), total(cents) from payment", [], |row| {
                Ok((row.get(0)?, row.get::<_, f64>(1)? as i64))
            })
            .map_err(|error| format!("{}: {error}", desk.till().display()))?;
        let (boarding, boarding_passengers) = boarding_lists(&desk.manifests())?;
        Ok(Self { bookings, booked_passengers, booked_cents, payments, paid_cents, boarding, boarding_passengers })
    }

    /// How the three disagree, in words; empty when they agree.
    pub fn differences(&self) -> Vec<String> {
        let pairs = [
            ("bookings", self.bookings, "payments", self.payments),
            ("bookings", self.bookings, "boarding entries", self.boarding),
            ("cents booked", self.booked_cents, "cents in the till", self.paid_cents),
            ("passengers booked", self.booked_passengers, "passengers on boarding lists", self.boarding_passengers),
        ];
        let differ = pairs.into_iter().filter(|(_, a, _, b)| a != b);
        differ.map(|(left, a, right, b)| format!("{a} {left} but {b} {right}")).collect()
    }
}

/// Opens a database without changing anything beside it, unless a write-ahead log must be read with it.
fn open_to_read(path: &Path) -> Result<Connection, Failure> {
    let log = path.with_file_name(format!("{}-wal", path.file_name().unwrap_or_default().to_string_lossy()));
    let has_log = fs::metadata(&log).is_ok_and(|meta| meta.len() > 0);
    if !path.is_file() {
        return Err(format!("{} is not there", path.display()).into());
    }
    let opened = if has_log {
        Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_WRITE)
    } else {
        let uri = format!("file:{}?immutable=1", path.display());
        Connection::open_with_flags(uri, OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI)
    };
    opened.map_err(|error| format!("{}: {error}", path.display()).into())
}

fn boarding_lists(folder: &Path) -> Result<(i64, i64), Failure> {
    let (mut lines, mut passengers) = (0, 0);
    for entry in fs::read_dir(folder).map_err(|error| format!("{}: {error}", folder.display()))? {
        let path = entry?.path();
        if path.extension().is_some_and(|extension| extension == "list") {
            for line in fs::read_to_string(&path)?.lines() {
                let number = line.split_once(' ').and_then(|(_, number)| number.parse::<i64>().ok());
                passengers += number.ok_or_else(|| format!("{}: `{line}` is cut short", path.display()))?;
                lines += 1;
            }
        }
    }
    Ok((lines, passengers))
}
