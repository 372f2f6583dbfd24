//! PostgreSQL: the cluster while it works, databases at one moment, and every error said clearly.

use std::fs;
use std::path::{Path, PathBuf};

use crate::harness::Place;
use crate::servers::{Postgres, printed, tries, wait_until};

const REPLICA: &str = "wal_level = replica\nmax_wal_senders = 4\n";

fn cluster_part(server: &Postgres) -> String {
    let (host, data) = (server.folder.display(), server.data.display());
    format!("[[app.app.part]]\nname = \"cluster\"\npostgres = {{ host = \"{host}\", cluster = \"{data}\" }}\n")
}

fn databases_part(server: &Postgres, databases: &str) -> String {
    let host = server.folder.display();
    format!("[[app.app.part]]\nname = \"bases\"\npostgres = {{ host = \"{host}\", databases = {databases} }}\n")
}

/// Restores the newest run; gives where a path of the source is in it.
fn restored(place: &Place, name: &str, source: &Path) -> PathBuf {
    let into = place.path(name);
    place.gullet(&["restore", "app@latest", "--into", into.to_str().unwrap()]).exits(0);
    into.join("files").join(source.strip_prefix("/").unwrap())
}

/// Captures a cluster under load, restores it, starts it, and asks whether its sums agree.
pub fn capture_under_load(settings: &str) {
    let server = Postgres::start(settings);
    server.bench();
    let place = Place::with_parts(&cluster_part(&server));
    server.at_work(|| {
        place.gullet(&["run", "app"]).exits(0);
        // The second one takes over what did not change.
        place.gullet(&["run", "app"]).exits(0);
    });
    let capture = place.capture("cluster");
    // What the server makes anew is said to be left out; what is put together apart is not.
    assert!(capture["left_out"].to_string().contains("made anew by the server"), "{}", capture["left_out"]);
    assert!(!capture["left_out"].to_string().contains("pg_wal"), "{}", capture["left_out"]);
    assert!(capture["counts"]["unchanged"].as_u64().unwrap() > 500, "{}", capture["counts"]);
    let facts = &capture["facts"];
    assert!(facts["start_lsn"].as_str().unwrap().contains('/') && facts["stop_lsn"] != facts["start_lsn"]);
    let data = restored(&place, "out", &server.data);
    assert!(data.join("backup_label").is_file() && data.join("pg_wal/archive_status").is_dir());
    assert!(!data.join("postmaster.pid").exists());
    let again = Postgres::on(&data).unwrap();
    assert!(again.log().contains("consistent recovery state reached"), "{}", again.log());
    let sums = again.sums();
    assert!(sums.iter().all(|sum| *sum == sums[0]), "{sums:?}");
    printed(again.program("pg_amcheck").args(["--install-missing", "--heapallindexed", "-d", "postgres"]));
}

#[test]
fn a_cluster_that_works_is_captured_and_starts_again_consistent() {
    for _ in 0..tries() {
        capture_under_load(REPLICA);
    }
}

#[test]
fn without_replication_slots_the_log_is_looked_for_and_that_is_said() {
    let server = Postgres::start("wal_level = minimal\nmax_wal_senders = 0\nmax_replication_slots = 0\n");
    server.bench();
    let place = Place::with_parts(&cluster_part(&server));
    // Without a log that is enough the server itself refuses.
    place.gullet(&["run", "app"]).exits(1).says("WAL level not sufficient");
    drop((server, place));
    let server = Postgres::start("wal_level = replica\nmax_replication_slots = 0\n");
    server.bench();
    let place = Place::with_parts(&cluster_part(&server));
    place.gullet(&["run", "app"]).exits(6).says("no replication slot");
    let again = Postgres::on(&restored(&place, "out", &server.data)).unwrap();
    assert_eq!(again.sums(), server.sums());
}

