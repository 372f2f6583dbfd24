#!/usr/bin/env python3
"""Changes the program in 200 places and looks which changes no test notices. Called by scripts/mutants.sh, which says how.

cargo-mutants finds the places. All chosen changes are built into one program, each behind a switch that the environment turns on
(GULLET_MUTANT=NUMBER), so that the program is built once and not once for each change. One run of all tests without a switch tells
which tests reach which place; then each change is tried with the tests that reach it, the quick ones first, until one fails."""

import argparse
import concurrent.futures
import hashlib
import json
import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import tree_sitter
import tree_sitter_rust

ROOT = Path(__file__).resolve().parent.parent
SEED = 20261128
FILES = [
    *(f"crates/gullet-store/src/{name}.rs" for name in
      "deposit packing payload reader seal store verify location document listing/* location/*".split()),
    "crates/gullet-logbook/src/sweep.rs", "crates/gullet-logbook/src/verify.rs", "crates/gullet-logbook/src/verify/*.rs",
    "crates/gullet-core/src/status.rs", "crates/gullet-run/src/sequence.rs", "crates/gullet-run/src/sequence/reply.rs",
    "crates/gullet-run/src/hold/*.rs", "crates/gullet-run/src/hold/note/head.rs",
    "crates/gullet-capture/src/part/marks.rs", "crates/gullet-capture/src/part/marks/mark.rs",
    "crates/gullet-restore/src/restore/select.rs",
]
# Crates whose tests are asked, besides those of the command line and those of far places.
PACKAGES = ["gullet-store", "gullet-logbook", "gullet-core", "gullet-run", "gullet-capture", "gullet-restore", "gullet"]
SERVICES = re.compile(r"^(far|dav|ssh)::")
# How long all tests of one change may take together, in seconds; what is not noticed by then counts as not noticed.
BUDGET = 100
# Tests at the same time: they wait most of the time.
AT_ONCE = 6
SWITCH = '''
/// The change that is switched on; and notes, where that is asked for, which ones are reached.
pub(crate) fn mutant(number: usize) -> bool {
    static ON: std::sync::LazyLock<usize> =
        std::sync::LazyLock::new(|| std::env::var("GULLET_MUTANT").ok().and_then(|text| text.parse().ok()).unwrap_or(0));
    static NOTES: std::sync::LazyLock<Option<std::ffi::OsString>> =
        std::sync::LazyLock::new(|| std::env::var_os("GULLET_MUTANT_REACHED"));
    static REACHED: [std::sync::atomic::AtomicBool; COUNT] = [const { std::sync::atomic::AtomicBool::new(false) }; COUNT];
    if let Some(folder) = &*NOTES {
        if !REACHED[number].swap(true, std::sync::atomic::Ordering::Relaxed) {
            let _ = std::fs::write(std::path::Path::new(folder).join(number.to_string()), "");
        }
    }
    *ON == number
}
'''


def say(text):
    print(time.strftime("%H:%M:%S "), text, sep="", flush=True)


def bare(place):
    """What a place is called whatever its line is: what else changes in a file leaves it where it was in the draw."""
    return re.sub(r":\d+:\d+:", ":", place["name"] if isinstance(place, dict) else place)


def places(wanted, only):
    """The sample: by a hash of their names, so that the same code has the same places; or those that are named."""
    chosen = [word for name in FILES for word in ("--file", name)]
    listed = subprocess.run(["cargo", "mutants", "--workspace", "--list", "--json", *chosen], cwd=ROOT, check=True,
                            capture_output=True, text=True)
    found = json.loads(listed.stdout)
    if only:
        names = {bare(line) for line in only.read_text().splitlines() if line}
        return [place for place in found if bare(place) in names]
    seen = {}
    for place in found:
        seen[bare(place)] = number = seen.get(bare(place), 0) + 1
        place["draw"] = hashlib.sha256(f"{SEED} {bare(place)} {number}".encode()).hexdigest()
    say(f"{min(wanted, len(found))} of {len(found)} places")
    # In the order of the draw, so that what was tried is a sample wherever it ends.
    return sorted(found, key=lambda place: place["draw"])[:wanted]


