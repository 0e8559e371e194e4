"""A kit's reader in a process of its own: what it returns and raises, and what becomes of one that asks for too much."""

from __future__ import annotations

import hashlib
import os
import pickle
import signal
import subprocess
import sys
import time
from ipaddress import ip_network
from pathlib import Path

import pytest

from commands.test_editions import talk
from zesty_burrow.core.finding import Severity, finding
from zesty_burrow.core.profile import Traffic
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import LimitExceeded, Malformed, ProgramFault
from zesty_burrow.use_cases.kits import apart as apart_module
from zesty_burrow.use_cases.kits.apart import apart


def children():
    """The processes that this one has begun and not seen the end of."""
    return {pid for task in Path("/proc/self/task").iterdir() for pid in (task / "children").read_text().split()}


def test_what_it_returns():
    """Values of ours, also large ones; nothing of the child stays."""
    large = (Secret(os.urandom(3 << 20)), finding("kit-junk", "a.txt"), Traffic((ip_network("10.20.0.0/16"),)))
    before = children()
    assert apart(lambda _: large, 1000, "kit") == large
    assert children() == before


def test_what_it_raises():
    """Errors of ours as they are; any other is a fault of the program, with the child's own trace for --debug."""

    def refuse(_):
        raise Malformed("a sheet is malformed", why="its end is missing")

    with pytest.raises(Malformed) as told:
        apart(refuse, 0, "kit")
    assert (told.value.what, told.value.why, told.value.slug) == (
        "a sheet is malformed",
        "its end is missing",
        "malformed",
    )
    with pytest.raises(ProgramFault) as told:
        apart(lambda _: 1 // 0, 0, "kit")
    assert "ZeroDivisionError" in "".join(told.value.__notes__)


def spin(at):
    at("deep/inside.toml")
    while True:
        pass


def derive(at):
    """Without end in a library's own code, where no signal of Python's is seen."""
    at("key.pem")
    hashlib.pbkdf2_hmac("sha256", b"x", b"y", (1 << 31) - 1)


@pytest.mark.parametrize(("work", "file"), [(spin, "deep/inside.toml"), (derive, "key.pem")])
def test_too_much_time(monkeypatch, work, file):
    """Ended in the middle of whatever it does; the file that it was at is named."""
    monkeypatch.setattr(apart_module, "SECONDS", 1)
    with pytest.raises(LimitExceeded, match="more than 1 s of a processor's time") as told:
        apart(work, 0, "kit.zip")
    assert told.value.what == f"kit.zip, {file} cannot be read"


def test_too_much_memory(monkeypatch):
    monkeypatch.setattr(apart_module, "MEMORY", 64 << 20)
    with pytest.raises(LimitExceeded, match="more than 64 MiB of memory"):
        apart(lambda _: [bytes(1 << 20) for _ in range(4000)], 0, "kit.zip")


def test_a_reader_that_dies():
    with pytest.raises(LimitExceeded, match=r"its reader died \(exit code 7\)"):
        apart(lambda _: os._exit(7), 0, "kit.zip")


class Mischief:
    def __reduce__(self):
        return os.system, ("true",)


class Getting:
    """As a member of an enumeration is written by some versions of Python, of something else."""

    def __reduce__(self):
        return getattr, (Secret, "text")


class Member:
    def __reduce__(self):
        return getattr, (Severity, "WARNING")


def test_members_of_enumerations():
    assert apart(lambda _: Member(), 0, "kit.zip") is Severity.WARNING


def test_nothing_but_values(monkeypatch):
    """What a taken-over child could send is not acted on."""
    for wrong in (Mischief(), Getting(), os.path.join, subprocess.Popen):
        with pytest.raises(ProgramFault, match="reader gave "):
            apart(lambda _, wrong=wrong: wrong, 0, "kit.zip")
    assert pickle.loads(pickle.dumps(Secret("x"))) == Secret("x")


INTERRUPTED = """
import hashlib, sys
from zesty_burrow.use_cases.kits.apart import apart
print("ready", flush=True)
try:
    apart(lambda _: hashlib.pbkdf2_hmac("sha256", b"x", b"y", (1 << 31) - 1), 0, "kit.zip")
except KeyboardInterrupt:
    sys.exit(130)
"""


def test_ctrl_c():
    """Ends it at once, whatever the child is in the middle of."""
    with subprocess.Popen(
        [sys.executable, "-c", INTERRUPTED], stdout=subprocess.PIPE, start_new_session=True
    ) as process:
        process.stdout.readline()
        time.sleep(0.3)
        os.killpg(process.pid, signal.SIGINT)
        began = time.monotonic()
        assert process.wait(10) == 130
        assert time.monotonic() - began < 5


DOTTED = "a" + ".a" * 40_000 + " = 1\n"


@pytest.mark.parametrize(
    ("name", "data"),
    [
        ("dotted.toml", DOTTED.encode()),
        ("page.html", b"<![<![ x ]>" * 1000),
        ("settings.json", b'{"ietf-i2nsf-ike:ipsec-ike": {"key-length": 1e999}}'),
        ("mail.eml", b"From: a@b.example\r\nSubject: " + b"=?utf-8?q?x?= " * 20_000 + b"\r\n\r\nhello\r\n"),
        ("mail.eml", b"Content-Type: text/plain" + b"; a=b" * 8_000 + b"\r\nFrom: a@b.example\r\n\r\nhello\r\n"),
    ],
    ids=["dotted key", "marked sections", "infinite number", "encoded words", "parameters"],
)
def test_hostile_files(zesty, tmp_path, name, data):
    """Each was once seconds, gigabytes or a fault: now told in words, within the limits."""
    path = tmp_path / name
    path.write_bytes(data)
    assert zesty("--json", "inspect", str(path)).code == 3
    ended = zesty("--json", "import", str(path))
    assert ended.code == 3 and ended.json["result"] == "error", ended.text
    assert "program" not in ended.json["code"]


def test_a_sheet_of_ten_thousand_words(zesty, tmp_path):
    """Labels that nobody knows are not compared with every word of every language: it stays within the limits."""
    path = tmp_path / "labels.txt"
    path.write_text("Server: a.example\nPassword: x\n" + "\n".join(f"Lable {number}: x" for number in range(9_990)))
    assert zesty("--json", "inspect", str(path)).code == 0


def test_the_progress_is_taken_away(zesty, kit):
    """On a terminal nothing of the bar stays in front of what was found."""
    code, seen = talk(zesty, ("inspect", kit), [])
    assert code == 0
    shown = [line.rpartition("\x1b[K")[2].rpartition("\r")[2] for line in seen.replace("\r\n", "\n").split("\n")]
    assert not any("Reading" in line for line in shown), shown


def test_ended_in_the_middle_of_its_answer(monkeypatch):
    """Half of an answer is none."""
    real = os.fdopen

    class Cut:
        def __init__(self, stream):
            self.stream = stream

        def write(self, data):
            self.stream.write(data[:3] if len(data) > 100 else data)
            if len(data) > 100:
                os._exit(9)
            return len(data)

    monkeypatch.setattr(
        os,
        "fdopen",
        lambda *words, **options: Cut(real(*words, **options)) if "wb" in words else real(*words, **options),
    )
    with pytest.raises(LimitExceeded, match=r"its reader died \(exit code 9\)"):
        apart(lambda _: bytes(1000), 0, "kit.zip")
