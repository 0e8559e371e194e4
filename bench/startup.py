"""How long the program takes to start, against an empty Python."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from pathlib import Path

PROGRAM = str(Path(sys.executable).with_name("zesty"))


def seconds(command: Sequence[str], environment: dict[str, str]) -> float:
    """One run, wall clock."""
    began = time.perf_counter()
    subprocess.run(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    return time.perf_counter() - began


def measure(rounds: int) -> Iterator[tuple[str, list[float], list[float], str]]:
    """--help, list and status, each in turn with ``python -c pass``."""
    with tempfile.TemporaryDirectory() as home:
        environment = {**os.environ, "ZESTY_BURROW_HOME": home}
        for words in (["--help"], ["list"], ["status"]):
            seconds([PROGRAM, *words], environment)
            ours, base = [], []
            for _ in range(rounds):
                base.append(seconds([sys.executable, "-c", "pass"], environment))
                ours.append(seconds([PROGRAM, *words], environment))
            yield f"zesty {' '.join(words)}", ours, base, "python -c pass"
