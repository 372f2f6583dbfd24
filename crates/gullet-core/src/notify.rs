//! Who is told of what, so that nothing is lost and nothing is knowingly told twice.
//!
//! What ended leaves a notice in the state folder ([`gullet_model::notice`]). [`queue_notices`] makes of it one message for everybody
//! whom the definition names, each a file; [`send_waiting`] sends those that are due, and tries again with growing pauses what could
//! not be sent. Both need the lock of the state folder, so that one process alone does it.

mod message;
mod report;
#[cfg(test)]
mod tests;

use std::collections::BTreeSet;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use gullet_host::state::{State, StateError, write_whole};
use gullet_model::definition::{Definition, NotifyOn, NotifySpec};
use gullet_model::record::stem_time;
use gullet_store::{IoPath, PathError};
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

pub use message::{Content, DefinitionFlaws, Message};
pub use report::{Report, ReportedApp, ReportedRun};

/// The pause after the first try; each is twice as long as the one before.
const FIRST_PAUSE: SignedDuration = SignedDuration::from_mins(1);
/// The longest pause between two tries.
const LONGEST_PAUSE: SignedDuration = SignedDuration::from_hours(1);
/// What there is to tell of an application that the definition does not have is kept for so long.
const FORGOTTEN_AFTER: SignedDuration = SignedDuration::from_hours(30 * 24);
/// The file of what was sent is cut to half of this, in bytes.
const SENT_AT_MOST: u64 = 1 << 20;

/// Why a message was not sent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NotSent {
    /// Why, in words.
    pub why: String,
    /// Whether it is certain that the other side does not have it.
    pub is_certain: bool,
}

impl NotSent {
    /// The other side certainly does not have it.
    pub fn certainly(why: impl Into<String>) -> Self {
        Self { why: why.into(), is_certain: true }
    }
}

/// Takes a message to somebody.
pub trait Courier {
    /// Sends a message, and gives the addresses that were refused. `commit` is called at the last moment before the other side may
    /// have it, and not later.
    ///
    /// # Errors
    /// When nobody is known to have it.
    fn send(
        &mut self,
        spec: &NotifySpec,
        message: &Message,
        commit: &mut dyn FnMut() -> io::Result<()>,
    ) -> Result<Vec<String>, NotSent>;
}

/// What became of a message.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Sent {
    /// The id of the message.
    pub id: String,
    /// The name of the `notify` table that took it.
    pub to: String,
    /// When it was sent.
    pub at: Timestamp,
    /// How often it was tried.
    pub tries: u32,
    /// Addresses that were refused, with the words of the server.
    pub refused: Vec<String>,
}

/// The messages of a state folder.
pub struct Outbox {
    folder: PathBuf,
    sent: PathBuf,
    _lock: File,
}

impl Outbox {
    /// Opens the messages of a state folder; `None` while another process has them.
    ///
    /// # Errors
    /// When the state folder cannot be used.
    pub fn open(state: &State) -> Result<Option<Self>, StateError> {
        let Some(lock) = state.lock_notify()? else { return Ok(None) };
        Ok(Some(Self { folder: state.message_folder()?, sent: state.sent_file()?, _lock: lock }))
    }

    fn note_sent(&self, sent: &Sent) -> Result<(), PathError> {
        let text = fs::read_to_string(&self.sent).unwrap_or_default();
        if text.len() as u64 > SENT_AT_MOST {
            let half = text.len() / 2;
            let kept =
                text.as_bytes()[half..].iter().position(|byte| *byte == b'\n').map_or("", |at| &text[half + at + 1..]);
            write_whole(&self.sent, kept.as_bytes())?;
        }
        let mut file = OpenOptions::new().append(true).create(true).mode(0o600).open(&self.sent).at(&self.sent)?;
        let line = serde_json::to_string(sent).unwrap_or_default();
        file.write_all(format!("{line}\n").as_bytes()).and_then(|()| file.sync_data()).at(&self.sent)
    }

    fn remove(&self, message: &Message) -> Result<(), PathError> {
        let path = path_in(&self.folder, message);
        fs::remove_file(&path).at(&path)?;
        sync(&self.folder)
    }

    /// Forgets messages: those of this id, or to this name.
    ///
    /// # Errors
    /// When one cannot be removed.
    pub fn forget(&self, which: &str) -> Result<Vec<Message>, PathError> {
        let mut forgotten = Vec::new();
        for message in waiting_in(&self.folder) {
            if message.id == which || message.to == which {
                self.remove(&message)?;
                forgotten.push(message);
            }
        }
        Ok(forgotten)
    }
}

/// What a message about something at a moment is known by.
pub fn id_at(what: &str, at: Timestamp) -> String {
    format!("{what}-{}", stem_time(at))
}

/// Puts a message in, for everybody of `to`; one that is there already stays as it is. It needs no lock.
///
/// # Errors
/// When it cannot be written.
pub fn put<'a>(
    state: &State,
    id: &str,
    to: impl IntoIterator<Item = &'a str>,
    content: &Content,
    now: Timestamp,
) -> Result<(), StateError> {
    let folder = state.message_folder()?;
    for to in to {
        let message = Message::new(id, to, content.clone(), now);
        if !path_in(&folder, &message).exists() {
            write_in(&folder, &message)?;
        }
    }
    Ok(())
}

