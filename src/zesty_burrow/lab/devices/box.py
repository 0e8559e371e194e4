"""The set-top box ``shearwater``: it runs this program, has four keys and a small screen, and no keyboard."""

from __future__ import annotations

import asyncio
import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

from zesty_burrow.errors import StateError, UsageError, printable
from zesty_burrow.host.paths import HOME_VARIABLE
from zesty_burrow.lab import story
from zesty_burrow.lab.devices import faults as every_device
from zesty_burrow.lab.devices.screen import KEYS, Screen

PROGRAM = str(Path(sys.executable).with_name("zesty"))
PATIENCE = 60.0
"""Seconds for a command of the program."""
MENU = (
    ("Ask to be enrolled", "enrol"),
    ("Fetch profile", "fetch"),
    ("Tunnel on", "on"),
    ("Tunnel off", "off"),
    ("Check for leaks", "check"),
)


class Box:
    """``home``: where its own files lie; the authority of the administrator's server is beside it."""

    def __init__(self, home: Path) -> None:
        self._home = home
        self.faults: frozenset[str] = frozenset()
        self.screen = Screen(MENU)
        self._lock = asyncio.Lock()

    def set_faults(self, request: dict[str, Any]) -> dict[str, Any]:
        """Inject these faults from now on, and no others."""
        before, self.faults = self.faults, frozenset(request["faults"])
        every_device.set_network(story.BOX, before, self.faults)
        every_device.set_clock(self._home, self.faults)
        return self.status()

    def status(self) -> dict[str, Any]:
        """For ``lab status``."""
        return {"faults": sorted(self.faults), "note": "", "screen": list(self.screen.lines())}

    async def press(self, request: dict[str, Any]) -> dict[str, Any]:
        """Keys, one after the other; each waits for what the one before has begun."""
        keys = [str(key) for key in request["keys"]]
        if unknown := set(keys) - set(KEYS):
            raise UsageError(f"the box has no key {min(unknown)!r:.20}", why=f"it has {', '.join(KEYS)}")
        async with self._lock:
            for key in keys:
                action = self.screen.press(key)
                if action:
                    await self._act(action)
        return self.status()

    async def _act(self, action: str) -> None:
        try:
            lines, agreeing = await ACTIONS[action](self)
        except StateError as problem:
            lines, agreeing = [problem.what, problem.why], ""
        self.screen.show([printable(line) for line in lines if line], agreeing)

    async def _enrol(self) -> tuple[list[str], str]:
        own = ("--name", story.BOX, "--kind", "box", "--to", story.LINKS_URL, *self._authority())
        made = await self._run("enrol", *own)
        return ["Compare this code:", *_code(made["code"])], ""

    async def _fetch(self) -> tuple[list[str], str]:
        made = await self._run("receive", "--from", story.LINKS_URL, *self._authority())
        if made["state"] != "waiting":
            return ["Imported:", *made["profiles"]], ""
        return [*made["profiles"], *_code(made["administrator"]), "OK take, BACK leave"], "agree"

    async def _agree(self) -> tuple[list[str], str]:
        """What was shown, and not what may wait on the server by now; fetching again confirms it to the server."""
        await self._run("receive", "--agree")
        return await self._fetch()

    async def _on(self) -> tuple[list[str], str]:
        rows = (await self._run("list"))["profiles"]
        if not rows:
            raise StateError("no profile", why="fetch one first")
        up = await self._run("connect", rows[0]["name"], "--detach")
        return ["The tunnel is on:", str(up["tunnel"]["profile"])], ""

    async def _off(self) -> tuple[list[str], str]:
        await self._run("disconnect")
        return ["The tunnel is off."], ""

    async def _check(self) -> tuple[list[str], str]:
        """Reported where the administrator wants reports."""
        try:
            seen = await self._run("report")
        except StateError as problem:
            if problem.slug != "state":
                raise
            seen = await self._run("verify")
        return [str(seen["verdict"]), *([f"sent: {seen['sent']}"] if "sent" in seen else [])], ""

    def _authority(self) -> tuple[str, str]:
        return "--authority", str(self._home.parent / story.LINKS_AUTHORITY)

    async def _run(self, *words: str) -> dict[str, Any]:
        """The program's document. Raises :class:`StateError` with what it says of an error."""
        own = {HOME_VARIABLE: str(self._home), "PYTHONPATH": str(every_device.clock_folder(self._home))}
        line = [PROGRAM, "--json", *words]
        try:
            ended = await asyncio.to_thread(
                subprocess.run, line, env={**os.environ, **own}, stdin=subprocess.DEVNULL, capture_output=True,
                timeout=PATIENCE,
            )  # fmt: skip
            found = json.loads(ended.stdout)
        except subprocess.TimeoutExpired:
            raise StateError("no answer from the program") from None
        except ValueError:
            raise StateError("the program has said nothing", why=f"exit code {ended.returncode}") from None
        if found.get("result") == "error":
            raise StateError(str(found["what"]), why=str(found["why"]), slug=str(found["code"]))
        return dict(found)


ACTIONS: dict[str, Any] = {
    "enrol": Box._enrol,
    "fetch": Box._fetch,
    "agree": Box._agree,
    "on": Box._on,
    "off": Box._off,
    "check": Box._check,
}


def _code(text: str) -> list[str]:
    """In two lines of whole groups."""
    groups = text.split("-")
    middle = (len(groups) + 1) // 2
    return ["-".join(groups[:middle]) + "-", "-".join(groups[middle:])]
