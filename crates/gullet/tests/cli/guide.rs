//! The guide, followed word for word: each chapter's files are written and its commands executed, in a place of their own with the
//! usual paths, and what they print is compared with what the reader sees there. `UPDATE_GUIDE=1` writes what they print.
//!
//! `<!-- file: PATH -->` and `<!-- append: PATH -->` before a block say where it goes, `<!-- begins with: CHAPTER -->` what was done
//! before, `<!-- not run -->` that a block is only read. In a block of a console a line `…` stands for any lines.

use std::fs;
use std::path::PathBuf;
use std::process::{Command, Stdio};

use regex::Regex;

const END: &str = "@@end of a command@@";

/// What a chapter has to be done, in its order.
#[derive(Debug)]
enum Step {
    File {
        path: String,
        text: String,
        append: bool,
    },
    /// A command, what it should print, and the lines of the chapter where that stands.
    Run {
        command: String,
        prints: String,
        lines: (usize, usize),
    },
}

fn guide() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/guide")
}

/// The steps of a chapter, and the one that it begins with.
fn steps(text: &str) -> (Vec<Step>, Option<String>) {
    let (mut steps, mut before, mut mark) = (Vec::new(), None, String::new());
    let lines: Vec<&str> = text.lines().collect();
    let mut at = 0;
    while at < lines.len() {
        let line = lines[at];
        at += 1;
        if let Some(said) = line.strip_prefix("<!-- ").and_then(|line| line.strip_suffix(" -->")) {
            match said.strip_prefix("begins with: ") {
                Some(chapter) => before = Some(chapter.to_owned()),
                None => mark = said.to_owned(),
            }
        } else if let Some(language) = line.strip_prefix("```") {
            let end = at + lines[at..].iter().position(|line| *line == "```").expect("a block ends");
            let said = std::mem::take(&mut mark);
            if let Some((how, path)) = said.split_once(": ").filter(|(how, _)| ["file", "append"].contains(how)) {
                let text = lines[at..end].join("\n") + "\n";
                steps.push(Step::File { path: path.to_owned(), text, append: how == "append" });
            } else if language == "console" && !said.starts_with("not run") {
                commands(&lines, at, end, &mut steps);
            }
            at = end + 1;
        }
    }
    (steps, before)
}

fn commands(lines: &[&str], begin: usize, end: usize, steps: &mut Vec<Step>) {
    let mut at = begin;
    while at < end {
        let mut command = lines[at].strip_prefix("$ ").expect("a block of a console begins with a command").to_owned();
        at += 1;
        while command.ends_with('\\') {
            command = format!("{}\n{}", command, lines[at]);
            at += 1;
        }
        let from = at;
        while at < end && !lines[at].starts_with("$ ") {
            at += 1;
        }
        steps.push(Step::Run { command, prints: lines[from..at].join("\n"), lines: (from, at) });
    }
}

