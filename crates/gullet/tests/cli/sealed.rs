//! EncryptedPart stores: what a thief, the capturing machine, and the owner of an identity can do.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::harness::Place;

const FILES: &str = "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n[[app.app.part]]\nname = \"printed\"\ncommand = [\"echo\", \"the harbour master\"]\n";
const SSH_PUBLIC: &str = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGoc5O4oUDMhSP2oqzUFmGBe8oE8ybKbyyLXtOXHLqBD desk@skerry";

/// Makes an identity in the place; gives its public key.
fn key(place: &Place, name: &str) -> String {
    place.json(&["key", "new", name])["public"].as_str().unwrap().to_owned()
}

fn define(place: &Place, keys: &[&str]) {
    let keys: Vec<String> = keys.iter().map(|key| format!("{key:?}")).collect();
    place.define(&format!("encrypt_to = [{}]\n[app.app]\nno_hold = \"a test\"\n{FILES}", keys.join(", ")));
}

/// A place with a encrypted store, its identity in `safe.key`, and one run.
fn sealed() -> (Place, String) {
    let (place, public) = Place::sealed_with_parts(FILES);
    place.file("docs/passengers.txt", "Una Tangle, berth 14\n".repeat(200));
    place.file("docs/more.txt", "Brendan Wrack, berth 3\n".repeat(100));
    std::thread::sleep(std::time::Duration::from_millis(120));
    place.gullet(&["run", "app"]).exits(0);
    (place, public)
}

fn objects(place: &Place, below: &str) -> Vec<PathBuf> {
    let found = Command::new("find").arg(place.path(below)).args(["-type", "f"]).output().unwrap();
    let mut files: Vec<PathBuf> = String::from_utf8(found.stdout).unwrap().lines().map(PathBuf::from).collect();
    files.sort();
    files
}

#[track_caller]
fn restores(place: &Place, run: &str, out: &str, more: &[&str]) {
    place.gullet(&[&["restore", run, "--into", out], more].concat()).exits(0);
    let root = place.path(&format!("{out}/files")).join(place.path("docs").strip_prefix("/").unwrap());
    for name in ["passengers.txt", "more.txt"] {
        assert_eq!(fs::read(root.join(name)).unwrap(), fs::read(place.path("docs").join(name)).unwrap());
    }
    assert_eq!(
        fs::read_to_string(place.path(&format!("{out}/exports/printed/printed"))).unwrap(),
        "the harbour master\n"
    );
}

#[test]
fn nothing_sensitive_lies_open_in_the_store() {
    let (place, _) = sealed();
    let words = ["Tangle", "berth", "passengers", "printed", "harbour", "docs"];
    for path in objects(&place, "depot") {
        let bytes = fs::read(&path).unwrap();
        for word in words {
            let found = bytes.windows(word.len()).any(|window| window == word.as_bytes());
            assert!(!found, "{word:?} can be read in {}", path.display());
        }
    }
    let payload = objects(&place, "depot/payload");
    assert!(!payload.is_empty() && payload.iter().all(|path| path.to_string_lossy().ends_with(".zst.age")));
}

#[test]
fn the_capturing_machine_shows_its_logbook_and_cannot_read_back() {
    let (place, public) = sealed();
    let run = place.record()["run"].as_str().unwrap().to_owned();
    place.gullet(&["show", &run]).exits(0).says("2 files, 2 new").says("encrypted to").says(&public);
    place.gullet(&["runs"]).exits(0).says("✓ complete");
    place.gullet(&["restore", &run, "--into", "out"]).exits(4).says("is encrypted").says(&public);
    place.gullet(&["show", &run, "--listing"]).exits(1).says("is encrypted, and no identity");
    place.gullet(&["verify"]).exits(0).says("✓ intact, not opened").says("only with `--identity FILE`");
    place.gullet(&["run", "app"]).exits(0);
    let record = place.record();
    assert_eq!(record["captures"][0]["counts"]["unchanged"], 2, "it compares with its last run");
    assert_eq!(record["captures"][0]["counts"]["bytes_new"], 0);
}

#[test]
fn an_identity_opens_everything_on_a_bare_machine() {
    let (place, _) = sealed();
    let bare = Place::new();
    let (store, identity) = (place.text("depot"), place.text("safe.key"));
    bare.gullet(&["runs", "--store", &store]).exits(0).says("without an identity");
    let with = ["--store", &store, "--identity", &identity];
    let runs = bare.json(&[&["runs"][..], &with].concat());
    assert_eq!((runs[0]["outcome"].as_str(), runs[0]["files"].as_u64()), (Some("complete"), Some(3)));
    let run = runs[0]["run"].as_str().unwrap();
    bare.gullet(&[&["verify"][..], &with].concat()).exits(0).says("chunks verified");
    bare.gullet(&[&["key", "test"][..], &with].concat()).exits(0).says("1 of 1 run opened");
    bare.gullet(&[&["show", run, "--listing"][..], &with].concat()).exits(0).says("passengers.txt");
    let out = bare.text("out");
    bare.gullet(&[&["restore", run, "--into", &out][..], &with].concat()).exits(0);
    restores(&place, run, "out", &["--identity", "safe.key"]);
}

