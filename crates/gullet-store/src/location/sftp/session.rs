//! What is asked of an SFTP server, in the protocol's own messages (draft-ietf-secsh-filexfer-02, and OpenSSH's extensions).
//!
//! Only what is wanted is asked for: a piece out of a large file costs its own bytes, in as few messages as the server allows.

use std::future::ready;
use std::ops::Range;

use futures_util::future::join;
use futures_util::stream::{self, StreamExt, TryStreamExt};
use russh_sftp::client::error::Error;
use russh_sftp::client::rawsession::Limits;
use russh_sftp::client::{Config, RawSftpSession};
use russh_sftp::extensions::{self, Statvfs};
use russh_sftp::protocol::{File, FileAttributes, OpenFlags, Status, StatusCode};
use tokio::io::{AsyncRead, AsyncWrite};

/// So many messages that read one file wait for their answers at the same time.
const READS_AT_ONCE: usize = 16;
/// So many bytes that are written to one file wait for their answers at the same time: on a slow line each answer comes only when all
/// that was sent before it has gone, and that must not look like silence.
const WRITTEN_AT_ONCE: u64 = 512 << 10;
/// Bytes of a file in one message that every server takes (section 3 of the draft).
const SHORT: u64 = 32 << 10;
/// The same where the server says that it takes more; OpenSSH's own limit.
const LONG: u64 = 255 << 10;

/// A server that was greeted.
pub(super) struct Session {
    raw: RawSftpSession,
    can_sync: bool,
    can_tell_room: bool,
    /// Bytes that are read by one message.
    read_length: u64,
    /// Bytes that are written by one message.
    write_length: u64,
}

impl Session {
    /// Greets the server, which may be silent for so many seconds at a time.
    pub(super) async fn greet<S>(stream: S, seconds: u64) -> Result<Self, Error>
    where
        S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    {
        let config = Config { request_timeout_secs: seconds, ..Config::default() };
        let mut raw = RawSftpSession::new_with_config(stream, config);
        let said = raw.init().await?.extensions;
        let can = |name: &str, version: &str| said.get(name).is_some_and(|found| found == version);
        let mut limits = Limits::default();
        if can(extensions::LIMITS, "1") {
            limits = raw.limits().await?.into();
            raw.set_limits(limits);
        }
        let length = |limit: Option<u64>| limit.unwrap_or(SHORT).clamp(1, LONG);
        Ok(Self {
            raw,
            can_sync: can(extensions::FSYNC, "1"),
            can_tell_room: can(extensions::STATVFS, "2"),
            read_length: length(limits.read_len),
            write_length: length(limits.write_len),
        })
    }

    /// What the server says of a path, links followed.
    pub(super) async fn attributes(&self, path: &str) -> Result<FileAttributes, Error> {
        Ok(self.raw.stat(path).await?.attrs)
    }

    /// Gives a path a mode.
    pub(super) async fn set_mode(&self, path: &str, mode: u32) -> Result<(), Error> {
        self.raw.setstat(path, with_mode(mode)).await.map(drop)
    }

    /// Makes a folder.
    pub(super) async fn make_folder(&self, path: &str) -> Result<(), Error> {
        self.raw.mkdir(path, FileAttributes::empty()).await.map(drop)
    }

    /// Gives a file another name, which nothing may have yet.
    pub(super) async fn rename(&self, from: &str, to: &str) -> Result<(), Error> {
        self.raw.rename(from, to).await.map(drop)
    }

    /// Removes a file.
    pub(super) async fn remove(&self, path: &str) -> Result<(), Error> {
        self.raw.remove(path).await.map(drop)
    }

    /// The room of the filesystem that a path is on, where the server can tell it.
    pub(super) async fn room(&self, path: &str) -> Result<Option<Statvfs>, Error> {
        match self.can_tell_room {
            true => self.raw.statvfs(path).await.map(Some),
            false => Ok(None),
        }
    }

    /// What is in a folder.
    pub(super) async fn entries(&self, path: &str) -> Result<Vec<File>, Error> {
        let folder = self.raw.opendir(path).await?.handle;
        let mut entries = Vec::new();
        let listed = loop {
            match self.raw.readdir(folder.as_str()).await {
                Ok(some) => entries.extend(some.files),
                Err(Error::Status(status)) if status.status_code == StatusCode::Eof => break Ok(()),
                Err(error) => break Err(error),
            }
        };
        let closed = self.raw.close(folder).await;
        listed.and(closed.map(|_| entries))
    }

