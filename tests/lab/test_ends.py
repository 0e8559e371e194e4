"""How tunnels end, and what is told of it: Ctrl-C at any moment, the log, what disconnect left alone, keys on return."""

from __future__ import annotations

import json
import re
import subprocess
import sys
import time

import pytest

pytestmark = pytest.mark.lab
ZESTY = [sys.executable, "-m", "zesty_burrow"]


KEEP_ASKING = """
import socket, sys, time
until = time.monotonic() + 4
while time.monotonic() < until:
    with socket.socket(socket.AF_UNIX) as channel:
        try:
            channel.connect(sys.argv[1])
            channel.sendall(b'{"call": "status"}\\n')
            channel.recv(65536)
        except OSError:
            pass
"""


def log_lines(lab):
    return [json.loads(line) for line in (lab.folder / "heron" / "tunnel.log").read_text().splitlines()]


def wait_for(what, seconds=15):
    until = time.monotonic() + seconds
    while not (found := what()) and time.monotonic() < until:
        time.sleep(0.1)
    assert found
    return found


def test_the_log(lab):
    """One JSON object a line with time, level and event, whatever meets the end; and the same for people."""
    assert lab.heron("connect", "lisbon", "--detach", check=0).json["tunnel"]["seconds_up"] == 0.0
    asking = lab.start("heron", sys.executable, "-c", KEEP_ASKING, str(lab.folder / "heron" / "control"))
    time.sleep(1.0)
    lab.heron("disconnect", check=0)
    asking.communicate(timeout=20)
    lines = log_lines(lab)
    assert all({"time", "level", "event"} <= set(line) for line in lines)
    events = [line["event"] for line in lines]
    assert events[:2] == ["step", "step"] and events[-1] == "end" and "up" in events
    assert lines[-1]["reason"] == "disconnect" and "/etc/resolv.conf" in lines[-1]["restored"]["done"]
    text = json.dumps(lines)
    assert "Traceback" not in text and " object at 0x" not in text and "Restored(" not in text
    assert [line["event"] for line in lab.heron("status", "--log", check=22).json["log"]] == events
    shown = lab.shell("heron", *ZESTY, "status", "--log", check=22).out
    assert "reason: disconnect" in shown and "step: resolve" in shown and "restored: done: rule" in shown
    assert re.search(r"seconds: \d+\.\d{3};", shown) and "{'" not in shown


def test_disconnect_names_what_it_left_alone(lab, tmp_path):
    """A file that another program writes again and again is named, in text and in JSON; what was put back too."""
    before = lab.shell("heron", "cat", "/etc/resolv.conf").out
    lab.heron("connect", "lisbon", "--detach", check=0)

    def is_given_up():
        lab.shell("heron", "sh", "-c", "echo 'nameserver 192.0.2.99' > /etc/resolv.conf")
        return "is left as it is now" in str(lab.heron("status").json["findings"])

    wait_for(is_given_up, 60)
    # And now something that was never put back in the end.
    lab.shell("heron", "sh", "-c", "echo 'nameserver 192.0.2.98' > /etc/resolv.conf")
    told = tmp_path / "told.json"
    ended = lab.shell("heron", *ZESTY, "--json-file", str(told), "disconnect")
    assert lab.shell("heron", "cat", "/etc/resolv.conf").out == "nameserver 192.0.2.98\n"
    lab.shell("heron", "sh", "-c", f"cat > /etc/resolv.conf <<'END'\n{before}END\n")
    document = json.loads(told.read_text())
    assert document["left_alone"] == ["/etc/resolv.conf"] and document["told"]
    assert any(line.startswith("route") for line in document["restored"])
    assert "/etc/resolv.conf was changed by another program and was left unchanged" in ended.text
    assert "as it was" not in ended.text


def test_keys_of_a_tunnel_that_comes_back(lab, tmp_path):
    """--keep-trying with --export-keys: on return the file has both sets of keys, and the tunnel is up."""
    keys = tmp_path / "keys"
    lab.heron("connect", "lisbon", "--detach", "--keep-trying", "--export-keys", str(keys), check=0)
    first = keys.read_text()
    lab.run("lab", "end", "lisbon", check=0)
    wait_for(lambda: (lab.heron("status").json["tunnel"] or {}).get("reconnects") == 1)
    both = keys.read_text()
    assert both.startswith(first) and len(both) > 1.5 * len(first)
    assert keys.stat().st_mode & 0o777 == 0o600
    assert [line["event"] for line in log_lines(lab) if line["event"] in ("lost", "back")] == ["lost", "back"]


