"""Reads a stranger's octets in a process of its own, with a limit of time and memory that holds whatever they do.

The process has this one's terminal: it can ask for a passphrase and draw its progress. It ends with its work, with its
limits, or with Ctrl-C; none of that costs us the program.
"""

from __future__ import annotations

import builtins
import datetime
import importlib
import io
import ipaddress
import os
import pickle
import resource
import signal
import sys
import traceback
from collections.abc import Callable
from enum import Enum
from functools import cache
from pathlib import Path
from typing import Any, BinaryIO, TypeVar

from zesty_burrow.errors import BurrowError, LimitExceeded, ProgramFault, as_error
from zesty_burrow.protocols import registry
from zesty_burrow.records import fields, is_dataclass

Result = TypeVar("Result")
SECONDS, SECONDS_FOR_EACH = 10, 2
"""Of a processor's time, whatever is read; and for each mebibyte of it."""
MEMORY, TIMES = 256 << 20, 4
"""Octets, beside what the program itself has; and for each octet that is read."""
MEBIBYTE = 1 << 20
AT, DONE, FAILED, TOO_MUCH = b"A", b"D", b"F", b"M"
HEAD = 5
OUR_OWN = "zesty_burrow."
KNOWN = {"ipaddress": ipaddress, "datetime": datetime, "builtins": builtins}
PLAIN = frozenset({"frozenset", "set", "bytearray", "complex"})
"""Of the built-in names, those that are values alone."""


def apart(work: Callable[[Callable[[str], None]], Result], octets: int, what: str) -> Result:
    """What ``work`` returns, from a child process. It is given a callable to tell which file it is at.

    ``octets``: how much is read; ``what``: its name. Raises what ``work`` raises, and :class:`LimitExceeded` where it
    takes more time or memory than so much may need.
    """
    reading, writing = os.pipe()
    sys.stdout.flush()
    sys.stderr.flush()
    child = os.fork()
    if child == 0:
        os.close(reading)
        _work(work, octets, writing)
    os.close(writing)
    try:
        with os.fdopen(reading, "rb") as stream:
            at, kind, content = _listen(stream)
    except BaseException:
        os.kill(child, signal.SIGKILL)
        raise
    finally:
        _, status = os.waitpid(child, 0)
    if kind == DONE:
        result: Result = _Values(io.BytesIO(content)).load()
        return result
    if kind == FAILED:
        problem = _Values(io.BytesIO(content)).load()
        raise problem if isinstance(problem, BurrowError) else ProgramFault("a kit's reader failed without a reason")
    raise _limit_of(os.waitstatus_to_exitcode(status), kind, octets, f"{what}, {at}" if at else what)


def _listen(stream: BinaryIO) -> tuple[str, bytes, bytes]:
    """Where it was last, and the last thing that it told."""
    at, kind, content = "", b"", b""
    while len(head := stream.read(HEAD)) == HEAD:
        size = int.from_bytes(head[1:])
        kind, content = head[:1], stream.read(size)
        if len(content) < size:
            # It was ended in the middle of it.
            return at, b"", b""
        if kind == AT:
            at = content.decode("utf-8", "replace")
    return at, kind, content


