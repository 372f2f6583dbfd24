//! Far places against real servers.

use std::fs;
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use gullet_store::{BucketPlace, Folder, bucket};
use serde_json::Value;

use crate::conformance::{Lies, check};
use crate::harness::{Disk, Mounted, Place};
use crate::proxy::Proxy;
use crate::servers::{free_port, wait_until};

/// An object storage that is running: moto, which keeps everything in memory.
pub struct Moto {
    pub port: u16,
    server: Child,
}

impl Moto {
    pub fn start() -> Self {
        let port = free_port();
        let mut command = Command::new("python3");
        command.args(["-m", "moto.server", "-H", "127.0.0.1", "-p", &port.to_string()]);
        let server = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        wait_until("the object storage", || std::net::TcpStream::connect(("127.0.0.1", port)).is_ok());
        let moto = Self { port, server };
        let made = Command::new("curl").args(["-sSf", "-X", "PUT", &format!("{}/depot", moto.endpoint())]).status();
        assert!(made.unwrap().success(), "a bucket is made");
        moto
    }

    pub fn endpoint(&self) -> String {
        format!("http://127.0.0.1:{}", self.port)
    }

    pub fn place(&self) -> BucketPlace {
        bucket_at(self.endpoint(), "depot", "quay/first")
    }
}

/// A bucket of a server of these tests, whose keys are all the same.
pub fn bucket_at(endpoint: String, bucket: &str, prefix: &str) -> BucketPlace {
    BucketPlace {
        bucket: bucket.to_owned(),
        prefix: prefix.to_owned(),
        endpoint,
        region: "us-east-1".to_owned(),
        key: "AK".to_owned(),
        secret: "SK".to_owned(),
        limit: Duration::from_secs(10),
        ..BucketPlace::default()
    }
}

impl Drop for Moto {
    fn drop(&mut self) {
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}

#[test]
fn folders_on_every_filesystem_do_what_every_location_must_do() {
    let place = Place::new();
    let _tmpfs = Mounted::at(&place.path("tmpfs"), "200m");
    let _disks = ["btrfs", "xfs", "ext4"].map(|kind| Disk::at(&place.path(kind), kind));
    for kind in ["btrfs", "xfs", "ext4", "tmpfs"] {
        assert_eq!(check(&Folder::new(place.path(kind).join("store"))), Lies::default(), "{kind}");
    }
}

#[test]
fn a_bucket_does_what_every_location_must_do() {
    let moto = Moto::start();
    assert_eq!(check(bucket(&moto.place()).unwrap().as_ref()), Lies::default());
    // The whole bucket, without a prefix.
    let place = BucketPlace { bucket: "depot".to_owned(), prefix: String::new(), ..moto.place() };
    assert_eq!(bucket(&place).unwrap().names("quay/first/many/").unwrap().len(), 1_050);
}

/// A definition with a first store and its copy, which is a bucket reached through this port.
fn with_copy(place: &Place, port: u16, more: &str) {
    place.define(&format!("copies = [\"far\"]\n{}{more}{PART}", far(port)));
}

fn far(port: u16) -> String {
    format!(
        "[store.far]\nlocation = \"s3://depot/quay\"\nendpoint = \"http://127.0.0.1:{port}\"\nlimit = \"1s\"\n\
         credentials = {{ file = \"@/keys\" }}\n"
    )
}

pub const PART: &str = "[app.desk]\nno_hold = \"a test\"\n[app.desk.drill]\nchecks = [{ name = \"there\", run = [\"true\"] }]\n\
                    [[app.desk.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n";

/// Credentials of the bucket, and something to capture.
pub fn place() -> Place {
    let place = Place::new();
    let keys = place.file("keys", "AWS_ACCESS_KEY_ID=AK\nAWS_SECRET_ACCESS_KEY=SK\n");
    fs::set_permissions(keys, fs::Permissions::from_mode(0o600)).unwrap();
    write(&place, 1);
    place
}

pub fn write(place: &Place, seed: u64) {
    place.file("docs/a", noise(seed));
}

pub fn noise(seed: u64) -> Vec<u8> {
    let mut rng = fastrand::Rng::with_seed(seed);
    (0..700_000).map(|_| rng.u8(..)).collect()
}

pub fn restored(place: &Place, arguments: &[&str]) -> Vec<u8> {
    let _ = fs::remove_dir_all(place.path("out"));
    place.gullet(&[&["restore"], arguments, &["--into", "out"]].concat()).exits(0);
    let docs = place.path("docs/a");
    fs::read(place.path("out/files").join(docs.strip_prefix("/").unwrap())).unwrap()
}

#[test]
fn a_place_is_tried_and_what_a_careless_server_does_is_found() {
    let (moto, place) = (Moto::start(), place());
    with_copy(&place, moto.port, "");
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["store", "test", "depot"]).exits(0).says("✓ usable: written, read back whole and in part, removed");
    place.gullet(&["run", "desk", "--quiet"]).exits(0);
    place.gullet(&["store", "copy", "depot"]).exits(0);
    place.gullet(&["store", "test", "far"]).exits(0);
    assert!(!place.json(&["store", "info", "far"])["records"].is_null());
    // nanio takes no notice of `If-None-Match`.
    let (careless, _server) = careless();
    with_copy(&place, careless, "");
    place.gullet(&["store", "copy", "depot", "--make"]).exits(0);
    place.gullet(&["store", "test", "far"]).exits(6).says("an object whose name is taken is overwritten there");
    let can = place.gullet(&["store", "test", "far", "--json"]).exits(6).json()["can"].clone();
    assert_eq!(can, serde_json::json!({ "creates_only": false, "has_one_winner": false, "removes": true }));
    place.gullet(&["verify", "--store", "far"]).exits(0);
}

