//! Restoring in place: the new state or the old one, and nothing of anybody's lost.

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::harness::{Desk, Disk, Mounted, Place, audit, wait_until_dead};

pub const FILES: &str = "[[app.app.part]]\nname = \"docs\"\nfiles = [\"@/docs\"]\nexclude = [\"*.tmp\", \"cache\"]\n";

/// Everything below a folder: names, kinds, modes, owners, times, attributes, and sums of what is in files.
pub fn look(folder: &Path) -> String {
    let script = "cd \"$0\" && find . -name '.gullet-restore-*' -prune -o \\( -type d -printf '%P %y %m %U %G %T@\\n' \\) -o -printf '%P %y %m %U %G %T@ %l %n\\n' | LC_ALL=C sort; \
                  find . -name '.gullet-restore-*' -prune -o -type f -print0 | LC_ALL=C sort -z | xargs -0r sha256sum; \
                  getfattr -R -h -d -m - . 2>/dev/null | grep -v gullet-restore";
    let output = Command::new("sh").args(["-c", script]).arg(folder).output().unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// Documents that are captured, and changed since: with something excluded, something new and something gone.
pub fn documents(more: &str) -> (Place, String, String) {
    let place = Place::with_parts(&format!("{FILES}{more}"));
    fill(&place);
    let captured = look(&place.path("docs"));
    place.gullet(&["run", "app"]).exits(0);
    change(&place);
    let changed = look(&place.path("docs"));
    (place, captured, changed)
}

fn fill(place: &Place) {
    place.file("docs/a", "as it was");
    place.file("docs/sub/b", "as it was too");
    place.file("docs/sub/deep/c", "deep");
}

fn change(place: &Place) {
    place.file("docs/a", "changed");
    fs::remove_file(place.path("docs/sub/b")).unwrap();
    place.file("docs/since", "made since");
    place.file("docs/top.tmp", "excluded at the top");
    place.file("docs/sub/x.tmp", "excluded");
    place.file("docs/sub/cache/big", "excluded too");
}

pub const GO: [&str; 6] = ["restore", "app", "--in-place", "--yes", "--accept", "running"];

#[test]
fn the_old_state_is_kept_until_it_is_discarded_and_comes_back_when_it_is_wanted() {
    let (place, captured, changed) = documents("");
    place
        .gullet(&["restore", "app", "--in-place", "--yes"])
        .exits(4)
        .says("--accept running")
        .says("nothing was touched");
    let plan = place.gullet(&["restore", "app", "--in-place", "--plan"]).exits(0);
    for line in ["made since", "docs/since", "excluded by `*.tmp`", "goes on", "set aside"] {
        assert!(plan.out.contains(line), "{line}: {}", plan.out);
    }
    place.gullet(&GO[..3]).exits(4);
    assert_eq!(look(&place.path("docs")), changed, "nothing was touched");
    place.gullet(&GO).exits(0).says("the old state is kept");
    // What is excluded goes on; everything else is as it was captured.
    assert_eq!(fs::read_to_string(place.path("docs/sub/x.tmp")).unwrap(), "excluded");
    assert!(place.path("docs/sub/cache/big").exists() && !place.path("docs/since").exists());
    let without = |text: String| {
        let lines = text.lines().filter(|line| !line.contains(".tmp") && !line.contains("cache")).map(str::to_owned);
        lines.collect::<Vec<_>>().join("\n")
    };
    assert_eq!(without(look(&place.path("docs"))), captured.trim_end());
    place.gullet(&GO).exits(4).says("already").says("--discard-old");
    place.gullet(&["restore", "app", "--undo", "--in-place"]).exits(4).says("say --yes");
    place.gullet(&["restore", "app", "--undo", "--yes"]).exits(0).says("the old state is in place again");
    assert_eq!(look(&place.path("docs")), changed);
    place.gullet(&["restore", "app", "--discard-old"]).exits(4).says(".gullet-restore-");
    place.gullet(&["restore", "app", "--discard-old", "--yes"]).exits(0).says("removed");
    let names = fs::read_dir(place.path("")).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap());
    assert_eq!(names.filter(|name| name.starts_with(".gullet")).collect::<Vec<_>>(), Vec::<String>::new());
    let remarks = place.json(&["show", "app@latest"])["remarks"].to_string();
    assert!(remarks.contains("restored in place"), "{remarks}");
    place.gullet(&["restore", "app", "--discard-old"]).exits(2).says("no restore in place");
}

