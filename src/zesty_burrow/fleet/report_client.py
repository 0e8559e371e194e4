"""Sends a report over HTTPS."""

from __future__ import annotations

import http.client
import ssl
from urllib.parse import urlsplit


class Unsent(Exception):
    """It may be sent later."""


class Refused(Exception):
    """The server will not take it, however often it comes."""


def send_report(url: str, authority: str, data: bytes, timeout: float) -> None:
    """POST to ``URL/r``. ``authority``: PEM, where the server's is not one of the system's. No redirect is followed."""
    parts = urlsplit(url)
    context = ssl.create_default_context(cadata=authority or None)
    connection = http.client.HTTPSConnection(parts.hostname or "", parts.port, timeout=timeout, context=context)
    try:
        connection.request("POST", f"{parts.path.rstrip('/')}/r", data, {"Content-Type": "application/json"})
        with connection.getresponse() as answer:
            answer.read(1 << 16)
    except (OSError, http.client.HTTPException, ValueError) as problem:
        raise Unsent(str(problem) or type(problem).__name__) from None
    finally:
        connection.close()
    if answer.status in (400, 403, 413):
        raise Refused(f"HTTP status {answer.status}")
    if answer.status != http.client.OK:
        raise Unsent(f"HTTP status {answer.status}")
