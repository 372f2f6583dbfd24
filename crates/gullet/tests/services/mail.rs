//! Mail by a real server: with STARTTLS and with TLS from the first byte, signed in; and everything that may go wrong with it.

use std::fs;
use std::net::TcpListener;
use std::os::unix::fs::{PermissionsExt, chown};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use serde_json::Value;

use crate::harness::Place;
use crate::servers::{free_port, wait_until};

/// exim as it comes with Debian: STARTTLS on one port, TLS from the first byte on another; only who signs in may send, and nobody
/// is called `reject`.
const CONFIGURATION: &str = r#"exim_user = Debian-exim
exim_group = Debian-exim
spool_directory = @DIR@
log_file_path = @DIR@/%slog
pid_file_path = @DIR@/pid
primary_hostname = localhost
daemon_smtp_ports = @STARTTLS@ : @TLS@
local_interfaces = 127.0.0.1
tls_on_connect_ports = @TLS@
tls_certificate = @DIR@/cert.pem
tls_privatekey = @DIR@/key.pem
tls_advertise_hosts = *
auth_advertise_hosts = ${if eq{$tls_in_cipher}{}{}{*}}
acl_smtp_rcpt = recipient
keep_environment =
never_users =
begin acl
recipient:
 deny message = sign in first
  !authenticated = *
 deny message = 550 no such user
  local_parts = reject
 accept
begin routers
all:
 driver = accept
 transport = box
begin transports
box:
 driver = appendfile
 maildir_format
 create_directory
 directory = @DIR@/mail
 user = Debian-exim
begin authenticators
plain:
 driver = plaintext
 public_name = PLAIN
 server_prompts = :
 server_condition = ${if and{{eq{$auth2}{gullet}}{eq{$auth3}{low-tide-7}}}}
 server_set_id = $auth2
"#;

/// A mail server in a folder of its own.
struct Exim {
    folder: tempfile::TempDir,
    ports: (u16, u16),
    server: Option<Child>,
}

fn openssl(folder: &Path, arguments: &[&str]) {
    let made = Command::new("openssl").args(arguments).current_dir(folder).stderr(Stdio::null()).status().unwrap();
    assert!(made.success(), "openssl {arguments:?}");
}

