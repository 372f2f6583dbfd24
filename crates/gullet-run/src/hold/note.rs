//! The hold note: what is held, on disk.
//!
//! One file an application, `holds/APP.note` in the state folder, of fixed size. Its first 4 KiB are the head, JSON padded
//! with spaces, rewritten in place; the rest is the hold steps. The file is complete and synced before anything is
//! entered, so moving its state forward takes no new space. Only the process that has the kernel's lock on the file
//! writes it; whether somebody has it is how liveness is asked.

mod head;

use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Write};
use std::os::unix::fs::{FileExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::time::Duration;

use gullet_store::{IoPath, PathError};
use jiff::Timestamp;
use rustix::fs::FlockOperation;

use gullet_host::hook::Process;
use gullet_host::world::Clock;
use gullet_model::definition::HoldStep;
use gullet_model::words::millis;
use head::shortened;
pub use head::{NoteHead, NoteState, NoteStatus, RunningCommand};

/// Bytes of the head.
const HEAD: usize = 4096;

/// A hold note failed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum NoteError {
    /// It cannot be read or written.
    #[error("the hold note cannot be used")]
    Io(#[from] PathError),
    /// A living process owns it.
    #[error("`{}` is held already: {}", .0.app, .0.describe())]
    Held(Box<NoteHead>),
    /// A living process owns it, and it cannot be read.
    #[error("the hold note is in use by another process")]
    InUse,
    /// It is damaged, so that it is not known what is held: everything may be.
    #[error("the hold note `{}` is damaged, so it is not known what is held", .0.display())]
    Unreadable(PathBuf),
    /// A hold that nobody owns any more must be left first.
    #[error("`{}` is held, and the process that held it is gone", .0.app)]
    Forgotten(Box<NoteHead>),
}

/// A note that this process owns.
#[derive(Debug)]
pub struct HoldNote {
    path: PathBuf,
    file: File,
    head: NoteHead,
}

/// A note that was found on disk.
#[derive(Debug)]
pub enum FoundNote {
    /// A living process has the lock.
    Alive(Option<Box<NoteHead>>),
    /// Nobody has it, and something is held, or may be: this process owns the note now.
    Forgotten(Box<HoldNote>, Vec<HoldStep>),
    /// There is none, or it is over.
    Nothing,
}

fn path_of(folder: &Path, app: &str) -> PathBuf {
    folder.join(format!("{app}.note"))
}

/// The kernel's id of this boot.
fn boot_id() -> String {
    fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default().trim().to_owned()
}

/// Keeps other makers of an application's note away while it lives.
fn lock_for_making(folder: &Path, app: &str) -> Result<File, NoteError> {
    let path = folder.join(format!("{app}.lock"));
    let file = OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(&path).at(&path)?;
    // Held for as long as it takes to sync a note, so it is worth waiting for.
    rustix::fs::flock(&file, FlockOperation::LockExclusive).at(&path)?;
    Ok(file)
}

/// The same as [`lock`], for who finds a note: somebody may just look at it, which takes no time.
fn lock_found(file: &File, path: &Path) -> Result<bool, PathError> {
    for _ in 0..50 {
        if lock(file, path)? {
            return Ok(true);
        }
        std::thread::yield_now();
    }
    Ok(false)
}

fn lock(file: &File, path: &Path) -> Result<bool, PathError> {
    match rustix::fs::flock(file, FlockOperation::NonBlockingLockExclusive) {
        Ok(()) => Ok(true),
        Err(rustix::io::Errno::WOULDBLOCK) => Ok(false),
        Err(errno) => Err(PathError::new(path, errno)),
    }
}

fn read_head(file: &File) -> Option<NoteHead> {
    let mut head = vec![0; HEAD];
    file.read_exact_at(&mut head, 0).ok()?;
    let end = head.iter().rposition(|byte| *byte == b'}')?;
    serde_json::from_slice(&head[..=end]).ok()
}

fn read_steps(file: &File) -> Option<Vec<HoldStep>> {
    let mut body = Vec::new();
    let mut file = file;
    io::Seek::seek(&mut file, io::SeekFrom::Start(HEAD as u64)).ok()?;
    file.read_to_end(&mut body).ok()?;
    serde_json::from_slice(&body).ok()
}

impl HoldNote {
    /// Looks at the note of an application. A forgotten hold's note is owned by this process afterwards.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn look(folder: &Path, app: &str) -> Result<FoundNote, NoteError> {
        let path = path_of(folder, app);
        let file = match OpenOptions::new().read(true).write(true).open(&path) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(FoundNote::Nothing),
            Err(error) => return Err(PathError::new(&path, error).into()),
        };
        // One that is over needs no lock to be passed over, so that looking never hinders a hold that is about to begin.
        if read_head(&file).is_some_and(|head| head.state.is_over()) {
            return Ok(FoundNote::Nothing);
        }
        if !lock_found(&file, &path)? {
            return Ok(FoundNote::Alive(read_head(&file).map(Box::new)));
        }
        let steps = read_steps(&file);
        // A step that cannot be read cannot be released, and what is not known to be released is held.
        let is_known =
            |head: &NoteHead| steps.as_ref().is_some_and(|s| head.entered.iter().all(|step| *step < s.len()));
        match read_head(&file) {
            Some(head) if head.entered.is_empty() || is_known(&head) => {}
            Some(_) => return Err(NoteError::Unreadable(path)),
            None if steps.as_ref().is_none_or(Vec::is_empty) => return Err(NoteError::Unreadable(path)),
            None => {}
        }
        let steps = steps.unwrap_or_default();
        // A head that was cut off in the middle of being written says nothing of which steps are held: all may be.
        let head = read_head(&file).unwrap_or_else(|| NoteHead {
            note: 1,
            state: NoteState::Held,
            app: app.to_owned(),
            run: "unknown".to_owned(),
            token: String::new(),
            pid: 0,
            boot: String::new(),
            account: String::new(),
            entered: (0..steps.len()).collect(),
            began: None,
            limit_ms: 0,
            by_hand: false,
            why: None,
            started: 0,
            began_up_ms: None,
            running: None,
            is_handed_over: false,
            heeded: 0,
        });
        if head.state.is_over() || head.entered.is_empty() {
            return Ok(FoundNote::Nothing);
        }
        Ok(FoundNote::Forgotten(Box::new(Self { path, file, head }), steps))
    }

    /// Waits until no living process owns the note of an application, `most` at the most; whether that is so.
    pub fn await_owner_gone(folder: &Path, app: &str, most: Duration, clock: &dyn Clock) -> bool {
        let began = clock.uptime();
        while matches!(Self::look(folder, app), Ok(FoundNote::Alive(_))) {
            if clock.uptime().saturating_sub(began) > most {
                return false;
            }
            clock.sleep(Duration::from_millis(5));
        }
        true
    }

    /// Makes the note of a new hold and takes its lock.
    ///
    /// # Errors
    /// [`NoteError::Held`] or [`NoteError::Forgotten`] when the application is held, or may be.
    pub fn create(folder: &Path, head: NoteHead, steps: &[HoldStep]) -> Result<Self, NoteError> {
        let _making = lock_for_making(folder, &head.app)?;
        match Self::look(folder, &head.app)? {
            FoundNote::Alive(Some(other)) => return Err(NoteError::Held(other)),
            FoundNote::Alive(None) => return Err(NoteError::InUse),
            FoundNote::Forgotten(note, _) => return Err(NoteError::Forgotten(Box::new(note.head.clone()))),
            FoundNote::Nothing => {}
        }
        let path = path_of(folder, &head.app);
        let temporary = folder.join(format!("{}.{}.new", head.app, head.token));
        let mut options = OpenOptions::new();
        let mut file = options.read(true).write(true).create_new(true).mode(0o600).open(&temporary).at(&temporary)?;
        lock(&file, &temporary)?;
        let mut note = Self { path: path.clone(), file: file.try_clone().at(&temporary)?, head };
        let body = serde_json::to_vec(steps).map_err(io::Error::from).at(&temporary)?;
        file.write_all(&note.head_bytes()).and_then(|()| file.write_all(&body)).at(&temporary)?;
        file.sync_all().at(&temporary)?;
        fs::rename(&temporary, &path).at(&path)?;
        File::open(folder).and_then(|folder| folder.sync_all()).at(folder)?;
        note.own();
        note.write()?;
        Ok(note)
    }

    /// Names this process as the one that the note belongs to.
    fn own(&mut self) {
        self.head.pid = std::process::id();
        self.head.started = Process::own().started;
        let boot = boot_id();
        if self.head.boot != boot {
            // An uptime of another boot means nothing in this one.
            self.head.began_up_ms = None;
            self.head.boot = boot;
        }
    }

    /// Takes a note over that was found without an owner: whoever signals its owner from now on must not signal somebody else.
    pub fn adopt(&mut self) {
        self.own();
        self.head.is_handed_over = false;
        self.head.running = None;
        // Releasing needs no write.
        let _ = self.write();
    }

    /// Notes which command is running. It is not synced: what it is for ends with the boot.
    pub(super) fn running(&mut self, running: Option<RunningCommand>) {
        self.head.running = running;
        self.write_unsynced();
    }

    /// Lets others take the note over, and keeps it open.
    pub(super) fn unlock(&mut self) {
        self.head.is_handed_over = true;
        self.write_unsynced();
        let _ = rustix::fs::flock(&self.file, FlockOperation::Unlock);
    }

    /// Takes the lock again that was let go for somebody; whether nobody else has it.
    pub(super) fn lock_again(&mut self) -> bool {
        let is_locked = lock(&self.file, &self.path).unwrap_or(false);
        if is_locked && !self.is_taken_over() {
            self.head.is_handed_over = false;
            self.write_unsynced();
        }
        is_locked
    }

    /// Whether another process has written that the hold is its own, or is closed.
    pub(super) fn is_taken_over(&self) -> bool {
        read_head(&self.file).is_some_and(|head| head.token != self.head.token || head.state.is_over())
    }

    /// The head as it is.
    pub fn head(&self) -> &NoteHead {
        &self.head
    }

    /// The head in its fixed size. What does not fit is the texts, which are shortened; half of a head would mean nothing.
    fn head_bytes(&self) -> Vec<u8> {
        let mut head = self.head.clone();
        let mut most = HEAD;
        loop {
            let mut bytes = serde_json::to_vec(&head).unwrap_or_default();
            if bytes.len() < HEAD {
                bytes.resize(HEAD - 1, b' ');
                bytes.push(b'\n');
                return bytes;
            }
            most /= 2;
            head.why = head.why.map(|why| shortened(&why, most));
            head.account = shortened(&head.account, most.max(32));
            if most == 0 {
                // Unreadable means held, which is what it must mean then.
                return vec![b' '; HEAD];
            }
        }
    }

    /// Writes what is of no use after this boot, and may fail.
    fn write_unsynced(&self) {
        let _ = self.file.write_all_at(&self.head_bytes(), 0);
    }

    fn write(&self) -> Result<(), NoteError> {
        self.file.write_all_at(&self.head_bytes(), 0).at(&self.path)?;
        Ok(self.file.sync_data().at(&self.path)?)
    }

    /// Notes that a step is about to be entered. Nothing may be entered when this fails.
    ///
    /// # Errors
    /// When it cannot be written and synced.
    pub fn entering(&mut self, step: usize, at: Timestamp, uptime: Duration) -> Result<(), NoteError> {
        self.head.state = self.head.state.max(NoteState::Held);
        self.head.began.get_or_insert(at);
        self.head.began_up_ms.get_or_insert_with(|| millis(uptime));
        if !self.head.entered.contains(&step) {
            self.head.entered.push(step);
        }
        self.write()
    }

    /// Notes how far leaving is: the steps that are still held, and why it is left.
    ///
    /// # Errors
    /// When it cannot be written; leaving goes on all the same.
    pub fn leaving(&mut self, entered: &[usize], why: Option<String>) -> Result<(), NoteError> {
        self.head.entered = entered.to_vec();
        let state = if entered.is_empty() { NoteState::Left } else { NoteState::Leaving };
        self.head.state = self.head.state.max(state);
        self.head.why = why.or(self.head.why.take());
        self.write()
    }

    /// The same at the end of a try to leave, which heeded so many requests to release.
    ///
    /// # Errors
    /// When it cannot be written; leaving goes on all the same.
    pub fn left_as_told(&mut self, entered: &[usize], why: String, heeded: u32) -> Result<(), NoteError> {
        self.head.heeded = self.head.heeded.max(heeded);
        self.leaving(entered, Some(why))
    }

    /// Closes the note because a person says that nothing is held.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn declare(&mut self, why: String) -> Result<(), NoteError> {
        self.head.state = NoteState::Declared;
        self.head.entered.clear();
        self.head.why = Some(why);
        self.write()
    }

    /// Takes over a hold by hand whose guard has let go of the note.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn take_over(mut self, run: &str, token: &str, limit_ms: u64) -> Result<Self, NoteError> {
        self.head.run = run.to_owned();
        self.head.token = token.to_owned();
        self.head.limit_ms = limit_ms;
        self.head.by_hand = false;
        self.head.is_handed_over = false;
        self.own();
        self.write()?;
        Ok(self)
    }

    /// Whether another note is at this one's place, or this one was closed by somebody else. One that is gone is neither.
    pub fn is_superseded(&self) -> bool {
        let Ok(mine) = self.file.metadata() else { return false };
        let other = fs::metadata(&self.path).is_ok_and(|there| (mine.dev(), mine.ino()) != (there.dev(), there.ino()));
        other || self.is_taken_over()
    }

    /// Sets a note aside that cannot be read, because a person says that nothing is held.
    ///
    /// # Errors
    /// When it is in use, or cannot be renamed.
    pub fn set_aside(folder: &Path, app: &str, at: Timestamp) -> Result<PathBuf, NoteError> {
        let path = path_of(folder, app);
        let file = OpenOptions::new().read(true).write(true).open(&path).at(&path)?;
        if !lock_found(&file, &path)? {
            return Err(NoteError::InUse);
        }
        let aside = folder.join(format!("{app}.damaged-{}", at.as_second()));
        fs::rename(&path, &aside).at(&path)?;
        Ok(aside)
    }

    /// Looks at an application's note and leaves it as it is, and to whom it belongs.
    pub fn status(folder: &Path, app: &str) -> NoteStatus {
        let file = match File::open(path_of(folder, app)) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return NoteStatus::Nothing,
            Err(_) => return NoteStatus::Unreadable,
        };
        let Some(head) = read_head(&file) else { return NoteStatus::Unreadable };
        if head.state.is_over() {
            return NoteStatus::Over(head);
        }
        // A shared lock, so that several may look at once; who is about to own the note tries again.
        match rustix::fs::flock(&file, FlockOperation::NonBlockingLockShared) {
            Ok(()) if head.entered.is_empty() => NoteStatus::Nothing,
            Ok(()) => NoteStatus::Forgotten(head),
            Err(_) => NoteStatus::Owned(head),
        }
    }

    /// Reads the head of an application's note without owning it.
    pub fn peek(folder: &Path, app: &str) -> Option<NoteHead> {
        read_head(&File::open(path_of(folder, app)).ok()?)
    }

    /// The applications that have a note.
    pub fn all(folder: &Path) -> Vec<String> {
        let entries = fs::read_dir(folder).into_iter().flatten().flatten();
        let names = entries.filter_map(|entry| Some(entry.file_name().to_str()?.strip_suffix(".note")?.to_owned()));
        let mut names: Vec<String> = names.collect();
        names.sort();
        names
    }
}

impl NoteHead {
    /// The head of a hold that is about to begin.
    pub fn new(order: &super::Order) -> Self {
        Self {
            note: 1,
            state: NoteState::Preparing,
            app: order.app.clone(),
            run: order.run.clone(),
            token: order.token.clone(),
            pid: std::process::id(),
            boot: boot_id(),
            account: order.host.account.clone(),
            entered: Vec::new(),
            began: None,
            limit_ms: order.limit_ms,
            by_hand: order.by_hand,
            why: None,
            started: Process::own().started,
            began_up_ms: None,
            running: None,
            is_handed_over: false,
            heeded: 0,
        }
    }
}

#[cfg(test)]
mod tests;
