use super::*;

struct Tree {
    folder: tempfile::TempDir,
}

impl Tree {
    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn file(&self, name: &str) {
        let path = self.path(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, name).unwrap();
    }

    /// Every path below the folder but the arena, with what is in it and the times of folders.
    fn all(&self, below: &str) -> String {
        let script = "find . -path ./arena -prune -o -printf '%P %y %m %T@\\n' | LC_ALL=C sort; \
                          find . -path ./arena -prune -o -type f -print0 | LC_ALL=C sort -z | xargs -0 sha256sum | sed 's/^/= /'";
        let output = std::process::Command::new("sh").args(["-c", script]).current_dir(self.path(below)).output();
        String::from_utf8(output.unwrap().stdout).unwrap()
    }
}

/// An old state at `data` and a new one beside it: of names that both have, and that one has; with something that is
/// carried over deep inside.
fn tree(inside: bool) -> (Tree, Swap) {
    let tree = Tree { folder: tempfile::tempdir().unwrap() };
    for old in ["data/both", "data/stays", "data/only-old", "data/sub/deep/cache", "data/sub/x"] {
        tree.file(old);
    }
    let (place, arena) = if inside { ("data", "data/arena") } else { ("", "arena") };
    let stage = if inside { format!("{arena}/new") } else { format!("{arena}/new/data") };
    fs::create_dir_all(tree.path(&format!("{arena}/old"))).unwrap();
    for new in ["both", "only-new", "sub/y"] {
        tree.file(&format!("{stage}/{new}"));
    }
    let names: &[&str] = if inside { &["both", "only-old", "only-new", "sub"] } else { &["data"] };
    let (at, new) = (tree.path(place), tree.path(&format!("{arena}/new")));
    let names = names.iter().map(|name| Name::of(Path::new(name), &at, &new).unwrap());
    let look = |path: &str| write::look(&tree.path(path)).unwrap();
    let target = SwapTarget {
        root: kept(&tree.path("data")),
        place: kept(&tree.path(place)),
        arena: kept(&tree.path(arena)),
        names: names.collect(),
        inside: inside.then(|| "a test".to_owned()),
        stays: if inside { vec![PathName::new("stays")] } else { Vec::new() },
        seen_at: Vec::new(),
        old_root: inside.then(|| look("data")),
        new_root: inside.then(|| look("data/both")),
    };
    let to = tree.path(&format!("{stage}/sub/deep/cache"));
    let carried = Carried::of(&tree.path("data/sub/deep/cache"), &to).unwrap().unwrap();
    let time = |path: &str| FolderTime::of(&tree.path(path)).unwrap();
    let swap = Swap {
        targets: vec![SwapTarget { new_root: inside.then(|| Entry { mode: 0o751, ..look("data") }), ..target }],
        carried: vec![carried],
        old_times: vec![time("data/sub/deep")],
        new_times: vec![time(&format!("{stage}/sub"))],
    };
    (tree, swap)
}

/// What is in place, without times of folders that are made for what is carried over.
fn names(tree: &Tree) -> Vec<String> {
    tree.all("data")
        .lines()
        .filter(|line| !line.starts_with("= "))
        .map(|line| line.split(' ').next().unwrap_or("").to_owned())
        .collect()
}

#[test]
fn it_can_be_cut_off_anywhere_and_goes_either_way() {
    for inside in [false, true] {
        let steps = {
            let (_tree, swap) = tree(inside);
            let mut steps = 0;
            swap.forward(&mut |_| steps += 1).unwrap();
            swap.back(&mut |_| steps += 1).unwrap();
            steps
        };
        assert!(steps >= 4, "{steps}");
        for cut in 0..steps {
            let (tree, swap) = tree(inside);
            let before = tree.all("data");
            let mut count = 0;
            let cut_off = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
                let mut tick = |_: &str| {
                    count += 1;
                    assert!(count <= cut, "cut off");
                };
                swap.forward(&mut tick).unwrap();
                swap.back(&mut tick).unwrap();
            }));
            assert!(cut_off.is_err(), "{cut}");
            swap.back(&mut |_| {}).unwrap();
            assert_eq!(tree.all("data"), before, "inside {inside}, cut off at {cut}");
            swap.forward(&mut |_| {}).unwrap();
            let mut expected = vec!["", "both", "only-new", "stays", "sub", "sub/deep", "sub/deep/cache", "sub/y"];
            expected.retain(|name| inside || *name != "stays");
            assert_eq!(names(&tree), expected, "inside {inside}, cut off at {cut}");
            let mode = fs::metadata(tree.path("data")).unwrap().mode() & 0o7777;
            assert!(!inside || mode == 0o751, "{mode:o}");
            swap.forward(&mut |_| {}).unwrap();
            swap.back(&mut |_| {}).unwrap();
            assert_eq!(tree.all("data"), before, "inside {inside}, back again after {cut}");
        }
    }
}

#[test]
fn what_somebody_else_put_there_is_not_touched_and_what_came_since_goes_with_the_new_state() {
    let (tree, swap) = tree(true);
    let before = tree.all("data");
    fs::remove_file(tree.path("data/both")).unwrap();
    // An inode may be given out again, so it is kept busy.
    tree.file("keep");
    fs::write(tree.path("data/both"), "somebody's").unwrap();
    if FileIdentity::of(&tree.path("data/both")).unwrap() != swap.targets[0].names[0].old {
        assert!(matches!(swap.forward(&mut |_| {}), Err(SwapError::Foreign(_))));
        assert_eq!(fs::read_to_string(tree.path("data/both")).unwrap(), "somebody's");
    }
    let (tree, swap) = self::tree(true);
    swap.forward(&mut |_| {}).unwrap();
    tree.file("data/made-since");
    fs::rename(tree.path("data/made-since"), tree.path("data/both")).unwrap();
    tree.file("data/another");
    swap.back(&mut |_| {}).unwrap();
    assert_eq!(tree.all("data").lines().count(), before.lines().count());
    assert!(tree.path("data/arena/new/another").exists() && tree.path("data/arena/new/both").exists());
}
