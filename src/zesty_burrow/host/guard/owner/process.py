"""Starts the guard's process, and is its beginning: a process of its own, with one beside it that starts it again."""

from __future__ import annotations

import ctypes
import json
import os
import selectors
import signal
import socket
import subprocess
import sys
import time
import traceback
from contextlib import suppress
from pathlib import Path

from zesty_burrow.errors import ProgramFault, StateError, as_error, error_document, error_of
from zesty_burrow.host.guard.owner.service import NAME, GuardService
from zesty_burrow.host.guard.owner.wire import call, listen, socket_of
from zesty_burrow.host.journal.lock import lock, open_journal

ROOT = str(Path(__file__).resolve().parents[4])
"""Where the package is found."""
BEGIN = (
    "import sys; path = sys.path; "
    "path.insert(next((at for at, one in enumerate(path) if 'site-packages' in one), len(path)), sys.argv[1]); "
    "from zesty_burrow.host.guard.owner.process import main; main(sys.argv[2:])"
)
"""The same program as the caller's: before any that is installed, behind Python's own modules."""
READY_SECONDS = 20.0
PR_SET_NAME = 15
UNLIKELY = "-900"
"""For /proc/self/oom_score_adj: the last to be ended where memory runs out."""
SOON, PATIENCE = 1.0, 1.0
"""Seconds: a process that dies within the first is started again after the second."""
TAKE_OVER = 5.0
"""Seconds for an earlier process to end."""
HEARD = (signal.SIGCHLD, signal.SIGTERM)
MAX_LOG = 1 << 20


class Starting:
    """A process that begins; :meth:`wait` until it listens."""

    def __init__(self, record: Path) -> None:
        """Start it, with nothing of this process but standard error: no environment, no files, no secrets."""
        reading, writing = os.pipe()
        line = [sys.executable, "-P", "-c", BEGIN, ROOT, str(record), str(writing)]
        environment = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LANG": "C.UTF-8"}
        try:
            self._process = subprocess.Popen(
                line,
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                pass_fds=(writing,),
                env=environment,
                cwd="/",
                start_new_session=True,
            )
        finally:
            os.close(writing)
        self._reading = reading

    def wait(self) -> None:
        """Until it listens. Raises the ``BurrowError`` that prevents it."""
        with selectors.DefaultSelector() as selector, os.fdopen(self._reading, "rb") as stream:
            selector.register(stream, selectors.EVENT_READ)
            line = stream.readline() if selector.select(READY_SECONDS) else b""
        # The process that was started leaves at once another one behind, which is nobody's child here.
        with suppress(subprocess.TimeoutExpired):
            self._process.wait(READY_SECONDS)
        try:
            document = json.loads(line)
        except ValueError:
            raise ProgramFault("the guard's process did not begin", why="it told of no reason") from None
        if "error" in document:
            raise error_of(document["error"])


def main(words: list[str]) -> None:
    """The process that :class:`Starting` has started. Never returns."""
    record, ready = Path(words[0]), int(words[1])
    if os.fork():
        os._exit(0)
    os.setsid()
    serve(record, ready)


def serve(record: Path, ready: int = -1, *, stays: bool = False) -> None:
    """Be the process beside the guard's, which starts that one again whenever it dies. Never returns.

    ``ready``: a descriptor on which the first one says that it listens, or why it cannot; -1: systemd is told, if it
    waits for that (sd_notify(3)).
    """
    reading = -1
    if ready < 0:
        reading, ready = os.pipe()
    take_name("zesty-guard-up")
    with suppress(OSError):
        Path("/proc/self/oom_score_adj").write_text(UNLIKELY)
    for number in (signal.SIGINT, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)
    signal.pthread_sigmask(signal.SIG_BLOCK, HEARD)
    while True:
        begun = time.monotonic()
        child = os.fork()
        if child == 0:
            signal.pthread_sigmask(signal.SIG_UNBLOCK, HEARD)
            _be_the_guard(record, ready, stays=stays)
        if ready >= 0:
            os.close(ready)
            ready = -1
        if reading >= 0:
            _tell_systemd(reading)
            reading = -1
        code, is_wanted = _wait(child)
        if is_wanted or code >= 0:
            os._exit(max(code, 0))
        if time.monotonic() - begun < SOON:
            time.sleep(PATIENCE)


