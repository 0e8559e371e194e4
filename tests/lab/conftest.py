"""One lab for all tests of a session; each test puts the gateways right and the workstation back."""

from __future__ import annotations

import importlib
import logging
import os
import signal
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from support import Ended, forked, preload, until
from zesty_burrow.cli import main
from zesty_burrow.host import namespaces
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient
from zesty_burrow.lab.devices.faults import clock_folder

PROGRAM = str(Path(sys.executable).with_name("zesty"))


@dataclass
class Lab:
    """The running lab; ``heron`` runs the program on the workstation, ``shell`` any command on any host."""

    home: Path
    faulty: set = field(default_factory=set)
    seen_by: int = 0
    """A process on the workstation whose files are the workstation's for a while; 0: its own."""

    def run(self, *words, check=None):
        """The program on this machine."""
        environment = {**os.environ, "ZESTY_BURROW_HOME": str(self.home), "COLUMNS": "200"}
        if words[:2] == ("lab", "start"):
            # What it starts goes on, and is to be no copy of the tests.
            run = subprocess.run([PROGRAM, *words], capture_output=True, text=True, env=environment, timeout=90)
            ended = Ended(run.returncode, run.stdout, run.stderr)
        else:
            ended = forked(words, environment)
        assert self.password not in ended.out + ended.err
        if check is not None:
            assert ended.code == check, ended.out + ended.err
        return ended

    def heron(self, *words, check=None, stdin="", folder=None, environment=()):
        """The program on the workstation, in a process of its own that has its libraries loaded already."""
        with (
            tempfile.TemporaryFile("w+") as out,
            tempfile.TemporaryFile("w+") as err,
            tempfile.TemporaryFile() as given,
        ):
            given.write(stdin.encode())
            given.seek(0)

            def call():
                if self.seen_by:
                    namespaces.enter(self.seen_by, "mnt")
                os.environ.update({"COLUMNS": "200", **dict(environment)})
                # Those of the tests, which a process of its own would not have.
                logging.root.handlers.clear()
                if folder is not None:
                    os.chdir(folder)
                os.dup2(given.fileno(), 0)
                sys.stdin = os.fdopen(0, closefd=False)
                os.dup2(out.fileno(), 1)
                os.dup2(err.fileno(), 2)
                sys.stdout, sys.stderr = os.fdopen(1, "w", closefd=False), os.fdopen(2, "w", closefd=False)
                return main(["--json", *words])

            code = LabClient(self.folder).call("heron", call)
            texts = []
            for stream in (out, err):
                stream.seek(0)
                texts.append(stream.read())
        assert "Traceback" not in texts[1] or "--debug" in words, texts[1]
        assert self.password not in "".join(texts)
        if check is not None:
            assert code == check, texts
        return Ended(code, *texts)

    def shell(self, host, *words, check=0):
        run = subprocess.run(self._on(host, words), capture_output=True, text=True, env=self._home(host), timeout=90)
        assert self.password not in run.stdout + run.stderr
        if check is not None:
            assert run.returncode == check, run.stdout + run.stderr
        return Ended(run.returncode, run.stdout, run.stderr)

    def _on(self, host, words):
        """The line by which a command is run on a host: as ``zesty lab run`` does it, without starting Python."""
        process = LabClient(self.folder).process_of(host)
        if self.seen_by and host == "heron":
            words = ("nsenter", "-m", "-t", str(self.seen_by), "--", *words)
        kinds = ("-n", "-u", "-p", "-m")
        return ["nsenter", "-t", str(process), *kinds, "--", "sh", "-c", 'cd "$0"; exec "$@"', os.getcwd(), *words]

    def _home(self, host):
        home = self.folder / host
        home.mkdir(mode=0o700, exist_ok=True)
        clock = clock_folder(home)
        path = {"PYTHONPATH": str(clock)} if any(clock.glob("*.py")) else {}
        return {**os.environ, **path, "ZESTY_BURROW_HOME": str(home), "COLUMNS": "200"}

    def start(self, host, *words, stderr=None):
        """A command on a host that goes on by itself."""
        return subprocess.Popen(
            self._on(host, words), stdout=subprocess.PIPE, stderr=stderr, text=True, env=self._home(host),
            start_new_session=True,
        )  # fmt: skip

    def kill(self, process):
        """Without a chance to put anything back; until it is seen to be dead."""
        self.shell("heron", "kill", "-9", str(process))
        until(lambda: self.heron("status").json["condition"] == "left over")

    @staticmethod
    def end(running):
        """End what :meth:`start` has started, with what it runs on the host; what it said that nobody has read."""
        os.killpg(running.pid, signal.SIGTERM)
        return running.communicate(timeout=20)[0]

    def fault(self, host, *faults):
        self.faulty.add(host)
        LabClient(self.folder).set_faults(host, faults)

    def gateway(self, host):
        return LabClient(self.folder).status()["hosts"][host]

    def gateways(self):
        rows = LabClient(self.folder).status()["hosts"]
        return {name: row for name, row in rows.items() if name in story.PLACE_BY_NAME}

    @property
    def folder(self):
        return self.home / "lab"

    @property
    def kit(self):
        return self.folder / "quillwort-relay.zip"

    @property
    def password(self):
        import io
        import zipfile

        if not self.kit.exists():
            return "\0"
        with zipfile.ZipFile(io.BytesIO(self.kit.read_bytes())) as archive:
            return archive.read("credentials.txt").decode().splitlines()[1]

    def network(self):
        return self.heron("status", "--network").json["network"]

    def network_is_soon(self, wanted, seconds=15):
        """A tunnel's process that ends by itself answers no more some moments before everything is put back."""
        until = time.monotonic() + seconds
        while self.network() != wanted and time.monotonic() < until:
            time.sleep(0.1)
        assert self.network() == wanted


importlib.import_module("pyroute2")
preload()


def can_make_namespaces():
    ended = subprocess.run(["unshare", "-n", "true"], capture_output=True)
    return ended.returncode == 0


@pytest.fixture(scope="session")
def whole_lab():
    """The lab, started once."""
    if not can_make_namespaces():
        pytest.fail("the tests need the right to make network namespaces: run them as root")
    with tempfile.TemporaryDirectory(prefix="zb") as folder:
        lab = Lab(Path(folder))
        lab.run("lab", "start", check=0)
        try:
            lab.heron("verify", "--before", check=0)
            lab.heron("import", str(lab.kit), check=0)
            yield lab
        finally:
            lab.run("lab", "stop")


@pytest.fixture
def lab(whole_lab):
    """The lab as it was at its start; afterwards no tunnel is up and no gateway is faulty."""
    yield whole_lab
    if whole_lab.heron("disconnect").code != 0:
        whole_lab.heron("restore")
    for host in whole_lab.faulty & set(story.FAULTS_OF):
        LabClient(whole_lab.folder).set_faults(host, ())
    whole_lab.faulty.clear()
    # A tunnel that was killed is not told to its gateway, which would ask for it for a while.
    for host, row in whole_lab.gateways().items():
        if row["tunnels"]:
            LabClient(whole_lab.folder).call_host(host, "restart")
    assert not any(row["tunnels"] for row in whole_lab.gateways().values())


@pytest.fixture
def every_protocol(lab):
    """All profiles of the provider's kit for those who choose are stored, for one test."""
    made = lab.heron("import", str(lab.folder / "quillwort-relay-protocols.zip"), check=0).json
    yield lab
    names = [row["name"] for row in made["profiles"] if row["outcome"] == "new"]
    lab.heron("remove", *names, "--yes", check=0)
