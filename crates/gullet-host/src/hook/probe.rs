//! Probes: what a command printed, compared.

use regex::Regex;

use super::process::Finished;
use gullet_model::definition::{ExitWanted, Probe};
use gullet_model::step::ProcessExit;
use gullet_model::{Reason, ReasonAbout};

/// What a probe says.
pub type Verdict = Result<(), Reason>;

/// Compares a finished command with what the probe wants.
///
/// # Errors
/// In words, why it does not hold.
pub fn judge(probe: &Probe, finished: &Finished) -> Verdict {
    exit_code(probe, finished)?;
    if finished.stdout_cut {
        return Err(Reason::new("it printed more than a probe may (1 MiB)"));
    }
    let text = finished.text();
    if let Some(wanted) = &probe.prints
        && text != *wanted
    {
        return Err(Reason::new(format!("it printed {}, not {}", quoted(&text), quoted(wanted))));
    }
    if let Some(wanted) = &probe.contains
        && !text.contains(wanted.as_str())
    {
        return Err(Reason::new(format!("it printed {}, which does not contain {}", quoted(&text), quoted(wanted))));
    }
    if let Some(pattern) = &probe.matches
        && !regex(pattern)?.is_match(&text)
    {
        return Err(Reason::new(format!("it printed {}, which does not match {}", quoted(&text), quoted(pattern))));
    }
    if let Some(pattern) = &probe.every_line {
        let regex = regex(pattern)?;
        if text.is_empty() {
            return Err(Reason::new("it printed nothing, where every line was to match"));
        }
        if let Some(line) = text.lines().find(|line| !regex.is_match(line)) {
            return Err(Reason::new(format!("the line {} does not match {}", quoted(line), quoted(pattern))));
        }
    }
    json(probe, &text)
}

fn exit_code(probe: &Probe, finished: &Finished) -> Verdict {
    if let (Some(wanted), Some(answer)) = (probe.status, &finished.answer) {
        let fits = answer.status == wanted;
        return if fits { Ok(()) } else { Err(Reason::new(format!("{}, not {wanted}", finished.failure()))) };
    }
    let fits = match (&probe.exit, &finished.report.exit) {
        (Some(ExitWanted::Word(_)), ProcessExit::Code(_)) => true,
        (Some(ExitWanted::Code(wanted)), ProcessExit::Code(code)) => wanted == code,
        (None, ProcessExit::Code(code)) => *code == 0,
        (_, ProcessExit::Signal(_) | ProcessExit::Limit(_) | ProcessExit::Stopped | ProcessExit::NotStarted(_)) => {
            false
        }
    };
    if fits { Ok(()) } else { Err(Reason::new(finished.failure())) }
}

fn regex(pattern: &str) -> Result<Regex, Reason> {
    Regex::new(pattern).map_err(|_| Reason::new(format!("{} is not a regular expression", quoted(pattern))))
}

fn json(probe: &Probe, text: &str) -> Verdict {
    if probe.json.is_empty() {
        return Ok(());
    }
    let value: serde_json::Value = serde_json::from_str(text).about("it printed no JSON")?;
    for (pointer, wanted) in &probe.json {
        match value.pointer(pointer) {
            Some(found) if found == wanted => {}
            Some(found) => return Err(Reason::new(format!("at `{pointer}` it says {found}, not {wanted}"))),
            None => return Err(Reason::new(format!("its JSON has nothing at `{pointer}`"))),
        }
    }
    Ok(())
}

/// A text in quotes, shortened so that a message stays a line.
fn quoted(text: &str) -> String {
    let mut short: String = text.chars().take(80).collect();
    if short.len() < text.len() {
        short.push('…');
    }
    format!("{short:?}")
}

#[cfg(test)]
mod tests {
    use super::*;
    use gullet_model::step::CommandReport;

    fn finished(stdout: &str, exit: ProcessExit) -> Finished {
        let report = CommandReport {
            argv: vec!["quaybook".to_owned()],
            script: None,
            dir: "/".to_owned(),
            account: "root (0)".to_owned(),
            started: jiff::Timestamp::UNIX_EPOCH,
            took_ms: 1,
            exit,
            output: Vec::new(),
            dropped_bytes: 0,
            escaped: Vec::new(),
        };
        Finished { report, stdout: stdout.as_bytes().to_vec(), stdout_cut: false, left_open: false, answer: None }
    }

    #[test]
    fn every_form_holds_and_fails_as_it_should() {
        let cases = [
            ("prints = \"paused\"", "paused\n", true),
            ("prints = \"paused\"", "paused\n\n", false),
            ("prints = \"paused\"", "serving\n", false),
            ("contains = \"use\"", "paused\n", true),
            ("contains = \"xyz\"", "paused\n", false),
            ("matches = \"^quaybook 1\\\\.\"", "quaybook 1.4.0\n", true),
            ("matches = \"^quaybook 2\\\\.\"", "quaybook 1.4.0\n", false),
            ("every_line = \"held$\"", "a held\nb held\n", true),
            ("every_line = \"held$\"", "a held\nb free\n", false),
            ("every_line = \".*\"", "", false),
            ("json = { \"/state\" = \"held\", \"/n\" = 3 }", "{\"state\":\"held\",\"n\":3}", true),
            ("json = { \"/state\" = \"held\" }", "{\"state\":\"free\"}", false),
            ("json = { \"/none\" = 1 }", "{}", false),
            ("json = { \"/state\" = \"held\" }", "not json", false),
            ("", "anything", true),
        ];
        for (probe, printed, holds) in cases {
            let probe: Probe = toml::from_str(probe).unwrap();
            assert_eq!(
                judge(&probe, &finished(printed, ProcessExit::Code(0))).is_ok(),
                holds,
                "{probe:?} on {printed:?}"
            );
        }
    }

    #[test]
    fn exit_codes_are_wanted_or_not() {
        let cases = [
            ("", ProcessExit::Code(0), true),
            ("", ProcessExit::Code(3), false),
            ("exit = 3", ProcessExit::Code(3), true),
            ("exit = 3", ProcessExit::Code(0), false),
            ("exit = \"any\"", ProcessExit::Code(77), true),
            ("exit = \"any\"", ProcessExit::Signal(9), false),
            ("exit = \"any\"", ProcessExit::NotStarted("gone".into()), false),
            ("exit = \"any\"", ProcessExit::Limit(5), false),
        ];
        for (probe, exit, holds) in cases {
            let probe: Probe = toml::from_str(probe).unwrap();
            assert_eq!(judge(&probe, &finished("", exit.clone())).is_ok(), holds, "{probe:?} on {exit:?}");
        }
    }
}
