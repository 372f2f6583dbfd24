#!/usr/bin/env python3
"""In the place of `ssh`: OpenSSH's own SFTP server as one that says no limits, ends at a message of more than 34,000 bytes (what each
must take, by section 3 of the draft) and gives at most 5,000 bytes of a file for one question. With LINE it is the server as it is, at
the end of a line that takes so many bytes in a second."""

import os
import struct
import subprocess
import sys
import threading
import time

LONGEST, GIVEN = 34_000, 5_000
READ = 5
LINE = int(os.environ.get("LINE", 0))

server = subprocess.Popen(["/usr/lib/openssh/sftp-server"], stdin=subprocess.PIPE, stdout=subprocess.PIPE)


def messages(stream):
    while head := stream.read(4):
        yield stream.read(struct.unpack(">I", head)[0])


def pass_on(message, stream):
    stream.write(struct.pack(">I", len(message)) + message)
    stream.flush()


def answers():
    for number, message in enumerate(messages(server.stdout)):
        if number == 0 and not LINE:
            message = message.replace(b"limits@openssh.com", b"limits@nobody.here")
        pass_on(message, sys.stdout.buffer)
    os._exit(0)


threading.Thread(target=answers, daemon=True).start()
for message in messages(sys.stdin.buffer):
    if LINE:
        time.sleep(len(message) / LINE)
        pass_on(message, server.stdin)
        continue
    if len(message) > LONGEST:
        server.kill()
        os._exit(1)
    if message[0] == READ:
        wanted = struct.unpack(">I", message[-4:])[0]
        message = message[:-4] + struct.pack(">I", min(wanted, GIVEN))
    pass_on(message, server.stdin)
server.kill()
