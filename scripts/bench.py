#!/usr/bin/env python3
"""Measures Gullet against general tools on the same data in the same run: interleaved, medians, peak memory.

Called by scripts/bench.sh, which says how. Every figure is a ratio within one run; nothing here passes or fails."""

import argparse
import json
import os
import random
import shutil
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from contextlib import contextmanager
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
GULLET = ROOT / "target/release/gullet"
RESULTS = []


def say(text):
    print(text, flush=True)


def row(work, against, ours, theirs, ratio, wanted, more=""):
    RESULTS.append({"work": work, "against": against, "ours": ours, "theirs": theirs, "ratio": ratio, "wanted": wanted, "more": more})
    say(f"  {work}: {ours} against {theirs} ({against}): {ratio:.3f}, wanted {wanted} {more}")


def sync():
    subprocess.run(["sync"], check=True)


def timed(command, **options):
    """Wall seconds and peak resident KiB of a command, all its processes waited for."""
    began = time.monotonic()
    child = subprocess.Popen(command, stdout=options.pop("stdout", subprocess.DEVNULL), stderr=subprocess.PIPE, **options)
    error = child.stderr.read()
    _, status, usage = os.wait4(child.pid, 0)
    child.returncode = os.waitstatus_to_exitcode(status)
    if child.returncode not in (0, 6):
        raise SystemExit(f"{command} ended with {child.returncode}: {error.decode(errors='replace')}")
    return time.monotonic() - began, usage.ru_maxrss


def median(values):
    return statistics.median(values)


def interleave(times, **works):
    """Runs each work so many times, in turn; the lists of what they give."""
    given = {name: [] for name in works}
    for number in range(times):
        for name, work in works.items():
            given[name].append(work(number))
    return given


@contextmanager
def disk(kind, size, folder):
    """A filesystem of its own in a file, mounted in `folder`."""
    image = folder / f"{kind}.img"
    point = folder / kind
    with open(image, "wb") as file:
        file.truncate(size)
    force = "-F" if kind == "ext4" else "-f"
    subprocess.run([f"mkfs.{kind}", "-q", force, image], check=True)
    point.mkdir()
    subprocess.run(["mount", "-o", "loop", image, point], check=True)
    try:
        yield point
    finally:
        subprocess.run(["umount", "-l", point], check=True)
        image.unlink()


class Place:
    """A definition with its store and state in a folder."""

    def __init__(self, folder, app, store_more=""):
        self.folder = Path(folder)
        self.folder.mkdir(parents=True, exist_ok=True)
        self.definition = self.folder / "gullet.toml"
        head = f'state = "{self.folder}/state"\n[store.depot]\nlocation = "{self.folder}/depot"\n{store_more}\n'
        self.definition.write_text(head + app)
        self.gullet("store", "new", "depot")

    def command(self, *words):
        return [str(GULLET), "--definition", str(self.definition), *words]

    def gullet(self, *words):
        return timed(self.command(*words))

    def json(self, *words):
        return json.loads(subprocess.run(self.command(*words, "--json"), check=True, capture_output=True).stdout)

    def record(self):
        run = self.json("runs")[-1]["run"]
        return self.json("show", run)["record"]

    def remove(self):
        shutil.rmtree(self.folder)


def noise(path, size, seed):
    rng = random.Random(seed)
    with open(path, "wb") as file:
        while size > 0:
            some = min(size, 1 << 20)
            file.write(rng.randbytes(some))
            size -= some


# ---------------------------------------------------------------------------------------------------------------------
# hold: time held, less the hooks' own time


def held_less_hooks(record):
    kinds = ("enter", "settle", "prove", "hooks", "capture", "quiet", "prove_again")
    spent = sum(c["took_ms"] for s in record["steps"] if s["kind"] in kinds and s.get("about") != "before" for c in s.get("commands", []))
    return record["hold"]["held_ms"] - spent


def hold_app(data, secure, warm):
    # On entering, 1 % of the files is rewritten: what changed since the warm copy.
    change = f"for n in $(seq 20); do head -c 1048576 /dev/urandom > {data}/f$n; done; touch {data}/../held"
    if secure != "stream" or warm:
        change += f"; sync -f {data}"
    return f"""
[app.app]
secure = "{secure}"
longest_hold = "10m"
[[app.app.hold]]
name = "flag"
enter = {{ script = '''{change}''' }}
entered = {{ run = ["test", "-e", "{data}/../held"] }}
leave = {{ run = ["rm", "-f", "{data}/../held"] }}
left = {{ run = ["test", "!", "-e", "{data}/../held"] }}
[[app.app.part]]
name = "files"
files = ["{data}"]
{"warm = true" if warm else ""}
"""


def bench_hold(work, times):
    say("hold: 2 GiB in 2,000 files, 1 % of them changed since the warm copy; time held less the hooks' own")
    cases = [("ext4", "stream", False), ("ext4", "stream", True), ("ext4", "auto", True), ("xfs", "stage", True), ("btrfs", "auto", False)]
    held = {case: [] for case in cases}
    for kind in ("ext4", "xfs", "btrfs"):
        with disk(kind, 6 << 30, work) as point:
            data = point / "data"
            data.mkdir()
            for number in range(2000):
                noise(data / f"f{number}", 1 << 20, number)
            sync()
            for number in range(times):
                for case in [case for case in cases if case[0] == kind]:
                    place = Place(work / "place", hold_app(data, case[1], case[2]))
                    place.gullet("run", "app")
                    held[case].append(held_less_hooks(place.record()))
                    place.remove()
                    sync()
    stream = median(held[cases[0]])
    for case, wanted in [(cases[1], "≤ 0.05"), (cases[2], "≤ 0.05"), (cases[3], "≤ 0.01"), (cases[4], "≤ 0.01")]:
        ms = median(held[case])
        name = f"{case[0]}, secure = {case[1]}{', warm' if case[2] else ''}"
        row(f"hold: {name}", "streaming, ext4", f"{ms / 1000:.3f} s", f"{stream / 1000:.3f} s", ms / stream, wanted)


BENCHES = {"hold": bench_hold}


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--times", type=int, default=3)
    parser.add_argument("--folder", default="/var/tmp")
    parser.add_argument("--out", help="write the results as JSON")
    parser.add_argument("benches", nargs="*", default=[])
    arguments = parser.parse_args()
    for name in arguments.benches or BENCHES:
        with tempfile.TemporaryDirectory(dir=arguments.folder, prefix="gullet-bench-") as work:
            BENCHES[name](Path(work), arguments.times)
    if arguments.out:
        Path(arguments.out).write_text(json.dumps(RESULTS, indent=1))


if __name__ == "__main__":
    sys.exit(main())