/// A private authority in `ca.pem`, and a certificate for `localhost` that it signed.
fn certificates(folder: &Path) {
    let new = ["req", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes"];
    let authority =
        ["-x509", "-keyout", "cakey.pem", "-out", "ca.pem", "-days", "2", "-subj", "/CN=a private authority"];
    openssl(folder, &[&new[..], &authority].concat());
    openssl(folder, &[&new[..], &["-keyout", "key.pem", "-out", "asked.pem", "-subj", "/CN=localhost"]].concat());
    fs::write(folder.join("more"), "subjectAltName=DNS:localhost\nbasicConstraints=CA:FALSE\n").unwrap();
    let sign = ["x509", "-req", "-in", "asked.pem", "-CA", "ca.pem", "-CAkey", "cakey.pem", "-CAcreateserial"];
    openssl(folder, &[&sign[..], &["-days", "2", "-extfile", "more", "-out", "cert.pem"]].concat());
}

impl Exim {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path();
        fs::set_permissions(path, fs::Permissions::from_mode(0o755)).unwrap();
        certificates(path);
        let ports = (free_port(), free_port());
        let configuration = CONFIGURATION
            .replace("@DIR@", path.to_str().unwrap())
            .replace("@STARTTLS@", &ports.0.to_string())
            .replace("@TLS@", &ports.1.to_string());
        fs::write(path.join("exim.conf"), configuration).unwrap();
        let account = nix::unistd::User::from_name("Debian-exim").unwrap().expect("the account of exim4");
        for entry in fs::read_dir(path).unwrap().map(|entry| entry.unwrap().path()).chain([path.to_path_buf()]) {
            chown(entry, Some(account.uid.as_raw()), Some(account.gid.as_raw())).unwrap();
        }
        // exim reads no configuration that others than root own.
        chown(path.join("exim.conf"), Some(0), Some(0)).unwrap();
        let mut exim = Self { folder, ports, server: None };
        exim.start();
        exim
    }

    fn start(&mut self) {
        let mut command = Command::new("exim4");
        command.env("PATH", "/usr/sbin:/usr/bin:/bin").args(["-bdf", "-q30m", "-C"]).arg(self.path("exim.conf"));
        self.server = Some(command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap());
        let ports = self.ports;
        wait_until("the mail server", || {
            [ports.0, ports.1].iter().all(|port| std::net::TcpStream::connect(("127.0.0.1", *port)).is_ok())
        });
    }

    fn stop(&mut self) {
        if let Some(mut server) = self.server.take() {
            let _ = server.kill();
            let _ = server.wait();
        }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// What arrived, as Python's `email` reads it, in the order of its subjects.
    fn mails(&self) -> Vec<Value> {
        const READ: &str = r"
import email, email.policy, json, pathlib, sys
found = []
for path in pathlib.Path(sys.argv[1]).glob('mail/new/*'):
    mail = email.message_from_bytes(path.read_bytes(), policy=email.policy.default)
    assert not mail.defects, mail.defects
    part = lambda kind: mail.get_body((kind,)).get_content()
    found.append({'subject': mail['subject'], 'from': mail['from'], 'to': mail['to'], 'id': mail['message-id'],
                  'auto': mail['auto-submitted'], 'text': part('plain'), 'page': part('html'),
                  'files': [[file.get_filename(), file.get_content()] for file in mail.iter_attachments()],
                  'for': mail['envelope-to'] or mail['delivered-to']})
print(json.dumps(sorted(found, key=lambda mail: mail['subject'])))
";
        // The server hands over what it took a moment later.
        wait_until("the queue of the mail server", || {
            fs::read_dir(self.path("input")).map_or(true, |entries| entries.count() == 0)
        });
        let read = Command::new("python3").args(["-c", READ]).arg(self.folder.path()).output().unwrap();
        assert!(read.status.success(), "{}", String::from_utf8_lossy(&read.stderr));
        serde_json::from_slice(&read.stdout).unwrap()
    }
}

impl Drop for Exim {
    fn drop(&mut self) {
        self.stop();
    }
}

/// A desk whose failing runs are told by mail, with these keys.
fn desk(mail: &str) -> Place {
    let place = Place::new();
    let password = place.file("password", "low-tide-7\n");
    fs::set_permissions(password, fs::Permissions::from_mode(0o600)).unwrap();
    write_definition(&place, mail);
    place.gullet(&["store", "new", "depot"]).exits(0);
    place
}

fn write_definition(place: &Place, mail: &str) {
    place.define(&format!(
        "[notify.office]\nlimit = \"3s\"\n\
         mail = {{ from = \"gullet\\u0040skerry.example\", user = \"gullet\", password = {{ file = \"@/password\" }}, {mail} }}\n\
         [app.desk]\ntitle = \"Skerry Line Fähre\"\nno_hold = \"a test\"\nnotify = [{{ to = \"office\" }}]\n\
         [[app.desk.part]]\nname = \"data\"\nfiles = [\"@/not there <b>\"]\n"
    ));
}

const TO: &str = "to = [\"operations\\u0040skerry.example\"]";

#[test]
fn a_failed_run_is_told_by_mail_over_tls_in_both_ways() {
    let exim = Exim::new();
    let authority = exim.path("ca.pem").display().to_string();
    for (scheme, port) in [("smtp", exim.ports.0), ("smtps", exim.ports.1)] {
        let place = desk(&format!("{TO}, server = \"{scheme}://localhost:{port}\", authority = \"{authority}\""));
        place.gullet(&["notify", "--test", "office"]).exits(0).says("✓ sent");
        place.gullet(&["run", "desk"]).exits(1);
        place.gullet(&["notify"]).exits(0).says("no message waits");
        assert!(fs::read_to_string(place.path("state/notify/sent.jsonl")).unwrap().contains("\"refused\":[]"));
    }
    let mails = exim.mails();
    assert_eq!(mails.len(), 4);
    let failures: Vec<&Value> =
        mails.iter().filter(|mail| mail["subject"].as_str().unwrap().starts_with("desk failed on ")).collect();
    assert_eq!(failures.len(), 2, "{mails:?}");
    let failed = failures[0];
    let subject = failed["subject"].as_str().unwrap();
    let says = |key: &str, text: &str| assert!(failed[key].as_str().unwrap().contains(text), "{key}: {failed}");
    assert!(subject.contains("not there <b>"), "{subject}");
    says("from", "gullet@skerry.example");
    says("to", "operations@skerry.example");
    says("auto", "auto-generated");
    says("text", "✗ Skerry Line Fähre (desk): failed");
    says("text", "data: ");
    says("text", "record: records/desk/");
    says("page", "<h1 class=\"bad\">✗ Skerry Line Fähre (desk): failed</h1>");
    says("page", "not there &lt;b&gt;");
    assert_ne!(failed["id"], failures[1]["id"]);
}

#[test]
fn the_page_of_a_report_goes_with_its_mail() {
    let exim = Exim::new();
    let authority = exim.path("ca.pem").display().to_string();
    let place = desk(&format!("{TO}, server = \"smtps://localhost:{}\", authority = \"{authority}\"", exim.ports.1));
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    let report =
        "[[report]]\nname = 'morning'\nevery = 'day'\nat = '07:00'\nzone = 'UTC'\nto = ['office']\npage = true\n";
    fs::write(place.path("gullet.toml"), format!("{text}{report}")).unwrap();
    place.gullet(&["run", "desk"]).exits(1);
    place.gullet(&["notify", "--report", "morning"]).exits(0);
    let mails = exim.mails();
    let with_file: Vec<&Value> =
        mails.iter().filter(|mail| mail["files"].as_array().is_some_and(|f| !f.is_empty())).collect();
    assert_eq!(with_file.len(), 1, "{mails:?}");
    let (name, page) = (&with_file[0]["files"][0][0], with_file[0]["files"][0][1].as_str().unwrap());
    assert_eq!(name, "gullet-morning.html");
    assert!(
        page.contains("Skerry Line Fähre") && page.contains("class=\"day bad\"") && page.contains("</html>"),
        "{page}"
    );
    // Whoever gets JSON has the figures, and no page.
    let preview = place.json(&["notify", "--report", "morning", "--preview"]);
    assert!(preview["content"].get("page").is_none(), "{preview}");
}

#[test]
fn a_server_that_is_not_trusted_or_says_no_gets_nothing_and_nothing_is_lost() {
    let mut exim = Exim::new();
    let authority = exim.path("ca.pem").display().to_string();
    let server = format!("server = \"smtp://localhost:{}\", authority = \"{authority}\"", exim.ports.0);
    // A certificate of nobody that is known.
    let place = desk(&format!("{TO}, server = \"smtps://localhost:{}\"", exim.ports.1));
    place.gullet(&["run", "desk"]).exits(1).says("invalid peer certificate");
    // One of another name.
    write_definition(
        &place,
        &format!("{TO}, server = \"smtps://127.0.0.1:{}\", authority = \"{authority}\"", exim.ports.1),
    );
    place.gullet(&["notify"]).exits(1).says("certificate");
    // A wrong password, which is said nowhere.
    write_definition(&place, &format!("{TO}, {server}"));
    place.file("password", "high-tide-8\n");
    let called = place.gullet(&["notify"]).exits(1).says("signing in").says("535");
    assert!(!format!("{}{}", called.out, called.err).contains("high-tide"));
    place.file("password", "low-tide-7\n");
    fs::set_permissions(place.path("password"), fs::Permissions::from_mode(0o644)).unwrap();
    place.gullet(&["notify"]).exits(1).says("can be read by others");
    fs::set_permissions(place.path("password"), fs::Permissions::from_mode(0o600)).unwrap();
    // The server is down.
    exim.stop();
    place.gullet(&["notify"]).exits(1).says("Connection refused");
    place.gullet_at("+2h", &["status"]).says("1 message could not be sent since");
    exim.start();
    // Nobody is called so; the other one gets it.
    write_definition(&place, &format!("to = [\"reject\\u0040skerry.example\"], {server}"));
    place.gullet(&["notify"]).exits(1).says("takes it for nobody").says("no such user");
    assert_eq!(exim.mails().len(), 0);
    let both = "to = [\"reject\\u0040skerry.example\", \"operations\\u0040skerry.example\"]";
    write_definition(&place, &format!("{both}, {server}"));
    place.gullet(&["notify"]).exits(0).says("✓ sent").says("not to reject@skerry.example").says("no such user");
    let mails = exim.mails();
    assert_eq!(mails.len(), 1, "after so many tries once");
    assert!(!mails[0]["text"].as_str().unwrap().contains("may have come before"), "none of the tries came so far");
}

#[test]
fn a_server_that_hangs_or_offers_no_tls_does_not_hold_anybody_up() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let place = desk(&format!("{TO}, server = \"smtp://localhost:{port}\""));
    let began = std::time::Instant::now();
    place.gullet(&["run", "desk"]).exits(1).says("1 message could not be sent");
    assert!(began.elapsed() < std::time::Duration::from_secs(20));
    // One that speaks, and cannot do TLS.
    std::thread::spawn(move || {
        use std::io::{BufRead, BufReader, Write};
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            let _ = stream.write_all(b"220 here\r\n");
            let mut line = String::new();
            let _ = BufReader::new(stream.try_clone().unwrap()).read_line(&mut line);
            let _ = stream.write_all(b"250 here\r\n");
        }
    });
    place.gullet(&["notify"]).exits(1).says("it offers no STARTTLS; nothing is sent in clear");
}

