//! An application with a web interface: its export is asked for, waited for and fetched.

use std::path::PathBuf;

use super::{KindStep, KindSteps, SourceKind, probed};
use crate::part::context::{CaptureContext, PartError};
use crate::part::produce;
use crate::part::staged::{OutputFile, Staged};
use crate::plan::PlannedPart;
use gullet_host::hook::{Call, Limits};
use gullet_model::definition::{CommandSpec, HttpExport, HttpSource, command_text};
use gullet_model::record::Capture;

impl SourceKind for HttpSource {
    fn describe(&self, _: &PlannedPart) -> String {
        command_text(&self.export.fetch)
    }

    fn steps(&self, _: &PlannedPart) -> KindSteps {
        let http = &self.export;
        let mut capture: Vec<KindStep> = Vec::new();
        capture.extend(http.ask.iter().map(|ask| KindStep::run("ask for it", ask, Limits::HOOK)));
        capture.extend(http.ready.iter().map(|ready| KindStep::ask("wait until it is ready", ready, Limits::SETTLED)));
        capture.push(KindStep::run("fetch it", &http.fetch, Limits::EXPORT));
        KindSteps { capture, ..KindSteps::default() }
    }

    fn commands(&self) -> Vec<CommandSpec> {
        let http = &self.export;
        http.ask.iter().chain([&http.fetch]).cloned().chain(probed(&http.ready)).collect()
    }

    fn capture(
        &self,
        part: &PlannedPart,
        capture: &mut Capture,
        context: &mut CaptureContext<'_, '_>,
    ) -> Result<Box<dyn Staged>, PartError> {
        let path = fetch(part, &self.export, capture, context)?;
        Ok(Box::new(OutputFile { path, output: self.output }))
    }
}

/// Fetches an export into a file of the run's private folder; gives the file. A download that breaks off is an error: nothing
/// is taken up again where it ended, because nothing says that it would be the same export.
fn fetch(
    part: &PlannedPart,
    http: &HttpExport,
    capture: &mut Capture,
    context: &mut CaptureContext<'_, '_>,
) -> Result<PathBuf, PartError> {
    let call = |limit| Call { limit, values: part.values.clone(), ..produce::call(part, context) };
    let (ask, ready, fetch) = (call(Limits::HOOK), call(Limits::PROBE), call(Limits::EXPORT));
    let mut values = part.values.clone();
    if let Some(spec) = &http.ask {
        let outcome = context.runner.run(spec, ask);
        let text = outcome.text.clone();
        produce::take(outcome, context)?;
        if let Some(pointer) = &http.answer {
            let name = answer(&text, pointer)?;
            capture.facts.insert("export".to_owned(), name.clone().into());
            values.insert("answer".to_owned(), name);
        }
    }
    if let Some(probes) = &http.ready {
        let call = Call { values: values.clone(), ..ready };
        produce::wait_for(probes, call, Limits::SETTLED, context)
            .map_err(|error| PartError::failed(format!("the export did not become ready: {error}")))?;
    }
    let path = context.scratch.join("output");
    let call = Call { values, stdout: Some(path.clone()), ..fetch };
    let outcome = context.runner.run(&http.fetch, call);
    let answer = outcome.answer.clone();
    produce::take(outcome, context)?;
    let Some(answer) = answer else { return Err(PartError::failed("there was no answer to the request")) };
    if let Some(wanted) = http.content_type.as_ref().filter(|wanted| !answer.content_type.starts_with(*wanted)) {
        let text = format!("what was fetched is {}, not {wanted}: is it an error page?", answer.content_type);
        return Err(PartError::failed(text));
    }
    let least = http.min_bytes.unwrap_or(1);
    if answer.length < least {
        let text = format!("what was fetched has {} bytes, and at least {least} are wanted", answer.length);
        return Err(PartError::failed(text));
    }
    Ok(path)
}

/// What stands at a place of an answer.
fn answer(text: &str, pointer: &str) -> Result<String, PartError> {
    let value: serde_json::Value = serde_json::from_str(text)
        .map_err(|error| PartError::failed(format!("the answer to `ask` is no JSON: {error}")))?;
    match value.pointer(pointer) {
        Some(serde_json::Value::String(text)) if !text.is_empty() => Ok(text.clone()),
        Some(serde_json::Value::Number(number)) => Ok(number.to_string()),
        _ => Err(PartError::failed(format!("the answer to `ask` has no name at `{pointer}`"))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_names_the_export_or_is_refused() {
        assert_eq!(answer(r#"{"id":"e 7","n":7}"#, "/id").unwrap(), "e 7");
        assert_eq!(answer(r#"{"id":"e7","n":7}"#, "/n").unwrap(), "7");
        for (text, pointer) in [("<html>", "/id"), ("{}", "/id"), (r#"{"id":""}"#, "/id"), (r#"{"id":null}"#, "/id")] {
            assert!(answer(text, pointer).is_err(), "{text}");
        }
    }
}
