"""A gateway sends its caller to another one (RFC 5685). Who the other must prove to be does not change (§3)."""

from __future__ import annotations

import ipaddress
from collections.abc import Mapping

from zesty_burrow.core.cursor import Cursor
from zesty_burrow.errors import GatewayElsewhere, Malformed
from zesty_burrow.protocols.ikev2.wire.payloads import Notify
from zesty_burrow.protocols.ikev2.wire.registry import NotifyType

IPV4, IPV6, FQDN = 1, 2, 3
"""RFC 5685 §9.2: kinds of gateway identity."""


def write_redirect(to: str, nonce: bytes = b"") -> Notify:
    """A REDIRECT to an address or a name, with the caller's nonce in IKE_SA_INIT."""
    return Notify(NotifyType.REDIRECT, _identity(to) + nonce)


def redirected_from(gateway: str) -> Notify:
    """Who has sent us here (§9.3)."""
    return Notify(NotifyType.REDIRECTED_FROM, _identity(gateway))


def _identity(gateway: str) -> bytes:
    try:
        address = ipaddress.ip_address(gateway)
    except ValueError:
        kind, octets = FQDN, gateway.encode("ascii")
    else:
        kind, octets = (IPV4 if address.version == 4 else IPV6), address.packed
    return bytes((kind, len(octets))) + octets


def read_redirect_untrusted(told: Mapping[int, Notify], nonce: bytes | None) -> str | None:
    """Where a REDIRECT leads, or None without one. Raises :class:`Malformed`.

    ``nonce``: ours, which the gateway must repeat in IKE_SA_INIT; None where the message is protected.
    """
    entry = told.get(NotifyType.REDIRECT)
    if entry is None:
        return None
    cursor = Cursor(entry.data, "a REDIRECT")
    kind, size = cursor.u8(), cursor.u8()
    octets = cursor.take(size)
    repeated = cursor.rest()
    if nonce is not None and repeated != nonce:
        # §3: a sender that has not seen our nonce must not redirect us.
        raise Malformed("a REDIRECT was dropped", why="it does not repeat our nonce")
    if (kind, size) in ((IPV4, 4), (IPV6, 16)):
        return str(ipaddress.ip_address(octets))
    if kind != FQDN or not 0 < size <= 253:
        raise cursor.fail(f"identity of kind {kind} and {size} octets")
    name = octets.decode("ascii", "replace").lower()
    if not all(letter.isascii() and (letter.isalnum() or letter in "-.") for letter in name):
        raise cursor.fail("its name is no host name")
    return name


def sent_elsewhere(gateway: str, to: str, *, proven: bool = True) -> GatewayElsewhere:
    """The error that a caller follows, or shows where it does not. ``proven``: the gateway has shown who it is."""
    return GatewayElsewhere(f"the gateway {gateway} sends its callers to {to}", to, proven=proven)
