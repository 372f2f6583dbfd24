//! `gullet run`.

use clap::Args;
use gullet_capture::plan::{PlanError, Request};
use gullet_core::due::runs_of;
use gullet_core::run::{Audience, RunContext, Told};
use gullet_model::Outcome;
use gullet_model::definition::Loaded;
use gullet_model::problem::ProblemKind;
use gullet_run::run::Ended;

use super::notify::send_after_work;
use super::store::copy;
use super::thin::after_success;
use crate::args::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::narrate::{Narration, Narrator};
use crate::open;
use crate::outside::{RealWorld, guard_commands};
use crate::text::{count, duration, harmless, held_for, size};
use crate::ui::{BAD, DIM, Ui, outcome, styled};

/// Back up applications, one after the other, or as a group
///
/// The application is put into backup mode (the hold), proven to be held, captured, proven to be still held, released and
/// proven to serve again; then what is new is stored, read back and recorded. It is released whatever happens.
///
/// Example: gullet run quaybook --reason "before the 4.2 upgrade"
#[derive(Args)]
pub struct RunArgs {
    /// The applications
    #[arg(required_unless_present_any = ["all", "groups"], value_name = "APP")]
    pub(super) apps: Vec<String>,
    /// Every application of the definition; those of a group together. One that fails does not stop the others
    #[arg(long, conflicts_with_all = ["apps", "groups", "parts"])]
    pub(super) all: bool,
    /// The applications of this group together: entered in order, captured while all are held, released in reverse (can be
    /// repeated)
    #[arg(long = "group", value_name = "GROUP", conflicts_with_all = ["apps", "parts"])]
    pub(super) groups: Vec<String>,
    /// Why; kept in the record
    #[arg(long, value_name = "TEXT")]
    pub(super) reason: Option<String>,
    /// Only this part (can be repeated); such a run is partial and never stands for the application
    #[arg(long = "part", value_name = "PART")]
    pub(super) parts: Vec<String>,
    /// Read every file anew instead of believing that unmarked ones are unchanged
    #[arg(long)]
    pub(super) reread: bool,
    /// What starts it, where that is not a person; kept in the record
    #[arg(long, value_name = "TEXT")]
    pub(super) trigger: Option<String>,
    /// Nobody is at the terminal: fail clearly instead of asking for something to be done by hand
    #[arg(long)]
    pub(super) unattended: bool,
    /// End the run at this time, such as 2026-11-28T05:00:00Z: the application is released first, and the run is interrupted
    #[arg(long, value_name = "TIME")]
    pub(super) finish_by: Option<jiff::Timestamp>,
    /// Run it outside of the times that its schedules leave for it (from when it is due until `finish_by`), and do not ask
    #[arg(long)]
    pub(super) outside_window: bool,
}

pub fn run(ui: &mut Ui, global: &Global, args: &RunArgs) -> Result<Exit, CommandError> {
    let loaded = open::sound_definition(ui, global, &args.apps)?;
    if let Some(app) = args.apps.iter().find(|app| !loaded.definition.app.contains_key(*app)) {
        let known = loaded.definition.app.keys().cloned().collect();
        return Err(PlanError::NoApp { app: app.clone(), known }.into());
    }
    let state = open::state(&loaded)?;
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    if let Some(at) = args.finish_by {
        outside.stop_at(at);
    }
    crate::forgotten::settle(ui, &loaded, &state, &outside);
    let mut exit = Exit::Complete;
    let sets = sets(&loaded, args)?;
    in_window(ui, &loaded, args, &sets, &outside)?;
    let guard = guard_commands();
    let context = RunContext { loaded: &loaded, state: &state, world: outside.world(), guard: &guard };
    for together in sets {
        let request = |app: &String| Request {
            app: app.clone(),
            only: args.parts.clone(),
            reason: args.reason.clone(),
            reread: args.reread,
            only_shown: false,
            trigger: args.trigger.clone(),
        };
        let ended = match together.as_slice() {
            [app] => {
                let ended = context.run_app(request(app), &mut Narrator::new(ui, !args.unattended));
                vec![ended.map_err(CommandError::from)]
            }
            apps => run_together(ui, context, apps.iter().map(request).collect()),
        };
        for ended in ended {
            exit = exit.worse(match ended {
                Ok(ended) => {
                    summary(ui, &ended);
                    // Before the keep rules, which wait for copies. What was refused has stored nothing.
                    if !matches!(ended.outcome, Outcome::Refused | Outcome::Missed) {
                        copy::after_run(ui, &loaded, &state, &outside, &ended);
                    }
                    if ended.outcome.is_whole() && !ended.record.partial {
                        // Last of all, and only after success; what goes wrong with it takes nothing from the run.
                        if let Err(error) = after_success(ui, &loaded, &state, &outside, &ended.record.app) {
                            ui.warning(&format!("the keep rules could not be applied: {}", error.messages.join(": ")));
                        }
                    }
                    ended.outcome.into()
                }
                Err(error) => {
                    ui.error(&error);
                    error.exit
                }
            });
        }
        if outside.world().stop.asked().is_some() {
            break;
        }
    }
    send_after_work(ui, &loaded, &state, &outside);
    Ok(exit)
}

