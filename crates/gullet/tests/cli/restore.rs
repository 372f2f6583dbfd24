//! Restoring: everything that was captured, proven, never over anything.

use std::fs;
use std::process::Command;

use crate::harness::Place;

const FILES: &str = "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n";

/// What an independent lister says of a tree: everything but contents, then the contents' sums.
fn listed(place: &Place, folder: &str) -> String {
    let script = "cd \"$0\" && find . -mindepth 1 -printf '%P %y %m %U %G %T@ %s %l %n\\n' | LC_ALL=C sort -z | LC_ALL=C sort; \
                  find . -type f -print0 | LC_ALL=C sort -z | xargs -0 sha256sum; \
                  getfattr -R -h -d -m - . 2>/dev/null; getfacl -R -n . 2>/dev/null";
    let output = Command::new("sh").args(["-c", script, folder]).current_dir(place.path("")).output().unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

#[test]
fn everything_a_filesystem_has_comes_back() {
    let place = Place::with_parts(FILES);
    let script = r#"
        mkdir -p docs/sub/empty docs/$'new\nline' "docs/caf$(printf '\351')" && cd docs
        printf hello > a; ln a sub/hard; ln -s nowhere dangling; ln -s /etc absolute; mkfifo pipe
        truncate -s 3M sparse; printf data | dd of=sparse bs=1 seek=1500000 conv=notrunc 2>/dev/null
        head -c 3000000 /dev/urandom > big; : > nothing; printf x > "$(printf 'b\303(')"
        chmod 4755 a; chmod 1777 sub; chmod 0700 sub/empty; chmod 0600 big
        setfattr -n user.note -v skerry a; setfacl -m u:1234:r big; chown 1234:1235 nothing
        touch -d '2001-02-03 04:05:06.789012345' big; touch -h -d '2002-03-04 05:06:07' dangling
        touch -d '1999-01-01 00:00:00' sub/empty
    "#;
    let made = Command::new("bash").args(["-ec", script]).current_dir(place.path("")).status().unwrap();
    assert!(made.success());
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    let restored = format!("out/files{}", place.text("docs"));
    let (before, after) = (listed(&place, "docs"), listed(&place, &restored));
    assert!(before.contains("big f 640") && before.contains("user.note"), "{before}");
    assert_eq!(after, before);
    let blocks = |path: &str| {
        use std::os::unix::fs::MetadataExt;
        fs::metadata(place.path(path)).unwrap().blocks()
    };
    assert!(blocks(&format!("{restored}/sparse")) <= blocks("docs/sparse"), "holes stay holes");
}

#[test]
fn a_folder_that_is_not_empty_is_refused_and_untouched() {
    let place = Place::with_parts(FILES);
    place.file("docs/a", "x");
    place.gullet(&["run", "app"]).exits(0);
    place.file("out/precious", "mine");
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(4).says("is not empty").says("nothing was written");
    assert_eq!(fs::read_dir(place.path("out")).unwrap().count(), 1);
    place.gullet(&["restore", "app@latest", "--into", "out/precious"]).exits(4).says("is not a folder");
}

#[test]
fn one_part_alone_and_unknown_parts() {
    let place = Place::with_parts(&format!("{FILES}[[app.app.part]]\nname = \"other\"\ncommand = [\"echo\", \"x\"]\n"));
    place.file("docs/a", "x");
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["restore", "app@latest", "--into", "out", "--part", "other"]).exits(0);
    assert!(!place.path("out/files").exists());
    assert_eq!(fs::read_to_string(place.path("out/exports/other/other")).unwrap(), "x\n");
    place
        .gullet(&["restore", "app@latest", "--into", "o2", "--part", "nope"])
        .exits(2)
        .says("its parts are: docs, other");
}

