"""How long the program takes to start, against an empty Python."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from pathlib import Path

from zesty_burrow.lab.authority import make_authority
from zesty_burrow.lab.kit import kit_archive, kit_files

PROGRAM = str(Path(sys.executable).with_name("zesty"))


def seconds(command: Sequence[str], environment: dict[str, str]) -> float:
    """One run, wall clock."""
    began = time.perf_counter()
    subprocess.run(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    return time.perf_counter() - began


def measure(rounds: int) -> Iterator[tuple[str, list[float], list[float], str]]:
    """What is called often, each in turn with ``python -c pass``; on a store with a provider's kit."""
    with tempfile.TemporaryDirectory() as home:
        environment = {**os.environ, "ZESTY_BURROW_HOME": home}
        # As where it is installed: modules are compiled once.
        environment.pop("PYTHONDONTWRITEBYTECODE", None)
        kit = Path(home, "kit.zip")
        kit.write_bytes(kit_archive(kit_files(make_authority("Quillwort Relay").pem(), "kelp-Forest_42")))
        kit.chmod(0o600)
        seconds([PROGRAM, "import", str(kit)], environment)
        for words in (["--help"], ["status"], ["explain", "dns-leak"], ["list"], ["show", "quillwort-lisbon"]):
            seconds([PROGRAM, *words], environment)
            ours, base = [], []
            for _ in range(rounds * 3):
                base.append(seconds([sys.executable, "-c", "pass"], environment))
                ours.append(seconds([PROGRAM, *words], environment))
            yield f"zesty {' '.join(words)}", ours, base, "python -c pass"
