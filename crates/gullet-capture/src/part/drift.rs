//! What a capture must have, compared with what it asks for and with the last good run.

use super::rows::TABLES_NAMED;
use gullet_model::definition::{Nature, Part, Share};
use gullet_model::record::Capture;

/// What a comparison of a capture with the last good run found: failures, and warnings.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Judgement {
    pub(crate) failures: Vec<String>,
    pub(crate) warnings: Vec<String>,
}

/// A fact of a capture as a number; `bytes` and `files` are facts of every capture.
fn number(capture: &Capture, fact: &str) -> Option<f64> {
    match capture.facts.get(fact) {
        Some(value) => value.as_f64().or_else(|| value.as_str()?.trim().parse().ok()),
        None if fact == "bytes" => Some(capture.counts.bytes as f64),
        None if fact == "files" => Some(capture.counts.files as f64),
        None => None,
    }
}

/// What a capture may shrink by where the definition does not say: below that it is rather a mishap than a clean-up. A fact, a
/// share in percent, and the least that it was; of next to nothing a half is nothing to speak of.
fn usual(nature: Nature) -> &'static [(&'static str, f64, f64)] {
    match nature {
        Nature::Database => &[("rows", 50.0, 10.0), ("bytes", 75.0, 65_536.0)],
        // One that was cut short may well have ended with success.
        Nature::Export => &[("bytes", 75.0, 65_536.0)],
        // Many files may go at once; nearly all of them seldom do.
        Nature::Files => &[("files", 90.0, 20.0)],
        Nature::Elsewhere => &[],
    }
}

/// Tables that are named, at most.
const NAMED: usize = 5;

/// How far each fact may fall: what the definition says, and what is usual for what it does not say.
fn limits(spec: &Part, last: Option<&Capture>) -> Vec<(String, Share)> {
    let mut limits: Vec<(String, Share)> = spec.max_shrink.iter().map(|(fact, share)| (fact.clone(), *share)).collect();
    let usual = spec.kinds().first().map_or(&[][..], |kind| usual(kind.nature()));
    for (fact, share, from) in usual.iter().filter(|(fact, _, _)| !spec.max_shrink.contains_key(*fact)) {
        if last.and_then(|last| number(last, fact)).is_some_and(|before| before >= *from) {
            limits.push(((*fact).to_owned(), Share(*share)));
        }
    }
    limits
}

/// The tables whose rows were counted last time and are not now, in words. Where there are so many tables that not all are
/// facts, one that is not among them may be there all the same.
fn gone(capture: &Capture, last: Option<&Capture>) -> Option<String> {
    if capture.facts.keys().filter(|fact| fact.starts_with("rows.")).count() >= TABLES_NAMED {
        return None;
    }
    let tables = last?.facts.keys().filter_map(|fact| fact.strip_prefix("rows."));
    let gone = tables.filter(|table| !capture.facts.contains_key(&format!("rows.{table}")));
    let gone: Vec<&str> = gone.collect();
    let more = if gone.len() > NAMED { format!(" and {} more", gone.len() - NAMED) } else { String::new() };
    let named: Vec<&str> = gone.iter().take(NAMED).copied().collect();
    (!gone.is_empty()).then(|| format!("gone since the last good run: the tables {}{more}", named.join(", ")))
}

/// Judges `capture` by the part's `min` and `max_shrink`.
pub(crate) fn judge(spec: &Part, capture: &Capture, last: Option<&Capture>) -> Judgement {
    let mut judgement = Judgement::default();
    for (fact, least) in &spec.min {
        match number(capture, fact) {
            None => judgement.failures.push(format!("there is no number `{fact}` to compare with `min`")),
            Some(value) if value < *least => {
                judgement.failures.push(format!("`{fact}` is {value}, and at least {least} is wanted"));
            }
            Some(_) => {}
        }
    }
    judgement.warnings.extend(gone(capture, last));
    for (fact, share) in limits(spec, last) {
        let Some(before) = last.and_then(|last| number(last, &fact)) else { continue };
        let Some(now) = number(capture, &fact) else {
            judgement.warnings.push(format!("there is no number `{fact}` any more; it was {before}"));
            continue;
        };
        if now < before * (1.0 - share.0 / 100.0) {
            judgement.warnings.push(format!("`{fact}` fell from {before} to {now}, by more than {share}"));
        }
    }
    judgement
}

#[cfg(test)]
mod tests {
    use super::*;
    use gullet_model::record::Counts;

