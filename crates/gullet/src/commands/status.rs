//! `gullet status`.

use clap::Args;
use gullet_core::hold::Note;
use gullet_core::logbook::Logbook;
use gullet_core::restore::place::Journal;
use gullet_core::status::{self, AppStatus, Level};
use jiff::Timestamp;

use crate::cli::Global;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::open;
use crate::table::table;
use crate::text::{ago, harmless};
use crate::ui::{BAD, GOOD, Ui, WARN, styled};

/// Say whether applications are protected
///
/// Exits in the manner of monitoring plug-ins: 0 ok, 1 warning, 2 critical, 3 unknown; the worst of all applications
/// counts.
///
/// Example: gullet status
#[derive(Args)]
pub struct StatusArgs {
    /// Only these applications
    #[arg(value_name = "APP")]
    pub(super) apps: Vec<String>,
}

pub fn status(ui: &mut Ui, global: &Global, args: &StatusArgs) -> Result<Exit, CommandError> {
    let found = gather(ui, global, &args.apps);
    let statuses = match found {
        Ok(statuses) => statuses,
        Err(error) => {
            ui.error(&error);
            return Ok(Exit::Monitoring(Level::Unknown.code()));
        }
    };
    let worst = statuses.iter().map(|status| status.level).max().unwrap_or(Level::Unknown);
    if ui.is_json() {
        ui.json(&serde_json::json!({ "level": worst, "applications": statuses }))?;
    } else {
        show(ui, &statuses);
    }
    Ok(Exit::Monitoring(worst.code()))
}

fn gather(ui: &mut Ui, global: &Global, only: &[String]) -> Result<Vec<AppStatus>, CommandError> {
    let loaded = open::definition(global)?;
    if let Some(app) = only.iter().find(|app| !loaded.definition.app.contains_key(*app)) {
        return Err(CommandError::text(Exit::Usage, format!("the definition has no application `{app}`")));
    }
    let state = open::state(&loaded).ok();
    if let Some(state) = &state {
        crate::forgotten::settle(ui, &loaded, state, &crate::outside::Outside::new());
    }
    let mut statuses = Vec::new();
    for app in loaded.definition.app.keys().filter(|app| only.is_empty() || only.contains(app)) {
        let location = loaded.definition.store_of(app).map(|(_, spec)| spec.location.clone()).unwrap_or_default();
        let book = open::store_at(location.as_ref()).and_then(|store| {
            let book = Logbook::read(&store, Some(app), state.as_ref())?;
            Ok(match &state {
                Some(state) => book.with_waiting(state, Some(app)),
                None => book,
            })
        });
        statuses.push(match book {
            Ok(book) => {
                let notes = state.as_ref().map(|state| state.folder().join("holds"));
                let hold = notes.and_then(|notes| Note::peek(&notes, app));
                let restore = state.as_ref().and_then(|state| Journal::load(state.folder(), app).ok().flatten());
                status::status(app, &book, hold.as_ref()).with_restore(restore.as_ref())
            }
            Err(error) => AppStatus {
                app: app.clone(),
                level: Level::Unknown,
                reasons: vec![error.messages.join(": ")],
                last_good: None,
                last: None,
                verified: None,
                proven: None,
                outside: Vec::new(),
            },
        });
    }
    Ok(statuses)
}

/// The column of what stays with other machinery; it is there only where anything does.
const OUTSIDE: usize = 6;

fn show(ui: &mut Ui, statuses: &[AppStatus]) {
    let now = Timestamp::now();
    let rows = statuses.iter().map(|status| {
        let (style, mark) = match status.level {
            Level::Ok => (GOOD, "✓"),
            Level::Warning => (WARN, "!"),
            Level::Critical => (BAD, "✗"),
            Level::Unknown => (BAD, "?"),
        };
        let run = |mark: &Option<status::RunMark>| {
            mark.as_ref().map_or_else(|| "none".to_owned(), |mark| format!("{} {}", mark.run, ago(mark.started, now)))
        };
        vec![
            status.app.clone(),
            styled(style, format!("{mark} {}", status.level.word())),
            run(&status.last_good),
            run(&status.last),
            status.verified.map_or_else(|| "never".to_owned(), |at| ago(at, now)),
            status.proven.map_or_else(|| "never".to_owned(), |at| ago(at, now)),
            status.outside.iter().map(|(part, id)| harmless(&format!("{part}: {id}"))).collect::<Vec<_>>().join(", "),
            harmless(&status.reasons.join("; ")),
        ]
    });
    let mut rows: Vec<Vec<String>> = rows.collect();
    let mut columns = vec![
        "application",
        "protected",
        "last complete",
        "last run",
        "read back in full",
        "last proven",
        "outside",
        "why",
    ];
    if statuses.iter().all(|status| status.outside.is_empty()) {
        columns.remove(OUTSIDE);
        for row in &mut rows {
            row.remove(OUTSIDE);
        }
    }
    ui.say(table(&columns, rows));
}
