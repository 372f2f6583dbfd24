//! Who may read what is stored, whose files and texts are believed, and who is let in by a restore: nobody else.

use std::fs;
use std::process::Command;

use crate::green::{FILES, place};
use crate::harness::Place;

#[test]
fn what_is_to_be_encrypted_is_never_stored_in_clear_because_a_key_is_none() {
    let (place, public) = Place::sealed_with_parts(FILES);
    place.file("docs/a.txt", "alpha");
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    place.file("gullet.toml", text.replace(&public, &public[..20]));
    place.gullet(&["run", "app"]).exits(3);
    place.file("gullet.toml", text);
    place.gullet(&["run", "app"]).exits(0);
    // A record that somebody changed to name what is no key.
    let record = place.files_below("depot/records").remove(0);
    let changed = fs::read_to_string(&record).unwrap().replace(&public, "age1nothing");
    let temporary = place.file("changed", &changed);
    let mut python = Command::new("python3");
    python.args(["-c", "import blake3,sys;print(blake3.blake3(open(sys.argv[1],'rb').read()).hexdigest())"]);
    let output = python.arg(&temporary).output().unwrap();
    let hash = String::from_utf8(output.stdout).unwrap().trim().to_owned();
    let name = record.file_name().unwrap().to_str().unwrap();
    let stem = name.rsplit_once('-').unwrap().0.to_owned();
    fs::remove_file(&record).unwrap();
    fs::write(record.with_file_name(format!("{stem}-{hash}.json")), &changed).unwrap();
    let before = place.files_below("depot/remarks").len();
    let verified = place.gullet(&["verify"]);
    assert_ne!(verified.code, 0, "{}", verified.out);
    assert_eq!(place.files_below("depot/remarks").len(), before, "nothing was said of it in clear");
}

#[test]
fn accounts_are_those_that_the_system_knows_and_not_only_those_of_its_file() {
    let place = place();
    place.define(
        "[app.app]\nno_hold = \"a test\"\n[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\n\
         [[app.app.part]]\nname = \"who\"\nexport = { script = \"id -u > $GULLET_SCRATCH/who\", as = \"of-the-directory\" }\n",
    );
    place.gullet(&["run", "app"]).exits(4).says("there is no account `of-the-directory`");
    let chown = Command::new("chown").arg("65534:71235").arg(place.path("docs/a.txt")).status().unwrap();
    assert!(chown.success());
    // A library that answers as a directory would.
    place.file("passwd", "root:x:0:0::/root:/bin/sh\nof-the-directory:x:65534:71235::/nowhere:/bin/false\n");
    place.file("group", "root:x:0:\npilots:x:71235:\n");
    let libraries = fs::read_dir("/usr/lib").unwrap().flatten().map(|entry| entry.path().join("libnss_wrapper.so"));
    let library = libraries.into_iter().find(|path| path.exists()).expect("libnss-wrapper is installed");
    let mut command = place.command(&["run", "app"]);
    command.env("LD_PRELOAD", library).env("NSS_WRAPPER_PASSWD", place.path("passwd"));
    command.env("NSS_WRAPPER_GROUP", place.path("group"));
    crate::harness::called(command).exits(0);
    assert_eq!(place.capture("docs")["users"][1]["name"], "of-the-directory");
    let groups = place.capture("docs")["groups"].clone();
    assert!(groups.as_array().unwrap().iter().any(|group| group["name"] == "pilots"), "{groups}");
    place.gullet(&["restore", "app", "--part", "who", "--into", "out"]).exits(0);
    assert_eq!(fs::read_to_string(place.path("out/exports/who/who")).unwrap(), "65534\n");
}

#[test]
fn nothing_that_is_stored_or_restored_of_an_export_can_be_read_by_others() {
    let place = Place::with_parts("[[app.app.part]]\nname = \"p\"\ncommand = [\"echo\", \"private\"]\n");
    place.gullet(&["run", "app"]).exits(0);
    let mode = |path: &std::path::Path| {
        use std::os::unix::fs::PermissionsExt;
        fs::metadata(path).unwrap().permissions().mode() & 0o077
    };
    for path in place.files_below("depot") {
        assert_eq!(mode(&path), 0, "{}", path.display());
    }
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    assert_eq!(mode(&place.path("out/exports/p/p")), 0);
}

