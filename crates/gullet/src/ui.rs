//! Where text goes and how it is styled: data on standard output, everything about it on standard error.

use std::io::{self, IsTerminal, Write};
use std::time::Duration;

use anstream::{AutoStream, ColorChoice};
use anstyle::{AnsiColor, Style};
use gullet_model::Outcome;
use gullet_model::definition::Flaw;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

use crate::error::CommandError;
use crate::outside::wants_plain_signs;
use crate::text::harmless;

/// Nothing is drawn for work that is over sooner than this.
const SILENT: Duration = Duration::from_millis(250);

/// The program's two streams.
pub struct Ui {
    out: AutoStream<io::Stdout>,
    err: AutoStream<io::Stderr>,
    quiet: bool,
    json: bool,
    progress: Option<ProgressBar>,
    began: Option<std::time::Instant>,
    /// Why data could not be printed, the first time.
    unprinted: Option<io::Error>,
}

/// When output is coloured.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, clap::ValueEnum)]
pub enum Color {
    /// On a terminal, unless `NO_COLOR` is set
    #[default]
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

pub const BOLD: Style = Style::new().bold();
pub const DIM: Style = Style::new().dimmed();
pub const GOOD: Style = AnsiColor::Green.on_default();
pub const WARN: Style = AnsiColor::Yellow.on_default();
pub const BAD: Style = AnsiColor::Red.on_default().bold();

/// Text in a style; plain when the stream that it goes to is.
pub fn styled(style: Style, text: impl std::fmt::Display) -> String {
    format!("{style}{text}{style:#}")
}

/// The style, the mark and the words of an outcome: colour never carries the meaning alone.
pub fn outcome(outcome: Outcome) -> String {
    let style = match outcome {
        Outcome::Complete => GOOD,
        Outcome::Warnings => WARN,
        _ => BAD,
    };
    styled(style, format!("{} {outcome}", mark_of(outcome)))
}

/// The mark of an outcome.
pub fn mark_of(outcome: Outcome) -> &'static str {
    match outcome {
        Outcome::Complete => "✓",
        Outcome::Warnings => "!",
        Outcome::Incomplete
        | Outcome::Refused
        | Outcome::Missed
        | Outcome::Failed
        | Outcome::Interrupted
        | Outcome::NotReleased => "✗",
    }
}

/// The one door to a terminal for text that may be foreign: nothing passes that a terminal obeys, but for the colours and weights
/// that [`styled`] writes.
fn tamed(text: &str) -> String {
    if !text.chars().any(|c| c != '\n' && harmless(c.encode_utf8(&mut [0; 4])).len() != c.len_utf8()) {
        return text.to_owned();
    }
    let mut clean = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        let is_style = rest.strip_prefix("\u{1b}[").and_then(|after| {
            let end = after.find(|c: char| !c.is_ascii_digit() && c != ';')?;
            (after[end..].starts_with('m') && end <= 8).then_some(end + 3)
        });
        let length = is_style.unwrap_or(c.len_utf8());
        match (is_style, c) {
            (Some(_), _) | (None, '\n') => clean.push_str(&rest[..length]),
            _ => clean.push_str(&harmless(&rest[..length])),
        }
        rest = &rest[length..];
    }
    clean
}

/// Text with words in the place of our own signs, where signs would be of no use.
pub fn with_plain_signs(text: String) -> String {
    const SIGNS: [(&str, &str); 5] = [("✓", "ok"), ("✗", "not ok"), ("…", "..."), ("→", "->"), ("─", "-")];
    if !wants_plain_signs() || text.is_ascii() {
        return text;
    }
    SIGNS.iter().fold(text, |text, (sign, word)| text.replace(sign, word))
}

/// One step that was done, or one thing that was looked at, with how long it took.
pub fn step(ok: bool, what: &str, took_ms: u64, note: &str) -> String {
    let (mark, note) =
        if ok { (styled(GOOD, "✓"), harmless(note)) } else { (styled(BAD, "✗"), styled(BAD, harmless(note))) };
    let line = format!("  {mark} {:<26} {:>9}  {note}", harmless(what), crate::text::duration(took_ms));
    line.trim_end().to_owned()
}