#[test]
fn another_identity_is_told_from_damage() {
    let (place, public) = sealed();
    let run = place.record()["run"].as_str().unwrap().to_owned();
    let store = place.text("depot");
    key(&place, "other.key");
    let other = ["--store", &store, "--identity", "other.key"];
    place
        .gullet(&[&["restore", &run, "--into", "out"][..], &other].concat())
        .exits(4)
        .says("is encrypted")
        .says(&public);
    place.gullet(&[&["key", "test"][..], &other].concat()).exits(1).says("encrypted to other keys");
    let file = objects(&place, "depot/payload").remove(0);
    let whole = fs::read(&file).unwrap();
    for at in [10, 60, 130, whole.len() / 2, whole.len() - 3] {
        let mut changed = whole.clone();
        changed[at] ^= 1;
        fs::write(&file, changed).unwrap();
        let right = ["--store", &store, "--identity", "safe.key"];
        let verified = place.gullet(&[&["verify"][..], &right].concat()).exits(1);
        verified.says("damaged");
        place.gullet(&["verify", "--store", &store]).exits(1).says("its bytes are not those that were stored");
        let restored = place.gullet(&[&["restore", &run, "--into", &format!("out-{at}")][..], &right].concat());
        assert_eq!(restored.code, 5, "flip at {at}: {}{}", restored.out, restored.err);
        assert!(!restored.err.contains("no identity"), "flip at {at} is taken for a wrong key: {}", restored.err);
    }
    fs::write(&file, whole).unwrap();
    restores(&place, &run, "out", &["--identity", "safe.key"]);
}

#[test]
fn a_key_that_is_added_opens_later_runs_whole_and_no_earlier_one() {
    let (place, first) = sealed();
    place.gullet(&["preflight"]).says("encrypted to 1 public key").says("keep two copies");
    let second = key(&place, "second.key");
    define(&place, &[&first, &second]);
    place.gullet(&["preflight"]).exits(6).says("one of them new").says("stores everything anew");
    place.gullet(&["run", "app"]).exits(0);
    let runs = place.json(&["runs"]);
    let name = |at: usize| runs[at]["run"].as_str().unwrap().to_owned();
    assert!(runs[1]["bytes_stored"].as_u64().unwrap() > 0, "what only the first key opens is not stood on");
    restores(&place, &name(1), "new", &["--identity", "second.key"]);
    restores(&place, &name(1), "old", &["--identity", "safe.key"]);
    let store = place.text("depot");
    let with = ["--store", &store, "--identity", "second.key"];
    place.gullet(&[&["restore", &name(0), "--into", "out"][..], &with].concat()).exits(4).says("is encrypted");
    place.gullet(&[&["key", "test"][..], &with].concat()).exits(1).says("1 of 2 runs opened");
}

#[test]
fn sealed_and_open_are_not_mixed() {
    let (place, public) = sealed();
    place.define(&format!("[app.app]\nno_hold = \"a test\"\n{FILES}"));
    place.gullet(&["run", "app"]).exits(4).says("the store").says("is encrypted").says(&public);
    let open = Place::with_parts(FILES);
    open.file("docs/a", "x");
    define(&open, &[&public]);
    open.gullet(&["run", "app"]).exits(4).says("was made without keys");
    define(&open, &["age1nonsense"]);
    open.gullet(&["run", "app"]).exits(3).says("is not a public key");
}

#[test]
fn a_passphrase_protects_the_identity_and_not_the_store() {
    let place = Place::new();
    place.file("word", "seven gulls\n");
    place.file("wrong", "six gulls\n");
    let made = place.json(&["key", "new", "safe.key", "--passphrase", "--passphrase-from", "word"]);
    define(&place, &[made["public"].as_str().unwrap()]);
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.file("docs/passengers.txt", "Una Tangle\n");
    place.file("docs/more.txt", "x\n");
    place.gullet(&["run", "app"]).exits(0);
    let run = place.record()["run"].as_str().unwrap().to_owned();
    restores(&place, &run, "out", &["--identity", "safe.key", "--passphrase-from", "word"]);
    let wrong = place.gullet(&["verify", "--identity", "safe.key", "--passphrase-from", "wrong"]);
    wrong.exits(1).says("the passphrase does not open it");
    place.gullet(&["verify", "--identity", "safe.key"]).exits(1).says("protected by a passphrase");
    place.gullet(&["key", "new", "safe.key"]).exits(4).says("is not overwritten");
    let shown = place.json(&["key", "show", "safe.key", "--passphrase-from", "word"]);
    assert_eq!(shown[0]["public"], made["public"]);
}

