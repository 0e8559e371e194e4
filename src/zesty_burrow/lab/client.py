"""What ``lab`` commands do: talk to the keeper, run commands on hosts."""

from __future__ import annotations

import json
import os
import signal
import sys
import tempfile
import time
import traceback
from collections.abc import Callable, Sequence
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zesty_burrow.carrier.control.control_client import call_with
from zesty_burrow.errors import BurrowError, MachineError, NotFound, StateError, UsageError
from zesty_burrow.extras import require
from zesty_burrow.host import namespaces
from zesty_burrow.host.paths import HOME_VARIABLE, Paths
from zesty_burrow.lab import story
from zesty_burrow.lab.devices.faults import clock_folder
from zesty_burrow.lab.local_network.conditions import Conditions
from zesty_burrow.lab.local_network.workstation import leave_to_the_wire
from zesty_burrow.records import asdict

if TYPE_CHECKING:
    from zesty_burrow.lab.devices.phone.owner import Owner

EXTRAS = ("codes", "http3", "server", "ssh")
"""What its hosts need of the installation."""
STOP_SECONDS, CALL_SECONDS = 20.0, 120.0


def lab_folder(paths: Paths) -> Path:
    """Where the lab keeps its things while it runs."""
    return paths.run / "lab"


OF_LAB = (".zip", ".pem", ".toml", ".txt")
"""Kinds of files of the lab that a command finds by their names."""
LONGEST_NAME = 255


class LabClient:
    """Calls to the lab of one folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def _ask(self, request: dict[str, Any]) -> dict[str, Any]:
        answer = call_with(self.folder / "control", request, CALL_SECONDS)
        if answer is None:
            raise StateError("no lab is running", next_step="Start one: zesty lab start", slug="no-lab")
        if "why" in answer:
            raise StateError(str(answer["error"]), why=str(answer["why"]), next_step=str(answer["next_step"]))
        if "error" in answer:
            raise NotFound(str(answer["error"]), next_step="See `zesty lab status`.")
        return answer

    def is_running(self) -> bool:
        """Whether the keeper answers."""
        return call_with(self.folder / "control", {"call": "status"}) is not None

    def start(self) -> dict[str, Any]:
        """Start the lab and tell its status. :class:`StateError` where one is running."""
        if self.is_running():
            raise StateError("a lab is running already", next_step="Stop it first: zesty lab stop", slug="lab-running")
        require(*EXTRAS)
        from zesty_burrow.lab.keeper import start_keeper

        start_keeper(self.folder)
        return self.status()

    def stop(self) -> None:
        """Stop it; returns once everything is gone."""
        self._ask({"call": "stop"})
        deadline = time.monotonic() + STOP_SECONDS
        while self.folder.exists() and time.monotonic() < deadline:
            time.sleep(0.02)
        if self.folder.exists():
            raise MachineError("the lab did not stop", next_step=f"Read {self.folder}/log.")

    def status(self) -> dict[str, Any]:
        return self._ask({"call": "status"})

    def set_faults(self, host: str, faults: Sequence[str]) -> dict[str, Any]:
        """Inject faults into a host that has some; none removes them."""
        known = story.FAULTS_OF.get(host)
        if known is None:
            raise UsageError(f"{host!r} has no faults to inject", why=f"there are {', '.join(story.FAULTS_OF)}")
        for fault in faults:
            if fault not in known:
                raise UsageError(f"{fault!r} is no fault of {host}", why=f"there are {', '.join(known)}")
        return self._ask({"call": "faults", "host": host, "faults": list(faults)})

    def add_account(self, account: str, sign_in: str, *, everything: bool) -> dict[str, str]:
        """Make an account at the office's gateway; the files of the settings that it exports."""
        request: dict[str, Any] = {"call": "account", "host": story.OFFICE.name}
        request |= {"account": account, "sign_in": sign_in, "everything": everything}
        answer = self._ask(request)
        return {str(name): str(text) for name, text in answer["files"].items()}

    def call_host(self, host: str, call: str) -> dict[str, Any]:
        """Make a gateway ``end`` all tunnels, ``probe`` its callers, or renew keys (``rekey``, ``rekey-ike``)."""
        return self._ask({"call": call, "host": host})

    def phone(self, host: str, call: str, **words: Any) -> dict[str, Any]:
        """A call to a phone (:mod:`zesty_burrow.lab.devices.phone.handset`)."""
        return self._ask({"call": call, "host": host, **words})

    def as_owner(self, host: str, act: Callable[[Owner], dict[str, Any]], say: Callable[[str], None]) -> dict[str, Any]:
        """What a phone's owner does there, in the phone's network. Raises what went wrong, in words."""
        from zesty_burrow.lab.devices.phone.owner import Owner

        authority = (self.folder / story.LINKS_AUTHORITY).read_text()
        owner = Owner(self.folder / host, authority, partial(self.phone, host), say)
        with tempfile.TemporaryFile("w+") as answer:

            def acting() -> int:
                try:
                    found = act(owner)
                except BurrowError as problem:
                    found = {"error": problem.what, "why": problem.why, "next_step": problem.next_step}
                json.dump(found, answer)
                answer.flush()
                return 0

            code = self.call(host, acting)
            answer.seek(0)
            text = answer.read()
        if code or not text:
            raise MachineError(f"the owner of {host} has ended without an answer", why=f"exit code {code}")
        found = json.loads(text)
        if "error" in found:
            raise StateError(found["error"], why=found["why"], next_step=found["next_step"])
        return dict(found)

    def press(self, keys: Sequence[str]) -> tuple[str, ...]:
        """Press keys of the box; the lines on its screen then."""
        return tuple(self._ask({"call": "press", "host": story.BOX, "keys": list(keys)})["screen"])

    def set_wire(self, conditions: Conditions) -> None:
        """Loss, delay and rate of the workstation's wires."""
        plain = conditions == Conditions()
        if not plain:
            self.call(story.WORKSTATION, lambda: leave_to_the_wire(offloads=False))
        self._ask({"call": "wire", "host": story.ROUTER, "conditions": asdict(conditions)})
        if plain:
            self.call(story.WORKSTATION, lambda: leave_to_the_wire(offloads=True))

    def run(self, host: str, command: Sequence[str]) -> int:
        """Run a command on a host, with its files, network and home; the command's exit code."""

        def become() -> int:
            clock = clock_folder(self.folder / host)
            if any(clock.glob("*.py")):
                os.environ["PYTHONPATH"] = str(clock)
            # The program that runs the lab is found there as well, also where no PATH has it.
            folders = [os.environ.get("PATH", ""), str(Path(sys.executable).parent)]
            os.environ["PATH"] = os.pathsep.join(filter(None, folders))
            try:
                os.execvp(command[0], [command[0], *map(self._of_lab, command[1:])])  # noqa: S606
            except FileNotFoundError:
                os.write(2, f"zesty: there is no command {command[0]!r}\n".encode())
            return 127

        return self.call(host, become)

    def _of_lab(self, word: str) -> str:
        """A word of a command; the name of a file of the lab, as its kit, that is not in this folder: with its path."""
        if "/" in word or word.startswith((".", "-")) or Path(word).suffix not in OF_LAB or len(word) > LONGEST_NAME:
            return word
        own = self.folder / word
        return str(own) if own.is_file() and not Path(word).exists() else word

    def process_of(self, host: str) -> int:
        """A process whose namespaces are the host's, by its number here."""
        return int(self._ask({"call": "where", "host": host})["process"])

    def call(self, host: str, function: Callable[[], int]) -> int:
        """Call a function in a process on a host, with its files, network and home; the function's result."""
        process = self.process_of(host)
        sys.stdout.flush()
        sys.stderr.flush()
        pid = os.fork()
        if pid == 0:
            _enter_and_call(process, self.folder / host, function)
        return _wait(pid)


