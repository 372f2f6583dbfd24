//! Two plans compared: of applications, of runs, or kept in files.

use std::fs;
use std::path::Path;

use anstream::adapter::strip_str;
use gullet_capture::plan::{Plan, PlannedCopy, Request};
use gullet_model::definition::Loaded;
use gullet_restore::compare::changed_lines;

use super::runner;
use crate::args::{Global, ReadingArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::reading::{Reading, must_open};
use crate::render::plan::full_plan;
use crate::text::{harmless, time};
use crate::ui::{BAD, BOLD, DIM, GOOD, Ui, styled};

/// Lines that are the same around those that differ.
const AROUND: usize = 2;

/// One of the two: what it is, and its text.
struct Side {
    what: String,
    text: String,
}

impl Side {
    fn of(what: String, plan: &Plan) -> Self {
        Self { what, text: format!("{}\n", strip_str(&full_plan(plan))) }
    }
}

/// Compares two plans line by line.
pub fn compare(
    ui: &mut Ui,
    global: &Global,
    (one, parts): (&str, &[String]),
    (other, other_parts): (&str, &[String]),
) -> Result<Exit, CommandError> {
    let loaded = open::definition(global)?;
    let first = side(ui, global, &loaded, one, parts)?;
    let second = side(ui, global, &loaded, other, other_parts)?;
    let lines = changed_lines(&first.text, &second.text, AROUND);
    if ui.is_json() {
        ui.json(&serde_json::json!({ "first": first.what, "second": second.what, "lines": lines }))?;
        return Ok(Exit::Complete);
    }
    ui.say(format!("{}: {} and {}", styled(BOLD, "two plans"), harmless(&first.what), harmless(&second.what)));
    if lines.is_empty() {
        ui.say("they are the same");
    }
    for line in lines {
        let style = match line.as_bytes().first() {
            Some(b'-') => BAD,
            Some(b'+') => GOOD,
            _ => DIM,
        };
        ui.say(format!("  {}", styled(style, harmless(&line))));
    }
    Ok(Exit::Complete)
}

/// A plan by what names it: an application of the definition, a file, or a run.
fn side(ui: &mut Ui, global: &Global, loaded: &Loaded, text: &str, parts: &[String]) -> Result<Side, CommandError> {
    let outside = RealWorld::new();
    let only = if parts.is_empty() { String::new() } else { format!(" (only {})", parts.join(", ")) };
    if loaded.definition.app.contains_key(text) {
        let request = Request { app: text.to_owned(), only: parts.to_vec(), ..Request::default() };
        let plan = Plan::make(loaded, request, open::state_folder(loaded), &runner(&outside, text), None)?;
        return Ok(Side::of(format!("{text} as it is defined{only}"), &plan));
    }
    if text.contains('/') || Path::new(text).is_file() {
        must_be_whole(parts, text)?;
        let kept = fs::read_to_string(text).map_err(|error| {
            let error = CommandError::text(Exit::Usage, format!("{text} cannot be read as a plan: {error}"));
            error.hint("gullet plan APP --full > FILE keeps one")
        })?;
        return Ok(Side { what: text.to_owned(), text: kept });
    }
    must_be_whole(parts, text)?;
    let reading = Reading::open(global, &ReadingArgs::default(), None, ui)?;
    let (store, logged) = reading.find(ui, text)?;
    must_open(store, &logged)?;
    let record = &logged.record;
    let copies = PlannedCopy::all(&loaded.definition, &record.app);
    let plan = Plan::of_record(record, (store.location().describe().into(), copies), open::state_folder(loaded));
    let plan = plan.map_err(|error| {
        let text = format!("the definition in the record of run {} cannot be read: {error}", record.run);
        CommandError::text(Exit::Failed, text)
    })?;
    // A record names its store by the id alone; here it was found in a store of the definition.
    let place = store.location().describe();
    let name = loaded.definition.store.iter().find(|(_, spec)| Path::new(&spec.location) == Path::new(&place));
    let plan = Plan { store_name: name.map(|(name, _)| name.clone()).unwrap_or_default(), ..plan };
    Ok(Side::of(format!("{} as run {} did it ({})", record.app, record.run, time(record.started)), &plan))
}

/// Only what is planned now can be narrowed to some parts.
fn must_be_whole(parts: &[String], text: &str) -> Result<(), CommandError> {
    if parts.is_empty() {
        return Ok(());
    }
    Err(CommandError::text(
        Exit::Usage,
        format!("`{text}` is no application of the definition: it has the parts it has"),
    ))
}
