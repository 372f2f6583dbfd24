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
