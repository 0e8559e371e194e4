"""What is checked before the guard closes, and the ways back for somebody who would lock himself out."""

from __future__ import annotations

import json
import os
import signal
import sys
import time

import pytest

from support import until
from zesty_burrow.lab import story

pytestmark = pytest.mark.lab
PEER = story.ISP_RESOLVER4
BY_SSH = f"{PEER} 50000 192.168.77.20 22"


def guard(lab):
    return lab.heron("guard", check=0).json["guard"]


def by_ssh(lab, *words, check=None):
    """As from a shell that sshd has started; the parent of the command has the variable, as sudo takes it away."""
    line = [sys.executable, "-m", "zesty_burrow", "--json", *words]
    inner = f"env -u SSH_CONNECTION {' '.join(line)}; exit $?"
    return lab.shell("heron", "env", f"SSH_CONNECTION={BY_SSH}", "sh", "-c", inner, check=check)


@pytest.mark.parametrize(
    ("change", "back", "code", "slug"),
    [
        ("gateway.addresses=lisbon.quilwort.example", "gateway.addresses=lisbon.quillwort.example", 6, "gateway-unresolved"),
        ("gateway.addresses=198.51.100.250", "gateway.addresses=lisbon.quillwort.example", 6, "gateway-no-route"),
        ("trust.authorities=", None, 4, "profile-authority-missing"),
        ("traffic.left_out=0.0.0.0/0,::/0", None, 4, "profile-contradiction"),
    ],
    ids=["mistyped name", "no route", "no authority", "contradiction"],
)  # fmt: skip
def test_what_cannot_work_closes_nothing(lab, change, back, code, slug):
    """The machine is as it was, on line, and the error says so."""
    before = lab.network()
    kept = lab.heron("show", "lisbon", check=0).json
    lab.heron("change", "quillwort-lisbon", "--set", change, check=0)
    if slug == "gateway-no-route":
        lab.shell("heron", "ip", "route", "add", "unreachable", "198.51.100.250")
        before = lab.network()
    try:
        ended = lab.heron("connect", "quillwort-lisbon", "--detach", check=code).json
        assert ended["code"] == slug and "The guard was not closed" in ended["next_step"]
        assert guard(lab)["measured"] == "absent"
        assert lab.network() == before
    finally:
        lab.shell("heron", "ip", "route", "del", "unreachable", "198.51.100.250", check=None)
        lab.heron("undo", check=0)
    assert lab.heron("show", "lisbon", check=0).json == kept


def test_it_opens_again_unconfirmed(lab):
    """Over SSH by itself, after a minute; here sooner. The tunnel ends, and everything is as it was."""
    before = lab.network()
    up = by_ssh(lab, "connect", "lisbon", "--detach", "--confirm-within", "3", check=0)
    assert f"The SSH session from {PEER} will be cut" in up.err and "guard confirm" in up.err
    shown = lab.heron("status").json
    assert shown["guard"]["in_force"] and "guard-waits" in {one["code"] for one in shown["findings"]}
    until(lambda: lab.heron("status").json["condition"] == "down", seconds=10)
    assert guard(lab)["measured"] == "absent"
    assert lab.network() == before


def test_it_stays_once_confirmed(lab):
    by_ssh(lab, "connect", "lisbon", "--detach", "--confirm-within", "3", check=0)
    assert "Confirmed: quillwort-lisbon" in lab.heron("guard", "confirm", check=0).json["message"]
    assert lab.heron("guard", "confirm").json["code"] == "nothing-to-confirm"
    time.sleep(4)
    assert guard(lab)["in_force"] and lab.heron("status", check=0).json["condition"] == "up"


def test_a_minute_over_ssh_and_none_at_a_console(lab):
    up = by_ssh(lab, "connect", "lisbon", "--detach", check=0)
    assert "within 60 s" in up.err
    (held,) = guard(lab)["held_by"]
    assert held["confirm_by"] > 0
    lab.heron("disconnect", check=0)
    lab.heron("connect", "lisbon", "--detach", check=0)
    (held,) = guard(lab)["held_by"]
    assert held["confirm_by"] == 0


