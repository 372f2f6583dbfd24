//! `gullet notify`.

use clap::Args;
use gullet_core::notify::{Content, Message, Outbox, Sent, id_at, queue_notices, send_waiting, waiting};
use gullet_host::state::State;
use gullet_model::definition::Loaded;
use gullet_model::ids::random_id;
use jiff::Timestamp;

use super::morning;
use crate::args::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::post::{Post, as_json};
use crate::render::message::{subject, text};
use crate::table::table;
use crate::text::{count, harmless, minute, time};
use crate::ui::{GOOD, Ui, styled};

/// Send the messages that wait, and show those that could not be sent
///
/// What happened is told to those whom the definition names: after each run, and by `gullet due`. What could not be sent is tried
/// again with growing pauses, and at once by this command. Exits with 1 while a message waits.
///
/// Example: gullet notify --test office
#[derive(Args, Default)]
#[group(skip)]
pub struct NotifyArgs {
    /// Send a test message to these names of the definition, or to all
    #[arg(long, value_name = "NAME", num_args = 0.., conflicts_with_all = ["list", "forget"])]
    test: Option<Vec<String>>,
    /// Make this report of the definition now, and send it
    #[arg(long, value_name = "REPORT", conflicts_with_all = ["test", "list", "forget"])]
    report: Option<String>,
    /// Print the report instead of sending it
    #[arg(long, requires = "report")]
    preview: bool,
    /// Only show what waits
    #[arg(long, conflicts_with = "forget")]
    list: bool,
    /// Remove messages that wait: the one with this id, or all for this name (can be repeated)
    #[arg(long, value_name = "ID|NAME")]
    forget: Vec<String>,
}

impl NotifyArgs {
    /// Prints a report.
    pub fn preview_of(report: &str) -> Self {
        Self { report: Some(report.to_owned()), preview: true, ..Self::default() }
    }
}

pub fn notify(ui: &mut Ui, global: &Global, args: &NotifyArgs) -> Result<Exit, CommandError> {
    let loaded = open::sound_definition(ui, global, &[])?;
    let state = open::state(&loaded)?;
    let outside = RealWorld::new();
    if !args.forget.is_empty() {
        return forget(ui, &state, &args.forget);
    }
    if let Some(names) = &args.test {
        return test(ui, &loaded, &state, &outside, names);
    }
    if let Some(name) = &args.report {
        let now = outside.world().clock.now();
        if args.preview {
            morning::find(&loaded, name)?;
            let made = morning::make(&loaded, &state, &outside, name, now)?;
            let message = Message::new("preview", name, Content::Report(made), now);
            if ui.is_json() {
                ui.json(&as_json(&message))?;
            } else {
                ui.write(text(&message).as_bytes());
            }
            return Ok(Exit::Complete);
        }
        let id = id_at(&format!("report-{name}"), now);
        morning::send(&loaded, &state, &outside, name, &id)?;
    }
    if !args.list {
        crate::forgotten::settle(ui, &loaded, &state, &outside);
        for sent in send(&loaded, &state, &outside, true)?.unwrap_or_default() {
            tell(ui, &sent);
        }
    }
    let waiting = waiting(&state);
    if ui.is_json() {
        ui.json(&waiting)?;
    } else {
        show(ui, &waiting);
    }
    Ok(if waiting.is_empty() { Exit::Complete } else { Exit::Failed })
}

/// Sends what waits, and gives what was sent; `None` while another process does it.
pub fn send(loaded: &Loaded, state: &State, outside: &RealWorld, all: bool) -> Result<Option<Vec<Sent>>, CommandError> {
    let Some(outbox) = Outbox::open(state)? else { return Ok(None) };
    let world = outside.world();
    let fail = |error: &dyn std::error::Error| CommandError::new(Exit::Failed, error);
    queue_notices(&outbox, state, &loaded.definition, world.clock.now()).map_err(|error| fail(&error))?;
    let mut post = Post { world, state: state.folder() };
    let now = || world.clock.now();
    let sent = send_waiting(&outbox, &loaded.definition, (&now, all), &mut post).map_err(|error| fail(&error))?;
    Ok(Some(sent))
}

