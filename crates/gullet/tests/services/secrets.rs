//! Passwords are in no process list, record, log or output, while a run is on and afterwards.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::process::Command;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;

use crate::harness::{Desk, Place, called};
use crate::servers::{Mariadb, Postgres, printed};
use crate::web::Web;

/// Of this test alone: others have theirs in process lists where that is their own doing.
const SECRETS: [&str; 3] = ["tide-Table-4711", "ebb-And-Flow-0815", "spring-Tide-2358"];

/// Processes with a secret among their arguments.
fn in_process_list() -> Vec<String> {
    let mut found = Vec::new();
    for entry in fs::read_dir("/proc").unwrap().flatten() {
        let arguments = fs::read(entry.path().join("cmdline")).unwrap_or_default();
        let text = String::from_utf8_lossy(&arguments).into_owned();
        // Another test of this file may be looking through its own place just now.
        let is_a_look = text.starts_with("grep\0");
        if !is_a_look && SECRETS.iter().any(|secret| text.contains(secret)) {
            found.push(text.replace('\0', " "));
        }
    }
    found
}

#[test]
fn passwords_are_seen_nowhere_while_a_run_is_on() {
    let postgres = Postgres::start("");
    postgres.bench();
    postgres.sql("postgres", &format!("create role keeper superuser login password '{}'", SECRETS[0]));
    fs::write(postgres.data.join("pg_hba.conf"), "local all keeper scram-sha-256\nlocal all all trust\n").unwrap();
    postgres.sql("postgres", "select pg_reload_conf()");
    let mariadb = Mariadb::start("log-bin=bin\nserver-id=1\n");
    mariadb.bank();
    mariadb.sql(&format!(
        "create user keeper@localhost identified by '{}'; grant all on *.* to keeper@localhost",
        SECRETS[1]
    ));
    let desk = Desk::open();
    let web = Web::open_to(&desk, SECRETS[2], &["--slow", "300"]);
    let place: &Place = &desk.place;
    for (name, secret) in ["pg", "maria", "web"].iter().zip(SECRETS) {
        let path = place.file(&format!("secrets/{name}"), format!("{secret}\n"));
        fs::set_permissions(path, fs::Permissions::from_mode(0o600)).unwrap();
    }
    let (host, socket, url) = (postgres.folder.display(), mariadb.socket(), &web.url);
    let bearer = format!("bearer = {{ file = \"{}\" }}", place.text("secrets/web"));
    place.define(&format!(
        "[app.app]\nno_hold = \"a test\"\n\
         [[app.app.part]]\nname = \"pg\"\n\
         postgres = {{ host = \"{host}\", user = \"keeper\", password = {{ file = \"@/secrets/pg\" }}, databases = [\"postgres\"] }}\n\
         [[app.app.part]]\nname = \"maria\"\n\
         mariadb = {{ socket = \"{socket}\", user = \"keeper\", password = {{ file = \"@/secrets/maria\" }}, databases = [\"bank\"] }}\n\
         [[app.app.part]]\nname = \"web\"\n[app.app.part.http]\nanswer = \"/id\"\n\
         ask = {{ post = \"{url}/exports\", {bearer} }}\n\
         ready = {{ get = \"{url}/exports/{{answer}}\", {bearer}, json = {{ \"/state\" = \"ready\" }} }}\n\
         fetch = {{ get = \"{url}/exports/{{answer}}/file\", {bearer} }}\n"
    ));
    let (over, looks) = (AtomicBool::new(false), AtomicUsize::new(0));
    let (calls, seen) = std::thread::scope(|scope| {
        let looking = scope.spawn(|| {
            let mut seen = Vec::new();
            while !over.load(Ordering::SeqCst) {
                seen.extend(in_process_list());
                looks.fetch_add(1, Ordering::SeqCst);
                std::thread::sleep(Duration::from_millis(2));
            }
            seen
        });
        let calls =
            [&["plan", "app"][..], &["preflight", "app"], &["run", "app"], &["show", "app@latest", "--hook-output"]]
                .map(|arguments| called(place.command(arguments)));
        over.store(true, Ordering::SeqCst);
        (calls, looking.join().unwrap())
    });
    assert_eq!(seen, Vec::<String>::new());
    assert!(looks.into_inner() > 20, "it was looked while the run was on");
    let [plan, preflight, run, show] = calls;
    let all = [plan.exits(0), preflight, run.exits(0), show.exits(0)];
    // Here it says what it says because it was captured, not because it leaked.
    for (call, secret) in all.iter().flat_map(|call| SECRETS.iter().map(move |secret| (call, secret))) {
        assert!(!call.out.contains(secret) && !call.err.contains(secret), "{secret}: {}{}", call.out, call.err);
    }
    for secret in SECRETS {
        let grep =
            Command::new("grep").args(["-rlF", secret]).arg(place.path("state")).arg(place.path("depot")).output();
        assert_eq!(String::from_utf8_lossy(&grep.unwrap().stdout), "", "{secret}");
    }
    let record = printed(place.command(&["show", "app@latest", "--json"]).arg("--hook-output"));
    assert!(SECRETS.iter().all(|secret| !record.contains(secret)));
    // A wrong one is said to be wrong, and not said.
    place.file("secrets/pg", "tide-Table-9999\n");
    let refused = place.gullet(&["run", "app"]).exits(4).says("password authentication failed");
    assert!(!refused.err.contains("tide-Table-9999"));
}
