"""A thousand profiles in one archive, against the bare time to unzip and parse them."""

from __future__ import annotations

import io
import sys
import tempfile
import time
import tomllib
import zipfile
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from support import AUTHORITY
from zesty_burrow.core.profile.text import write_profile
from zesty_burrow.intake.kit import read_kit
from zesty_burrow.intake.member import Member
from zesty_burrow.lab import story
from zesty_burrow.lab.kit import AUTHORITY_FILE, kit_archive, place_profile
from zesty_burrow.store.seal import Seal
from zesty_burrow.store.store import Store, sqlite_url

COUNT = 1000


def archive() -> bytes:
    """The kit: a thousand profiles and the authority's certificate."""
    lisbon = place_profile(story.PLACES[0])
    files = {
        f"profiles/{number}.toml": write_profile(replace(lisbon, name=f"place-{number:04}")).encode()
        for number in range(COUNT)
    }
    return kit_archive({**files, AUTHORITY_FILE: AUTHORITY.pem()})


def bare(data: bytes) -> float:
    """Unzip and parse, nothing else."""
    began = time.perf_counter()
    with zipfile.ZipFile(io.BytesIO(data)) as opened:
        for name in opened.namelist():
            if name.endswith(".toml"):
                tomllib.loads(opened.read(name).decode())
    return time.perf_counter() - began


def import_all(data: bytes, folder: Path) -> float:
    """Read, judge and store."""
    store = Store(sqlite_url(folder / "store.db"), lambda: Seal(b"k" * 32), lambda: "2026-11-01T09:00:00Z")
    began = time.perf_counter()
    kit = read_kit("kit.zip", [Member("kit.zip", data)], datetime.now(UTC))
    store.take_kit([(entry.profile, entry.text, "kit.zip") for entry in kit.profiles], [])
    took = time.perf_counter() - began
    assert len(store.list_profiles()) == COUNT
    store.close()
    return took


def measure(rounds: int) -> Iterator[tuple[str, list[float], list[float], str]]:
    """One measure."""
    data = archive()
    ours, base = [], []
    for _ in range(rounds):
        base.append(bare(data))
        with tempfile.TemporaryDirectory() as folder:
            ours.append(import_all(data, Path(folder)))
    yield f"import of {COUNT} profiles", ours, base, "unzip and parse alone"