class Source:
    """One file with its changes, each behind its switch."""

    def __init__(self, path):
        self.text = path.read_bytes()
        parser = tree_sitter.Parser(tree_sitter.Language(tree_sitter_rust.language()))
        self.root = parser.parse(self.text).root_node
        self.starts = [0]
        for line in self.text.split(b"\n"):
            self.starts.append(self.starts[-1] + len(line) + 1)
        self.edits = []

    def at(self, position):
        line = self.text[self.starts[position["line"] - 1]:self.starts[position["line"]]].decode()
        return self.starts[position["line"] - 1] + len(line[:position["column"] - 1].encode())

    def around(self, start, end, kinds):
        node = self.root.descendant_for_byte_range(start, end)
        while node is not None and node.type not in kinds:
            node = node.parent
        return node

    def add(self, number, place):
        """Whether this change can be made a switch."""
        start, end = self.at(place["span"]["start"]), self.at(place["span"]["end"])
        with_, on = place["replacement"], f"crate::mutant({number})"
        match place["genre"]:
            case "FnValue":
                # Such a function has one type of its own, whatever it returns.
                if "impl " in place["function"]["return_type"]:
                    return False
                value = "return" if with_ == "()" else f"return {with_}"
                self.edits.append(Edit(start, start, before=f"if {on} {{ {value}; }}\n"))
            case "MatchArmGuard":
                self.edits.append(Edit(start, end, on, [with_]))
            case "MatchArm":
                pattern = self.around(start, end, {"match_arm"}).child_by_field_name("pattern")
                guard = pattern.child_by_field_name("condition")
                if guard is None:
                    self.edits.append(Edit(pattern.end_byte, pattern.end_byte, before=f" if !{on}"))
                elif guard.type in ("let_condition", "let_chain"):
                    return False
                else:
                    self.edits.append(Edit(guard.start_byte, guard.end_byte, on, ["false"]))
            case "BinaryOperator":
                node = self.around(start, end, {"binary_expression", "compound_assignment_expr"})
                if node is None:
                    return False
                sides = [(side.start_byte, side.end_byte) for side in map(node.child_by_field_name, ("left", "right"))]
                self.edits.append(Edit(node.start_byte, node.end_byte, on, [sides[0], f" {with_} ", sides[1]]))
            case "UnaryOperator":
                node = self.around(start, end, {"unary_expression"})
                if node is None:
                    return False
                self.edits.append(Edit(node.start_byte, node.end_byte, on, [(node.start_byte + 1, node.end_byte)]))
            case _:
                return False
        return True

    def written(self, start=0, end=None, edits=None):
        """The text with all edits between two places; what lies inside of another edit is written by that one."""
        end = len(self.text) if end is None else end
        left = sorted(self.edits if edits is None else edits, key=lambda edit: (edit.start, edit.start - edit.end))
        out, done = [], start
        while left:
            first = left[0]
            same = [edit for edit in left if (edit.start, edit.end) == (first.start, first.end)]
            inner = [edit for edit in left if edit not in same and first.start <= edit.start and edit.end <= first.end]
            left = [edit for edit in left if edit not in same and edit not in inner]
            text = self.written(first.start, first.end, inner)
            for edit in same:
                changed = "".join(part if isinstance(part, str) else self.written(
                    *part, [one for one in inner if part[0] <= one.start and one.end <= part[1]]) for part in edit.changed)
                text = f"(if {edit.on} {{ {changed} }} else {{ {text} }})" if edit.on else edit.before + text
            out += [self.text[done:first.start].decode(), text]
            done = first.end
        return "".join(out) + self.text[done:end].decode()


class Edit:
    """A change of what lies between two bytes: by a switch, into parts that are text or lie elsewhere in it; or put before it."""

    def __init__(self, start, end, on="", changed=(), before=""):
        self.start, self.end, self.on, self.changed, self.before = start, end, on, changed, before