/// The control: without its label a copy starts without a complaint, the engine's own checks find nothing, and only sums that
/// must agree show what it is.
#[test]
fn a_copy_without_its_label_starts_and_only_an_invariant_shows_that_it_is_wrong() {
    let server = Postgres::start(REPLICA);
    server.bench();
    server.sql("postgres", "checkpoint");
    let copy = server.folder.join("copy");
    printed(std::process::Command::new("cp").arg("-a").arg(&server.data).arg(&copy));
    printed(server.program("pgbench").args(["-t", "600", "-n", "postgres"]));
    server.sql("postgres", "checkpoint");
    let branches = server.sql("postgres", "select pg_relation_filepath('pgbench_branches')");
    for late in ["global/pg_control", "pg_wal", &branches] {
        let to = copy.join(late);
        printed(std::process::Command::new("rm").arg("-rf").arg(&to));
        printed(std::process::Command::new("cp").arg("-a").arg(server.data.join(late)).arg(&to));
    }
    let _ = fs::remove_file(copy.join("postmaster.pid"));
    let again = Postgres::on(&copy).unwrap();
    printed(again.program("pg_amcheck").args(["--install-missing", "-d", "postgres"]));
    let sums = again.sums();
    assert!(sums.iter().any(|sum| *sum != sums[0]), "the control agrees, so it controls nothing: {sums:?}");
    // What is captured has its label, whatever happens.
    let place = Place::with_parts(&cluster_part(&server));
    place.gullet(&["run", "app"]).exits(0);
    let again = Postgres::on(&restored(&place, "out", &server.data)).unwrap();
    assert_eq!(again.sums(), server.sums());
}

#[test]
fn databases_are_exported_at_the_moment_of_the_hold_and_counted_at_it() {
    let server = Postgres::start(REPLICA);
    server.bench();
    server.sql("postgres", "create role clerk login password 'x'");
    server.sql("postgres", "create database \"inner isles\" owner clerk");
    server.sql("inner isles", "create table landing (at int); insert into landing select generate_series(1, 77)");
    let place = Place::with_parts(&databases_part(&server, "[\"*\"]"));
    server.at_work(|| {
        place.gullet(&["run", "app"]).exits(0);
    });
    let capture = place.capture("bases");
    let facts = capture["facts"].as_object().unwrap();
    assert_eq!(facts["rows.inner isles.public.landing"], 77);
    assert_eq!(facts["databases"], 2);
    assert!(facts["rows.postgres.public.pgbench_history"].as_u64().unwrap() > 200);
    let into = place.path("out");
    place.gullet(&["restore", "app@latest", "--into", into.to_str().unwrap()]).exits(0).says("ANALYZE");
    let export = into.join("exports/bases");
    let fresh = Postgres::start("");
    let load = |file: &str| {
        let mut psql = fresh.program("psql");
        // The role that a new cluster has already is the only thing that may be there.
        let output = psql.args(["-X", "-q", "-d", "postgres", "-f"]).arg(export.join(file)).output().unwrap();
        let errors = String::from_utf8_lossy(&output.stderr).to_lowercase();
        let wrong = errors.lines().filter(|line| line.contains("error") && !line.contains("already exists"));
        assert_eq!(wrong.collect::<Vec<_>>(), Vec::<&str>::new());
    };
    for file in ["globals.sql", "postgres.sql", "inner%20isles.sql"] {
        load(file);
    }
    for (fact, count) in facts.iter().filter(|(fact, _)| fact.starts_with("rows.")) {
        let [_, database, schema, table] = fact.splitn(4, '.').collect::<Vec<_>>()[..] else { panic!("{fact}") };
        let found = fresh.sql(database, &format!("select count(*) from \"{schema}\".\"{table}\""));
        assert_eq!(found, count.to_string(), "{fact}");
    }
    let sums = fresh.sums();
    assert!(sums.iter().all(|sum| *sum == sums[0]), "{sums:?}");
    assert_eq!(fresh.sql("postgres", "select rolcanlogin from pg_roles where rolname = 'clerk'"), "t");
    // A table that is gone is named.
    server.sql("inner isles", "drop table landing");
    place.gullet(&["run", "app"]).exits(6).says("gone since the last good run: the tables inner isles.public.landing");
}