/// Executes steps as root of a place that has the usual paths; gives what each command printed.
fn execute(steps: &[&Step]) -> Vec<String> {
    let place = tempfile::tempdir().unwrap();
    let program = env!("CARGO_BIN_EXE_gullet");
    let mut script = String::from("set -eu\n");
    let overlay = |name: &str, below: &str, at: &str| {
        let of = |what: &str| place.path().join(format!("{}-{what}", name.replace('/', "-")));
        fs::create_dir(of("new")).unwrap();
        fs::create_dir(of("work")).unwrap();
        let (new, work) = (of("new"), of("work"));
        format!(
            "mount -t overlay overlay -o lowerdir={below},upperdir={},workdir={} {at}\n",
            new.display(),
            work.display()
        )
    };
    let root = std::env::var("GULLET_ROOT").ok();
    if let Some(root) = &root {
        // A clean system with the package, as `scripts/package-check.sh` makes it.
        let at = place.path().join("root").display().to_string();
        fs::create_dir(&at).unwrap();
        script.push_str(&overlay("root", root, &at));
        script.push_str(&format!(
            "mount -t proc proc {at}/proc\nmount --rbind /dev {at}/dev\nmount --rbind /sys {at}/sys\nmount -t tmpfs tmpfs {at}/run\n\
             exec chroot {at} bash -s <<'END_OF_CHAPTER'\nset -eu\n"
        ));
    } else {
        // Below the system's own folders what is written goes elsewhere.
        for folder in ["etc", "var", "srv", "media", "usr/local"] {
            script.push_str(&format!(
                "[ ! -d /{folder} ] || {}",
                overlay(folder, &format!("/{folder}"), &format!("/{folder}"))
            ));
        }
        script.push_str(&format!(
            "mkdir -p /usr/local/bin\nln -sf {program} /usr/local/bin/gullet\nmount -t tmpfs tmpfs /run\n"
        ));
    }
    script.push_str(
        "mkdir -p /etc/gullet /srv/work /run/postgresql\nchown postgres: /run/postgresql 2>/dev/null || true\n\
         ln -sf \"$(command -v gullet)\" /usr/local/bin/quaybook\nip link set lo up 2>/dev/null || true\nhostname quay\ncd /srv/work\n\
         export HOME=/srv/work LC_ALL=C.UTF-8 TZ=UTC NO_COLOR=1\nshopt -s expand_aliases\nset +eu\n",
    );
    for step in steps {
        match step {
            Step::File { path, text, append } => {
                let way = if *append { ">>" } else { ">" };
                script.push_str(&format!(
                    "mkdir -p \"$(dirname {path})\"\ncat {way} {path} <<'END_OF_FILE'\n{text}END_OF_FILE\n"
                ));
            }
            Step::Run { command, .. } => {
                // What goes on beside must have begun.
                let wait = if command.ends_with('&') { "sleep 1; " } else { "" };
                script.push_str(&format!("{command}\ncode=$?; {wait}printf '\\n%s\\n' '{END}'; (exit $code)\n"));
            }
        }
    }
    if root.is_some() {
        script.push_str("END_OF_CHAPTER\n");
    }
    let file = place.path().join("script");
    fs::write(&file, script).unwrap();
    let log = place.path().join("log");
    let out = fs::File::create(&log).unwrap();
    let status = Command::new("unshare")
        .args(["--mount", "--pid", "--uts", "--net", "--fork", "--kill-child", "--mount-proc", "bash"])
        .arg(&file)
        .env("PATH", "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin")
        .stdin(Stdio::null())
        .stdout(out.try_clone().unwrap())
        .stderr(out)
        .status()
        .unwrap();
    let printed = fs::read_to_string(&log).unwrap();
    assert!(status.success() || printed.contains(END), "{printed}");
    printed.split(&format!("\n{END}\n")).map(|text| text.trim_end().to_owned()).collect()
}

/// Text in which everything that differs from one time to the next is the same.
fn alike(line: &str) -> String {
    const RULES: [(&str, &str); 9] = [
        (r"\d{4}-\d\d-\d\d[ T]\d\d:\d\d(:\d\d(\.\d+)?)?( ?[+-]\d\d:\d\d|Z)?", "TIME"),
        (r"\b(Mon|Tue|Wed|Thu|Fri|Sat|Sun)\b", "DAY"),
        (r"\b[0-9a-f]{64}\b", "HASH"),
        (r"\bage1[0-9a-z]{50,}", "KEY"),
        (r"\b(?:[a-z]*[0-9][0-9a-z]*)\b(?:\.\d+)?", "N"),
        (r"\bN (B|KiB|MiB|GiB|s|ms|min|h)\b( ago)?", "AMOUNT"),
        // Ids of runs and stores, which may have no digit in them.
        (r"\b(?:[0-9a-hjkmnp-tv-z]{10}|[0-9a-hjkmnp-tv-z]{12})\b", "N"),
        (r"\bN ([a-z]+?)s?\b", "N $1"),
        (r"[ ─-]{2,}", " "),
    ];
    let mut text = line.trim_end().to_owned();
    for (rule, by) in RULES {
        text = Regex::new(rule).unwrap().replace_all(&text, by).into_owned();
    }
    text.trim().to_owned()
}

