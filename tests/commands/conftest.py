"""The program, run on files in a temporary folder.

``zesty(…)`` runs it in a process of its own that has its libraries loaded already, which is many times faster;
``zesty.built(…)`` runs the installed program from its start.
"""

from __future__ import annotations

import os
import subprocess
import sys
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from support import AUTHORITY, PASSWORD, Ended, forked, preload
from zesty_burrow.lab.kit import kit_archive, kit_files

PROGRAM = Path(sys.executable).with_name("zesty")
preload()


@dataclass
class Program:
    """The program with a home of its own."""

    home: Path
    extra: dict = field(default_factory=dict)

    @property
    def environment(self):
        return {**os.environ, **self.extra, "ZESTY_BURROW_HOME": str(self.home), "COLUMNS": "200"}

    def __call__(self, *words, stdin=""):
        return self._checked(forked([str(word) for word in words], self.environment, stdin))

    def built(self, *words, stdin=""):
        """The installed program itself."""
        run = subprocess.run(
            [PROGRAM, *map(str, words)], capture_output=True, text=True, env=self.environment, input=stdin, timeout=60
        )
        return self._checked(Ended(run.returncode, run.stdout, run.stderr))

    @staticmethod
    def _checked(ended):
        assert "Traceback" not in ended.err, ended.err
        assert PASSWORD not in ended.out + ended.err
        return ended


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
