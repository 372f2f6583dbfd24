use super::texts::LINES_MAX;
use super::*;

fn entry(path: &str, contents: &str) -> Entry {
    let chunks = vec![gullet_store::Hash::of(contents.as_bytes())];
    Entry { size: contents.len() as u64, chunks, ..Entry::bare(PathName::new(path), Kind::File) }
}

#[test]
fn what_is_gone_here_and_came_there_was_moved() {
    let mut gathering = Gatherer::new("docs");
    let boxed = |path, contents| Box::new(entry(path, contents));
    gathering.take(Difference::Gone(boxed("a", "same")));
    gathering.take(Difference::Gone(boxed("b", "other")));
    gathering.take(Difference::Added(boxed("z/a", "same")));
    gathering.take(Difference::Added(boxed("z/c", "new")));
    gathering.take(Difference::Changed(boxed("d", "1"), boxed("d", "2")));
    gathering.take(Difference::Changed(boxed("e", "1"), Box::new(Entry { mode: 0o600, ..entry("e", "1") })));
    gathering.pair();
    let tally = gathering.comparison.tally;
    assert_eq!(tally, DifferenceCounts { added: 1, gone: 1, changed: 1, touched: 1, moved: 1 });
    let moved = gathering.comparison.paths.iter().find(|path| path.what == ChangeKind::Moved).unwrap();
    assert_eq!((moved.from.as_ref(), &moved.path), (Some(&PathName::new("a")), &PathName::new("z/a")));
}

#[test]
fn texts_are_compared_by_lines_and_bounded() {
    let change = lines(&PathName::new("t"), "a\nb\nc\nd\n", "a\nB\nc\nd\n");
    assert_eq!(change.lines, [" a", "-b", "+B", " c"]);
    let many: String = (0..1000).map(|n| format!("{n}\n")).collect();
    let change = lines(&PathName::new("t"), "", &many);
    assert_eq!((change.lines.len(), change.more), (LINES_MAX, 1000 - LINES_MAX));
}

#[test]
fn keys_that_are_drawn_anew_make_no_difference_and_everything_else_does() {
    let same = |one: &str, other: &str| {
        // Both are read in pieces of other sizes.
        let reader = |text: &str, size| BufReader::with_capacity(size, io::Cursor::new(text.to_owned()));
        let found: Vec<bool> = [(1, 3), (64, 5), (4096, 4096)]
            .map(|(a, b)| same_but_for_keys(reader(one, a), reader(other, b)).unwrap())
            .into();
        assert!(found.iter().all(|each| *each == found[0]), "{found:?}");
        found[0]
    };
    let dump = |key: &str, row: &str| format!("\\restrict {key}\ncopy t;\n{row}\n\\.\n\\unrestrict {key}\n");
    assert!(same(&dump("abc", "1\t2"), &dump("xyz", "1\t2")));
    assert!(!same(&dump("abc", "1\t2"), &dump("xyz", "1\t3")));
    assert!(!same(&dump("abc", "1"), &dump("abcd", "1")), "a key of another length");
    assert!(!same("\\restrict abc", "\\restricX abc") && !same("a \\restrict abc\n", "a \\restrict xyz\n"));
    assert!(!same("x\\restrict abc\n", "x\\restrict xyz\n"), "not at the beginning of a line");
    assert!(!same("\\restrict abc\n1\n", "\\restrict xyz\n2\n") && !same("a\n", "a\nb\n") && same("", ""));
    assert_eq!(without_keys("\\restrict abc\nselect 1;\n"), "\\restrict KEY\nselect 1;\n");
}
