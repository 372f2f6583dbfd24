//! The order of runs: by the chain of their records, so that a clock that was wrong once does not put them out of order.

use std::collections::HashMap;

use jiff::Timestamp;

use super::Logged;
use gullet_model::ids::RunId;

/// What has a place in the order of runs.
pub(super) trait Ordered {
    fn name(&self) -> &str;
    fn previous(&self) -> Option<&str>;
    fn started(&self) -> Timestamp;
    fn run(&self) -> &RunId;
}

impl Ordered for Logged {
    fn name(&self) -> &str {
        &self.name
    }

    fn previous(&self) -> Option<&str> {
        self.record.previous.as_deref()
    }

    fn started(&self) -> Timestamp {
        self.record.started
    }

    fn run(&self) -> &RunId {
        &self.record.run
    }
}

/// Sorts runs, oldest first. Of one machine and application the chain (`previous`) decides. Where the chain says nothing (other
/// applications, other machines, records that wait for the store) the time does, but a run counts as no younger than any
/// that follows it in its chain.
pub(super) fn by_chain<T: Ordered>(runs: &mut Vec<T>) {
    let numbers: HashMap<&str, usize> =
        runs.iter().enumerate().map(|(number, logged)| (logged.name(), number)).collect();
    let before: Vec<Option<usize>> = runs
        .iter()
        .enumerate()
        .map(|(number, logged)| {
            let previous = logged.previous().and_then(|name| numbers.get(name).copied());
            previous.filter(|previous| *previous != number)
        })
        .collect();
    let depths = depths(&before);
    let mut times: Vec<Timestamp> = runs.iter().map(Ordered::started).collect();
    // The youngest of each chain first, so that its time is handed down to all before it.
    let mut youngest_first: Vec<usize> = (0..runs.len()).collect();
    youngest_first.sort_by_key(|number| std::cmp::Reverse(depths[*number]));
    for number in youngest_first {
        if let Some(previous) = before[number] {
            times[previous] = times[previous].min(times[number]);
        }
    }
    let mut keyed: Vec<_> = std::mem::take(runs)
        .into_iter()
        .zip(times.into_iter().zip(depths))
        .map(|(logged, (time, depth))| ((time, depth, logged.started(), logged.run().clone()), logged))
        .collect();
    keyed.sort_by(|(a, _), (b, _)| a.cmp(b));
    runs.extend(keyed.into_iter().map(|(_, logged)| logged));
}

/// How many runs are before each in its chain. A circle cannot be, for the name of a record has the hash of what names the
/// one before; one that is there all the same is cut.
fn depths(before: &[Option<usize>]) -> Vec<usize> {
    let mut depths: Vec<Option<usize>> = vec![None; before.len()];
    for start in 0..before.len() {
        let mut path = Vec::new();
        let mut at = Some(start);
        let mut base = 0;
        while let Some(number) = at {
            if let Some(depth) = depths[number] {
                base = depth + 1;
                break;
            }
            path.push(number);
            // Marked, so that a circle ends.
            depths[number] = Some(0);
            at = before[number];
        }
        for (above, number) in path.into_iter().rev().enumerate() {
            depths[number] = Some(base + above);
        }
    }
    depths.into_iter().map(Option::unwrap_or_default).collect()
}

#[cfg(test)]
mod tests {
    use super::depths;

    #[test]
    fn depths_count_what_is_before_and_circles_end() {
        assert_eq!(depths(&[None, Some(0), Some(1), None, Some(2)]), [0, 1, 2, 0, 3]);
        assert_eq!(depths(&[Some(1), Some(2), None]), [2, 1, 0]);
        assert_eq!(depths(&[Some(1), Some(0)]).len(), 2);
    }
}
