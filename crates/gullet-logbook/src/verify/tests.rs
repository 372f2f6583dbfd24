use super::*;

fn wanted(lengths: &[u64]) -> Vec<WantedFrames<'static>> {
    let named = lengths.iter().enumerate();
    named.map(|(number, length)| WantedFrames { name: format!("f{number}"), length: *length, file: None }).collect()
}

#[test]
fn a_share_takes_what_was_read_longest_ago_and_no_more_than_it_must() {
    let of = |share: f64, lengths: &[u64], read: &[(&str, u64)]| {
        let files = read.iter().map(|(name, reading)| ((*name).to_owned(), *reading)).collect();
        let proven = Proven { files, ..Proven::default() };
        let chosen = oldest(wanted(lengths), share, &proven);
        chosen.into_iter().map(|file| file.name).collect::<Vec<_>>()
    };
    let even = [10, 10, 10, 10];
    assert_eq!(of(0.5, &even, &[]), ["f0", "f1"], "exactly half");
    assert_eq!(of(0.51, &even, &[]), ["f0", "f1", "f2"], "at least so much");
    assert_eq!(of(0.0, &even, &[]), ["f0"], "at least one");
    assert_eq!(of(0.5, &even, &[("f0", 9), ("f1", 4), ("f2", 7)]), ["f3", "f1"], "never read, then longest ago");
    assert_eq!(of(0.5, &[1, 2, 3, 30], &[("f3", 1)]), ["f0", "f1", "f2", "f3"]);
    assert_eq!(of(1.0, &even, &[("f0", 9)]), ["f1", "f2", "f3", "f0"]);
}
