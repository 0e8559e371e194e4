"""Errors for a gateway that grants no tunnel, breaks the protocol, or does not answer."""

from __future__ import annotations

import re

from zesty_burrow.core.net import Endpoint
from zesty_burrow.errors import BurrowError, GatewayError, GatewayProtocolError, GatewayUnreachable, SignInRefused
from zesty_burrow.protocols.connect_ip.http.link import Answered
from zesty_burrow.protocols.connect_ip.table import State
from zesty_burrow.protocols.session import Transport

_CERTIFICATE_ALERT = re.compile(r"alert.*(certificate|unknown ca|access denied)", re.IGNORECASE)
"""RFC 8446 §6.2: what a server says of a client's certificate, after the handshake is complete for the client."""


def refusal(host: str, path: str, answer: Answered) -> BurrowError:
    """For an answer that grants no tunnel (RFC 9110 §15)."""
    status = answer.status
    if status in (401, 403):
        return SignInRefused(f"the gateway {host} refused the sign-in", why=f"HTTP status {status}")
    if 300 <= status < 400:
        where = answer.headers.get("location", "another place")
        why = f"HTTP status {status}: it names {where!r:.120}; credentials are not taken to another place"
    elif status in (404, 405, 501):
        why = f"HTTP status {status}: there is no tunnel at {path}"
    else:
        why = f"HTTP status {status}"
    return GatewayError(f"the gateway {host} grants no tunnel", why=why)


def protocol_error(host: str, state: State, why: str) -> BurrowError:
    """For a negotiation that broke off."""
    if state is State.SIGN_IN and _CERTIFICATE_ALERT.search(why):
        return SignInRefused(f"the gateway {host} refused the sign-in", why=why)
    return GatewayProtocolError(f"the gateway {host} broke the negotiation off", why=why)


def unreachable(peer: Endpoint, transport: Transport, why: str) -> GatewayUnreachable:
    host, port = peer
    over = "UDP" if transport is Transport.DATAGRAMS else "TCP"
    step = f"Try another place, and check that {over} port {port} may leave this network."
    return GatewayUnreachable(f"the gateway {host} ({over} port {port}) does not answer", why=why, next_step=step)
