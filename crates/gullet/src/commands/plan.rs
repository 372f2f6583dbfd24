//! `gullet plan`.

use std::time::Duration;

use clap::Args;
use gullet_capture::kinds::{source_text, survey};
use gullet_capture::part::Survey;
use gullet_capture::plan::{Plan, Request};
use gullet_host::hook::Runner;
use gullet_host::state::State;
use gullet_logbook::logbook::Logbook;
use gullet_model::definition::{Nature, PartKind, Span, shell_words};
use gullet_model::ids::RunId;
use gullet_model::step::StepKind;
use gullet_run::steps::{PlanStep, PlannedCommand, steps};
use serde::Serialize;

use crate::args::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::table::{pairs, table};
use crate::text::{count, harmless, size};
use crate::ui::{BAD, BOLD, DIM, Ui, styled};

/// Show the steps a run would execute, what is in and what is left out
///
/// Nothing is touched; the definition's commands that print which parts there are (`each`) are asked.
///
/// Example: gullet plan quaybook
#[derive(Args)]
pub struct PlanArgs {
    /// The application
    pub(super) app: String,
    /// Only this part (can be repeated)
    #[arg(long = "part", value_name = "PART")]
    pub(super) parts: Vec<String>,
    /// Show each command with all that it is executed with: whole scripts, accounts, folders, names of variables
    #[arg(long)]
    pub(super) full: bool,
}

#[derive(Serialize)]
struct PartView<'a> {
    name: &'a str,
    kind: PartKind,
    required: bool,
    source: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    survey: Option<Survey>,
    #[serde(skip_serializing_if = "Option::is_none")]
    last_bytes: Option<u64>,
}

pub fn plan(ui: &mut Ui, global: &Global, args: &PlanArgs) -> Result<Exit, CommandError> {
    let loaded = open::definition(global)?;
    let outside = RealWorld::new();
    let runner = Runner {
        world: outside.world(),
        app: args.app.clone(),
        run: RunId::new(outside.world().random).to_string(),
        family: RunId::new(outside.world().random).to_string(),
        folder: std::env::temp_dir(),
        top: std::env::temp_dir(),
    };
    let state = open::state_folder(&loaded);
    let request = Request { app: args.app.clone(), only: args.parts.clone(), ..Request::default() };
    // The last run makes the sizes comparable; without a store yet there is none.
    let spec = loaded.definition.store_of(&args.app);
    let store = spec.and_then(|(_, spec)| open::store_at(spec.location.as_ref()).ok());
    let book = store.as_ref().and_then(|store| Logbook::read(store, Some(&args.app), None).ok()).unwrap_or_default();
    // Of a machine that has not written anything yet no run is its own.
    let machine = Some(State::machine_of(&state).unwrap_or_default());
    let book = Logbook { machine, ..book };
    let last = book.last_good(&args.app);
    let plan = Plan::make(&loaded, request, state, &runner, last)?;
    let parts: Vec<PartView<'_>> = plan
        .parts
        .iter()
        .map(|part| PartView {
            name: &part.name,
            kind: part.source.kind(),
            required: part.spec.required,
            source: source_text(part),
            survey: survey(part, &plan),
            last_bytes: last.and_then(|last| last.record.capture(&part.name)).map(|capture| capture.counts.bytes),
        })
        .collect();
    if ui.is_json() {
        ui.json(&serde_json::json!({
            "app": plan.app,
            "store": plan.store,
            "max_hold_ms": u64::try_from(plan.longest_hold().as_millis()).unwrap_or(u64::MAX),
            "parts": parts,
            "log": plan.spec.log,
            "facts": plan.facts,
            "not_asked_for": plan.not_asked_for,
            "drift": plan.drift,
            "steps": steps(&plan),
        }))?;
        return Ok(Exit::Complete);
    }
    show(ui, &plan, &parts, store.is_some(), args.full);
    let problem = parts.iter().any(|part| part.survey.as_ref().is_some_and(|survey| survey.problem.is_some()));
    Ok(if problem { Exit::Refused } else { Exit::Complete })
}

