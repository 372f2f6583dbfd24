//! Telling people: by a command and by a request; what was told is told once, and what could not be is kept.

use std::fs;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::sync::mpsc::{Receiver, channel};

use serde_json::Value;

use crate::harness::Place;

const DESK: &str = "[app.desk]\ntitle = \"Booking {desk}\"\nno_hold = \"a test\"\nnotify = [{ to = \"one\" }]\n\
                    [[app.desk.part]]\nname = \"data\"\nfiles = [\"@/data\"]\n";
/// Appends each message to a file, on a line of its own.
const TOLD: &str = "[notify.one]\nrun = [\"sh\", \"-c\", \"cat >>@/told; echo >>@/told\"]\n";

fn place(more: &str) -> Place {
    let place = Place::new();
    place.file("data/a", "a");
    place.define(&format!("{more}{DESK}"));
    place.gullet(&["store", "new", "depot"]).exits(0);
    place
}

/// The messages that the command of `[notify.one]` got.
fn told(place: &Place) -> Vec<Value> {
    let text = fs::read_to_string(place.path("told")).unwrap_or_default();
    text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

fn subjects(place: &Place) -> Vec<String> {
    told(place).iter().map(|message| message["subject"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn whoever_asked_for_it_is_told_once() {
    let place = place(TOLD);
    place.gullet(&["run", "desk"]).exits(0);
    assert_eq!(told(&place), Vec::<Value>::new(), "what went well is no news unless it is asked for");
    fs::remove_dir_all(place.path("data")).unwrap();
    place.gullet(&["run", "desk"]).exits(1);
    let messages = told(&place);
    assert_eq!(messages.len(), 1);
    let run = place.runs()[1]["run"].clone();
    assert_eq!((&messages[0]["content"]["what"], &messages[0]["content"]["run"]), (&"run".into(), &run));
    assert_eq!(messages[0]["content"]["causes"][0]["kind"], "capture", "{}", messages[0]);
    // The hash of the record is known outside of the store from now on.
    let record = messages[0]["content"]["record"].as_str().unwrap();
    let hash = record.rsplit_once('-').unwrap().1.trim_end_matches(".json").to_owned();
    place.gullet(&["verify", "--anchor", &hash]).exits(0).says("✓ anchor");
    place.gullet(&["notify"]).exits(0).says("no message waits");
    place.gullet(&["due"]).exits(0);
    assert_eq!(told(&place).len(), 1);
    // One that is refused because another goes on, too.
    place.file("data/a", "a");
    let lock = fs::File::open(place.path("state/locks/desk.lock")).unwrap();
    rustix::fs::flock(&lock, rustix::fs::FlockOperation::LockExclusive).unwrap();
    place.gullet(&["run", "desk"]).exits(4);
    assert_eq!(subjects(&place).len(), 2);
    assert!(subjects(&place)[1].contains("desk refused"), "{:?}", subjects(&place));
}

#[test]
fn a_run_that_is_killed_at_any_event_is_told_once() {
    let place = place(TOLD);
    let all = fs::read_to_string(place.path("gullet.toml")).unwrap().replace(
        "to = \"one\"",
        "to = \"one\", on = [\"complete\", \"warnings\", \"failed\", \"interrupted\", \"refused\", \"incomplete\"]",
    );
    place.file("gullet.toml", all);
    let events = place.gullet(&["run", "desk", "--json"]).exits(0).out.lines().count();
    assert!(events > 10, "{events}");
    for event in 1..=events {
        let mut command = place.command(&["run", "desk"]);
        command.env("GULLET_AT_EVENT", format!("{event}:KILL"));
        assert_eq!(crate::harness::called(command).code, -1, "{event}");
        place.gullet(&["notify"]).exits(0);
    }
    let runs = place.runs();
    let mut ran: Vec<&str> = runs.iter().map(|run| run["run"].as_str().unwrap()).collect();
    let messages = told(&place);
    let mut heard: Vec<&str> = messages.iter().map(|message| message["id"].as_str().unwrap()).collect();
    ran.sort_unstable();
    heard.sort_unstable();
    assert_eq!(heard, ran);
    for run in &runs {
        let message = messages.iter().find(|message| message["id"] == run["run"]).unwrap();
        assert_eq!(message["content"]["outcome"], run["outcome"], "what is told is what is recorded");
    }
    assert!(ran.len() >= events, "{} of {events}", ran.len());
}

#[test]
fn who_dies_while_telling_tells_again_and_says_so() {
    let place = place(
        "[notify.one]\nrun = [\"sh\", \"-c\", \"cat >>@/told; echo >>@/told; [ -e @/live ] || kill -9 $PPID\"]\n",
    );
    fs::remove_dir_all(place.path("data")).unwrap();
    assert_eq!(place.gullet(&["run", "desk"]).code, -1);
    place.file("live", "");
    place.gullet(&["notify"]).exits(0).says("✓ sent");
    place.gullet(&["notify"]).exits(0);
    let doubts: Vec<bool> =
        told(&place).iter().map(|message| message["may_have_come_before"].as_bool().unwrap()).collect();
    assert_eq!(doubts, [false, true]);
    assert!(told(&place)[1]["text"].as_str().unwrap().contains("may have come before"));
}

/// A server that gives each request the next of these answers, and hands on what was asked.
fn server(listener: TcpListener, answers: Vec<&'static str>) -> Receiver<String> {
    let (out, requests) = channel();
    std::thread::spawn(move || {
        let mut answers = answers.into_iter();
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            let (mut heard, mut buffer) = (Vec::new(), [0; 4096]);
            loop {
                let text = String::from_utf8_lossy(&heard).into_owned();
                let length = text
                    .to_lowercase()
                    .split("content-length: ")
                    .nth(1)
                    .and_then(|rest| rest.split("\r\n").next().and_then(|number| number.parse::<usize>().ok()));
                let body = text.find("\r\n\r\n").map(|at| heard.len() - at - 4);
                if body.is_some() && body >= length {
                    break;
                }
                match stream.read(&mut buffer).unwrap() {
                    0 => break,
                    read => heard.extend(&buffer[..read]),
                }
            }
            // Somebody who only looked whether anybody listens asked nothing.
            if !heard.is_empty() {
                let answer = answers.next().unwrap();
                write!(stream, "HTTP/1.1 {answer}\r\ncontent-length: 0\r\nconnection: close\r\n\r\n").unwrap();
                out.send(String::from_utf8(heard).unwrap()).unwrap();
            }
        }
    });
    requests
}

#[test]
fn a_request_that_fails_is_made_again_and_the_message_is_its_body() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let place = place(&format!("[notify.one]\npost = \"http://{address}/in\"\nheaders = {{ X-From = \"gullet\" }}\n"));
    fs::remove_dir_all(place.path("data")).unwrap();
    drop(listener);
    place.gullet(&["run", "desk"]).exits(1).says("1 message could not be sent").says("Connection refused");
    place.gullet(&["run", "desk"]).exits(1).says("2 messages could not be sent");
    place.gullet(&["notify", "--list"]).exits(1).says("desk failed");
    place.gullet_at("+2h", &["status"]).says("2 messages could not be sent since");
    let requests = server(TcpListener::bind(address).unwrap(), vec!["500 No", "200 OK", "200 OK"]);
    place.gullet(&["notify"]).exits(1).says("status 500");
    place.gullet(&["notify"]).exits(0).says("✓ sent");
    let heard: Vec<String> = requests.try_iter().collect();
    assert_eq!(heard.len(), 3);
    let body = |text: &String| serde_json::from_str::<Value>(text.split_once("\r\n\r\n").unwrap().1).unwrap();
    assert_eq!(body(&heard[0])["id"], body(&heard[1])["id"], "the server said no, so it is the same one");
    assert_eq!(body(&heard[1])["content"]["title"], "Booking {desk}");
    assert_eq!(body(&heard[1])["may_have_come_before"], false);
    assert!(heard[0].starts_with("POST /in ") && heard[0].to_lowercase().contains("x-from: gullet"), "{}", heard[0]);
}

#[test]
fn messages_that_nobody_wants_any_more_are_forgotten() {
    let place = place("[notify.one]\nrun = [\"false\"]\n");
    fs::remove_dir_all(place.path("data")).unwrap();
    place.gullet(&["run", "desk"]).exits(1);
    place.gullet(&["run", "desk"]).exits(1);
    let id = place.runs()[0]["run"].as_str().unwrap().to_owned();
    place.gullet(&["notify", "--forget", &id]).exits(0).says(&format!("forgotten: {id} to one"));
    place.gullet(&["notify", "--forget", "nobody"]).exits(2);
    assert_eq!(place.gullet(&["notify", "--list", "--json"]).json().as_array().unwrap().len(), 1);
    place.gullet(&["notify", "--forget", "one"]).exits(0);
    place.gullet(&["notify"]).exits(0);
    place.gullet(&["notify", "--test"]).exits(1).says("`one`: `false`: exit code 1");
    place.gullet(&["notify", "--test", "two"]).exits(2).says("it has one");
}

const CALENDAR: &str =
    "[[report]]\nname = \"morning\"\nevery = \"day\"\nat = \"07:00\"\nzone = \"UTC\"\nto = [\"one\"]\n";

#[test]
fn the_morning_list_comes_by_its_schedule_worst_first_and_once() {
    let place = place(&format!(
        "{TOLD}{CALENDAR}[app.ledger]\nno_hold = \"a test\"\n[[app.ledger.part]]\nname = \"a\"\ncommand = [\"false\"]\n"
    ));
    place.gullet(&["run", "desk"]).exits(0);
    place.gullet(&["run", "ledger"]).exits(1);
    let due = |at: &str| place.gullet_at(&format!("@{at}"), &["due"]);
    due("2027-03-01 06:59:00").exits(0);
    due("2027-03-01 07:00:05").exits(0);
    due("2027-03-01 07:01:05").exits(0);
    let messages = told(&place);
    assert_eq!(messages.len(), 1);
    let apps: Vec<&str> =
        messages[0]["content"]["apps"].as_array().unwrap().iter().map(|app| app["app"].as_str().unwrap()).collect();
    assert_eq!(apps, ["desk", "ledger"], "both are critical by then, and in the order of their names");
    // By hand, now: the one that has a complete run is better off.
    let preview = place.gullet(&["notify", "--report", "morning", "--preview"]).exits(0);
    let text = preview.out;
    assert!(text.find("(ledger)").or(text.find("ledger: critical")) < text.find("(desk)"), "{text}");
    assert!(text.starts_with("✗ 1 of 2 applications on ") && text.contains("1 failed, 1 complete"), "{text}");
    // Off for two mornings.
    let missed = due("2027-03-03 12:00:00").exits(4);
    assert!(missed.err.contains("the report morning, due 2027-03-02 07:00:00 +00:00, was missed"), "{}", missed.err);
    assert_eq!(told(&place).len(), 3);
    assert_eq!(told(&place)[1]["content"]["what"], "missed");
    place.gullet(&["notify", "--report", "evening"]).exits(2).says("it has morning");
}

#[test]
fn drills_and_verifications_are_done_by_the_calendar() {
    let place = Place::new();
    place.file("data/a", "a");
    place.define(&format!(
        "verify = {{ every = \"day\", at = \"05:00\", zone = \"UTC\", share = \"50%\" }}\n{TOLD}{DESK}\
         [app.desk.drill]\nevery = \"week\"\non = \"mon\"\nat = \"06:00\"\nzone = \"UTC\"\n\
         checks = [{{ name = \"a is there\", run = [\"test\", \"-e\", \"{{files}}@/data/a\"] }}]\n"
    ));
    place.gullet(&["store", "new", "depot"]).exits(0);
    let due = |at: &str| place.gullet_at(&format!("@{at}"), &["due"]);
    due("2027-03-01 04:00:00").exits(0);
    place.gullet_at("@2027-03-01 04:01:00", &["run", "desk"]).exits(0);
    due("2027-03-01 05:00:10").exits(0);
    due("2027-03-01 06:00:10").exits(0);
    let run = place.runs()[0]["run"].as_str().unwrap().to_owned();
    let remarks = place.json(&["show", &run])["remarks"].clone();
    let kinds: Vec<&str> = remarks.as_array().unwrap().iter().map(|remark| remark["what"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["verified", "drilled"]);
    let agenda = place.json(&["agenda", "--from", "2027-03-01T00:00:00Z", "--until", "2027-03-02T00:00:00Z"]);
    let what: Vec<&str> = agenda.as_array().unwrap().iter().map(|row| row["what"].as_str().unwrap()).collect();
    assert_eq!(what, ["verify", "drill"]);
    assert_eq!(told(&place), Vec::<Value>::new());
    // What is damaged is told, by the verification and by the drill.
    let payload = place.files_below("depot/payload").into_iter().find(|path| path.is_file()).unwrap();
    place.flip(&payload, 5);
    due("2027-03-08 05:00:10").exits(1).says("damaged");
    due("2027-03-08 06:00:10");
    let what: Vec<Value> = told(&place).iter().map(|message| message["content"]["what"].clone()).collect();
    assert!(what.contains(&"damaged".into()) && what.contains(&"drill_failed".into()), "{what:?}");
}

#[test]
fn a_group_is_run_together_by_its_schedule() {
    let place = Place::new();
    let app = |name: &str| {
        format!("[app.{name}]\nno_hold = \"a test\"\n[[app.{name}.part]]\nname = \"a\"\ncommand = [\"echo\", \"x\"]\n")
    };
    // A schedule of its own that is called the same and is due at the same moment is another one.
    let own = "[[app.desk.schedule]]\nname = \"nightly\"\nevery = \"day\"\nat = \"01:30\"\nzone = \"UTC\"\n";
    place.define(&format!(
        "{}{}{own}[group.both]\napps = [\"desk\", \"ledger\"]\n[[group.both.schedule]]\nname = \"nightly\"\nevery = \"day\"\n\
         at = \"01:30\"\nzone = \"UTC\"\n",
        app("desk"),
        app("ledger")
    ));
    place.gullet(&["store", "new", "depot"]).exits(0);
    let due = |at: &str| place.gullet_at(&format!("@2027-03-{at}"), &["due"]);
    due("01 01:00:00").exits(0);
    // Each of the two begins at that time by its clock, which may be before the other: that is a warning then.
    let code = due("01 01:30:10").code;
    assert!(code == 0 || code == 6, "{code}");
    due("02 12:00:00").exits(4).says("the run of group both by schedule nightly");
    let runs: Vec<(String, String)> = place
        .runs()
        .iter()
        .map(|run| {
            (run["app"].as_str().unwrap().to_owned(), run["outcome"].as_str().unwrap().replace("warnings", "complete"))
        })
        .collect();
    let mut sorted = runs.clone();
    sorted.sort();
    let pair = |app: &str, outcome: &str| (app.to_owned(), outcome.to_owned());
    let expected = [
        pair("desk", "complete"),
        pair("desk", "complete"),
        pair("desk", "missed"),
        pair("desk", "missed"),
        pair("ledger", "complete"),
        pair("ledger", "missed"),
    ];
    assert_eq!(sorted, expected);
    place.gullet_at("@2027-03-02 12:01:00", &["status"]).exits(2).says("was missed");
}

#[test]
fn each_flaw_of_telling_has_its_place_and_its_words() {
    let place = Place::new();
    let refused = |text: &str, says: &str| {
        place.define(&format!("{text}\n{DESK}"));
        place.gullet(&["preflight"]).exits(3).says(says).says("gullet.toml:");
    };
    let one = "[notify.one]\nrun = [\"true\"]\n";
    refused("", "there is no `[notify.one]`");
    refused("[notify.one]\n", "say one way of telling");
    refused("[notify.one]\nrun = [\"true\"]\nsyslog = \"daemon\"\n", "say one way of telling");
    refused("[notify.one]\npost = \"ftp://x/\"\n", "no URL");
    refused("[notify.one]\nsyslog = \"deamon\"\n", "did you mean");
    let mail = |more: &str| format!("[notify.one]\nmail = {{ to = [\"a\\u0040b\"], from = \"c\\u0040d\", {more} }}\n");
    refused(&mail("server = \"mail.skerry.example\""), "`mail.skerry.example` is no mail server");
    refused(&mail("server = \"smtps://x\", user = \"u\""), "belong together");
    refused(&mail("server = \"smtps://x\", user = \"u\", password = \"p\""), "does not belong into a definition");
    refused(
        &mail("server = \"smtp://x\", unencrypted = true, user = \"u\", password = { file = \"/x\" }"),
        "without TLS",
    );
    refused(
        "[notify.one]\nmail = { to = [\"nobody\"], from = \"c\\u0040d\", server = \"smtps://x\" }\n",
        "no mail address",
    );
    let report = |more: &str| format!("{one}[[report]]\nname = \"morning\"\nevery = \"day\"\nzone = \"UTC\"\n{more}\n");
    refused(&report("at = \"25:00\"\nto = [\"one\"]"), "25:00");
    refused(&report("at = \"07:00\"\nto = [\"onee\"]"), "did you mean \"one\"");
    refused(&report("at = \"07:00\"\nto = []"), "nobody is told");
    refused(
        &format!(
            "{one}[store.far]\nlocation = \"/far\"\nverify = {{ every = \"day\", at = \"01:00\" }}\n[app.x]\nstore = \"far\""
        ),
        "in which zone",
    );
}

#[test]
fn the_system_log_gets_one_line() {
    let place = place("[notify.one]\nsyslog = \"local3\"\n");
    fs::remove_dir_all(place.path("data")).unwrap();
    // A /dev of its own, in which a socket listens where the system log would.
    place.file(
        "listen.py",
        "import os, socket, subprocess, sys\n\
         log = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)\n\
         log.bind('/dev/log'); log.settimeout(20)\n\
         subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)\n\
         print(log.recv(4096).decode())\n",
    );
    let script = "mkdir old && mount --rbind /dev old && mount -t tmpfs none /dev && ln -s $PWD/old/* /dev/ && rm -f /dev/log && \
                  exec python3 listen.py \"$@\"";
    let mut command = std::process::Command::new("unshare");
    command.args(["-m", "sh", "-c", script, "sh", crate::harness::GULLET, "run", "desk"]);
    command.current_dir(place.path("")).env_clear().env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin").env("TZ", "UTC");
    let heard = crate::harness::called(command);
    // Facility local3 is 19, an error is 3.
    assert!(heard.out.starts_with("<155>gullet["), "{}{}", heard.out, heard.err);
    assert!(heard.out.contains("]: desk failed on "), "{}", heard.out);
    place.gullet(&["notify"]).exits(0);
}
