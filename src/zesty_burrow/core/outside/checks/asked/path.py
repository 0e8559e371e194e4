"""The path to the outside: round trip, loss, the largest packet, fragments. Padded STUN (RFC 5780 §3.5, §7.6)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.outside import stun
from zesty_burrow.core.outside.checks.asked.versions import both, by_version
from zesty_burrow.core.outside.checks.check import Check, Evidence, Facts, Questions, Row
from zesty_burrow.core.outside.observation import Observation

KEY = "path"
SMALL, COUNT, MORE = 200, 10, 40
"""Octets of a packet of the series, how many are sent, and how many where more is asked than usual."""
SIZES = (576, *range(1280, 1501, 20))
FRAGMENTED = 2000
LEAST = 1280
"""What every path of IPv6 carries whole (RFC 8200 §5), and nearly every one of IPv4."""
CODES = (
    Code("path-loss", Severity.WARNING, "Packets to the outside get lost.",
         "Programs wait and send again.", "Look at the link (`zesty status`); try another gateway."),
    Code("path-narrow", Severity.WARNING, "The path carries only small packets whole.",
         "Connections may hang once they carry much.",
         "Set tunnel.mtu in the profile to the largest size that was answered.",
         "RFC 8200 §5"),
    Code("fragments-lost", Severity.NOTE, "Packets in fragments do not come back.",
         "Long answers over UDP get lost, unless programs use TCP.", "Nothing to do.", "RFC 8900 §3"),
)  # fmt: skip


def _ask(questions: Questions, _seen: Observation) -> Evidence:
    told = questions.about.get("stun_port")
    port = told if isinstance(told, int) and 0 < told < 65536 else stun.PORT
    count = MORE if questions.extended else COUNT
    rows = both(questions, lambda version: _of(questions, version, port, count))
    return {KEY: {str(version): row for version, row in rows.items() if row}}


def _of(questions: Questions, version: int, port: int, count: int) -> dict[str, Any]:
    """One series of small packets with the large ones behind them; nothing where no small one was answered."""
    back = questions.padded(version, port, (*[SMALL] * count, *SIZES), whole=True)
    small, large = back[:count], back[count:]
    known = [seconds for seconds in small if seconds is not None]
    if not known:
        return {}
    fragmented = questions.padded(version, port, [FRAGMENTED] * 3, whole=False)
    return {
        "sent": count,
        "back": len(known),
        # The quickest: the others have waited for this machine as well.
        "round_trip_ms": round(1000 * min(known), 2),
        "largest": max((size for size, seconds in zip(SIZES, large, strict=True) if seconds is not None), default=0),
        "fragments": any(seconds is not None for seconds in fragmented),
    }


def _judge(facts: Facts) -> Iterator[Finding]:
    if not facts.after.reached:
        return
    for label, row in by_version(facts.after, KEY):
        if row["back"] < row["sent"]:
            yield finding("path-loss", label, f"{row['sent'] - row['back']} of {row['sent']} did not come back")
        if row["largest"] < LEAST:
            detail = f"the largest that was answered has {row['largest'] or SMALL} octets"
            yield finding("path-narrow", label, detail)
        if not row["fragments"]:
            yield finding("fragments-lost", label, f"a datagram of {FRAGMENTED} octets")


def _words(row: Mapping[str, Any] | None) -> tuple[str, str]:
    if not row:
        return "unknown", "unknown"
    lost = row["sent"] - row["back"]
    trip = f"{row['round_trip_ms']:.3g} ms; {lost} of {row['sent']} lost"
    fragments = "fragments pass" if row["fragments"] else "no fragments"
    return trip, f"{row['largest'] or f'under {SIZES[0]}'} octets; {fragments}"


def _rows(before: Observation, after: Observation) -> Iterator[Row]:
    old, new = (dict(by_version(side, KEY)) for side in (before, after))
    for label in ("IPv4", "IPv6"):
        if label in old or label in new:
            (trip, size), (trip_now, size_now) = _words(old.get(label)), _words(new.get(label))
            yield f"{label} round trip", trip, trip_now
            yield f"{label} largest packet", size, size_now


CHECK = Check("path", CODES, judge=_judge, looks_at="the path: loss, size of packets", ask=_ask, rows=_rows)
