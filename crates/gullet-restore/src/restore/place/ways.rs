//! The ways back of exports: by commands, by a server's own client, by a person.

use std::fs;
use std::path::{Path, PathBuf};

use super::apply::{Apply, Failure};
use super::plan::{PlacePart, RestoreMethod};
use gullet_capture::engines::{self, Importer};
use gullet_host::hook::{Call, Cancellation, Limits};
use gullet_host::state::file_name;
use gullet_model::Reason;
use gullet_model::definition::{Reads, Running};

impl Apply<'_, '_> {
    pub(super) fn ways_back(&mut self, is_stopped: bool) -> Result<(), Failure> {
        let plan = self.plan;
        for part in plan.in_order() {
            match &part.way {
                RestoreMethod::Command { stopped, .. } if *stopped == is_stopped => self.way_back(part)?,
                // A server that is stopped with the application takes it when it is started.
                RestoreMethod::Import { .. } => {
                    let is_done = self.imported.iter().any(|(name, _)| *name == part.part);
                    let answers =
                        || matches!(self.importer(&part.part), Some(Ok(server)) if server.answers(&self.runner));
                    if !is_done && (!is_stopped || answers()) {
                        self.import(part)?;
                    }
                }
                RestoreMethod::ByHand if is_stopped => {
                    let folder = self.journal.exports(&self.top()).join(file_name(&part.part));
                    self.report.by_hand.push((part.part.clone(), folder));
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Notes that a part is brought back, before it is: a restore that is cut off does not take it back.
    fn note_called(&mut self, part: &PlacePart) -> Result<(), Failure> {
        self.journal.called.push(part.part.clone());
        Ok(self.journal.save(&self.top())?)
    }

    /// Brings exported databases into their server.
    fn import(&mut self, part: &PlacePart) -> Result<(), Failure> {
        let began = self.now();
        let folder = self.journal.exports(&self.top()).join(file_name(&part.part));
        let what = format!("bring back {}", part.part);
        (self.with.tick)(&what);
        self.note_called(part)?;
        let mut made = Vec::new();
        let result = match self.importer(&part.part) {
            Some(Ok(server)) => server.bring(&folder, &self.runner, &mut made),
            Some(Err(why)) => Err(why),
            None => Err(Reason::new("the definition does not name its server any more")),
        };
        self.imported.push((part.part.clone(), made));
        self.step(&what, began, result.clone().map(|()| String::new()));
        result.map_err(|why| Failure::Before(format!("{} could not be brought back: {why}", part.part)))
    }

    fn importer(&self, part: &str) -> Option<Result<Box<dyn Importer>, Reason>> {
        let capture = self.with.logged.record.capture(part)?;
        engines::of(capture.kind, Some(capture.defined_in(&self.plan.spec)?))?.importer(&self.runner)
    }

    /// Removes the databases that were brought in.
    pub(super) fn take_imports_back(&mut self) {
        for (part, made) in std::mem::take(&mut self.imported) {
            if made.is_empty() {
                continue;
            }
            let removed = match self.importer(&part) {
                Some(Ok(server)) => server.take_back(&made, &self.runner),
                Some(Err(why)) => Err(why),
                None => Ok(()),
            };
            let text = match removed {
                Ok(()) => {
                    self.journal.called.retain(|called| *called != part);
                    format!("{part}: what was brought into the server was removed again: {}", made.join(", "))
                }
                Err(why) => {
                    format!("{part}: what was brought into the server is still there ({}): {why}", made.join(", "))
                }
            };
            self.report.warnings.push(text);
        }
    }

    fn way_back(&mut self, part: &PlacePart) -> Result<(), Failure> {
        let Some(back) = &part.back else { return Ok(()) };
        let began = self.now();
        let folder = self.journal.exports(&self.top()).join(file_name(&part.part));
        let what = format!("bring back {}", part.part);
        let stdin = match back.reads {
            Some(Reads::Stdin) => match only_file(&folder) {
                Ok(file) => Some(file),
                Err(why) => {
                    self.step(&what, began, Err(why.clone()));
                    return Err(Failure::Before(format!("{}: {why}", part.part)));
                }
            },
            Some(Reads::Folder) | None => None,
        };
        self.note_called(part)?;
        (self.with.tick)(&what);
        let capture = self.with.logged.record.capture(&part.part);
        let mut values = capture.map(|capture| capture.each.clone()).unwrap_or_default();
        values.insert("folder".to_owned(), folder.display().to_string());
        let moment = if back.when == Some(Running::Started) { "restored" } else { "restore" };
        let call = Call {
            values,
            moment,
            limit: Limits::EXPORT,
            stdin,
            dir: Some(folder.clone()),
            scratch: Some(folder),
            notes: true,
            patience: Cancellation { stop: Some(self.with.world.stop), ..Cancellation::default() },
            ..Call::default()
        };
        let outcome = self.runner.run(&back.command, call);
        self.report.warnings.extend(outcome.notes.warnings.iter().map(|text| format!("{}: {text}", part.part)));
        self.step(&what, began, outcome.result.clone().map(|()| String::new()));
        outcome.result.map_err(|why| Failure::Before(format!("{} could not be brought back: {why}", part.part)))
    }
}

/// The one file in the folder of a capture.
fn only_file(folder: &Path) -> Result<PathBuf, Reason> {
    let mut files: Vec<PathBuf> =
        fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
    match (files.pop(), files.is_empty()) {
        (Some(file), true) if file.is_file() => Ok(file),
        _ => Err(Reason::new("it does not consist of one file, so there is none to read on standard input")),
    }
}