/// An object storage that takes no notice of what it does not know: its port, and the server.
pub fn careless() -> (u16, impl Drop) {
    let (careless, folder) = (free_port(), tempfile::tempdir().unwrap());
    fs::create_dir(folder.path().join("depot")).unwrap();
    let mut command = Command::new("python3");
    command.args([
        "-c",
        "from nanio.cli import main; main()",
        "serve",
        "--host",
        "127.0.0.1",
        "--port",
        &careless.to_string(),
    ]);
    command.arg("--data-dir").arg(folder.path()).env("NANIO_ACCESS_KEY", "AK").env("NANIO_SECRET_KEY", "SK");
    let server = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let server = Running(server, folder);
    wait_until("the careless server", || std::net::TcpStream::connect(("127.0.0.1", careless)).is_ok());
    (careless, server)
}

/// A server that ends with the test.
struct Running(Child, #[allow(dead_code, reason = "it goes with the server")] tempfile::TempDir);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[test]
fn a_copy_in_a_bucket_is_a_whole_store_and_outlives_the_first() {
    let (moto, place) = (Moto::start(), place());
    with_copy(&place, moto.port, "");
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["preflight", "desk"]).exits(6).says("gullet store copy depot makes it");
    place.gullet(&["run", "desk"]).exits(0).says("there is no second copy on far yet");
    place.gullet(&["store", "copy", "depot"]).exits(0).says("1 run copied now");
    write(&place, 2);
    place.gullet(&["run", "desk"]).exits(0).says("copied to far: ");
    place.gullet(&["preflight", "desk"]).exits(6).says("far: it is a copy of the store, at s3://depot/quay");
    place.gullet(&["verify", "--store", "far"]).exits(0).says("intact: 2 runs");
    // The first store burns down, and the definition with it.
    fs::rename(place.path("depot"), place.path("ashes")).unwrap();
    assert_eq!(restored(&place, &["desk@latest", "--store", "far"]), noise(2));
    let endpoint = moto.endpoint();
    let bare = |arguments: &[&str]| {
        let mut command = place.command(&[arguments, &["--store", "s3://depot/quay"]].concat());
        command.env("AWS_ACCESS_KEY_ID", "AK").env("AWS_SECRET_ACCESS_KEY", "SK").env("AWS_ENDPOINT_URL", &endpoint);
        command.current_dir("/").output().unwrap()
    };
    let runs = bare(&["runs", "--json"]);
    assert_eq!(serde_json::from_slice::<Value>(&runs.stdout).unwrap().as_array().unwrap().len(), 2, "{runs:?}");
    let out = place.text("bare");
    assert!(bare(&["restore", "desk@latest", "--into", &out]).status.success());
    assert!(!place.files_below("bare").is_empty());
    place.gullet(&["store", "copy", "far", "--to", "depot", "--make"]).exits(0);
    assert_eq!(restored(&place, &["desk@latest"]), noise(2));
    place.gullet(&["verify"]).exits(0);
}

