//! What the demo is for: copies taken while the desk serves disagree, captures taken in the hold agree.

use std::fs;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use rusqlite::Connection;

use crate::harness::{Desk, audit};

/// How many plain copies are made; each takes until the desk took a booking between two files, as a copy of a large desk does.
const COPIES: usize = 20;

#[test]
fn a_plain_copy_of_a_serving_desk_disagrees_every_time() {
    let desk = Desk::open();
    let serial = || desk.ask(&["serial"]).out.trim().parse::<i64>().unwrap();
    for number in 0..COPIES {
        let copy = desk.place.path(&format!("copy-{number}"));
        fs::create_dir(&copy).unwrap();
        let entries = fs::read_dir(desk.place.path("desk")).unwrap().map(|entry| entry.unwrap().path());
        // The database has a log beside it, which belongs to it.
        let (database, others): (Vec<_>, Vec<_>) =
            entries.partition(|path| path.to_string_lossy().contains("/bookings.db"));
        let plain_copy = |paths: &[PathBuf]| {
            // The socket cannot be copied, which `cp` says; everything else is.
            Command::new("cp").arg("-r").args(paths).arg(&copy).stderr(Stdio::null()).status().unwrap();
        };
        plain_copy(&others);
        let copied_at = serial();
        let began = Instant::now();
        while serial() <= copied_at + 1 {
            assert!(began.elapsed() < Duration::from_secs(20), "no booking is taken any more");
        }
        plain_copy(&database);
        let audit = audit(&copy);
        assert_eq!(audit.code, 1, "copy {number} agrees: the demo proves nothing\n{}", audit.out);
    }
}

#[test]
fn captures_in_the_hold_agree_twenty_times_out_of_twenty() {
    let desk = Desk::open();
    for number in 0..20 {
        desk.run().completes();
        let restored = desk.restore(&format!("restored-{number}"));
        audit(&restored).exits(0).says("they agree");
    }
    // And it was really written to all the while.
    let bookings: i64 = desk.ask(&["serial"]).out.trim().parse().unwrap();
    assert!(bookings > 1000, "only {bookings} bookings were taken");
}

#[test]
fn a_database_is_sound_and_its_counted_rows_are_those_restored() {
    let desk = Desk::open();
    desk.run().completes();
    let capture = desk.place.capture("bookings");
    let restored = Connection::open(desk.restore("restored").join("bookings.db")).unwrap();
    let sound: String = restored.query_row("pragma integrity_check", [], |row| row.get(0)).unwrap();
    assert_eq!(sound, "ok");
    let mut rows = 0;
    for table in ["booking", "journal"] {
        let count: i64 = restored.query_row(&format!("select count(*) from {table}"), [], |row| row.get(0)).unwrap();
        assert!(count > 0);
        assert_eq!(capture["facts"][format!("rows.{table}")], count, "{table}");
        rows += count;
    }
    assert_eq!(capture["facts"]["rows"], rows);
    assert_eq!(capture["facts"]["tables"], 2);
}

#[test]
fn facts_of_an_export_are_of_its_own_moment() {
    let desk = Desk::open();
    desk.run().completes();
    let capture = desk.place.capture("ledger-inner-isles");
    desk.restore("restored");
    let ledger = desk.place.path("restored/exports/ledger-inner-isles");
    let rows = fs::read_to_string(ledger.join("inner-isles.csv")).unwrap().lines().count() as i64 - 1;
    assert_eq!(capture["facts"]["rows"], rows);
    let last = fs::read_to_string(ledger.join("inner-isles.csv")).unwrap();
    let last: i64 = last.lines().last().unwrap().split(',').next().unwrap().parse().unwrap();
    assert_eq!(capture["facts"]["serial"], last);
}

#[test]
fn clean_up_purges_up_to_what_was_captured_and_no_further() {
    let desk = Desk::open();
    desk.run().completes();
    let serial = desk.place.capture("bookings")["facts"]["serial"].as_i64().unwrap();
    let live = Connection::open(desk.place.path("desk/bookings.db")).unwrap();
    let kept: i64 = live.query_row("select min(booking) from journal", [], |row| row.get(0)).unwrap();
    assert_eq!(kept, serial + 1);
    let later = desk.place.json(&["show", "quaybook@latest"])["remarks"][0].clone();
    assert_eq!(later["what"], "hooks");
    let argv = later["steps"][0]["commands"][0]["argv"].as_array().unwrap();
    assert_eq!(argv.last().unwrap(), &serde_json::json!(serial.to_string()));
}