    fn capture(rows: Option<i64>, bytes: u64) -> Capture {
        let started = jiff::Timestamp::UNIX_EPOCH;
        let blank = crate::part::blank::blank_of("sqlite = \"/x\"", started);
        let facts = rows.map(|rows| ("rows".to_owned(), rows.into())).into_iter().collect();
        Capture { counts: Counts { bytes, ..Counts::default() }, facts, ..blank }
    }

    fn part(toml: &str) -> Part {
        toml::from_str(&format!("name = \"bookings\"\n{toml}")).unwrap()
    }

    #[test]
    fn shrinking_is_a_warning_beyond_its_share_only() {
        let spec = part("max_shrink = { rows = \"10%\", bytes = \"50%\" }");
        let last = capture(Some(1000), 1000);
        let warnings = |rows, bytes| judge(&spec, &capture(rows, bytes), Some(&last)).warnings.len();
        assert_eq!(warnings(Some(900), 500), 0);
        assert_eq!(warnings(Some(899), 500), 1);
        assert_eq!(warnings(Some(899), 499), 2);
        assert_eq!(warnings(Some(5000), 5000), 0);
        assert_eq!(warnings(None, 1000), 1, "a fact that is gone");
        assert_eq!(judge(&spec, &capture(Some(1), 1), None), Judgement::default());
    }

    #[test]
    fn less_than_the_least_is_a_failure_and_so_is_no_number() {
        let spec = part("min = { rows = 1 }");
        assert_eq!(judge(&spec, &capture(Some(1), 0), None), Judgement::default());
        assert_eq!(judge(&spec, &capture(Some(0), 0), None).failures.len(), 1);
        assert_eq!(judge(&spec, &capture(None, 0), None).failures.len(), 1);
    }

    #[test]
    fn a_database_that_is_halved_is_a_warning_by_itself_and_what_the_definition_says_counts() {
        let last = capture(Some(1000), 1_000_000);
        let warnings = |spec: &Part, rows, bytes| judge(spec, &capture(rows, bytes), Some(&last)).warnings;
        let database = part("sqlite = \"/x\"");
        assert!(warnings(&database, Some(500), 250_000).is_empty());
        assert_eq!(warnings(&database, Some(499), 249_999).len(), 2);
        assert!(warnings(&part("sqlite = \"/x\"\nmax_shrink = { rows = \"100%\" }"), Some(1), 900_000).is_empty());
        assert_eq!(warnings(&part("sqlite = \"/x\"\nmax_shrink = { rows = \"1%\" }"), Some(980), 900_000).len(), 1);
        // Of next to nothing a half is nothing.
        let small = capture(Some(9), 9000);
        assert!(judge(&database, &capture(Some(1), 1), Some(&small)).warnings.is_empty());
    }

    #[test]
    fn an_export_that_was_cut_and_a_folder_that_was_emptied_are_warnings_by_themselves() {
        let with = |files, bytes| Capture { counts: Counts { files, bytes, ..Counts::default() }, ..capture(None, 0) };
        let last = with(100, 65_536);
        let warnings = |spec: &Part, now: (u64, u64)| judge(spec, &with(now.0, now.1), Some(&last)).warnings.len();
        let export = part("command = [\"x\"]");
        assert_eq!((warnings(&export, (1, 16_384)), warnings(&export, (1, 16_383))), (0, 1));
        let files = part("files = [\"/x\"]");
        assert_eq!((warnings(&files, (10, 1)), warnings(&files, (9, 65_536))), (0, 1));
        assert_eq!(warnings(&part("files = [\"/x\"]\nmax_shrink = { files = \"100%\" }"), (1, 1)), 0);
        assert!(judge(&export, &with(1, 1), Some(&with(1, 65_535))).warnings.is_empty());
        assert!(judge(&files, &with(1, 1), Some(&with(19, 1))).warnings.is_empty());
    }

    #[test]
    fn tables_that_are_gone_are_named_unless_not_all_are_named() {
        let with = |tables: std::ops::Range<usize>| {
            let facts = tables.map(|number| (format!("rows.t{number:05}"), 1.into()));
            Capture { facts: facts.collect(), ..capture(None, 100) }
        };
        let warnings = |now: &Capture, last: &Capture| judge(&part(""), now, Some(last)).warnings;
        assert!(warnings(&with(0..4), &with(0..4)).is_empty() && warnings(&with(0..9), &with(0..4)).is_empty());
        let gone = warnings(&with(3..4), &with(0..4));
        assert_eq!(gone, ["gone since the last good run: the tables t00000, t00001, t00002"]);
        assert!(warnings(&with(8..9), &with(0..9))[0].ends_with("t00004 and 3 more"));
        // One more at the front pushes another out of those that are named.
        assert!(warnings(&with(0..TABLES_NAMED), &with(1..TABLES_NAMED + 1)).is_empty());
    }
}
