#!/usr/bin/env python3
"""Lists and restores a Gullet store, encrypted or not, without Gullet; written from FORMAT.md alone.

It needs Python 3.9, the `zstd` program, and for encrypted stores the `age` program. Hashes are checked when the package
`blake3` is there (pip install blake3), else only lengths are.

    reader.py STORE list
    reader.py STORE restore RUN INTO [--identity FILE]
"""

import argparse
import base64
import json
import os
import struct
import subprocess
import sys
from pathlib import Path

try:
    from blake3 import blake3
except ImportError:
    blake3 = None


def proven(data, wanted, what):
    """The data, if it has the hash that it must have."""
    if blake3 and blake3(data).hexdigest() != wanted:
        raise SystemExit(f"{what} is damaged")
    return data


def age(data, identity, what):
    """What is in an age file."""
    if not identity:
        raise SystemExit(f"{what} is encrypted: say --identity FILE")
    done = subprocess.run(["age", "-d", "-i", identity], input=data, capture_output=True)
    if done.returncode:
        raise SystemExit(f"{what} cannot be opened: {done.stderr.decode(errors='replace').strip()}")
    return done.stdout


def documents(store, folder):
    """Name and contents of every document below a folder, by the names of the files, which sort by time."""
    found = sorted((store / folder).rglob("*.json"), key=lambda path: path.name)
    for path in found:
        wanted = path.stem.rsplit("-", 1)[1]
        yield str(path.relative_to(store)), json.loads(proven(path.read_bytes(), wanted, path))


def opened(document, identity, what):
    """A document with its sensitive contents."""
    if "encrypted" not in document:
        return document
    return json.loads(age(base64.b64decode(document["encrypted"]["age"]), identity, what))


def name(value):
    """A path as bytes."""
    return value.encode() if isinstance(value, str) else base64.b64decode(value["base64"])


class Payload:
    """The chunks of some payload files."""

    def __init__(self, store, files, identity):
        self.chunks = {}
        self.frames = {}
        self.at_hand = (None, b"")
        for file in files:
            data = (store / file).read_bytes()
            if file.endswith(".age"):
                data = age(data, identity, file)
            self.read(file, data)

    def read(self, file, data):
        entries, flags, magic = struct.unpack("<IBI", data[-9:])
        if magic != 0x8F92EAB1 or flags != 0:
            raise SystemExit(f"{file} does not end in a seek table")
        table = data[-9 - 8 * entries : -9]
        sizes = [struct.unpack_from("<II", table, 8 * number) for number in range(entries)]
        at, places = 0, []
        for stored, length in sizes[:-1]:
            places.append((at, stored, length))
            at += stored
        toc = data[at : at + sizes[-1][0]]
        magic, length = struct.unpack_from("<II", toc)
        if magic != 0x184D2A5B or length != len(toc) - 8 or toc[8:16] != b"GULLTOC1":
            raise SystemExit(f"{file} has no table of contents")
        (count,) = struct.unpack_from("<I", toc, 16)
        for number in range(count):
            id, frame, offset, length = struct.unpack_from("<32sIII", toc, 20 + 44 * number)
            self.chunks.setdefault(id.hex(), (file, frame, offset, length))
        for number, (at, stored, length) in enumerate(places):
            self.frames[file, number] = (data[at : at + stored], length)

    def get(self, id):
        """The bytes of a chunk."""
        file, frame, offset, length = self.chunks[id]
        if self.at_hand[0] != (file, frame):
            stored, whole = self.frames[file, frame]
            plain = subprocess.run(["zstd", "-q", "-dc"], input=stored, capture_output=True, check=True).stdout
            if len(plain) != whole:
                raise SystemExit(f"frame {frame} of {file} is damaged")
            self.at_hand = ((file, frame), plain)
        return proven(self.at_hand[1][offset : offset + length], id, f"chunk {id}")

    def entries(self, id):
        """The entries of a listing, from a node on."""
        node = json.loads(self.get(id))
        for child in node["children"]:
            if node["level"] > 0:
                yield from self.entries(child["chunk"])
            else:
                for line in self.get(child["chunk"]).splitlines():
                    yield json.loads(line)


def holdings(record, remarks):
    """The payload files that a run stands on now."""
    held = record["holdings"]
    files = [file["name"] for file in held["wrote"]] + [need["name"] for need in held["needs"]]
    for remark in remarks:
        for moved in remark.get("moved", []):
            files = [file for file in files if file != moved["from"]] + [moved["to"]["name"]]
    return list(dict.fromkeys(files))


