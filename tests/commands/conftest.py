"""The built program, run on files in a temporary folder."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

import pytest

from support import AUTHORITY, PASSWORD
from zesty_burrow.lab.kit import kit_archive, kit_files

PROGRAM = Path(sys.executable).with_name("zesty")


@dataclass
class Ended:
    """How a run of the program ended."""

    code: int
    out: str
    err: str

    @property
    def json(self):
        return json.loads(self.out)

    @property
    def text(self):
        """Both streams, without line ends, as one reads it."""
        return " ".join((self.out + self.err).split())


@dataclass
class Program:
    """The program with a home of its own."""

    home: Path

    def __call__(self, *words, stdin=""):
        environment = {**os.environ, "ZESTY_BURROW_HOME": str(self.home), "COLUMNS": "200"}
        run = subprocess.run(
            [PROGRAM, *map(str, words)], capture_output=True, text=True, env=environment, input=stdin, timeout=60
        )
        assert "Traceback" not in run.stderr
        assert PASSWORD not in run.stdout + run.stderr
        return Ended(run.returncode, run.stdout, run.stderr)


@pytest.fixture
def zesty(tmp_path):
    """The program."""
    return Program(tmp_path / "home")


@pytest.fixture
def kit(tmp_path):
    """The provider's kit as an archive."""
    path = tmp_path / "quillwort-relay.zip"
    path.write_bytes(kit_archive(kit_files(AUTHORITY.pem(), PASSWORD)))
    path.chmod(0o600)
    return path
