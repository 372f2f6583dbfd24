//! A reader that is not ours: Python, written from FORMAT.md, with general programs.

use std::fs;
use std::os::unix::fs::symlink;
use std::process::Command;

use crate::harness::Place;

const PARTS: &str = "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n[[app.app.part]]\nname = \"printed\"\n\
                     command = [\"echo\", \"the harbour master\"]\n";

fn reader(place: &Place, arguments: &[&str]) -> String {
    let program = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/reader.py");
    let output = Command::new("python3").arg(program).arg(place.path("depot")).args(arguments).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

/// Everything an independent lister says of a tree.
fn tree(place: &Place, folder: &str) -> String {
    let script = "cd \"$0\" && find . -mindepth 1 -printf '%P %y %m %U %G %T@ %s %l %n\\n' | LC_ALL=C sort; \
                  find . -type f -print0 | LC_ALL=C sort -z | xargs -0 sha256sum; getfattr -R -h -d -m - . 2>/dev/null";
    let output = Command::new("sh").args(["-c", script]).arg(place.path(folder)).output().unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

fn fill(place: &Place) {
    place.file("docs/plain.txt", "one\n".repeat(1000));
    place.file(
        "docs/large",
        (0..3_000_000u32).flat_map(|n| (n.wrapping_mul(2_654_435_761) >> 7).to_le_bytes()).collect::<Vec<u8>>(),
    );
    place.file("docs/lists/empty", "");
    fs::hard_link(place.path("docs/plain.txt"), place.path("docs/same.txt")).unwrap();
    symlink("plain.txt", place.path("docs/link")).unwrap();
    let sparse = fs::File::create(place.path("docs/sparse")).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&sparse, b"an end", 5 << 20).unwrap();
    let set = Command::new("setfattr")
        .args(["-n", "user.port", "-v", "Tern Point"])
        .arg(place.path("docs/plain.txt"))
        .status();
    assert!(set.unwrap().success());
}

fn compare(place: &Place, more: &[&str]) {
    let run = place.record()["run"].as_str().unwrap().to_owned();
    let listed = reader(place, &["list"]);
    assert!(listed.lines().any(|line| line.starts_with(&run) && line.contains("complete")), "{listed}");
    let theirs = place.text("theirs");
    reader(place, &[&["restore", &run, &theirs], more].concat());
    place.gullet(&[&["restore", &run, "--into", "ours"], more].concat()).exits(0);
    let below = place.text("docs");
    assert_eq!(tree(place, &format!("theirs/files{below}")), tree(place, &format!("ours/files{below}")));
    assert_eq!(tree(place, &format!("ours/files{below}")), tree(place, "docs"));
    assert_eq!(fs::read_to_string(place.path("theirs/exports/printed/printed")).unwrap(), "the harbour master\n");
}

#[test]
fn payload_is_in_the_seekable_format_of_others() {
    let place = Place::with_parts(PARTS);
    fill(&place);
    place.gullet(&["run", "app"]).exits(0);
    // A reader of the format by somebody else: it must find its way by the seek table, and read the same from anywhere.
    let script = "
import pyzstd, random, subprocess, sys
from pathlib import Path
files = sorted(Path(sys.argv[1]).rglob('*.zst'))
assert files
for path in files:
    whole = subprocess.run(['zstd', '-q', '-dc', path], check=True, capture_output=True).stdout
    with pyzstd.SeekableZstdFile(path, 'r') as file:
        rng = random.Random(1)
        for at in [0, len(whole) - 1] + [rng.randrange(len(whole)) for _ in range(40)]:
            file.seek(at)
            assert file.read(70_000) == whole[at : at + 70_000], (path, at)
        file.seek(0, 2)
        assert file.tell() == len(whole), (file.tell(), len(whole))
print('the same')
";
    let output = Command::new("python3").args(["-c", script]).arg(place.path("depot/payload")).output().unwrap();
    assert_eq!(String::from_utf8_lossy(&output.stdout), "the same\n", "{}", String::from_utf8_lossy(&output.stderr));
}

#[test]
fn a_stranger_reads_a_store_that_is_not_sealed() {
    let place = Place::with_parts(PARTS);
    fill(&place);
    place.gullet(&["run", "app"]).exits(0);
    fs::remove_file(place.path("docs/large")).unwrap();
    place.gullet(&["run", "app"]).exits(0);
    // What was written anew by a sweep is found by its remark.
    let first = place.json(&["runs"])[0]["run"].as_str().unwrap().to_owned();
    place.gullet(&["thin", "--run", &first, "--reason", "test", "--yes"]).exits(0).says("written anew");
    compare(&place, &[]);
}

#[test]
fn a_stranger_with_an_identity_reads_a_sealed_store() {
    let (place, _) = Place::sealed_with_parts(PARTS);
    fill(&place);
    place.gullet(&["run", "app"]).exits(0);
    let identity = place.text("safe.key");
    compare(&place, &["--identity", &identity]);
}

#[test]
fn a_database_of_very_many_chunks_comes_back_by_gullet_and_by_the_reader() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"base\"\nsqlite = \"@/base.db\"\n");
    let base = rusqlite::Connection::open(place.path("base.db")).unwrap();
    // More than an entry names by itself: 2048 pieces of 32 KiB.
    base.execute_batch(
        "create table line (bytes blob); with recursive n(i) as (select 1 union all select i + 1 from n where i < 700) \
         insert into line select randomblob(100000) from n",
    )
    .unwrap();
    base.close().unwrap();
    // The second run stands on the lists of the first.
    for _ in 0..2 {
        place.gullet(&["run", "app"]).exits(0);
    }
    place.gullet(&["verify"]).exits(0);
    place.gullet(&["restore", "app@latest", "--into", &place.text("ours")]).exits(0);
    let run = place.record()["run"].as_str().unwrap().to_owned();
    reader(&place, &["restore", &run, &place.text("theirs")]);
    let below = |top: &str| place.path(top).join("files").join(place.path("base.db").strip_prefix("/").unwrap());
    let (ours, theirs) = (fs::read(below("ours")).unwrap(), fs::read(below("theirs")).unwrap());
    assert!(ours.len() > 2048 * 32768 && ours == theirs);
}

/// What the reader says when a hostile store has it write a path below a folder, in which `a` leads elsewhere.
fn refused(path: &str) -> String {
    let place = Place::new();
    fs::create_dir(place.path("out")).unwrap();
    symlink("../elsewhere", place.path("out/a")).unwrap();
    let reader = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/reader.py");
    let script = format!(
        "import importlib.util, sys\nspec = importlib.util.spec_from_file_location('reader', {reader:?})\n\
         reader = importlib.util.module_from_spec(spec)\nspec.loader.exec_module(reader)\n\
         reader.place(sys.argv[1].encode(), {path:?}.encode())\n"
    );
    let output = Command::new("python3").args(["-B", "-c", &script]).arg(place.path("out")).output().unwrap();
    assert!(!output.status.success() && !place.path("elsewhere").exists());
    String::from_utf8_lossy(&output.stderr).into_owned()
}

#[test]
fn a_hostile_store_makes_the_reader_write_nowhere_else() {
    for path in ["/etc/hostname", "../b", "x/../../b", "./b", "x//b", ""] {
        assert!(refused(path).contains("leads elsewhere"), "{path}: {}", refused(path));
    }
    assert!(refused("a/b").contains("through a link"), "{}", refused("a/b"));
}
