//! The events of a run as lines of text, or as JSON Lines.

use gullet_model::step::{StepKind, StepReport};

use gullet_model::event::{Event, EventKind, Instruction, Listener};
use gullet_model::record::Capture;

use crate::text::{count, duration, harmless, size};
use crate::ui::{BAD, BOLD, DIM, GOOD, Ui, WARN, styled};

/// A warning or an error, with what to do.
struct Complaint {
    is_error: bool,
    text: String,
    advice: Option<String>,
}

/// Tells a run as it happens.
pub struct Narrator<'a> {
    ui: &'a mut Ui,
    told: Narration,
}

/// What was told of a run so far.
pub struct Narration {
    /// Whether the word for being held was explained.
    explained: bool,
    held_ms: Option<u64>,
    /// Complaints of the step that is going on; told below its line.
    complaints: Vec<Complaint>,
    /// Events told so far.
    told: u64,
    /// The application, where several are told of at once.
    among: Option<String>,
    /// Width of the column that names what a step is about.
    width: usize,
    /// Whether somebody may be asked to do something.
    attended: bool,
}

impl<'a> Narrator<'a> {
    pub fn new(ui: &'a mut Ui, attended: bool) -> Self {
        Self { ui, told: Narration::new(attended, None) }
    }

    /// Warns of something that is no event of the run.
    pub fn warning(&mut self, text: &str) {
        self.ui.warning(text);
    }
}

impl Narration {
    /// The narration of a run; of the application `among` others.
    pub fn new(attended: bool, among: Option<String>) -> Self {
        let width = if among.is_some() { 30 } else { 9 };
        Self { explained: false, held_ms: None, complaints: Vec::new(), told: 0, width, attended, among }
    }

    fn line(&self, ui: &mut Ui, mark: &str, step: &str, about: &str, note: &str) {
        if !ui.is_quiet() {
            let among = self.among.as_ref().map(|app| format!("{app} ")).unwrap_or_default();
            let (about, width) = (harmless(&format!("{among}{about}")), self.width);
            ui.say(format!("  {mark} {step:<21} {about:<width$} {note}").trim_end());
        }
    }

    fn step(&mut self, ui: &mut Ui, report: &StepReport) {
        let step = &report.step;
        let mark = if report.ok { styled(GOOD, "✓") } else { styled(BAD, "✗") };
        let took = duration(report.took_ms);
        let note = harmless(report.note.as_deref().unwrap_or(""));
        let note = match step.kind {
            // A good part is told when it is stored, a quiet one not at all.
            StepKind::CheckNoWrites | StepKind::Store if report.ok => return,
            // Why is told by the complaints below the line.
            _ if !report.ok && !self.complaints.is_empty() => String::new(),
            _ if !report.ok => styled(BAD, note),
            StepKind::Enter if !self.explained => {
                self.explained = true;
                format!("{took}  {}", styled(DIM, "backup mode begins"))
            }
            StepKind::Capture if !note.is_empty() => format!("{took}  {}", styled(DIM, note)),
            StepKind::Enter | StepKind::Prove | StepKind::Capture | StepKind::ProveReleased => took,
            StepKind::Snapshot | StepKind::CleanUp => took,
            StepKind::ProveAgain => "still held".to_owned(),
            StepKind::Release => match self.held_ms {
                Some(held) => format!("{took}  {}", styled(DIM, format!("after {} in backup mode", duration(held)))),
                None => took,
            },
            StepKind::Hooks if note.is_empty() => took,
            _ => note,
        };
        self.line(ui, &mark, step.kind.words(), step.about.as_deref().unwrap_or(""), &note);
    }

    fn note(&mut self, is_error: bool, about: Option<&str>, text: &str, advice: Option<String>) {
        let about =
            self.among.as_deref().into_iter().chain(about).map(|about| format!("{about}: ")).collect::<String>();
        self.complaints.push(Complaint { is_error, text: format!("{about}{text}"), advice });
    }

    fn complain(&mut self, ui: &mut Ui) {
        for complaint in std::mem::take(&mut self.complaints) {
            if complaint.is_error {
                ui.complain(format!("{} {}", styled(BAD, "error:"), harmless(&complaint.text)));
            } else {
                ui.warning(&complaint.text);
            }
            if let Some(advice) = &complaint.advice {
                ui.hint(advice);
            }
        }
    }

    fn captured(&self, ui: &mut Ui, capture: &Capture) {
        if capture.is_captured() {
            self.line(ui, &styled(GOOD, "✓"), "stored", &capture.part, &capture_text(capture));
        }
    }
}

/// For the crash matrix of the tests, and in their builds alone: `GULLET_AT_EVENT=12:KILL` sends this process the signal
/// at its twelfth event; with `PANIC` the program finds a mistake of its own there.
#[cfg(debug_assertions)]
fn fall_over_at(event: u64) {
    use rustix::process::{Signal, getpid, kill_process};
    let Ok(order) = std::env::var("GULLET_AT_EVENT") else { return };
    let Some((at, signal)) = order.split_once(':') else { return };
    if at.parse() == Ok(event) {
        assert!(signal != "PANIC", "event {event} was ordered to be a mistake");
        let signal = if signal == "STOP" { Signal::STOP } else { Signal::KILL };
        let _ = kill_process(getpid(), signal);
    }
}