def restore(payload, capture, into):
    """Writes what a capture consists of below a folder; nothing that is there is overwritten."""
    folders = []
    os.makedirs(into, mode=0o700, exist_ok=True)
    for entry in payload.entries(capture["listing"]["root"]):
        at = place(into, name(entry["path"]))
        kind = entry["kind"]
        if "same_as" in entry:
            os.link(place(into, name(entry["same_as"])), at, follow_symlinks=False)
            continue
        if kind == "folder":
            if os.path.islink(at) or not os.path.isdir(at):
                os.mkdir(at, mode=0o700)
            folders.append((at, entry))
            continue
        if kind == "symlink":
            os.symlink(name(entry["target"]), at)
        elif kind == "fifo":
            os.mkfifo(at)
        elif kind == "file":
            write(payload, entry, at)
        else:
            print(f"passed over: {at!r} ({kind})", file=sys.stderr)
            continue
        attributes(at, entry)
    for at, entry in reversed(folders):
        attributes(at, entry)


def place(into, path):
    """Where a path of a listing is written, with the folders above it; a hostile one leads nowhere else."""
    parts = path.split(b"/")
    if any(part in (b"", b".", b"..") for part in parts):
        raise SystemExit(f"{path!r} leads elsewhere")
    at = os.fsencode(into)
    for part in parts[:-1]:
        at = os.path.join(at, part)
        # It may be a link that the listing itself has made before.
        if os.path.islink(at):
            raise SystemExit(f"{path!r} leads through a link")
        if not os.path.isdir(at):
            os.mkdir(at)
    return os.path.join(at, parts[-1])


def file_name(part):
    """The name of a part as that of a folder: all but letters, digits, `-`, `_` and `.` is percent-encoded."""
    plain = b"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_."
    encoded = "".join(chr(byte) if byte in plain else f"%{byte:02X}" for byte in part.encode())
    if encoded in ("", ".", ".."):
        raise SystemExit(f"{part!r} cannot be the name of a part")
    return encoded


def write(payload, entry, at):
    size = entry.get("size", 0)
    ranges = entry.get("data", [[0, size]])
    with open(at, "xb") as file:
        ids = list(entry.get("chunks", []))
        for list_id in entry.get("lists", []):
            packed = payload.get(list_id)
            ids += [packed[at : at + 32].hex() for at in range(0, len(packed), 32)]
        data = b"".join(payload.get(id) for id in ids)
        for offset, length in ranges:
            file.seek(offset)
            file.write(data[:length])
            data = data[length:]
        file.truncate(size)


def attributes(at, entry):
    if os.geteuid() == 0:
        os.lchown(at, entry["uid"], entry["gid"])
    if entry["kind"] != "symlink":
        os.chmod(at, entry["mode"])
    for key, value in entry.get("xattrs", {}).items():
        try:
            os.setxattr(at, key, base64.b64decode(value), follow_symlinks=False)
        except OSError as error:
            print(f"{at!r}: {key}: {error}", file=sys.stderr)
    seconds, nanoseconds = entry["mtime"]
    time = seconds * 10**9 + nanoseconds
    os.utime(at, ns=(time, time), follow_symlinks=False)


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("store", type=Path)
    parser.add_argument("command", choices=["list", "restore"])
    parser.add_argument("run", nargs="?")
    parser.add_argument("into", nargs="?")
    parser.add_argument("--identity")
    arguments = parser.parse_args()
    about = json.loads((arguments.store / "store.json").read_bytes())
    if about["format"] > 1:
        raise SystemExit(f"the store has format {about['format']}, which is newer than this program")
    for path, record in documents(arguments.store, "records"):
        below = "/".join(["remarks", record["app"], record["machine"], record["run"]])
        remarks = [remark for _, remark in documents(arguments.store, below)]
        # By their numbers; by their names, which begin with the time, only where those are the same.
        remarks.sort(key=lambda remark: remark.get("number", 0))
        kinds = [remark["what"] for remark in remarks]
        if arguments.command == "list":
            print(record["run"], record["app"], record["started"], record["outcome"], ",".join(kinds) or "-", sep="\t")
        elif record["run"] == arguments.run:
            if "thinned" in kinds:
                raise SystemExit("its captures were removed")
            record = opened(record, arguments.identity, path)
            payload = Payload(arguments.store, holdings(record, remarks), arguments.identity)
            for capture in record["captures"]:
                if capture.get("listing"):
                    layout = "files" if capture["layout"] == "source" else os.path.join("exports", file_name(capture["part"]))
                    restore(payload, capture, os.path.join(arguments.into, layout))
            return
    if arguments.command == "restore":
        raise SystemExit(f"there is no run {arguments.run}")


if __name__ == "__main__":
    main()
