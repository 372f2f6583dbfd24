//! `gullet new --from-running`: what runs is found, and what comes of it runs.

use std::fs;
use std::process::{Command, Stdio};

use crate::harness::Place;
use crate::recipes::{Redis, directory};
use crate::servers::{Mariadb, Postgres, wait_until};

#[test]
fn what_runs_is_proposed_and_runs_when_what_is_marked_is_filled_in() {
    // A database in a folder for temporary files is not proposed, so this one lies elsewhere.
    let folder = tempfile::tempdir_in("/var/tmp").unwrap();
    let place = Place::new();
    let postgres = Postgres::start("");
    postgres.sql("postgres", "create table booking as select n from generate_series(1, 500) n");
    let mariadb = Mariadb::start("");
    mariadb.sql("create database orders; create table orders.item (n int); insert into orders.item values (1), (2)");
    let redis = Redis::start(place.path("redis"));
    redis.ask(&["set", "sailing", "1"]);
    let ldap = directory(&place.path("ldap"));
    let database = folder.path().join("desk.db");
    let script = format!(
        "import sqlite3, time\nc = sqlite3.connect({:?})\nc.execute('create table t (n)')\nc.commit()\nopen({:?}, 'w')\ntime.sleep(600)",
        database.display().to_string(),
        folder.path().join("ready").display().to_string()
    );
    let mut desk = Command::new("python3").args(["-c", &script]).stdin(Stdio::null()).spawn().unwrap();
    wait_until("the desk", || folder.path().join("ready").exists());
    place.gullet(&["new", "quay", "--from-running", "--out", "found.toml"]).exits(0).says("running here");
    let text = fs::read_to_string(place.path("found.toml")).unwrap();
    // Other tests have servers of their own; of what was found only these are ours.
    let (head, parts) = text.split_once("[[app.quay.part]]").unwrap();
    let ours = [
        postgres.folder.display().to_string(),
        mariadb.folder.display().to_string(),
        place.text("redis"),
        place.text("ldap"),
        database.display().to_string(),
    ];
    let parts: Vec<&str> =
        parts.split("[[app.quay.part]]").filter(|part| ours.iter().any(|of| part.contains(of))).collect();
    let _ = (desk.kill(), desk.wait());
    assert_eq!(parts.len(), 6, "PostgreSQL, MariaDB, Redis, the directory's two, SQLite: {text}");
    // What is marked is filled in.
    assert!(head.contains("CHANGE"), "{head}");
    let head = head.replace("/srv/depot", &place.text("depot")).replace("/var/lib/gullet", &place.text("state"));
    let definition = format!("{head}[[app.quay.part]]{}", parts.join("[[app.quay.part]]"));
    place.file("gullet.toml", definition.replace("ldapi:///", &ldap.url));
    place.gullet(&["plan", "quay"]).exits(0);
    place.gullet(&["store", "new", "depot"]).exits(0);
    let run = place.gullet(&["run", "quay"]);
    assert!(run.code == 0 || run.code == 6, "{}{}", run.out, run.err);
    let record = place.record();
    let captures = record["captures"].as_array().unwrap();
    assert!(captures.iter().all(|capture| capture["problem"].is_null()), "{captures:?}");
    assert_eq!(captures.len(), 6);
}
