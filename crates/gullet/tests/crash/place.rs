//! A restore in place, killed with SIGKILL before every change on the disk: afterwards exactly the old state is there or
//! exactly the new one, the desk serves, and `--continue` or `--undo` finishes.

use std::os::unix::process::ExitStatusExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use super::harness::{Desk, Mounted, Place, audit};

/// Where the desk's folder is.
#[derive(Clone, Copy, Debug)]
enum Ground {
    Plain,
    MountPoint,
    Link,
    MountedElsewhere,
}

/// Every path below the folder of manifests, which the desk does not write when it is closed, with all that is known of it.
fn look(folder: &Path) -> String {
    let script = "cd \"$0\" && find . -name '.gullet-restore-*' -prune -o \\( -type d -printf '%P %y %m %U %G %T@\\n' \\) -o \
                  -printf '%P %y %m %U %G %T@ %l\\n' | LC_ALL=C sort; \
                  find . -name '.gullet-restore-*' -prune -o -type f -print0 | LC_ALL=C sort -z | xargs -0r sha256sum";
    let output = Command::new("sh").args(["-c", script]).arg(folder).output().unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

struct Grounded {
    desk: Desk,
    /// The folder whose state is compared: nobody but the test writes there.
    papers: PathBuf,
    captured: String,
    changed: String,
    elsewhere: Option<PathBuf>,
    _mounted: Option<Mounted>,
}

impl Drop for Grounded {
    fn drop(&mut self) {
        if let Some(elsewhere) = &self.elsewhere {
            let _ = Command::new("umount").arg("-l").arg(elsewhere).status();
        }
    }
}

/// A desk with papers beside it, captured, and both changed since.
fn grounded(ground: Ground) -> Grounded {
    let place = Place::new();
    std::fs::create_dir_all(place.path("desk/real")).unwrap();
    let papers = place.path("desk/papers");
    let mut mounted = None;
    match ground {
        Ground::Link => std::os::unix::fs::symlink("real", &papers).unwrap(),
        Ground::MountPoint => mounted = Some(Mounted::at(&papers, "8m")),
        Ground::Plain | Ground::MountedElsewhere => std::fs::create_dir(&papers).unwrap(),
    }
    for (name, text) in [("a", "as it was"), ("sub/b", "too"), ("sub/deep/c", "deep"), ("gone/d", "gone since")] {
        place.file(&format!("desk/papers/{name}"), text);
    }
    let part = "[[app.quaybook.part]]\nname = \"papers\"\nfiles = [\"@PAPERS@\"]\nexclude = [\"*.tmp\"]\n\n[app.quaybook.hooks]";
    let part = part.replace("@PAPERS@", &papers.display().to_string());
    let desk = Desk::at(place, |text| text.replace("[app.quaybook.hooks]", &part));
    let captured = look(&papers.canonicalize().unwrap());
    desk.run().completes();
    desk.place.file("desk/papers/a", "changed");
    std::fs::remove_dir_all(papers.join("gone")).unwrap();
    desk.place.file("desk/papers/since/e", "made since");
    // It is excluded, so it goes on; and comes back to where it was.
    desk.place.file("desk/papers/sub/x.tmp", "excluded");
    let elsewhere = matches!(ground, Ground::MountedElsewhere).then(|| desk.place.path("elsewhere"));
    if let Some(elsewhere) = &elsewhere {
        std::fs::create_dir(elsewhere).unwrap();
        assert!(Command::new("mount").arg("--bind").arg(&papers).arg(elsewhere).status().unwrap().success());
    }
    let changed = look(&papers.canonicalize().unwrap());
    Grounded { desk, papers: papers.canonicalize().unwrap(), captured, changed, elsewhere, _mounted: mounted }
}

impl Grounded {
    /// Whether the new state is in place; fails when it is a mixture.
    fn is_new(&self, what: &str) -> bool {
        self.is_new_from(what, 0)
    }

    /// The same, without so many lines at the beginning: the first is of the folder itself, whose time changes when something
    /// of Gullet's is made in it.
    fn is_new_from(&self, what: &str, first: usize) -> bool {
        let now = look(&self.papers);
        let lines = |text: &str| text.lines().skip(first).map(str::to_owned).collect::<Vec<_>>();
        let without: Vec<String> = lines(&now).into_iter().filter(|line| !line.contains("x.tmp")).collect();
        let is_new = without == lines(&self.captured) && now.contains("x.tmp");
        assert!(
            is_new || lines(&now) == lines(&self.changed),
            "{what}: neither the old state nor the new one:\n{now}\n--- old:\n{}\n--- new:\n{}",
            self.changed,
            self.captured
        );
        is_new
    }

    /// Waits for the desk to serve by itself: the guard sees to it.
    fn serves(&self, what: &str) {
        let began = Instant::now();
        while self.desk.state() != "serving" {
            assert!(began.elapsed() < Duration::from_secs(20), "{what}: the desk is {:?}", self.desk.state());
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    fn restore(&self, how: &[&str], kill: Option<usize>) -> bool {
        let began = Instant::now();
        loop {
            let mut command = self.desk.place.command(&[&["restore", "quaybook"], how].concat());
            if let Some(kill) = kill {
                command.env("GULLET_AT_EVENT", format!("{kill}:KILL"));
            }
            // Into a file: the end of a pipe would be waited for until the guard is done, too.
            let said = std::fs::File::create(self.desk.place.path("said")).unwrap();
            let status = command.stdout(Stdio::null()).stderr(said).status().unwrap();
            let said = std::fs::read_to_string(self.desk.place.path("said")).unwrap();
            // The desk serves a moment before the guard of the killed restore is done with it.
            let is_early = said.contains("is held already") && began.elapsed() < Duration::from_secs(10);
            if status.code() == Some(1) && is_early {
                std::thread::sleep(Duration::from_millis(50));
                continue;
            }
            assert!(status.signal() == Some(9) || status.code() == Some(0), "{how:?} {kill:?}: {status}\n{said}");
            return status.signal() == Some(9);
        }
    }

    fn finish(&self, what: &str) {
        self.serves(what);
        let copy = self.desk.place.path("looked-at");
        let _ = std::fs::remove_dir_all(&copy);
        self.desk.run().completes();
        self.desk.place.gullet(&["restore", "quaybook", "--into", "looked-at"]).exits(0);
        audit(&copy.join("files").join(self.desk.place.path("desk").strip_prefix("/").unwrap())).exits(0);
    }
}

/// Kills a restore at every `step`th change from `first` on; after each it is finished, and taken back for the next.
fn kill_all(ground: Ground, first: usize, step: usize) -> usize {
    let grounded = grounded(ground);
    let mut kill = first;
    let mut killed = 0;
    loop {
        let what = format!("{ground:?}, killed at {kill}");
        let was_killed = grounded.restore(&["--in-place", "--yes"], Some(kill));
        grounded.serves(&what);
        // Whatever the guard left open the next command settles.
        grounded.desk.place.gullet(&["runs"]);
        let is_new = grounded.is_new_from(&what, usize::from(was_killed));
        let journal = grounded.desk.place.path("state/restores/quaybook.json");
        if was_killed && journal.exists() && !is_new {
            // One is finished this way, the other that way.
            if kill.is_multiple_of(2) {
                grounded.restore(&["--continue", "--yes"], None);
                assert!(grounded.is_new(&what), "{what}: --continue did not finish it");
            } else {
                grounded.desk.place.gullet(&["restore", "quaybook", "--undo", "--yes"]).exits(0);
                assert!(!journal.exists() && !grounded.is_new(&what), "{what}");
            }
        }
        grounded.serves(&what);
        if let Some(elsewhere) = &grounded.elsewhere {
            assert_eq!(look(elsewhere), look(&grounded.papers), "{what}: the mount elsewhere shows another state");
        }
        if journal.exists() {
            grounded.restore(&["--undo", "--yes"], None);
            grounded.restore(&["--discard-old", "--yes"], None);
        }
        assert!(!grounded.is_new(&what), "{what}: it is not as it was");
        if !was_killed {
            break;
        }
        killed += 1;
        kill += step;
    }
    grounded.finish(&format!("{ground:?}"));
    let beside = std::fs::read_dir(grounded.papers.parent().unwrap()).unwrap().map(|entry| entry.unwrap().file_name());
    let left: Vec<_> = beside.filter(|name| name.to_string_lossy().starts_with(".gullet")).collect();
    assert!(left.is_empty(), "{left:?} is left");
    killed
}

#[test]
fn a_restore_in_place_is_killed_at_every_change() {
    let _alone = super::ALONE.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    std::thread::scope(|scope| {
        let first = scope.spawn(|| kill_all(Ground::Plain, 1, 2) + kill_all(Ground::MountPoint, 1, 3));
        let second = scope.spawn(|| {
            kill_all(Ground::Plain, 2, 2) + kill_all(Ground::Link, 2, 3) + kill_all(Ground::MountedElsewhere, 3, 3)
        });
        let (first, second) = (first.join().unwrap(), second.join().unwrap());
        assert!(first > 10 && second > 10, "only {first} and {second} kills");
    });
}
