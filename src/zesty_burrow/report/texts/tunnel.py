"""A tunnel that came up or has ended, as text for people."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zesty_burrow.report.layout import Indented, Text
from zesty_burrow.report.parts import Parts
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.tunnel import DisconnectResult, EndResult, RestoreResult, UpResult
from zesty_burrow.report.texts.status import up_line


def _up(result: UpResult) -> Parts:
    yield up_line(result.status)
    yield Text(
        f"        The tunnel continues in the background (process {result.status.process}); end it: zesty disconnect"
    )


def _ended(result: EndResult) -> Parts:
    yield Text(f"The tunnel has ended ({result.end.reason}); its settings on this machine were removed.")
    for path in result.end.restored.left_alone:
        yield Text(f"{path} was changed by another program and was left unchanged.", style="yellow")


def _disconnected(result: DisconnectResult) -> Parts:
    yield Text(f"The tunnel {result.profile} has ended; its settings on this machine were removed.")


def _restored(result: RestoreResult) -> Parts:
    if not result.restored.done and not result.restored.left_alone:
        yield Text("Nothing to restore: no tunnel has left anything behind.")
        return
    yield Text("Restored:")
    for line in result.restored.done:
        yield Indented(Text(line))
    for path in result.restored.left_alone:
        yield Text(f"{path} was changed by another program and was left unchanged.", style="yellow")


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {
    UpResult: _up,
    EndResult: _ended,
    DisconnectResult: _disconnected,
    RestoreResult: _restored,
}