#[test]
fn what_is_excluded_is_set_aside_too_if_that_is_wanted() {
    let (place, captured, changed) = documents("");
    place.gullet(&[&GO[..], &["--set-aside-extra"]].concat()).exits(0);
    assert_eq!(look(&place.path("docs")), captured);
    place.gullet(&["restore", "app", "--undo", "--yes"]).exits(0);
    assert_eq!(look(&place.path("docs")), changed);
}

#[test]
fn a_part_or_a_path_alone_leaves_the_rest_as_it_is() {
    let other = "[[app.app.part]]\nname = \"inner\"\nfiles = [\"@/docs/sub/deep\"]\n";
    let (place, _, _) = documents(other);
    place.file("docs/sub/deep/c", "changed deep down");
    place.gullet(&[&GO[..], &["--part", "docs"]].concat()).exits(0);
    assert_eq!(fs::read_to_string(place.path("docs/a")).unwrap(), "as it was");
    assert_eq!(
        fs::read_to_string(place.path("docs/sub/deep/c")).unwrap(),
        "changed deep down",
        "another part's goes on"
    );
    place.gullet(&["restore", "app", "--undo", "--yes"]).exits(0);
    place.gullet(&["restore", "app", "--discard-old", "--yes"]).exits(0);
    let path = place.text("docs/a");
    place.gullet(&[&GO[..], &["--path", &path]].concat()).exits(0);
    assert_eq!(fs::read_to_string(place.path("docs/a")).unwrap(), "as it was");
    assert!(place.path("docs/since").exists(), "what was not asked for stays");
    place.gullet(&["restore", "app", "--discard-old", "--yes"]).exits(0);
    // Roots that nest change hands as one.
    place.gullet(&GO).exits(0);
    assert_eq!(fs::read_to_string(place.path("docs/sub/deep/c")).unwrap(), "deep");
}

#[test]
fn it_comes_elsewhere_where_the_old_path_is_mapped() {
    let (place, captured, changed) = documents("");
    fs::create_dir(place.path("new")).unwrap();
    let map = format!("{}={}", place.text("docs"), place.text("new/papers"));
    let with = [&GO[..], &["--map", &map]].concat();
    place.gullet(&with).exits(4).says("there is nothing at").says("--accept paths");
    place.gullet(&[&with[..], &["--accept", "paths"]].concat()).exits(0);
    assert_eq!(look(&place.path("new/papers")), captured);
    assert_eq!(look(&place.path("docs")), changed);
    let nowhere = format!("{}={}", place.text("docs"), place.text("no/where"));
    place.gullet(&["restore", "app", "--discard-old", "--yes"]).exits(0);
    place.gullet(&[&GO[..], &["--map", &nowhere]].concat()).exits(4).says("is not there: make it");
}

#[test]
fn a_mount_point_and_a_bind_mount_are_swapped_inside_and_a_link_is_followed() {
    let place = Place::with_parts(FILES);
    fs::create_dir(place.path("docs")).unwrap();
    let _mounted = Mounted::at(&place.path("docs"), "32m");
    fill(&place);
    let captured = look(&place.path("docs"));
    place.gullet(&["run", "app"]).exits(0);
    change(&place);
    let changed = look(&place.path("docs"));
    place.gullet(&GO).exits(0).says("is a mount point");
    assert!(!place.path("docs/since").exists() && place.path("docs/sub/x.tmp").exists());
    assert!(place.path("docs/top.tmp").exists());
    place.gullet(&["restore", "app", "--undo", "--yes"]).exits(0);
    assert_eq!(look(&place.path("docs")), changed);
    place.gullet(&["restore", "app", "--discard-old", "--yes"]).exits(0);
    place.gullet(&[&GO[..], &["--set-aside-extra"]].concat()).exits(0);
    assert_eq!(look(&place.path("docs")), captured);

    // The same through a link, with the folder mounted elsewhere: what is seen there must follow.
    let place = Place::with_parts(FILES);
    fs::create_dir_all(place.path("real")).unwrap();
    std::os::unix::fs::symlink("real", place.path("docs")).unwrap();
    fill(&place);
    let captured = look(&place.path("real"));
    place.gullet(&["run", "app"]).exits(0);
    change(&place);
    fs::create_dir(place.path("elsewhere")).unwrap();
    let bind =
        Command::new("mount").arg("--bind").arg(place.path("real")).arg(place.path("elsewhere")).status().unwrap();
    assert!(bind.success());
    let done = place.gullet(&[&GO[..], &["--set-aside-extra"]].concat());
    let seen = look(&place.path("elsewhere"));
    Command::new("umount").arg(place.path("elsewhere")).status().unwrap();
    done.exits(0).says("elsewhere too");
    assert_eq!(look(&place.path("real")), captured);
    assert_eq!(seen, captured, "the mount elsewhere shows the new state");
    assert!(place.path("docs").is_symlink());
}