/// Whether a message was put in or sent already.
pub fn knows(state: &State, id: &str) -> bool {
    let sent = state.sent_file().and_then(|path| Ok(fs::read_to_string(&path).at(&path)?)).unwrap_or_default();
    let is_sent = |line: &str| serde_json::from_str::<serde_json::Value>(line).is_ok_and(|sent| sent["id"] == id);
    waiting(state).iter().any(|message| message.id == id) || sent.lines().any(is_sent)
}

fn path_in(folder: &Path, message: &Message) -> PathBuf {
    folder.join(format!("{}--{}.json", message.id, message.to))
}

fn write_in(folder: &Path, message: &Message) -> Result<(), PathError> {
    write_whole(&path_in(folder, message), &serde_json::to_vec(message).unwrap_or_default())?;
    sync(folder)
}

fn sync(folder: &Path) -> Result<(), PathError> {
    File::open(folder).and_then(|folder| folder.sync_all()).at(folder)
}

/// The messages of a state folder that wait, the oldest first. Nothing is changed, and no lock is needed.
pub fn waiting(state: &State) -> Vec<Message> {
    state.message_folder().map(|folder| waiting_in(&folder)).unwrap_or_default()
}

fn waiting_in(folder: &Path) -> Vec<Message> {
    let paths = fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
    let files = paths.filter(|path| path.extension().is_some_and(|extension| extension == "json"));
    let mut found: Vec<Message> = files.filter_map(|path| serde_json::from_slice(&fs::read(path).ok()?).ok()).collect();
    found.sort_by(|a, b| (a.queued, &a.id, &a.to).cmp(&(b.queued, &b.id, &b.to)));
    found
}

/// Makes messages of what there is to tell.
///
/// # Errors
/// When one cannot be kept; what there is to tell stays then.
pub fn queue_notices(
    _outbox: &Outbox,
    state: &State,
    definition: &Definition,
    now: Timestamp,
) -> Result<(), StateError> {
    for (path, notice) in state.notices() {
        // An application that is left out for an error is told of when the definition says again to whom.
        let Some(app) = definition.app.get(&notice.app) else {
            if now.duration_since(notice.ended) > FORGOTTEN_AFTER {
                fs::remove_file(&path).at(&path)?;
            }
            continue;
        };
        let rules = app.notify.as_slice();
        let what = NotifyOn::from(notice.outcome);
        let to: BTreeSet<&str> = rules.iter().filter(|rule| rule.wants(what)).map(|rule| rule.to.as_str()).collect();
        put(state, &notice.run.clone(), to, &Content::Run(notice), now)?;
        // The messages are there; who dies before this line puts the same ones in again, and none was sent meanwhile.
        fs::remove_file(&path).at(&path)?;
    }
    Ok(())
}

/// Everybody who is to be told of something: of an application, or of any where none is named.
pub fn told_of<'a>(definition: &'a Definition, app: Option<&str>, what: NotifyOn) -> BTreeSet<&'a str> {
    let apps = definition.app.iter().filter(|(name, _)| app.is_none_or(|app| app == *name));
    let rules = apps.flat_map(|(_, app)| &app.notify).filter(|rule| rule.wants(what));
    rules.map(|rule| rule.to.as_str()).collect()
}

/// Sends what waits and is due, and gives what was sent. `all` sends also what would wait longer.
///
/// Where somebody cannot be reached, their other messages wait, so that none of them is waited for in vain.
///
/// # Errors
/// When the state of a message cannot be kept.
pub fn send_waiting(
    outbox: &Outbox,
    definition: &Definition,
    (now, all): (&dyn Fn() -> Timestamp, bool),
    courier: &mut dyn Courier,
) -> Result<Vec<Sent>, PathError> {
    let mut sent = Vec::new();
    let mut unreachable: BTreeSet<String> = BTreeSet::new();
    for mut message in waiting_in(&outbox.folder) {
        if !(all || message.is_due(now())) || unreachable.contains(&message.to) {
            continue;
        }
        // Whoever was about to send it before is dead, for it had the lock.
        message.may_be_sent |= std::mem::take(&mut message.is_being_sent);
        message.tries += 1;
        message.tried = Some(now());
        let result = match definition.notify.get(&message.to) {
            Some(spec) => {
                let mut about_to = message.clone();
                about_to.is_being_sent = true;
                let mut commit = || write_in(&outbox.folder, &about_to).map_err(io::Error::other);
                courier.send(spec, &message, &mut commit)
            }
            None => Err(NotSent::certainly(format!("the definition has no `[notify.{}]`", message.to))),
        };
        match result {
            Ok(refused) => {
                let (id, to, tries) = (message.id.clone(), message.to.clone(), message.tries);
                let one = Sent { id, to, at: now(), tries, refused };
                outbox.note_sent(&one)?;
                outbox.remove(&message)?;
                sent.push(one);
            }
            Err(failed) => {
                let pause = FIRST_PAUSE * 2_i32.saturating_pow(message.tries.saturating_sub(1).min(10));
                message.next = now().checked_add(pause.min(LONGEST_PAUSE)).ok();
                message.problem = Some(failed.why);
                unreachable.insert(message.to.clone());
                message.may_be_sent |= !failed.is_certain;
                write_in(&outbox.folder, &message)?;
            }
        }
    }
    Ok(sent)
}