/// Makes sure that nobody holds an application by mistake at a time that its schedules do not leave for it. What is started by
/// something else than a person has its times from there.
fn in_window(
    ui: &mut Ui,
    loaded: &Loaded,
    args: &RunArgs,
    sets: &[Vec<String>],
    outside: &RealWorld,
) -> Result<(), CommandError> {
    if args.outside_window || args.trigger.is_some() {
        return Ok(());
    }
    let now = outside.world().clock.now();
    let is_outside = |app: &&String| {
        let schedules = runs_of(&loaded.definition, app);
        let windows: Vec<bool> = schedules.iter().filter_map(|one| one.rule.is_in_window(now)).collect();
        !windows.is_empty() && !windows.contains(&true)
    };
    let Some(app) = sets.iter().flatten().find(is_outside) else { return Ok(()) };
    let text = format!(
        "`{app}` is to be run between the moments and `finish_by` of its schedules, and now is none of these times"
    );
    let error =
        CommandError::text(Exit::Refused, text).hint("gullet agenda shows them; --outside-window runs it all the same");
    if args.unattended || !ui.can_ask() {
        return Err(error);
    }
    let stop = outside.world().stop;
    let answer = ui.ask(&format!("{}: run it now? [y/N] ", error.messages[0]), &|| stop.asked().is_some());
    if answer.is_some_and(|answer| matches!(answer.trim(), "y" | "yes")) { Ok(()) } else { Err(error) }
}

/// The applications to run: each by itself, or those of a group together.
fn sets(loaded: &Loaded, args: &RunArgs) -> Result<Vec<Vec<String>>, CommandError> {
    let definition = &loaded.definition;
    if !args.groups.is_empty() {
        let find = |name: &String| match definition.group.get(name) {
            Some(group) => Ok(group.apps.clone()),
            None => {
                let known: Vec<&str> = definition.group.keys().map(String::as_str).collect();
                let error = CommandError::text(Exit::Usage, format!("the definition has no group `{name}`"));
                Err(error
                    .hint(format!("it has {}", if known.is_empty() { "none".to_owned() } else { known.join(", ") })))
            }
        };
        return args.groups.iter().map(find).collect();
    }
    if !args.all {
        return Ok(args.apps.iter().map(|app| vec![app.clone()]).collect());
    }
    Ok(definition.sets())
}

/// Runs the applications of a group. Nobody is asked to do something by hand.
fn run_together(ui: &mut Ui, context: RunContext<'_>, requests: Vec<Request>) -> Vec<Result<Ended, CommandError>> {
    let apps: Vec<String> = requests.iter().map(|request| request.app.clone()).collect();
    let mut narrations: Vec<Narration> = apps.iter().map(|app| Narration::new(false, Some(app.clone()))).collect();
    let ended = context.run_group(requests, &mut |number, told| match told {
        Told::Event(event) => narrations[number].hear(ui, &event),
        Told::Warning(text) => ui.warning(&format!("{}: {text}", apps[number])),
    });
    ended.into_iter().map(|ended| ended.map_err(CommandError::from)).collect()
}

impl Audience for Narrator<'_> {
    fn warn(&mut self, text: &str) {
        self.warning(text);
    }
}

/// The last line of a run.
pub fn summary(ui: &mut Ui, ended: &Ended) {
    // What went well is no news to who wants to hear only of what did not.
    if ui.is_json() || (ui.is_quiet() && ended.outcome == Outcome::Complete) {
        return;
    }
    let record = &ended.record;
    let captured = record.captures.iter().filter(|capture| capture.is_captured()).count();
    let name = if ui.is_quiet() { format!("{}: ", harmless(&record.app)) } else { String::new() };
    let mut words = vec![format!("{name}{}", outcome(ended.outcome))];
    if captured > 0 {
        words.push(format!(
            "{} of {}, {}, {}",
            captured,
            count(record.captures.len() as u64, "part"),
            count(record.files(), "file"),
            size(record.bytes())
        ));
        words.push(format!("{} stored", size(record.bytes_stored())));
    }
    let outside = record.captures.iter().filter(|capture| capture.outside.is_some()).count();
    if outside > 0 {
        words.push(format!("{} kept outside", count(outside as u64, "part")));
    }
    words.extend(record.hold.held_ms.map(|held| format!("held {}", held_for(held, ended.outcome))));
    let took = record.ended.duration_since(record.started).as_millis();
    words.push(format!("took {}", duration(u64::try_from(took).unwrap_or(0))));
    ui.say(words.join("; "));
    if ended.outcome == Outcome::NotReleased {
        // Said last of all, so that nobody overlooks it.
        let by_hand = record.causes.iter().filter(|cause| cause.kind == ProblemKind::NotReleased);
        for cause in by_hand {
            let step = cause.about.as_deref().unwrap_or("the application");
            let advice = cause.advice.as_deref().unwrap_or("release it by hand");
            ui.complain(styled(BAD, harmless(&format!("{step} is still in backup mode: {advice}"))));
        }
    }
    let run = &record.run;
    if ended.outcome > Outcome::Complete {
        ui.say(styled(DIM, format!("see: gullet show {run} --hook-output")));
    } else if !ui.is_quiet() {
        let (show, restore) = (format!("gullet show {run}"), format!("gullet restore {run} --into FOLDER"));
        ui.say(styled(DIM, format!("what is in it: {show}; to get it back: {restore}")));
    }
}
