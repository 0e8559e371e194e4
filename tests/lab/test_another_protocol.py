"""A protocol that is one folder in the tests, registered by its name, goes through the whole program unchanged."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from lab.conftest import PROGRAM

pytestmark = pytest.mark.lab
FOLDER = Path(__file__).parent.parent / "protocols"
RUN = "import sys; from zesty_burrow.protocols import registry; registry.register('dummy', 'dummy.protocol'); " \
      "from zesty_burrow.cli import main; sys.exit(main(sys.argv[1:]))"  # fmt: skip
PROFILE = """
format = 2
[profile]
name = "dummy-here"
provider = "Dummy Works"
[gateway]
addresses = ["127.0.0.1"]
[dummy]
port = 7777
motto = "seabirds"
colour = "blue"
[tunnel]
protocol = "dummy"
[sign_in]
gateway = "password"
method = "password"
[traffic]
networks = ["10.99.0.0/24"]
"""


@pytest.fixture
def program(lab, tmp_path):
    """The program with one protocol more, on the workstation; its gateway runs there too."""
    environment = {**os.environ, "ZESTY_BURROW_HOME": str(lab.home), "COLUMNS": "200", "PYTHONPATH": str(FOLDER)}
    words = [PROGRAM, "lab", "run", "heron", "--", sys.executable]

    def run(*given, check=0):
        ended = subprocess.run([*words, "-c", RUN, *given], capture_output=True, text=True, env=environment, timeout=60)
        assert ended.returncode == check, ended.stdout + ended.stderr
        assert "Traceback" not in ended.stderr and "kelp" not in ended.stdout + ended.stderr
        return " ".join((ended.stdout + ended.stderr).split())

    gateway = subprocess.Popen([*words, "-m", "dummy.gateway"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env=environment)  # fmt: skip
    assert gateway.stdout.readline().strip() == "ready"
    kit = tmp_path / "kit"
    kit.mkdir()
    (kit / "dummy-here.toml").write_text(PROFILE)
    (kit / "credentials.txt").write_text("tidewrack_heron\nkelp-Forest_42\n")
    (kit / "credentials.txt").chmod(0o600)
    run.kit, run.home = str(kit), str(lab.home)
    yield run
    gateway.communicate(timeout=10)
    run("remove", "--provider", "Dummy Works", "--yes")


def test_from_import_to_packets(program):
    """import, show, list, rehearse, credentials try, connect, status, packets, verify, disconnect; unknown keys are kept."""
    assert "dummy-here" in program("import", program.kit)
    shown = program("show", "dummy-here")
    assert "seabirds" in shown and "dummy.colour" in shown
    assert "dummy-here" in program("list", "dummy")
    assert "fit" in program("rehearse", "dummy-here", "--no-exit")
    assert "accepts the credentials" in program("credentials", "try", "dummy-here")
    up = program("connect", "dummy-here", "--detach")
    assert "welcome, seabirds" in up and "10.99.0.5" in up
    said = program("--json", "status")
    assert '"protocol": "a dummy for tests"' in said and '"is_up": true' in said
    ping = "import subprocess, sys; sys.exit(subprocess.run(['ping', '-c', '3', '-W', '2', '10.99.0.1']).returncode)"
    program_ping = subprocess.run(
        [PROGRAM, "lab", "run", "heron", "--", sys.executable, "-c", ping],
        capture_output=True, text=True, timeout=30,
        env={**os.environ, "ZESTY_BURROW_HOME": str(Path(program.home))},
    )  # fmt: skip
    assert program_ping.returncode == 0, program_ping.stdout
    assert '"packets_in": 3' in program("--json", "status")
    assert '"verdict": "sealed"' in program("--json", "verify")
    program("disconnect")


def test_a_switch(program):
    """From a tunnel of another protocol, by the process that carries it; and back."""
    program("import", program.kit)
    program("connect", "quillwort-lisbon", "--detach")
    assert "10.99.0.5" in program("connect", "dummy-here", "--detach")
    assert '"profile": "dummy-here"' in program("--json", "status")
    program("connect", "quillwort-lisbon", "--detach")
    assert '"profile": "quillwort-lisbon"' in program("--json", "status")
    program("disconnect")


def test_refused(program):
    program("import", program.kit)
    Path(program.kit, "credentials.txt").write_text("tidewrack_heron\nkelp-Forest_43\n")
    program("import", program.kit, "--replace")
    assert "refused" in program("connect", "dummy-here", "--detach", check=8)