#[test]
fn everything_that_works_on_a_folder_works_on_a_bucket() {
    for sealed in [false, true] {
        let (moto, place) = (Moto::start(), place());
        let mut keys = String::new();
        let mut identity: Vec<&str> = Vec::new();
        if sealed {
            let public = place.json(&["key", "new", "safe.key"])["public"].as_str().unwrap().to_owned();
            keys = format!("encrypt_to = [\"{public}\"]\n");
            identity = vec!["--identity", "safe.key"];
        }
        let folder = place.path("").display().to_string();
        let text = format!("state = \"@/state\"\n{}{keys}{PART}[app.desk.keep]\nnewest = 2\n", far(moto.port));
        place.file("gullet.toml", text.replace('@', folder.trim_end_matches('/')));
        let with = |arguments: &[&'static str]| [arguments, &identity].concat();
        place.gullet(&["run", "desk"]).exits(4).says("gullet store new far");
        place.gullet(&["store", "new", "far"]).exits(0).says("at s3://depot/quay");
        place.gullet(&["store", "new", "far"]).exits(4).says("is not empty");
        place.gullet(&["preflight", "desk"]).exits(6).says("s3://depot/quay: written, read back, removed");
        for seed in 2..6 {
            write(&place, seed);
            place.gullet(&["run", "desk"]).exits(0);
        }
        let left = || place.runs().iter().filter(|run| run["thinned"] == false && run["parts"] != 0).count();
        assert_eq!(left(), 2);
        place.gullet(&with(&["verify"])).exits(0);
        place.gullet(&with(&["verify", "--share", "50%"])).exits(0);
        // Sweeping comes by itself with the keep rules.
        assert_eq!(place.json(&["store", "info", "far"])["payload_files"], 2);
        place
            .gullet(&["thin", "--reason", "a test", "--run", place.runs()[3]["run"].as_str().unwrap(), "--yes"])
            .exits(0);
        place.gullet(&["store", "sweep", "far", "--yes", "--delay", "0s"]).exits(0);
        assert_eq!(place.json(&["store", "info", "far"])["payload_files"], 1);
        place.gullet(&with(&["verify"])).exits(0);
        place.gullet(&with(&["drill", "desk"])).exits(0);
        place.gullet(&with(&["compare", "desk@latest", "--now"])).exits(0);
        assert_eq!(restored(&place, &with(&["desk@latest"])), noise(5));
        // The machine is lost; another one goes on in its place.
        fs::rename(place.path("state"), place.path("lost")).unwrap();
        let machine = place.json(&["runs"])[0]["machine"].as_str().unwrap().to_owned();
        let rebuild = ["store", "rebuild", "far", "--machine", &machine].map(str::to_owned);
        let rebuild: Vec<&str> = rebuild.iter().map(String::as_str).chain(identity.iter().copied()).collect();
        place.gullet(&rebuild).exits(0);
        place.gullet(&["run", "desk"]).exits(0);
        place.gullet(&with(&["verify"])).exits(0);
        assert_eq!(restored(&place, &with(&["desk@latest"])), noise(5));
    }
}

#[test]
fn a_far_place_that_cannot_be_used_makes_no_run_fail_and_is_told_in_words() {
    let (moto, place) = (Moto::start(), place());
    with_copy(&place, moto.port, "");
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["run", "desk", "--quiet"]).exits(0);
    place.gullet(&["store", "copy", "depot"]).exits(0);
    // Nobody answers; somebody takes the connection and is silent; the bucket is gone; the key is another's.
    let silent = TcpListener::bind("127.0.0.1:0").unwrap();
    let refused = free_port();
    for (port, words) in [(refused, "refused"), (silent.local_addr().unwrap().port(), "the server was silent for 1 s")]
    {
        with_copy(&place, port, "");
        let began = Instant::now();
        place.gullet(&["run", "desk"]).exits(0).says("there is no second copy on far yet").says(words);
        assert!(began.elapsed() < Duration::from_secs(20));
        place.gullet(&["status"]).exits(0).says("no second copy on far yet");
        place.gullet_at("+25h", &["status"]).exits(1).says("no second copy on far yet");
        place.gullet(&["store", "copy", "depot"]).exits(1).says(words);
        place.gullet(&["preflight", "desk"]).exits(6).says(words);
    }
    with_copy(&place, moto.port, "");
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    place.file("gullet.toml", text.replace("s3://depot/quay", "s3://no-such/quay"));
    place.gullet(&["run", "desk"]).exits(0).says("the server has no such bucket");
    place.file("gullet.toml", text.replace("credentials = ", "# credentials = "));
    place.gullet(&["run", "desk"]).exits(0).says("have no AWS_ACCESS_KEY_ID");
    place.file("gullet.toml", text.replace("endpoint = \"http:", "endpoint = \"https:"));
    let run = place.gullet(&["run", "desk"]).exits(0);
    assert!(run.err.contains("no second copy on far yet"), "{}", run.err);
    // It is back: everything goes on.
    place.file("gullet.toml", &text);
    place.gullet(&["run", "desk"]).exits(0).says("copied to far");
    place.gullet(&["status"]).exits(0);
    place.gullet(&["verify", "--store", "far"]).exits(0);
}

