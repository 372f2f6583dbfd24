//! How applications stand, for a metrics collector (OpenMetrics 1.0).

use std::fmt;

use gullet_core::status::AppStatus;
use gullet_model::Outcome;
use jiff::Timestamp;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};

type Labels = Vec<(String, String)>;
type Gauges = Family<Labels, Gauge>;

/// The figures of all applications at a time. What is not known has no figure.
///
/// # Errors
/// Never, as text is written into memory; the library says otherwise.
pub fn metrics(statuses: &[AppStatus], waiting: usize, now: Timestamp) -> Result<String, fmt::Error> {
    let mut registry = Registry::with_prefix("gullet");
    let of_app = |status: &AppStatus| vec![("app".to_owned(), status.app.clone())];
    let mut add = |name: &str, help: &str, unit: Option<Unit>, value: &dyn Fn(&AppStatus) -> Option<i64>| {
        let gauges = Gauges::default();
        for (status, value) in statuses.iter().filter_map(|status| Some((status, value(status)?))) {
            gauges.get_or_create(&of_app(status)).set(value);
        }
        match unit {
            Some(unit) => registry.register_with_unit(name, help, unit, gauges),
            None => registry.register(name, help, gauges),
        }
    };
    add("protected", "0 ok, 1 warning, 2 critical, 3 unknown", None, &|status| Some(i64::from(status.level.code())));
    let seconds = || Some(Unit::Seconds);
    let at = |at: Option<Timestamp>| at.map(Timestamp::as_second);
    add("last_complete_timestamp", "When the last complete run began", seconds(), &|status| {
        at(status.last_good.as_ref().map(|mark| mark.started))
    });
    add("last_run_timestamp", "When the last run began", seconds(), &|status| {
        at(status.last.as_ref().map(|mark| mark.started))
    });
    add("last_verified_timestamp", "When the last complete run was read back in full", seconds(), &|status| {
        at(status.verified)
    });
    add("last_drilled_timestamp", "When a run was last proven by a drill", seconds(), &|status| at(status.proven));
    add("complete_expected_within", "How old the last complete run may be", seconds(), &|status| {
        Some(status.expected_within_s).filter(|within| *within > 0)
    });
    let outcomes = Gauges::default();
    for status in statuses {
        let Some(last) = &status.last else { continue };
        for outcome in Outcome::ALL {
            let labels = [of_app(status), vec![("outcome".to_owned(), word(outcome))]].concat();
            outcomes.get_or_create(&labels).set(i64::from(outcome == last.outcome));
        }
    }
    registry.register("last_run_outcome", "1 for how the last run ended", outcomes);
    let one = |registry: &mut Registry, name: &str, help: &str, unit: Option<Unit>, value: i64| {
        let gauge: Gauge = Gauge::default();
        gauge.set(value);
        match unit {
            Some(unit) => registry.register_with_unit(name, help, unit, gauge),
            None => registry.register(name, help, gauge),
        }
    };
    let waiting = i64::try_from(waiting).unwrap_or(i64::MAX);
    one(&mut registry, "messages_waiting", "Messages that could not be sent yet", None, waiting);
    one(&mut registry, "status_timestamp", "When these figures were made", seconds(), now.as_second());
    let mut text = String::new();
    encode(&mut text, &registry)?;
    Ok(text)
}

/// The word of an outcome, as records have it.
fn word(outcome: Outcome) -> String {
    serde_json::to_value(outcome).ok().and_then(|value| value.as_str().map(str::to_owned)).unwrap_or_default()
}
