//! A booking desk that is open in a temporary folder, a definition for it, and the program to call.

use std::fs;
use std::io::Write;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;

pub const GULLET: &str = env!("CARGO_BIN_EXE_gullet");

/// What a call gave.
pub struct Called {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl Called {
    /// Fails with everything that was printed unless the exit code is this.
    #[track_caller]
    pub fn exits(self, code: i32) -> Self {
        assert_eq!(self.code, code, "--- out:\n{}\n--- err:\n{}", self.out, self.err);
        self
    }

    /// Fails unless it is a complete run, whose hold a busy machine may have made longer than the last one.
    #[track_caller]
    pub fn completes(self) -> Self {
        let other = |line: &&str| line.starts_with("warning:") && !line.starts_with("warning: hold: held for ");
        if self.code == 6 && self.err.lines().find(other).is_none() { self } else { self.exits(0) }
    }

    #[track_caller]
    pub fn says(self, text: &str) -> Self {
        let all = format!("{}{}", self.out, self.err);
        assert!(all.contains(text), "nothing says {text:?}\n--- out:\n{}\n--- err:\n{}", self.out, self.err);
        self
    }

    pub fn json(&self) -> Value {
        serde_json::from_str(&self.out).unwrap_or_else(|error| panic!("{error}: {}\n{}", self.out, self.err))
    }
}

/// A temporary folder with a definition.
pub struct Place {
    folder: tempfile::TempDir,
}

impl Drop for Place {
    /// A guard goes on trying to release what it holds; here nothing will be there any more to release.
    fn drop(&mut self) {
        for note in self.files_below("state/holds") {
            let bytes = fs::read(note).unwrap_or_default();
            let head: Value = serde_json::from_slice(bytes.get(..4096).unwrap_or_default()).unwrap_or_default();
            if let Some(pid) = head["pid"].as_u64().filter(|pid| is_guard(*pid)) {
                let _ = Command::new("kill").args(["-KILL", &pid.to_string()]).status();
            }
        }
    }
}

fn is_guard(pid: u64) -> bool {
    fs::read(format!("/proc/{pid}/cmdline")).is_ok_and(|line| line.ends_with(b"\0guard\0"))
}

impl Place {
    pub fn new() -> Self {
        let place = Self { folder: tempfile::tempdir().unwrap() };
        symlink(GULLET, place.path("quaybook")).unwrap();
        place
    }

    /// A place with a definition of one application `app`, never held, with this text as its parts.
    pub fn with_parts(parts: &str) -> Self {
        let place = Self::new();
        place.define(&format!("[app.app]\nno_hold = \"a test\"\n{parts}"));
        place.gullet(&["store", "new", "depot"]).exits(0);
        place
    }