#[test]
fn whatever_happens_to_connections_nothing_half_is_whole_and_everything_goes_on() {
    let moto = Moto::start();
    go_through_trouble(moto.port, Duration::from_millis(300), 25);
}

/// So many runs with a copy go through a proxy that troubles every third connection to a server, whose limit is this.
#[allow(clippy::print_stderr, reason = "its figures are asked for")]
pub fn go_through_trouble(port: u16, limit: Duration, rounds: u64) {
    let place = place();
    let proxy = Proxy::before(port, limit * 2 + limit / 3, 20_261_129);
    with_copy(&place, proxy.port, "");
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    let text = text.replace("limit = \"1s\"", &format!("limit = \"{}ms\"", limit.as_millis()));
    place.file("gullet.toml", &text);
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["run", "desk", "--quiet"]).exits(0);
    place.gullet(&["store", "copy", "depot"]).exits(0);
    let mut failed = 0;
    for round in 0..rounds {
        write(&place, 100 + round);
        proxy.trouble(3);
        let run = place.gullet(&["run", "desk"]).exits(0);
        failed += u32::from(!run.err.contains("copied to far"));
        assert!(
            run.err.contains("copied to far")
                || run.err.contains("second copy")
                || run.err.contains("does not have everything"),
            "{}",
            run.err
        );
        proxy.trouble(0);
        // What arrived damaged and could not be removed at once is sent anew.
        if round % 5 == 0 {
            place.gullet(&["store", "copy", "depot"]).exits(0);
        }
        // It reads everything each time.
        if round % (rounds / 10).max(5) == 0 {
            place.gullet(&["verify", "--store", "far"]).exits(0);
        }
    }
    place.gullet(&["store", "copy", "depot"]).exits(0);
    place.gullet(&["verify", "--store", "far"]).exits(0);
    let copied = place.json(&["runs", "--store", "far"]);
    assert_eq!(copied.as_array().unwrap().len() as u64, rounds + 1);
    assert_eq!(restored(&place, &["desk@latest", "--store", "far"]), noise(99 + rounds));
    let done = proxy.done();
    assert!(done > (rounds / 3).max(20) && failed > 2, "{done} connections in trouble, {failed} copies put off");
    eprintln!("{rounds} runs, {done} connections in trouble, {failed} copies put off");
}

