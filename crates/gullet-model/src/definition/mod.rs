//! The definition: what an administrator writes down about an application.
//!
//! - [`Definition`] and its parts are plain data, the single source of the JSON Schema in `docs/schemas/`.
//! - [`load`] reads the files, checks them against that schema with positions, and collects every flaw at once.
//! - [`check_sources`] looks at the disk: sources that are missing, named twice, or inside the store.
//! - [`placeholders`]: `{run}` and the like in arguments.
//! - [`check_name`]: what something may be called.
//! - [`Flaw`]: one thing that is wrong, with file, line and column.

mod back;
pub mod calendar;
mod check;
mod command_text;
mod engines;
mod expand;
mod flaw;
mod load;
mod notify;
mod part;
mod place;
pub mod placeholders;
pub mod reference;
mod rules;
mod schedule;
mod source;
mod sources;
mod types;
mod values;

pub use back::{AtBoot, DrillSpec, Pick, Reads, RestoreHook, RestoreSpec, Running};
pub use check::nearest;
pub use command_text::{command_text, shell_words};
pub use engines::{HttpExport, LoginSpec, Mariadb, Outside, Postgres, RequestSpec};
pub use flaw::{Flaw, Flaws, Source};
pub use load::{LoadError, Loaded, load, load_sound, load_state_alone};
pub use notify::{Facility, MailServer, MailSpec, NotifyOn, NotifyRule, NotifySpec, ReportSpec};
pub use part::{Drift, Each, Nature, OutputForm, Part, PartCommand, PartKind, StableFact, Tolerance, When};
pub use place::{Credentials, FORMS, StorePlace};
pub use rules::check_name;
pub use schedule::{CalendarSpec, Every, KeepSpec, OnDay, ScheduleSpec, VerifySpec};
pub use source::*;
pub use sources::{check_required_sources, check_sources};
pub use types::{
    App, CaptureMethod, CommandSpec, Definition, EnvValue, ExitWanted, FoundHeld, GroupSpec, HoldStep, Hook,
    HookMoment, Hooks, LimitsSpec, LogEffect, OneOrMany, Probe, Require, SnapshotHooks, StoreSpec,
};
pub use values::{Period, Share, Span};

/// The JSON Schema of a definition file.
pub fn schema() -> serde_json::Value {
    check::definition_schema().clone()
}
