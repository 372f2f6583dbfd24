//! Tars that a command prints: listed file by file, and refused where no restore could make them.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::process::Command;

use crate::harness::Place;

#[test]
fn a_tar_is_listed_file_by_file() {
    let part = "[[app.app.part]]\nname = \"t\"\ncommand = [\"tar\", \"cf\", \"-\", \"-C\", \"@\", \"docs\"]\noutput = \"tar\"\n";
    let place = Place::with_parts(part);
    place.file("docs/a.txt", "hello");
    place.file("docs/sub/b.txt", "there");
    std::os::unix::fs::symlink("a.txt", place.path("docs/link")).unwrap();
    place.gullet(&["run", "app"]).exits(0);
    let listing = place.gullet(&["show", "app@latest", "--listing"]).exits(0).out;
    for text in ["docs/a.txt", "docs/sub/b.txt", "docs/link -> a.txt"] {
        assert!(listing.contains(text), "{listing}");
    }
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    assert_eq!(fs::read_to_string(place.path("out/exports/t/docs/sub/b.txt")).unwrap(), "there");

    let cut = Place::with_parts(
        "[[app.app.part]]\nname = \"t\"\ncommand = [\"sh\", \"-c\", \"tar cf - -C @ docs | head -c 700\"]\noutput = \"tar\"\n",
    );
    cut.file("docs/a.txt", vec![7; 5000]);
    cut.gullet(&["run", "app"]).exits(1).says("not a valid tar");
}

#[test]
fn a_tar_may_name_its_members_in_any_way_and_never_lead_out() {
    let script = "import io, sys, tarfile\\nout = tarfile.open(fileobj=sys.stdout.buffer, mode='w|')\\n\
                  for name in NAMES:\\n  i = tarfile.TarInfo(name); i.size = 1; out.addfile(i, io.BytesIO(b'x'))\\nout.close()";
    let part = |names: &str| {
        let script = script.replace("NAMES", names);
        format!("[[app.app.part]]\nname = \"list\"\noutput = \"tar\"\ncommand = [\"python3\", \"-c\", \"{script}\"]\n")
    };
    let place = Place::with_parts(&part("['/srv/a', './b', 'c//d', './/e/./f']"));
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["verify"]).exits(0).says("✓ intact: 1 run");
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    let found: Vec<String> =
        place.files_below("out/exports/list").iter().map(|path| path.display().to_string()).collect();
    let ends: Vec<&str> = found.iter().map(|path| path.rsplit_once("/list/").unwrap().1).collect();
    assert_eq!(ends, ["b", "c/d", "e/f", "srv/a"]);
    let place = Place::with_parts(&part("['a', '../b']"));
    place.gullet(&["run", "app"]).exits(1).says("the tar has a path that leads elsewhere");
}

#[test]
fn a_tar_that_could_not_be_restored_is_not_captured() {
    let made = |members: &str| {
        let place = Place::with_parts(
            "[[app.app.part]]\nname = \"made\"\ncommand = [\"cat\", \"@/made.tar\"]\noutput = \"tar\"\n",
        );
        let script = format!(
            "import io,sys,tarfile\nout=tarfile.open(sys.argv[1],'w')\ndef add(name,kind,link='',data=b''):\n \
             member=tarfile.TarInfo(name); member.type=kind; member.linkname=link; member.size=len(data); \
             out.addfile(member,io.BytesIO(data))\n{members}\nout.close()\n"
        );
        let tar = place.path("made.tar");
        assert!(Command::new("python3").args(["-c", &script]).arg(tar).status().unwrap().success());
        place
    };
    let file = "add('y',tarfile.REGTYPE,data=b'x')\n";
    for (members, why) in [
        (
            "add('a',tarfile.SYMTYPE,'../elsewhere')\nadd('a/b',tarfile.REGTYPE,data=b'x')",
            "below `a`, which is no folder",
        ),
        ("add('z',tarfile.LNKTYPE,'/etc/hostname')", "further name of `etc/hostname`"),
        ("add('p',tarfile.LNKTYPE,'q')\nadd('q',tarfile.LNKTYPE,'p')", "which is no file in it"),
        ("add('d',tarfile.DIRTYPE)\nadd('l',tarfile.LNKTYPE,'d')", "further name of `d`"),
    ] {
        made(&format!("{file}{members}")).gullet(&["run", "app"]).exits(1).says(why);
    }
    // One that is cut between two members looks whole but for its end.
    let place = made(&format!("{file}add('z',tarfile.REGTYPE,data=b'x')"));
    let whole = fs::read(place.path("made.tar")).unwrap();
    for blocks in [2, 4] {
        fs::write(place.path("made.tar"), &whole[..blocks * 512]).unwrap();
        place.gullet(&["run", "app"]).exits(1).says("the tar has no end");
    }
    fs::write(place.path("made.tar"), &whole[..5 * 512]).unwrap();
    place.gullet(&["run", "app"]).exits(0);
    // Names in any order, and names of names, are as good as any.
    let place = made(&format!("{file}add('a',tarfile.LNKTYPE,'./y')\nadd('z',tarfile.LNKTYPE,'/a')"));
    place.gullet(&["run", "app"]).exits(0);
    place.gullet(&["verify"]).exits(0);
    place.gullet(&["restore", "app@latest", "--into", "out"]).exits(0);
    let restored = |name: &str| place.path(&format!("out/exports/made/{name}"));
    for name in ["a", "y", "z"] {
        assert_eq!(fs::read(restored(name)).unwrap(), b"x", "{name}");
        assert_eq!(fs::metadata(restored(name)).unwrap().ino(), fs::metadata(restored("y")).unwrap().ino(), "{name}");
    }
}
