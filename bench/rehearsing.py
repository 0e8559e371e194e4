"""Two hundred rehearsals at once, in the lab, with the real program, against the bare cryptography of both ends."""

from __future__ import annotations

import json
import os
import resource
import subprocess
import tempfile
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from bench.handshake import bare
from bench.importing import PROGRAM
from support import AUTHORITY, HOST
from zesty_burrow.lab import story
from zesty_burrow.lab.authority import issue, make_key
from zesty_burrow.lab.kit import kit_archive, place_profile
from zesty_burrow.profiles.change_protocol import with_protocol
from zesty_burrow.profiles.text import write_profile
from zesty_burrow.profiles.ways import every_way

COUNT = 200
ROUNDS = 3


def measure(rounds: int) -> Iterator[tuple[str, list[float], list[float], str]]:
    """From the program's start to its end; needs the right to make network namespaces."""
    del rounds  # each of them takes long
    with tempfile.TemporaryDirectory(prefix="zb") as folder:
        environment = {**os.environ, "ZESTY_BURROW_HOME": folder}

        def run(*words: str) -> str:
            ended = subprocess.run([PROGRAM, *words], env=environment, capture_output=True, text=True, check=False)
            return ended.stdout

        run("lab", "start")
        try:
            yield from _measure(Path(folder), run)
        finally:
            run("lab", "stop")


def _measure(folder: Path, run) -> Iterator[tuple[str, list[float], list[float], str]]:
    lab = Path(folder, "lab")
    heron = ("lab", "run", story.WORKSTATION, "--", PROGRAM)
    # The second kit has the shared key that L2TP over IPsec wants.
    for name in ("quillwort-relay.zip", "quillwort-relay-protocols.zip"):
        run(*heron, "import", str(lab / name))
    one = json.loads(run(*heron, "--json", "show", "quillwort-lisbon"))["profile"]
    files: dict[str, dict[str, bytes]] = {"many": {}, "mixed": {}}
    for number in range(COUNT):
        place = story.PLACES[number % len(story.PLACES)]
        profile = replace(place_profile(place), authorities=tuple(one["trust"]["authorities"]))
        # What the place speaks, but for what needs a word each time.
        ways = [way for way in every_way(profile) if way.tunnel.protocol in ("ikev2", "connect-ip")]
        ways += [with_protocol(profile, "l2tp-ipsec")] if place.is_old else []
        for tag, made in (("many", profile), ("mixed", ways[number // len(story.PLACES) % len(ways)])):
            named = replace(made, name=f"{tag}-{number:03}", edition=str(number), tags=(tag,))
            files[tag][f"{number:03}.toml"] = write_profile(named).encode()
    for tag, members in files.items():
        kit = folder / f"{tag}.zip"
        kit.write_bytes(kit_archive(members))
        run(*heron, "import", str(kit), "--both")
    key = make_key("ecdsa")
    certificate = issue(AUTHORITY, key, HOST)
    for title, tag, extra in (
        ("to the child SA", "many", ["--no-exit"]),
        ("and through it to the outside", "many", []),
        ("of all protocols and transports", "mixed", ["--no-exit"]),
    ):
        ours, base = [], []
        for _ in range(ROUNDS):
            base.append(sum(bare(key, certificate) for _ in range(COUNT)))
            began = time.perf_counter()
            seen = json.loads(run(*heron, "--json", "rehearse", "--tag", tag, "--at-once", str(COUNT), *extra))
            ours.append(time.perf_counter() - began)
            if "rehearsals" not in seen:
                raise SystemExit(f"the rehearsal failed: {seen}")
            # What is retired is never simply fit.
            fit = sum(row["verdict"] in ("fit", "doubtful") for row in seen["rehearsals"])
            codes = sorted({entry["code"] for row in seen["rehearsals"] for entry in row["findings"]})
            if fit != COUNT:
                raise SystemExit(f"only {fit} of {COUNT} rehearsals were fit: {codes}, {seen['failures'][:2]}")
        peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
        yield f"{COUNT} rehearsals {title} (peak {peak:.0f} MiB)", ours, base, "their bare cryptography, both ends"
