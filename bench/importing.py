"""Ten thousand profiles: their import against the bare time to unzip and parse them, list and completion among them."""

from __future__ import annotations

import io
import os
import resource
import subprocess
import sys
import tempfile
import time
import tomllib
import zipfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from support import AUTHORITY
from zesty_burrow.core.profile import Gateway, Profile
from zesty_burrow.lab import story
from zesty_burrow.lab.kit import AUTHORITY_FILE, kit_archive, place_profile
from zesty_burrow.profiles.text import write_profile

COUNT = 10_000
ROUNDS = 3
PROGRAM = str(Path(sys.executable).with_name("zesty"))
BARE = """
import sys, time, tomllib, zipfile
began = time.perf_counter()
with zipfile.ZipFile(sys.argv[1]) as opened:
    for name in opened.namelist():
        data = opened.read(name)
        if name.endswith(".toml"):
            tomllib.loads(data.decode())
print(time.perf_counter() - began)
"""


def place(lisbon: Profile, number: int) -> Profile:
    """One of ten thousand places."""
    gateway = Gateway((f"gateway-{number:05}.quillwort.example",))
    return replace(lisbon, name=f"place-{number:05}", city=f"City {number}", gateway=gateway)


def archive() -> bytes:
    """The kit: ten thousand profiles and the authority's certificate."""
    lisbon = place_profile(story.PLACES[0])
    files = {f"profiles/{number}.toml": write_profile(place(lisbon, number)).encode() for number in range(COUNT)}
    return kit_archive({**files, AUTHORITY_FILE: AUTHORITY.pem()})


def bare(data: bytes) -> float:
    """Unzip and parse, nothing else."""
    began = time.perf_counter()
    with zipfile.ZipFile(io.BytesIO(data)) as opened:
        for name in opened.namelist():
            text = opened.read(name)
            if name.endswith(".toml"):
                tomllib.loads(text.decode())
    return time.perf_counter() - began


def run(words: list[str], home: str) -> float:
    """One run of the program, from its start to its end."""
    environment = {**os.environ, "ZESTY_BURROW_HOME": home}
    began = time.perf_counter()
    subprocess.run([PROGRAM, *words], env=environment, stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - began


def measure(rounds: int) -> Iterator[tuple[str, list[float], list[float], str]]:
    """The whole program's import, then list and completion, each with its base in turn."""
    del rounds  # each of them takes long
    data = archive()
    ours, base = [], []
    with tempfile.TemporaryDirectory() as folder:
        kit = Path(folder, "kit.zip")
        kit.write_bytes(data)
        for number in range(ROUNDS):
            base.append(bare(data))
            ours.append(run(["import", str(kit)], f"{folder}/home-{number}"))
        peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
        title = f"import of {COUNT} profiles ({len(data) >> 20} MiB, peak memory {peak:.0f} MiB)"
        yield title, ours, base, "unzip and parse alone"
        for words in (["list"], ["list", "--place", "PT", "place-0999"], ["completion", "names", "place-0999"]):
            taken = [run(words, f"{folder}/home-0") for _ in range(ROUNDS)]
            empty = [run(words, f"{folder}/empty") for _ in range(ROUNDS)]
            yield f"{' '.join(words)}, among {COUNT}", taken, empty, "the same in an empty store"
