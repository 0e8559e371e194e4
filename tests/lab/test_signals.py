"""Signals at every step of connect, switch and disconnect: what is said is so, and everything can be put back."""

from __future__ import annotations

import sys
import time

import pytest

from zesty_burrow.lab import story

pytestmark = pytest.mark.lab
STEPS = ["resolve", "reach", "keys", "identity", "sign-in", "address", "routes", "name servers"]
SIGNALS = ["INT", "TERM", "HUP", "KILL"]
EACH_TIME = {(0, "HUP"), (3, "KILL"), (5, "TERM"), (6, "INT"), (7, "KILL")}
ALL = [
    pytest.param(step, name, marks=[] if (step, name) in EACH_TIME else [pytest.mark.soak])
    for step in range(len(STEPS))
    for name in SIGNALS
]

PLAY = """
import os, signal, subprocess, sys
step, name, *line = sys.argv[1:]
one = subprocess.Popen(line, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
# What is said before the first step comes before the guard closes.
for number, text in enumerate(text for text in one.stdout if text.startswith("  done")):
    if number == int(step):
        os.kill(one.pid, getattr(signal, "SIG" + name))
        break
rest = one.stdout.read()
print(one.wait(), "Traceback" in rest)
"""


def zesty(*words):
    return [sys.executable, "-u", "-m", "zesty_burrow", *words]


def reaches_the_outside(lab):
    return lab.shell("heron", "ping", "-c", "1", "-W", "1", story.OBSERVATORY4, check=None).code == 0


def put_right(lab, before):
    """What the user does then, in any case: restore after a crash, and open the guard."""
    end = time.monotonic() + 15
    while lab.heron("restore").json.get("code") == "already-up" and time.monotonic() < end:
        time.sleep(0.1)  # its process has not ended yet
    lab.heron("disconnect")
    assert lab.network() == before
    assert reaches_the_outside(lab)


@pytest.mark.parametrize(("step", "name"), ALL)
def test_connect(lab, step, name):
    """Ctrl-C leaves nothing; any other signal leaves the guard closed, and says so by its exit code."""
    before = lab.network()
    code, trace = lab.shell(
        "heron", sys.executable, "-c", PLAY, str(step), name, *zesty("connect", "lisbon")
    ).out.split()
    assert trace == "False"
    if name == "INT":
        assert code == "130"
        assert lab.network() == before
    else:
        assert not reaches_the_outside(lab), "the machine is open"
        status = lab.heron("status").json
        assert status["tunnel"] is None
        assert status["condition"] == ("left over" if name == "KILL" else "blocked")
        assert status["guard"]["in_force"]
    put_right(lab, before)


@pytest.mark.parametrize("after", [0.0, *(pytest.param(one, marks=pytest.mark.soak) for one in (0.01, 0.05, 0.1, 0.3))])
@pytest.mark.parametrize("name", SIGNALS)
def test_switch(lab, name, after):
    """The carrier is hit while it signs in to another place: never open unless by Ctrl-C's word."""
    before = lab.network()
    process = lab.heron("connect", "lisbon", "--detach", check=0).json["tunnel"]["process"]
    switching = lab.start("heron", *zesty("connect", "tallinn"))
    assert switching.stdout.readline() or True
    time.sleep(after)
    lab.shell("heron", "kill", f"-{name}", str(process), check=None)
    switching.communicate(timeout=30)
    end = time.monotonic() + 10
    while lab.heron("status").json["tunnel"] and time.monotonic() < end:
        time.sleep(0.1)
    if name == "INT":
        lab.network_is_soon(before)
    else:
        assert not reaches_the_outside(lab), "the machine is open"
    put_right(lab, before)


@pytest.mark.parametrize("after", [0.0, *(pytest.param(one, marks=pytest.mark.soak) for one in (0.02, 0.05, 0.1))])
@pytest.mark.parametrize("name", ["TERM", "KILL"])
def test_disconnect(lab, name, after):
    """The carrier is hit while it puts everything back at the user's word: one more word finishes it."""
    before = lab.network()
    process = lab.heron("connect", "lisbon", "--detach", check=0).json["tunnel"]["process"]
    ending = lab.start("heron", *zesty("disconnect"))
    end = time.monotonic() + 10
    try:
        while (status := lab.heron("status").json).get("state") == "up" and time.monotonic() < end:
            time.sleep(0.1)
        time.sleep(after)
        lab.shell("heron", "kill", f"-{name}", str(process), check=None)
    finally:
        ending.communicate(timeout=30)
    assert status["result"] == "status", status
    put_right(lab, before)


@pytest.mark.soak
def test_stopped_for_two_minutes(lab):
    """SIGSTOP for longer than the gateway is patient with silence: on SIGCONT the tunnel is up, or is brought back."""
    before = lab.network()
    process = lab.heron("connect", "lisbon", "--detach", check=0).json["tunnel"]["process"]
    lab.shell("heron", "kill", "-STOP", str(process))
    until = time.monotonic() + 120
    while time.monotonic() < until:
        assert not reaches_the_outside(lab)
        time.sleep(10)
    lab.shell("heron", "kill", "-CONT", str(process))
    end = time.monotonic() + 60
    while not (reaches_the_outside(lab) and lab.heron("status").json["tunnel"]["is_up"]):
        assert time.monotonic() < end, "it did not come back"
        time.sleep(0.5)
    assert lab.heron("verify", check=0).json["verdict"] == "sealed"
    lab.heron("disconnect", check=0)
    assert lab.network() == before