/// Whether lines are as they are shown; `…` stands for any.
fn is_as_shown(shown: &[String], printed: &[String]) -> bool {
    match (shown.split_first(), printed.split_first()) {
        (None, None) => true,
        (Some((first, rest)), _) if first == "…" => {
            (0..=printed.len()).any(|skipped| is_as_shown(rest, &printed[skipped..]))
        }
        (Some((shown, rest)), Some((printed, left))) => shown == printed && is_as_shown(rest, left),
        _ => false,
    }
}

/// Follows a chapter, and those that it begins with.
fn follow(chapter: &str) {
    let path = guide().join(format!("{chapter}.md"));
    let text = fs::read_to_string(&path).unwrap();
    let (own, mut begins_with) = steps(&text);
    let mut before = Vec::new();
    while let Some(chapter) = begins_with {
        let (steps, earlier) = steps(&fs::read_to_string(guide().join(format!("{chapter}.md"))).unwrap());
        before.splice(0..0, steps);
        begins_with = earlier;
    }
    let all: Vec<&Step> = before.iter().chain(&own).collect();
    let printed = execute(&all);
    let runs = |steps: &[Step]| steps.iter().filter(|step| matches!(step, Step::Run { .. })).count();
    let printed = &printed[runs(&before)..];
    let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
    let (mut wrong, mut number) = (Vec::new(), runs(&own));
    for step in own.iter().rev() {
        let Step::Run { command, prints, lines: (from, until) } = step else { continue };
        number -= 1;
        let found = printed.get(number).map(String::as_str).unwrap_or("");
        let compared = |text: &str| text.lines().map(alike).filter(|line| !line.is_empty()).collect::<Vec<_>>();
        // An exit code is the same every time.
        let is_exact = command.contains("echo $?");
        if is_exact && prints.trim() != found.trim() || !is_as_shown(&compared(prints), &compared(found)) {
            wrong.push(format!("$ {command}\nshown:\n{prints}\nprinted:\n{found}\n"));
            lines.splice(from..until, found.lines().map(str::to_owned));
        }
    }
    if std::env::var_os("UPDATE_GUIDE").is_some() && !wrong.is_empty() {
        fs::write(&path, lines.join("\n") + "\n").unwrap();
        return;
    }
    assert!(wrong.is_empty(), "{chapter}: UPDATE_GUIDE=1 writes what is printed\n{}", wrong.join("\n"));
    assert!(runs(&own) > 0, "{chapter} has nothing to execute");
}

macro_rules! chapters {
    ($($test:ident $chapter:literal)*) => {
        $(#[test]
        fn $test() {
            follow($chapter);
        })*

        #[test]
        fn every_chapter_is_followed() {
            let known = [$($chapter),*];
            for entry in fs::read_dir(guide()).unwrap() {
                let name = entry.unwrap().file_name().into_string().unwrap();
                let chapter = name.trim_end_matches(".md");
                assert!(chapter == "README" || known.contains(&chapter), "{name} is followed by no test");
            }
        }
    };
}

chapters! {
    the_first_backup "first-backup"
    a_postgresql_application_with_files "postgres"
    databases_and_files_that_must_fit_together "fit-together"
    a_service_that_must_be_stopped "stopped-service"
    keys_and_encryption "encryption"
    every_night "every-night"
    a_copy_elsewhere "elsewhere"
    the_day_of_the_restore "restore-day"
    moving_to_another_machine "moving"
    many_machines "many-machines"
    monitoring_and_reports "monitoring"
    hooks_and_probes_that_can_tell "hooks-and-probes"
    what_it_does_not_do "limits"
}