impl Ui {
    pub fn new(color: Color, quiet: bool, json: bool) -> Self {
        let choice = |terminal: ColorChoice| match color {
            Color::Auto => terminal,
            Color::Always => ColorChoice::Always,
            Color::Never => ColorChoice::Never,
        };
        let out = AutoStream::new(io::stdout(), choice(AutoStream::choice(&io::stdout())));
        let err = AutoStream::new(io::stderr(), choice(AutoStream::choice(&io::stderr())));
        Self { out, err, quiet, json, progress: None, began: None, unprinted: None }
    }

    /// Whether data is printed as JSON.
    pub fn is_json(&self) -> bool {
        self.json
    }

    /// Whether only what went wrong is told.
    pub fn is_quiet(&self) -> bool {
        self.quiet
    }

    /// Data: a line on standard output.
    pub fn say(&mut self, line: impl std::fmt::Display) {
        let text = line.to_string();
        // JSON has no control characters in it; escaping others would change what it says.
        let text = if self.json { text } else { with_plain_signs(tamed(&text)) };
        self.write(format!("{text}\n").as_bytes());
    }

    /// Data as it is, without a newline of our own.
    pub fn write(&mut self, bytes: &[u8]) {
        self.clear();
        // It ends nothing that must go on, such as leaving a hold; a closed pipe is the reader's right.
        if let Err(error) = self.out.write_all(bytes).and_then(|()| self.out.flush())
            && error.kind() != io::ErrorKind::BrokenPipe
        {
            self.unprinted.get_or_insert(error);
        }
    }

    /// Why not everything that was to be printed on standard output is there.
    pub fn unprinted(&mut self) -> Option<io::Error> {
        self.unprinted.take()
    }

    /// A value as JSON on standard output.
    pub fn json(&mut self, value: &impl serde::Serialize) -> Result<(), CommandError> {
        let text = serde_json::to_string_pretty(value)?;
        self.say(text);
        Ok(())
    }

    /// About the work: a line on standard error, not with `--quiet`.
    pub fn tell(&mut self, line: impl std::fmt::Display) {
        if !self.quiet {
            self.complain(line);
        }
    }

    /// What went wrong: a line on standard error, whatever the options.
    pub fn complain(&mut self, line: impl std::fmt::Display) {
        self.clear();
        let _ = writeln!(self.err, "{}", with_plain_signs(tamed(&line.to_string())));
    }

    pub fn warning(&mut self, text: &str) {
        self.complain(format!("{} {}", styled(WARN, "warning:"), harmless(text)));
    }

    pub fn hint(&mut self, text: &str) {
        for (number, line) in text.lines().enumerate() {
            let head = if number == 0 { styled(BOLD, "hint:") } else { "     ".to_owned() };
            self.complain(format!("{head} {}", harmless(line)));
        }
    }

    pub fn error(&mut self, error: &CommandError) {
        for (number, message) in error.messages.iter().enumerate() {
            let head = if number == 0 { styled(BAD, "error:") } else { styled(BOLD, "caused by:") };
            self.complain(format!("{head} {}", harmless(message)));
        }
        for flaw in &error.flaws {
            self.flaw(flaw);
        }
        for hint in &error.hints {
            self.hint(hint);
        }
    }

    /// The place and what is wrong, the line, a mark under what is wrong, and what to write instead.
    fn flaw(&mut self, flaw: &Flaw) {
        let place = format!("{}:{}:{}:", flaw.file.display(), flaw.line, flaw.column);
        // A tab is one column of the file, and would be several of the terminal.
        let text = harmless(&flaw.text.replace('\t', " "));
        let (before, marked) = around(&text, flaw.column.saturating_sub(1), flaw.length);
        self.complain("");
        self.complain(format!("{} {}", styled(BOLD, harmless(&place)), harmless(&flaw.message)));
        self.complain(format!("    {text}"));
        self.complain(format!("    {}{}", " ".repeat(before), styled(BAD, "~".repeat(marked.max(1)))));
        for line in flaw.hint.iter().flat_map(|hint| hint.lines()) {
            self.complain(format!("  {}", harmless(line)));
        }
    }

