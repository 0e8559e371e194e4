"""In the lab: `connect` from Enter to "up", what the guard costs, and how long a switch leaves nothing carried."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient

Row = tuple[str, list[float], list[float], str]
MEGABYTES, PORT = 256, 5201
PLACES = ("lisbon", "tallinn")

TIMED = """
import subprocess, sys, time
begin = time.perf_counter()
code = subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL).returncode
print(time.perf_counter() - begin)
sys.exit(code)
"""
SINK = """
import socket, sys
with socket.create_server(("", int(sys.argv[1]))) as server:
    print("ready", flush=True)
    while True:
        here, _ = server.accept()
        with here:
            total = 0
            while data := here.recv(1 << 20):
                total += len(data)
                if total >= int(sys.argv[2]):
                    here.sendall(b"done")
                    break
"""
SOURCE = """
import socket, sys, time
size = int(sys.argv[3])
block = bytes(1 << 20)
with socket.create_connection((sys.argv[1], int(sys.argv[2]))) as there:
    for number in range(2):
        begin = time.perf_counter()
        left = size
        if number:
            there.close()
            there = socket.create_connection((sys.argv[1], int(sys.argv[2])))
        while left > 0:
            there.sendall(block[: min(left, len(block))])
            left -= len(block)
        assert there.recv(4) == b"done"
        last = time.perf_counter() - begin
print(last)
"""
"""Twice on one tunnel: the first time compiles the loops, the second is measured."""
GAPS = """
import os, select, socket, subprocess, sys, time
asker = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
asker.setblocking(False)
switch = subprocess.Popen(sys.argv[2:], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
times, ended, due = [], None, time.perf_counter()
while ended is None or time.perf_counter() < ended + 0.5:
    now = time.perf_counter()
    if now >= due:
        due = now + 0.002
        try:
            asker.sendto(bytes.fromhex("000100002112a442") + os.urandom(12), (sys.argv[1], 3478))
        except OSError:
            pass
    if select.select([asker], [], [], 0.001)[0]:
        asker.recv(2048)
        times.append(time.perf_counter())
    if ended is None and switch.poll() is not None:
        ended = time.perf_counter()
assert switch.returncode == 0
print(max(after - before for before, after in zip(times, times[1:])))
"""
"""A STUN question (RFC 8489) each two milliseconds: the longest time between two answers during a switch."""


class Bench:
    """The lab, and programs on its workstation that print a number."""

    def __init__(self, home: Path) -> None:
        self.home = home
        self.program = str(Path(sys.executable).with_name("zesty"))

    def run(self, *words: str) -> str:
        environment = {**os.environ, "ZESTY_BURROW_HOME": str(self.home)}
        ended = subprocess.run([self.program, *words], capture_output=True, text=True, env=environment)
        if ended.returncode:
            raise SystemExit(f"bench: {' '.join(words)}: {ended.stdout}{ended.stderr}")
        return ended.stdout

    def heron(self, *words: str) -> str:
        return self.run("lab", "run", "heron", "--", *words)

    def seconds(self, *words: str) -> float:
        return float(self.heron(sys.executable, "-c", TIMED, *words))

    def connect(self, place: str, *words: str) -> None:
        self.heron(self.program, "connect", place, "--detach", *words)

    def disconnect(self) -> None:
        self.heron(self.program, "disconnect")


@contextmanager
def lab() -> Iterator[Bench]:
    with tempfile.TemporaryDirectory(prefix="zb") as folder:
        bench = Bench(Path(folder))
        bench.run("lab", "start")
        try:
            bench.heron(bench.program, "import", str(bench.home / "lab" / "quillwort-relay.zip"))
            yield bench
        finally:
            LabClient(bench.home / "lab").stop()


@contextmanager
def sink(bench: Bench, megabytes: int = MEGABYTES) -> Iterator[None]:
    line = [bench.program, "lab", "run", "observatory", "--", sys.executable, "-c", SINK]
    environment = {**os.environ, "ZESTY_BURROW_HOME": str(bench.home)}
    words = [*line, str(PORT), str(megabytes << 20)]
    process = subprocess.Popen(words, stdout=subprocess.PIPE, text=True, env=environment, start_new_session=True)
    try:
        if process.stdout is None or process.stdout.readline() != "ready\n":
            raise SystemExit("bench: the sink did not start")
        yield
    finally:
        os.killpg(process.pid, 9)
        process.wait()


def measure(rounds: int) -> list[Row]:
    """Seconds, each beside what it is compared with in the same round."""
    with lab() as bench, sink(bench):
        up, plain, guarded, free, unwatched, gaps, whole = [], [], [], [], [], [], []
        for _ in range(rounds):
            plain.append(bench.seconds(sys.executable, "-c", "pass"))
            up.append(bench.seconds(bench.program, "connect", PLACES[0], "--detach"))
            whole.append(up[-1])
            gaps.append(
                float(
                    bench.heron(
                        sys.executable, "-c", GAPS, story.OBSERVATORY4, bench.program, "connect", PLACES[1], "--detach"
                    )
                )
            )
            bench.disconnect()
        carried = (((), guarded), (("--no-guard",), free), (("--disable", "packet-watch"), unwatched))
        for number in range(max(rounds // 2, 3)):
            # Each goes first in turn, as a machine's speed drifts.
            for words, found in (*carried[number % 3 :], *carried[: number % 3]):
                bench.connect(PLACES[0], *words)
                source = (sys.executable, "-c", SOURCE, story.OBSERVATORY4, str(PORT), str(MEGABYTES << 20))
                found.append(float(bench.heron(*source)))
                bench.disconnect()
    return [
        ("connect, from Enter to up, the whole process", up, plain, "python -c pass"),
        ("switching: the longest time without an answer", gaps, whole, "connect"),
        (f"{MEGABYTES} MiB by TCP under the guard", guarded, free, "without the guard"),
        (f"{MEGABYTES} MiB by TCP under the packet watch", guarded, unwatched, "without the packet watch"),
    ]


if __name__ == "__main__":
    json.dump(measure(3), sys.stdout)
