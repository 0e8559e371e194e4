"""An import that is killed: the store is as before or as after, and no secret lies anywhere outside the seal."""

from __future__ import annotations

import os
import signal
import sqlite3
import subprocess
import time
from dataclasses import replace

import pytest

from support import AUTHORITY, PASSWORD
from zesty_burrow.lab import story
from zesty_burrow.lab.kit import AUTHORITY_FILE, kit_archive, place_profile
from zesty_burrow.profiles.text import write_profile

COUNT = 500


@pytest.fixture(scope="module")
def large_kit(tmp_path_factory):
    """Five hundred profiles with their credentials."""
    lisbon = place_profile(story.PLACES[0])
    files = {
        f"{number}.toml": write_profile(replace(lisbon, name=f"place-{number:03}", city=f"City {number}")).encode()
        for number in range(COUNT)
    }
    path = tmp_path_factory.mktemp("kit") / "large.zip"
    path.write_bytes(
        kit_archive(
            {
                **files,
                AUTHORITY_FILE: AUTHORITY.pem(),
                "credentials.txt": f"tidewrack_heron\n{PASSWORD}\n".encode(),
            }
        )
    )
    path.chmod(0o600)
    return path


def check(home):
    """All or nothing, a sound database, and the password nowhere in the clear; how many profiles there are."""
    assert not any(PASSWORD.encode() in path.read_bytes() for path in home.rglob("*") if path.is_file())
    if not (home / "store.db").exists() or (home / "store.db").stat().st_size == 0:
        return 0
    with sqlite3.connect(home / "store.db") as connection:
        assert connection.execute("PRAGMA integrity_check").fetchone() == ("ok",)
        tables = {row[0] for row in connection.execute("SELECT name FROM sqlite_master")}
        if "profiles" not in tables:
            return 0
        (profiles,) = connection.execute("SELECT count(*) FROM profiles").fetchone()
        (credentials,) = connection.execute("SELECT count(*) FROM credentials").fetchone()
    assert (profiles, credentials) in {(0, 0), (COUNT, 1)}
    return profiles


@pytest.mark.parametrize("kills", [5, pytest.param(40, marks=pytest.mark.soak)])
def test_killed_at_any_moment(zesty, large_kit, tmp_path, kills):
    """The built program, killed after more and more of its time; whatever is left, the next import makes it whole."""
    program = zesty.built.__globals__["PROGRAM"]
    began = time.monotonic()
    assert zesty.built("import", large_kit).code == 0
    whole = time.monotonic() - began
    seen = set()
    for step in range(1, kills + 1):
        home = tmp_path / f"home-{step}"
        environment = {**zesty.environment, "ZESTY_BURROW_HOME": str(home)}
        running = subprocess.Popen(
            [program, "import", large_kit], env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        time.sleep(whole * (0.3 + 0.72 * step / kills))
        running.send_signal(signal.SIGKILL)
        running.wait()
        seen.add(check(home))
        if step % 5 == 0:
            again = replace(zesty, home=home)("--json", "import", large_kit)
            assert again.code == 0
            assert check(home) == COUNT
    assert 0 in seen


@pytest.mark.parametrize(
    ("fresh", "statement"), [*((False, number) for number in range(8)), *((True, number) for number in range(9, 18))]
)
def test_killed_at_each_statement(zesty, large_kit, fresh, statement):
    """Killed right before the database's next statement, each of them in turn: also within a transaction, and while a
    fresh store is made."""
    from zesty_burrow.cli import main

    if not fresh:
        assert zesty("list").code == 0
    child = os.fork()
    if child == 0:
        try:
            os.environ.update(zesty.environment)
            null = os.open(os.devnull, os.O_RDWR)
            for number in range(3):
                os.dup2(null, number)
            count = 0

            def count_down(_):
                nonlocal count
                if count == statement:
                    os.kill(os.getpid(), signal.SIGKILL)
                count += 1

            connect = sqlite3.connect

            def traced(*words, **more):
                connection = connect(*words, **more)
                connection.set_trace_callback(count_down)
                return connection

            sqlite3.connect = traced
            main(["import", str(large_kit)])
        finally:
            os._exit(0)
    _, status = os.waitpid(child, 0)
    killed = os.WIFSIGNALED(status)
    assert check(zesty.home) == (0 if killed else COUNT)
    assert zesty("import", large_kit).code == 0
    assert check(zesty.home) == COUNT
