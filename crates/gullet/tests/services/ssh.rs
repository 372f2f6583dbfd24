//! SFTP against OpenSSH, in a place of which its accounts see nothing else.

use std::fs;
use std::os::unix::fs::{PermissionsExt, chown};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use gullet_store::{SshFolderPlace, StoreError, ssh_folder};

use crate::conformance::{Lies, check};
use crate::far::{PART, noise, place, restored, write};
use crate::harness::{Called, Mounted, Place, called};
use crate::servers::{free_port, printed, wait_until};

/// Its own account: one of the system that nobody signs in as.
const ACCOUNT: &str = "www-data";

/// A server that is running, with a folder `depot` for its account.
struct Sshd {
    folder: tempfile::TempDir,
    port: u16,
    server: Option<Child>,
}

impl Sshd {
    fn start() -> Self {
        // All folders above the account's root must be root's alone.
        let folder = tempfile::Builder::new().prefix("gullet-").tempdir_in("/srv").unwrap();
        let path = folder.path();
        fs::set_permissions(path, fs::Permissions::from_mode(0o755)).unwrap();
        let account = nix::unistd::User::from_name(ACCOUNT).unwrap().unwrap();
        let depot = path.join("jail/depot");
        fs::create_dir_all(&depot).unwrap();
        chown(&depot, Some(account.uid.as_raw()), Some(account.gid.as_raw())).unwrap();
        for key in ["host", "user", "other"] {
            printed(Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(path.join(key)));
        }
        fs::copy(path.join("user.pub"), path.join("authorized")).unwrap();
        fs::create_dir_all("/run/sshd").unwrap();
        let mut sshd = Self { folder, port: free_port(), server: None };
        sshd.serve();
        let host = fs::read_to_string(sshd.path("host.pub")).unwrap();
        fs::write(sshd.path("known"), format!("[127.0.0.1]:{} {host}", sshd.port)).unwrap();
        sshd
    }

    fn serve(&mut self) {
        let at = self.folder.path().display();
        let text = format!(
            "Port {}\nListenAddress 127.0.0.1\nHostKey {at}/host\nPidFile {at}/pid\nAuthorizedKeysFile {at}/authorized\nStrictModes no\n\
             UsePAM no\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nSubsystem sftp internal-sftp\nMaxStartups 100\n\
             Match User {ACCOUNT}\nChrootDirectory {at}/jail\nForceCommand internal-sftp\n",
            self.port
        );
        fs::write(self.path("sshd.conf"), text).unwrap();
        let mut command = Command::new("/usr/sbin/sshd");
        command.args(["-D", "-e", "-f"]).arg(self.path("sshd.conf"));
        self.server = Some(command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap());
        let port = self.port;
        wait_until("the server", || std::net::TcpStream::connect(("127.0.0.1", port)).is_ok());
    }

