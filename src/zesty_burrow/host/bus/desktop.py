"""Tells the user who sits at this machine what happens to a tunnel, by the desktop's own notifications.

The tunnel's process keeps no right that it does not need, and may be another user's. So a small process of the user's
does it: it gets events on its standard input, one JSON document a line, and ends with it. The interface is that of the
Desktop Notifications Specification (org.freedesktop.Notifications).
"""

from __future__ import annotations

import importlib
import json
import os
import pwd
import subprocess
import sys
from collections.abc import Mapping
from contextlib import suppress
from html import escape
from pathlib import Path
from typing import Any

from zesty_burrow.host.bus.calls import Service, call_service

NAME = "org.freedesktop.Notifications"
NOTIFICATIONS = Service(NAME, "/org/freedesktop/Notifications", NAME)
PROGRAM = "zesty"
NORMAL, CRITICAL = 1, 2
"""Urgency: what is critical stays until it is closed."""
AS_THE_DESKTOP_LIKES = -1
MAX_TEXT = 400
END_SECONDS = 1.0
ENVIRONMENT = {"PATH": "/usr/bin:/bin", "LANG": "C.UTF-8"}


def session_bus(environment: Mapping[str, str], runtime: Path = Path("/run/user")) -> tuple[int, str] | None:
    """The user at this machine's desktop, and the address of that user's bus; None if nobody is there.

    With sudo it is that of the user who has called it.
    """
    own = os.geteuid()
    caller = environment.get("SUDO_UID", "")
    user = int(caller) if own == 0 and caller.isascii() and caller.isdigit() else own
    named = environment.get("DBUS_SESSION_BUS_ADDRESS", "") if user == own else ""
    path = named.removeprefix("unix:path=").partition(",")[0] if named.startswith("unix:path=") else ""
    found = path or str(runtime / str(user) / "bus")
    return (user, found) if Path(found).is_socket() else None


class Desktop:
    """A process of ``user``'s that passes events on to the desktop at ``bus``. To be made with the right to do so."""

    def __init__(self, user: int, bus: str) -> None:
        self._process = subprocess.Popen(
            [sys.executable, "-I", "-m", "zesty_burrow.host.bus.desktop", bus, str(user)],
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env=ENVIRONMENT,
            cwd="/",
            start_new_session=True,
        )
        if self._process.stdin is not None:
            os.set_blocking(self._process.stdin.fileno(), False)

    def tell(self, event: str, particulars: Mapping[str, Any]) -> None:
        """Something has happened; returns at once, also where nobody listens any more."""
        title, text, urgency = words(event, particulars)
        line = json.dumps({"title": title, "text": text, "urgency": urgency}).encode() + b"\n"
        stream = self._process.stdin
        if stream is not None:
            with suppress(OSError, ValueError):
                os.write(stream.fileno(), line)

    def finish(self) -> None:
        """No more will come; what has been told is still shown, by a desktop that is too slow after this returns."""
        if self._process.stdin is not None:
            with suppress(OSError):
                self._process.stdin.close()
        with suppress(subprocess.TimeoutExpired):
            self._process.wait(END_SECONDS)


def words(event: str, particulars: Mapping[str, Any]) -> tuple[str, str, int]:
    """Title, text and urgency for an event that hooks get as well."""
    name, why = str(particulars.get("profile", "")), str(particulars.get("why", "")).rstrip(".")
    guarded = bool(particulars.get("guarded"))
    place = ", ".join(str(particulars[key]) for key in ("city", "country") if particulars.get(key))
    where = f"Gateway {particulars.get('gateway_address', '')}" + (f" ({place})." if place else ".")
    held = "Nothing leaves this machine until it is back." if guarded else "Traffic may leave beside it."
    texts = {
        "up": (f"Tunnel {name} is up", where, NORMAL),
        "back": (f"Tunnel {name} is back", where, NORMAL),
        "lost": (f"Tunnel {name} is lost", f"{why}. {held}", CRITICAL),
        "down": (f"Tunnel {name} has ended", f"{why}.", NORMAL),
        "changed": (f"Tunnel {name}: verified, and something has changed", f"{why}.", NORMAL),
        "blocked": (f"Tunnel {name} has ended", f"{why}. Nothing leaves until `zesty disconnect` opens it.", CRITICAL),
    }
    title, text, urgency = texts.get(event, (f"Tunnel {name}: {event}", why, NORMAL))
    return title, text[:MAX_TEXT], urgency


def show(bus: str, title: str, text: str, urgency: int) -> None:
    """One notification. Raises ``OSError``."""
    body: tuple[Any, ...] = (
        PROGRAM,
        0,
        "",
        title,
        escape(text, quote=False),
        [],
        {"urgency": ("y", urgency)},
        AS_THE_DESKTOP_LIKES,
    )
    call_service(bus, NOTIFICATIONS, ("Notify", "susssasa{sv}i", body))


def become(user: int) -> None:
    """Give up every right but a user's, for good."""
    if user == os.geteuid():
        return
    try:
        group = pwd.getpwuid(user).pw_gid
    except KeyError:
        group = user
    os.setgroups([])
    os.setresgid(group, group, group)
    os.setresuid(user, user, user)


def main(bus: str, user: int) -> None:
    """Show what comes on standard input until it ends; a desktop that refuses one is tried again with the next."""
    # Loaded before: the user may not be allowed to read where this program lies.
    for name in ("jeepney", "jeepney.bus", "jeepney.io.blocking"):
        importlib.import_module(name)
    become(user)
    for line in sys.stdin:
        document = json.loads(line)
        with suppress(OSError):
            show(bus, document["title"], document["text"], document["urgency"])


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]))