fn show(ui: &mut Ui, plan: &Plan, parts: &[PartView<'_>], has_store: bool, full: bool) {
    let title = plan.spec.title.as_ref().map_or_else(|| plan.app.clone(), |title| format!("{title} ({})", plan.app));
    ui.say(styled(BOLD, harmless(&title)));
    let hold = hold_text(plan);
    let missing = if has_store { "" } else { ", not made yet: gullet store new" };
    let mut about =
        vec![("store", format!("{} at {}{missing}", plan.store_name, plan.store.display())), ("hold", hold)];
    about.extend(plan.spec.log.map(|log| ("its logs", log.word().to_owned())));
    ui.say(pairs(&about));
    ui.say("");
    let rows = parts.iter().map(|part| {
        let survey = part.survey.as_ref();
        let sizes = match survey {
            None => "known when run".to_owned(),
            Some(survey) if survey.problem.is_some() => survey.problem.clone().unwrap_or_default(),
            Some(survey) => format!("{}, {}", size(survey.bytes), count(survey.files, "file")),
        };
        vec![
            harmless(part.name),
            format!("{}{}", part.kind.word(), if part.required { ", required" } else { "" }),
            harmless(&sizes),
            part.last_bytes.map_or_else(|| "-".to_owned(), size),
            match part.kind.nature() {
                Nature::Export | Nature::Elsewhere => "a command, see the steps".to_owned(),
                _ => harmless(&part.source),
            },
        ]
    });
    ui.say(table(&["part", "kind", "now", "last run", "from"], rows.collect()));
    show_left_out(ui, plan, parts);
    ui.say("");
    ui.say(styled(BOLD, "steps"));
    for (number, step) in merged(steps(plan)).iter().enumerate() {
        show_step(ui, number + 1, step, full);
    }
    if !full && !ui.is_quiet() {
        ui.hint(&format!("`gullet plan {} --full` shows whole scripts, accounts, folders and variables", plan.app));
    }
}

fn hold_text(plan: &Plan) -> String {
    match &plan.spec.no_hold {
        None if plan.spec.hold.is_empty() => {
            let why = plan.spec.self_consistent.as_deref().unwrap_or("it has no hold step");
            format!("none needed, its export is consistent by itself: {}", harmless(why))
        }
        Some(why) => format!("none, so the parts will not be from one point in time: {}", harmless(why)),
        None => {
            let names: Vec<&str> = plan.spec.hold.iter().map(|step| step.name.as_str()).collect();
            let limit = Span(plan.longest_hold());
            format!("{} (backup mode), for {limit} at most", names.join(", then "))
        }
    }
}

fn show_left_out(ui: &mut Ui, plan: &Plan, parts: &[PartView<'_>]) {
    let left: Vec<String> = parts
        .iter()
        .flat_map(|part| part.survey.iter().flat_map(|survey| &survey.left_out).map(|left| (part.name, left)))
        .map(|(name, left)| {
            let more = if left.count > left.paths.len() as u64 { ", …" } else { "" };
            format!("  {name}: {} {}: {}{more}", left.count, left.why, left.paths.join(", "))
        })
        .chain(parts.iter().flat_map(|part| {
            let survey = part.survey.iter();
            survey.flat_map(|survey| {
                let unused = survey.unused_patterns.iter();
                let unused = unused.map(|pattern| format!("  {}: nothing matches the pattern `{pattern}`", part.name));
                unused
                    .chain(survey.unreadable.iter().map(|text| format!("  {}: {text}", part.name)))
                    .collect::<Vec<_>>()
            })
        }))
        .chain(plan.not_asked_for.iter().map(|name| format!("  {name}: the run was not asked for it")))
        .collect();
    ui.say("");
    ui.say(styled(BOLD, "left out"));
    if left.is_empty() {
        ui.say("  nothing below the sources");
    }
    for line in left {
        ui.say(harmless(&line));
    }
    for part in plan.parts.iter().filter(|part| !part.spec.omits.is_empty()) {
        ui.say(harmless(&format!("  {}: its export does not carry {}", part.name, part.spec.omits.join(", "))));
    }
    for drift in &plan.drift {
        ui.say(harmless(&format!("  {}", drift.text)));
    }
}

/// Names beyond this many columns are counted instead.
const NAMES_WIDTH: usize = 60;

/// Steps without a command that do the same with several parts as one line.
fn merged(steps: Vec<PlanStep>) -> Vec<PlanStep> {
    let mut merged: Vec<(PlanStep, Vec<String>)> = Vec::new();
    let is_plain = |step: &PlanStep| step.command.is_none() && step.detail.is_none() && step.about.is_some();
    for step in steps {
        let names = Vec::from_iter(step.about.clone());
        match merged.last_mut().filter(|(last, _)| is_plain(last) && is_plain(&step)) {
            Some((last, all)) if (last.when, last.kind, &last.what) == (step.when, step.kind, &step.what) => {
                all.extend(names);
            }
            _ => merged.push((step, names)),
        }
    }
    let named = |(step, names): (PlanStep, Vec<String>)| {
        let all = names.join(", ");
        let about = if all.chars().count() > NAMES_WIDTH { count(names.len() as u64, "part") } else { all };
        PlanStep { about: step.about.is_some().then_some(about), ..step }
    };
    merged.into_iter().map(named).collect()
}

fn show_step(ui: &mut Ui, number: usize, step: &PlanStep, full: bool) {
    let mut conditions: Vec<String> = step.command.iter().map(PlannedCommand::conditions).collect();
    conditions.extend(step.detail.clone());
    conditions.retain(|text| !text.is_empty());
    let conditions = match conditions.as_slice() {
        [] => String::new(),
        conditions => styled(DIM, format!("  [{}]", harmless(&conditions.join(", ")))),
    };
    let is_hook = step.kind == Some(StepKind::Hooks);
    let about = step.about.as_ref().filter(|_| !is_hook).map(|about| format!("{about}: ")).unwrap_or_default();
    ui.say(format!("{number:>3}  {:<10} {}{conditions}", step.when, harmless(&format!("{about}{}", step.what))));
    let Some(command) = &step.command else { return };
    let indented = |text: &str| format!("{:16} {}", "", styled(DIM, harmless(text)));
    if let Some(problem) = &command.problem {
        ui.say(format!("{:16} {}", "", styled(BAD, harmless(problem))));
    }
    if !full {
        ui.say(indented(&format!("$ {}", command.text)));
        return;
    }
    let argv = if command.argv.is_empty() { command.text.clone() } else { shell_words(&command.argv) };
    ui.say(indented(&format!("$ {argv}")));
    let lines = |text: &Option<String>| {
        text.iter().flat_map(|text| text.lines().map(str::to_owned).collect::<Vec<_>>()).collect::<Vec<_>>()
    };
    for line in lines(&command.script).into_iter().chain(lines(&command.body)) {
        ui.say(indented(&format!("  | {line}")));
    }
    let limit = format!("limit {}", Span(Duration::from_millis(command.limit_ms)));
    let mut more = Vec::from_iter(command.expects.is_some().then_some(limit));
    more.extend(command.dir.as_ref().map(|dir| format!("in {}", dir.display())));
    more.extend((!command.env.is_empty()).then(|| format!("variables {}", command.env.join(", "))));
    if !more.is_empty() {
        ui.say(indented(&format!("  ({})", more.join(", "))));
    }
}
