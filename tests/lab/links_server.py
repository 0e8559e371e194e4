"""The administrator's server of links, on the observatory's host, with the workstation's store."""

from __future__ import annotations

import subprocess
import sys
from contextlib import contextmanager
from pathlib import Path

from zesty_burrow.host.paths import HOME_VARIABLE
from zesty_burrow.lab import story

PROGRAM = str(Path(sys.executable).with_name("zesty"))


@contextmanager
def serving(lab):
    """While it answers; at its end it has said nothing of an error that it did not expect."""
    line = [
        "env",
        f"{HOME_VARIABLE}={lab.folder / 'heron'}",
        PROGRAM,
        "links",
        "serve",
        "--port",
        str(story.LINKS_PORT),
    ]
    line += ["--address", story.OBSERVATORY4, "--address", story.OBSERVATORY6, "--observatory", story.OBSERVATORY_NAME]
    line += ["--certificate", str(lab.folder / story.LINKS_CERTIFICATE), "--key", str(lab.folder / story.LINKS_KEY)]
    with lab.start("observatory", *line, stderr=subprocess.STDOUT) as server:
        assert f"port {story.LINKS_PORT}" in server.stdout.readline()
        yield
        assert "Traceback" not in (said := lab.end(server)), said
