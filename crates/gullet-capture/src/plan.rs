//! The plan: every step that a run will execute, as a value that is shown or applied.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use gullet_store::Recipients;
use serde::Serialize;

use gullet_host::hook::{Call, Limits, Runner};
use gullet_host::world::World;
use gullet_logbook::logbook::Logged;
use gullet_model::definition::placeholders::fill;
use gullet_model::definition::{
    App, CaptureMethod, CommandSpec, Definition, Drift, Flaws, Loaded, Part, PartKind, PartSource, StoreSpec,
    check_required_sources, check_sources,
};
use gullet_model::record::Record;
use gullet_model::step::{Facts, fact_value};
use gullet_model::{Reason, ReasonAbout};

/// How long an application may be held that does not say.
const LONGEST_HOLD: Duration = Duration::from_secs(5 * 60);

/// What somebody asks for.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// The application's name in the definition.
    pub app: String,
    /// Parts to narrow the run to; all when empty.
    pub only: Vec<String>,
    /// Why it is run, in the words of who asked for it.
    pub reason: Option<String>,
    /// Read everything anew, whatever the marks say.
    pub reread: bool,
    /// What started it, where that is not a person.
    pub trigger: Option<String>,
    /// The plan is only shown: a required source may be missing, which is told beside it.
    pub only_shown: bool,
}

impl Request {
    /// What started it, in words.
    pub fn trigger(&self) -> &str {
        self.trigger.as_deref().unwrap_or(gullet_model::record::BY_HAND)
    }
}

/// A plan could not be made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PlanError {
    /// The definition has no such application.
    #[error("the definition has no application `{app}`")]
    NoApp {
        /// The name that the command gave.
        app: String,
        /// The applications of the definition.
        known: Vec<String>,
    },
    /// The application has no such part.
    #[error("`{app}` has no part `{part}`")]
    NoPart {
        /// The application.
        app: String,
        /// The part's name that the command gave.
        part: String,
        /// The parts that the application has.
        known: Vec<String>,
    },
    /// A value of the store's `encrypt_to` is not a public key.
    #[error("it is to be encrypted for what is not a public key: {0}")]
    Key(String),
    /// A part is of no kind, or of several.
    #[error("the part `{0}` is not of one kind")]
    Kind(String),
    /// Sources do not fit the disk.
    #[error(transparent)]
    Flaws(#[from] Flaws),
    /// The command that prints the parts there are failed, or printed what it should not.
    #[error("the part `{part}` could not be looked up: {why}")]
    Each {
        /// The part's name in the definition.
        part: String,
        /// What the command said, or what is wrong with what it printed.
        why: Reason,
    },
}

/// One part of the plan.
#[derive(Clone, Debug, PartialEq)]
pub struct PlannedPart {
    /// Its name, filled in.
    pub name: String,
    /// The name of the definition's part that it comes from, where `each` made it.
    pub each_of: Option<String>,
    /// Values of `{each.…}`.
    pub values: BTreeMap<String, String>,
    /// Where it comes from, filled in.
    pub source: PartSource,
    /// The part as the definition has it.
    pub spec: Part,
    /// Absolute paths that belong to other parts, with their names; they are left out of this one.
    pub claimed: Vec<(PathBuf, String)>,
}

/// A difference in what there is from the last good run.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct PartDrift {
    /// How grave the definition holds it to be.
    pub drift: Drift,
    /// What changed in its definition since the last good run, in words.
    pub text: String,
}

/// A copy that a store gets after a run.
#[derive(Clone, Debug, PartialEq)]
pub struct PlannedCopy {
    /// Its name in the definition.
    pub name: String,
    /// Where it lies, and how it is reached.
    pub spec: StoreSpec,
}

/// Every step that a run will execute.
#[derive(Clone, Debug)]
pub struct Plan {
    /// The application's name in the definition.
    pub app: String,
    /// The application as the definition has it.
    pub spec: App,
    /// The store's name in the definition.
    pub store_name: String,
    /// The store's folder; of a far place its URL, which no path of a source can lie within.
    pub store: PathBuf,
    /// Whether it must be a mount point.
    pub mounted: bool,
    /// Whether the store lies elsewhere, so that storing takes as long as a network does.
    pub is_far: bool,
    /// The copies that the store gets after the run.
    pub copies: Vec<PlannedCopy>,
    /// The level of Zstandard, 1 to 22.
    pub level: i32,
    /// Whom everything is encrypted to.
    pub seal: Recipients,
    /// The state folder.
    pub state: PathBuf,
    /// The parts that will be captured.
    pub parts: Vec<PlannedPart>,
    /// The parts of the definition that the run was not asked for.
    pub not_asked_for: Vec<String>,
    /// New and vanished parts, and facts that could not be asked.
    pub drift: Vec<PartDrift>,
    /// What the application says of itself.
    pub facts: Facts,
    /// The request that the plan was made for.
    pub request: Request,
}

