//! `gullet plan`.

mod against;

use clap::Args;
use gullet_capture::kinds::{source_text, survey};
use gullet_capture::part::Survey;
use gullet_capture::plan::{Plan, Request};
use gullet_host::hook::Runner;
use gullet_host::state::State;
use gullet_logbook::logbook::Logbook;
use gullet_model::definition::{LoadError, Nature, PartKind, check_required_sources};
use gullet_model::ids::RunId;
use gullet_run::steps::steps;
use serde::Serialize;

use crate::args::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::outside::RealWorld;
use crate::render::plan::{full_plan, hold_text, merged, plan_title, step_lines};
use crate::table::{pairs, table};
use crate::text::{count, harmless, size};
use crate::ui::{BOLD, Ui, styled};

/// Show the steps a run would execute, what is in and what is left out
///
/// Nothing is touched; the definition's commands that print which parts there are (`each`) are asked. With a second plan the
/// lines that differ are shown.
///
/// Example: gullet plan quaybook
#[derive(Args)]
pub struct PlanArgs {
    /// The application; with a second plan also a run, or a file that `--full` was kept in
    pub(super) app: String,
    /// The plan to compare it with: an application, a run such as `quaybook@latest`, or a file that `--full` was kept in
    pub(super) other: Option<String>,
    /// Only this part (can be repeated)
    #[arg(long = "part", value_name = "PART")]
    pub(super) parts: Vec<String>,
    /// Of the second plan only this part (can be repeated)
    #[arg(long = "other-part", value_name = "PART", requires = "other")]
    pub(super) other_parts: Vec<String>,
    /// Show each command with all that it is executed with: whole scripts, accounts, folders, names of variables; and nothing that
    /// is measured, so that it can be kept and compared
    #[arg(long, conflicts_with = "other")]
    pub(super) full: bool,
}

impl PlanArgs {
    /// The plan of an application, and nothing else.
    pub(super) fn of(app: &str) -> Self {
        Self { app: app.to_owned(), other: None, parts: Vec::new(), other_parts: Vec::new(), full: false }
    }
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

/// What asks the definition's commands for a plan: below the folder for temporary files, for there may be no state folder yet.
fn runner<'w>(outside: &'w RealWorld, app: &str) -> Runner<'w> {
    Runner {
        world: outside.world(),
        app: app.to_owned(),
        run: RunId::new(outside.world().random).to_string(),
        family: RunId::new(outside.world().random).to_string(),
        folder: std::env::temp_dir(),
        top: std::env::temp_dir(),
    }
}

pub fn plan(ui: &mut Ui, global: &Global, args: &PlanArgs) -> Result<Exit, CommandError> {
    if let Some(other) = &args.other {
        return against::compare(ui, global, (&args.app, &args.parts), (other, &args.other_parts));
    }
    let loaded = open::definition(global)?;
    let outside = RealWorld::new();
    let runner = runner(&outside, &args.app);
    let state = open::state_folder(&loaded);
    let request = Request { app: args.app.clone(), only: args.parts.clone(), only_shown: true, ..Request::default() };
    // The last run makes the sizes comparable; without a store yet there is none.
    let spec = loaded.definition.store_of(&args.app);
    let store = spec.and_then(|(_, spec)| open::store_at(spec).ok());
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
        check_required_sources(&loaded, &args.app).map_err(LoadError::Flaws)?;
        return Ok(Exit::Complete);
    }
    if args.full {
        ui.say(full_plan(&plan));
    } else {
        show(ui, &plan, &parts, store.is_some());
    }
    // The plan can be read all the same; a run would be refused.
    check_required_sources(&loaded, &args.app).map_err(LoadError::Flaws)?;
    let problem = parts.iter().any(|part| part.survey.as_ref().is_some_and(|survey| survey.problem.is_some()));
    Ok(if problem { Exit::Refused } else { Exit::Complete })
}

fn show(ui: &mut Ui, plan: &Plan, parts: &[PartView<'_>], has_store: bool) {
    ui.say(styled(BOLD, harmless(&plan_title(plan))));
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
                Nature::Export | Nature::Elsewhere => "see the steps".to_owned(),
                _ => harmless(&part.source),
            },
        ]
    });
    ui.say(table(&["part", "kind", "now", "last run", "from"], rows.collect()));
    show_left_out(ui, plan, parts);
    ui.say("");
    ui.say(styled(BOLD, "steps"));
    for (number, step) in merged(steps(plan)).iter().enumerate() {
        for line in step_lines(Some(number + 1), step, false) {
            ui.say(line);
        }
    }
    if !ui.is_quiet() {
        ui.hint(&format!("`gullet plan {} --full` shows whole scripts, accounts, folders and variables", plan.app));
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
