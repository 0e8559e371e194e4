"""Sends a report over HTTPS."""

from __future__ import annotations

import http.client

from zesty_burrow.fleet.https_client import NotReached, ask_server


class Unsent(Exception):
    """It may be sent later."""


class Refused(Exception):
    """The server will not take it, however often it comes."""


def send_report(url: str, authority: str, data: bytes, timeout: float) -> None:
    """POST to ``URL/r``. ``authority``: PEM, where the server's is not one of the system's."""
    try:
        status, _ = ask_server("POST", f"{url.rstrip('/')}/r", authority, data, timeout)
    except NotReached as problem:
        raise Unsent(problem.why) from None
    if status in (400, 403, 413):
        raise Refused(f"HTTP status {status}")
    if status != http.client.OK:
        raise Unsent(f"HTTP status {status}")
