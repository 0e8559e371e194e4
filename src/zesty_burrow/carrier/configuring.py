"""From a profile to what the initiator needs: its configuration, and the gateway's addresses."""

from __future__ import annotations

import asyncio
import functools
import random
import socket
from collections.abc import Awaitable, Callable, Mapping, Sequence
from datetime import datetime
from typing import TypeVar

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat, load_pem_public_key

from zesty_burrow.core import trust
from zesty_burrow.core.credentials import AdditionalKey, Credentials, Kind, PreSharedKey
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.ike.config import EAP, EAP_TLS, InitiatorConfig
from zesty_burrow.core.ike.proofs import identity_of
from zesty_burrow.core.ike.redirect import MOST, PERIOD
from zesty_burrow.core.ike.registry import IdType
from zesty_burrow.core.ike.sa import Backoff
from zesty_burrow.core.ip import AddressRange
from zesty_burrow.core.profile.model import Profile, offers_of
from zesty_burrow.core.profile.text import PEM_MARK
from zesty_burrow.core.revocation import load_revocation_list_untrusted
from zesty_burrow.errors import GatewayElsewhere, GatewayUnreachable, ProfileInvalid

WHOLE_IPV4 = AddressRange(bytes(4), b"\xff" * 4)
WHOLE_IPV6 = AddressRange(bytes(16), b"\xff" * 16)


T = TypeVar("T")
Secrets = Mapping[Kind, Credentials]
"""What a profile signs in with, by kind."""


def initiator_config(
    profile: Profile,
    gateway: str,
    secrets: Secrets,
    wall_time: datetime,
    patience: float,
    redirected_from: str = "",
) -> InitiatorConfig:
    """A profile as the initiator wants it. Raises :class:`ProfileInvalid`."""
    ike, esp = offers_of(profile)
    identity, sign_in = profile.gateway_identity, profile.sign_in
    versions = {network.version for network in profile.traffic.networks}
    if profile.traffic.ipv6 != "tunnel":
        versions.discard(6)
    local = tuple(entry for entry in (WHOLE_IPV4, WHOLE_IPV6) if entry.version in versions)
    remote = tuple(AddressRange.of(entry) for entry in profile.traffic.networks if entry.version in versions)
    own = secrets[sign_in.needs[0]]
    shared, mixed = secrets.get(Kind.PRE_SHARED_KEY), secrets.get(Kind.ADDITIONAL_KEY)
    return InitiatorConfig(
        gateway=(gateway, profile.gateway.port),
        gateway_identity=identity,
        own_identity=_own_identity(profile, own),
        ike_offers=ike,
        esp_offers=esp,
        anchors=_anchors(profile),
        credentials=lambda: own,
        second=(lambda: secrets[sign_in.needs[1]]) if "+" in sign_in.method else None,
        wall_time=wall_time,
        local=local,
        remote=remote,
        backoff=Backoff(give_up=patience),
        revocation_lists=tuple(load_revocation_list_untrusted(pem.encode()) for pem in profile.revocation_lists),
        method=sign_in.method,
        proof=sign_in.gateway,
        gateway_key=(lambda: shared) if isinstance(shared, PreSharedKey) else None,
        gateway_keys=_gateway_keys(profile),
        additional=mixed if isinstance(mixed, AdditionalKey) and sign_in.additional_key != "none" else None,
        additional_required=sign_in.additional_key == "required",
        redirected_from=redirected_from,
        child_seconds=profile.tunnel.child_seconds,
        child_octets=profile.tunnel.child_octets,
        ike_seconds=profile.tunnel.ike_seconds,
    )


def _own_identity(profile: Profile, own: Credentials) -> Identity:
    """As the profile says; else the certificate's; else an anonymous one (RFC 7296 §3.5).

    With EAP it goes out before the gateway has proven itself: then a certificate's names stay where they are, and the
    method tells who we are (RFC 9190 §2.1.4).
    """
    sign_in = profile.sign_in
    anonymous = sign_in.outer_identity or f"anonymous@{profile.gateway_identity.value}"
    named = None if sign_in.method in (EAP, EAP_TLS) else identity_of(own)
    return sign_in.identity or named or Identity(IdType.ID_RFC822_ADDR, anonymous)


def _anchors(profile: Profile) -> tuple[x509.Certificate, ...]:
    found = [one for entry in profile.authorities if PEM_MARK in entry for one in _certificates(entry)]
    if not found and profile.sign_in.gateway in ("certificate", "eap"):
        raise ProfileInvalid(
            f"profile {profile.name} has no authority certificate",
            why="without one the gateway cannot prove who it is",
            next_step="Import the kit again with the authority's certificate beside the profile.",
        )
    return tuple(found)


@functools.lru_cache(maxsize=64)
def _certificates(pem: str) -> tuple[x509.Certificate, ...]:
    """Read once for all the profiles of a provider."""
    return tuple(trust.load_pem_certificates_untrusted(pem.encode()))


def _gateway_keys(profile: Profile) -> tuple[bytes, ...]:
    try:
        loaded = [load_pem_public_key(pem.encode()) for pem in profile.gateway_keys]
    except (ValueError, UnsupportedAlgorithm):
        raise ProfileInvalid(
            f"profile {profile.name}: trust.gateway_keys", why="a public key in it cannot be read"
        ) from None
    keys = tuple(one.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo) for one in loaded)
    if not keys and profile.sign_in.gateway == "raw-public-key":
        raise ProfileInvalid(
            f"profile {profile.name} names no raw public key of the gateway",
            why="without one the gateway cannot prove who it is",
            next_step="Add the gateway's public key under trust.gateway_keys and import the profile again.",
        )
    return keys


def resolve(profile: Profile) -> list[str]:
    """The gateway's addresses, in the profile's order. Raises :class:`GatewayUnreachable`."""
    names = list(profile.gateway.addresses)
    if profile.gateway.order == "random":
        random.SystemRandom().shuffle(names)
    return look_up(names, profile.gateway.port)


def look_up(names: Sequence[str], port: int) -> list[str]:
    """The addresses of names, in their order. Raises :class:`GatewayUnreachable`."""
    found: list[str] = []
    problems = []
    for name in names:
        try:
            rows = socket.getaddrinfo(name, port, type=socket.SOCK_DGRAM)
            found += [str(row[4][0]) for row in rows]
        except (OSError, UnicodeError) as problem:
            problems.append(f"{name}: {getattr(problem, 'strerror', None) or problem}")
    if not found:
        raise GatewayUnreachable(
            "the gateway's name cannot be resolved",
            why="; ".join(problems),
            next_step="Check that name resolution works here, and the gateway's name in the profile.",
            slug="gateway-unresolved",
        )
    return list(dict.fromkeys(found))


async def try_each(addresses: Sequence[str], port: int, attempt: Callable[[str, str], Awaitable[T]]) -> T:
    """``attempt(address, redirected_from)`` for each address in turn: only silence moves on to the next one.

    A gateway that sends us to another one is followed, a few times (RFC 5685 §7); the other has to prove the same.
    """
    waiting = [(address, "") for address in addresses]
    followed: list[float] = []
    while waiting:
        address, origin = waiting.pop(0)
        try:
            return await attempt(address, origin)
        except GatewayElsewhere as problem:
            now = asyncio.get_running_loop().time()
            followed = [*(one for one in followed if one > now - PERIOD), now]
            if len(followed) > MOST:
                raise
            waiting = [(found, address) for found in await asyncio.to_thread(look_up, [problem.to], port)]
        except GatewayUnreachable:
            if not waiting:
                raise
    raise GatewayUnreachable("the gateway has no address")