/// What an application says of itself, and what could not be asked.
fn app_facts(spec: &App, runner: &Runner<'_>) -> (Facts, Vec<String>) {
    let (mut facts, mut problems) = (Facts::new(), Vec::new());
    for (name, command) in &spec.facts {
        let outcome = runner.run(command, Call { moment: "facts", limit: Limits::PROBE, ..Call::default() });
        match outcome.result {
            Ok(()) => {
                facts.insert(name.clone(), fact_value(&outcome.text));
            }
            Err(why) => problems.push(format!("the fact `{name}` of the application could not be had: {why}")),
        }
    }
    (facts, problems)
}

/// What an application says of itself now, apart from any run.
pub fn facts_now(spec: &App, app: &str, world: World<'_>, state: &Path) -> Facts {
    app_facts(spec, &Runner::apart(world, app, state)).0
}

/// Facts that differ: the name, what it was, what it is. One that only one side has is not compared.
pub fn changed_facts(then: &Facts, now: &Facts) -> Vec<(String, String, String)> {
    let text = |value: &serde_json::Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    let both = then.iter().filter_map(|(name, then)| Some((name, then, now.get(name)?)));
    both.filter(|(_, then, now)| then != now).map(|(name, then, now)| (name.clone(), text(then), text(now))).collect()
}

impl Plan {
    /// Makes the plan for a request. Asks the application which parts it has where the definition says so; touches
    /// nothing else.
    ///
    /// # Errors
    /// When the request does not fit the definition, or the definition the disk.
    pub fn make(
        loaded: &Loaded,
        request: Request,
        state: PathBuf,
        runner: &Runner<'_>,
        last_good: Option<&Logged>,
    ) -> Result<Self, PlanError> {
        let spec = loaded.definition.app.get(&request.app).ok_or_else(|| PlanError::NoApp {
            app: request.app.clone(),
            known: loaded.definition.app.keys().cloned().collect(),
        })?;
        let Some((store_name, store)) = loaded.definition.store_of(&request.app) else {
            return Err(PlanError::NoApp { app: request.app, known: Vec::new() });
        };
        let location = PathBuf::from(&store.location);
        check_sources(loaded, &request.app, &location, &state)?;
        if !request.only_shown {
            check_required_sources(loaded, &request.app)?;
        }
        let mut plan = Self {
            app: request.app.clone(),
            spec: spec.clone(),
            store_name: store_name.clone(),
            store: location,
            mounted: store.must_be_mounted,
            is_far: store.folder().is_none(),
            copies: PlannedCopy::all(&loaded.definition, &request.app),
            level: store.zstd_level.unwrap_or(3),
            seal: Recipients::parse(&store.encrypt_to).map_err(|error| PlanError::Key(error.to_string()))?,
            state,
            parts: Vec::new(),
            not_asked_for: Vec::new(),
            drift: Vec::new(),
            facts: Facts::new(),
            request,
        };
        let (facts, problems) = app_facts(spec, runner);
        plan.facts = facts;
        plan.drift = problems.into_iter().map(|text| PartDrift { drift: Drift::Warn, text }).collect();
        for part in &spec.part {
            plan.add_part(part, runner, last_good)?;
        }
        plan.narrow()?;
        plan.claim();
        Ok(plan)
    }

    /// The plan that a run had, by its record: what its parts were, and what belonged to which. Nothing is asked. The store and its
    /// copies are those of now, which belong to no part.
    ///
    /// # Errors
    /// When the definition in the record cannot be read.
    pub fn of_record(
        record: &Record,
        (store, copies): (PathBuf, Vec<PlannedCopy>),
        state: PathBuf,
    ) -> Result<Self, toml::de::Error> {
        let spec = record.defined()?;
        let parts = record.captures.iter().filter_map(|capture| {
            let part = capture.defined_in(&spec)?;
            let (name, each_of, values) = (capture.part.clone(), capture.each_of.clone(), capture.each.clone());
            let part = match &each_of {
                Some(_) => one_of_each(part, &name, &values).ok()?,
                None => part.clone(),
            };
            Some(PlannedPart { each_of, values, ..PlannedPart::of(part).ok()? })
        });
        let mut plan = Self {
            app: record.app.clone(),
            parts: parts.collect(),
            spec,
            store_name: String::new(),
            store,
            mounted: false,
            is_far: false,
            copies,
            level: 3,
            seal: Recipients::default(),
            state,
            not_asked_for: Vec::new(),
            drift: Vec::new(),
            facts: Facts::new(),
            request: Request::default(),
        };
        plan.claim();
        Ok(plan)
    }

