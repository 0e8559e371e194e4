"""A tunnel as it goes on, for a terminal that is drawn again and again; and in one line, for status bars."""

from __future__ import annotations

from collections import deque
from typing import TYPE_CHECKING

from zesty_burrow.report.findings import findings_table
from zesty_burrow.report.layout import Column, Indented, Table, Text
from zesty_burrow.report.parts import Parts, plural
from zesty_burrow.report.texts.status import (
    beside,
    guard_words,
    headline,
    loss_words,
    octets,
    span,
    watch_words,
)

if TYPE_CHECKING:
    from zesty_burrow.carrier.control.status import TunnelStatus
    from zesty_burrow.report.results.status import StatusResult

HEIGHTS = " \u2581\u2582\u2583\u2584\u2585\u2586\u2587\u2588"
"""From nothing to full: U+2581 to U+2588."""
POINTS = 40
MAX_LOSSES = 4


def curve(values: list[float]) -> str:
    """A line of bars, the highest value as high as it goes; one that is not nothing is never shown as nothing."""
    top = max(values, default=0.0)
    if top <= 0:
        return HEIGHTS[1] * len(values)
    return "".join(HEIGHTS[max(1, round(value / top * (len(HEIGHTS) - 1)))] for value in values)


class Rates:
    """Octets a second, from totals that are looked at again and again."""

    def __init__(self) -> None:
        self._last: tuple[float, int, int] | None = None
        self.into: deque[float] = deque([0.0] * POINTS, POINTS)
        self.out: deque[float] = deque([0.0] * POINTS, POINTS)

    def add(self, now: float, octets_in: int, octets_out: int) -> None:
        """Totals at a moment, in seconds of any clock. Totals that have become less belong to another tunnel."""
        if self._last is not None and now > self._last[0]:
            before, was_in, was_out = self._last
            self.into.append(max(octets_in - was_in, 0) / (now - before))
            self.out.append(max(octets_out - was_out, 0) / (now - before))
        self._last = now, octets_in, octets_out


def live_view(result: StatusResult, rates: Rates) -> Parts:
    status = result.tunnel
    yield from headline(result)
    if status is not None:
        yield ""
        table = Table(Column(whole=True, style="dim"), Column(whole=True), Column(right=True, whole=True), Column())
        for label, values, total, packets in (
            ("in", rates.into, status.octets_in, status.packets_in),
            ("out", rates.out, status.octets_out, status.packets_out),
        ):
            table.add_row(
                label,
                Text(curve(list(values)), "cyan"),
                Text(f"{octets(values[-1])}/s", "bold"),
                f"{octets(total)} in all, {plural(packets, 'packet')}",
            )
        yield Indented(table, 8)
        yield ""
        rows = Table(Column(whole=True, style="dim"), Column())
        for label, value in _facts(status, result):
            rows.add_row(label, Text(value))
        yield Indented(rows, 8)
    for other in result.others:
        yield ""
        yield from beside(other)
    if result.findings:
        yield ""
        yield from findings_table(result.findings)
    yield ""
    yield Text("q leaves; the tunnel goes on.", "dim")


def _facts(status: TunnelStatus, result: StatusResult) -> list[tuple[str, str]]:
    trip = f"{status.round_trip * 1000:.1f} ms, the quickest" if status.round_trip else "not known"
    heard = (
        "not yet" if status.last_heard < 0 else f"{status.last_heard:.0f} s ago" if status.last_heard >= 1 else "now"
    )
    renewed = [
        plural(count, name)
        for count, name in (
            (status.rekeys, "rekey"),
            (status.reconnects, "reconnect"),
            (status.address_changes, "address change"),
            (status.sign_ins_repeated, "repeated sign-in"),
        )
        if count
    ]
    rows = [
        ("profile", f"{status.profile}, up for {span(status.seconds_up)}"),
        ("gateway", f"{status.gateway} at {status.gateway_address} {status.over}"),
        ("round trip", trip),
        ("last heard", heard),
        (
            "rejected",
            f"{plural(status.rejected, 'datagram')} not authentic, {plural(status.dropped, 'packet')} dropped",
        ),
        ("renewed", ", ".join(renewed) or "nothing yet"),
        ("guard", guard_words(result.guard) if result.guard else "none"),
        ("packet watch", watch_words(status.watch)),
    ]
    return rows + [
        ("lost" if not number else "", loss_words(row)) for number, row in enumerate(status.losses[-MAX_LOSSES:])
    ]


def one_line(result: StatusResult) -> str:
    """How it stands, for a status bar or a prompt: plain, and always of one form."""
    status = result.tunnel
    if status is None:
        held = [share.what for share in result.guard.shares.values()] if result.guard else []
        return " ".join([str(result.condition), *held])
    volume = f"in {octets(status.octets_in)} out {octets(status.octets_out)}"
    names = "+".join(one.profile for one in (status, *result.others))
    return f"{result.condition} {names} {span(status.seconds_up)} {volume}"