@pytest.mark.parametrize(
    "after",
    [0.45, 0.9, *(pytest.param(one, marks=pytest.mark.soak) for one in (0.15, 0.3, 0.5, 0.6, 0.75, 1.1, 1.4))],
)
@pytest.mark.parametrize("words", [[], ["--detach"]], ids=["foreground", "detached"])
def test_ctrl_c_at_any_moment(lab, words, after):
    """130 and nothing left behind; or, detached and up, 0 and a tunnel that stands: never one said and the other done.

    At a gateway of their own: one that was interrupted as it answered keeps its end until its own probes fail.
    """
    before = lab.network()
    limit = ("timeout", "--preserve-status", "-s", "INT", str(after))
    ended = lab.shell("heron", *limit, *ZESTY, "connect", "montevideo", *words, check=None)
    if "Traceback" in ended.err and "/zesty_burrow/" not in ended.err:
        return  # the interpreter itself was still starting: no file of ours had been reached
    assert "Traceback" not in ended.err, ended.err
    status = lab.heron("status").json["tunnel"]
    if ended.code == 0:
        assert words and status["is_up"] and "Interrupted" not in ended.text
        lab.heron("disconnect", check=0)
    else:
        assert ended.code == 130
        assert status is None
    assert lab.network() == before


@pytest.mark.soak
@pytest.mark.parametrize("words", [[], ["--detach"]], ids=["foreground", "detached"])
def test_ctrl_c_twice(lab, words):
    """The second one, a little later, meets the first one's end: everything is put back all the same."""
    before = lab.network()
    call = (
        "import signal, subprocess, sys, time\n"
        f"one = subprocess.Popen({[*ZESTY, 'connect', 'montevideo', *words]!r})\n"
        "for wait in sys.argv[1:]:\n"
        "    time.sleep(float(wait))\n"
        "    one.send_signal(signal.SIGINT)\n"
        "sys.exit(one.wait())"
    )
    for number in range(60):
        moments = str(0.4 + number * 0.012), str((number % 7) * 0.001)
        ended = lab.shell("heron", sys.executable, "-c", call, *moments, check=None)
        assert "Traceback" not in ended.err, (moments, ended.err)
        if ended.code == 0:
            lab.heron("disconnect", check=0)
        else:
            assert ended.code == 130, (moments, ended)
        assert lab.network() == before, moments


def test_ctrl_c_ends_with_130(lab):
    """From a shell's point of view, before and after the tunnel is up."""
    for after in ("0.5", "2"):
        call = (
            "import signal, subprocess, sys, time\n"
            f"one = subprocess.Popen({[*ZESTY, 'connect', 'montevideo']!r})\n"
            f"time.sleep({after})\none.send_signal(signal.SIGINT)\nsys.exit(one.wait())"
        )
        assert lab.shell("heron", sys.executable, "-c", call, check=None).code == 130
        assert lab.heron("status").json["tunnel"] is None


def test_a_rehearsal_on_a_narrow_terminal(lab):
    """60 columns: every figure is whole, whatever becomes of the columns."""
    rows = lab.heron("rehearse", "--provider", "Quillwort Relay", "--no-exit", check=0).json["rehearsals"]
    environment = ["env", "COLUMNS=60"]
    shown = subprocess.run(
        [sys.executable, "-m", "zesty_burrow", "lab", "run", "heron", "--", *environment, *ZESTY, "rehearse", "--provider", "Quillwort Relay", "--no-exit"],
        capture_output=True, text=True, env={"ZESTY_BURROW_HOME": str(lab.home), "PATH": "/usr/bin:/bin"}, timeout=60,
    )  # fmt: skip
    assert max(map(len, shown.stdout.splitlines())) <= 60, shown.stdout
    for row in rows:
        assert row["profile"] in shown.stdout
    assert shown.stdout.count("128") >= len(rows) or "256" in shown.stdout