/// The same for whoever counts by himself; nothing in other builds.
pub fn fall_over(event: u64) {
    #[cfg(debug_assertions)]
    fall_over_at(event);
    #[cfg(not(debug_assertions))]
    let _ = event;
}

/// A capture in a few words: size, counts, the facts that matter most.
pub fn capture_text(capture: &Capture) -> String {
    let counts = &capture.counts;
    let mut words = vec![size(counts.bytes), count(counts.files, "file")];
    let facts = [("tables", "table"), ("rows", "row")];
    let facts = facts.iter().filter_map(|(fact, one)| Some(count(capture.facts.get(*fact)?.as_u64()?, one)));
    words.extend(facts);
    let (new, changed, vanished) = (counts.new, counts.changed, counts.vanished);
    let changes = [(new, "new"), (changed, "changed"), (vanished, "vanished")];
    let changes: Vec<String> =
        changes.iter().filter(|(number, _)| *number > 0).map(|(number, word)| format!("{number} {word}")).collect();
    words.push(if changes.is_empty() { "unchanged".to_owned() } else { changes.join(", ") });
    words.join(", ")
}

/// Has the person at the terminal do something: whether it is said to be done. Nobody does it where nobody is there.
pub fn attend(ui: &mut Ui, instruction: &Instruction, over: &dyn Fn() -> bool) -> bool {
    if !ui.can_ask() {
        return false;
    }
    let about = &instruction.about;
    ui.complain("");
    ui.complain(styled(BOLD, harmless(&format!("Your hand is needed: {about} {}", instruction.problem))));
    ui.complain(format!("  {} {}", styled(WARN, "to do:"), harmless(&instruction.to_do)));
    ui.complain(harmless(&format!("  Then press Enter, and {about} is asked again {}.", instruction.then)));
    ui.complain(harmless(&format!("  Or type stop: {}.", instruction.otherwise)));
    let answer = ui.ask("> ", over);
    ui.complain("");
    answer.is_some_and(|line| line.trim() != "stop")
}

impl Listener for Narrator<'_> {
    fn attend(&mut self, instruction: &Instruction, over: &dyn Fn() -> bool) -> bool {
        if !self.told.attended || !self.ui.can_ask() {
            return false;
        }
        self.told.complain(self.ui);
        attend(self.ui, instruction, over)
    }

    fn hear(&mut self, event: &Event) {
        self.told.hear(self.ui, event);
    }
}

impl Narration {
    /// One more event.
    pub fn hear(&mut self, ui: &mut Ui, event: &Event) {
        if !matches!(event.what, EventKind::Progress { .. }) {
            self.told += 1;
            #[cfg(debug_assertions)]
            fall_over_at(self.told);
        }
        if ui.is_json() {
            if !matches!(event.what, EventKind::Progress { .. })
                && let Ok(line) = serde_json::to_string(event)
            {
                ui.say(line);
            }
            return;
        }
        match &event.what {
            EventKind::RunStarted { run, app, title, reason, parts, trigger: _ } => {
                // Several are told of at once in one column, as wide for all.
                if self.among.is_none() {
                    self.width = parts.iter().map(|part| part.chars().count()).max().unwrap_or(0).clamp(9, 32);
                }
                let title = title.as_ref().map_or_else(|| app.clone(), |title| format!("{title} ({app})"));
                let reason = reason.as_ref().map(|reason| format!(": {}", harmless(reason))).unwrap_or_default();
                if !ui.is_quiet() {
                    ui.say(format!("{}, run {run}{reason}", styled(BOLD, harmless(&title))));
                }
            }
            EventKind::StepStarted { step } => {
                let about = step.about.as_deref().unwrap_or("");
                ui.progress(&format!("{} {about}", step.kind.words()));
            }
            EventKind::Progress { part, files, bytes } => {
                ui.progress(&format!("capture {part}  {}  {}", count(*files, "file"), size(*bytes)));
            }
            EventKind::StepEnded { report } => {
                self.step(ui, report);
                self.complain(ui);
            }
            EventKind::LeavingBegan { held_ms } => self.held_ms = Some(*held_ms),
            EventKind::Captured { capture } => self.captured(ui, capture),
            EventKind::Warning { about, text, kind: _ } => self.note(false, about.as_deref(), text, None),
            EventKind::Trouble { about, text, advice, kind: _ } => {
                self.note(true, about.as_deref(), text, advice.clone());
            }
            EventKind::Recorded { record, in_store: false } => {
                let text = format!("the record waits in {record}");
                ui.complain(format!("{} {}", styled(WARN, "note:"), harmless(&text)));
            }
            EventKind::RunEnded { .. } => self.complain(ui),
            EventKind::HoldBegan | EventKind::Held { .. } | EventKind::Released { .. } | EventKind::Recorded { .. } => {
            }
        }
    }
}
