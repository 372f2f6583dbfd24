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

import bench_far as bench_far_stores

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
    # Not what the kernel says of a child of this process: that begins with this process's own memory.
    with tempfile.NamedTemporaryFile() as peak:
        measured = ["/usr/bin/time", "-q", "-f", "%M", "-o", peak.name, *command]
        began = time.monotonic()
        child = subprocess.run(measured, stdout=options.pop("stdout", subprocess.DEVNULL), stderr=subprocess.PIPE, check=False, **options)
        took = time.monotonic() - began
        if child.returncode not in (0, 6):
            raise SystemExit(f"{command} ended with {child.returncode}: {child.stderr.decode(errors='replace')}")
        return took, int(peak.read())


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

    def __init__(self, folder, app, store_more="", depot=None):
        self.folder = Path(folder)
        self.folder.mkdir(parents=True, exist_ok=True)
        self.definition = self.folder / "gullet.toml"
        depot = depot or f'location = "{self.folder}/depot"\n'
        head = f'state = "{self.folder}/state"\n[store.depot]\n{depot}{store_more}\n'
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
    kinds = ("enter", "drain", "prove", "hooks", "capture", "check_no_writes", "prove_again")
    spent = sum(c["took_ms"] for s in record["steps"] if s["kind"] in kinds and s.get("about") != "before" for c in s.get("commands", []))
    return record["hold"]["held_ms"] - spent


def hold_app(data, secure, warm):
    # On entering, 1 % of the files is rewritten: what changed since the warm copy.
    change = f"for n in $(seq 20); do head -c 1048576 /dev/urandom > {data}/f$n; done; touch {data}/../held"
    if secure != "stream" or warm:
        change += f"; sync -f {data}"
    return f"""
[app.app]
capture_method = "{secure}"
max_hold = "10m"
[[app.app.hold]]
name = "flag"
enter = {{ script = '''{change}''' }}
entered = {{ run = ["test", "-e", "{data}/../held"] }}
release = {{ run = ["rm", "-f", "{data}/../held"] }}
released = {{ run = ["test", "!", "-e", "{data}/../held"] }}
[[app.app.part]]
name = "files"
files = ["{data}"]
{"precopy = true" if warm else ""}
"""


def bench_hold(work, times):
    say("hold: 2 GiB in 2,000 files, 1 % of them changed since the warm copy; time held less the hooks' own")
    cases = [("ext4", "stream", False), ("ext4", "stream", True), ("ext4", "auto", True), ("xfs", "copy", True), ("btrfs", "auto", False)]
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
        name = f"{case[0]}, capture_method = {case[1]}{', warm' if case[2] else ''}"
        row(f"hold: {name}", "streaming, ext4", f"{ms / 1000:.3f} s", f"{stream / 1000:.3f} s", ms / stream, wanted)


# ---------------------------------------------------------------------------------------------------------------------
# store: what is captured, against general tools on the same data


def words(rng):
    """Lines as a database's text dump has them."""
    islands = ["Gannet Skerry", "North Haven", "Tern Point", "Long Holm", "Petrel Sound"]
    number = 0
    while True:
        number += 1
        yield (
            f"INSERT INTO booking VALUES ({number}, '{rng.choice(islands)}', '{rng.choice(islands)}', "
            f"'2026-{rng.randint(1, 12):02}-{rng.randint(1, 28):02}', {rng.randint(1, 9)}, "
            f"{rng.randint(500, 99999) / 100}, '{rng.getrandbits(64):016x}');\n"
        )


def dump(seed):
    """Pieces of a dump without an end. A gibibyte by random choices takes minutes in Python: a block of 8 MiB is shuffled and
    numbered anew instead, further apart than a compressor looks back."""
    rng = random.Random(seed)
    lines = words(rng)
    block = []
    length = 0
    while length < 8 << 20:
        line = next(lines)
        block.append(line)
        length += len(line)
    turn = 0
    while True:
        turn += 1
        rng.shuffle(block)
        yield "".join(line.replace("(", f"({turn}", 1) for line in block)


def text(path, size, seed):
    with open(path, "w") as file:
        for piece in dump(seed):
            file.write(piece)
            if file.tell() >= size:
                return


