//! What the demo is for: copies taken while the desk serves disagree, captures taken in the hold agree.

use std::fs;
use std::process::Command;

use rusqlite::Connection;

use crate::harness::{Desk, audit};

#[test]
fn a_plain_copy_of_a_serving_desk_disagrees_in_nearly_every_try() {
    let desk = Desk::open();
    let mut disagree = 0;
    for number in 0..20 {
        let copy = desk.place.path(&format!("copy-{number}"));
        // The socket cannot be copied, which `cp` says; everything else is.
        Command::new("cp")
            .arg("-r")
            .arg(desk.place.path("desk"))
            .arg(&copy)
            .stderr(std::process::Stdio::null())
            .status()
            .unwrap();
        let audit = audit(&copy);
        disagree += i32::from(audit.code == 1);
    }
    assert!(disagree >= 18, "only {disagree} of 20 plain copies disagree: the demo proves nothing");
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
