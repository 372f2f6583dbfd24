//! Work on many things by several threads, whose results one thread hears of.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::sync_channel;
use std::sync::{Mutex, PoisonError};

/// Works on the items of `groups` with so many threads. The items of one group are worked on one after the other, in their order; the
/// groups are begun in theirs. `done` hears of each as it is done; what it returns as an error ends all, after what is just being done.
///
/// # Errors
/// The first that `done` returns.
pub fn each<T: Send, R: Send, E>(
    threads: usize,
    groups: Vec<Vec<T>>,
    work: impl Fn(&T) -> R + Sync,
    mut done: impl FnMut(T, R) -> Result<(), E>,
) -> Result<(), E> {
    let is_over = AtomicBool::new(false);
    let groups = Mutex::new(groups.into_iter());
    let (results, heard) = sync_channel(threads);
    std::thread::scope(|scope| {
        for _ in 0..threads {
            let (results, groups, work, is_over) = (results.clone(), &groups, &work, &is_over);
            scope.spawn(move || {
                let next = || groups.lock().unwrap_or_else(PoisonError::into_inner).next();
                while let Some(group) = next() {
                    for item in group {
                        if is_over.load(Ordering::Relaxed) {
                            return;
                        }
                        let result = work(&item);
                        if results.send((item, result)).is_err() {
                            return;
                        }
                    }
                }
            });
        }
        drop(results);
        let mut outcome = Ok(());
        for (item, result) in heard {
            if outcome.is_ok() {
                outcome = done(item, result);
                is_over.store(outcome.is_err(), Ordering::Relaxed);
            }
        }
        outcome
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_item_is_done_once_and_groups_keep_their_order() {
        let groups: Vec<Vec<(usize, usize)>> =
            (0..7).map(|group| (0..group * 3).map(|number| (group, number)).collect()).collect();
        for threads in [1, 2, 5, 20] {
            let mut heard: Vec<(usize, usize)> = Vec::new();
            let square = |(_, number): &(usize, usize)| number * number;
            let outcome = each(threads, groups.clone(), square, |item, square| {
                assert_eq!(square, item.1 * item.1);
                heard.push(item);
                Ok::<(), ()>(())
            });
            assert_eq!(outcome, Ok(()));
            for group in &groups {
                let of_group = heard.iter().filter(|item| Some(&item.0) == group.first().map(|item| &item.0));
                assert!(of_group.eq(group));
            }
            assert_eq!(heard.len(), groups.iter().map(Vec::len).sum::<usize>());
        }
    }

    #[test]
    fn the_first_error_ends_it() {
        let mut heard = 0;
        let outcome = each(
            3,
            vec![(0..1000).collect()],
            |number| *number,
            |_: i32, number| {
                heard += 1;
                if number == 5 { Err("enough") } else { Ok(()) }
            },
        );
        assert_eq!((outcome, heard), (Err("enough"), 6));
    }
}
