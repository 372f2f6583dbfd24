//! Times, and foreign text made harmless.

use jiff::Timestamp;
use jiff::tz::TimeZone;

pub use gullet_model::words::{count, duration, size, time};

/// How long an application was held; where leaving failed it was held for longer than could be measured.
pub fn held_for(ms: u64, outcome: gullet_model::Outcome) -> String {
    let more = if outcome == gullet_model::Outcome::NotReleased { "over " } else { "" };
    format!("{more}{}", duration(ms))
}

/// A point in time to the minute, without its zone; [`zone`] is for the heading above it.
pub fn minute(at: Timestamp) -> String {
    at.to_zoned_datetime(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string()
}

/// The name of the zone that times are shown in; its offset now where it has no name.
pub fn zone() -> String {
    let zone = TimeZone::system();
    let offset = || Timestamp::now().to_zoned_datetime(zone.clone()).strftime("%:z").to_string();
    zone.iana_name().map_or_else(offset, str::to_owned)
}

/// How long ago, roughly.
pub fn ago(at: Timestamp, now: Timestamp) -> String {
    let seconds = (now.as_second() - at.as_second()).max(0);
    match seconds {
        0..60 => format!("{seconds} s ago"),
        60..3600 => format!("{} min ago", seconds / 60),
        3600..172_800 => format!("{} h ago", seconds / 3600),
        _ => format!("{} days ago", seconds / 86_400),
    }
}

/// Foreign text on one line, with nothing in it that a terminal would obey.
pub fn harmless(text: &str) -> String {
    let escape = |c: char| {
        if c == '\t' || (!c.is_control() && !matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')) {
            c.to_string()
        } else {
            c.escape_default().to_string()
        }
    };
    text.chars().map(escape).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn control_characters_do_not_reach_a_terminal() {
        assert_eq!(harmless("a\u{1b}[31mb\r\n\u{202e}c"), "a\\u{1b}[31mb\\r\\n\\u{202e}c");
        assert_eq!(harmless("Fähre ✓ \tx"), "Fähre ✓ \tx");
    }
}
