"""Draws docs/states-*.svg from the transition tables: run it after a change to them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from enum import StrEnum
from html import escape
from pathlib import Path
from typing import Any

from zesty_burrow.carrier.supervision import states as supervisor
from zesty_burrow.protocols.connect_ip import table as connect_ip
from zesty_burrow.protocols.ikev2.initiator import table as initiator
from zesty_burrow.protocols.ikev2.responder import table as responder
from zesty_burrow.protocols.l2tp_ipsec import table as l2tp_ipsec
from zesty_burrow.protocols.pptp import table as pptp

HERE = Path(__file__).parent
TOP, STEP, LEFT, WIDTH, HEIGHT = 70, 92, 400, 190, 40
LANE = 44
Edge = tuple[str, str, str]
"""From, to, and what leads there."""


def edges_of(table: Mapping[Any, Any], states: type[StrEnum]) -> list[Edge]:
    """A line for each signal and target; what leads back to the same state is left out."""
    return [
        (str(state), str(target), str(signal))
        for (state, signal), row in table.items()
        for target in sorted(getattr(row, "targets", None) or [row], key=list(states).index)
        if target is not state
    ]


def draw(title: str, states: Iterable[str], edges: list[Edge]) -> str:
    """An SVG: states from top to bottom, ways past some of them on the left, ways to the end in words."""
    names = list(states)
    merged: dict[tuple[str, str], list[str]] = {}
    for start, end, label in edges:
        merged.setdefault((start, end), []).append(label)
    height = TOP + STEP * len(names)
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="1180" height="{height}" '
        f'viewBox="0 0 1180 {height}" font-family="DejaVu Sans, sans-serif" font-size="12">',
        f"<title>{escape(title)}</title>",
        '<defs><marker id="tip" markerWidth="9" markerHeight="7" refX="9" refY="3.5" orient="auto">'
        '<path d="M0,0 L9,3.5 L0,7 z" fill="#334"/></marker></defs>',
        '<rect width="100%" height="100%" fill="#ffffff"/>',
        f'<text x="24" y="34" font-size="18" font-weight="bold" fill="#223">{escape(title)}</text>',
    ]
    at = {name: TOP + STEP * index for index, name in enumerate(names)}
    last, lane = names[-1], 0
    for (start, end), labels in sorted(merged.items(), key=lambda row: abs(at[row[0][1]] - at[row[0][0]])):
        words = ", ".join(dict.fromkeys(labels))
        if at[end] - at[start] == STEP:
            parts += _down(at[start], at[end], words)
        elif end == last:
            # So many ways lead to the end that lines would hide the rest.
            parts.append(
                f'<text x="{LEFT + WIDTH + 14}" y="{at[start] + 25}" fill="#667">'
                f"to {escape(last)}: {escape(words)}</text>"
            )
        else:
            lane += 1
            parts += _around(at[start], at[end], words, lane)
    for name, y in at.items():
        parts.append(
            f'<rect x="{LEFT}" y="{y}" width="{WIDTH}" height="{HEIGHT}" rx="8" fill="#eef3fb" stroke="#345" '
            f'stroke-width="1.4"/><text x="{LEFT + WIDTH / 2}" y="{y + 25}" text-anchor="middle" font-weight="bold" '
            f'fill="#123">{escape(name)}</text>'
        )
    return "\n".join([*parts, "</svg>", ""])


HALO = 'stroke="#fff" stroke-width="4" paint-order="stroke"'
LINE = 'fill="none" stroke="#667" stroke-width="1.3" marker-end="url(#tip)"'


def _down(start: int, end: int, label: str) -> list[str]:
    """To the next state."""
    x = LEFT + WIDTH / 2
    text = f'<text x="{x + 8}" y="{start + HEIGHT + 30}" fill="#223">{escape(label)}</text>'
    return [f'<path d="M{x},{start + HEIGHT} L{x},{end}" {LINE}/>', text]


def _around(start: int, end: int, label: str, lane: int) -> list[str]:
    """Past other states, in a lane of its own on the left."""
    x = LEFT - 24 - LANE * lane
    y1, y2 = start + HEIGHT / 2 + 4 * (lane % 3), end + HEIGHT / 2 - 4 * (lane % 3)
    at = f'x="{x - 6}" y="{(y1 + y2) / 2 + 16 * (lane % 3)}"'
    text = f'<text {at} text-anchor="end" fill="#223" {HALO}>{escape(label)}</text>'
    return [f'<path d="M{LEFT},{y1} L{x},{y1} L{x},{y2} L{LEFT},{y2}" {LINE}/>', text]


def pictures() -> dict[str, str]:
    """File names and what is in them."""
    tables: tuple[tuple[str, str, type[StrEnum], Mapping[Any, Any]], ...] = (
        ("initiator", "The initiator (RFC 7296)", initiator.State, initiator.TRANSITIONS),
        ("responder", "The responder (RFC 7296)", responder.State, responder.TRANSITIONS),
        ("connect-ip", "A client of CONNECT-IP (RFC 9484)", connect_ip.State, connect_ip.TRANSITIONS),
        ("pptp", "A caller by PPTP (RFC 2637)", pptp.State, pptp.TRANSITIONS),
        ("l2tp-ipsec", "A caller by L2TP over IPsec (RFC 3193)", l2tp_ipsec.State, l2tp_ipsec.TRANSITIONS),
        ("supervisor", "A tunnel's supervisor", supervisor.TunnelState, supervisor.TRANSITIONS),
    )
    return {
        f"states-{name}.svg": draw(title, map(str, states), edges_of(table, states))
        for name, title, states, table in tables
    }


if __name__ == "__main__":
    for name, text in pictures().items():
        (HERE / name).write_text(text, encoding="utf-8")
