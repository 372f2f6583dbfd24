//! The demo: a booking desk that is open in a temporary folder, and a definition for it.

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

use crate::error::CommandError;
use crate::exit::Exit;

/// How long a desk may take to open.
const OPENS_WITHIN: Duration = Duration::from_secs(10);

/// A desk that serves until this is dropped.
pub struct Demo {
    folder: tempfile::TempDir,
    server: Child,
}

impl Demo {
    /// Opens a desk under load, beside an empty place for a store and a state folder.
    pub fn open() -> Result<Self, CommandError> {
        let folder = tempfile::Builder::new().prefix("gullet-tour-").tempdir()?;
        // One binary: called by the name of the demo application it is that application.
        symlink(std::env::current_exe()?, folder.path().join("quaybook"))?;
        fs::create_dir(folder.path().join("desk"))?;
        let mut command = Command::new(folder.path().join("quaybook"));
        command.arg("--desk").arg(folder.path().join("desk")).args(["serve", "--operators", "6"]);
        let server = command.stdin(Stdio::null()).spawn()?;
        let demo = Self { folder, server };
        fs::write(demo.definition(), demo.definition_text())?;
        demo.wait_until_open()?;
        Ok(demo)
    }

    fn wait_until_open(&self) -> Result<(), CommandError> {
        let began = Instant::now();
        while began.elapsed() < OPENS_WITHIN {
            if self.ask(&["state"])?.stdout == b"serving\n" {
                return Ok(());
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        Err(CommandError::text(Exit::Failed, "the booking desk of the demo does not open"))
    }

    /// Leaves the folder where it is when the demo ends.
    pub fn keep(&mut self) -> PathBuf {
        self.folder.disable_cleanup(true);
        self.folder.path().to_path_buf()
    }

    /// A path in the demo's folder.
    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// The definition's file.
    pub fn definition(&self) -> PathBuf {
        self.path("gullet.toml")
    }

    fn definition_text(&self) -> String {
        self.filled(include_str!("demo.toml"))
    }

    /// Gives the store a second copy, in a bucket of this object storage.
    pub fn add_copy(&self, endpoint: &str) -> Result<(), CommandError> {
        let keys = self.path("far.keys");
        fs::write(&keys, "AWS_ACCESS_KEY_ID=tour\nAWS_SECRET_ACCESS_KEY=of quaybook\n")?;
        fs::set_permissions(&keys, fs::Permissions::from_mode(0o600))?;
        let text = fs::read_to_string(self.definition())?;
        let text = text.replace(
            "\n[app.quaybook]",
            &format!(
                "copies = [\"far\"]\n\n[store.far]\nlocation = \"s3://skerry-depot/quay\"\nendpoint = \"{endpoint}\"\n\
             credentials = {{ file = \"{}\" }}\n\n[app.quaybook]",
                keys.display()
            ),
        );
        Ok(fs::write(self.definition(), text)?)
    }

    /// The definition without the copy.
    pub fn forget_copy(&self) -> Result<(), CommandError> {
        Ok(fs::write(self.definition(), self.definition_text())?)
    }

    /// Adds what makes it run every night by itself, and two more applications.
    pub fn add_nights(&self) -> Result<(), CommandError> {
        fs::create_dir_all(self.path("fares"))?;
        fs::write(self.path("fares/2026.csv"), "from,to,cents\nSkerry,Inner Isles,1250\nSkerry,Outer Isles,3100\n")?;
        let nights = self.filled(include_str!("night.toml"));
        let text = fs::read_to_string(self.definition())?;
        fs::write(self.definition(), format!("{text}{nights}"))?;
        Ok(())
    }

    fn filled(&self, text: &str) -> String {
        let path = |name: &str| self.path(name).display().to_string();
        text.replace("@QUAYBOOK@", &path("quaybook"))
            .replace("@DESK@", &path("desk"))
            .replace("@STATE@", &path("state"))
            .replace("@DEPOT@", &path("depot"))
            .replace("@FARES@", &path("fares"))
            .replace("@OFFICE@", &path("office"))
    }

    /// Asks the desk.
    pub fn ask(&self, words: &[&str]) -> Result<Output, CommandError> {
        let mut command = Command::new(self.path("quaybook"));
        Ok(command.arg("--desk").arg(self.path("desk")).args(words).output()?)
    }

    /// Adds up the desk in a folder: whether its three kinds of state agree, and what was said.
    pub fn audit(&self, folder: &Path) -> Result<(bool, String), CommandError> {
        let output = Command::new(self.path("quaybook")).arg("audit").arg(folder).output()?;
        let said = [output.stdout, output.stderr].concat();
        Ok((output.status.success(), String::from_utf8_lossy(&said).trim().to_owned()))
    }
}

impl Drop for Demo {
    fn drop(&mut self) {
        let _ = self.ask(&["stop"]);
        let began = Instant::now();
        while began.elapsed() < Duration::from_secs(2) {
            if matches!(self.server.try_wait(), Ok(Some(_))) {
                return;
            }
            std::thread::sleep(Duration::from_millis(10));
        }
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}
