//! `gullet try`.

use clap::Args;
use gullet_host::hook::{Call, CallOutcome, Limits, Runner};
use gullet_model::definition::{App, CommandSpec, HookMoment, Loaded, OneOrMany, Probe, command_text};
use gullet_model::step::fact_value;

use super::show::show_command;
use crate::args::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::table::table;
use crate::text::harmless;
use crate::ui::{BAD, GOOD, Ui, styled};

/// Try one probe, fact or hook alone
///
/// Everything that it prints is shown, and how its answer is judged. Without a name what can be tried is listed. A hook may change
/// something, and is tried with --yes only. To enter the hold alone: `gullet hold`.
///
/// Example: gullet try quaybook hold/desk/entered
#[derive(Args)]
pub struct TryArgs {
    /// The application
    app: String,
    /// What, by its name in the list
    name: Option<String>,
    /// Also a hook, which may change something
    #[arg(long)]
    yes: bool,
}

/// What can be tried.
enum Trial<'a> {
    /// A command whose answer is compared.
    Probe(OneOrMany<Probe>),
    /// A command that prints a fact.
    Fact(&'a CommandSpec),
    /// A command that prints which parts there are.
    Each(&'a CommandSpec),
    /// A command that may change something.
    Hook(&'a CommandSpec),
}

impl Trial<'_> {
    fn word(&self) -> &'static str {
        match self {
            Self::Probe(_) => "probe",
            Self::Fact(_) => "fact",
            Self::Each(_) => "parts there are",
            Self::Hook(_) => "hook",
        }
    }

    fn text(&self) -> String {
        match self {
            Self::Probe(probes) => {
                probes.all().iter().map(|probe| command_text(&probe.command)).collect::<Vec<_>>().join("; ")
            }
            Self::Fact(command) | Self::Each(command) | Self::Hook(command) => command_text(command),
        }
    }
}

pub fn trial(ui: &mut Ui, global: &Global, args: &TryArgs) -> Result<Exit, CommandError> {
    let loaded = open::sound_definition(ui, global, std::slice::from_ref(&args.app))?;
    let Some(spec) = loaded.definition.app.get(&args.app) else {
        return Err(CommandError::text(Exit::Usage, format!("the definition has no application `{}`", args.app)));
    };
    let trials = trials(spec);
    let Some(name) = &args.name else { return list(ui, &trials) };
    let Some((_, trial)) = trials.iter().find(|(known, _)| known == name) else {
        let error =
            CommandError::text(Exit::Usage, format!("`{}` has nothing to try that is called `{name}`", args.app));
        return Err(error.hint(format!("gullet try {} lists what there is", args.app)));
    };
    if matches!(trial, Trial::Hook(_)) && !args.yes {
        let error = CommandError::text(Exit::Refused, format!("`{name}` may change something"));
        return Err(error.hint("--yes tries it all the same"));
    }
    perform(ui, &loaded, args, trial)
}

/// Everything of an application that can be tried, by name, in the order of a run.
fn trials(spec: &App) -> Vec<(String, Trial<'_>)> {
    let mut all: Vec<(String, Trial<'_>)> = Vec::new();
    all.extend(spec.facts.iter().map(|(name, fact)| (format!("facts/{name}"), Trial::Fact(fact))));
    for require in &spec.require {
        let probe = OneOrMany::One(Box::new(require.probe.clone()));
        all.push((format!("require/{}", require.name), Trial::Probe(probe)));
    }
    for part in &spec.part {
        all.extend(part.each.iter().map(|each| (format!("part/{}/each", part.name), Trial::Each(&each.command))));
        // Those of a part that comes of `each` need its values.
        let facts = part.facts.iter().filter(|_| part.each.is_none());
        all.extend(facts.map(|(name, fact)| (format!("part/{}/facts/{name}", part.name), Trial::Fact(fact))));
    }
    for step in &spec.hold {
        let probes = [("drained", &step.drained), ("entered", &step.entered), ("released", &step.released)];
        let there = probes.into_iter().filter_map(|(what, probes)| Some((what, probes.clone()?)));
        all.extend(there.map(|(what, probes)| (format!("hold/{}/{what}", step.name), Trial::Probe(probes))));
    }
    let moments = [
        HookMoment::Before,
        HookMoment::Held,
        HookMoment::Released,
        HookMoment::Succeeded,
        HookMoment::Failed,
        HookMoment::Finished,
    ];
    for moment in moments {
        let hooks = spec.hooks.at(moment).iter().enumerate();
        all.extend(
            hooks.map(|(number, hook)| (format!("hooks/{}/{}", moment.word(), number + 1), Trial::Hook(&hook.command))),
        );
    }
    all
}

fn list(ui: &mut Ui, trials: &[(String, Trial<'_>)]) -> Result<Exit, CommandError> {
    if ui.is_json() {
        let rows: Vec<_> = trials
            .iter()
            .map(|(name, trial)| serde_json::json!({ "name": name, "what": trial.word(), "command": trial.text() }))
            .collect();
        ui.json(&rows)?;
        return Ok(Exit::Complete);
    }
    if trials.is_empty() {
        ui.say("there is nothing to try");
        return Ok(Exit::Complete);
    }
    let row =
        |(name, trial): &(String, Trial<'_>)| vec![harmless(name), trial.word().to_owned(), harmless(&trial.text())];
    ui.say(table(&["name", "what", "command"], trials.iter().map(row).collect()));
    Ok(Exit::Complete)
}

fn perform(ui: &mut Ui, loaded: &Loaded, args: &TryArgs, trial: &Trial<'_>) -> Result<Exit, CommandError> {
    let state = open::state(loaded)?;
    let outside = RealWorld::new();
    outside.listen_to_signals()?;
    state.place(&["scratch"])?;
    let runner = Runner { run: "try".to_owned(), ..Runner::apart(outside.world(), &args.app, state.folder()) };
    let call = Call { moment: "try", limit: Limits::HOOK, ..Call::default() };
    let outcome = match trial {
        Trial::Probe(probes) => runner.ask(probes, &call),
        Trial::Fact(command) | Trial::Each(command) | Trial::Hook(command) => runner.run(command, call),
    };
    if ui.is_json() {
        let (commands, why) = (&outcome.tries, outcome.result.as_ref().err());
        ui.json(&serde_json::json!({ "passes": outcome.result.is_ok(), "why": why, "commands": commands }))?;
    } else {
        show(ui, trial, &outcome);
    }
    Ok(if outcome.result.is_ok() { Exit::Complete } else { Exit::Failed })
}

fn show(ui: &mut Ui, trial: &Trial<'_>, outcome: &CallOutcome) {
    for command in &outcome.tries {
        show_command(ui, command);
    }
    let text = match (&outcome.result, trial) {
        (Err(why), _) => return ui.say(format!("{} {}", styled(BAD, "✗ does not pass:"), harmless(&why.to_string()))),
        (Ok(()), Trial::Probe(_)) => "passes".to_owned(),
        (Ok(()), Trial::Fact(_)) => format!("the fact is {}", fact_value(&outcome.text)),
        (Ok(()), Trial::Each(_)) => format!("{} lines, each a part", outcome.text.lines().count()),
        (Ok(()), Trial::Hook(_)) => "succeeded".to_owned(),
    };
    ui.say(format!("{} {}", styled(GOOD, "✓"), harmless(&text)));
}