#[test]
fn what_is_mounted_below_or_still_open_or_of_ours_is_refused() {
    let (place, _, changed) = documents("");
    let mut sleeper = Command::new("sleep");
    let mut sleeper = sleeper.arg("60").current_dir(place.path("docs/sub")).stdin(Stdio::null()).spawn().unwrap();
    let refused = place.gullet(&GO);
    sleeper.kill().unwrap();
    sleeper.wait().unwrap();
    refused.exits(1).says("something still uses it: process").says("(sleep)").says("the old state is in place");
    assert_eq!(look(&place.path("docs")), changed);
    place.gullet(&["restore", "app", "--continue"]).exits(0).says("it lies ready");
    place.gullet(&["restore", "app", "--undo", "--yes"]).exits(0);
    place.gullet(&["restore", "app", "--discard-old", "--yes"]).exits(0);
    fs::create_dir_all(place.path("docs/sub/below")).unwrap();
    let mounted = Mounted::at(&place.path("docs/sub/below"), "1m");
    place.gullet(&GO).exits(4).says("another filesystem is mounted below it");
    drop(mounted);
    let everything = Place::new();
    everything.define("[app.app]\nno_hold = \"a test\"\n[[app.app.part]]\nname = \"all\"\nfiles = [\"@\"]\n");
    everything.gullet(&["store", "new", "depot"]).exits(0);
    everything.gullet(&["run", "app"]).exits(0);
    everything.gullet(&GO).exits(4).says("which would change hands");
}

#[test]
fn a_desk_is_stopped_restored_and_serves_again_and_what_is_damaged_changes_nothing() {
    let desk = Desk::open();
    desk.run().completes();
    let booked: i64 = desk.ask(&["serial"]).out.trim().parse().unwrap();
    std::thread::sleep(Duration::from_millis(300));
    let restore = ["restore", "quaybook", "--in-place", "--yes"];
    let call = desk.place.gullet(&restore).exits(0).says("bring back settings").says("the desk adds up");
    assert!(call.out.contains("stopped for"), "{}", call.out);
    assert_eq!(desk.state(), "serving");
    desk.place.gullet(&["run", "quaybook"]).exits(0);
    audit(&desk.restore("after")).exits(0);
    desk.place.gullet(&["restore", "quaybook", "--undo", "--yes"]).exits(0);
    assert_eq!(desk.state(), "serving");
    let back: i64 = desk.ask(&["serial"]).out.trim().parse().unwrap();
    assert!(back > booked, "the bookings since are there again: {back} of {booked}");
    desk.place.gullet(&["restore", "quaybook", "--discard-old", "--yes"]).exits(0);

    // Of a damaged run nothing is put in place.
    let payload = desk.place.path("depot/payload");
    let script = "for f in $(find \"$0\" -name '*.zst'); do printf 'XXXX' | dd of=$f bs=1 seek=30 conv=notrunc 2>/dev/null; done";
    assert!(Command::new("sh").args(["-c", script]).arg(&payload).status().unwrap().success());
    desk.place.gullet(&restore).exits(4).says("is damaged").says("nothing was touched");
    assert_eq!(desk.state(), "serving");
    desk.place.gullet(&["restore", "quaybook", "--undo"]).exits(2).says("no restore in place");
}

