"""A gateway's addresses: looking them up, and trying one after the other."""

from __future__ import annotations

import asyncio
import hashlib
import random
import socket
from collections import deque
from collections.abc import Awaitable, Callable, Iterable, Sequence
from typing import TypeVar

from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import GatewayElsewhere, GatewayUnreachable
from zesty_burrow.records import replace

T = TypeVar("T")
MAX_REDIRECTS = 5
REDIRECT_PERIOD = 300.0
"""RFC 5685 §7: so many redirects within so many seconds are taken for a loop."""


def resolve(profile: Profile) -> list[str]:
    """The gateway's addresses, in the profile's order. Raises :class:`GatewayUnreachable`."""
    return look_up(names_of(profile))


def names_of(profile: Profile) -> list[str]:
    """The gateway's names and addresses, in the order in which they are tried."""
    names = list(profile.gateway.addresses)
    if profile.gateway.order == "random":
        random.SystemRandom().shuffle(names)
    return names


def look_up(names: Sequence[str]) -> list[str]:
    """The addresses of names, in their order. Raises :class:`GatewayUnreachable`."""
    found: list[str] = []
    problems = []
    for name in names:
        try:
            rows = socket.getaddrinfo(name, 0, type=socket.SOCK_DGRAM)
            found += [str(row[4][0]) for row in rows]
        except (OSError, UnicodeError) as problem:
            problems.append(f"{name}: {getattr(problem, 'strerror', None) or problem}")
    if not found:
        raise unresolved("; ".join(problems))
    return list(dict.fromkeys(found))


def unresolved(why: str) -> GatewayUnreachable:
    """The error for names without an address."""
    return GatewayUnreachable(
        "the gateway's name cannot be resolved",
        why=why,
        next_step="Check that name resolution works here, and the gateway's name in the profile.",
        slug="gateway-unresolved",
    )


def with_proxy(profile: Profile, find: Callable[[Sequence[str]], Sequence[str]]) -> Profile:
    """With its proxy's address instead of its name. Raises :class:`GatewayUnreachable`."""
    if profile.proxy is None:
        return profile
    return replace(profile, proxy=replace(profile.proxy, address=find([profile.proxy.address])[0]))


def outer_address(profile: Profile, gateway: str) -> str:
    """Whom this machine sends to: the gateway, or a proxy on the way."""
    return gateway if profile.proxy is None else profile.proxy.address


async def try_each(
    addresses: Sequence[str],
    attempt: Callable[[str, str], Awaitable[T]],
    find: Callable[[Sequence[str]], Sequence[str]] | None = None,
) -> T:
    """``attempt(address, redirected_from)`` for each address in turn: only silence moves on to the next one.

    A gateway that sends us to another one is followed, a few times (RFC 5685 §7); the other has to prove the same.
    ``find`` looks its name up (:func:`look_up`).
    """
    waiting = deque((address, "") for address in addresses)
    followed: list[float] = []
    while waiting:
        address, origin = waiting.popleft()
        try:
            return await attempt(address, origin)
        except GatewayElsewhere as problem:
            now = asyncio.get_running_loop().time()
            followed = [*(one for one in followed if one > now - REDIRECT_PERIOD), now]
            if len(followed) > MAX_REDIRECTS:
                raise
            waiting = deque((found, address) for found in await asyncio.to_thread(find or look_up, [problem.to]))
        except GatewayUnreachable:
            if not waiting:
                raise
    raise GatewayUnreachable("the gateway has no address")


def network_key(networks: Iterable[object]) -> str:
    """A name for the network that this machine is in, from which nobody can tell where that is."""
    return hashlib.sha256("\n".join(sorted(map(str, networks))).encode()).hexdigest()[:24]
