"""What a command is given besides its options."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

from zesty_burrow.records import dataclass, field
from zesty_burrow.use_cases.workspace import Workspace

if TYPE_CHECKING:
    from zesty_burrow.report.reporter import Reporter


@dataclass(frozen=True, kw_only=True)
class Context(Workspace):
    """A workspace on a terminal. ``reporter``: prints; ``program``: runs another command line in this process."""

    environment: Mapping[str, str]
    reporter: Reporter
    program: Callable[[list[str]], int] = field(default=lambda _: 1)
