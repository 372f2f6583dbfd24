//! A run that could not even begin: another one is going on, or what the definition asks for cannot be looked up. It leaves a
//! record like every other, and those who wait for its end are told.

use std::collections::BTreeMap;

use gullet_capture::plan::Request;
use gullet_host::hook::{Call, Limits, Runner};
use gullet_host::state::{State, StateError};
use gullet_host::world::World;
use gullet_model::definition::HookMoment;
use gullet_model::definition::{App, Hook};
use gullet_model::ids::RunId;
use gullet_model::notice::Notice;
use gullet_model::outcome::Outcome;
use gullet_model::problem::ProblemKind;
use gullet_model::record::{Problem, Record};
use gullet_model::words::chain;

/// Why a run could not begin.
pub struct Refusal<'a> {
    /// The run's id.
    pub run: RunId,
    /// What was asked for.
    pub request: &'a Request,
    /// The application as the definition has it.
    pub spec: &'a App,
    /// Whether it was refused, or was due by a schedule and missed.
    pub outcome: Outcome,
    /// Why it could not begin, in words.
    pub why: String,
}

impl Refusal<'_> {
    /// Writes the record, which waits for the next run that reaches the store, and runs the `failed` and `finished` hooks. Gives
    /// what went wrong with those.
    ///
    /// # Errors
    /// When the record cannot be kept.
    pub fn tell(self, state: &State, world: World<'_>) -> Result<Vec<String>, StateError> {
        let now = world.clock.now();
        let record = Record {
            title: self.spec.title.clone(),
            trigger: self.request.trigger().to_owned(),
            reason: self.request.reason.clone(),
            partial: !self.request.only.is_empty(),
            causes: vec![Problem {
                kind: if self.outcome == Outcome::Missed { ProblemKind::Missed } else { ProblemKind::Refused },
                about: None,
                text: self.why,
                advice: None,
            }],
            host: world.host.clone(),
            ..Record::bare(self.run.clone(), &self.request.app, state.machine(), now, self.outcome)
        };
        let bytes = serde_json::to_vec_pretty(&record).unwrap_or_default();
        let name = format!("{}-{}.json", record.stem(), gullet_store::Hash::of(&bytes));
        // Told twice would be less bad than never: who dies between the two leaves a message without a record.
        let noted = state.note_notice(&Notice::of_run(&record, None));
        let path = state.keep_waiting(&record.app, &name, &bytes)?;
        let runner = Runner {
            world,
            app: record.app.clone(),
            run: record.run.to_string(),
            family: record.run.to_string(),
            folder: state.place(&["scratch"])?,
            top: state.folder().to_path_buf(),
        };
        let hooks = &self.spec.hooks;
        let moments = [(HookMoment::Failed, &hooks.failed), (HookMoment::Finished, &hooks.finished)];
        let run = |moment: HookMoment, hook: &Hook| {
            let env = BTreeMap::from([
                ("GULLET_OUTCOME".to_owned(), self.outcome.words().to_owned()),
                ("GULLET_RECORD".to_owned(), path.display().to_string()),
            ]);
            // What it notes would lie where those of the run that is going on do.
            let call = Call { moment: moment.word(), limit: Limits::HOOK, env, ..Call::default() };
            runner.run(&hook.command, call).result.err().map(|why| format!("{} hook: {why}", moment.word()))
        };
        let each = moments.into_iter().flat_map(|(moment, hooks)| hooks.iter().map(move |hook| (moment, hook)));
        let not_noted = noted.err().map(|error| format!("nobody can be told of it: {}", chain(&error)));
        Ok(each.filter_map(|(moment, hook)| run(moment, hook)).chain(not_noted).collect())
    }
}
