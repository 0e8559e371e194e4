"""Try to reach hosts by TCP, as a program of this machine would: name, then connection; nothing is sent."""

from __future__ import annotations

import socket
import time
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor

from zesty_burrow.core.outside.reach import MOST, USUAL_PORT, Reached, read_target
from zesty_burrow.errors import UsageError

TIMEOUT = 4.0


def read_targets(words: Iterable[str]) -> list[tuple[str, str, int]]:
    """``HOST``, ``HOST:PORT`` or ``[ADDRESS]:PORT``: the words, host and port. Raises :class:`UsageError`."""
    targets = []
    for word in dict.fromkeys(words):
        try:
            targets.append((word, *read_target(word)))
        except ValueError as problem:
            raise UsageError(
                f"--reach: {problem}", next_step=f"HOST or HOST:PORT; without a port {USUAL_PORT} is tried."
            ) from None
    if len(targets) > MOST:
        raise UsageError(f"{len(targets)} hosts are to be reached", why=f"at most {MOST} are tried")
    return targets


def try_to_reach(targets: Iterable[tuple[str, str, int]]) -> tuple[Reached, ...]:
    """All at one time."""
    rows = list(targets)
    if not rows:
        return ()
    with ThreadPoolExecutor(len(rows)) as pool:
        return tuple(pool.map(_try, rows))


def _try(target: tuple[str, str, int]) -> Reached:
    word, host, port = target
    try:
        found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError) as problem:
        return Reached(word, why=f"its name is not resolved ({problem})")
    why = "it has no address"
    for family, kind, number, _, endpoint in found[:4]:
        began = time.monotonic()
        with socket.socket(family, kind, number) as channel:
            channel.settimeout(TIMEOUT)
            try:
                channel.connect(endpoint)
                return Reached(word, str(endpoint[0]), round(time.monotonic() - began, 4))
            except ConnectionRefusedError:
                # It is there, and has nothing at this port.
                why = f"{endpoint[0]} refuses port {port}"
            except OSError as problem:
                why = f"{endpoint[0]}: {problem.strerror or problem}"
    return Reached(word, why=why)
