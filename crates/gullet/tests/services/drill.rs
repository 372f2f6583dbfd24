//! Drills with the real servers: a good run is proven, one that lacks a table or was damaged before it was captured is not, and
//! the live server is not touched.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;

use crate::harness::Place;
use crate::servers::{Mariadb, Postgres, TemporaryTable, folder, give_to_nobody, wait_until};

/// A folder with a program of this name, which is a script.
fn program(place: &Place, name: &str, script: &str) -> String {
    let path: PathBuf = place.file(&format!("programs/{name}"), format!("#!/bin/sh\n{script}\n"));
    fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).unwrap();
    for above in [place.path(""), place.path("programs")] {
        fs::set_permissions(above, fs::Permissions::from_mode(0o755)).unwrap();
    }
    place.text("programs")
}

fn parts(server: &Postgres, more: &str) -> String {
    let host = server.folder.display();
    format!("[[app.app.part]]\nname = \"bases\"\npostgres = {{ host = \"{host}\", databases = [\"*\"]{more} }}\n")
}

/// No server of a drill and no folder of its socket is left.
fn nothing_left(place: &Place) {
    assert_eq!(fs::read_dir(place.path("state/drills")).unwrap().count(), 0, "the scratch place is cleared");
    for entry in fs::read_dir("/proc").unwrap().flatten() {
        let words = fs::read(entry.path().join("cmdline")).unwrap_or_default();
        let words = String::from_utf8_lossy(&words).into_owned();
        assert!(!words.contains(&place.text("state/drills")), "{words}");
    }
}

#[test]
fn exported_postgres_databases_are_proven_in_a_new_server_or_it_is_said_why_not() {
    let server = Postgres::start("");
    server.bench();
    server.sql("postgres", "create role clerk login password 'x'");
    server.sql("postgres", "create database \"inner isles\" owner clerk");
    server.sql("inner isles", "create table landing (at int); insert into landing select generate_series(1, 77)");
    let started = server.sql("postgres", "select pg_postmaster_start_time()");
    let checks = "[app.app.drill]\nchecks = [{ name = \"landings\", run = [\"psql\", \"-h\", \"{socket.bases}\", \"-U\", \"postgres\", \
                  \"-d\", \"inner isles\", \"-Atc\", \"select count(*) from landing\"], prints = \"77\" }]\n";
    let place = Place::with_parts(&format!("{}{checks}", parts(&server, "")));
    place.gullet(&["run", "app"]).exits(0);
    let drill = place.gullet(&["drill", "app"]).exits(0).says("a new PostgreSQL 15 takes it").says("landings");
    assert!(drill.out.contains("counts as recorded"), "{}", drill.out);
    nothing_left(&place);
    assert_eq!(server.sql("postgres", "select pg_postmaster_start_time()"), started, "the live server went on");

    for (script, why) in [
        (
            "exec /usr/lib/postgresql/15/bin/pg_dump \"$@\" --exclude-table=public.landing",
            "the table inner isles.public.landing is not there",
        ),
        (
            "/usr/lib/postgresql/15/bin/pg_dump \"$@\" || exit 1\nfor word; do case $word in --file=*) sed -i 's/^CREATE TABLE/CREATE TABEL/' \"${word#--file=}\";; esac; done",
            "cannot be brought into a new server",
        ),
        (
            "/usr/lib/postgresql/15/bin/pg_dump \"$@\" || exit 1\nfor word; do case $word in --file=*) sed -i '/^42$/d' \"${word#--file=}\";; esac; done",
            "has 76 rows, and 77 were recorded",
        ),
    ] {
        let place = Place::new();
        let programs = program(&place, "pg_dump", script);
        place.define(&format!(
            "[app.app]\nno_hold = \"a test\"\n{}",
            parts(&server, &format!(", programs = \"{programs}\""))
        ));
        place.gullet(&["store", "new", "depot"]).exits(0);
        place.gullet(&["run", "app"]).exits(0);
        place.gullet(&["drill", "app"]).exits(1).says("✗ not proven").says(why);
        place.gullet(&["status"]).exits(2).says("the last drill failed");
        nothing_left(&place);
    }
}

#[test]
fn a_postgres_cluster_with_a_tablespace_is_started_apart_from_the_live_one() {
    let server = Postgres::start("wal_level = replica\nmax_wal_senders = 4\n");
    server.bench();
    let space = folder();
    let shore = space.path().join("shore");
    fs::create_dir(&shore).unwrap();
    give_to_nobody(&shore);
    server.sql("postgres", &format!("create tablespace shore location '{}'", shore.display()));
    server.sql(
        "postgres",
        "create table kept_ashore (n int) tablespace shore; insert into kept_ashore select generate_series(1, 500)",
    );
    let (host, data) = (server.folder.display(), server.data.display());
    let part =
        format!("[[app.app.part]]\nname = \"cluster\"\npostgres = {{ host = \"{host}\", cluster = \"{data}\" }}\n");
    let check = "[app.app.drill]\nchecks = [{ name = \"ashore\", run = [\"psql\", \"-h\", \"{socket.cluster}\", \"-U\", \"postgres\", \
                 \"-d\", \"postgres\", \"-Atc\", \"select count(*) from kept_ashore\"], prints = \"500\" }]\n";
    let place = Place::with_parts(&format!("{part}{check}"));
    server.at_work(|| {
        place.gullet(&["run", "app"]).exits(0);
        // What is written where the live one keeps its tables would change it.
        place.gullet(&["drill", "app"]).exits(0).says("PostgreSQL 15 starts on it").says("pg_amcheck").says("ashore");
    });
    nothing_left(&place);
    let sums = server.sums();
    assert!(sums.iter().all(|sum| *sum == sums[0]), "{sums:?}");
    assert_eq!(server.sql("postgres", "select count(*) from kept_ashore"), "500");
}

