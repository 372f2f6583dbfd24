"""Far stores against general tools: Ceph's S3 gateway against curl, OpenSSH against sftp, and what is asked of them.

Needs Ceph's packages (scripts/prove.sh installs them), python3-boto3, curl and OpenSSH; called by scripts/bench.py."""

import asyncio
import os
import re
import shutil
import socket
import subprocess
import tempfile
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
GIB = 1 << 30
PIECE = 64 << 20


def free_port():
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return found.getsockname()[1]


@contextmanager
def ceph():
    """A gateway at a port of its own, with a bucket `depot`; gives the port and its configuration."""
    with tempfile.TemporaryDirectory() as folder:
        port = free_port()
        script = ROOT / "crates/gullet/tests/services/ceph.sh"
        subprocess.run([script, folder, str(free_port()), str(port)], check=True, stdout=subprocess.DEVNULL)
        try:
            client(port).create_bucket(Bucket="depot")
            yield port, f"{folder}/ceph.conf"
        finally:
            for pid in Path(folder, "run").glob("*.pid"):
                subprocess.run(["kill", "-KILL", pid.read_text().strip()], check=False)


def client(port):
    import boto3
    return boto3.client("s3", endpoint_url=f"http://127.0.0.1:{port}", aws_access_key_id="AK", aws_secret_access_key="SK", region_name="us-east-1")