#[test]
fn general_programs_open_what_is_sealed() {
    let (place, _) = sealed();
    for path in objects(&place, "depot/payload") {
        let shell = "age -d -i \"$0\" \"$1\" | zstd -dc";
        let output = Command::new("sh").args(["-c", shell]).arg(place.path("safe.key")).arg(&path).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        assert!(String::from_utf8_lossy(&output.stdout).contains("Una Tangle"));
    }
}

#[test]
fn an_ssh_key_seals_and_opens() {
    let place = Place::new();
    let words = ["-q", "-t", "ed25519", "-N", "", "-C", "desk", "-f"];
    let made = Command::new("ssh-keygen").args(words).arg(place.path("ssh")).status().unwrap();
    assert!(made.success());
    let public = fs::read_to_string(place.path("ssh.pub")).unwrap();
    define(&place, &[public.trim(), SSH_PUBLIC]);
    place.gullet(&["store", "new", "depot"]).exits(0);
    place.file("docs/passengers.txt", "Una Tangle\n");
    place.file("docs/more.txt", "x\n");
    place.gullet(&["run", "app"]).exits(0);
    let run = place.record()["run"].as_str().unwrap().to_owned();
    restores(&place, &run, "out", &["--identity", "ssh"]);
}

#[test]
fn the_identity_file_is_private_and_its_meaning_is_told() {
    use std::os::unix::fs::PermissionsExt;
    let place = Place::new();
    let call = place
        .gullet(&["key", "new", "safe.key"])
        .exits(0)
        .says("if all copies of it are lost")
        .says("move the file off");
    assert_eq!(fs::metadata(place.path("safe.key")).unwrap().permissions().mode() & 0o777, 0o600);
    assert!(!call.out.contains("SECRET") && !call.err.contains("SECRET"));
    let secret = fs::read_to_string(place.path("safe.key")).unwrap();
    let secret = secret.lines().find(|line| line.starts_with("AGE-SECRET")).unwrap();
    define(&place, &[secret]);
    let refused = place.gullet(&["plan", "app"]).exits(3).says("this is a secret key");
    assert!(!refused.err.contains(secret), "an error repeats the secret");
}

/// The state of the capturing machine is private.
#[test]
fn the_state_is_private() {
    use std::os::unix::fs::PermissionsExt;
    let (place, _) = sealed();
    let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o077;
    assert_eq!(mode(&place.path("state")), 0);
    let clear: Vec<PathBuf> =
        objects(&place, "state").into_iter().filter(|p| p.to_string_lossy().contains("/clear/")).collect();
    assert!(!clear.is_empty() && clear.iter().all(|path| mode(path) == 0));
}

#[test]
fn what_a_sweep_writes_anew_stays_sealed_for_the_keys_that_it_was_sealed_for() {
    let place = Place::new();
    let (other, own) = (key(&place, "other.key"), key(&place, "own.key"));
    let mut rng = fastrand::Rng::with_seed(7);
    let mut write = |number: usize| {
        let bytes: Vec<u8> = (0..200_000).map(|_| rng.u8(..)).collect();
        place.file(&format!("docs/{number:02}"), bytes);
    };
    define(&place, &[&other]);
    place.gullet(&["store", "new", "depot"]).exits(0);
    (0..40).for_each(&mut write);
    place.gullet(&["run", "app"]).exits(0);
    define(&place, &[&own]);
    place.gullet(&["run", "app"]).exits(0);
    (0..38).for_each(&mut write);
    place.gullet(&["run", "app"]).exits(0);
    let runs = place.json(&["runs"]);
    let name = |at: usize| runs[at]["run"].as_str().unwrap().to_owned();
    // Of what the second run stored the third needs two files.
    place.gullet(&["thin", "--run", &name(1), "--reason", "test", "--yes"]).exits(0);
    let sweep = ["store", "sweep", "depot", "--yes", "--identity", "own.key", "--identity", "other.key"];
    place.gullet(&sweep).exits(0).says("written anew");
    for (run, key, fits) in
        [(2, "own.key", true), (2, "other.key", false), (0, "other.key", true), (0, "own.key", false)]
    {
        let out = format!("out-{run}-{fits}");
        let restored = place.gullet(&["restore", &name(run), "--into", &out, "--identity", key]);
        assert_eq!(restored.code == 0, fits, "run {run} with {key}: {}{}", restored.out, restored.err);
    }
}
