"""`zesty verify` in the lab: its own time, and how many round trips it is deep, by a wire that takes its time."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from bench.importing import PROGRAM
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient
from zesty_burrow.lab.local_network.conditions import Conditions

DELAY = 0.1
"""Seconds each way."""


def measure(rounds: int) -> Iterator[tuple[str, list[float], list[float], str]]:
    """Needs the right to make network namespaces."""
    with tempfile.TemporaryDirectory(prefix="zb") as folder:
        environment = {**os.environ, "ZESTY_BURROW_HOME": folder}

        def run(*words: str) -> str:
            ended = subprocess.run([PROGRAM, *words], env=environment, capture_output=True, text=True, check=False)
            return ended.stdout

        def heron(*words: str) -> str:
            return run("lab", "run", story.WORKSTATION, "--", PROGRAM, *words)

        def verify() -> float:
            began = time.perf_counter()
            seen = json.loads(heron("--json", "verify"))
            if seen.get("verdict") != "sealed":
                raise SystemExit(f"the verification ended as {seen.get('verdict')}: {seen.get('headline')}")
            return time.perf_counter() - began

        run("lab", "start")
        try:
            client = LabClient(Path(folder, "lab"))
            heron("import", str(Path(folder, "lab", "quillwort-relay.zip")))
            heron("verify", "--before")
            heron("connect", "lisbon", "--detach")
            verify()
            at_rest, added, empty = [], [], []
            for _ in range(rounds):
                began = time.perf_counter()
                run("lab", "run", story.WORKSTATION, "--", sys.executable, "-c", "pass")
                empty.append(time.perf_counter() - began)
                at_rest.append(verify())
                client.set_wire(Conditions(delay=DELAY))
                added.append(verify() - at_rest[-1])
                client.set_wire(Conditions())
        finally:
            run("lab", "stop")
    yield "verify, the whole process", at_rest, empty, "python -c pass, there"
    yield f"what a round trip of {2000 * DELAY:.0f} ms adds to verify", added, [2 * DELAY] * rounds, "one round trip"
