"""The same thing twice: the same, an edition, or a clash; the difference is shown and the user chooses."""

from __future__ import annotations

import fcntl
import os
import pty
import select
import subprocess
import termios
import time
from contextlib import suppress

import pytest

from corpus import material as m

Q = "Quillwort Relay"
TIMEOUT = 20.0


@pytest.fixture
def other(tmp_path):
    """Write a changed Lisbon and import it with some words."""

    def write(**changes):
        path = tmp_path / "other.toml"
        path.write_bytes(m.profile(**changes))
        path.chmod(0o600)
        return path

    return write


@pytest.mark.parametrize(
    ("before", "after", "code"),
    [
        ({"edition": "2026-01-01"}, {"edition": "2026-11-01"}, "profile-newer"),
        ({"edition": "12"}, {"edition": "9"}, "profile-older"),
        ({"edition": "1.9"}, {"edition": "1.10"}, "profile-newer"),
        ({"city": "Lisbon"}, {"city": "Lisboa"}, "profile-changed"),
        ({"provider": Q}, {"provider": "Somebody Else"}, "profile-clash"),
        ({"city": "Lisbon"}, {"city": "Lisbon"}, "profile-same"),
        ({"tags": ("boats",)}, {"tags": ()}, "profile-same"),
        ({"name": "cottage"}, {"name": "quillwort-lisbon"}, "profile-same"),
    ],
)
def test_how_they_stand_to_each_other(zesty, other, before, after, code):
    """Told by inspect and by import alike, with the difference key by key; what is there stays."""
    assert zesty("import", other(**before)).code == 0
    path = other(**after)
    looked = zesty("--json", "inspect", path)
    taken = zesty("--json", "import", path)
    assert code in looked.codes & taken.codes
    assert len(zesty("--json", "list").json["profiles"]) == 1
    changes = [one["changes"] for one in taken.json["differences"]]
    assert bool(changes) == (code != "profile-same")
    key = next(iter(after))
    if changes:
        values = {one["key"]: (one["before"], one["after"]) for one in changes[0]}
        assert values[f"profile.{key}"] == (before[key], after[key])


def test_both(zesty, other):
    """The new one under another name, beside the old one."""
    zesty("import", other())
    taken = zesty("--json", "import", "--both", other(city="Lisboa"))
    assert taken.json["profiles"][0]["outcome"] == "taken as quillwort-lisbon-2"
    assert [row["city"] for row in zesty("--json", "list").json["profiles"]] == ["Lisbon", "Lisboa"]
    assert zesty("import", "--both", "--replace", other()).code == 2


def test_strict_refuses_a_clash(zesty, other):
    zesty("import", other())
    assert zesty("--json", "import", "--strict", other(provider="Else")).json["code"] == "strict"


@pytest.mark.parametrize(("words", "code"), [((), "credentials-replaced"), (("--keep",), "credentials-kept")])
def test_credentials_that_differ(zesty, tmp_path, words, code):
    """Which part changed is told, never what it is."""
    path = tmp_path / "credentials.txt"
    for password in ("x_Y-9", m.PASSWORD):
        path.write_text(f"tidewrack_heron\n{password}\n")
        path.chmod(0o600)
        ended = zesty("--json", "import", path, "--provider", Q, *words)
    assert code in ended.codes
    said = next(entry["detail"] for entry in ended.json["findings"] if entry["code"] == code)
    assert said == "the name is the same, the password is another"


def talk(zesty, words, exchange):
    """Run the built program on a terminal; wait for each text and type the answer. Everything that was seen."""
    main, terminal = pty.openpty()
    program = zesty.built.__globals__["PROGRAM"]
    running = subprocess.Popen(
        [str(program), *map(str, words)],
        stdin=terminal,
        stdout=terminal,
        stderr=terminal,
        env={**zesty.environment, "TERM": "dumb"},
        start_new_session=True,
        preexec_fn=lambda: fcntl.ioctl(0, termios.TIOCSCTTY, 0),
    )
    os.close(terminal)
    seen, at = b"", 0
    for wanted, answer in exchange:
        while wanted.encode() not in seen[at:]:
            ready, _, _ = select.select([main], [], [], TIMEOUT)
            if not ready:
                running.kill()
            assert ready, seen.decode() + f"\n… and {wanted!r} never came"
            seen += os.read(main, 4096)
        at = seen.index(wanted.encode(), at) + len(wanted.encode())
        os.write(main, answer.encode())
    deadline = time.monotonic() + TIMEOUT
    while running.poll() is None and time.monotonic() < deadline:
        if select.select([main], [], [], 0.1)[0]:
            with suppress(OSError):
                seen += os.read(main, 4096)
    if running.poll() is None:
        running.kill()
    running.wait(20)
    # What it said last may still be on its way.
    with suppress(OSError):
        while select.select([main], [], [], 0)[0] and (more := os.read(main, 4096)):
            seen += more
    os.close(main)
    assert b"Traceback" not in seen
    return running.returncode, seen.decode()


@pytest.mark.parametrize(
    ("answer", "cities"), [("r\n", {"Lisboa"}), ("\n", {"Lisbon"}), ("?\nb\n", {"Lisbon", "Lisboa"})]
)
def test_she_is_asked_on_a_terminal(zesty, other, answer, cities):
    """The difference, a question, and what the user answers happens."""
    zesty("import", other())
    code, seen = talk(zesty, ("import", other(city="Lisboa")), [("in capitals for all of this kind", answer)])
    assert code == 0
    assert "profile.city" in seen
    assert {row["city"] for row in zesty("--json", "list").json["profiles"]} == cities
