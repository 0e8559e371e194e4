"""What devices ask of their administrator's server, over HTTPS."""

from __future__ import annotations

import http.client
import ssl
from urllib.parse import urlsplit

from zesty_burrow.errors import OutsideError

LONGEST = 8 << 20


class NotReached(OutsideError):
    """It may be asked again later."""

    slug = "server-not-reached"
    next_step = "Check the network and the URL; then run the command again."


def ask_server(method: str, url: str, authority: str, data: bytes | None, timeout: float) -> tuple[int, bytes]:
    """Status and body. ``authority``: PEM, where the server's is not one of the system's. No redirect is followed."""
    parts = urlsplit(url)
    context = ssl.create_default_context(cadata=authority or None)
    connection = http.client.HTTPSConnection(parts.hostname or "", parts.port, timeout=timeout, context=context)
    try:
        connection.request(method, parts.path, data, {"Content-Type": "application/json"} if data is not None else {})
        with connection.getresponse() as answer:
            body = answer.read(LONGEST)
    except ssl.SSLCertVerificationError as problem:
        step = "Name the authority that has signed it: --authority FILE (PEM)."
        if authority:
            step = "Its certificate is by another authority than the one that was named: check --authority FILE."
        raise NotReached(
            f"{parts.hostname} does not prove who it is", why=problem.verify_message, next_step=step
        ) from None
    except (OSError, http.client.HTTPException, ValueError) as problem:
        raise NotReached(f"{url} cannot be asked", why=str(problem) or type(problem).__name__) from None
    finally:
        connection.close()
    return answer.status, body
