"""What is said of the guard was measured: with damaged records, for other users, without its process; and the lab itself
leaves nothing behind.
"""

from __future__ import annotations

import importlib
import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

import pytest

from rotation import on_day
from support import until
from zesty_burrow.cli import main
from zesty_burrow.lab.client import LabClient

pytestmark = pytest.mark.lab
NOBODY = 65534
ROOMS = (
    "zesty_burrow.commands.tunnel.guard", "zesty_burrow.commands.tunnel.status", "zesty_burrow.host.guard.owner.process",
    "zesty_burrow.host.guard.probe", "zesty_burrow.report.reporter", "zesty_burrow.report.texts.status",
    "zesty_burrow.report.results.status", "zesty_burrow.report.live", "ipaddress", "json",
)  # fmt: skip


def as_nobody(lab, *words):
    """The program by a user without rights, with a home of its own; what it prints."""
    for room in ROOMS:
        importlib.import_module(room)
    with tempfile.TemporaryFile("w+") as out:

        def call():
            os.dup2(out.fileno(), 1)
            sys.stdout = os.fdopen(1, "w", closefd=False)
            os.environ.pop("ZESTY_BURROW_HOME", None)
            os.environ["HOME"] = "/nowhere"
            os.setgroups([])
            os.setgid(NOBODY)
            os.setuid(NOBODY)
            return main(["--json", *words])

        code = LabClient(lab.folder).call("heron", call)
        out.seek(0)
        return code, json.loads(out.read())


def as_the_machine(lab, *words, check=0):
    """By root with the machine's own places, which are the workstation's private ones."""
    line = ["env", "-u", "ZESTY_BURROW_HOME", sys.executable, "-m", "zesty_burrow", "--json", *words]
    return lab.shell("heron", *line, check=check)


def test_another_user_asks(lab):
    """Never "off" without having looked: the guard's own process says what it has measured, and where there is none the
    answer is that it is not known.
    """
    code, shown = as_nobody(lab, "guard")
    assert (code, shown["guard"]["measured"], shown["guard"]["in_force"]) == (0, "unknown", None)
    assert [one["code"] for one in shown["findings"]] == ["guard-unknown"]
    as_the_machine(lab, "guard", "on")
    try:
        for word in ("guard", "status"):
            code, shown = as_nobody(lab, word)
            seen = shown["guard"]
            assert (seen["in_force"], seen["measured"]) == (True, "as intended")
            assert seen["held_by"][0]["held"] == ["0.0.0.0/0", "::/0"] and seen["measured_at"]
        assert as_nobody(lab, "guard", "off")[0] != 0
        assert as_nobody(lab, "guard")[1]["guard"]["in_force"]
    finally:
        as_the_machine(lab, "guard", "off")
    assert as_nobody(lab, "guard")[1]["guard"]["measured"] in ("absent", "unknown")


@pytest.mark.parametrize("text", ["{", '{"shares": {"a": 1}}'])
def test_a_damaged_record(lab, text):
    """`status` and `guard` go on, nothing opens, and what the guard's process knows is written again."""
    lab.heron("connect", "lisbon", "--detach", check=0)
    record = lab.folder / "heron" / "guard.json"
    record.write_text(text)
    status = lab.heron("status", check=0).json
    assert status["guard"]["in_force"] and status["condition"] == "up"
    until(lambda: json.loads(record.read_text())["shares"])
    seen = lab.heron("guard", check=0).json
    assert seen["guard"]["in_force"] and "guard-restored" in {one["code"] for one in seen["findings"]}
    lab.heron("disconnect", check=0)


def test_a_damaged_record_after_a_crash(lab):
    """Nobody knows who held what: `restore` writes a record in which everything is held, and the user opens it."""
    before = lab.network()
    lab.heron("guard", "on", check=0)
    process = lab.heron("guard").json["guard"]["service"]["process"]
    lab.shell("heron", "sh", "-c", f"kill -9 $(ps -o ppid= -p {process}) {process}")
    (lab.folder / "heron" / "guard.json").write_text("{")
    seen = lab.heron("guard").json
    assert "guard-record-damaged" in {one["code"] for one in seen["findings"]}
    lab.heron("restore", check=0)
    seen = lab.heron("guard", check=0).json
    assert seen["guard"]["in_force"] and seen["guard"]["record"] == "read"
    lab.heron("guard", "off", check=0)
    assert lab.network() == before