def _tell_systemd(reading: int) -> None:
    """Wait until the guard's process listens, and tell systemd (sd_notify(3))."""
    with os.fdopen(reading, "rb") as stream:
        line = stream.readline()
    try:
        document = json.loads(line)
    except ValueError:
        return
    if "error" in document:
        problem = error_of(document["error"])
        sys.stderr.write(f"{problem}\n{problem.next_step}\n")
        return
    path = os.environ.get("NOTIFY_SOCKET", "")
    if path:
        with suppress(OSError), socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as channel:
            channel.connect("\0" + path[1:] if path.startswith("@") else path)
            channel.send(b"READY=1")


def _wait(child: int) -> tuple[int, bool]:
    """Until the guard's process is gone: its exit code, and whether this one was asked to end."""
    is_wanted = False
    while True:
        heard = signal.sigwaitinfo(HEARD)
        if heard.si_signo == signal.SIGTERM:
            is_wanted = True
            with suppress(ProcessLookupError):
                os.kill(child, signal.SIGUSR1)
        gone, status = os.waitpid(child, os.WNOHANG)
        if gone:
            return os.waitstatus_to_exitcode(status), is_wanted


def _be_the_guard(record: Path, ready: int, *, stays: bool) -> None:
    """The guard's own process. Never returns."""
    take_name(NAME)
    # Stray signals do not end it: only the process beside it does, or one that nobody can ignore.
    for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)
    signal.signal(signal.SIGUSR1, lambda *_: os._exit(0))
    listening = None
    try:
        held = open_journal(record.with_suffix(".lock"), create=True)
        if not lock(held) and not (stays and _take_the_place(record, held)):
            raise StateError("the guard's process runs already", slug="busy")
        service = GuardService(record, stays=stays)
        service.begin()
        listening = listen(socket_of(record))
        _tell(ready, {"ready": True})
        service.run(listening)
        socket_of(record).unlink(missing_ok=True)
    except BaseException as problem:
        if listening is not None:
            # It had begun: it is started again, and the kernel keeps the tables until then.
            _log(record, problem)
            os.kill(os.getpid(), signal.SIGKILL)
        _tell(ready, {"error": error_document(as_error(problem))})
        os._exit(1)
    os._exit(0)


def _take_the_place(record: Path, held: int) -> bool:
    """Have a process that was started by a command end, and leave the tables to this one, which systemd watches
    over.
    """
    with suppress(OSError, ValueError):
        call(socket_of(record), {"call": "retire"}, PATIENCE)
    until = time.monotonic() + TAKE_OVER
    while time.monotonic() < until:
        if lock(held):
            return True
        time.sleep(0.02)
    return False


def _log(record: Path, problem: BaseException) -> None:
    """Keep the trace of a defect of ours beside the record; it holds no secret."""
    path = record.with_suffix(".log")
    with suppress(OSError):
        flags = os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC | os.O_NOFOLLOW
        descriptor = os.open(path, flags, 0o600)
        with os.fdopen(descriptor, "w") as stream:
            if os.fstat(descriptor).st_size < MAX_LOG:
                stream.write("".join(traceback.format_exception(problem)))


def _tell(ready: int, document: dict[str, object]) -> None:
    if ready >= 0:
        with suppress(OSError):
            os.write(ready, json.dumps(document).encode() + b"\n")
            os.close(ready)


def take_name(name: str) -> None:
    """Call this process so, in lists and in what the kernel tells of its changes."""
    ctypes.CDLL(None).prctl(PR_SET_NAME, name.encode(), 0, 0, 0)
