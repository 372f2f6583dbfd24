//! Restoring in place with the real servers: a cluster changes hands, exported databases come back into a server.

use crate::harness::Place;
use crate::servers::{Mariadb, Postgres};

/// A place whose definition captures from one server and brings back into another.
fn moved(part: impl Fn(&str) -> String, from: &str, to: &str) -> Place {
    let place = Place::with_parts(&part(from));
    place.gullet(&["run", "app"]).exits(0);
    place.define(&format!("[app.app]\nno_hold = \"a test\"\n{}", part(to)));
    place
}

const GO: [&str; 6] = ["restore", "app", "--in-place", "--yes", "--accept", "running"];

#[test]
fn exported_postgres_databases_come_back_into_a_new_server_and_never_over_anything() {
    let (old, new) = (Postgres::start(""), Postgres::start(""));
    old.bench();
    old.sql("postgres", "create role clerk login password 'x'");
    old.sql("postgres", "create database \"inner isles\" owner clerk");
    old.sql("inner isles", "create table landing (at int); insert into landing select generate_series(1, 77)");
    let part = |host: &str| {
        format!("[[app.app.part]]\nname = \"bases\"\npostgres = {{ host = \"{host}\", databases = [\"*\"] }}\n")
    };
    let (from, to) = (old.folder.display().to_string(), new.folder.display().to_string());
    let place = moved(part, &from, &to);
    place
        .gullet(&[&GO[..3], &["--plan"]].concat())
        .exits(0)
        .says("into PostgreSQL at")
        .says("where none of it may be yet");
    place.gullet(&GO).exits(0).says("bring back bases");
    assert_eq!(new.sql("inner isles", "select count(*) from landing"), "77");
    assert_eq!(new.sums(), old.sums());
    assert_eq!(new.sql("postgres", "select count(*) from pg_roles where rolname = 'clerk'"), "1");
    place.gullet(&["restore", "app", "--discard-old", "--yes"]).exits(0);
    // It is there already: nothing is touched.
    place.gullet(&GO).exits(1).says("has a database").says("already");
    assert_eq!(new.sql("inner isles", "select count(*) from landing"), "77");
    place.gullet(&["restore", "app", "--undo"]).exits(0);
    // What does not go all the way is taken out again.
    new.sql("postgres", "drop database \"inner isles\"");
    new.sql("template1", "drop database postgres");
    new.sql("template1", "create database postgres");
    let check = "[app.app.restore]\nbefore_start = [{ name = \"never\", run = [\"false\"] }]\n";
    place.define(&format!("[app.app]\nno_hold = \"a test\"\n{}{check}", part(&to)));
    place.gullet(&GO).exits(1).says("the check `never`").says("was removed again");
    assert_eq!(new.sql("template1", "select count(*) from pg_database where datname = 'inner isles'"), "0");
}

#[test]
fn exported_mariadb_databases_come_back_into_a_new_server_and_never_over_anything() {
    let (old, new) = (Mariadb::start("log-bin\n"), Mariadb::start(""));
    old.bank();
    old.sql("create user clerk@localhost identified by 'x'");
    let part = |socket: &str| {
        format!("[[app.app.part]]\nname = \"bases\"\nmariadb = {{ socket = \"{socket}\", databases = [\"*\"] }}\n")
    };
    let place = moved(part, &old.socket(), &new.socket());
    place.gullet(&GO).exits(0).says("bring back bases");
    assert_eq!(new.sums(), old.sums());
    assert_eq!(new.sql("select count(*) from mysql.global_priv where user = 'clerk'"), "1");
    place.gullet(&["restore", "app", "--discard-old", "--yes"]).exits(0);
    place.gullet(&GO).exits(1).says("has a database `bank` already");
    assert_eq!(new.sums(), old.sums());
}

/// How a server is stopped and started as the application of a restore.
fn stopped_and_started(server: &Postgres) -> String {
    let (host, data) = (server.folder.display(), server.data.display());
    let control = |what: &str| {
        let program = "/usr/lib/postgresql/15/bin/pg_ctl";
        let words =
            format!("\"{program}\", \"-D\", \"{data}\", \"-w\", \"-m\", \"fast\", \"-l\", \"{host}/log\", \"{what}\"");
        format!("{{ run = [{words}], as = \"nobody\" }}")
    };
    let ask = |more: &str| {
        let words = format!(
            "\"psql\", \"-h\", \"{host}\", \"-U\", \"postgres\", \"-d\", \"template1\", \"-Atc\", \"select 1\""
        );
        format!("{{ run = [{words}], within = \"20s\", {more} }}")
    };
    let (stop, stopped, start, started) = (control("stop"), ask("exit = 2"), control("start"), ask("prints = \"1\""));
    format!(
        "[app.app.restore]\nstop = {stop}\nstopped = {stopped}\nstart = {start}\nstarted = {started}\nat_boot = \"stay stopped\"\n"
    )
}

#[test]
fn a_server_that_is_stopped_with_its_application_takes_its_databases_when_it_is_started() {
    let (old, new) = (Postgres::start(""), Postgres::start(""));
    old.bench();
    let part = |server: &Postgres| {
        let host = server.folder.display();
        format!("[[app.app.part]]\nname = \"bases\"\npostgres = {{ host = \"{host}\", databases = [\"*\"] }}\n")
    };
    let place = Place::with_parts(&part(&old));
    place.gullet(&["run", "app"]).exits(0);
    place.define(&format!("[app.app]\nno_hold = \"a test\"\n{}{}", part(&new), stopped_and_started(&new)));
    place.gullet(&["restore", "app", "--in-place", "--yes"]).exits(0).says("bring back bases");
    assert_eq!(new.sums(), old.sums());
}

#[test]
fn a_postgres_cluster_is_stopped_changes_hands_and_is_started() {
    let server = Postgres::start("wal_level = replica\nmax_wal_senders = 4\n");
    server.bench();
    let (host, data) = (server.folder.display(), server.data.display());
    let part =
        format!("[[app.app.part]]\nname = \"cluster\"\npostgres = {{ host = \"{host}\", cluster = \"{data}\" }}\n");
    let definition = format!("{part}{}", stopped_and_started(&server));
    let place = Place::with_parts(&definition);
    server.at_work(|| {
        place.gullet(&["run", "app"]).exits(0);
    });
    server.sql("postgres", "drop table pgbench_history");
    place.gullet(&["restore", "app", "--in-place", "--yes"]).exits(0).says("path swapped");
    let sums = server.sums();
    assert!(sums.iter().all(|sum| *sum == sums[0]), "{sums:?}");
    place.gullet(&["restore", "app", "--undo", "--yes"]).exits(0);
    assert_eq!(server.sql("postgres", "select count(*) from pg_class where relname = 'pgbench_history'"), "0");
    place.gullet(&["restore", "app", "--discard-old", "--yes"]).exits(0);
}
