//! `gullet key`.

use std::fs::OpenOptions;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use gullet_logbook::logbook::Logbook;
use gullet_store::{OpenPayload, Store, StoreError, new_identity};
use jiff::Timestamp;
use serde::Serialize;

use crate::args::{Global, OpeningArgs, ReadingArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::reading::Reading;
use crate::table::{lined_table, table};
use crate::text::{count, harmless, time};
use crate::ui::{BAD, GOOD, Ui, styled};

/// Make keys that stores are encrypted to, and try them
#[derive(Subcommand)]
pub enum KeyCommand {
    New(NewKeyArgs),
    Show(ShowKeyArgs),
    Test(TestArgs),
}

/// Make a pair of keys
///
/// The identity, the secret half, is written to a file; the public key is printed. The machine that captures needs the public
/// key only, as `encrypt_to` of its store.
///
/// Example: gullet key new /media/safe/depot.key
#[derive(Args)]
pub struct NewKeyArgs {
    /// The file to make; one that is there is never overwritten
    file: PathBuf,
    /// Protect the file with a passphrase
    #[arg(long)]
    passphrase: bool,
    /// Take the passphrase from the first line of this file instead of asking at the terminal
    #[arg(long, value_name = "FILE", requires = "passphrase")]
    passphrase_from: Option<PathBuf>,
}

/// Show public keys
///
/// Of identity files, or else those that the definition's stores are encrypted to.
///
/// Example: gullet key show /media/safe/depot.key
#[derive(Args)]
pub struct ShowKeyArgs {
    /// Identity files
    #[arg(value_name = "FILE")]
    files: Vec<PathBuf>,
    /// Take the passphrase from the first line of this file instead of asking at the terminal
    #[arg(long, value_name = "FILE")]
    passphrase_from: Option<PathBuf>,
}

/// Try which runs an identity opens
///
/// The encrypted part of every record is opened, and the payload that the run stands on. What this machine keeps in clear is not
/// used.
///
/// Example: gullet key test --store /srv/depot --identity /media/safe/depot.key
#[derive(Args)]
pub struct TestArgs {
    /// Only runs of this application
    app: Option<String>,
    #[command(flatten)]
    reading: ReadingArgs,
}

pub fn key(ui: &mut Ui, global: &Global, command: &KeyCommand) -> Result<Exit, CommandError> {
    match command {
        KeyCommand::New(args) => new(ui, args),
        KeyCommand::Show(args) => show(ui, global, args),
        KeyCommand::Test(args) => test(ui, global, args),
    }
}

fn new(ui: &mut Ui, args: &NewKeyArgs) -> Result<Exit, CommandError> {
    let shown = args.file.display();
    if args.file.exists() {
        let error = CommandError::text(Exit::Refused, format!("`{shown}` is there already, and is not overwritten"));
        return Err(error.hint("an identity that is lost cannot be made again; choose another name"));
    }
    let passphrase = if args.passphrase { Some(new_passphrase(args)?) } else { None };
    let is_protected = passphrase.is_some();
    let (bytes, public) = new_identity(&Timestamp::now().to_string(), passphrase)?;
    let written = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&args.file).and_then(|mut file| {
        file.write_all(&bytes)?;
        file.sync_all()
    });
    if let Err(error) = written {
        let _ = std::fs::remove_file(&args.file);
        return Err(CommandError::text(Exit::Failed, format!("`{shown}` cannot be written: {error}")));
    }
    if ui.is_json() {
        ui.json(&serde_json::json!({ "file": args.file, "public": public, "passphrase": is_protected }))?;
        return Ok(Exit::Complete);
    }
    ui.say(format!("{} the private key file {}", styled(GOOD, "✓ made"), harmless(&shown.to_string())));
    ui.tell("What is stored is encrypted to it by this line of the store in the definition, before the store is made:");
    ui.say(format!("    encrypt_to = [\"{public}\"]"));
    ui.tell("");
    ui.tell(
        "What is encrypted to this key opens with this file and with nothing else: if all copies of it are lost, so is",
    );
    ui.tell(
        "everything that was encrypted to it. Keep two copies in two places, and try one now and then: gullet key test.",
    );
    if !is_protected {
        ui.tell("The file is not protected by a passphrase: who has it can read everything.");
    }
    let folder = std::path::absolute(&args.file)?.parent().map(Path::to_path_buf).unwrap_or_default();
    ui.warning(&format!(
        "if this is the machine that captures, move the file off it: while it lies in {}, a thief of the machine has both \
         the lock and the key, and a fire takes both",
        harmless(&folder.display().to_string())
    ));
    Ok(Exit::Complete)
}

