"""``zesty`` alone: where things stand, and what comes next."""

from __future__ import annotations

import os
import sys

from zesty_burrow.host.paths import find_paths, machine_paths, running_as_root
from zesty_burrow.use_cases.overview import look_around
from zesty_burrow.use_cases.workspace import CALLER_VARIABLE, Workspace

TYPE_CHECKING = False
if TYPE_CHECKING:
    from argparse import Namespace
    from typing import Any

    from zesty_burrow.commands.context import Context
    from zesty_burrow.report.results.status import OverviewResult


def run(_: Namespace, context: Context) -> OverviewResult:
    """A short look; nothing is changed."""
    from zesty_burrow.report.results.status import OverviewResult

    return OverviewResult(look_around(context))


def show_quickly() -> bool:
    """The same, without what other commands need. False where anything is not as usual: then nothing was printed."""
    from zesty_burrow.report.layout import Console
    from zesty_burrow.report.overview_lines import overview_parts

    if sys.stdout is None or sys.stdout.errors is None:
        return False
    try:
        # Nobody is asked anything here: where it takes a question, an error leads to the complete start.
        nobody: Any = None
        paths = find_paths(os.environ, root=running_as_root())
        caller = os.environ.get(CALLER_VARIABLE, "")
        parts = overview_parts(look_around(Workspace(paths, machine_paths(os.environ), nobody, caller=caller)))
        sys.stdout.reconfigure(errors="replace")  # type: ignore[union-attr]
        Console(sys.stdout).print_all(parts)
    except Exception:  # the complete start prints the error
        return False
    return True
