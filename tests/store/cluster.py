"""A private PostgreSQL cluster in a temporary folder, reached by its socket alone, gone with the tests."""

from __future__ import annotations

import os
import pwd
import shutil
import signal
import subprocess
import tempfile
import time
from pathlib import Path

import psycopg
import pytest

SERVER_USER = "postgres"


def _programs():
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin"))
    on_path = shutil.which("initdb")
    return found[-1] if found else Path(on_path).parent if on_path else None


class Cluster:
    """``url(name)``: of a database in it, made when it is first asked for."""

    def __init__(self):
        programs = _programs()
        if programs is None:
            pytest.fail("the tests need PostgreSQL's server: apt install postgresql, or ./run tests")
        self.folder = Path(tempfile.mkdtemp(prefix="pg"))
        data = self.folder / "data"
        as_user = []
        if os.getuid() == 0:
            # The server refuses to run as root.
            entry = pwd.getpwnam(SERVER_USER)
            os.chown(self.folder, entry.pw_uid, entry.pw_gid)
            as_user = ["setpriv", f"--reuid={entry.pw_uid}", f"--regid={entry.pw_gid}", "--clear-groups"]
        self.folder.chmod(0o711)
        subprocess.run(
            [*as_user, programs / "initdb", "-D", data, "-U", "burrow", "-A", "trust", "--no-sync", "-E", "UTF8", "--locale=C"],
            check=True, capture_output=True, cwd="/",
        )  # fmt: skip
        self.process = subprocess.Popen(
            [*as_user, programs / "postgres", "-D", data, "-k", self.folder, "-c", "listen_addresses=", "-c", "fsync=off"],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd="/",
        )  # fmt: skip
        self._names = {"postgres"}
        until = time.monotonic() + 30
        while time.monotonic() < until:
            try:
                psycopg.connect(self.url("postgres")).close()
                return
            except psycopg.OperationalError:
                time.sleep(0.1)
        pytest.fail("PostgreSQL did not start")

    def url(self, name):
        if name not in self._names:
            with psycopg.connect(self.url("postgres"), autocommit=True) as connection:
                connection.execute(f'CREATE DATABASE "{name}"')
            self._names.add(name)
        return f"postgresql://burrow@/{name}?host={self.folder}"

    def stop(self):
        self.process.send_signal(signal.SIGINT)
        self.process.wait(timeout=30)
        shutil.rmtree(self.folder)