    /// Whether somebody is there who can be asked.
    pub fn can_ask(&self) -> bool {
        // Who reads from a terminal in its background is stopped by it, and would be while something is held.
        let in_front = rustix::termios::tcgetpgrp(io::stdin()).is_ok_and(|front| front == rustix::process::getpgrp());
        !self.json && io::stdin().is_terminal() && io::stderr().is_terminal() && in_front
    }

    /// Asks for a line; `None` at the end of input, or soon after `over` says so.
    pub fn ask(&mut self, prompt: &str, over: &dyn Fn() -> bool) -> Option<String> {
        use rustix::event::{PollFd, PollFlags, Timespec, poll};
        self.clear();
        let _ = write!(self.err, "{prompt}");
        let _ = self.err.flush();
        let stdin = io::stdin();
        let pause = Timespec { tv_sec: 0, tv_nsec: 100_000_000 };
        loop {
            if over() {
                return None;
            }
            let ready = poll(&mut [PollFd::new(&stdin, PollFlags::IN)], Some(&pause));
            if ready.is_ok_and(|ready| ready > 0) {
                let mut line = String::new();
                return stdin.read_line(&mut line).ok().filter(|read| *read > 0).map(|_| line);
            }
        }
    }

    /// Shows what is going on, on a terminal, when it goes on for long enough.
    pub fn progress(&mut self, text: &str) {
        if self.quiet || self.json || !io::stderr().is_terminal() {
            return;
        }
        let began = *self.began.get_or_insert_with(std::time::Instant::now);
        if began.elapsed() < SILENT {
            return;
        }
        let bar = self.progress.get_or_insert_with(|| {
            let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr_with_hz(10));
            if let Ok(style) = ProgressStyle::with_template("  {spinner} {wide_msg}") {
                bar.set_style(style);
            }
            bar
        });
        bar.set_message(harmless(text));
        bar.tick();
    }

    /// Takes the progress line away.
    pub fn clear(&mut self) {
        self.began = None;
        if let Some(bar) = self.progress.take() {
            bar.finish_and_clear();
        }
    }
}

/// How many columns of a terminal stand before the characters of a line from `start`, and how many these take.
fn around(line: &str, start: usize, length: usize) -> (usize, usize) {
    let width = |characters: &mut dyn Iterator<Item = char>| {
        characters.filter_map(unicode_width::UnicodeWidthChar::width).sum()
    };
    let before = width(&mut line.chars().take(start));
    (before, width(&mut line.chars().skip(start).take(length)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn marks_stand_under_what_a_terminal_shows() {
        assert_eq!(around("stor = \"船\" # x", 0, 4), (0, 4));
        assert_eq!(around("name = \"船\"", 7, 3), (7, 4), "a wide character takes two columns");
        assert_eq!(around("\"船\" = 1", 6, 1), (7, 1));
        assert_eq!(around("short", 9, 3), (5, 0));
    }

    #[test]
    fn nothing_but_our_own_styles_reaches_a_terminal() {
        let plain = "a table\n  of ✓ words\tand Fähre";
        assert_eq!(tamed(plain), plain);
        let ours = styled(GOOD, "✓ complete");
        assert_eq!(tamed(&ours), ours);
        for (foreign, shown) in [
            ("\u{1b}]0;title\u{7}x", "\\u{1b}]0;title\\u{7}x"),
            ("\u{1b}[2Jgone", "\\u{1b}[2Jgone"),
            ("a\rb\u{9b}1mc", "a\\rb\\u{9b}1mc"),
            ("\u{202e}txt.exe", "\\u{202e}txt.exe"),
            ("\u{1b}[", "\\u{1b}["),
        ] {
            assert_eq!(tamed(foreign), shown);
        }
    }
}
