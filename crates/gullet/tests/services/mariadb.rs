//! MariaDB: an export at one point, the data folder where that is sound, and every error said clearly.

use std::fs;
use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::Stdio;

use crate::harness::{Disk, Place};
use crate::servers::{Mariadb, TemporaryTable, give_to_nobody, tries, wait_until};

const LOGGED: &str = "log-bin=bin\nserver-id=1\n";

fn part(keys: &str) -> String {
    format!("[[app.app.part]]\nname = \"bank\"\nrequired = true\nmariadb = {{ {keys} }}\n")
}

fn export_part(server: &Mariadb, databases: &str) -> String {
    part(&format!("socket = \"{}\", databases = {databases}", server.socket()))
}

/// Somebody in the middle of a long transaction, for as long as it is kept.
fn long_transaction(server: &Mariadb) -> std::process::Child {
    let mut client = server.program("mariadb");
    let mut client = client.args(["bank"]).stdin(Stdio::piped()).stdout(Stdio::null()).spawn().unwrap();
    let sql = "start transaction; update draft set words = repeat('ebb ', 30); select sleep(600);\n";
    client.stdin.as_mut().unwrap().write_all(sql.as_bytes()).unwrap();
    client.stdin.as_mut().unwrap().flush().unwrap();
    wait_until("the long transaction", || {
        // The server shows what it showed before to whoever asks again within a tenth of a second.
        std::thread::sleep(std::time::Duration::from_millis(150));
        server.sql("select count(*) from information_schema.innodb_trx where trx_rows_modified > 900") != "0"
    });
    client
}

/// Loads an export into a new server.
fn loaded(export: &Path, files: &[&str]) -> Mariadb {
    let fresh = Mariadb::start("");
    for file in files {
        let text = fs::File::open(export.join(file)).unwrap();
        let output = fresh.program("mariadb").stdin(text).output().unwrap();
        assert!(output.status.success(), "{file}: {}", String::from_utf8_lossy(&output.stderr));
    }
    fresh
}

/// Exports under load and beside a long transaction, loads it into a new server, and adds up.
pub fn export_under_load(settings: &str) {
    let server = Mariadb::start(settings);
    server.bank();
    server.sql("create user clerk@localhost identified by 'x'; grant select on bank.* to clerk@localhost");
    server.sql("create event bank.nightly on schedule every 1 day do delete from bank.transfer where id < 0");
    let place = Place::with_parts(&export_part(&server, "[\"*\"]"));
    let mut long = long_transaction(&server);
    server.at_work(|| {
        place.gullet(&["run", "app"]).exits(0);
    });
    let logged = !settings.is_empty();
    let capture = place.capture("bank");
    let facts = capture["facts"].as_object().unwrap();
    assert_eq!(facts.contains_key("binlog_position"), logged, "{facts:?}");
    let _ = long.kill();
    let _ = long.wait();
    let into = place.path("out");
    place.gullet(&["restore", "app@latest", "--into", into.to_str().unwrap()]).exits(0).says("accounts.sql first");
    let fresh = loaded(&into.join("exports/bank"), &["accounts.sql", "databases.sql"]);
    assert_eq!(fresh.sums(), ["2000000", "0", "0"]);
    for (fact, count) in facts.iter().filter(|(fact, _)| fact.starts_with("rows.")) {
        let table = fact.strip_prefix("rows.").unwrap();
        assert_eq!(fresh.sql(&format!("select count(*) from {table}")), count.to_string(), "{fact}");
    }
    assert_eq!(fresh.sql("select count(*) from information_schema.routines where routine_name = 'move_some'"), "1");
    assert_eq!(fresh.sql("select count(*) from information_schema.events where event_name = 'nightly'"), "1");
    assert!(fresh.sql("show grants for clerk@localhost").contains("SELECT"));
    // The server rests now, so an export that is made anew is the same to the byte.
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["compare", "app", "--now"]).exits(0).says("= the same");
    server.sql("insert into bank.draft (id, words) values (999999, 'one more')");
    let shown = place.gullet(&["compare", "app", "--now"]).exits(0).says("fact rows.bank.draft");
    assert!(!shown.out.contains("= the same"), "{}", shown.out);
}

#[test]
fn databases_are_exported_and_counted_at_one_point_of_the_log() {
    for _ in 0..tries() {
        export_under_load(LOGGED);
    }
}