@contextmanager
def sshd():
    """OpenSSH for root at a port of its own; gives the port and the folder with `user` (a key) and `known`."""
    with tempfile.TemporaryDirectory() as name:
        folder, port = Path(name), free_port()
        for key in ("host", "user"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", folder / key], check=True)
        shutil.copy(folder / "user.pub", folder / "authorized")
        (folder / "known").write_text(f"[127.0.0.1]:{port} {(folder / 'host.pub').read_text()}")
        (folder / "conf").write_text(
            f"Port {port}\nListenAddress 127.0.0.1\nHostKey {folder}/host\nPidFile {folder}/pid\nAuthorizedKeysFile {folder}/authorized\n"
            "StrictModes no\nUsePAM no\nPasswordAuthentication no\nPermitRootLogin yes\nSubsystem sftp internal-sftp\n")
        os.makedirs("/run/sshd", exist_ok=True)
        server = subprocess.Popen(["/usr/sbin/sshd", "-D", "-f", folder / "conf"])
        time.sleep(1)
        try:
            yield port, folder
        finally:
            server.kill()
            server.wait()


class Proxy:
    """Passes everything on to a port, each piece so much later, and counts the requests of HTTP."""

    def __init__(self, to, delay=0.0):
        self.to, self.delay, self.port, self.requests = to, delay, free_port(), 0
        started = threading.Event()
        threading.Thread(target=lambda: asyncio.run(self.serve(started)), daemon=True).start()
        started.wait()

    async def serve(self, started):
        server = await asyncio.start_server(self.meet, "127.0.0.1", self.port)
        started.set()
        async with server:
            await server.serve_forever()

    async def meet(self, reader, writer):
        other_reader, other_writer = await asyncio.open_connection("127.0.0.1", self.to)
        await asyncio.gather(self.carry(reader, other_writer, True), self.carry(other_reader, writer, False), return_exceptions=True)

    async def carry(self, reader, writer, counts):
        while piece := await reader.read(1 << 16):
            if counts:
                self.requests += len(re.findall(rb"^(?:GET|PUT|HEAD|POST|DELETE) [^ ]+ HTTP/1.1\r$", piece, re.M))
            await asyncio.sleep(self.delay)
            writer.write(piece)
            await writer.drain()
        writer.close()


def in_bucket(port, prefix, folder, limit="30s"):
    """A store of the definition that is a bucket."""
    keys = Path(folder) / "keys"
    keys.write_text("AWS_ACCESS_KEY_ID=AK\nAWS_SECRET_ACCESS_KEY=SK\n")
    keys.chmod(0o600)
    return f'location = "s3://depot/{prefix}"\nendpoint = "http://127.0.0.1:{port}"\ncredentials = {{ file = "{keys}" }}\nlimit = "{limit}"\n'


def copies(bench, work, times):
    """A copy of 1 GiB that cannot be compressed, each time into an empty place."""
    data = work / "data"
    data.mkdir()
    pieces = [data / str(number) for number in range(GIB // PIECE)]
    for number, piece in enumerate(pieces):
        bench.noise(piece, PIECE, number)
    place = bench.Place(work / "place", bench.files_app(data))
    head = place.definition.read_text()
    place.gullet("run", "app", "--quiet")

    def copy(store):
        text = head.replace("[store.depot]\n", '[store.depot]\ncopies = ["far"]\n')
        place.definition.write_text(f"{text}\n[store.far]\n{store}")
        bench.sync()
        return place.gullet("store", "copy", "depot", "--make")

    with ceph() as (port, conf):
        def curl(number):
            # Signed beforehand, so that curl has nothing to compute.
            sign = client(port).generate_presigned_url
            urls = [sign("put_object", {"Bucket": "depot", "Key": f"curl{number}/{piece.name}"}) for piece in pieces]
            lines = "".join(f"{piece} {url}\n" for piece, url in zip(pieces, urls))
            (work / "urls").write_text(lines)
            bench.sync()
            took = bench.timed(["sh", "-c", f"xargs -P 2 -n 2 curl -sSf -T < {work}/urls"])
            empty(port, conf, f"curl{number}/")
            return took

        def ours(number):
            took = copy(in_bucket(port, f"quay{number}", work))
            empty(port, conf, f"quay{number}/")
            return took

        found = bench.interleave(times, ours=ours, curl=curl)
        report(bench, "copy of 1 GiB to Ceph", "curl -T, two at once", found["ours"], found["curl"], "< 1.3")
    with sshd() as (port, folder):
        target = work / "target"

        def ours_ssh(number):
            target.mkdir()
            took = copy(f'location = "sftp://root@127.0.0.1:{port}{target}/quay{number}"\nkey_file = "{folder}/user"\nknown_hosts = "{folder}/known"\n')
            shutil.rmtree(target, ignore_errors=True)
            return took

        def sftp(put):
            target.mkdir()
            bench.sync()
            options = f"-q -P {port} -i {folder}/user -o UserKnownHostsFile={folder}/known -b -"
            batch = "\\n".join(f"{put} {piece} {target}/{piece.name}" for piece in pieces)
            took = bench.timed(["sh", "-c", f"printf '{batch}\\n' | sftp {options} root@127.0.0.1"])
            shutil.rmtree(target)
            return took

        found = bench.interleave(times, ours=ours_ssh, durable=lambda _: sftp("put -f"), sent=lambda _: sftp("put"))
        what = "copy of 1 GiB by SFTP, a tenth read back"
        report(bench, what, "sftp put -f, durable as ours", found["ours"], found["durable"], "< 1.1")
        report(bench, what, "sftp put, in the server's memory", found["ours"], found["sent"], "-")


def empty(port, conf, prefix):
    """Removes what lies below a prefix: the gateway keeps everything in memory."""
    s3 = client(port)
    for page in s3.get_paginator("list_objects_v2").paginate(Bucket="depot", Prefix=prefix):
        names = [{"Key": found["Key"]} for found in page.get("Contents", [])]
        if names:
            s3.delete_objects(Bucket="depot", Delete={"Objects": names})
    # What was removed takes memory until it is collected.
    subprocess.run(["radosgw-admin", "-c", conf, "gc", "process", "--include-all"], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


def report(bench, work, against, ours, theirs, wanted):
    mine, other = bench.ratio_of(ours, theirs)
    bench.row(work, against, bench.seconds(mine), bench.seconds(other), mine / other, wanted, bench.memory_text(ours))


def questions(bench, work, times):
    """What an unchanged run takes and asks, at 50 ms, and one file of a run of 1,000,000."""
    data = work / "small"
    bench.small_files(data, 1000, 4000, 3)
    near = bench.Place(work / "near", bench.files_app(data))
    with ceph() as (port, conf):
        slow = Proxy(port, 0.025)
        far = bench.Place(work / "far", bench.files_app(data), depot=in_bucket(slow.port, "unchanged", work))
        for place in (near, far):
            for _ in range(3):
                place.gullet("run", "app", "--quiet")
        found = bench.interleave(max(times, 7), near=lambda _: near.gullet("run", "app", "--quiet"), far=lambda _: far.gullet("run", "app", "--quiet"))
        mine, other = bench.ratio_of(found["far"], found["near"])
        before = slow.requests
        far.gullet("run", "app", "--quiet")
        bench.row("unchanged run on Ceph at 50 ms", "the same on a folder", bench.seconds(mine), bench.seconds(other), mine - other, "< 2 s more",
                  f"{slow.requests - before} requests, wanted <= 10; {bench.memory_text(found['far'])}")
        counts = Proxy(port)
        million = work / "million"
        bench.small_files(million, 1_000_000, 60, 4)
        place = bench.Place(work / "one", bench.files_app(million), depot=in_bucket(counts.port, "million", work))
        captured = place.gullet("run", "app", "--quiet")
        bench.row("run of 1,000,000 files on Ceph", "-", bench.seconds(captured[0]), "-", 0, "256 MiB", bench.memory_text([captured]))
        some = next(path for path in million.rglob("*") if path.is_file())
        before = counts.requests
        restored = place.gullet("restore", "app@latest", "--into", str(work / "out"), "--path", str(some))
        bench.row("one file of 1,000,000 from Ceph", "-", bench.seconds(restored[0]), "-", 0, "-",
                  f"{counts.requests - before} requests, wanted < 20; {bench.memory_text([restored])}")
        with_copy = near.definition.read_text().replace("[store.depot]\n", '[store.depot]\ncopies = ["far"]\n')
        near.definition.write_text(f"{with_copy}\n[store.far]\n{in_bucket(port, 'listed', work)}")
        near.gullet("store", "copy", "depot", "--make")
        with ThreadPoolExecutor(8) as pool:
            s3 = client(port)
            list(pool.map(lambda n: s3.put_object(Bucket="depot", Key=f"listed/payload/another/run/{n:06}.zst", Body=b"x"), range(100_000)))
        listed = near.gullet("store", "copy", "depot")
        bench.row("`store copy` with nothing to do, which lists 100,000 objects", "-", bench.seconds(listed[0]), "-", 0, "256 MiB", bench.memory_text([listed]))