def test_verify_probes_the_guard(lab):
    """Through each hook, and a capture sees that none has left; what it could not prove is a finding."""
    lab.heron("connect", "lisbon", "--detach", check=0)
    shown = lab.heron("verify", check=0).json
    probe = shown["guard"]["probe"]
    assert {(row["device"], row["hook"]) for row in probe["rows"] if row["sent"]} >= {
        ("lan", "sent"),
        ("lan", "at the device"),
    }
    assert not any(row["left"] for row in probe["rows"]) and "lan" in probe["controls"]
    shown = lab.heron("guard", "show", "--probe", check=0).json["guard"]
    assert shown["probe"]["at"] and shown["measured_at"]


def test_the_dead_office_s_name_servers(lab, tmp_path):
    """The office's process is killed beside a provider's tunnel: names are asked of the provider's servers at once."""
    kit = tmp_path / "office.zip"
    lab.run("lab", "account", "tidewrack_dead", "--to", str(kit), check=0)
    name = lab.heron("import", str(kit), check=0).json["profiles"][0]["name"]
    lab.heron("connect", "lisbon", "--detach", check=0)
    process = lab.heron("connect", name, "--detach", "--beside", check=0).json["tunnel"]["process"]
    assert any("127.23." in line for line in lab.network() if line.startswith("resolver"))
    lab.shell("heron", "kill", "-9", str(process))
    look = ["python3", "-c", "import socket; print(socket.getaddrinfo('observatory.example', 80))"]
    until(lambda: lab.shell("heron", *look, check=None).code == 0, seconds=10)
    assert not any("127.23." in line for line in lab.network() if line.startswith("resolver"))
    lab.heron("disconnect")
    lab.heron("restore", check=0)
    lab.heron("remove", name, "--yes", check=0)


WATCHED = (
    "/etc",
    "/run",
    "/var/lib",
    "/usr/lib/systemd",
    "/usr/local",
    "/opt",
    "/srv",
)


def files():
    """Each file of the machine that a program with root's rights could change, with what tells a change."""
    found = {}
    for top in WATCHED:
        for folder, folders, names in os.walk(top):
            folders[:] = [one for one in folders if not Path(folder, one).is_mount()]
            for name in (*names, *folders):
                path = Path(folder, name)
                try:
                    status = path.lstat()
                except OSError:
                    continue
                kept = (status.st_mode, status.st_uid, status.st_size if path.is_file() else 0)
                found[str(path)] = (*kept, status.st_mtime_ns if path.is_file() and not path.is_symlink() else 0)
    return found


@on_day(0, 3)
def test_a_lab_session_leaves_the_machine_as_it_was(tmp_path):
    """Everything that the program can write on a machine is private in the lab: units, resolver, run folders, settings."""
    before = files()
    environment = {**os.environ, "ZESTY_BURROW_HOME": str(tmp_path)}
    program = str(Path(sys.executable).with_name("zesty"))

    def zesty(*words, check=0):
        ended = subprocess.run([program, *words], capture_output=True, text=True, env=environment, timeout=90)
        assert ended.returncode == check, ended.stdout + ended.stderr

    def heron(*words):
        zesty("lab", "run", "heron", "--", sys.executable, "-m", "zesty_burrow", *words)

    zesty("lab", "start")
    try:
        heron("import", str(tmp_path / "lab" / "quillwort-relay.zip"))
        heron("connect", "lisbon", "--detach")
        heron("startup", "add", "lisbon")
        heron("startup", "add", "guard")
        zesty("lab", "run", "heron", "--", "test", "-e", "/etc/systemd/system/zesty-quillwort-lisbon.service")
        heron("guard", "on")
        heron("disconnect")
        heron("guard", "off")
        heron("--for", "machine", "import", str(tmp_path / "lab" / "quillwort-relay.zip"))
        line = "env -u ZESTY_BURROW_HOME " + f"{sys.executable} -m zesty_burrow guard on"
        zesty("lab", "run", "heron", "--", "sh", "-c", f"{line}; touch /etc/x /run/x /var/lib/x; rm /etc/passwd")
    finally:
        zesty("lab", "stop")
    after = files()
    others = ("__pycache__", "/run/systemd/systemd-units-load")
    changed = {path for path in before.keys() | after.keys() if before.get(path) != after.get(path)}
    assert {path for path in changed if not any(one in path for one in others)} == set()