#[test]
fn without_a_log_everything_waits_until_the_export_is_done() {
    for _ in 0..tries() {
        export_under_load("");
    }
}

/// A server with its files on btrfs, locked by a session while a snapshot is made.
fn held_by_a_session(server: &Mariadb) -> String {
    let socket = server.socket();
    format!(
        "[app.app]\ncapture_method = \"snapshot\"\n\
         [[app.app.hold]]\nname = \"lock\"\n\
         session = {{ script = '''\n\
         {{ echo \"flush tables with read lock; select if(get_lock('gullet', 0) = 1, 'held', 'in use');\"; cat; }} | mariadb --no-defaults -N -B -n -uroot -S {socket}\n\
         ''' }}\n\
         entered = {{ run = [\"mariadb\", \"--no-defaults\", \"-N\", \"-B\", \"-uroot\", \"-S\", \"{socket}\", \"-e\", \
         \"select is_used_lock('gullet') is not null\"], prints = \"1\" }}\n"
    )
}

/// Captures the data folder from a snapshot, under load and beside a long transaction; restores, starts and adds up.
pub fn files_by_a_snapshot() {
    let place = Place::new();
    fs::set_permissions(place.path(""), fs::Permissions::from_mode(0o755)).unwrap();
    let disk = Disk::at(&place.path("disk"), "btrfs");
    give_to_nobody(&place.path("disk"));
    let server = Mariadb::start_in(&place.path("disk/data"), LOGGED);
    server.bank();
    let datadir = place.text("disk/data");
    place.define(
        &(held_by_a_session(&server) + &part(&format!("socket = \"{}\", datadir = \"{datadir}\"", server.socket()))),
    );
    place.gullet(&["store", "new", "depot"]).exits(0);
    let mut long = long_transaction(&server);
    server.at_work(|| {
        place.gullet(&["run", "app"]).exits(0).says("snapshot");
    });
    let _ = long.kill();
    let _ = long.wait();
    drop(server);
    assert_eq!(disk.hidden(), Vec::<String>::new(), "the snapshot is gone");
    let into = place.path("out");
    place.gullet(&["restore", "app@latest", "--into", into.to_str().unwrap()]).exits(0);
    let data = into.join("files").join(datadir.strip_prefix('/').unwrap());
    // On a folder that `nobody` can reach.
    let moved = crate::servers::folder();
    let data_again = moved.path().join("data");
    crate::servers::printed(std::process::Command::new("cp").arg("-a").arg(&data).arg(&data_again));
    let again = Mariadb::on(&data_again).unwrap();
    assert_eq!(again.sums(), ["2000000", "0", "0"]);
    assert!(again.sql("check table bank.account, bank.transfer").lines().all(|line| line.ends_with("OK")));
}

#[test]
fn the_files_are_captured_from_a_snapshot() {
    for _ in 0..tries() {
        files_by_a_snapshot();
    }
}

#[test]
fn copying_the_files_of_a_running_server_is_refused_on_a_filesystem_of_several_devices_too() {
    let place = Place::new();
    fs::set_permissions(place.path(""), fs::Permissions::from_mode(0o755)).unwrap();
    // What `stat` calls its device is not what the kernel calls it in `/proc/locks`.
    let _disk = Disk::at(&place.path("disk"), "btrfs");
    give_to_nobody(&place.path("disk"));
    let server = Mariadb::start_in(&place.path("disk/data"), LOGGED);
    let more = format!("socket = \"{}\", datadir = \"@/disk/data\"", server.socket());
    place.define(&("[app.app]\nno_hold = \"a test\"\ncapture_method = \"copy\"\n".to_owned() + &part(&more)));
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["run", "app"]).exits(4).says("is not safe under any of its locks");
}