#[test]
fn an_unchanged_run_asks_little_of_a_far_store() {
    let (moto, place) = (Moto::start(), place());
    let proxy = Proxy::before(moto.port, Duration::ZERO, 1);
    let folder = place.path("").display().to_string();
    let text = format!("state = \"@/state\"\n{}{PART}", far(proxy.port));
    place.file("gullet.toml", text.replace('@', folder.trim_end_matches('/')));
    place.gullet(&["store", "new", "far"]).exits(0);
    for number in 0..30 {
        place.file(&format!("docs/{number}"), noise(number));
    }
    place.gullet(&["run", "desk", "--quiet"]).exits(0);
    for _ in 0..5 {
        place.gullet(&["run", "desk", "--quiet"]).exits(0);
    }
    let asked = |arguments: &[&str]| {
        let before = proxy.requests();
        place.gullet(arguments).exits(0);
        proxy.requests() - before
    };
    let run = asked(&["run", "desk", "--quiet"]);
    let path = place.text("docs/7");
    let restore = asked(&["restore", "desk@latest", "--into", "out", "--path", &path]);
    // It does not grow with the number of files, of payload files, or of runs.
    assert!(run <= 10 && restore <= 16, "{run} requests of a run, {restore} of a file that is restored");
    place.gullet(&["run", "desk", "--quiet"]).exits(0);
    // The record that this machine keeps is believed only as long as it has the hash in its name.
    let kept = fs::read_dir(place.path("state/stores")).unwrap().flatten().find_map(|store| {
        let kept = store.path().join("newest/desk.json");
        kept.exists().then_some(kept)
    });
    fs::write(kept.unwrap(), "{}").unwrap();
    assert_eq!(asked(&["run", "desk", "--quiet"]), run + 1);
}

#[test]
fn a_server_that_does_not_know_conditions_is_asked_first() {
    let (moto, place) = (Moto::start(), place());
    let proxy = Proxy::before(moto.port, Duration::from_secs(1), 1);
    proxy.knows_no_conditions();
    with_copy(&place, proxy.port, "");
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.gullet(&["run", "desk", "--quiet"]).exits(0);
    place.gullet(&["store", "copy", "depot"]).exits(0).says("1 run copied now");
    place.gullet(&["verify", "--store", "far"]).exits(0).says("intact: 1 run");
    assert!(proxy.done() > 0, "it was tried");
    let far = bucket(&BucketPlace { endpoint: format!("http://127.0.0.1:{}", proxy.port), ..moto.place() }).unwrap();
    let direct = bucket(&moto.place()).unwrap();
    assert!(
        far.describe() == direct.describe() && far.address() != direct.address(),
        "what is known of one says nothing of the other"
    );
    far.write("one", b"1").unwrap();
    assert!(matches!(far.write("one", b"2"), Err(gullet_store::StoreError::Exists { .. })));
    assert_eq!(far.read("one").unwrap(), b"1");
    // What arrives with other bytes is told.
    proxy.flip_bodies(true);
    let error = far.write("damaged", b"as it was sent").unwrap_err();
    assert!(matches!(error, gullet_store::StoreError::Damaged { .. }), "{error:?}");
}