#[test]
fn a_check_that_does_not_hold_brings_the_old_state_back() {
    for (from, to, why) in [
        (
            "before_start = [",
            "before_start = [{ name = \"never\", run = [\"false\"] }, ",
            "the check `never` does not hold",
        ),
        ("at_boot", "checks = [{ name = \"late\", run = [\"false\"] }]\nat_boot", "the check `late`"),
        ("serve > /dev/null 2>&1 &", "serve --no-such-option > /dev/null 2>&1", "it does not start on the new state"),
    ] {
        // What never comes is not waited for long.
        let within = if why.contains("start on") { "2s" } else { "30s" };
        let started = |within: &str| format!("prints = \"serving\", within = \"{within}\"");
        let desk = Desk::with(|text| text.replace(from, to).replace(&started("10s"), &started(within)));
        desk.run().completes();
        let folder = desk.place.path("desk/manifests");
        let mark = desk.place.file("desk/manifests/mark", "of the old state");
        let inode = |path: &Path| std::os::unix::fs::MetadataExt::ino(&fs::metadata(path).unwrap());
        let before = inode(&folder);
        let call = desk.place.gullet(&["restore", "quaybook", "--in-place", "--yes"]);
        let expected = if why.contains("start on") { 7 } else { 1 };
        call.exits(expected).says(why);
        assert!(inode(&folder) == before && mark.exists(), "{why}: the old state is in place");
        if expected == 1 {
            assert_eq!(desk.state(), "serving", "{why}");
            let was_started = why.contains("late");
            // What was written on it meanwhile is somebody's, so it is not removed unasked.
            let undone = desk.place.gullet(&["restore", "quaybook", "--undo"]).exits(if was_started { 4 } else { 0 });
            if was_started {
                assert!(undone.out.contains("what it wrote there would be removed"), "{}", undone.out);
                desk.place.gullet(&["restore", "quaybook", "--continue"]).exits(4).says("--yes");
                desk.place.gullet(&["restore", "quaybook", "--continue", "--yes"]).exits(1).says("every byte verified");
                desk.place.gullet(&["restore", "quaybook", "--undo", "--yes"]).exits(0);
            }
        }
    }
}

#[test]
fn a_program_that_is_not_there_is_found_before_anything_is_stopped() {
    let desk = Desk::with(|text| {
        let (head, tail) = text.split_once("before_start = [").unwrap();
        format!("{head}before_start = [{{ name = \"never\", run = [\"no-such-program\"] }}, {tail}")
    });
    desk.run().completes();
    desk.place.gullet(&["restore", "quaybook", "--in-place", "--yes"]).exits(4).says("`no-such-program` is not found");
    assert_eq!(desk.state(), "serving");
    desk.place.gullet(&["preflight", "quaybook"]).says("`no-such-program` is not found").says("a restore in place");
}

#[test]
fn a_server_that_does_not_stop_is_left_as_it_is() {
    let desk = Desk::with(|text| {
        let stop = "\"stop\"], limit = \"10s\" }\nstopped = ";
        assert!(text.contains(stop));
        text.replace(stop, "\"state\"], limit = \"10s\" }\nstopped = ")
            .replace("exit = 1, within = \"10s\"", "exit = 1, within = \"1s\"")
    });
    desk.run().completes();
    desk.place.gullet(&["restore", "quaybook", "--in-place", "--yes"]).says("it does not stop");
    assert_eq!(desk.state(), "serving");
}

#[test]
fn two_at_once_and_a_run_in_between_are_refused() {
    let slow = "[app.app.restore]\nstop = { script = \"touch @/stopping; until [ -e @/go ]; do sleep 0.05; done\" }\n\
                stopped = { run = [\"true\"] }\nstart = { run = [\"true\"] }\nstarted = { run = [\"true\"] }\nat_boot = \"stay stopped\"\n";
    let (place, _, _) = documents(slow);
    let mut first = place.command(&["restore", "app", "--in-place", "--yes"]);
    let mut first = first.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let began = Instant::now();
    while !place.path("stopping").exists() {
        assert!(began.elapsed().as_secs() < 20, "it does not stop the application");
        std::thread::sleep(Duration::from_millis(10));
    }
    place.gullet(&["restore", "app", "--in-place", "--yes"]).exits(4);
    place.gullet(&["run", "app"]).exits(4);
    place.file("go", "");
    assert!(first.wait().unwrap().success());
}

#[test]
fn disks_of_other_kinds_do_it_too() {
    for kind in ["btrfs", "xfs", "ext4"] {
        let place = Place::with_parts(FILES);
        let _disk = Disk::at(&place.path("disk"), kind);
        fs::create_dir(place.path("disk/docs")).unwrap();
        std::os::unix::fs::symlink("disk/docs", place.path("docs")).unwrap();
        fill(&place);
        let captured = look(&place.path("disk/docs"));
        place.gullet(&["run", "app"]).exits(0);
        change(&place);
        let changed = look(&place.path("disk/docs"));
        place.gullet(&[&GO[..], &["--set-aside-extra"]].concat()).exits(0);
        assert_eq!(look(&place.path("disk/docs")), captured, "{kind}");
        place.gullet(&["restore", "app", "--undo", "--yes"]).exits(0);
        assert_eq!(look(&place.path("disk/docs")), changed, "{kind}");
    }
}

