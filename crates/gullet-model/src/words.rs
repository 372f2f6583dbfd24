//! Figures in words, the same in records, warnings and on a terminal.

use jiff::Timestamp;
use jiff::tz::TimeZone;

/// Bytes in the one kind of unit that is used everywhere: powers of 1024.
pub fn size(bytes: u64) -> String {
    const UNITS: [&str; 6] = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"];
    let mut value = bytes as f64;
    let mut unit = 0;
    while value >= 1023.95 && unit + 1 < UNITS.len() {
        value /= 1024.0;
        unit += 1;
    }
    if unit == 0 { format!("{bytes} B") } else { format!("{value:.1} {}", UNITS[unit]) }
}

/// A point in time in the local zone, with its offset.
pub fn time(at: Timestamp) -> String {
    at.to_zoned_datetime(TimeZone::system()).strftime("%Y-%m-%d %H:%M:%S %:z").to_string()
}

/// A time in whole milliseconds.
pub fn millis(time: std::time::Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}

/// Milliseconds as seconds, minutes or hours.
pub fn duration(ms: u64) -> String {
    match ms {
        0..60_000 => format!("{}.{:03} s", ms / 1000, ms % 1000),
        60_000..3_600_000 => format!("{} min {:02} s", ms / 60_000, ms / 1000 % 60),
        _ => format!("{} h {:02} min", ms / 3_600_000, ms / 60_000 % 60),
    }
}

/// A number with its noun: `1 file`, `2 files`.
pub fn count(number: u64, one: &str) -> String {
    let plural = match one.strip_suffix('y') {
        Some(stem) if !stem.ends_with(['a', 'e', 'o', 'u']) => format!("{stem}ies"),
        _ if one.ends_with('s') => format!("{one}es"),
        _ => format!("{one}s"),
    };
    if number == 1 { format!("1 {one}") } else { format!("{number} {plural}") }
}

/// Words joined for reading: `a, b and c`.
pub fn list(words: &[String]) -> String {
    match words {
        [] => String::new(),
        [one] => one.clone(),
        [first @ .., last] => format!("{} and {last}", first.join(", ")),
    }
}

/// An error with its causes on one line.
pub fn chain(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(next) = cause {
        text.push_str(&format!(": {next}"));
        cause = next.source();
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_and_times_are_read_at_a_glance() {
        let sizes = [0, 1023, 1024, 1536, 1_048_575, 1 << 20, 5 << 30].map(size);
        assert_eq!(sizes, ["0 B", "1023 B", "1.0 KiB", "1.5 KiB", "1.0 MiB", "1.0 MiB", "5.0 GiB"]);
        let times = [0, 412, 59_999, 61_000, 3_660_000].map(duration);
        assert_eq!(times, ["0.000 s", "0.412 s", "59.999 s", "1 min 01 s", "1 h 01 min"]);
    }

    #[test]
    fn nouns_agree_with_their_number() {
        assert_eq!(count(1, "file"), "1 file");
        assert_eq!(count(0, "entry"), "0 entries");
        assert_eq!(count(2, "day"), "2 days");
        let words = ["a", "b", "c"].map(str::to_owned);
        assert_eq!([0, 1, 2, 3].map(|many| list(&words[..many])), ["", "a", "a and b", "a, b and c"]);
    }
}