def small_files(folder, count, size, seed, numbered=False):
    rng = random.Random(seed)
    pieces = dump(seed)
    piece, at = next(pieces), 0
    for number in range(count):
        if number % 1000 == 0:
            below = folder / f"d{number // 1000:04}"
            below.mkdir(parents=True)
        length = rng.randrange(size // 2, size * 3 // 2)
        if at + length > len(piece):
            piece, at = next(pieces), 0
        (below / f"list-{number:07}.txt").write_text((f"{number} " if numbered else "") + piece[at : at + length])
        at += length


def files_app(data, more=""):
    return f"""
[app.app]
no_hold = "a bench"
[[app.app.part]]
name = "data"
files = ["{data}"]
{more}
"""


def run_less_read_back(place):
    """Seconds of a run and of the sync after it, less its reading back; peak memory in KiB."""
    sync()
    began = time.monotonic()
    _, memory = place.gullet("run", "app")
    sync()
    took = time.monotonic() - began
    steps = place.record()["steps"]
    return took - sum(step["took_ms"] for step in steps if step["kind"] == "read_back") / 1000, memory


def shell(command):
    sync()
    took, memory = timed(["sh", "-c", command + " && sync"])
    return took, memory


def stored(place):
    folder = place.folder / "depot/payload"
    return sum(path.stat().st_size for path in folder.rglob("*") if path.is_file())


def memory_text(values):
    return f"peak memory {max(memory for _, memory in values) / 1024:.0f} MiB"


def ratio_of(ours, theirs):
    return median([took for took, _ in ours]), median([took for took, _ in theirs])


def seconds(value):
    return f"{value:.2f} s"


def data_of_first(work):
    data = work / "data"
    data.mkdir()
    text(data / "dump.sql", 1 << 30, 1)
    small_files(data / "lists", 100_000, 5400, 2)
    sync()
    time.sleep(1)
    return data


def bench_first(work, times):
    say("first capture: 1 GiB of dump-like text and 100,000 small files of 0.5 GiB; the same unchanged; restore; verify")
    data = data_of_first(work)
    archive = work / "data.tar.zst"

    def ours(number):
        place = Place(work / "place", files_app(data))
        result = run_less_read_back(place)
        ours.stored = stored(place)
        record = place.record()
        # What the listing takes, compressed by itself: one entry a line, as it lies in the store.
        shown = subprocess.Popen(place.command("show", record["run"], "--listing", "--json"), stdout=subprocess.PIPE)
        packed = subprocess.run(["zstd", "-q", "-3", "-c"], stdin=shown.stdout, capture_output=True, check=True)
        ours.listing = len(packed.stdout)
        if number < times - 1:
            place.remove()
        ours.place = place
        return result

    def sealed(number):
        key = work / f"key{number}"
        made = subprocess.run([str(GULLET), "key", "new", str(key), "--json"], check=True, capture_output=True)
        public = json.loads(made.stdout)["public"]
        place = Place(work / "sealed", files_app(data), f'encrypt_to = ["{public}"]')
        result = run_less_read_back(place)
        place.remove()
        return result

    def theirs(_):
        return shell(f"tar cf - -C {data} . | zstd -q -3 -T2 -f -o {archive}")

    given = interleave(times, gullet=ours, tar=theirs, sealed=sealed)
    mine, other = ratio_of(given["gullet"], given["tar"])
    more = memory_text(given["gullet"])
    row("first capture", "tar | zstd -3 -T2", seconds(mine), seconds(other), mine / other, "≤ 1.1", more)
    closed, _ = ratio_of(given["sealed"], given["tar"])
    row("first capture, encrypted", "not encrypted", seconds(closed), seconds(mine), closed / mine, "≤ 1.15")
    size, listing = archive.stat().st_size, ours.listing
    apart = ours.stored - listing
    row("its payload, listing apart", "tar | zstd -3 -T2", f"{apart / 2**20:.1f} MiB", f"{size / 2**20:.1f} MiB", apart / size,
        "≤ 1.02", f"the listing takes {listing / 2**20:.1f} MiB")
    place = ours.place
    unchanged(place, data, times, "100,000 files", "≤ 2")

    def restore(number):
        out = work / f"out{number}"
        sync()
        began = time.monotonic()
        _, memory = place.gullet("restore", "app@latest", "--into", str(out))
        sync()
        return time.monotonic() - began, memory

    def untar(number):
        out = work / f"tar{number}"
        out.mkdir()
        return shell(f"zstd -q -dc {archive} | tar xf - -C {out}")

    given = interleave(times, gullet=restore, tar=untar)
    mine, other = ratio_of(given["gullet"], given["tar"])
    row("full restore", "zstd -dc | tar xf -", seconds(mine), seconds(other), mine / other, "≤ 1.0", memory_text(given["gullet"]))

    payload = " ".join(str(path) for path in sorted((place.folder / "depot/payload").rglob("*.zst")))
    given = interleave(
        times,
        gullet=lambda _: place.gullet("verify", "--all-again"),
        general=lambda _: shell(f"b3sum {payload} > /dev/null && for f in {payload}; do zstd -q -t $f || exit; done"),
    )
    mine, other = ratio_of(given["gullet"], given["general"])
    row("full verify", "b3sum, and zstd -t", seconds(mine), seconds(other), mine / other, "≤ 1.2", memory_text(given["gullet"]))


def unchanged(place, data, times, name, wanted):
    # What was captured right after it was made is read once more: its marks were not settled.
    place.gullet("run", "app")
    place.gullet("run", "app")
    given = interleave(
        max(times, 7),
        gullet=lambda _: place.gullet("run", "app"),
        find=lambda _: timed(["find", str(data), "-printf", "%s %T@ %C@ %i\\n"]),
    )
    mine, other = ratio_of(given["gullet"], given["find"])
    row(f"unchanged, {name}", "find -printf", seconds(mine), seconds(other), mine / other, wanted, memory_text(given["gullet"]))


def bench_million(work, times):
    say("1,000,000 small files: unchanged, one file, memory")
    data = work / "data"
    small_files(data, 1_000_000, 300, 3)
    sync()
    place = Place(work / "place", files_app(data))
    took, memory = run_less_read_back(place)
    row("first capture of 1,000,000 files", "-", seconds(took), "-", 0, "memory < 256 MiB", f"peak memory {memory / 1024:.0f} MiB")
    unchanged(place, data, times, "1,000,000 files", "≤ 1.5")
    began = time.monotonic()
    _, memory = place.gullet("restore", "app@latest", "--into", str(work / "out"))
    sync()
    whole = time.monotonic() - began
    one = []
    for number in range(max(times, 3)):
        path = f"{data}/d{100 + number:04}/list-{(100 + number) * 1000 + 7:07}.txt"
        one.append(place.gullet("restore", "app@latest", "--into", str(work / f"one{number}"), "--path", path))
    mine = median([took for took, _ in one])
    row("one file of 1,000,000", "full restore", seconds(mine), seconds(whole), mine / whole, "< 0.01",
        f"peak memory of the full one {memory / 1024:.0f} MiB")


def bench_chunks(work, times):
    say("3,000,000 distinct chunks: memory")
    data = work / "data"
    small_files(data, 3_000_000, 60, 8, numbered=True)
    sync()
    place = Place(work / "place", files_app(data))
    took, memory = run_less_read_back(place)
    row("first capture of 3,000,000 distinct chunks", "-", seconds(took), "-", 0, "memory < 256 MiB", f"peak memory {memory / 1024:.0f} MiB")
    shutil.rmtree(data / "d0000")
    took, memory = run_less_read_back(place)
    row("the next run on them", "-", seconds(took), "-", 0, "memory < 256 MiB", f"peak memory {memory / 1024:.0f} MiB")


def bench_large(work, times):
    say("4 GiB of incompressible data, 1 % changed")
    data = work / "data"
    data.mkdir()
    big = data / "big"
    noise(big, 4 << 30, 4)
    sync()
    time.sleep(1)

    def change(kind):
        rng = random.Random(5)
        if kind == "stretches":
            with open(big, "r+b") as file:
                for number in range(40):
                    file.seek(rng.randrange(4095) << 20)
                    file.write(rng.randbytes(1 << 20))
        else:
            with open(work / "moved", "wb") as out, open(big, "rb") as file:
                out.write(b"some bytes in front")
                shutil.copyfileobj(file, out, 1 << 20)
            os.replace(work / "moved", big)
        sync()
        time.sleep(1)

    for kind, changed in [("stretches", 40 << 20), ("inserted in front", 0)]:
        place = Place(work / "place", files_app(data))
        place.gullet("run", "app")
        before = stored(place)
        change(kind.split()[0])
        subprocess.run(["cat", str(big)], stdout=subprocess.DEVNULL, check=True)
        took, memory = run_less_read_back(place)
        new = stored(place) - before
        given = [timed(["b3sum", "--num-threads", "1", str(big)]) for _ in range(times)]
        other = median([took for took, _ in given])
        row(f"4 GiB, {kind}", "b3sum, one thread", seconds(took), seconds(other), took / other, "≤ 3",
            f"stored {new >> 20} MiB for {changed >> 20} MiB changed; peak memory {memory / 1024:.0f} MiB")
        place.remove()


def bench_sqlite(work, times):
    say("1 GiB of SQLite, incompressible rows, 1 % of its pages changed, scattered")
    base = work / "base.db"
    rng = random.Random(6)
    with sqlite3.connect(base) as db:
        db.execute("create table line (id integer primary key, bytes blob)")
        for start in range(0, 300_000, 10_000):
            db.executemany("insert into line values (?, ?)", ((start + n, rng.randbytes(3400)) for n in range(10_000)))
            db.commit()
    place = Place(work / "place", f"""
[app.app]
no_hold = "a bench"
[[app.app.part]]
name = "base"
sqlite = "{base}"
""")
    place.gullet("run", "app")
    before = stored(place)
    with sqlite3.connect(base) as db:
        for _ in range(3000):
            db.execute("update line set bytes = ? where id = ?", (rng.randbytes(3400), rng.randrange(300_000)))
    sync()
    took, memory = run_less_read_back(place)
    new, changed = stored(place) - before, 3000 * 4096
    row("1 GiB SQLite, 1 % changed", "bytes changed", f"{new >> 20} MiB", f"{changed >> 20} MiB", new / changed, "≤ 12",
        f"{seconds(took)}; peak memory {memory / 1024:.0f} MiB")


def bench_many(work, times):
    say("a run after 1,000 runs, against one after 10")
    data = work / "data"
    small_files(data, 200, 3000, 7)
    place = Place(work / "place", files_app(data))

    def after(count, already):
        for number in range(already, count):
            (data / "d0000/changing").write_text(str(number))
            place.gullet("run", "app", "--quiet")
        given = [place.gullet("run", "app", "--quiet") for _ in range(max(times, 7))]
        return median([took for took, _ in given]), count + len(given)

    few, done = after(10, 0)
    many, _ = after(1000, done)
    row("a run after 1,000 runs", "after 10", seconds(many), seconds(few), many / few, "≤ 1.2")


def bench_compare(work, times):
    say("1,000,000 files: two runs that differ in 100 of them are compared")
    data = work / "data"
    small_files(data, 1_000_000, 300, 11, numbered=True)
    place = Place(work / "place", files_app(data))
    place.gullet("run", "app")
    for number in range(100):
        at = number * 10_000 + 7
        with open(data / f"d{at // 1000:04}" / f"list-{at:07}.txt", "a") as file:
            file.write("changed")
    place.gullet("run", "app")
    first, second = [run["run"] for run in place.json("runs")]
    found = place.json("compare", first, second)["parts"][0]["tally"]
    assert found["changed"] == 100 and found["added"] == found["gone"] == 0, found
    given = [place.gullet("compare", first, second, "--json") for _ in range(max(times, 7))]
    row("compare two runs of 1,000,000 files, 100 changed", "-", seconds(median([took for took, _ in given])), "-", 0, "< 2 s",
        memory_text(given))


def bench_runs(work, times):
    say("10,000 runs: what reading commands and `due` take")
    data = work / "data"
    small_files(data, 1, 300, 7)
    place = Place(work / "place", files_app(data))
    for _ in range(10_000):
        place.gullet("run", "app", "--quiet")
    run = place.json("runs", "--last", "1")[0]["run"]

    def measure(state):
        for words in (["runs"], ["runs", "--json"], ["show", run], ["status"], ["due"]):
            place.gullet(*words)
            given = [place.gullet(*words) for _ in range(max(times, 7))]
            limit = "< 30 ms, 20 MiB" if words == ["due"] else "< 100 ms"
            took = median([took for took, _ in given])
            row(f"`{' '.join(words[:2] if words[0] != 'show' else ['show', 'RUN'])}` at {state}", "-", f"{took * 1000:.0f} ms", "-", 0, limit, memory_text(given))

    measure("10,000 runs")
    with open(place.definition, "a") as file:
        file.write("[app.app.keep]\nnewest = 100\n")
    place.gullet("thin", "app", "--yes")
    measure("10,000 runs, 9,900 of them thinned")


def bench_far(work, times):
    say("far stores: copies of 1 GiB to Ceph and by SFTP; what an unchanged run and a single file ask")
    bench_far_stores.copies(sys.modules[__name__], work, times)
    bench_far_stores.questions(sys.modules[__name__], work, times)


BENCHES = {
    "runs": bench_runs,
    "compare": bench_compare,
    "hold": bench_hold,
    "first": bench_first,
    "large": bench_large,
    "sqlite": bench_sqlite,
    "many": bench_many,
    "million": bench_million,
    "chunks": bench_chunks,
    "far": bench_far,
}


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--times", type=int, default=3)
    parser.add_argument("--folder", default="/var/tmp")
    parser.add_argument("--out", help="write the results as JSON")
    parser.add_argument("benches", nargs="*", default=[])
    arguments = parser.parse_args()
    missing = [tool for tool in ("b3sum", "curl", "find", "sftp", "tar", "zstd") if not shutil.which(tool)]
    if missing:
        raise SystemExit(f"these tools are missing: {', '.join(missing)}")
    for name in arguments.benches or BENCHES:
        with tempfile.TemporaryDirectory(dir=arguments.folder, prefix="gullet-bench-") as work:
            if name == "hold":
                BENCHES[name](Path(work), arguments.times)
            else:
                # A fresh filesystem for every bench: on one where much was removed just before, making files takes many
                # times as long for everybody.
                with disk("ext4", 64 << 30, Path(work)) as point:
                    BENCHES[name](point, arguments.times)
        if arguments.out:
            Path(arguments.out).write_text(json.dumps(RESULTS, indent=1))


if __name__ == "__main__":
    sys.exit(main())