    /// Writes a file whole, over what has its name, and makes it durable where the server can.
    pub(super) async fn write(&self, path: &str, bytes: &[u8], mode: u32) -> Result<(), Error> {
        let flags = OpenFlags::CREATE | OpenFlags::WRITE | OpenFlags::TRUNCATE;
        let file = self.raw.open(path, flags, with_mode(mode)).await?.handle;
        let places = (0..).step_by(self.write_length as usize);
        let pieces = bytes.chunks(self.write_length as usize).zip(places);
        let writes = pieces.map(|(piece, at)| self.raw.write(file.as_str(), at, piece.to_vec()));
        let at_once = (WRITTEN_AT_ONCE / self.write_length).max(1) as usize;
        let mut written = stream::iter(writes).buffered(at_once).try_for_each(|_| ready(Ok(()))).await;
        if written.is_ok() && self.can_sync {
            written = self.raw.fsync(file.as_str()).await.map(drop);
        }
        let closed = self.raw.close(file).await;
        written.and(closed.map(drop))
    }

    /// These bytes of a file, all of them.
    pub(super) async fn read(&self, path: &str, range: Range<u64>) -> Result<Vec<u8>, Error> {
        let file = self.open(path).await?;
        let mut bytes = Vec::with_capacity((range.end - range.start) as usize);
        let read = self.read_on(&file, range, &mut bytes).await;
        let closed = self.raw.close(file).await;
        read.and(closed.map(|_| bytes))
    }

    /// A whole file.
    pub(super) async fn read_whole(&self, path: &str) -> Result<Vec<u8>, Error> {
        let file = self.open(path).await?;
        let read = async {
            let (said, first) = join(self.raw.fstat(file.as_str()), self.piece(&file, 0, self.read_length)).await;
            let length = said?.attrs.size.ok_or_else(|| Error::UnexpectedBehavior("it has no length".to_owned()))?;
            let mut bytes = first?;
            self.read_on(&file, bytes.len() as u64..length.max(bytes.len() as u64), &mut bytes).await?;
            Ok(bytes)
        };
        let read = read.await;
        let closed = self.raw.close(file.as_str()).await;
        read.and_then(|bytes| closed.map(|_| bytes))
    }

    async fn open(&self, path: &str) -> Result<String, Error> {
        Ok(self.raw.open(path, OpenFlags::READ, FileAttributes::empty()).await?.handle)
    }

    /// Reads what follows, all of it.
    async fn read_on(&self, file: &str, range: Range<u64>, bytes: &mut Vec<u8>) -> Result<(), Error> {
        let pieces = range.clone().step_by(self.read_length as usize);
        let reads = pieces.map(|at| async move {
            let length = self.read_length.min(range.end - at);
            match self.piece(file, at, length).await? {
                piece if piece.len() as u64 == length => Ok(piece),
                _ => Err(Error::Status(shorter())),
            }
        });
        let mut reads = stream::iter(reads).buffered(READS_AT_ONCE);
        while let Some(piece) = reads.try_next().await? {
            bytes.extend_from_slice(&piece);
        }
        Ok(())
    }

    /// So many bytes of a file; fewer where it ends before.
    async fn piece(&self, file: &str, at: u64, length: u64) -> Result<Vec<u8>, Error> {
        let mut bytes = Vec::new();
        // A server may give less than it is asked for.
        while (bytes.len() as u64) < length {
            let had = bytes.len() as u64;
            match self.raw.read(file, at + had, (length - had) as u32).await {
                Ok(more) if more.data.is_empty() => break,
                Ok(more) if bytes.is_empty() => bytes = more.data,
                Ok(more) => bytes.extend_from_slice(&more.data),
                Err(Error::Status(status)) if status.status_code == StatusCode::Eof => break,
                Err(error) => return Err(error),
            }
        }
        Ok(bytes)
    }
}

/// As a server says that a file has ended.
fn shorter() -> Status {
    Status { id: 0, status_code: StatusCode::Eof, error_message: String::new(), language_tag: String::new() }
}

fn with_mode(mode: u32) -> FileAttributes {
    FileAttributes { permissions: Some(mode), ..FileAttributes::empty() }
}