#[test]
fn what_the_live_server_is_subscribed_to_is_left_to_it() {
    let server = Postgres::start("wal_level = logical\nlog_connections = on\n");
    let host = server.folder.display();
    server.sql("postgres", "create table tides (n int primary key)");
    server.sql("postgres", "create publication tides for table tides");
    server.sql("postgres", "select pg_create_logical_replication_slot('tides', 'pgoutput')");
    server.sql("postgres", "create database copy");
    server.sql("copy", "create table tides (n int primary key)");
    server.sql(
        "copy",
        &format!(
            "create subscription tides connection 'host={host} dbname=postgres user=postgres' publication tides \
             with (create_slot = false, copy_data = false)"
        ),
    );
    let arrives = |rows: &str| {
        server.sql("postgres", &format!("insert into tides values ({rows})"));
        wait_until("a row", || server.sql("copy", "select max(n) from tides") == rows);
    };
    arrives("1");
    let asked = || server.log().matches("replication connection authorized").count();
    let before = asked();
    assert!(before > 0, "{}", server.log());
    let data = server.data.display();
    let part =
        format!("[[app.app.part]]\nname = \"cluster\"\npostgres = {{ host = \"{host}\", cluster = \"{data}\" }}\n");
    // As long as a worker that may start needs for its first try.
    let check = "[app.app.drill]\nchecks = [{ name = \"a while\", run = [\"sleep\", \"2\"] }]\n";
    let place = Place::with_parts(&format!("{part}{check}"));
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["drill", "app"]).exits(0).says("PostgreSQL 15 starts on it");
    assert_eq!(asked(), before, "{}", server.log());
    arrives("2");
}

#[test]
fn exported_mariadb_databases_are_proven_in_a_new_server_or_it_is_said_why_not() {
    let server = Mariadb::start("log-bin\n");
    server.bank();
    let part = |more: &str| {
        let socket = server.socket();
        format!(
            "[[app.app.part]]\nname = \"bases\"\nmariadb = {{ socket = \"{socket}\", databases = [\"*\"]{more} }}\n"
        )
    };
    let check = "[app.app.drill]\nchecks = [{ name = \"the bank adds up\", run = [\"mariadb\", \"--no-defaults\", \"-uroot\", \"-S\", \"{socket.bases}\", \
                 \"-NBe\", \"select (select sum(balance) from bank.account), (select coalesce(sum(amount), 0) from bank.transfer)\"], prints = \"2000000\\t0\" }]\n";
    let place = Place::with_parts(&format!("{}{check}", part("")));
    server.at_work(|| {
        place.gullet(&["run", "app"]).exits(0);
    });
    let other = TemporaryTable::new();
    place
        .gullet(&["drill", "app"])
        .exits(0)
        .says("a new MariaDB takes it")
        .says("the bank adds up")
        .says("counts as recorded");
    other.is_untouched();
    nothing_left(&place);

    for (script, why) in [
        ("exec /usr/bin/mariadb-dump \"$@\" --ignore-table=bank.draft", "the table bank.draft is not there"),
        ("/usr/bin/mariadb-dump \"$@\" | sed 's/^CREATE TABLE/CREATE TABEL/'", "cannot be brought into a new server"),
    ] {
        let place = Place::new();
        let programs = program(&place, "mariadb-dump", script);
        place.define(&format!("[app.app]\nno_hold = \"a test\"\n{}", part(&format!(", programs = \"{programs}\""))));
        place.gullet(&["store", "new", "depot"]).exits(0);
        place.gullet(&["run", "app"]).exits(0);
        place.gullet(&["drill", "app"]).exits(1).says("✗ not proven").says(why);
        nothing_left(&place);
    }
}

#[test]
fn a_folder_that_leads_to_the_live_servers_files_is_not_started() {
    let place = Place::with_parts(
        "[[app.app.part]]\nname = \"bank\"\nmariadb = { socket = \"@/socket\", datadir = \"@/data\" }\n",
    );
    let live = place.file("data/bank/berths.ibd", "the live one");
    // It leads to a file of the same folder, which is captured; restored, it still leads to the live one.
    place.file("data/bank/berths.isl", live.display().to_string());
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["drill", "app"]).exits(1).says("bank/berths.isl").says("the live server's own");
    assert_eq!(fs::read_to_string(live).unwrap(), "the live one");
    nothing_left(&place);
}