#[test]
fn owners_of_another_machine_are_named_and_mapped() {
    let (place, _, _) = documents("");
    let owner = |path: &str| {
        let meta = fs::metadata(place.path(path)).unwrap();
        (std::os::unix::fs::MetadataExt::uid(&meta), std::os::unix::fs::MetadataExt::gid(&meta))
    };
    assert!(Command::new("chown").args(["1:2"]).arg(place.path("docs/a")).status().unwrap().success());
    place.gullet(&["run", "app"]).exits(0);
    let capture = place.capture("docs");
    assert!(capture["users"].to_string().contains("{\"id\":1,\"name\":\"daemon\"}"), "{}", capture["users"]);
    place
        .gullet(&["restore", "app", "--into", "out", "--map-owner", "daemon=4321", "--map-owner", "group:2=1234"])
        .exits(0);
    assert_eq!(owner(&format!("out/files{}", place.text("docs/a"))), (4321, 1234));
    assert_eq!(owner(&format!("out/files{}", place.text("docs/sub"))), (0, 0));
    place
        .gullet(&[&GO[..], &["--map-owner", "1=4321"]].concat())
        .exits(4)
        .says("what the user daemon owned is to be 4321's");
    place.gullet(&[&GO[..], &["--map-owner", "1=4321", "--accept", "accounts"]].concat()).exits(0);
    assert_eq!(owner("docs/a"), (4321, 2));
    for (wrong, why) in [("x", "who becomes whom"), ("nobody-knows=1", "in the record"), ("1=nobody-knows", "here")] {
        place.gullet(&["restore", "app", "--into", "o2", "--map-owner", wrong]).exits(2).says(why);
    }
}

/// Starts a restore of a desk that stops itself (SIGSTOP) in the middle of the swap; gives it and the number of its guard.
pub fn stopped_in_the_swap(desk: &Desk) -> (std::process::Child, u64) {
    let journal = desk.place.path("state/restores/quaybook.json");
    for at in 1..60 {
        let mut restore = desk.place.command(&["restore", "quaybook", "--in-place", "--yes"]);
        restore.env("GULLET_AT_EVENT", format!("{at}:STOP")).stdout(Stdio::null()).stderr(Stdio::null());
        let mut restore = restore.spawn().unwrap();
        let status = format!("/proc/{}/stat", restore.id());
        while !fs::read_to_string(&status).unwrap_or_default().contains(") T ") {
            assert!(restore.try_wait().unwrap().is_none(), "it came to its end without a swap");
            std::thread::sleep(Duration::from_millis(5));
        }
        if fs::read_to_string(&journal).unwrap_or_default().contains("\"stage\":\"swapp") {
            let note = fs::read_to_string(desk.place.path("state/holds/quaybook.note")).unwrap();
            let head: serde_json::Value = serde_json::from_str(&note[..=note[..4096].rfind('}').unwrap()]).unwrap();
            return (restore, head["pid"].as_u64().unwrap());
        }
        let _ = Command::new("kill").args(["-CONT", &restore.id().to_string()]).status();
        restore.wait().unwrap();
        desk.place.gullet(&["restore", "quaybook", "--undo", "--yes"]).exits(0);
        desk.place.gullet(&["restore", "quaybook", "--discard-old", "--yes"]).exits(0);
        desk.wait_for("serving");
    }
    panic!("there is no swap");
}

pub fn kill_both(mut restore: std::process::Child, guard: u64) {
    assert!(Command::new("kill").args(["-KILL", &guard.to_string()]).status().unwrap().success());
    restore.kill().unwrap();
    restore.wait().unwrap();
    // The guard is nobody's child here: it is gone, and its lock with it, when the system no longer lists it as living.
    wait_until_dead(u32::try_from(guard).unwrap());
}

#[test]
fn main_and_guard_both_killed_in_the_swap_the_next_command_puts_the_old_state_back_and_starts() {
    let desk = Desk::open();
    desk.run().completes();
    let mark = desk.place.file("desk/manifests/mark", "of the old state");
    let (restore, guard) = stopped_in_the_swap(&desk);
    assert_ne!(desk.state(), "serving", "it is stopped while its state changes hands");
    kill_both(restore, guard);
    desk.place.gullet(&["runs"]).exits(0).says("the processes that held it were gone; it is released now");
    desk.wait_for("serving");
    assert!(mark.exists());
    desk.place.gullet(&["restore", "quaybook", "--continue"]).exits(0).says("it lies ready");
    assert!(!mark.exists());
    desk.wait_for("serving");
}

