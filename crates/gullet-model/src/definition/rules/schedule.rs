//! Rules of schedules.

use super::Rules;
use crate::definition::calendar::{Rule, zone};
use crate::definition::{App, CalendarSpec, ScheduleSpec};

impl Rules<'_> {
    /// When something other than a run is done.
    pub(super) fn calendar(&mut self, at: &str, calendar: &CalendarSpec) {
        let Some(spec) = calendar.schedule("it") else { return };
        if calendar.zone.is_none() {
            let hint = "zone = \"Europe/Lisbon\", or zone = \"local\"".to_owned();
            self.flaw(at, "it is not said in which zone its times are".to_owned(), Some(hint));
        } else if let Err(error) = Rule::new(&spec) {
            self.flaw(&format!("{at}/{}", error.key), error.message, error.hint);
        }
    }

    /// Schedules of an application with these parts, or of a group.
    pub(super) fn schedules_of(&mut self, base: &str, schedules: &[ScheduleSpec], parts: &[&str]) {
        for (number, spec) in schedules.iter().enumerate() {
            let at = format!("{base}/schedule/{number}");
            self.name(&at, "a schedule", &spec.name);
            if schedules[..number].iter().any(|other| other.name == spec.name) {
                self.flaw(&format!("{at}/name"), format!("there is a schedule `{}` already", spec.name), None);
            }
            if let Err(error) = Rule::new(spec) {
                self.flaw(&format!("{at}/{}", error.key), error.message, error.hint);
            }
            self.known_parts(&format!("{at}/parts"), &spec.parts, parts);
        }
    }

    pub(super) fn schedules(&mut self, base: &str, app: &App) {
        let parts: Vec<&str> = app.part.iter().map(|part| part.name.as_str()).collect();
        self.schedules_of(base, &app.schedule, &parts);
        if let Some(drill) = &app.drill {
            self.calendar(&format!("{base}/drill"), &drill.calendar);
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
            let keeps_none = keep.newest.unwrap_or(0) == 0 && periods.iter().all(Option::is_none);
            if keeps_none && (keep.newest.is_some() || keep.logs_for.is_none()) {
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