class Trial:
    """A copy of the code with the changes in it, built, and what became of each."""

    def __init__(self, folder):
        self.folder, self.tree = folder, folder / "tree"
        self.results_file = folder / "results.json"
        self.environment = {**os.environ, "CARGO_TARGET_DIR": str(folder / "build"), "INSTA_UPDATE": "no", "RUSTFLAGS": "-Awarnings",
                            "CARGO_TERM_COLOR": "never"}

    def write(self, sample, without):
        """Writes the copy with all changes of the sample but these; gives those that cannot be made."""
        if self.tree.exists():
            shutil.rmtree(self.tree)
        subprocess.run(["git", "clone", "--quiet", str(ROOT), str(self.tree)], check=True)
        sources, cannot = {}, []
        for number, place in enumerate(sample, 1):
            if number in without:
                continue
            source = sources.setdefault(place["file"], Source(ROOT / place["file"]))
            if not source.add(number, place):
                cannot.append(number)
        crates = {Path(*Path(file).parts[:2]) for file in sources}
        for file, source in sources.items():
            (self.tree / file).write_text(source.written())
        for crate in crates:
            library = self.tree / crate / "src/lib.rs"
            library.write_text(library.read_text() + SWITCH.replace("COUNT", str(len(sample) + 1)))
        # Tests start programs in a clean environment, into which the switch must come nevertheless.
        passed_on = '.env_clear().envs(std::env::vars_os().filter(|(name, _)| name.to_string_lossy().starts_with("GULLET_MUTANT")))'
        for test in self.tree.glob("crates/*/tests/**/*.rs"):
            text = test.read_text()
            if ".env_clear()" in text:
                test.write_text(text.replace(".env_clear()", passed_on))
        return cannot

    def build(self, sample):
        """Builds, without the changes that do not build; gives those, and the programs of tests."""
        known = self.folder / "without.json"
        names = json.loads(known.read_text()) if known.exists() else {}
        packages = [word for name in [*PACKAGES, "quaybook"] for word in ("-p", name)]
        without = {number: names[place["name"]] for number, place in enumerate(sample, 1) if place["name"] in names}
        while True:
            for number in self.write(sample, without):
                without[number] = "cannot be a switch"
            built = subprocess.run(["cargo", "build", "--bins", "--tests", "--keep-going", "--message-format", "json", *packages], cwd=self.tree,
                                   env=self.environment, capture_output=True, text=True)
            messages = [json.loads(line) for line in built.stdout.splitlines() if line.startswith("{")]
            if built.returncode == 0:
                return without, [message for message in messages if message["reason"] == "compiler-artifact"
                                 and message["profile"]["test"] and message["executable"]]
            wrong = {}
            for message in messages:
                if message["reason"] == "compiler-message" and message["message"]["level"] == "error":
                    for number in self.blamed(message["message"]):
                        wrong.setdefault(number, message["message"]["message"])
            if not wrong:
                sys.exit(built.stderr[-3000:] + "\n".join(m["message"]["rendered"] for m in messages if m["reason"] == "compiler-message")[:5000])
            without.update(wrong)
            names.update({sample[number - 1]["name"]: why for number, why in without.items()})
            known.write_text(json.dumps(names, indent=1))
            say(f"{len(without)} changes do not build")

    def blamed(self, message):
        """The changes in or around which an error lies."""
        spans = [*message["spans"], *(span for child in message["children"] for span in child["spans"])]
        found = set()
        for span in spans:
            path = self.tree / span["file_name"]
            if not path.exists():
                continue
            lines = path.read_text().split("\n")
            in_lines = lambda first, last: [int(n) for n in re.findall(r"crate::mutant\((\d+)\)", "\n".join(lines[first:last]))]
            found.update(in_lines(span["line_start"] - 1, span["line_end"]))
            if not found and span["is_primary"]:
                # What a function begins with may be told further below.
                found.update(in_lines(max(0, span["line_start"] - 15), span["line_start"])[-1:])
            if span["is_primary"] and found:
                break
        return found

    def tests(self, programs):
        """Each test as (program, name, its folder)."""
        found = []
        for program in programs:
            listed = subprocess.run([program["executable"], "--list", "--format", "terse"], capture_output=True, text=True, check=True)
            target = program["target"]
            for line in listed.stdout.splitlines():
                name, _, kind = line.rpartition(": ")
                if kind != "test" or target["name"] == "crash" or (target["name"] == "services" and not SERVICES.match(name)):
                    continue
                if target["name"] == "cli" and name.startswith("docs::"):
                    continue
                found.append((program["executable"], name, str(Path(program["manifest_path"]).parent)))
        return found


def run(test, limit, **more):
    """Runs one test alone, with all that it starts in a process namespace of its own; whether it passed, and the time it took."""
    program, name, folder = test
    environment = {**os.environ, "INSTA_UPDATE": "no", "CARGO_MANIFEST_DIR": folder, **more}
    began = time.monotonic()
    command = ["unshare", "--mount", "--pid", "--fork", "--kill-child", "--mount-proc", program, "--exact", name]
    try:
        done = subprocess.run(command, cwd=folder, env=environment, capture_output=True, timeout=limit, stdin=subprocess.DEVNULL)
        return done.returncode == 0, time.monotonic() - began, done.stdout.decode(errors="replace")
    except subprocess.TimeoutExpired:
        return False, limit, "it did not end"