    fn add_part(&mut self, part: &Part, runner: &Runner<'_>, last_good: Option<&Logged>) -> Result<(), PlanError> {
        let Some(each) = &part.each else {
            self.parts.push(PlannedPart::of(part.clone())?);
            return Ok(());
        };
        let fail = |why: Reason| PlanError::Each { part: part.name.clone(), why };
        let outcome = runner.run(&each.command, Call { moment: "plan", limit: Limits::PROBE, ..Call::default() });
        outcome.result.map_err(fail)?;
        let mut names = Vec::new();
        for line in outcome.text.lines().filter(|line| !line.trim().is_empty()) {
            let values = each_values(line).map_err(fail)?;
            let name = fill(&part.name, &values).map_err(|error| fail(error.into()))?;
            let plain = !name.contains('/') && !name.chars().any(char::is_control) && name.len() <= 200;
            if !plain || name.starts_with('.') {
                return Err(fail(Reason::new(format!("{name:?} cannot be the name of a part"))));
            }
            if names.contains(&name) {
                return Err(fail(Reason::new(format!("`{name}` is printed twice"))));
            }
            names.push(name.clone());
            let spec = one_of_each(part, &name, &values).map_err(fail)?;
            self.parts.push(PlannedPart { each_of: Some(part.name.clone()), values, ..PlannedPart::of(spec)? });
        }
        if names.len() < each.min.unwrap_or(0) as usize {
            return Err(fail(Reason::new(format!(
                "there are {}, and at least {} are wanted",
                names.len(),
                each.min.unwrap_or(0)
            ))));
        }
        if let Some(last) = last_good {
            let before = last.record.captures.iter().filter(|c| c.each_of.as_ref() == Some(&part.name));
            let before: Vec<&String> = before.map(|capture| &capture.part).collect();
            let new =
                names.iter().filter(|name| !before.contains(name)).map(|name| (each.new, Drift::Warn, name, "new"));
            let gone = before.iter().filter(|name| !names.contains(name));
            let gone = gone.map(|name| (each.gone, Drift::Fail, *name, "gone"));
            for (said, usual, name, what) in new.chain(gone) {
                let text = format!("`{name}` is {what} since run {}", last.record.run);
                self.drift.push(PartDrift { drift: said.unwrap_or(usual), text });
            }
        }
        Ok(())
    }

    fn narrow(&mut self) -> Result<(), PlanError> {
        let only = &self.request.only;
        if only.is_empty() {
            return Ok(());
        }
        let meant = |part: &PlannedPart, name: &String| part.name == *name || part.each_of.as_ref() == Some(name);
        if let Some(missing) = only.iter().find(|name| !self.parts.iter().any(|part| meant(part, name))) {
            return Err(PlanError::NoPart {
                app: self.app.clone(),
                part: missing.clone(),
                known: self.parts.iter().map(|part| part.name.clone()).collect(),
            });
        }
        let asked = |part: &PlannedPart| only.iter().any(|name| meant(part, name));
        self.not_asked_for = self.parts.iter().filter(|part| !asked(part)).map(|part| part.name.clone()).collect();
        self.parts.retain(asked);
        Ok(())
    }

    /// What one part captures is left out of the others: an SQLite database and its logs in a folder of files, a folder
    /// within a folder. The store and the state folder are never captured.
    /// Each path belongs to one part.
    fn claim(&mut self) {
        let mut claims: Vec<(PathBuf, String)> = Vec::new();
        // Parts that `each` makes have paths of their own; those that the run was not asked for keep theirs.
        let not_asked = self.spec.part.iter().filter(|part| part.each.is_none());
        let not_asked = not_asked.filter_map(|part| PlannedPart::of(part.clone()).ok());
        for part in not_asked.chain(self.parts.iter().cloned()) {
            for path in part.source.paths() {
                claims.push((path.clone(), part.name.clone()));
                if part.source.kind() == PartKind::Sqlite {
                    let logs = BESIDE_SQLITE.iter().map(|suffix| beside(path, suffix));
                    claims.extend(logs.map(|path| (path, part.name.clone())));
                }
            }
        }
        claims.sort();
        claims.dedup();
        for part in &mut self.parts {
            part.claimed = claims.iter().filter(|(_, name)| *name != part.name).cloned().collect();
        }
    }

    /// How parts are secured while the application is held.
    pub fn secure(&self) -> CaptureMethod {
        self.spec.capture_method.unwrap_or(CaptureMethod::Auto)
    }

    /// Whether the run is narrowed to some parts.
    pub fn is_partial(&self) -> bool {
        !self.request.only.is_empty()
    }

    /// How long the application may be held.
    pub fn longest_hold(&self) -> Duration {
        self.spec.max_hold.map_or(LONGEST_HOLD, |span| span.0)
    }