#[test]
fn what_stands_in_the_way_is_said_beforehand_and_nothing_is_captured() {
    let server = Postgres::start(REPLICA);
    server.sql("postgres", "create role clerk login");
    let host = server.folder.display().to_string();
    let try_with = |postgres: &str, exit: i32, says: &str| {
        let place = Place::with_parts(&format!("[[app.app.part]]\nname = \"p\"\npostgres = {{ {postgres} }}\n"));
        place.gullet(&["run", "app"]).exits(exit).says(says);
        let captured = place.capture("p");
        assert!(captured.is_null() || captured["listing"].is_null(), "{captured}");
        place.gullet(&["preflight", "app"]).exits(4).says(says);
    };
    try_with(&format!("host = \"{host}\", databases = [\"nowhere\"]"), 4, "the server has no database `nowhere`");
    try_with("host = \"/nonexistent\", databases = [\"*\"]", 4, "is the server running?");
    try_with(
        &format!("host = \"{host}\", user = \"stranger\", databases = [\"*\"]"),
        4,
        "role \"stranger\" does not exist",
    );
    let data = server.data.display();
    try_with(
        &format!("host = \"{host}\", user = \"clerk\", cluster = \"{data}\""),
        4,
        "may not put the server into backup mode",
    );
    try_with(&format!("host = \"{host}\", cluster = \"/usr\""), 4, "the server works in");
    // An export program that is older than the server.
    let tools = tempfile::tempdir().unwrap();
    let old = tools.path().join("pg_dump");
    fs::write(&old, "#!/bin/sh\necho 'pg_dump (PostgreSQL) 11.3'\n").unwrap();
    fs::set_permissions(&old, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let programs = tools.path().display();
    let spec = format!("host = \"{host}\", programs = \"{programs}\", databases = [\"*\"]");
    try_with(&spec, 4, "an export program must not be older");
}

#[test]
fn an_export_that_breaks_off_or_finds_no_room_fails_the_part() {
    let server = Postgres::start(REPLICA);
    server.bench();
    let tools = tempfile::tempdir().unwrap();
    fs::set_permissions(tools.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let real = "/usr/lib/postgresql/15/bin/pg_dump";
    let tool = |text: &str| {
        let path = tools.path().join("pg_dump");
        fs::write(&path, format!("#!/bin/sh\n[ \"$1\" = --version ] && exec {real} --version\n{text}\n")).unwrap();
        fs::set_permissions(&path, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    };
    let (host, programs) = (server.folder.display(), tools.path().display());
    let part = format!(
        "[[app.app.part]]\nname = \"p\"\nrequired = true\n\
         postgres = {{ host = \"{host}\", programs = \"{programs}\", databases = [\"postgres\"] }}\n"
    );
    let place = Place::with_parts(&part);
    // It says that all is well, and is cut off.
    tool(&format!(
        "{real} \"$@\"\nfor w; do case \"$w\" in --file=*) f=\"${{w#--file=}}\"; head -c 3000 \"$f\" > \"$f.x\"; mv \"$f.x\" \"$f\";; \
         esac; done"
    ));
    place.gullet(&["run", "app"]).exits(1).says("is not whole");
    // The server ends the connection in the middle.
    tool(&format!(
        "{}/psql -h {host} -U postgres -d postgres -qc \"select pg_terminate_backend(pid) from pg_stat_activity where \
         application_name = 'gullet'\" >/dev/null; exec {real} \"$@\"",
        "/usr/lib/postgresql/15/bin"
    ));
    place.gullet(&["run", "app"]).exits(1).says("snapshot");
    // No room for the export.
    tool("exec /usr/lib/postgresql/15/bin/pg_dump \"$@\"");
    let full = crate::harness::Mounted::at(&place.path("small"), "2m");
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    place.file("gullet.toml", text.replace(&place.text("state"), &place.text("small")));
    place.gullet(&["run", "app"]).exits(1).says("No space left on device");
    drop(full);
    let runs = place.json(&["runs"]);
    assert!(runs.as_array().unwrap().iter().all(|run| run["outcome"] != "complete"), "{runs}");
}

#[test]
fn tablespaces_are_captured_and_their_map_must_be_set_before_the_restored_server_starts() {
    let server = Postgres::start(REPLICA);
    let space = server.folder.join("space");
    fs::create_dir(&space).unwrap();
    crate::servers::give_to_nobody(&space);
    server.sql("postgres", &format!("create tablespace far location '{}'", space.display()));
    server.sql(
        "postgres",
        "create table cargo (n int) tablespace far; insert into cargo select generate_series(1, 4711)",
    );
    let place = Place::with_parts(&cluster_part(&server));
    place.gullet(&["run", "app"]).exits(0);
    let live = space.display().to_string();
    place.gullet(&["preflight", "app"]).says("cluster: ").says(" files");
    let data = restored(&place, "out", &server.data);
    place
        .gullet(&["restore", "app@latest", "--into", &place.text("again")])
        .exits(0)
        .says("tablespace_map")
        .says(&live);
    let map = fs::read_to_string(data.join("tablespace_map")).unwrap();
    assert!(map.contains(&live), "{map}");
    // The live one goes, so that nothing can be read from it by mistake.
    let cargo = server.sql("postgres", "select sum(n) from cargo");
    drop(server);
    let own = place.path("out/files").join(space.strip_prefix("/").unwrap());
    let moved = crate::servers::folder();
    let (data_again, space_again) = (moved.path().join("data"), moved.path().join("space"));
    for (from, to) in [(&data, &data_again), (&own, &space_again)] {
        printed(std::process::Command::new("cp").arg("-a").arg(from).arg(to));
    }
    fs::write(data_again.join("tablespace_map"), map.replace(&live, &space_again.display().to_string())).unwrap();
    crate::servers::give_to_nobody(&space_again);
    let again = Postgres::on(&data_again).unwrap();
    assert_eq!(again.sql("postgres", "select sum(n) from cargo"), cargo);
}

#[test]
fn a_standby_is_refused() {
    let server = Postgres::start(REPLICA);
    let copy = server.folder.join("standby");
    printed(server.program("pg_basebackup").args(["--write-recovery-conf", "--checkpoint=fast", "-D"]).arg(&copy));
    let standby = Postgres::on(&copy).unwrap();
    let place = Place::with_parts(&cluster_part(&standby));
    place.gullet(&["run", "app"]).exits(4).says("the server is a standby");
}

#[test]
fn each_database_can_be_a_part_of_its_own() {
    let server = Postgres::start(REPLICA);
    for name in ["isles", "ledger"] {
        server.sql("postgres", &format!("create database {name}"));
        server.sql(name, "create table t (n int); insert into t values (1), (2)");
    }
    let (host, psql) = (server.folder.display(), "/usr/lib/postgresql/15/bin/psql");
    let list = "select datname from pg_database where not datistemplate and datname <> 'postgres' order by 1";
    let place = Place::with_parts(&format!(
        "[[app.app.part]]\nname = \"base-{{each.name}}\"\npostgres = {{ host = \"{host}\", databases = [\"{{each.name}}\"] }}\n\
         each = {{ run = [\"{psql}\", \"-h\", \"{host}\", \"-U\", \"postgres\", \"-Atc\", \"{list}\"], min = 1 }}\n"
    ));
    place.gullet(&["plan", "app"]).exits(0).says("databases isles, by pg_dump");
    place.gullet(&["run", "app"]).exits(0);
    for name in ["isles", "ledger"] {
        assert_eq!(place.capture(&format!("base-{name}"))["facts"][format!("rows.{name}.public.t")], 2);
    }
    server.sql("ledger", "insert into t values (3)");
    let shown = place.gullet(&["compare", "app", "--now"]).exits(0);
    let lines: Vec<&str> = shown.out.lines().map(str::trim).filter(|line| line.starts_with(['+', '-'])).collect();
    assert_eq!(lines, ["+3"], "{}", shown.out);
    shown.says("fact rows.ledger.public.t: 2 -> 3");
}

#[test]
fn a_run_that_is_killed_leaves_no_server_in_backup_mode_and_the_next_one_works() {
    let server = Postgres::start(REPLICA);
    server.bench();
    let place = Place::with_parts(&cluster_part(&server));
    let mut run = place.command(&["run", "app"]).stdout(std::process::Stdio::null()).spawn().unwrap();
    wait_until("the backup", || server.sql("postgres", "select count(*) from pg_replication_slots") != "0");
    run.kill().unwrap();
    run.wait().unwrap();
    wait_until("its end", || server.sql("postgres", "select count(*) from pg_replication_slots") == "0");
    wait_until("the session's end", || {
        server.sql("postgres", "select count(*) from pg_stat_activity where application_name = 'gullet'") == "0"
    });
    place.gullet(&["run", "app"]).exits(0);
    let again = Postgres::on(&restored(&place, "out", &server.data)).unwrap();
    assert_eq!(again.sums(), server.sums());
}
