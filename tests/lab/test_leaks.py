"""Leaks that are planted, and clean set-ups, as ``tests/leaks/cases.toml`` lists them: what verify says of each."""

from __future__ import annotations

import json
import os
import time
from pathlib import Path

import pytest

from lab.situations import office
from leaks.runner import Outcome, judge, matrix, read_cases, resolver_command, sender_command

pytestmark = pytest.mark.lab
CASES = sorted(read_cases(), key=lambda case: str(case.set_up))
OUTCOMES = []
OTHER_RESOLVER = "nameserver 127.0.0.1"
TIMES = 5


@pytest.fixture(scope="module", autouse=True)
def _matrix():
    """The table of all cases, where a file for it is named."""
    yield
    if os.environ.get("ZESTY_LEAKS_MATRIX") and OUTCOMES:
        Path(os.environ["ZESTY_LEAKS_MATRIX"]).write_text(matrix(OUTCOMES) + "\n")


class Station:
    """The workstation with what is up on it, from one case to the next."""

    def __init__(self, lab):
        self.lab, self.up = lab, None
        self.resolver = lab.shell("heron", "cat", "/etc/resolv.conf").out

    def bring_up(self, case):
        if self.up == case.set_up:
            return
        self.down()
        lab, self.up = self.lab, case.set_up
        words = ["--detach", "--unprotected", *case.connect]
        if case.tunnel in ("office", "both"):
            lab.heron("connect", office(lab), *words, check=0)
        if case.tunnel in ("relay", "both"):
            words += [] if case.guard else ["--no-guard"]
            words += ["--beside"] if case.tunnel == "both" else []
            lab.heron("connect", "lisbon", *words, check=0)

    def down(self):
        if self.up is not None and self.lab.heron("disconnect").code != 0:
            self.lab.heron("restore")
        self.up = None
        # Where a case has changed it, the tunnel leaves it as the case did.
        self.lab.shell("heron", "sh", "-c", 'printf %s "$0" > /etc/resolv.conf', self.resolver)


@pytest.fixture(scope="module")
def station(whole_lab):
    made = Station(whole_lab)
    yield made
    made.down()


@pytest.mark.parametrize("case", CASES, ids=lambda case: case.name.replace(" ", "-"))
def test_what_verify_says(station, case):
    lab = station.lab
    station.bring_up(case)
    tunnel = lab.heron("status").json["tunnel"]
    sender = resolver = None
    try:
        for line in case.plant:
            lab.shell("heron", "sh", "-c", line)
        if case.sender:
            sender = lab.start("heron", *sender_command(case.sender, tunnel["gateway_address"]))
            assert sender.stdout.readline().startswith("ready")
        if case.resolver:
            resolver = lab.start("heron", *resolver_command(case.resolver))
            assert resolver.stdout.readline().startswith("ready")
            lab.shell("heron", "cp", "/etc/resolv.conf", "/tmp/kept")
        for _ in range(TIMES):
            if resolver is not None:
                lab.shell("heron", "sh", "-c", f"echo {OTHER_RESOLVER} > /etc/resolv.conf")
            began = time.monotonic()
            ended = lab.heron("verify", *case.verify, environment=case.environment)
            # The carrier may have set the tunnel's name servers again: then the leak was not there.
            if resolver is None or OTHER_RESOLVER in lab.shell("heron", "cat", "/etc/resolv.conf").out:
                break
        document = json.loads(ended.out)
        outcome = Outcome(case, document["verdict"], judge(case, document), time.monotonic() - began)
    finally:
        if sender is not None:
            lab.end(sender)
        if resolver is not None:
            lab.shell("heron", "sh", "-c", "cat /tmp/kept > /etc/resolv.conf")
            lab.end(resolver)
        for line in case.remove:
            lab.shell("heron", "sh", "-c", line, check=None)
    OUTCOMES.append(outcome)
    assert not outcome.problems, lab.heron("status").out
