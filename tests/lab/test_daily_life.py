"""Connecting from a list, by country or as the last time; the status in one line, drawn in place, and after a loss."""

from __future__ import annotations

import re
import sys
import time

import pytest

from zesty_burrow.lab.client import LabClient

pytestmark = pytest.mark.lab
ZESTY = [sys.executable, "-m", "zesty_burrow"]

ON_A_TERMINAL = """
import fcntl, os, pty, select, struct, sys, termios, time
child, terminal = pty.fork()
if child == 0:
    os.environ.update(COLUMNS="100", LINES="40", TERM="xterm")
    os.execv(sys.executable, [sys.executable, "-m", "zesty_burrow", *sys.argv[2:]])
fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("4H", 30, 100, 0, 0))
seen, typed = b"", [part.encode().decode("unicode_escape") for part in sys.argv[1].split("|")]
until = time.monotonic() + 25
while time.monotonic() < until:
    if typed and typed[0].partition("=")[0].encode() in seen:
        os.write(terminal, typed.pop(0).partition("=")[2].encode())
        seen += b"<typed>"
    ready, _, _ = select.select([terminal], [], [], 0.1)
    if ready:
        try:
            data = os.read(terminal, 65536)
        except OSError:
            break
        if not data:
            break
        seen += data
else:
    os.kill(child, 9)
sys.stdout.write(seen.decode("utf-8", "replace"))
sys.stdout.flush()
os._exit(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]))
"""
"""Runs the program on a terminal of its own; ``WORDS=KEYS|...`` are typed one after the other, once the words are there."""


def on_a_terminal(lab, script, *words, check=0):
    return lab.shell("heron", sys.executable, "-c", ON_A_TERMINAL, script, *words, check=check)


def test_without_a_name_and_without_a_terminal(lab):
    """Nothing is guessed; names are offered."""
    refused = lab.heron("connect", "--detach", check=2).json
    assert "no profile is named" in refused["what"]
    assert "quillwort-lisbon" in refused["next_step"] and "last" in refused["next_step"]


def test_from_a_list(lab):
    """Letters narrow it down, a number takes one; the one used last is on top the next time, and Enter takes it."""
    first = on_a_terminal(lab, "Enter for=zzz\\n|No profile has=nair\\n", "connect", "--detach", check=None)
    assert "No profile has 'zzz'" in first.out and first.code == 0, first.out
    status = lab.heron("status", check=0).json["tunnel"]
    assert status["profile"] == "quillwort-nairobi"
    lab.heron("disconnect", check=0)
    again = on_a_terminal(lab, "Enter for quillwort-nairobi=\\n", "connect", "--detach")
    assert re.search(r"1\s+quillwort-nairobi\s+Nairobi, KE\s+last", re.sub(r"\x1b\[[0-9;]*m", "", again.out)), again.out
    assert lab.heron("status", check=0).json["tunnel"]["profile"] == "quillwort-nairobi"


def test_by_country_and_as_the_last_time(lab):
    lab.heron("connect", "EE", "--detach", check=0)
    assert lab.heron("status", check=0).json["tunnel"]["profile"] == "quillwort-tallinn"
    lab.heron("connect", "pt", "--detach", check=0)
    lab.heron("disconnect", check=0)
    said = lab.heron("connect", "last", "--detach", check=0)
    assert said.json["tunnel"]["profile"] == "quillwort-lisbon" and "used last is quillwort-lisbon" in said.err
    assert lab.heron("connect", "XX", "--detach", check=4).json["code"] == "not-found"


def test_one_line_and_its_exit_codes(lab):
    def line(code):
        return lab.shell("heron", *ZESTY, "status", "--line", check=code).out

    assert line(22) == "down\n"
    lab.heron("connect", "lisbon", "--detach", check=0)
    assert re.fullmatch(r"up quillwort-lisbon \d+:\d\d:\d\d in \S+ \S+ out \S+ \S+\n", line(0))
    lab.heron("guard", "on", check=0)
    lab.heron("disconnect", check=0)
    assert line(21) == "blocked set by hand\n"
    lab.heron("guard", "off", check=0)
    assert line(22) == "down\n"


def test_drawn_in_place(lab):
    """Several pictures on the other screen, with rates; q leaves it as it was found, and the tunnel goes on."""
    lab.heron("connect", "lisbon", "--detach", check=0)
    seen = on_a_terminal(lab, "q leaves=q", "status", "--watch", "--every", "0.2")
    plain = re.sub(r"\x1b\[[0-9;]*m", "", seen.out)
    assert "\x1b[H" in plain and "in all" in plain and "Lisbon, PT" in plain
    assert seen.out.index("\x1b[?1049h") < seen.out.index("\x1b[?1049l")
    assert lab.heron("status", check=0).json["tunnel"]["profile"] == "quillwort-lisbon"
    assert "no terminal" in lab.heron("status", "--watch", check=2).json["what"]


def test_a_loss_is_remembered(lab):
    """When, why, for how long, and what was rejected in that time."""
    lab.heron("connect", "lisbon", "--detach", check=0)
    lab.fault("lisbon", "silent")
    LabClient(lab.folder).call_host("lisbon", "end")
    end = time.monotonic() + 20
    while lab.heron("status").json["condition"] != "blocked" and time.monotonic() < end:
        time.sleep(0.1)
    lab.shell("heron", "ping", "-c", "2", "-i", "0.2", "-W", "1", "-I", "lan", "203.0.113.10", check=None)
    ((since, why, lasted, _),) = lab.heron("status", check=21).json["tunnel"]["losses"]
    assert "ended the tunnel" in why and lasted == 0 and since.startswith("20")
    lab.fault("lisbon")
    while lab.heron("status").json["condition"] != "up" and time.monotonic() < end + 30:
        time.sleep(0.1)
    ((_, why, lasted, rejected_packets),) = lab.heron("status", check=0).json["tunnel"]["losses"]
    assert "ended the tunnel" in why and lasted > 0 and rejected_packets >= 1