    /// The same with a encrypted store, whose identity lies in `safe.key`; gives its public key too.
    pub fn sealed_with_parts(parts: &str) -> (Self, String) {
        let place = Self::new();
        let public = place.json(&["key", "new", "safe.key"])["public"].as_str().unwrap().to_owned();
        place.define(&format!("encrypt_to = [\"{public}\"]\n[app.app]\nno_hold = \"a test\"\n{parts}"));
        place.gullet(&["store", "new", "depot"]).exits(0);
        (place, public)
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub fn text(&self, name: &str) -> String {
        self.path(name).display().to_string()
    }

    /// Writes a file, with the folders above it.
    pub fn file(&self, name: &str, contents: impl AsRef<[u8]>) -> PathBuf {
        let path = self.path(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(&path, contents).unwrap();
        path
    }

    /// A file that takes so many bytes on the disk, none of which is written.
    pub fn allocated(&self, name: &str, bytes: u64) -> PathBuf {
        let path = self.file(name, "");
        let made = Command::new("fallocate").args(["-l", &bytes.to_string()]).arg(&path).status().unwrap();
        assert!(made.success(), "no room for {bytes} bytes");
        path
    }

    /// Writes the definition, with a store and a state folder in front; `@` stands for the place.
    pub fn define(&self, text: &str) {
        let head =
            format!("state = \"{}\"\n[store.depot]\nlocation = \"{}\"\n", self.text("state"), self.text("depot"));
        self.file("gullet.toml", head + &text.replace('@', &self.folder.path().display().to_string()));
    }

    /// A call of the program in a clean environment.
    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(GULLET);
        command.args(arguments).current_dir(self.folder.path()).env_clear();
        command.env("PATH", "/usr/bin:/bin").env("TZ", "UTC").stdin(Stdio::null());
        command
    }

    pub fn gullet(&self, arguments: &[&str]) -> Called {
        called(self.command(arguments))
    }

    /// The program by a clock that is off by so much, such as `+400d`.
    pub fn gullet_at(&self, offset: &str, arguments: &[&str]) -> Called {
        let mut command = Command::new("faketime");
        command.args(["-f", offset, GULLET]).args(arguments).current_dir(self.folder.path()).env_clear();
        command.env("PATH", "/usr/bin:/bin").env("TZ", "UTC").stdin(Stdio::null());
        called(command)
    }

    /// The files below a folder of the place, sorted.
    pub fn files_below(&self, folder: &str) -> Vec<PathBuf> {
        fn walk(folder: &Path, found: &mut Vec<PathBuf>) {
            for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
                let path = entry.path();
                if path.is_dir() { walk(&path, found) } else { found.push(path) }
            }
        }
        let mut found = Vec::new();
        walk(&self.path(folder), &mut found);
        found.sort();
        found
    }

    /// Changes one byte of a file.
    pub fn flip(&self, path: &Path, at: usize) {
        let mut bytes = fs::read(path).unwrap();
        bytes[at] ^= 0x40;
        fs::write(path, bytes).unwrap();
    }

    /// The runs as `gullet runs --json` gives them, oldest first.
    pub fn runs(&self) -> Vec<Value> {
        self.json(&["runs"]).as_array().unwrap().clone()
    }

    /// The answer of status about one application, with its exit code.
    pub fn status(&self, app: &str) -> (i32, Value) {
        let call = self.gullet(&["status", app, "--json"]);
        (call.code, call.json()["applications"][0].clone())
    }

    /// The program with `--json`, which must end well.
    #[track_caller]
    pub fn json(&self, arguments: &[&str]) -> Value {
        let call = self.gullet(&[arguments, &["--json"]].concat());
        assert_eq!(call.code, 0, "{}{}", call.out, call.err);
        call.json()
    }

    /// The newest run's record.
    pub fn record(&self) -> Value {
        let runs = self.json(&["runs"]);
        let run = runs.as_array().unwrap().last().unwrap()["run"].as_str().unwrap().to_owned();
        self.json(&["show", &run])["record"].clone()
    }

