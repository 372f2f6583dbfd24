//! Recipes for services that are stopped or asked: init scripts, systemd, mail, web.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::process::{Command, Stdio};

use crate::harness::{Desk, Place, audit};
use crate::recipes::{defined, restored};
use crate::servers::{Postgres, printed, wait_until};
use crate::web::Web;

/// An init script for a stand-in that writes all the time: two files that agree whenever it is stopped.
fn init_script(place: &Place, name: &str) -> String {
    let (data, pid) = (place.text(&format!("{name}-data")), place.text(&format!("{name}.pid")));
    fs::create_dir_all(&data).unwrap();
    let script = format!(
        "#!/bin/sh\n\
         work() {{ trap 'e=1' TERM; e=0; n=$(cat {data}/one 2>/dev/null || echo 0); while [ $e = 0 ]; do n=$((n+1)); \
         echo $n > {data}/one; sleep 0.01; echo $n > {data}/two; done; rm -f {pid}; }}\n\
         case $1 in\n\
         start) [ -e {pid} ] && exit 0; (exec >/dev/null 2>&1; work) & echo $! > {pid};;\n\
         stop) [ -e {pid} ] || exit 0; kill -TERM $(cat {pid}); while [ -e {pid} ]; do sleep 0.01; done;;\n\
         status) [ -e {pid} ] && exit 0; exit 3;;\n\
         *) exit 2;;\nesac\n"
    );
    let path = place.file(&format!("init/{name}"), script);
    fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).unwrap();
    path.display().to_string()
}

/// Starts a stand-in. A file that was just written may still be open in a process that another test is starting.
fn begin(script: &str) {
    wait_until("the script", || {
        Command::new(script).arg("start").stdin(Stdio::null()).status().is_ok_and(|s| s.success())
    });
}

/// The stand-in's two files agree.
fn agree(folder: PathBuf) {
    let read = |name: &str| fs::read_to_string(folder.join(name)).unwrap();
    assert_eq!(read("one"), read("two"));
    assert!(read("one").trim().parse::<u64>().unwrap() > 0);
}

/// Captures a running stand-in, which serves again, and a stopped one, which is not started.
fn is_left_as_it_was_found(place: &Place, script: &str, recipe: &str, (word, called): (&str, &str)) {
    let (data, etc) = (place.text("desk-data"), place.text("etc"));
    place.file("etc/settings", "x");
    begin(script);
    defined(place, "desk", recipe, &[(word, called), ("/var/lib/desk", &data), ("/etc/desk", &etc)]);
    std::thread::sleep(std::time::Duration::from_millis(200));
    place.gullet(&["run", "desk"]).exits(0);
    printed(Command::new(script).arg("status"));
    agree(restored(place, "desk").join("files").join(data.strip_prefix('/').unwrap()));
    printed(Command::new(script).arg("stop"));
    place.gullet(&["run", "desk"]).exits(0);
    assert_eq!(Command::new(script).arg("status").status().unwrap().code(), Some(3));
}

#[test]
fn a_service_with_an_init_script_is_left_as_it_was_found() {
    let place = Place::new();
    let script = init_script(&place, "desk");
    is_left_as_it_was_found(&place, &script, "init-service", ("/etc/init.d/desk", &script));
}

/// No systemd runs here: a stand-in answers for it, which knows the four words that the recipe uses.
#[test]
fn a_systemd_service_is_left_as_it_was_found() {
    let place = Place::new();
    let script = init_script(&place, "desk");
    let systemctl = place.file(
        "bin/systemctl",
        format!(
            "#!/bin/sh\n[ \"$2\" = desk.service ] || exit 5\ncase $1 in start|stop) exec {script} $1;; \
             is-active) if {script} status; then echo active; else echo inactive; exit 3; fi;; *) exit 2;; esac\n"
        ),
    );
    fs::set_permissions(&systemctl, fs::Permissions::from_mode(0o755)).unwrap();
    let called = format!("[\"{}\"", systemctl.display());
    is_left_as_it_was_found(&place, &script, "service", ("[\"systemctl\"", &called));
}

#[test]
fn a_mail_store() {
    let place = Place::new();
    let (readers, delivery) = (init_script(&place, "readers"), init_script(&place, "delivery"));
    for script in [&readers, &delivery] {
        begin(script);
    }
    let (boxes, queue, etc) = (place.text("delivery-data"), place.text("readers-data"), place.text("etc"));
    place.file("etc/main.cf", "x");
    place.file("etc2/dovecot.conf", "x");
    let places = [
        ("/etc/init.d/dovecot", readers.as_str()),
        ("/etc/init.d/postfix", &delivery),
        ("/var/mail/vhosts", &boxes),
        ("/var/spool/postfix", &queue),
        ("/etc/postfix", &etc),
        ("/etc/dovecot", &place.text("etc2")),
    ];
    defined(&place, "post", "mail", &places);
    std::thread::sleep(std::time::Duration::from_millis(200));
    place.gullet(&["run", "post"]).exits(0);
    let out = restored(&place, "post").join("files");
    for folder in [&boxes, &queue] {
        agree(out.join(folder.strip_prefix('/').unwrap()));
    }
    for script in [&readers, &delivery] {
        printed(Command::new(script).arg("stop"));
    }
}

/// What the desk does when it is paused is what a build server does: it takes nothing new and finishes what it has in hand.
#[test]
fn a_build_server_and_a_web_application() {
    let desk = Desk::open();
    let web = Web::open(&desk, &[]);
    let place = &desk.place;
    fs::remove_dir_all(place.path("depot")).unwrap();
    let (folder, token) = (place.text("desk"), place.text("token"));
    let places = [
        ("http://127.0.0.1:8080", web.url.as_str()),
        ("/etc/gullet/quaybook.token", &token),
        ("/var/lib/quaybook", &folder),
    ];
    defined(place, "quaybook", "build-server", &places);
    place.gullet(&["run", "quaybook"]).exits(0);
    assert_eq!(desk.state(), "serving");
    let out = restored(place, "quaybook");
    audit(&out.join("files").join(folder.strip_prefix('/').unwrap())).exits(0);
    for again in ["depot", "state", "out"] {
        fs::remove_dir_all(place.path(again)).unwrap();
    }
    // The same with a database beside it.
    let server = Postgres::start("");
    server.sql("postgres", "create database quaybook");
    server.sql("quaybook", "create table booking (id int); insert into booking select generate_series(1, 500)");
    place.file("etc/settings", "x");
    let (host, etc) = (server.folder.display().to_string(), place.text("etc"));
    let places = [
        ("http://127.0.0.1:8080", web.url.as_str()),
        ("/etc/gullet/quaybook.token", &token),
        ("/var/lib/quaybook/uploads", &folder),
        ("/run/postgresql", &host),
        ("/etc/quaybook", &etc),
    ];
    defined(place, "quaybook", "web", &places);
    place.gullet(&["run", "quaybook"]).exits(0);
    assert_eq!(desk.state(), "serving");
    let out = restored(place, "quaybook");
    audit(&out.join("files").join(folder.strip_prefix('/').unwrap())).exits(0);
    let fresh = Postgres::start("");
    for file in ["globals.sql", "quaybook.sql"] {
        let text = out.join("exports/database").join(file);
        printed(fresh.program("psql").args(["-X", "-q", "-d", "postgres", "-f"]).arg(text));
    }
    assert_eq!(fresh.sql("quaybook", "select count(*) from booking"), "500");
    assert_eq!(place.capture("database")["facts"]["rows.quaybook.public.booking"], 500);
}
