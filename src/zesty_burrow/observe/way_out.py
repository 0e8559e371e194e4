"""Whether this machine reaches the outside as it is: an observatory's own answer, or somebody else's in its place."""

from __future__ import annotations

import http.client
import json
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime

from zesty_burrow.host.readiness.check import Readiness, ReadinessCheck
from zesty_burrow.observe.channel import MAX_BODY, ObservatoryAddress, connect

MOST_OFF = 120.0
"""Seconds that clocks may differ."""
PORTAL = "a page that asks for something first"


def look_at_way_out(address: ObservatoryAddress, now: datetime) -> list[ReadinessCheck]:
    """Two checks: who answers, and whether the answer's clock is ours (RFC 9110 §6.6.1)."""
    why = "Some networks answer everything themselves until somebody has signed in on their page."
    try:
        status, body, stamp = _ask(address)
    except (OSError, http.client.HTTPException) as problem:
        if _page_in_its_place(address):
            return [_portal(address)]
        words = f"{address.host} does not answer ({problem})"
        return [ReadinessCheck("way out", Readiness.ATTENTION, words, why, "Try another network.")]
    if not _is_observatory(status, body):
        return [_portal(address)]
    return [ReadinessCheck("way out", Readiness.READY, f"{address.host} answers"), *_clock(stamp, now, address.host)]


def _ask(address: ObservatoryAddress) -> tuple[int, bytes, str]:
    """Status, content and the time that it says. Raises ``OSError`` or ``http.client.HTTPException``."""
    connection = connect(address, address.host)
    try:
        connection.request("GET", "/v1", headers={"Host": address.host})
        answer = connection.getresponse()
        return answer.status, answer.read(MAX_BODY), answer.getheader("Date", "")
    finally:
        connection.close()


def _page_in_its_place(address: ObservatoryAddress) -> bool:
    """Whether somebody else answers for it by plain HTTP: networks that want a sign-in cannot do so by HTTPS."""
    if not address.tls:
        return False
    try:
        status, body, _ = _ask(ObservatoryAddress(address.host))
    except (OSError, http.client.HTTPException):
        return False
    return not _is_observatory(status, body)


def _portal(address: ObservatoryAddress) -> ReadinessCheck:
    why = "Some networks answer everything themselves until somebody has signed in on their page."
    remedy = "Sign in on that page in a browser; under the guard: zesty guard portal."
    return ReadinessCheck("way out", Readiness.ATTENTION, f"{address.host} is answered by {PORTAL}", why, remedy)


def _is_observatory(status: int, body: bytes) -> bool:
    try:
        document = json.loads(body)
    except ValueError:
        return False
    return status == 200 and isinstance(document, dict) and "probe_zone" in document


def _clock(stamp: str, now: datetime, host: str) -> list[ReadinessCheck]:
    try:
        there = parsedate_to_datetime(stamp)
    except ValueError:
        return []
    off = (now - (there if there.tzinfo else there.replace(tzinfo=UTC))).total_seconds()
    why = "Certificates are judged by it: with a wrong one every gateway seems false."
    if abs(off) > MOST_OFF:
        words = f"{abs(off):.0f} s {'ahead of' if off > 0 else 'behind'} {host}"
        return [
            ReadinessCheck(
                "clock beside others", Readiness.ATTENTION, words, why, "Set the clock, if that one is right (date -s)."
            )
        ]
    return [ReadinessCheck("clock beside others", Readiness.READY, f"as {host}'s, within {MOST_OFF:.0f} s")]