#[test]
fn a_guard_that_is_told_to_let_go_waits_for_the_swap_and_puts_the_old_state_back() {
    let desk = Desk::open();
    desk.run().completes();
    let mark = desk.place.file("desk/manifests/mark", "of the old state");
    let (mut restore, guard) = stopped_in_the_swap(&desk);
    assert!(Command::new("kill").args(["-TERM", &guard.to_string()]).status().unwrap().success());
    std::thread::sleep(Duration::from_millis(300));
    assert!(Command::new("kill").args(["-CONT", &restore.id().to_string()]).status().unwrap().success());
    let code = restore.wait().unwrap().code();
    desk.wait_for("serving");
    // Either main had come to its end before the guard could, or the guard has put the old state back.
    let is_old = mark.exists();
    assert_eq!(code, Some(if is_old { 1 } else { 0 }));
    desk.place.gullet(&["restore", "quaybook", "--undo", "--yes"]).exits(0);
    assert!(mark.exists());
    desk.wait_for("serving");
}

#[test]
fn another_host_is_a_difference_and_so_is_that_it_still_lives() {
    let (place, captured, _) = documents("");
    let elsewhere = |more: &str| {
        let mut command = Command::new("unshare");
        let gullet = crate::harness::GULLET;
        let script = format!(
            "hostname elsewhere && exec {gullet} restore app --in-place --set-aside-extra --yes --accept running {more}"
        );
        command
            .args(["--uts", "sh", "-c", &script])
            .current_dir(place.path(""))
            .env_clear()
            .env("PATH", "/usr/bin:/bin");
        crate::harness::called(command)
    };
    elsewhere("")
        .exits(4)
        .says("this is elsewhere")
        .says("--accept host")
        .says("it is still alive there")
        .says("--accept alive");
    elsewhere("--accept host --accept alive").exits(0);
    assert_eq!(look(&place.path("docs")), captured);
}

#[test]
fn exports_come_back_by_commands_in_order_and_what_is_left_to_do_is_ticked_off() {
    let part = |name: &str, more: &str| {
        format!(
            "[[app.app.part]]\nname = \"{name}\"\ncommand = [\"cat\", \"@/{name}\"]\nomits = [\"the {name} key\"]\n\
             after_restore = [\"turn the {name} key\"]\n{more}\n"
        )
    };
    let by_stdin = "restore = { script = \"cat > @/a; echo a >> @/journal\", reads = \"stdin\" }\n\
                    done_when = { \"turn the a key\" = { run = [\"test\", \"-e\", \"@/a\"] } }";
    let by_folder = "restore = { script = \"cp $GULLET_SCRATCH/b @/b; test -f {folder}/b || echo b >> @/journal\", when = \"started\" }\n\
                     done_when = { \"turn the b key\" = { run = [\"test\", \"-e\", \"@/nowhere\"] } }";
    let by_folder = by_folder.replace("test -f {folder}/b || ", "");
    let spec = "[app.app.restore]\norder = [\"b\", \"a\"]\nstop = { script = \"echo stop >> @/journal\" }\nstopped = { run = [\"true\"] }\n\
                start = { script = \"echo start >> @/journal\" }\nstarted = { run = [\"true\"] }\nat_boot = \"stay stopped\"\n";
    let place = Place::with_parts(&format!("{}{}{}{spec}", part("a", by_stdin), part("b", &by_folder), part("c", "")));
    for name in ["a", "b", "c"] {
        place.file(name, format!("{name} as it was\n"));
    }
    place.gullet(&["run", "app"]).exits(0);
    place.file("a", "changed");
    fs::remove_file(place.path("b")).unwrap();
    let call = place.gullet(&["restore", "app", "--in-place", "--yes"]).exits(5);
    assert_eq!(fs::read_to_string(place.path("journal")).unwrap(), "stop\na\nstart\nb\n");
    for (name, text) in [("a", "a as it was\n"), ("b", "b as it was\n")] {
        assert_eq!(fs::read_to_string(place.path(name)).unwrap(), text);
    }
    assert!(call.out.contains("✓ a: turn the a key") && call.out.contains("! b: turn the b key"), "{}", call.out);
    assert!(call.out.contains("- c: it does not carry the c key"), "{}", call.out);
    // What nobody knows the way back of lies where it is said to.
    let folder = call.err.split("it lies in ").nth(1).unwrap().lines().next().unwrap();
    assert_eq!(fs::read_to_string(Path::new(folder).join("c")).unwrap(), "c as it was\n");
    place.gullet(&["status"]).says("the old state");
}