#[test]
fn a_restore_lets_nobody_in_by_what_a_folder_hands_down() {
    let place = place();
    let acl = |path: &std::path::Path| {
        let output = Command::new("getfacl").args(["-cp"]).arg(path).output().unwrap();
        String::from_utf8(output.stdout).unwrap()
    };
    Command::new("chmod").arg("640").arg(place.path("docs/a.txt")).status().unwrap();
    Command::new("mkfifo").arg(place.path("docs/pipe")).status().unwrap();
    place.gullet(&["run", "app"]).exits(0);
    fs::create_dir(place.path("out")).unwrap();
    Command::new("setfacl").args(["-m", "default:user:nobody:rwx"]).arg(place.path("out")).status().unwrap();
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    for path in place.files_below("out") {
        assert!(!acl(&path).contains("nobody"), "{}: {}", path.display(), acl(&path));
    }
    let restored = place.files_below("out").into_iter().find(|path| path.ends_with("a.txt")).unwrap();
    assert_eq!(acl(&restored), acl(&place.path("docs/a.txt")));
    for folder in restored.ancestors().skip(1).take_while(|folder| !folder.ends_with("out")) {
        assert!(!acl(folder).contains("nobody"), "{}: {}", folder.display(), acl(folder));
    }
}

#[test]
fn what_others_may_write_is_not_trusted() {
    let place = place();
    place.gullet(&["run", "app"]).exits(0);
    let chmod = |mode: &str, name: &str| {
        assert!(Command::new("chmod").arg(mode).arg(place.path(name)).status().unwrap().success());
    };
    chmod("777", "state");
    place.gullet(&["run", "app"]).exits(4).says("cannot be trusted");
    place.gullet(&["status"]).exits(3).says("cannot be trusted");
    chmod("700", "state");
    chmod("666", "gullet.toml");
    place.gullet(&["run", "app"]).exits(3).says("others could change it");
    chmod("644", "gullet.toml");
    place.file("hooks/hook", "#!/bin/sh\nexit 0\n");
    chmod("755", "hooks/hook");
    let text = fs::read_to_string(place.path("gullet.toml")).unwrap();
    let hook = place.text("hooks/hook");
    place.file("gullet.toml", format!("{text}[app.app.hooks]\nbefore = [{{ run = [\"{hook}\"] }}]\n"));
    place.gullet(&["run", "app"]).exits(0);
    chmod("777", "hooks");
    place.gullet(&["run", "app"]).exits(4).says("would run as root, and others could change it");
}

#[test]
fn a_foreign_record_cannot_command_a_terminal() {
    let place = place();
    place.gullet(&["run", "app"]).exits(0);
    let record = place.files_below("depot/records").remove(0);
    let text = fs::read_to_string(&record).unwrap();
    let mut value: serde_json::Value = serde_json::from_str(&text).unwrap();
    for field in ["name", "system", "account"] {
        value["host"][field] = "\u{1b}]0;taken\u{7}\u{1b}[2J".into();
    }
    let changed = place.file("changed", serde_json::to_vec(&value).unwrap());
    let mut python = Command::new("python3");
    python.args(["-c", "import blake3,sys;print(blake3.blake3(open(sys.argv[1],'rb').read()).hexdigest())"]);
    let hash = String::from_utf8(python.arg(&changed).output().unwrap().stdout).unwrap().trim().to_owned();
    let name = record.file_name().unwrap().to_str().unwrap().rsplit_once('-').unwrap().0.to_owned();
    fs::remove_file(&record).unwrap();
    fs::rename(&changed, record.with_file_name(format!("{name}-{hash}.json"))).unwrap();
    let store = place.text("depot");
    let run = value["run"].as_str().unwrap();
    for arguments in [&["runs"][..], &["show", run], &["restore", "app"], &["verify"]] {
        let call = place.gullet(&[arguments, &["--store", &store]].concat());
        assert!(
            !call.out.contains('\u{1b}') && !call.err.contains('\u{1b}'),
            "{arguments:?}: {}{}",
            call.out,
            call.err
        );
        assert!(!call.out.contains('\u{7}') && !call.err.contains('\u{7}'));
    }
}
