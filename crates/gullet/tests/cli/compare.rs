//! Comparing, tracing, listing with filters, and streams: looking into runs without restoring them.

use std::fs;
use std::process::Command;

use crate::harness::Place;

const FILES: &str = "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n";
const SETTINGS: &str = "[[app.app.part]]\nname = \"settings\"\ncommand = [\"cat\", \"@/settings\"]\n\
                        facts = { lines = { script = \"wc -l < @/settings\" } }\n";

fn runs(place: &Place) -> Vec<String> {
    let runs = place.json(&["runs"]);
    runs.as_array().unwrap().iter().map(|run| run["run"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn two_runs_and_the_live_state_are_compared_path_by_path_and_line_by_line() {
    let place = Place::with_parts(&format!("{FILES}{SETTINGS}"));
    for (name, text) in
        [("same", "x"), ("changed", "one\ntwo\n"), ("gone", "gone"), ("moved", "moved about"), ("mode", "m")]
    {
        place.file(&format!("docs/{name}"), text);
    }
    place.file("settings", "berths = 4\ncolour = blue\n");
    place.gullet(&["run", "app"]).exits(0);
    place.file("docs/changed", "one\nTWO\n");
    fs::remove_file(place.path("docs/gone")).unwrap();
    fs::create_dir(place.path("docs/sub")).unwrap();
    fs::rename(place.path("docs/moved"), place.path("docs/sub/moved")).unwrap();
    place.file("docs/added", "new");
    assert!(Command::new("chmod").arg("600").arg(place.path("docs/mode")).status().unwrap().success());
    place.file("settings", "berths = 5\ncolour = blue\nlamp = on\n");
    let now = place.json(&["compare", "app@latest", "--now"])["parts"].clone();
    place.gullet(&["run", "app"]).exits(0);
    let ids = runs(&place);
    let compared = place.json(&["compare", &ids[0], &ids[1]])["parts"].clone();
    for (what, compared) in [("runs", &compared), ("now", &now)] {
        let tally = &compared[0]["tally"];
        let of = |name: &str| tally[name].as_u64().unwrap();
        assert_eq!((of("gone") + of("moved"), of("changed")), (2, 1), "{what}: {tally}");
        let paths = compared[0]["paths"].to_string();
        assert!(paths.contains("docs/added") && paths.contains("docs/gone"), "{what}: {paths}");
    }
    assert_eq!(compared[0]["tally"]["moved"], 1);
    assert_eq!(now[1], compared[1], "an export is made anew");
    let facts = &compared[1]["facts"];
    assert!(
        facts.as_array().unwrap().iter().any(|fact| fact["fact"] == "lines" && fact["was"] == 2 && fact["is"] == 3),
        "{facts}"
    );
    let shown = place.gullet(&["compare", &ids[0], "app"]).exits(0);
    for line in ["-berths = 4", "+berths = 5", "+lamp = on", "-two", "+TWO", "docs/moved ->", "~ touched", "fact lines"]
    {
        assert!(shown.out.contains(line), "{line}: {}", shown.out);
    }
    assert!(!shown.out.contains("colour = blue\n    +colour"), "{}", shown.out);
    place.gullet(&["compare", &ids[1], &ids[1]]).exits(0).says("= the same");
    place.gullet(&["compare", &ids[0], "app", "--part", "nope"]).exits(2).says("its parts are: docs, settings");
    // What has the length and the time that it had is believed, unless all is read.
    let path = place.path("docs/same");
    let script = "t=$(stat -c %y \"$0\"); printf y > \"$0\"; touch -d \"$t\" \"$0\"";
    assert!(Command::new("sh").args(["-c", script]).arg(&path).status().unwrap().success());
    let changed = |more: &[&str]| {
        place.json(&[&["compare", "app", "--now"], more].concat())["parts"][0]["tally"]["changed"].as_u64().unwrap()
    };
    assert_eq!((changed(&[]), changed(&["--reread"])), (0, 1));
}

#[test]
fn files_with_holes_are_compared_by_what_is_read_of_them() {
    let place = Place::with_parts(FILES);
    for name in ["moved", "other", "same"] {
        let path = place.file(&format!("docs/{name}"), "");
        let script = "truncate -s 3M \"$0\"; printf tide | dd of=\"$0\" bs=1 seek=1000000 conv=notrunc 2>/dev/null";
        assert!(Command::new("sh").args(["-c", script]).arg(&path).status().unwrap().success());
    }
    place.gullet(&["run", "app"]).exits(0);
    let listed = place.gullet(&["show", "app@latest", "--listing", "--json"]).exits(0).out;
    assert_eq!(listed.matches("\"data\"").count(), 3, "they have holes: {listed}");
    // The same length and time, and other bytes in what was a hole; and all bytes stored, at another time.
    let script = "cd \"$0\"; t=$(stat -c %y other); printf x | dd of=other bs=1 seek=2000000 conv=notrunc 2>/dev/null; \
                  touch -d \"$t\" other; cp --sparse=never moved m; mv m moved; touch -d '1987-11-25' moved";
    assert!(Command::new("sh").args(["-c", script]).arg(place.path("docs")).status().unwrap().success());
    let paths = |more: &[&str]| {
        let compared = place.json(&[&["compare", "app", "--now"], more].concat())["parts"][0]["paths"].clone();
        let of = |path: &serde_json::Value| format!("{} {}", path["what"], path["path"]);
        let all: Vec<String> = compared.as_array().unwrap().iter().map(of).collect();
        all.join("\n").replace(&place.text(""), "")
    };
    let says = |all: &str, what: &str, name: &str| {
        all.lines().any(|line| line.contains(what) && line.trim_end_matches('"').ends_with(&format!("docs/{name}")))
    };
    let (marks, bytes) = (paths(&[]), paths(&["--reread"]));
    assert!(says(&marks, "touched", "moved") && !says(&marks, "", "other"), "{marks}");
    assert!(says(&bytes, "changed", "other") && says(&bytes, "touched", "moved"), "{bytes}");
    assert!(!says(&bytes, "", "same"), "{bytes}");
    let one = place.gullet(&["restore", "app", "--as", "file", "--path", &place.text("docs/same")]).exits(0).out;
    assert_eq!(one.as_bytes(), fs::read(place.path("docs/same")).unwrap());
}

#[test]
fn a_path_and_a_part_are_traced_through_the_runs() {
    let place = Place::with_parts(&format!("{FILES}{SETTINGS}"));
    place.file("settings", "a\n");
    place.file("docs/other", "x");
    place.gullet(&["run", "app"]).exits(0);
    place.file("docs/index", "one");
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["run", "app"]).exits(0);
    place.file("docs/index", "two");
    place.file("settings", "b\n");
    place.gullet(&["run", "app"]).exits(0);
    fs::remove_file(place.path("docs/index")).unwrap();
    place.gullet(&["run", "app"]).exits(0);
    let words = |traced: &serde_json::Value| {
        let words = traced.as_array().unwrap().iter().map(|one| one["what"].as_str().unwrap_or("same").to_owned());
        words.collect::<Vec<_>>().join(" ")
    };
    let path = place.text("docs/index");
    assert_eq!(words(&place.json(&["trace", &path])), "added same changed gone");
    assert_eq!(words(&place.json(&["trace", "settings"])), "added touched touched changed touched");
    let shown = place.gullet(&["trace", &path]).exits(0).says("in 3 runs");
    assert!(shown.out.contains("+ first there") && shown.out.contains("- gone"), "{}", shown.out);
    place.gullet(&["trace", "/no/where"]).exits(2).says("no run that can be read has");
    place.gullet(&["trace", &path, "--changes"]).exits(0);
    // A bare machine can ask too.
    let bare = Place::new();
    bare.gullet(&["trace", &path, "--store", &place.text("depot")]).exits(0).says("last changed");
}

#[test]
fn without_a_key_a_trace_says_so_and_does_not_say_that_nothing_is_there() {
    let (place, _) = Place::sealed_with_parts(FILES);
    place.file("docs/a", "x");
    place.gullet(&["run", "app"]).exits(0);
    let bare = Place::new();
    let call = bare.gullet(&["trace", &place.text("docs/a"), "--store", &place.text("depot")]);
    call.exits(4).says("opens");
}

#[test]
fn a_listing_is_narrowed_by_path_kind_and_length() {
    let place = Place::with_parts(FILES);
    place.file("docs/a.txt", "x");
    place.file("docs/sub/b.txt", vec![b'y'; 3000]);
    place.file("docs/sub/c.json", "{}");
    std::os::unix::fs::symlink("a.txt", place.path("docs/link")).unwrap();
    place.gullet(&["run", "app"]).exits(0);
    let listed = |more: &[&str]| {
        let out = place.gullet(&[&["show", "app@latest", "--listing"], more].concat()).exits(0).out;
        let names = out.lines().skip(1).map(|line| line.rsplit_once('/').unwrap().1.to_owned());
        names.collect::<Vec<_>>().join(" ")
    };
    assert_eq!(listed(&[]), "docs a.txt link -> a.txt sub b.txt c.json");
    assert_eq!(listed(&["--path", "*.txt"]), "a.txt b.txt");
    assert_eq!(listed(&["--path", &place.text("docs/sub")]), "sub b.txt c.json");
    assert_eq!(listed(&["--kind", "folder"]), "docs sub");
    assert_eq!(listed(&["--min-size", "1000"]), "b.txt");
    place.gullet(&["show", "app@latest", "--min-size", "5"]).exits(2);
}

/// A tree with everything that a filesystem has.
fn everything(place: &Place) {
    let script = r#"
        mkdir -p docs/sub/empty docs/$'new\nline' "docs/caf$(printf '\351')" && cd docs
        printf hello > a; ln a sub/hard; ln -s nowhere dangling; mkfifo pipe
        truncate -s 3M sparse; printf data | dd of=sparse bs=1 seek=1500000 conv=notrunc 2>/dev/null
        truncate -s 1M hole; head -c 3000000 /dev/urandom > big; : > nothing
        printf x > "$(printf 'b\303(')"; printf y > "sub/$(printf 'n%.0s' $(seq 200))"
        mkdir -p "$(printf 'd%.0s' $(seq 120))/$(printf 'e%.0s' $(seq 120))"; printf z > "$(printf 'd%.0s' $(seq 120))/$(printf 'e%.0s' $(seq 120))/f"
        chmod 4755 a; chmod 1777 sub; chmod 0700 sub/empty; chmod 0600 big
        setfattr -n user.note -v skerry a; setfacl -m u:1234:r big; chown 1234:1235 nothing; chown 3000000:3000000 hole
        touch -d '2001-02-03 04:05:06.789012345' big; touch -d '1961-02-03 04:05:06.25' nothing; touch -h -d '2002-03-04 05:06:07' dangling
        touch -d '1999-01-01 00:00:00' sub/empty
    "#;
    let made = Command::new("bash").args(["-ec", script]).current_dir(place.path("")).status().unwrap();
    assert!(made.success());
}

fn listed(place: &Place, folder: &str) -> String {
    let script = "cd \"$0\" && find . -mindepth 1 -printf '%P %y %m %U %G %T@ %s %l %n\\n' | LC_ALL=C sort; \
                  find . -type f -print0 | LC_ALL=C sort -z | xargs -0 sha256sum; \
                  getfattr -R -h -d -m - . 2>/dev/null; getfacl -R -n . 2>/dev/null";
    let output = Command::new("sh").args(["-c", script, folder]).current_dir(place.path("")).output().unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// Sets the mark of a file with `chattr`, and takes it away in the end, so that the folder can be removed.
struct Flagged(std::path::PathBuf);

impl Flagged {
    fn new(path: std::path::PathBuf) -> Self {
        assert!(Command::new("chattr").arg("+i").arg(&path).status().unwrap().success());
        Self(path)
    }
}

impl Drop for Flagged {
    fn drop(&mut self) {
        let _ = Command::new("chattr").arg("-i").arg(&self.0).status();
    }
}

#[test]
fn attributes_that_cannot_come_back_are_told() {
    let place = Place::with_parts(FILES);
    place.file("docs/fixed", "cannot be changed");
    place.file("docs/named", "has strange attributes");
    let disk = crate::harness::Disk::at(&place.path("disk"), "ext4");
    fs::rename(place.path("docs"), place.path("disk/docs")).unwrap_or_else(|_| {
        assert!(Command::new("mv").arg(place.path("docs")).arg(place.path("disk/docs")).status().unwrap().success());
    });
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    fs::write(place.path("gullet.toml"), text.replace("/docs\"", "/disk/docs\"")).unwrap();
    let fixed = Flagged::new(place.path("disk/docs/fixed"));
    let script = "setfattr -n 'user.a=b' -v x named; setfattr -n \"user.$(printf 'caf\\351')\" -v y named";
    let set = Command::new("bash").args(["-ec", script]).current_dir(place.path("disk/docs")).status().unwrap();
    assert!(set.success());
    place.gullet(&["run", "app"]).exits(6).says("`user.caf\\xe9` has a name that is not UTF-8, and is left out");
    place.gullet(&["restore", "app", "--into", "out"]).exits(6).says("the flag `immutable`, which is left to chattr");
    let out = fs::File::create(place.path("out.tar")).unwrap();
    let tar = place.command(&["restore", "app", "--as", "tar"]).stdout(out).output().unwrap();
    assert!(String::from_utf8_lossy(&tar.stderr).contains("attributes with `=` in their names left out of 1 path"));
    let paths = |place: &Place| place.json(&["compare", "app", "--now"])["parts"][0]["paths"].clone();
    assert_eq!(paths(&place), serde_json::json!([]));
    let acl = Command::new("setfacl").args(["-m", "u:1234:r"]).arg(place.path("disk/docs/named")).status().unwrap();
    assert!(acl.success());
    assert_eq!(paths(&place)[0]["what"], "touched", "{}", paths(&place));
    drop(fixed);
    drop(disk);
}

#[test]
fn what_has_power_over_this_machine_is_told_where_it_comes_from_another() {
    let place = Place::with_parts(FILES);
    place.file("docs/tool", "runs as its owner");
    let script = "chmod 4755 tool; mknod disk b 250 7";
    let made = Command::new("sh").args(["-ec", script]).current_dir(place.path("docs")).status().unwrap();
    assert!(made.success());
    place.gullet(&["run", "app"]).exits(0);
    let own = place.gullet(&["restore", "app", "--into", "out"]).exits(0);
    assert!(!own.err.contains("another machine"), "{}", own.err);
    let bare = Place::new();
    let told = "2 paths of another machine with set-uid or set-gid bits, or that are devices";
    bare.gullet(&["restore", "app", "--store", &place.text("depot"), "--into", "out"]).exits(0).says(told);
}

/// Fails with the lines that differ.
#[track_caller]
fn assert_same(one: &str, other: &str) {
    let lines = |text: &str, than: &str| {
        let known: std::collections::BTreeSet<&str> = than.lines().collect();
        text.lines().filter(|line| !known.contains(line)).map(str::to_owned).collect::<Vec<_>>()
    };
    assert!(one == other, "only here: {:#?}\nonly there: {:#?}", lines(one, other), lines(other, one));
}

#[test]
fn a_tar_carries_everything_to_another_program_and_one_file_goes_to_standard_output() {
    let place = Place::with_parts(&format!("{FILES}{SETTINGS}"));
    everything(&place);
    place.file("settings", "berths = 4\n");
    place.gullet(&["run", "app"]).exits(0);
    fs::create_dir(place.path("out")).unwrap();
    let file = fs::File::create(place.path("out.tar")).unwrap();
    assert!(place.command(&["restore", "app", "--as", "tar"]).stdout(file).status().unwrap().success());
    let mut tar = Command::new("tar");
    tar.args(["--xattrs", "--xattrs-include=*", "--acls", "--same-owner", "--warning=no-timestamp", "-C"]);
    assert!(tar.arg(place.path("out")).arg("-xpf").arg(place.path("out.tar")).status().unwrap().success());
    let restored = format!("out/files{}", place.text("docs"));
    assert_same(&listed(&place, &restored), &listed(&place, "docs"));
    assert_eq!(fs::read_to_string(place.path("out/exports/settings/settings")).unwrap(), "berths = 4\n");
    let blocks = |path: &str| std::os::unix::fs::MetadataExt::blocks(&fs::metadata(place.path(path)).unwrap());
    assert!(
        blocks(&format!("{restored}/sparse")) <= blocks("docs/sparse") && blocks(&format!("{restored}/hole")) < 64,
        "holes stay holes"
    );

    place.gullet(&["restore", "app", "--as", "file", "--part", "settings"]).exits(0).says("berths = 4");
    for name in ["big", "sparse", "hole", "nothing", "sub/hard"] {
        let path = place.text(&format!("docs/{name}"));
        let output = place.command(&["restore", "app", "--as", "file", "--path", &path]).output().unwrap();
        assert!(
            output.status.success() && output.stdout == fs::read(place.path(&format!("docs/{name}"))).unwrap(),
            "{name}"
        );
    }
    place.gullet(&["restore", "app", "--as", "file", "--path", "docs"]).exits(2).says("there is no such file");
    place.gullet(&["restore", "app", "--as", "file"]).exits(2).says("more than one file");
    // A pattern, with the folders above what it matches.
    place.gullet(&["restore", "app", "--into", "some", "--path", "sp*"]).exits(0);
    let script = "find some -type f | wc -l";
    let count = Command::new("sh").args(["-c", script]).current_dir(place.path("")).output().unwrap();
    assert_eq!(String::from_utf8_lossy(&count.stdout).trim(), "1");
}

#[test]
fn an_ordinary_user_restores_what_it_may_and_the_rest_is_said() {
    let place = Place::with_parts(FILES);
    everything(&place);
    place.gullet(&["run", "app"]).exits(0);
    let script = "chmod -R a+rX . && chmod a+rwx \"$0\"";
    fs::create_dir(place.path("out")).unwrap();
    assert!(
        Command::new("sh")
            .args(["-c", script])
            .arg(place.path("out"))
            .current_dir(place.path(""))
            .status()
            .unwrap()
            .success()
    );
    let mut user = Command::new("setpriv");
    user.args(["--reuid", "65534", "--regid", "65534", "--clear-groups", "--", crate::harness::GULLET]);
    user.args(["restore", "app@latest", "--store"]).arg(place.path("depot")).args(["--into"]).arg(place.path("out"));
    let call = crate::harness::called({
        user.env_clear().env("PATH", "/usr/bin:/bin").current_dir("/");
        user
    });
    let call = call.exits(6);
    assert!(call.err.contains("owner") && call.err.contains("could not be set on"), "{}", call.err);
    assert!(call.err.contains("set-uid"), "{}", call.err);
    let mode = |path: String| std::os::unix::fs::MetadataExt::mode(&fs::metadata(place.path(&path)).unwrap()) & 0o7777;
    let restored = format!("out/files{}", place.text("docs"));
    assert_eq!(mode(format!("{restored}/a")), 0o755, "a set-uid file of somebody else's does not become one of ours");
    // But for owners, and what they bring with them, it is the same.
    let names = |folder: &str| {
        let script = "cd \"$0\" && find . -mindepth 1 -printf '%P %y %T@ %s %l\\n' | LC_ALL=C sort; find . -type f -size -4M -exec sha256sum {} + | LC_ALL=C sort";
        let output = Command::new("sh").args(["-c", script, folder]).current_dir(place.path("")).output().unwrap();
        String::from_utf8_lossy(&output.stdout).into_owned()
    };
    assert_eq!(names(&restored), names("docs"));
}

#[test]
fn the_first_run_is_the_same_after_many_more_and_sweeps() {
    let place = Place::with_parts(FILES);
    everything(&place);
    place.gullet(&["run", "app"]).exits(0);
    let first = listed(&place, "docs");
    place.gullet(&["keep", "app@latest"]).exits(0);
    for number in 0..6 {
        place.file("docs/churn", format!("{number}").repeat(100_000 + number));
        fs::write(place.path("docs/big"), vec![u8::try_from(number).unwrap(); 2_000_000]).unwrap();
        place.gullet(&["run", "app"]).exits(0);
        let ids = runs(&place);
        if number > 1 {
            place.gullet(&["thin", "--run", &ids[ids.len() - 2], "--reason", "a test", "--yes"]).exits(0);
            place.gullet(&["store", "sweep", &place.text("depot"), "--yes"]);
        }
    }
    let ids = runs(&place);
    place.gullet(&["restore", &ids[0], "--into", "out"]).exits(0);
    assert_eq!(listed(&place, &format!("out/files{}", place.text("docs"))), first);
}