    /// The newest run's capture of a part.
    pub fn capture(&self, part: &str) -> Value {
        let record = self.record();
        let captures = record["captures"].as_array().unwrap();
        captures.iter().find(|capture| capture["part"] == part).unwrap_or(&Value::Null).clone()
    }
}

/// Waits until a process that was killed is over; a dead one may have its number until somebody asks how it ended.
#[track_caller]
pub fn wait_until_dead(pid: u32) {
    let began = Instant::now();
    while lives(pid) {
        assert!(began.elapsed() < Duration::from_secs(30), "process {pid} lives on");
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// Whether any thread of a process is still there. The first may have ended before the others, and its locks are kept until all have.
pub fn lives(pid: u32) -> bool {
    let of_thread = |thread: fs::DirEntry| fs::read_to_string(thread.path().join("stat")).unwrap_or_default();
    let is_over = |stat: &str| stat.rsplit_once(") ").is_none_or(|(_, rest)| rest.starts_with(['Z', 'X']));
    let threads = fs::read_dir(format!("/proc/{pid}/task")).into_iter().flatten().flatten();
    threads.map(of_thread).any(|stat| !is_over(&stat))
}

pub fn called(mut command: Command) -> Called {
    let output = command.output().unwrap();
    let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
    Called { code: output.status.code().unwrap_or(-1), out: text(output.stdout), err: text(output.stderr) }
}

/// An open desk, its store made.
pub struct Desk {
    pub place: Place,
    server: Child,
}

/// The demo's definition, as the tour uses it.
const DEMO: &str = include_str!("../../src/demo.toml");

impl Desk {
    pub fn open() -> Self {
        Self::with(|definition| definition)
    }

    /// An open desk with a changed definition.
    pub fn with(change: impl FnOnce(String) -> String) -> Self {
        Self::at(Place::new(), change)
    }

    /// An open desk in a place where its folder may be a mount already.
    pub fn at(place: Place, change: impl FnOnce(String) -> String) -> Self {
        fs::create_dir_all(place.path("desk")).unwrap();
        let text = DEMO
            .replace("@QUAYBOOK@", &place.text("quaybook"))
            .replace("@DESK@", &place.text("desk"))
            .replace("@STATE@", &place.text("state"))
            .replace("@DEPOT@", &place.text("depot"));
        place.file("gullet.toml", change(text));
        place.gullet(&["store", "new", &place.text("depot")]).exits(0);
        let mut serve = Command::new(place.path("quaybook"));
        serve.arg("--desk").arg(place.path("desk")).args(["serve", "--step", "3"]);
        let server = serve.stdin(Stdio::null()).spawn().unwrap();
        let desk = Self { place, server };
        desk.wait_for("serving");
        std::thread::sleep(Duration::from_millis(100));
        desk
    }

    pub fn ask(&self, words: &[&str]) -> Called {
        let mut command = Command::new(self.place.path("quaybook"));
        command.arg("--desk").arg(self.place.path("desk")).args(words);
        called(command)
    }

    pub fn state(&self) -> String {
        self.ask(&["state"]).out.trim().to_owned()
    }

    #[track_caller]
    pub fn wait_for(&self, state: &str) {
        let began = Instant::now();
        while self.state() != state {
            assert!(began.elapsed() < Duration::from_secs(20), "the desk is {}, not {state}", self.state());
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    pub fn misbehave(&self, how: &str) {
        self.ask(&["misbehave", how]).exits(0);
    }

    pub fn run(&self) -> Called {
        self.place.gullet(&["run", "quaybook"])
    }

    /// Restores the newest complete run; gives the desk's folder in it.
    pub fn restore(&self, name: &str) -> PathBuf {
        let into = self.place.path(name);
        self.place.gullet(&["restore", "quaybook@latest", "--into", into.to_str().unwrap()]).exits(0);
        into.join("files").join(self.place.path("desk").strip_prefix("/").unwrap())
    }
}

impl Drop for Desk {
    fn drop(&mut self) {
        // After a restore in place it is another process.
        self.ask(&["stop"]);
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}

/// Adds up the desk in a folder.
pub fn audit(folder: &Path) -> Called {
    let program = tempfile::tempdir().unwrap();
    let quaybook = program.path().join("quaybook");
    symlink(GULLET, &quaybook).unwrap();
    let mut command = Command::new(quaybook);
    command.arg("audit").arg(folder);
    called(command)
}

/// A small tmpfs, unmounted when this is dropped.
pub struct Mounted(PathBuf);

impl Mounted {
    pub fn at(path: &Path, size: &str) -> Self {
        fs::create_dir_all(path).unwrap();
        let options = format!("size={size},mode=755");
        let mounted = Command::new("mount").args(["-t", "tmpfs", "-o", &options, "tmpfs"]).arg(path).status().unwrap();
        assert!(mounted.success(), "mounting a small tmpfs needs root");
        Self(path.to_path_buf())
    }
}

/// A filesystem of its own in a file, unmounted when this is dropped.
pub struct Disk {
    mounted: Mounted,
    _image: tempfile::NamedTempFile,
}

impl Disk {
    /// Makes a filesystem (`btrfs`, `xfs`, `ext4`) and mounts it at `path`.
    pub fn at(path: &Path, kind: &str) -> Self {
        Self::in_folder(&std::env::temp_dir(), 512, path, kind)
    }

    /// The same of so many MiB, in a file of this folder.
    pub fn in_folder(folder: &Path, size: u64, path: &Path, kind: &str) -> Self {
        let image = tempfile::NamedTempFile::new_in(folder).unwrap();
        image.as_file().set_len(size << 20).unwrap();
        let force = if kind == "ext4" { "-F" } else { "-f" };
        let make = Command::new(format!("mkfs.{kind}")).args(["-q", force]).arg(image.path()).output().unwrap();
        assert!(make.status.success(), "{}", String::from_utf8_lossy(&make.stderr));
        fs::create_dir_all(path).unwrap();
        let mount = Command::new("mount").args(["-o", "loop"]).arg(image.path()).arg(path).output().unwrap();
        assert!(mount.status.success(), "mounting needs root: {}", String::from_utf8_lossy(&mount.stderr));
        Self { mounted: Mounted(path.to_path_buf()), _image: image }
    }

    /// Names in its top folder that begin with a dot.
    pub fn hidden(&self) -> Vec<String> {
        let names = fs::read_dir(&self.mounted.0).unwrap().map(|entry| entry.unwrap().file_name());
        names.map(|name| name.to_string_lossy().into_owned()).filter(|name| name.starts_with('.')).collect()
    }
}

/// A disk in a file with two partitions, as the kernel sees them.
pub struct Partitioned {
    /// The whole disk, such as `/dev/loop3`.
    device: String,
    _image: tempfile::NamedTempFile,
}

impl Partitioned {
    /// Makes it, with 64 MiB for each partition. Needs root.
    pub fn new() -> Self {
        let image = tempfile::NamedTempFile::new().unwrap();
        image.as_file().set_len(132 << 20).unwrap();
        // The master boot record: four entries of 16 bytes from byte 446, of each the type at 4, the first sector at 8, their
        // number at 12, and its mark at the end.
        let mut record = [0_u8; 512];
        for (entry, first) in [(446, 2048_u32), (462, 133_120)] {
            record[entry + 4] = 0x83;
            record[entry + 8..entry + 12].copy_from_slice(&first.to_le_bytes());
            record[entry + 12..entry + 16].copy_from_slice(&131_072_u32.to_le_bytes());
        }
        record[510..].copy_from_slice(&[0x55, 0xaa]);
        image.as_file().write_all(&record).unwrap();
        let made = called_with("losetup", &["-f", "--show", "-P", &image.path().display().to_string()]);
        let disk = Self { device: made.trim().to_owned(), _image: image };
        // The kernel may have looked before the disk was there.
        called_with("partx", &["-u", &disk.device]);
        disk
    }

    /// Makes a filesystem in a partition (1 or 2) and mounts it.
    pub fn mount(&self, number: u32, path: &Path) -> Mounted {
        let partition = format!("{}p{number}", self.device);
        called_with("mkfs.ext4", &["-q", "-F", &partition]);
        fs::create_dir_all(path).unwrap();
        called_with("mount", &[&partition, &path.display().to_string()]);
        Mounted(path.to_path_buf())
    }
}

impl Drop for Partitioned {
    fn drop(&mut self) {
        let _ = Command::new("losetup").args(["-d", &self.device]).status();
    }
}

/// What a program of the system prints; it must succeed.
fn called_with(program: &str, arguments: &[&str]) -> String {
    let output = Command::new(program).args(arguments).output().unwrap();
    assert!(output.status.success(), "{program} {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

impl Drop for Mounted {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.0).status();
    }
}
