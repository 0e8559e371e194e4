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
    name = f" {result.status.profile}" if result.beside else ""
    process = result.status.process
    yield Text(f"        The tunnel continues in the background (process {process}); end it: zesty disconnect{name}")


def _ended(result: EndResult) -> Parts:
    yield f"The tunnel has ended ({result.end.reason}). {_put_back(result.end.restored.done)}"
    yield from _left_alone(result.end.restored.left_alone)
    if result.end.closed:
        yield Text("The guard stays closed: nothing leaves this machine. Open it: zesty disconnect", style="yellow")


def _disconnected(result: DisconnectResult) -> Parts:
    if result.was_up:
        put_back = _put_back(result.restored) if result.told else "Its process did not say what it restored."
        yield f"The tunnel {result.profile} has ended. {put_back}"
    else:
        yield f"No tunnel was up; the guard that {result.profile} had left closed is open."
    yield from _left_alone(result.left_alone)
    for other in result.others:
        yield from _disconnected(other)
    for what in result.closed:
        yield Text(f"The guard stays closed: {what}.", style="yellow")


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
    if not any((result.restored.done, result.restored.left_alone, result.opened, result.put_back)):
        yield Text("Nothing to restore: no tunnel has left anything behind.")
        return
    if result.restored.done:
        yield Text("Restored:")
    for line in result.restored.done:
        yield Indented(Text(line))
    yield from _left_alone(result.restored.left_alone)
    for what in result.opened:
        yield Text(f"The guard that {what} had left closed is open.")
    if result.put_back:
        yield Text("The guard was missing from the packet filter and is set again.")


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {
    UpResult: _up,
    EndResult: _ended,
    DisconnectResult: _disconnected,
    RestoreResult: _restored,
}
