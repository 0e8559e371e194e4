"""Profiles as a list."""

from __future__ import annotations

from typing import Any, ClassVar

from zesty_burrow.records import dataclass
from zesty_burrow.report.results.base import Result


@dataclass(frozen=True)
class ListResult(Result):
    """``list``; each row has ``for``: whose store it is in, ``lacks``: what it cannot work without, in words,
    ``tunnel``: the state of its tunnel, and ``attention``: codes of what needs attention, if that was asked for.
    ``asked``: not all are wanted.
    """

    profiles: tuple[dict[str, str], ...]
    asked: bool = False
    shown_by: ClassVar[str] = "listing"
    kind: ClassVar[str] = "profiles"

    def content(self) -> dict[str, Any]:
        return {"profiles": list(self.profiles)}


@dataclass(frozen=True)
class StartupResult(Result):
    """``startup``: what the machine starts, each with ``what``, ``path``, ``enabled`` and ``when``."""

    units: tuple[dict[str, Any], ...]
    shown_by: ClassVar[str] = "listing"
    kind: ClassVar[str] = "startup"
