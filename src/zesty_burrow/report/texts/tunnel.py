"""A tunnel that came up or has ended, as text for people."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from zesty_burrow.report.layout import Indented, Text
from zesty_burrow.report.parts import Parts
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.tunnel import DisconnectResult, EndResult, RestoreResult, UpResult
from zesty_burrow.report.texts.status import up_lines


def _up(result: UpResult) -> Parts:
    yield from up_lines(result.status)
    yield Text(
        f"        The tunnel continues in the background (process {result.status.process}); end it: zesty disconnect"
    )


def _ended(result: EndResult) -> Parts:
    yield f"The tunnel has ended ({result.end.reason}). {_put_back(result.end.restored.done)}"
    yield from _left_alone(result.end.restored.left_alone)


def _disconnected(result: DisconnectResult) -> Parts:
    put_back = _put_back(result.restored) if result.told else "Its process did not say what it restored."
    yield f"The tunnel {result.profile} has ended. {put_back}"
    yield from _left_alone(result.left_alone)


def _put_back(done: Sequence[str]) -> str:
    """Rules and routes are counted; the JSON document names each of them."""
    removed = []
    for start, one, several in (("rule ", "routing rule", "routing rules"), ("route to ", "route", "routes")):
        count = sum(line.startswith(start) for line in done)
        removed += [f"{count} {one if count == 1 else several}"] if count else []
    removed += [line for line in done if line.startswith("device ")]
    files = [line for line in done if not line.startswith(("rule ", "route to ", "device "))]
    sentences = [f"{verb}: {', '.join(what)}." for verb, what in (("Removed", removed), ("Restored", files)) if what]
    return " ".join(sentences) or "Nothing had to be restored."


def _left_alone(paths: Sequence[str]) -> Parts:
    for path in paths:
        yield Text(f"{path} was changed by another program and was left unchanged.", style="yellow")


def _restored(result: RestoreResult) -> Parts:
    if not result.restored.done and not result.restored.left_alone:
        yield Text("Nothing to restore: no tunnel has left anything behind.")
        return
    yield Text("Restored:")
    for line in result.restored.done:
        yield Indented(Text(line))
    yield from _left_alone(result.restored.left_alone)


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {
    UpResult: _up,
    EndResult: _ended,
    DisconnectResult: _disconnected,
    RestoreResult: _restored,
}