ECHO = """
import socket
server = socket.socket(); server.setsockopt(1, 2, 1); server.bind(("0.0.0.0", 22)); server.listen()
print("ready", flush=True)
while True:
    one, _ = server.accept(); one.sendall(b"still here"); one.close()
"""
CALL = """
import socket
with socket.create_connection(("192.168.77.20", 22), 2, source_address=("192.0.2.53", 0)) as one:
    print(one.recv(64).decode())
"""


def test_the_session_s_answers_are_let_through(lab):
    """To its other end alone, from the one port, by guard and routes; it is listed; and without it the session is cut."""
    echo = lab.start("heron", sys.executable, "-c", ECHO)
    assert echo.stdout.readline() == "ready\n"

    def reached():
        return "still here" in lab.shell("cobblewire", sys.executable, "-c", CALL, check=None).out

    try:
        assert reached()
        by_ssh(lab, "connect", "lisbon", "--detach", "--confirm-within", "0", check=0)
        assert not reached()
        lab.heron("disconnect", check=0)
        by_ssh(lab, "connect", "lisbon", "--detach", "--confirm-within", "0", "--keep-session", check=0)
        assert reached()
        rows = guard(lab)["lets_through"]
        assert {"counter": "session", "what": f"answers from TCP port 22 to {PEER}"} in rows
        assert lab.heron("verify", check=0).json["verdict"] == "sealed"
    finally:
        os.killpg(echo.pid, signal.SIGKILL)
        echo.communicate(timeout=10)


def test_a_session_within_the_local_network_is_not_cut(lab):
    line = [sys.executable, "-m", "zesty_burrow", "--json", "connect", "lisbon", "--detach"]
    up = lab.shell("heron", "env", "SSH_CONNECTION=192.168.77.9 50000 192.168.77.20 22", *line)
    assert "SSH session" not in up.err
    (held,) = guard(lab)["held_by"]
    assert held["confirm_by"] == 0


@pytest.mark.parametrize(
    "option",
    [["--no-guard"], ["--accept-partial"], ["--no-keep-trying"], ["--local-networks", "203.0.113.0/24"], ["--confirm-within", "9"]],
    ids=lambda words: words[0],
)  # fmt: skip
def test_a_switch_refuses_what_it_cannot_follow(lab, option):
    """Nothing is ignored silently, and the tunnel that is up stays."""
    lab.heron("connect", "lisbon", "--detach", check=0)
    refused = lab.heron("connect", "tallinn", "--detach", *option, check=4).json
    assert refused["code"] == "switch-options" and option[0] in refused["what"]
    assert lab.heron("status", check=0).json["tunnel"]["profile"] == "quillwort-lisbon"


def test_ended_while_it_begins(lab):
    """`disconnect` comes while another command waits for the tunnel: that command says so, with a code of its own."""
    lab.fault("lisbon", "silent")
    line = [sys.executable, "-m", "zesty_burrow", "--json", "connect", "lisbon", "--detach", "--timeout", "20"]
    begun = lab.start("heron", *line)
    until(lambda: lab.heron("status").json["state"] == "reaching")
    lab.heron("disconnect", check=0)
    out, _ = begun.communicate(timeout=20)
    assert begun.returncode == 4 and json.loads(out)["code"] == "ended-early", out
    assert guard(lab)["measured"] == "absent"


def test_names_that_commands_take_for_something_else(lab):
    for word in ("guard", "report", "last"):
        assert lab.heron("rename", "lisbon", word, check=2).json["code"] == "usage"


def test_a_gateway_that_has_never_worked(lab):
    """The first time it is said what will happen if it fails, and how to get back; not once it has worked."""
    (lab.folder / "heron" / "worked.txt").unlink(missing_ok=True)
    first = lab.heron("connect", "lisbon", "--detach", check=0)
    assert "has not worked from here before" in first.err and "--confirm-within" in first.err
    lab.heron("disconnect", check=0)
    assert "has not worked" not in lab.heron("connect", "lisbon", "--detach", check=0).err


def test_a_failed_connect_says_that_the_guard_is_closed(lab):
    """Whatever else the error says: nothing leaves, and what opens it."""
    lab.fault("lisbon", "refused-password")
    refused = lab.heron("connect", "lisbon", "--detach", check=8).json
    assert "was seen closed at" in refused["next_step"] and "zesty disconnect" in refused["next_step"]
    assert guard(lab)["in_force"]
    lab.heron("disconnect", check=0)