class Reach:
    """Which tests reach which change, how long each takes, and which of them notice most."""

    def __init__(self, file, sample):
        self.file, self.sample = file, sample
        self.numbers, self.seconds, self.noticed = {}, {}, {}

    def look(self, tests):
        """Runs all tests once, each alone."""
        with concurrent.futures.ThreadPoolExecutor(AT_ONCE) as pool:
            seen = list(pool.map(self.one, tests))
        self.file.write_text(json.dumps([(test, *one) for test, one in zip(tests, seen)]))

    def read(self):
        """Reads what was found, so that a later call can go on with the same build."""
        for test, passed, seconds, numbers in json.loads(self.file.read_text()):
            if passed:
                self.numbers[tuple(test)], self.seconds[tuple(test)] = set(numbers), seconds
            else:
                say(f"does not pass as it is, so it is not asked: {test[1]}")

    @staticmethod
    def one(test):
        with tempfile.TemporaryDirectory() as notes:
            for _ in range(2):
                passed, seconds, _ = run(test, 300, GULLET_MUTANT_REACHED=notes)
                if passed:
                    break
            return passed, seconds, [int(name) for name in os.listdir(notes)]

    def of(self, number):
        """The tests that reach a change: those of its crate first, that noticed others in its file, and that reach many there."""
        file = self.sample[number - 1]["file"]
        crate = str(Path(*Path(file).parts[:2]))
        beside = {other for other, place in enumerate(self.sample, 1) if place["file"] == file}
        found = [test for test, numbers in self.numbers.items() if number in numbers]
        return sorted(found, key=lambda test: (
            -self.noticed.get((file, test), 0), not test[2].endswith(crate), -len(self.numbers[test] & beside) // 3, self.seconds[test]))


def tried(number, reach):
    """The test that notices a change, if one does. It must fail twice, since a busy machine lets a test fail now and then."""
    began = time.monotonic()

    def one(test):
        if time.monotonic() - began > BUDGET:
            return None
        limit = 30 + 5 * reach.seconds[test]
        for _ in range(2):
            passed, took, _ = run(test, limit, GULLET_MUTANT=str(number))
            if passed:
                return None
            if took >= limit:
                break
        return test

    waiting, going, noticed = reach.of(number), set(), None
    with concurrent.futures.ThreadPoolExecutor(AT_ONCE) as pool:
        while (waiting or going) and noticed is None:
            while waiting and len(going) < AT_ONCE:
                going.add(pool.submit(one, waiting.pop(0)))
            ended, going = concurrent.futures.wait(going, return_when=concurrent.futures.FIRST_COMPLETED)
            noticed = next((future.result() for future in ended if future.result()), None)
    if noticed is None:
        return None
    place = (reach.sample[number - 1]["file"], noticed)
    reach.noticed[place] = reach.noticed.get(place, 0) + 1
    return noticed[1]


def main():
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--places", type=int, default=200)
    parser.add_argument("--go-on", action="store_true", help="go on with what was built before")
    parser.add_argument("--only", type=Path, help="only the places that a file names, a line each, whatever their lines are by now")
    parser.add_argument("--tests", default="", help="only tests whose names match this regular expression")
    parser.add_argument("--again", action="store_true", help="try once more what was not noticed before")
    arguments = parser.parse_args()
    # What is started in the background has this signal ignored, and so would the tests.
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    arguments.folder.mkdir(parents=True, exist_ok=True)
    folder = arguments.folder.resolve()
    trial = Trial(folder)
    before = json.loads(trial.results_file.read_text()) if trial.results_file.exists() else {}
    drawn = folder / "sample.json"
    if arguments.go_on:
        sample, without = json.loads(drawn.read_text())
        without = {int(number): why for number, why in without.items()}
    else:
        sample = places(arguments.places, arguments.only)
        without, programs = trial.build(sample)
        drawn.write_text(json.dumps([sample, without]))
        tests = [test for test in trial.tests(programs) if re.search(arguments.tests, test[1])]
        say(f"{len(without)} changes do not build; {len(tests)} tests")
    reach = Reach(folder / "reached.json", sample)
    if not arguments.go_on:
        reach.look(tests)
    reach.read()
    say("each change, with the tests that reach it")
    results = {}
    for number, place in enumerate(sample, 1):
        name = place["name"]
        if number in without:
            results[name] = {"builds": False, "why": without[number]}
        elif name in before and before[name].get("noticed") or (name in before and not arguments.again):
            results[name] = before[name]
        else:
            began = time.monotonic()
            noticed = tried(number, reach)
            results[name] = {"builds": True, "noticed": noticed, "reached": len(reach.of(number))}
            say(f"{number}/{len(sample)} {'noticed by ' + noticed if noticed else 'NOT NOTICED'} ({results[name]['reached']} reach it, "
                f"{time.monotonic() - began:.0f} s): {name}")
        trial.results_file.write_text(json.dumps({**before, **results}, indent=1))
    viable = [name for name, result in results.items() if result["builds"]]
    missed = [name for name in viable if not results[name]["noticed"]]
    say(f"{len(viable) - len(missed)} of {len(viable)} that build were noticed; the others:")
    print("\n".join(missed))


if __name__ == "__main__":
    main()