fn new_passphrase(args: &NewKeyArgs) -> Result<String, CommandError> {
    let none = || {
        CommandError::text(Exit::Usage, "there is no terminal to ask for a passphrase at")
            .hint("give it in a file: `--passphrase-from FILE`")
    };
    let first = open::passphrase("new passphrase: ", args.passphrase_from.as_deref()).ok_or_else(none)?;
    if first.is_empty() {
        return Err(CommandError::text(Exit::Usage, "an empty passphrase protects nothing"));
    }
    if args.passphrase_from.is_none() {
        let second = open::passphrase("once more: ", None).ok_or_else(none)?;
        if first != second {
            return Err(CommandError::text(Exit::Usage, "the two are not the same; nothing was made"));
        }
    }
    Ok(first)
}

fn show(ui: &mut Ui, global: &Global, args: &ShowKeyArgs) -> Result<Exit, CommandError> {
    let mut rows: Vec<(String, String)> = Vec::new();
    for file in &args.files {
        let one = OpeningArgs { identity: vec![file.clone()], passphrase_from: args.passphrase_from.clone() };
        let identities = open::identities(&one)?;
        rows.extend(identities.publics().into_iter().map(|public| (file.display().to_string(), public)));
    }
    if args.files.is_empty() {
        for (name, store) in &open::definition(global)?.definition.store {
            rows.extend(store.encrypt_to.iter().map(|key| (format!("store `{name}`"), key.clone())));
        }
    }
    if ui.is_json() {
        let keys: Vec<_> = rows.iter().map(|(of, public)| serde_json::json!({ "of": of, "public": public })).collect();
        ui.json(&keys)?;
    } else if rows.is_empty() {
        ui.say("no keys: nothing is encrypted");
    } else {
        let rows = rows.into_iter().map(|(of, public)| vec![harmless(&of), harmless(&public)]);
        ui.say(table(&["of", "public key"], rows.collect()));
    }
    Ok(Exit::Complete)
}

#[derive(Serialize)]
struct Tried {
    run: String,
    app: String,
    started: Timestamp,
    sealed_for: Vec<String>,
    opens: bool,
    why_not: Option<String>,
}

fn test(ui: &mut Ui, global: &Global, args: &TestArgs) -> Result<Exit, CommandError> {
    if args.reading.opening.identity.is_empty() {
        return Err(CommandError::text(Exit::Usage, "which identity? say `--identity FILE`"));
    }
    let reading = Reading::open(global, &args.reading, args.app.as_deref(), ui)?;
    let mut tried = Vec::new();
    for (store, _) in &reading.stores {
        // Without the state: what this machine keeps in clear proves nothing about a key.
        let book = Logbook::read(store, args.app.as_deref(), None)?;
        for logged in book.runs.iter().filter(|logged| !logged.is_thinned()) {
            let why_not = if logged.is_locked {
                Some("encrypted to other keys".to_owned())
            } else {
                payload(store, &logged.holdings()).err().map(|error| error.to_string())
            };
            tried.push(Tried {
                run: logged.record.run.to_string(),
                app: logged.record.app.clone(),
                started: logged.record.started,
                sealed_for: logged.keys.clone(),
                opens: why_not.is_none(),
                why_not,
            });
        }
        if let ([only], true) = (store.info().keys.as_slice(), reading.loaded.is_some())
            && store.identities().publics().contains(only)
        {
            ui.warning(
                "this is the only key of the store, and its identity can be read on the machine that captures: keep a copy \
                 elsewhere, and none here",
            );
        }
    }
    let opened = tried.iter().filter(|one| one.opens).count();
    if ui.is_json() {
        ui.json(&tried)?;
    } else {
        let rows = tried.iter().map(|one| {
            let word = if one.opens { styled(GOOD, "✓ opens") } else { styled(BAD, "✗ locked") };
            vec![one.run.clone(), one.app.clone(), time(one.started), word]
        });
        // Keys are long, and there may be many.
        let lines = tried.iter().map(|one| {
            let keys = one.sealed_for.iter().map(|key| format!("encrypted to {}", harmless(key)));
            let none = one.sealed_for.is_empty().then(|| "not encrypted".to_owned());
            let note = one.why_not.as_deref().filter(|_| !one.opens).map(harmless);
            keys.chain(none).chain(note).collect::<Vec<_>>()
        });
        let headings = ["run", "application", "began", "result"];
        ui.say(lined_table(&headings, rows.collect(), &lines.collect::<Vec<_>>()));
        ui.say(format!("{} of {} opened", opened, count(tried.len() as u64, "run")));
    }
    Ok(if opened == tried.len() { Exit::Complete } else { Exit::Failed })
}

/// Opens every payload file that a run stands on, and reads its table of contents.
fn payload(store: &Store, holdings: &gullet_store::Holdings) -> Result<(), StoreError> {
    let own = holdings.wrote.iter().map(|file| &file.name);
    for name in own.chain(holdings.needs.iter().map(|need| &need.name)) {
        OpenPayload::open(store.location().as_ref(), store.identities(), name)?.contents()?;
    }
    Ok(())
}