#[test]
fn a_server_that_is_down_for_an_hour_gets_every_message_once() {
    let mut exim = Exim::new();
    let authority = exim.path("ca.pem").display().to_string();
    let place = desk(&format!("{TO}, server = \"smtps://localhost:{}\", authority = \"{authority}\"", exim.ports.1));
    exim.stop();
    for _ in 0..2 {
        place.gullet(&["run", "desk"]).exits(1).says("could not be sent");
    }
    // Every minute for an hour, as a timer would call it.
    let waiting = || place.gullet(&["notify", "--list", "--json"]).json();
    let due = |minute: u32| place.gullet_at(&format!("+{minute}m"), &["due"]).code;
    let tries = |listed: &Value| {
        let tries = listed.as_array().unwrap().iter().map(|message| message["tries"].as_u64().unwrap());
        tries.collect::<Vec<_>>()
    };
    for minute in 1..=60 {
        due(minute);
    }
    let tried = tries(&waiting());
    assert!(tried.len() == 2 && tried.iter().all(|tries| (4..=12).contains(tries)), "{tried:?}");
    exim.start();
    let took = (61..=125).find(|minute| due(*minute) == 0 && waiting() == serde_json::json!([]));
    assert!(took.is_some(), "{}", waiting());
    for minute in 126..=130 {
        assert_eq!(due(minute), 0);
    }
    let mails = exim.mails();
    assert_eq!(mails.len(), 2, "{mails:?}");
    assert_ne!(mails[0]["id"], mails[1]["id"]);
    assert!(mails.iter().all(|mail| !mail["text"].as_str().unwrap().contains("may have come before")), "{mails:?}");
}