#[test]
fn copying_the_files_of_a_running_server_is_refused_and_a_stopped_one_is_captured() {
    let server = Mariadb::start(LOGGED);
    server.bank();
    let sums = server.sums();
    let data = server.data.display().to_string();
    let place = Place::with_parts(&part(&format!("socket = \"{}\", datadir = \"{data}\"", server.socket())));
    place.gullet(&["run", "app"]).exits(4).says("is not safe under any of its locks");
    // A hold that does not stop it does not help.
    let definition = "[app.app]\n[[app.app.hold]]\nname = \"nothing\"\nenter = { run = [\"touch\", \"@/held\"] }\n\
                      entered = { run = [\"test\", \"-e\", \"@/held\"] }\nrelease = { run = [\"rm\", \"@/held\"] }\n";
    place.define(&(definition.to_owned() + &part(&format!("socket = \"{}\", datadir = \"{data}\"", server.socket()))));
    place.gullet(&["run", "app"]).exits(1).says("is not safe under any of its locks");
    assert!(place.capture("bank")["listing"].is_null());
    // Stopped in the hold, and started again.
    let (conf, pid) =
        (server.folder.join("my.cnf").display().to_string(), server.folder.join("pid").display().to_string());
    let ping = format!(
        "mariadb-admin --no-defaults -uroot -S {} ping >/dev/null 2>&1 && echo up || echo down",
        server.socket()
    );
    let definition = format!(
        "[app.app]\n[[app.app.hold]]\nname = \"server\"\n\
         enter = {{ script = 'p=$(cat {pid}); kill $p; while kill -0 $p 2>/dev/null && ! grep -q Z /proc/$p/stat; do sleep 0.1; done' }}\n\
         entered = {{ script = \"{ping}\", prints = \"down\" }}\n\
         release = {{ script = 'setsid setpriv --reuid 65534 --regid 65534 --clear-groups mariadbd --defaults-file={conf} >/dev/null 2>&1 &' }}\n\
         released = {{ script = \"{ping}\", prints = \"up\", within = \"1m\" }}\n"
    );
    place.define(&(definition + &part(&format!("socket = \"{}\", datadir = \"{data}\"", server.socket()))));
    place.gullet(&["run", "app"]).exits(0);
    assert_eq!(server.sums(), sums, "it serves again");
    let other = TemporaryTable::new();
    place.gullet(&["drill", "app"]).exits(0).says("MariaDB starts on it").says("✓ proven");
    other.is_untouched();
    assert_eq!(server.sums(), sums, "the live server is not touched by a drill");
    let into = place.path("out");
    place.gullet(&["restore", "app@latest", "--into", into.to_str().unwrap()]).exits(0);
    let moved = crate::servers::folder();
    let again = moved.path().join("data");
    let restored = into.join("files").join(data.strip_prefix('/').unwrap());
    crate::servers::printed(std::process::Command::new("cp").arg("-a").arg(&restored).arg(&again));
    assert_eq!(Mariadb::on(&again).unwrap().sums(), sums);

    // A table whose file lies elsewhere is in no copy of the folder.
    let elsewhere = server.folder.join("elsewhere");
    fs::create_dir(&elsewhere).unwrap();
    give_to_nobody(&elsewhere);
    server.sql(&format!("create table bank.berths (n int) engine = InnoDB data directory = '{}'", elsewhere.display()));
    for command in ["preflight", "run"] {
        place
            .gullet(&[command, "app"])
            .exits(4)
            .says("`bank/berths.isl` has its file at")
            .says("elsewhere/bank/berths.ibd");
    }
}

#[test]
fn what_stands_in_the_way_is_said_beforehand() {
    let server = Mariadb::start(LOGGED);
    server.bank();
    server.sql("create user weak@localhost identified by 'tide'; grant select on bank.* to weak@localhost");
    let socket = server.socket();
    let place = Place::new();
    let secret = place.file("secret", "tide\n");
    fs::set_permissions(&secret, fs::Permissions::from_mode(0o600)).unwrap();
    let wrong = place.file("wrong", "ebb\n");
    fs::set_permissions(&wrong, fs::Permissions::from_mode(0o600)).unwrap();
    let try_with = |keys: &str, says: &str| {
        let place = Place::with_parts(&part(keys));
        place.gullet(&["run", "app"]).exits(4).says(says);
        place.gullet(&["preflight", "app"]).exits(4).says(says);
        assert!(place.capture("bank").is_null());
    };
    try_with(&format!("socket = \"{socket}\", databases = [\"nowhere\"]"), "the server has no database `nowhere`");
    try_with("socket = \"/nonexistent\", databases = [\"*\"]", "is the server running?");
    let weak = |file: &Path| {
        format!(
            "socket = \"{socket}\", user = \"weak\", password = {{ file = \"{}\" }}, databases = [\"bank\"]",
            file.display()
        )
    };
    try_with(&weak(&wrong), "Access denied");
    try_with(&weak(&secret), "may not lock the server");
    // The password is written down nowhere.
    let place = Place::new();
    let parts = part(&format!("socket = \"{socket}\", password = \"tide\", databases = [\"*\"]"));
    place.define(&format!("[app.app]\nno_hold = \"a test\"\n{parts}"));
    place.gullet(&["run", "app"]).exits(3).says("a secret is not written into a definition");
}

