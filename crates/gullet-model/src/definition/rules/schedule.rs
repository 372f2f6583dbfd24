//! Rules of schedules.

use super::Rules;
use crate::definition::App;
use crate::definition::calendar::{Rule, zone};

impl Rules<'_> {
    pub(super) fn schedules(&mut self, base: &str, app: &App) {
        let parts: Vec<&str> = app.part.iter().map(|part| part.name.as_str()).collect();
        for (number, spec) in app.schedule.iter().enumerate() {
            let at = format!("{base}/schedule/{number}");
            self.name(&at, "a schedule", &spec.name);
            if app.schedule[..number].iter().any(|other| other.name == spec.name) {
                self.flaw(&format!("{at}/name"), format!("there is a schedule `{}` already", spec.name), None);
            }
            if let Err(error) = Rule::new(spec) {
                self.flaw(&format!("{at}/{}", error.key), error.message, error.hint);
            }
            self.known_parts(&format!("{at}/parts"), &spec.parts, &parts);
        }
        if let Some(keep) = &app.keep {
            let at = format!("{base}/keep");
            let periods = [
                keep.everything_for,
                keep.one_a_day_for,
                keep.one_a_week_for,
                keep.one_a_month_for,
                keep.one_a_year_for,
            ];
            if keep.newest.unwrap_or(0) == 0 && periods.iter().all(Option::is_none) {
                let hint = "newest = 10, or one_a_week_for = \"3m\"; without `keep` every run stays";
                self.flaw(&at, "these keep rules keep nothing".to_owned(), Some(hint.to_owned()));
            }
            if let Some(Err(error)) = keep.zone.as_deref().map(zone) {
                self.flaw(&format!("{at}/zone"), error.message, error.hint);
            }
        }
        if app.no_schedule.is_some() && !app.schedule.is_empty() {
            let message = "there is a schedule, so `no_schedule` does not apply";
            self.flaw(&format!("{base}/no_schedule"), message.to_owned(), None);
        }
    }
}