/// Sends what waits, last of all that a command does; what goes wrong with it changes nothing of what was done.
pub fn send_after_work(ui: &mut Ui, loaded: &Loaded, state: &State, outside: &RealWorld) {
    match send(loaded, state, outside, false) {
        Ok(sent) => sent.into_iter().flatten().filter(|sent| !sent.refused.is_empty()).for_each(|sent| tell(ui, &sent)),
        Err(error) => ui.warning(&format!("messages could not be sent: {}", error.messages.join(": "))),
    }
    let failed: Vec<Message> = waiting(state).into_iter().filter(|message| message.problem.is_some()).collect();
    if let Some(message) = failed.first() {
        let number = count(failed.len() as u64, "message");
        let why = message.problem.clone().unwrap_or_default();
        ui.warning(&format!("{number} could not be sent, the first to `{}`: {}", message.to, harmless(&why)));
    }
}

fn tell(ui: &mut Ui, sent: &Sent) {
    ui.say(format!("{} {} to {}", styled(GOOD, "✓ sent:"), sent.id, sent.to));
    for refused in &sent.refused {
        ui.warning(&format!("`{}`: not to {}", sent.to, harmless(refused)));
    }
}

fn show(ui: &mut Ui, waiting: &[Message]) {
    if waiting.is_empty() {
        return ui.say("no message waits");
    }
    let rows = waiting.iter().map(|message| {
        let next = message.next.map_or_else(|| "at once".to_owned(), minute);
        vec![message.id.clone(), message.to.clone(), minute(message.queued), message.tries.to_string(), next]
    });
    ui.say(table(&["message", "to", "since", "tries", "next try"], rows.collect()));
    for message in waiting {
        let why = message.problem.as_deref().unwrap_or("it was not tried yet");
        ui.say(format!("  {}: {}: {}", message.id, harmless(&subject(message)), harmless(why)));
    }
}

fn forget(ui: &mut Ui, state: &State, which: &[String]) -> Result<Exit, CommandError> {
    let Some(outbox) = Outbox::open(state)? else {
        return Err(CommandError::text(Exit::Refused, "another process sends messages; try again in a moment"));
    };
    for which in which {
        let forgotten = outbox.forget(which).map_err(|error| CommandError::new(Exit::Failed, &error))?;
        if forgotten.is_empty() {
            return Err(CommandError::text(
                Exit::Usage,
                format!("no message waits with the id or for the name `{which}`"),
            ));
        }
        for message in forgotten {
            ui.say(format!("forgotten: {} to {}, of {}", message.id, message.to, time(message.queued)));
        }
    }
    Ok(Exit::Complete)
}

fn test(
    ui: &mut Ui,
    loaded: &Loaded,
    state: &State,
    outside: &RealWorld,
    names: &[String],
) -> Result<Exit, CommandError> {
    let known = &loaded.definition.notify;
    if let Some(name) = names.iter().find(|name| !known.contains_key(*name)) {
        let error = CommandError::text(Exit::Usage, format!("the definition has no `[notify.{name}]`"));
        let names: Vec<&str> = known.keys().map(String::as_str).collect();
        return Err(
            error.hint(format!("it has {}", if names.is_empty() { "none".to_owned() } else { names.join(", ") }))
        );
    }
    if known.is_empty() {
        return Err(CommandError::text(Exit::Usage, "the definition names nobody to tell")
            .hint("[notify.office]\nmail = { to = […], from = \"…\", server = \"smtps://…\" }"));
    }
    let world = outside.world();
    // What a command is told lies there for a moment.
    state.place(&["notify"])?;
    let mut post = Post { world, state: state.folder() };
    let mut exit = Exit::Complete;
    for (name, spec) in known.iter().filter(|(name, _)| names.is_empty() || names.contains(name)) {
        let id = format!("test-{}", random_id(world.random, 8));
        let content = Content::Test { host: world.host.name.clone() };
        let message = Message::new(&id, name, content, Timestamp::now());
        // Whoever tries it looks at the answer; there is nothing that must not be lost.
        match gullet_core::notify::Courier::send(&mut post, spec, &message, &mut || Ok(())) {
            Ok(refused) => {
                ui.say(format!("{} {name}", styled(GOOD, "✓ sent:")));
                for refused in refused {
                    ui.warning(&format!("`{name}`: not to {}", harmless(&refused)));
                    exit = exit.worse(Exit::Warnings);
                }
            }
            Err(failed) => {
                ui.error(&CommandError::text(Exit::Failed, format!("`{name}`: {}", harmless(&failed.why))));
                exit = exit.worse(Exit::Failed);
            }
        }
    }
    Ok(exit)
}