def seconds_for(octets: int) -> int:
    return SECONDS + SECONDS_FOR_EACH * -(-octets // MEBIBYTE)


def _limit_of(code: int, kind: bytes, octets: int, what: str) -> BurrowError:
    if code == -signal.SIGINT:
        raise KeyboardInterrupt
    memory = (MEMORY + TIMES * octets) // MEBIBYTE
    if code in (-signal.SIGXCPU, -signal.SIGKILL):
        why = f"it takes more than {seconds_for(octets)} s of a processor's time"
    elif kind == TOO_MUCH:
        why = f"it takes more than {memory} MiB of memory"
    else:
        why = f"its reader died (exit code {code})"
    step = "Do not use this file; ask the sender for a plain one. If it is very large, split it."
    return LimitExceeded(f"{what} cannot be read", why=why, next_step=step)


def _work(work: Callable[[Callable[[str], None]], Any], octets: int, writing: int) -> None:
    """The child. Never returns."""
    code = 1
    stream = os.fdopen(writing, "wb", buffering=0)

    def tell(kind: bytes, content: bytes) -> None:
        stream.write(kind + len(content).to_bytes(4))
        # A pipe takes only so much at once.
        view = memoryview(content)
        while view:
            view = view[stream.write(view) or 0 :]

    try:
        signal.signal(signal.SIGINT, signal.SIG_DFL)
        _limit(octets)
        try:
            tell(DONE, _packed(work(lambda path: tell(AT, path.encode("utf-8", "replace")[:1000]))))
            code = 0
        except MemoryError:
            tell(TOO_MUCH, b"")
        except Exception as problem:
            told = as_error(problem)
            told.add_note("".join(traceback.format_exception(problem)))
            tell(FAILED, pickle.dumps(told, protocol=5))
    finally:
        os._exit(code)


def _packed(value: object) -> bytes:
    out = io.BytesIO()
    _Pickler(out, protocol=5).dump(value)
    return out.getvalue()


def _limit(octets: int) -> None:
    """Time and memory. The hard limit of time is a second later, for what does not end by the first."""
    seconds = seconds_for(octets)
    resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds + 1))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("VmData:"):
            most = int(line.split()[1]) * 1024 + MEMORY + TIMES * octets
            resource.setrlimit(resource.RLIMIT_DATA, (most, most))


class _Pickler(pickle.Pickler):
    """Writes our data classes as their kind and values: reading them back that way is much quicker."""

    def reducer_override(self, value: Any) -> Any:
        kind = type(value)
        if is_dataclass(kind) and kind.__module__.startswith(OUR_OWN) and hasattr(kind, "__slots__"):
            names = _slots(kind)
            return _restored, (kind, *(getattr(value, name) for name in names))
        return NotImplemented


@cache
def _slots(kind: type) -> tuple[str, ...]:
    return tuple(field.name for field in fields(kind))


@cache
def _setters(kind: type) -> tuple[Callable[[Any, Any], None], ...]:
    return tuple(getattr(kind, name).__set__ for name in _slots(kind))


def _restored(kind: type, *values: Any) -> Any:
    """A data class with slots, as it was: frozen ones, too, have been checked where they were made."""
    if not (isinstance(kind, type) and is_dataclass(kind) and kind.__module__.startswith(OUR_OWN)):
        raise ProgramFault(f"a kit's reader gave {kind!r:.40}, which is no value")
    made = object.__new__(kind)
    for put, value in zip(_setters(kind), values, strict=True):
        put(made, value)
    return made


class _Values(pickle.Unpickler):
    """Reads values of our own kinds alone: an attacker who has taken the child over gets no further by them."""

    def find_class(self, module: str, name: str) -> Any:
        if module == "copyreg" and name == "_reconstructor":
            return super().find_class(module, name)
        if (module, name) == (__name__, _restored.__name__):
            return _restored
        if (module, name) == ("builtins", "getattr"):
            # As some versions of Python write members of enumerations.
            return _member
        found: object = None
        ours = (OUR_OWN, *(f"{registry.package(one)}." for one in registry.names()))
        if module.startswith(ours):
            found = getattr(importlib.import_module(module), name)
        elif module in KNOWN and (module != "builtins" or name in PLAIN):
            found = getattr(KNOWN[module], name)
        if not isinstance(found, type):
            raise ProgramFault(f"a kit's reader gave a {module}.{name}")
        return found


def _member(kind: object, name: object) -> object:
    if not (isinstance(kind, type) and issubclass(kind, Enum) and name in kind.__members__):
        raise ProgramFault(f"a kit's reader gave {name!r:.40} of no enumeration")
    return kind.__members__[str(name)]