    /// The application's definition in TOML, as its record keeps it.
    pub fn definition_text(&self) -> String {
        let apps = BTreeMap::from([(&self.app, &self.spec)]);
        toml::to_string_pretty(&BTreeMap::from([("app", apps)])).unwrap_or_default()
    }
}

impl PlannedCopy {
    /// The copies that the store of an application has by the definition.
    pub fn all(definition: &Definition, app: &str) -> Vec<Self> {
        let store = definition.store_of(app);
        store.map(|(_, store)| definition.copies_of(store).map(Self::of).collect()).unwrap_or_default()
    }

    /// A store of the definition as a copy.
    pub fn of((name, spec): (&String, &StoreSpec)) -> Self {
        Self { name: name.clone(), spec: spec.clone() }
    }
}

impl PlannedPart {
    /// A part of the definition as it stands there.
    ///
    /// # Errors
    /// When it is of no kind or of several; a definition that passed its checks has no such part.
    pub fn of(spec: Part) -> Result<Self, PlanError> {
        let source = spec.source().map_err(|_| PlanError::Kind(spec.name.clone()))?;
        let (name, values) = (spec.name.clone(), BTreeMap::new());
        Ok(Self { name, each_of: None, values, source, spec, claimed: Vec::new() })
    }

    /// Takes every path that it reads by itself elsewhere.
    pub fn move_sources(&mut self, to: &dyn Fn(&Path) -> PathBuf) {
        self.source.move_paths(to);
        for (path, _) in &mut self.claimed {
            *path = to(path);
        }
    }

    /// A command with `{each.…}` filled into its arguments.
    pub fn filled_command(&self, command: &CommandSpec) -> CommandSpec {
        CommandSpec { run: command.run.as_ref().map(|run| self.filled(run)), ..command.clone() }
    }

    /// Arguments with `{each.…}` filled in; what has no value yet stays as it is.
    pub fn filled(&self, arguments: &[String]) -> Vec<String> {
        let mut values = self.values.clone();
        values.insert("scratch".to_owned(), "{scratch}".to_owned());
        values.insert("run".to_owned(), "{run}".to_owned());
        arguments.iter().map(|argument| fill(argument, &values).unwrap_or_else(|_| argument.clone())).collect()
    }
}

/// What SQLite keeps beside a database, by the ends of their names.
pub const BESIDE_SQLITE: [&str; 3] = ["-wal", "-shm", "-journal"];

/// The path of what SQLite keeps beside a database.
pub fn beside(database: &Path, suffix: &str) -> PathBuf {
    let mut name = database.as_os_str().to_owned();
    name.push(suffix);
    name.into()
}

/// The values of one line that an `each` command printed: a JSON object, or a name.
fn each_values(line: &str) -> Result<BTreeMap<String, String>, Reason> {
    if !line.trim_start().starts_with('{') {
        return Ok(BTreeMap::from([("each.name".to_owned(), line.trim().to_owned())]));
    }
    let object: serde_json::Map<String, serde_json::Value> =
        serde_json::from_str(line).about(format_args!("{line:?} is not JSON"))?;
    let text = |value: serde_json::Value| match value {
        serde_json::Value::String(text) => text,
        other => other.to_string(),
    };
    Ok(object.into_iter().map(|(key, value)| (format!("each.{key}"), text(value))).collect())
}

/// One of the parts that `each` makes of a part: its paths have the values that were printed.
fn one_of_each(part: &Part, name: &str, values: &BTreeMap<String, String>) -> Result<Part, Reason> {
    let mut one = Part { each: None, name: name.to_owned(), ..part.clone() };
    for path in one.files.iter_mut().chain(&mut one.sqlite).chain(&mut one.collect) {
        *path = filled_path(path, values)?;
    }
    Ok(one)
}

/// A path with its placeholders filled in; what is filled in stays one piece of it.
fn filled_path(path: &Path, values: &BTreeMap<String, String>) -> Result<PathBuf, Reason> {
    let Some(text) = path.to_str() else { return Ok(path.to_path_buf()) };
    let used = gullet_model::definition::placeholders::names(text).into_iter().filter_map(|name| values.get(name));
    if let Some(value) = used.into_iter().find(|value| value.contains('/') || matches!(value.as_str(), "" | "." | ".."))
    {
        return Err(Reason::new(format!("{value:?} cannot be a piece of the path `{text}`")));
    }
    fill(text, values).map(PathBuf::from).map_err(Reason::from)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_of_each_is_a_name_or_an_object() {
        assert_eq!(each_values(" inner isles ").unwrap()["each.name"], "inner isles");
        let values = each_values(r#"{"name":"a","rows":3}"#).unwrap();
        assert_eq!((values["each.name"].as_str(), values["each.rows"].as_str()), ("a", "3"));
        assert!(each_values("{not json").is_err());
    }
}