def _enter_and_call(process: int, home: Path, function: Callable[[], int]) -> None:
    """The child: enters the host's namespaces, then calls the function. Never returns."""
    try:
        folder = Path.cwd()
        user = os.stat("/proc/self/ns/user").st_ino != os.stat(f"/proc/{process}/ns/user").st_ino  # noqa: PTH116
        kinds = ["user"] if user else []
        namespaces.enter(process, *kinds, "net", "uts", "pid", "mnt")
        with suppress(OSError):
            os.chdir(folder)
        # A process enters a process namespace only with its children.
        inner = os.fork()
        if inner:
            code = _wait(inner)
            os._exit(code)
        namespaces.die_with_parent(signal.SIGKILL)
        home.mkdir(mode=0o700, exist_ok=True)
        os.environ[HOME_VARIABLE] = str(home)
    except OSError as problem:
        os.write(2, f"zesty: the lab's host cannot be entered: {problem}\n".encode())
        os._exit(126)
    code = 1
    try:
        code = function()
        sys.stdout.flush()
        sys.stderr.flush()
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 1
    except BaseException:
        traceback.print_exc()
    os._exit(code)


def _wait(pid: int) -> int:
    """Wait for a child; interrupts are its affair, so they are left to it."""
    before = signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        _, status = os.waitpid(pid, 0)
    finally:
        signal.signal(signal.SIGINT, before)
    return os.waitstatus_to_exitcode(status) % 256
