//! One `ssh`, and what is spoken through it.

use std::io::{self, Read};
use std::os::fd::OwnedFd;
use std::os::unix::net::UnixStream;
use std::os::unix::process::CommandExt;
use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, PoisonError};

use russh_sftp::client::error::Error as SftpError;
use russh_sftp::protocol::StatusCode;
use tokio::runtime::{Builder, Handle};

use super::SshFolderPlace;
use super::session::Session;

/// Of what `ssh` says so many bytes are kept.
const SAID: u64 = 4 << 10;

/// One `ssh` and what is spoken through it; it ends with the value.
pub(super) struct Connection {
    pub(super) session: Session,
    pub(super) runtime: Handle,
    /// Keeps the thread that reads and writes until the connection is dropped.
    _over: tokio::sync::oneshot::Sender<()>,
    ssh: Mutex<Child>,
    said: Mutex<Option<std::thread::JoinHandle<String>>>,
}

impl Connection {
    /// Starts `ssh`, and greets the server.
    pub(super) fn open(place: &SshFolderPlace) -> io::Result<Self> {
        let mut command = Command::new("ssh");
        let seconds = place.limit.as_secs().max(1);
        command.args(["-o", "BatchMode=yes", "-o", &format!("ConnectTimeout={seconds}")]);
        if let Some(path) = &place.known_hosts {
            command.arg("-o").arg(format!("UserKnownHostsFile={}", path.display()));
            command.args(["-o", "GlobalKnownHostsFile=/dev/null", "-o", "StrictHostKeyChecking=yes"]);
        }
        if let Some(path) = &place.key_file {
            command.args(["-o", "IdentitiesOnly=yes", "-i"]).arg(path);
        }
        if let Some(user) = &place.user {
            command.args(["-l", user]);
        }
        if let Some(port) = place.port {
            command.args(["-p", &port.to_string()]);
        }
        let (ours, theirs) = UnixStream::pair()?;
        let input = OwnedFd::from(theirs.try_clone()?);
        command
            .args(["-s", "--", &place.host, "sftp"])
            .stdin(input)
            .stdout(OwnedFd::from(theirs))
            .stderr(Stdio::piped());
        // Who interrupts this program lets it end what it does.
        command.process_group(0);
        let mut ssh =
            command.spawn().map_err(|error| io::Error::new(error.kind(), format!("cannot start ssh: {error}")))?;
        // Its ends of the pipes are its own.
        drop(command);
        let errors = ssh.stderr.take();
        let said = std::thread::spawn(move || {
            let mut text = Vec::new();
            let _ = errors.map(|errors| errors.take(SAID).read_to_end(&mut text));
            String::from_utf8_lossy(&text).trim().to_owned()
        });
        ours.set_nonblocking(true)?;
        let runtime = Builder::new_current_thread().enable_all().build()?;
        let handle = runtime.handle().clone();
        let (over, is_over) = tokio::sync::oneshot::channel::<()>();
        std::thread::spawn(move || runtime.block_on(is_over));
        let stream = {
            let _guard = handle.enter();
            tokio::net::UnixStream::from_std(ours)?
        };
        let greeted = handle.block_on(Session::greet(stream, seconds));
        match greeted {
            Ok(session) => {
                Ok(Self { session, runtime: handle, _over: over, ssh: Mutex::new(ssh), said: Mutex::new(Some(said)) })
            }
            Err(error) => {
                let _ = ssh.kill();
                let _ = ssh.wait();
                Err(in_words(&said.join().unwrap_or_default(), Trouble::from(error).into_io()))
            }
        }
    }

    /// Ends it, and gives what `ssh` said.
    pub(super) fn last_words(&self) -> String {
        let _ = self.ssh.lock().unwrap_or_else(PoisonError::into_inner).kill();
        let said = self.said.lock().unwrap_or_else(PoisonError::into_inner).take();
        said.and_then(|said| said.join().ok()).unwrap_or_default()
    }
}

impl Drop for Connection {
    fn drop(&mut self) {
        let mut ssh = self.ssh.lock().unwrap_or_else(PoisonError::into_inner);
        let _ = ssh.kill();
        let _ = ssh.wait();
    }
}

/// Why something did not work.
pub(super) enum Trouble {
    /// The server said so.
    Said(StatusCode, String),
    /// The connection broke, or was never there.
    Broken(io::Error),
}

impl From<SftpError> for Trouble {
    fn from(error: SftpError) -> Self {
        match error {
            SftpError::Status(status) => Self::Said(status.status_code, status.error_message),
            SftpError::Timeout => Self::Broken(io::Error::new(io::ErrorKind::TimedOut, "the server is silent")),
            error => Self::Broken(io::Error::other(error)),
        }
    }
}

impl Trouble {
    pub(super) fn into_io(self) -> io::Error {
        match self {
            Self::Said(StatusCode::NoSuchFile, _) => {
                io::Error::new(io::ErrorKind::NotFound, "the server has no such file")
            }
            Self::Said(StatusCode::PermissionDenied, _) => {
                io::Error::new(io::ErrorKind::PermissionDenied, "the server does not allow it")
            }
            Self::Said(StatusCode::Eof, _) => {
                io::Error::new(io::ErrorKind::UnexpectedEof, "it is shorter than the server said")
            }
            Self::Said(code, said) => io::Error::other(format!("the server refused it: {code}, {said}")),
            Self::Broken(error) => error,
        }
    }

    /// Whether the server says that there is no such file.
    pub(super) fn is_missing(&self) -> bool {
        matches!(self, Self::Said(StatusCode::NoSuchFile, _))
    }
}

/// What `ssh` says is why nothing can be spoken through it.
pub(super) fn in_words(said: &str, error: io::Error) -> io::Error {
    if said.is_empty() {
        error
    } else {
        io::Error::new(error.kind(), format!("ssh says: {}", said.replace(['\r', '\n'], " ")))
    }
}