#[test]
fn a_bare_machine_needs_only_the_store() {
    let place = Place::with_parts(FILES);
    place.file("docs/a", "from the other machine");
    place.gullet(&["run", "app"]).exits(0);
    let bare = Place::new();
    let store = place.text("depot");
    bare.gullet(&["runs", "--store", &store]).exits(0).says("complete");
    bare.gullet(&["show", "app@latest", "--store", &store]).exits(0).says("docs");
    bare.gullet(&["verify", "--store", &store]).exits(0).says("intact");
    bare.gullet(&["restore", "app@latest", "--store", &store, "--into", "out"]).exits(0);
    let restored = bare.path("out/files").join(place.path("docs/a").strip_prefix("/").unwrap());
    assert_eq!(fs::read_to_string(restored).unwrap(), "from the other machine");
    bare.gullet(&["restore", "app@latest", "--into", "o2"]).exits(3).says("there is no definition");
}

#[test]
fn every_earlier_run_restores_as_it_was() {
    let place = Place::with_parts(FILES);
    let mut runs = Vec::new();
    for number in 0..4 {
        place.file("docs/counter", format!("{number}"));
        place.file(&format!("docs/file-{number}"), format!("contents {number}"));
        place.gullet(&["run", "app"]).exits(0);
        runs.push((place.record()["run"].as_str().unwrap().to_owned(), listed(&place, "docs")));
    }
    for (number, (run, before)) in runs.iter().enumerate() {
        let out = format!("out-{number}");
        place.gullet(&["restore", run, "--into", &out]).exits(0);
        assert_eq!(&listed(&place, &format!("{out}/files{}", place.text("docs"))), before, "run {run}");
    }
}

#[test]
fn a_run_is_found_by_the_beginning_of_its_id_and_by_its_day() {
    let place = Place::with_parts(FILES);
    place.file("docs/a", "x");
    place.gullet(&["run", "app"]).exits(0);
    let record = place.record();
    let (run, day) = (record["run"].as_str().unwrap(), &record["started"].as_str().unwrap()[..10]);
    place.gullet(&["show", &run[..6]]).exits(0);
    place.gullet(&["show", &format!("app@{day}")]).exits(0);
    place.gullet(&["show", "app@1999-01-01"]).exits(2).says("there is no run");
    place.gullet(&["show", "app@yesterday"]).exits(2).says("there is no run");
    place.gullet(&["show", "app@tomorrow"]).exits(2).says("is not a run");
}

#[test]
fn an_application_that_is_never_held_is_said_not_to_be_of_one_moment() {
    let place = Place::with_parts(FILES);
    place.file("docs/a", "x");
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["show", "app@latest"]).exits(0).says("never: a test; the parts are not from one point in time");
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0).says("the parts are not from one point in time");
}

#[test]
fn one_path_is_restored_with_the_folders_above_it() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n");
    place.file("docs/lists/gannet.txt", "one");
    place.file("docs/lists/tern.txt", "two");
    place.file("docs/lists-old/gannet.txt", "three");
    fs::hard_link(place.path("docs/lists/gannet.txt"), place.path("docs/zz-same.txt")).unwrap();
    place.gullet(&["run", "app"]).exits(0);
    let root = |out: &str| place.path(&format!("{out}/files")).join(place.path("docs").strip_prefix("/").unwrap());
    let restore = |out: &str, path: &str| place.gullet(&["restore", "app@latest", "--into", out, "--path", path]);
    restore("one", &place.text("docs/lists/tern.txt")).exits(0).says("1 file");
    assert_eq!(fs::read_to_string(root("one").join("lists/tern.txt")).unwrap(), "two");
    assert!(!root("one").join("lists/gannet.txt").exists());
    restore("folder", &place.text("docs/lists/")).exits(0).says("2 files");
    assert!(!root("folder").join("lists-old").exists());
    restore("link", &place.text("docs/zz-same.txt")).exits(0);
    assert_eq!(fs::read_to_string(root("link").join("zz-same.txt")).unwrap(), "one", "its other name is not there");
    restore("none", "/nothing/here").exits(2).says("has none of these paths");
}