#[test]
fn an_export_that_breaks_off_or_finds_no_room_fails_the_part() {
    let server = Mariadb::start(LOGGED);
    server.bank();
    server.sql("use bank; insert into draft select seq, repeat('slack water ', 15) from seq_10000_to_30000");
    let tools = tempfile::tempdir().unwrap();
    let tool = |text: &str| {
        let path = tools.path().join("mariadb-dump");
        fs::write(&path, format!("#!/bin/sh\n[ \"$1\" = --version ] && exec mariadb-dump --version\n{text}\n"))
            .unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).unwrap();
    };
    fs::set_permissions(tools.path(), fs::Permissions::from_mode(0o755)).unwrap();
    let keys =
        format!("socket = \"{}\", programs = \"{}\", databases = [\"bank\"]", server.socket(), tools.path().display());
    let place = Place::with_parts(&part(&keys));
    // It says that all is well, and is cut off.
    tool("mariadb-dump \"$@\" | head -c 4000");
    place.gullet(&["run", "app"]).exits(1).says("is not whole");
    // The server ends its connection in the middle.
    tool(&format!(
        "(sleep 0.3; mariadb --no-defaults -uroot -S {0} -N -e \"select concat('kill ', id, ';') from \
         information_schema.processlist where db = 'bank'\" | mariadb --no-defaults -uroot -S {0}) & \
         mariadb-dump \"$@\" | {{ sleep 1; cat; }}; exit 3",
        server.socket()
    ));
    place.gullet(&["run", "app"]).exits(1);
    // No room for the export.
    tool("exec mariadb-dump \"$@\"");
    let full = crate::harness::Mounted::at(&place.path("small"), "3m");
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    place.file("gullet.toml", text.replace(&place.text("state"), &place.text("small")));
    place.gullet(&["run", "app"]).exits(1).says("errno 28");
    drop(full);
    let runs = place.json(&["runs"]);
    assert!(runs.as_array().unwrap().iter().all(|run| run["outcome"] != "complete"), "{runs}");
    // Nothing stays locked.
    let before: u64 = server.sql("select count(*) from bank.transfer").parse().unwrap();
    server.sql("call bank.move_some()");
    assert_eq!(server.sql("select count(*) from bank.transfer"), (before + 2).to_string());
}

#[test]
fn tables_without_transactions_and_accounts_that_may_not_be_read_are_said() {
    let server = Mariadb::start(LOGGED);
    server.bank();
    server.sql("use bank; create table tide (n int) engine = Aria; insert into tide values (1), (2), (3)");
    let rights = "select, show view, trigger, event, lock tables on bank.*";
    server.sql(
        "create user keeper@localhost identified by 'tide'; grant reload, binlog monitor on *.* to keeper@localhost",
    );
    server.sql(&format!("grant {rights} to keeper@localhost; grant select on mysql.proc to keeper@localhost"));
    let secrets = Place::new();
    let secret = secrets.file("secret", "tide\n");
    fs::set_permissions(&secret, fs::Permissions::from_mode(0o600)).unwrap();
    let keys = format!(
        "socket = \"{}\", user = \"keeper\", password = {{ file = \"{}\" }}, databases = [\"bank\"]",
        server.socket(),
        secret.display()
    );
    let place = Place::with_parts(&part(&keys));
    place.gullet(&["run", "app"]).exits(6).says("bank.tide").says("no InnoDB tables");
    let capture = place.capture("bank");
    assert_eq!(capture["facts"]["rows.bank.tide"], 3);
    assert!(capture["omits"].to_string().contains("accounts and their rights"), "{}", capture["omits"]);
    let into = place.path("out");
    place.gullet(&["restore", "app@latest", "--into", into.to_str().unwrap()]).exits(0).says("make the accounts again");
    let fresh = loaded(&into.join("exports/bank"), &["databases.sql"]);
    assert_eq!(fresh.sql("select sum(n) from bank.tide"), "6");
}