    /// Ends the server and all connections to it.
    fn stop(&mut self) {
        if let Some(mut server) = self.server.take() {
            let _ = Command::new("pkill").args(["-KILL", "-P", &server.id().to_string()]).status();
            let _ = server.kill();
            let _ = server.wait();
        }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn place(&self) -> SshFolderPlace {
        SshFolderPlace {
            shown: "sftp://far/depot/quay".to_owned(),
            user: Some(ACCOUNT.to_owned()),
            host: "127.0.0.1".to_owned(),
            port: Some(self.port),
            folder: "/depot/quay".to_owned(),
            key_file: Some(self.path("user")),
            known_hosts: Some(self.path("known")),
            limit: Duration::from_secs(10),
        }
    }

    /// A definition whose store has a copy there.
    fn define(&self, place: &Place, key: &str) {
        let (key, known, port) = (self.path(key), self.path("known"), self.port);
        place.define(&format!(
            "copies = [\"far\"]\n[store.far]\nlocation = \"sftp://{ACCOUNT}\\u0040127.0.0.1:{port}/depot/quay\"\nlimit = \"5s\"\n\
             key_file = {key:?}\nknown_hosts = {known:?}\n{PART}"
        ));
    }
}

impl Drop for Sshd {
    fn drop(&mut self) {
        self.stop();
    }
}

#[test]
fn a_folder_of_another_machine_does_what_every_location_must_do() {
    let mut sshd = Sshd::start();
    let far = ssh_folder(sshd.place());
    far.discard_unpublished("payload/w/", true).unwrap();
    assert_eq!(check(far.as_ref()), Lies::default());
    assert!(far.free_space().unwrap().is_some());
    let file = sshd.path("jail/depot/quay/records/desk/one.json");
    assert_eq!(fs::metadata(file).unwrap().permissions().mode() & 0o777, 0o600);
    assert_eq!(fs::metadata(sshd.path("jail/depot/quay")).unwrap().permissions().mode() & 0o777, 0o700);
    // The connection is made anew where it broke.
    sshd.stop();
    sshd.serve();
    assert_eq!(far.read("records/desk/one.json").unwrap(), b"the first");
    far.write("records/desk/two.json", b"after").unwrap();
    // What a writer left that died goes when that is known.
    fs::write(sshd.path("jail/depot/quay/.incoming/payload+w+r+000000.zst.0"), b"half").unwrap();
    far.discard_unpublished("payload/w/", false).unwrap();
    assert!(fs::read_dir(sshd.path("jail/depot/quay/.incoming")).unwrap().count() == 1);
    far.discard_unpublished("payload/w/", true).unwrap();
    assert!(fs::read_dir(sshd.path("jail/depot/quay/.incoming")).unwrap().count() == 0);
}

#[test]
fn a_copy_by_sftp_is_made_restored_from_and_waits_for_a_machine_that_is_away() {
    let (mut sshd, place) = (Sshd::start(), place());
    sshd.define(&place, "user");
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["run", "desk", "--quiet"]).exits(0);
    place.gullet(&["store", "copy", "depot"]).exits(0).says("1 run copied now");
    write(&place, 2);
    place.gullet(&["run", "desk"]).exits(0).says("copied to far: ");
    place.gullet(&["verify", "--store", "far"]).exits(0);
    assert_eq!(restored(&place, &["desk@latest", "--store", "far"]), noise(2));
    // Another key, another host key, nobody there: each in words, and no run fails.
    sshd.define(&place, "other");
    place.gullet(&["run", "desk"]).exits(0).says("no second copy on far yet").says("Permission denied");
    sshd.define(&place, "user");
    let known = fs::read(sshd.path("known")).unwrap();
    let other = fs::read_to_string(sshd.path("other.pub")).unwrap();
    fs::write(sshd.path("known"), format!("[127.0.0.1]:{} {other}", sshd.port)).unwrap();
    place.gullet(&["run", "desk"]).exits(0).says("Host key verification failed");
    fs::write(sshd.path("known"), known).unwrap();
    sshd.stop();
    place.gullet(&["run", "desk"]).exits(0).says("Connection refused");
    place.gullet(&["status"]).exits(0).says("no second copy on far yet");
    sshd.serve();
    place.gullet(&["run", "desk"]).exits(0).says("copied to far");
    place.gullet(&["verify", "--store", "far"]).exits(0);
}

/// A place with a store and its copy by SFTP, behind a stand-in for `ssh`.
fn behind_plain(limit: &str) -> Place {
    let place = place();
    place.define(&format!(
        "copies = [\"far\"]\n[store.far]\nlocation = \"sftp://far@/far\"\nlimit = \"{limit}\"\n{PART}"
    ));
    fs::create_dir(place.path("bin")).unwrap();
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/services/plain_sftp.py");
    std::os::unix::fs::symlink(script, place.path("bin/ssh")).unwrap();
    place
}

/// The program with the stand-in, which must end so.
#[track_caller]
fn plain(place: &Place, line: u32, arguments: &[&str], code: i32) -> Called {
    let mut command = place.command(arguments);
    command.env("PATH", format!("{}:/usr/bin:/bin", place.text("bin"))).env("LINE", line.to_string());
    called(command).exits(code)
}

#[test]
fn a_server_that_says_no_limits_and_answers_short_gets_and_gives_everything() {
    let place = behind_plain("5s");
    let gullet = |arguments: &[&str]| plain(&place, 0, arguments, 0);
    gullet(&["store", "new", "depot"]);
    gullet(&["run", "desk", "--quiet"]);
    gullet(&["store", "copy", "depot"]).says("1 run copied now");
    gullet(&["show", "desk@latest"]).says("1 payload file, about 10% of each read back there");
    gullet(&["verify", "--store", "far"]).says("intact");
    gullet(&["restore", "desk@latest", "--store", "far", "--into", "out"]);
    let docs = place.path("docs/a");
    assert_eq!(fs::read(place.path("out/files").join(docs.strip_prefix("/").unwrap())).unwrap(), noise(1));
    // A place may be asked for all of it.
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    fs::write(place.path("gullet.toml"), text.replace("limit = \"5s\"", "limit = \"5s\"\nread_back = \"100%\""))
        .unwrap();
    write(&place, 2);
    gullet(&["run", "desk"]).says("copied to far: ");
    gullet(&["show", "desk@latest"]).says("every byte read back there");
    // A payload file that was cut off there is damaged, in words, and sent anew.
    let cut = place.files_below("far/payload").remove(0);
    fs::OpenOptions::new().write(true).open(&cut).unwrap().set_len(300_000).unwrap();
    plain(&place, 0, &["verify", "--store", "far", "--all-again"], 1).says("✗ damaged");
    gullet(&["store", "copy", "depot"]).says("1 run copied now");
    gullet(&["verify", "--store", "far", "--all-again"]).says("✓ intact");
}

#[test]
fn a_slow_line_is_no_silence() {
    let place = behind_plain("6s");
    for seed in 1..5 {
        place.file(&format!("docs/{seed}"), noise(seed));
    }
    plain(&place, 0, &["store", "new", "depot"], 0);
    plain(&place, 0, &["run", "desk", "--quiet"], 0);
    // 3.5 MB take 14 s on it.
    plain(&place, 250_000, &["store", "copy", "depot"], 0).says("1 run copied now");
}

#[test]
fn a_far_disk_that_is_full_is_told_as_such_and_leaves_nothing_half() {
    let sshd = Sshd::start();
    let _small = Mounted::at(&sshd.path("jail/depot"), "3m");
    fs::set_permissions(sshd.path("jail/depot"), fs::Permissions::from_mode(0o777)).unwrap();
    let far = ssh_folder(sshd.place());
    far.prepare().unwrap();
    far.write("payload/w/r/000000.zst", &noise(1)).unwrap();
    let large: Vec<u8> = (0..5).flat_map(noise).collect();
    let full = far.write("payload/w/r/000001.zst", &large).unwrap_err();
    assert!(full.is_full(), "{full:?}");
    assert!(matches!(far.read("payload/w/r/000001.zst"), Err(StoreError::Missing { .. })));
    assert_eq!(fs::read_dir(sshd.path("jail/depot/quay/.incoming")).unwrap().count(), 0);
    far.write("payload/w/r/000002.zst", &noise(2)).unwrap();
}

#[test]
fn appliances() {
    let (sshd, place) = (Sshd::start(), Place::new());
    let configuration = place.file("running-config", "interface uplink\n  description to the quay\n".repeat(40));
    // Both devices are this server; only root signs in with commands.
    let (known, key, port) = (sshd.path("known"), sshd.path("user"), format!("port = {}", sshd.port));
    let places = [
        ("switch-1.skerry.example\"\n", "127.0.0.1\"\n"),
        ("switch-2.skerry.example\"\n", "127.0.0.1\"\n"),
        ("port = 22", port.as_str()),
        ("backup@", "root@"),
        ("/etc/gullet/known_hosts\"", &format!("{}\"", known.display())),
        ("/etc/gullet/devices_ed25519", &key.display().to_string()),
        ("[\"show\", \"running-config\"]", &format!("[\"cat\", {configuration:?}]")),
    ];
    crate::recipes::defined(&place, "devices", "appliance", &places);
    place.gullet(&["run", "devices"]).exits(0);
    let out = crate::recipes::restored(&place, "devices");
    for name in ["switch-1", "switch-2"] {
        let folder = out.join("exports").join(name);
        let file = fs::read_dir(&folder).unwrap().next().unwrap().unwrap().path();
        assert_eq!(fs::read(file).unwrap(), fs::read(&configuration).unwrap(), "{name}");
    }
    // A device whose host key is another one is not believed, and takes nothing from the others.
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    let second = text.replacen("127.0.0.1\"\n", "localhost\"\n", 1);
    fs::write(place.path("gullet.toml"), second).unwrap();
    place.gullet(&["run", "devices"]).exits(5).says("switch-1").says("Host key verification failed");
    assert!(place.capture("switch-2")["problem"].is_null());
}
